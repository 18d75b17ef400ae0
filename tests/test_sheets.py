"""Tables in and out: CSV, types that are guessed, totals, columns in their order."""

import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.actions import sheets
from oak_relay.capabilities.given import Column
from oak_relay.client import Client
from oak_relay.client.calls import import_rows, sheets_of
from oak_relay.client.errors import Invalid, NotFound
from oak_relay.document.errors import StepFailed
from tests.conftest import Processes
from tests.test_commands import Run, ready, run

__all__ = ["ready", "run"]
HUTS = """Hut,Bunks,Open all year,Valley
Glasswater,24,true,Lower Tarn
"Saint Odo's, the Rest",8,false,"Upper
Tarn"
Thistle Col,12.50,true,
"""

# Alone


def test_a_sheet_is_read_and_its_types_are_guessed():
    sheet = sheets.read(HUTS)
    columns = sheets.headings(sheet, (), {})
    assert [(c.name, c.type) for c in columns] == [
        ("hut", "text"), ("bunks", "number"), ("open_all_year", "boolean"), ("valley", "text"),
    ]  # fmt: skip
    rows = dict(sheets.rows(sheet, columns))
    assert list(rows) == [2, 3, 5]
    assert rows[3] == {"hut": "Saint Odo's, the Rest", "bunks": 8, "open_all_year": False, "valley": "Upper\nTarn"}
    assert rows[5]["valley"] == ""


def test_the_tables_own_columns_and_what_is_mapped_go_before_what_is_guessed():
    known = (Column("name", "text"), Column("bunks", "text"))
    columns = sheets.headings(sheets.read(HUTS), known, {"Hut": "name", "Valley": ""})
    assert [(c.name, c.type) for c in columns] == [("name", "text"), ("bunks", "text"), ("open_all_year", "boolean")]


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "empty"),
        ("\n\n", "empty"),
        ("a,,c\n1,2,3\n", "not at all"),
        ("a,b\n1,2,3\n", "line 2 has 3 cells"),
        ('a,b\n"1,2\n', "not CSV"),
        ('a,b\n"1"x,2\n', "not CSV"),
        (",".join(f"c{n}" for n in range(201)) + "\n", "201 columns"),
        ("a\n" + "x" * 200_000 + "\n", "not CSV"),
    ],
)
def test_what_is_no_sheet_says_why(text, why):
    with pytest.raises(StepFailed, match=why):
        sheets.read(text)


@pytest.mark.parametrize(
    ("cell", "kind", "value"),
    [
        ("12", "number", 12),
        ("-0.5", "number", -0.5),
        ("1e3", "number", 1000),
        ("007", "number", "007"),
        ("1,5", "number", "1,5"),
        ("", "number", ""),
        ("nan", "number", "nan"),
        ("1e999", "number", "1e999"),
        ("True", "boolean", True),
        ("yes", "boolean", "yes"),
        ("12", "text", "12"),
    ],
)
def test_a_text_is_taken_for_a_number_where_nothing_is_lost(cell, kind, value):
    if cell == "1e999":
        assert str(sheets.taken(cell, kind)) in ("1e999", "1E+999")
        return
    assert sheets.taken(cell, kind) == value


@given(
    st.lists(
        st.lists(st.text(max_size=12).filter(lambda t: "\x00" not in t and "\r" not in t), min_size=2, max_size=2),
        min_size=1,
        max_size=30,
    )
)
def test_parts_of_a_long_file_hold_the_same_rows(rows):
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["a", "b"])
    writer.writerows(rows)
    parts = sheets_of(out.getvalue(), 40)
    assert all(part.startswith("a,b\n") for part in parts)
    found = [row for part in parts for row in list(csv.reader(io.StringIO(part, newline="")))[1:]]
    assert found == rows


# Through the service


def test_a_file_makes_a_table_and_updates_it(oak: Processes, client: Client):
    with pytest.raises(NotFound):
        client.import_csv("sheet-huts", HUTS)
    shown = client.import_csv("sheet-huts", HUTS, create=True, check=True)
    assert (shown.created, shown.rows, shown.added) == (True, 3, 0)
    assert [c.seen[0] for c in shown.columns] == ["Glasswater", "24", "true", "Lower Tarn"]
    assert "sheet-huts" not in [t.name for t in client.tables()]
    assert client.import_csv("sheet-huts", HUTS, create=True).added == 3
    assert [list(row.row) for row in client.rows("sheet-huts")] == [["hut", "bunks", "open_all_year", "valley"]] * 3
    more = "hut,bunks\nGlasswater,30\nMarmot Saddle,6\n"
    done = client.import_csv("sheet-huts", more, match=["hut"])
    assert (done.added, done.updated) == (1, 1)
    kept = {row.row["hut"]: row.row for row in client.rows("sheet-huts")}
    assert (kept["Glasswater"]["bunks"], kept["Glasswater"]["valley"]) == (30, "Lower Tarn")
    with pytest.raises(Invalid, match=r"line 3: sheet-huts\.bunks holds a number, not"):
        client.import_csv("sheet-huts", "hut,bunks\nA,1\nB,many\n")
    assert len(client.rows("sheet-huts")) == 4
    again = csv.DictReader(io.StringIO(client.export_csv("sheet-huts"), newline=""))
    assert again.fieldnames == ["hut", "bunks", "open_all_year", "valley"]
    assert [row["bunks"] for row in again] == ["30", "8", "12.5", "6"]


def test_many_rows_come_in_parts_and_go_out_whole(client: Client):
    text = "name,note\n" + "".join(f'guest {n},"{"x" * 300}"\n' for n in range(3000))
    assert client.import_csv("sheet-guests", text, create=True).added == 3000
    assert client.export_csv("sheet-guests").count("\n") == 3001


def test_a_flood_of_rows_is_refused_in_one_go_and_taken_in_parts(client: Client):
    text = "n\n" + "1\n" * 12_000
    with pytest.raises(Invalid, match="12,000 rows"):
        client._send(import_rows("sheet-flood", {"text": text, "create": True}))
    assert client.import_csv("sheet-flood", text, create=True).added == 12_000
    again = "n,m\n" + "1,2\n" * 3
    client.import_csv("sheet-keyed", "n,m\n" + "".join(f"{n},0\n" for n in range(6_000)), create=True)
    done = client.import_csv("sheet-keyed", again.replace("1,2", "7,2"), match=["n"])
    assert (done.added, done.updated) == (0, 3)


def test_rows_are_counted_and_added_up(client: Client):
    client.import_csv("sheet-nights", "hut,guest,nights\nA,x,2\nA,y,3.5\nB,x,1\nB,z,\n", create=True)
    client.save("""
oak: 1
workflow: sheet-totals
steps:
  - step: all
    do: table.total
    with: {table: sheet-nights, sum: [nights], average: [nights]}
  - step: huts
    do: table.total
    with: {table: sheet-nights, by: [hut], sum: [nights], most: [nights], where: {guest: x}}
  - step: odd
    do: table.total
    with: {table: sheet-nights, by: ["${ 'valley' }"]}
    on_error: go_on
  - step: text
    do: table.add
    with: {table: sheet-nights, row: {hut: C, guest: q, nights: "4"}}
result: {all: "${ all.rows }", huts: "${ huts.rows }", odd: "${ odd.error.message }", kept: "${ text.row.nights }"}
""")
    found = client.start("sheet-totals", {}).result()
    assert found["all"] == [{"count": 4, "sum": {"nights": 6.5}, "average": {"nights": 2.166666666667}}]
    assert {"hut": "A", "count": 1, "sum": {"nights": 2}, "most": {"nights": 2}} in found["huts"]
    assert found["odd"] == "the table sheet-nights has no column valley; it has hut, guest, nights"
    assert found["kept"] == 4


def test_from_the_command_line(run: Run, tmp_path):
    file = tmp_path / "huts.csv"
    file.write_text(HUTS)
    told = run("table", "import", "cli-huts", str(file), "--create", "--check", "--map", "Hut=name")
    assert "3 of 3 rows would be taken" in told
    assert "3 rows added" in run("table", "import", "cli-huts", str(file), "--create", "--map", "Hut=name")
    assert run("table", "export", "cli-huts").startswith("name,bunks,open_all_year,valley\r\n")
    assert "cannot be read" in run("table", "import", "cli-huts", str(tmp_path / "nothing.csv"), code=1)
