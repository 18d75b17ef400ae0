"""Tables in and out: CSV, types that are guessed, totals, columns in their order."""

import csv
import io
import json
import time
import zipfile
from collections.abc import Callable, Sequence
from decimal import Decimal
from pathlib import Path

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import load_workbook

from oak_relay.actions.apart import once
from oak_relay.actions.linked import memory
from oak_relay.actions.sheets import cells, formats, reading
from oak_relay.actions.tables import meant
from oak_relay.capabilities.given import Column
from oak_relay.client import Client
from oak_relay.client.errors import Invalid, NotFound
from oak_relay.document.errors import StepFailed
from tests.conftest import Processes, apart
from tests.test_commands import Run, ready, run

__all__ = ["ready", "run"]
HUTS = """Hut,Bunks,Open all year,Valley
Glasswater,24,true,Lower Tarn
"Saint Odo's, the Rest",8,false,"Upper
Tarn"
Thistle Col,12.50,true,
"""

# Alone


def sheet(text: str) -> tuple[Sequence[str], cells.Rows]:
    (_, heads), *rows = formats.checked(formats.csv_rows(io.StringIO(text, newline="")))
    return [str(head) for head in heads], rows


def test_a_sheet_is_read_and_its_types_are_guessed():
    heads, found = sheet(HUTS)
    columns = cells.headings(heads, found, (), {})
    assert [(c.name, c.type) for c in columns] == [
        ("hut", "text"), ("bunks", "number"), ("open_all_year", "boolean"), ("valley", "text"),
    ]  # fmt: skip
    rows = dict(cells.rows(heads, found, columns))
    assert list(rows) == [2, 3, 5]
    assert rows[3] == {"hut": "Saint Odo's, the Rest", "bunks": 8, "open_all_year": False, "valley": "Upper\nTarn"}
    assert rows[5]["valley"] == ""


def test_the_tables_own_columns_and_what_is_mapped_go_before_what_is_guessed():
    known = (Column("name", "text"), Column("bunks", "text"))
    columns = cells.headings(*sheet(HUTS), known, {"Hut": "name", "Valley": ""})
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
    with pytest.raises(formats.BadSheet, match=why):
        list(formats.checked(formats.csv_rows(io.StringIO(text, newline=""))))


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
        ("0." + "5" * 1_001, "number", "0." + "5" * 1_001),
        ("\u0663", "number", "\u0663"),
        ("True", "boolean", True),
        ("yes", "boolean", "yes"),
        ("12", "text", "12"),
    ],
)
def test_a_text_is_taken_for_a_number_where_nothing_is_lost(cell, kind, value):
    if cell == "1e999":
        assert str(cells.taken(cell, kind)) in ("1e999", "1E+999")
        return
    assert cells.taken(cell, kind) == value


@pytest.mark.parametrize(
    ("cells_", "kind"),
    [
        (["1", "2.5"], "number"), (["1", "x"], "text"), ([1, Decimal("2.5")], "number"), ([True, False], "boolean"), ([True, 1], "any"),
        (["a", 1], "any"), ([[1], [2]], "any"), (["TRUE", "false"], "boolean"), ([], "text"),
    ],
)  # fmt: skip
def test_the_type_of_cells_is_guessed(cells_, kind):
    assert cells.guessed(cells_) == kind


_VALUES = (
    st.none()
    | st.booleans()
    | st.integers(-(10**15), 10**15)
    | st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), max_size=20)
)


@settings(max_examples=40)
@given(st.lists(st.lists(_VALUES, min_size=3, max_size=3), max_size=20))
def test_a_workbook_says_what_was_put_in_and_a_second_library_reads_the_same(rows):
    made = io.BytesIO()
    formats.workbook(["a", "b", "=c"], rows, made)
    _, found = formats.read("xlsx", io.BytesIO(made.getvalue()))
    read = [list(one) + [None] * (3 - len(one)) for _, one in found]
    full = [["a", "b", "=c"], *rows]
    assert read == [
        row for row in [[None if v == "" else v for v in row] for row in full] if any(v is not None for v in row)
    ]
    other = [list(row) for row in load_workbook(io.BytesIO(made.getvalue())).active.values]
    assert [[v for v in row if v not in ("", None)] for row in other] == [
        [v for v in row if v not in ("", None)] for row in full[: len(other)]
    ]


@given(
    st.lists(
        st.dictionaries(st.sampled_from(["hut", "bunks", "Länge"]), _VALUES | st.lists(st.integers(), max_size=2)),
        min_size=1,
        max_size=20,
    )
)
def test_json_lines_say_what_was_put_in(rows):
    text = "".join(f"{json.dumps(row)}\n" for row in rows).encode()
    if not any(rows):
        assert list(formats.json_rows(io.BytesIO(text)))[:1] in ([], [(1, [])])
        return
    (_, heads), *found = formats.json_rows(io.BytesIO(text))
    assert [dict(zip(heads, one, strict=True)) for _, one in found] == [
        {head: row.get(head) for head in heads} for row in rows
    ]


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (b"{}x\n", "line 1: this is not JSON"),
        (b"\n\n[1]\n", "line 3 is no mapping"),
        (b'{"a": 1e9999}\n', "line 1: this is not JSON"),
        (b'{"a": 1}\n' * 1000 + b'{"b": 1}\n', "line 1001 has b, which none of the first 1,000 lines has"),
        (b'{"a": "' + b"x" * 100_001 + b'"}\n', "a cell of more than 100,000 letters"),
        (b'{"": 1}\n', "one of them not at all"),
        (b"", "empty"),
    ],
)
def test_what_are_no_json_lines_says_why(text, why):
    with pytest.raises(formats.BadSheet, match=why):
        list(formats.checked(formats.json_rows(io.BytesIO(text))))


def _bomb(text: bytes) -> bytes:
    """A workbook in which a part of a sheet is another."""
    made, out = io.BytesIO(), io.BytesIO()
    formats.workbook(["a"], [["b"]], made)
    with zipfile.ZipFile(made) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for one in old.namelist():
            new.writestr(one, text if one == "xl/worksheets/sheet1.xml" else old.read(one))
    return out.getvalue()


_HEAD = b'<?xml version="1.0"?><worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>'
_LOL = (
    b'<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa">'
    + b"".join(b'<!ENTITY %c "%s">' % (c, b"&%c;" % (c - 1) * 10) for c in range(98, 108))
    + b"]>"
)


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"PK\x03\x04 no", "no workbook that can be read"),
        (b"", "no workbook that can be read"),
        (b"a,b\n1,2\n", "no workbook that can be read"),
        (_bomb(b"<nonsense"), "no workbook that can be read"),
        (_bomb(_HEAD + b"<row><c t='inlineStr'><is><t>" + b"x" * 300_000_000 + b"</t></is></c></row></sheetData></worksheet>"), "takes too much|more than|no workbook"),
        (_bomb(_HEAD + b"<row><c><v>1</v></c></row>" * 300_000 + b"</sheetData></worksheet>"), "more than 200,000 rows"),
        (_bomb(_HEAD + b"<row>" + b"<c><v>1</v></c>" * 16_000 + b"</row></sheetData></worksheet>"), "201 columns"),
        (_bomb(_HEAD.replace(b"?>", b"?>" + _LOL, 1) + b"<row><c t='inlineStr'><is><t>&k;</t></is></c></row></sheetData></worksheet>"), "takes too much|no workbook|more than 100,000 letters"),
        (_bomb(_HEAD.replace(b"?>", b'?><!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]>', 1) + b"<row><c t='inlineStr'><is><t>&a;</t></is></c></row></sheetData></worksheet>"), "empty|no workbook"),
        (_bomb(_HEAD + b'<row r="1"><c r="' + b"E" * 69 + b'A1" t="inl<ceStr"><is><t>hut</t></is></c><c<is> r="B1" t="str"><c r="B2" t="b"><v>1</v></c></row></sheetData></worksheet>'), "no workbook|takes too much"),
    ],
    ids=["a beginning", "nothing", "CSV", "no XML", "a cell of 300 MB", "300,000 rows", "16,000 columns", "entities in entities", "a file of the machine", "a column beyond all"],
)  # fmt: skip
def test_a_workbook_made_to_hurt_is_refused(data, why):
    async def go() -> None:
        began = time.monotonic()
        with pytest.raises(StepFailed, match=why):
            async with reading.opened("xlsx", once(data)) as sheet:
                async for _ in sheet.rows:
                    pass
        assert time.monotonic() - began < 60

    apart(go)


# Through the service


def test_a_file_makes_a_table_and_updates_it(oak: Processes, client: Client):
    with pytest.raises(NotFound):
        client.import_rows("sheet-huts", HUTS)
    shown = client.import_rows("sheet-huts", HUTS, create=True, check=True)
    assert (shown.created, shown.rows, shown.added) == (True, 3, 0)
    assert [c.seen[0] for c in shown.columns] == ["Glasswater", "24", "true", "Lower Tarn"]
    assert "sheet-huts" not in [t.name for t in client.tables()]
    assert client.import_rows("sheet-huts", HUTS, create=True).added == 3
    assert [list(row.row) for row in client.rows("sheet-huts")] == [["hut", "bunks", "open_all_year", "valley"]] * 3
    more = "hut,bunks\nGlasswater,30\nMarmot Saddle,6\n"
    done = client.import_rows("sheet-huts", more, match=["hut"])
    assert (done.added, done.updated) == (1, 1)
    kept = {row.row["hut"]: row.row for row in client.rows("sheet-huts")}
    assert (kept["Glasswater"]["bunks"], kept["Glasswater"]["valley"]) == (30, "Lower Tarn")
    with pytest.raises(Invalid, match=r"line 3: sheet-huts\.bunks holds a number, not"):
        client.import_rows("sheet-huts", "hut,bunks\nA,1\nB,many\n")
    assert len(client.rows("sheet-huts")) == 4
    again = csv.DictReader(io.StringIO(exported(client, "sheet-huts").decode(), newline=""))
    assert again.fieldnames == ["hut", "bunks", "open_all_year", "valley"]
    assert [row["bunks"] for row in again] == ["30", "8", "12.5", "6"]


def exported(client: Client, table: str, kind: str = "csv") -> bytes:
    return b"".join(client.export_rows(table, kind))


def test_many_rows_come_as_a_file_all_or_none(client: Client):
    text = "name,note\n" + "".join(f'guest {n},"{"x" * 300}"\n' for n in range(3000))
    assert client.import_rows("sheet-guests", text, create=True).added == 3000
    assert exported(client, "sheet-guests").count(b"\n") == 3001
    with pytest.raises(Invalid, match=r"1 of 6,001 lines do not fit: line 6002: sheet-keyed\.n holds a number"):
        client.import_rows(
            "sheet-keyed", "n,m\n" + "".join(f"{n},0\n" for n in range(6_000)) + "x,0\n" * 1, create=True
        )
    assert "sheet-keyed" not in [t.name for t in client.tables()]
    client.import_rows("sheet-keyed", "n,m\n" + "".join(f"{n},0\n" for n in range(6_000)), create=True)
    done = client.import_rows("sheet-keyed", "n,m\n" + "7,2\n" * 3 + "9000,1\n9000,2\n", match=["n"])
    assert (done.added, done.updated) == (1, 4)
    kept = {row.row["n"]: row.row["m"] for row in client.every(client.rows, "sheet-keyed")}
    assert (len(kept), kept[7], kept[9000], kept[8]) == (6001, 2, 2, 0)


def test_every_kind_of_file_comes_back_as_it_went(client: Client, tmp_path: Path):
    client.create_table("sheet-kinds", {"hut": "text", "bunks": "number", "open": "boolean", "any": "any"})
    given: list[dict[str, object]] = [
        {"hut": "=1+1", "bunks": 24, "open": True, "any": {"a": [1, 2]}},
        {"hut": 'Glasswater, "the" Rest', "bunks": 12.5, "open": False, "any": "x"},
        {"hut": "Länge\n2", "bunks": None, "open": None, "any": 3},
    ]
    client.add_rows("sheet-kinds", given)
    for kind in ("jsonl", "xlsx"):
        file = tmp_path / f"out.{kind}"
        file.write_bytes(exported(client, "sheet-kinds", kind))
        made = f"sheet-back-{kind}"
        told = client.import_rows(made, file, create=True, check=True)
        assert [c.name for c in told.columns] == ["hut", "bunks", "open", "any"] and told.rows == 3
        assert told.sheets == (["rows"] if kind == "xlsx" else [])
        client.create_table(made, {"hut": "text", "bunks": "number", "open": "boolean", "any": "any"})
        assert client.import_rows(made, file).added == 3
        back = [row.row for row in client.rows(made)]
        assert [{k: v for k, v in row.items() if k != "any"} for row in back] == [
            {k: v for k, v in row.items() if k != "any"} for row in given
        ]
    assert [row.row["any"] for row in client.rows("sheet-back-jsonl")] == [{"a": [1, 2]}, "x", 3]
    with pytest.raises(Invalid, match="the workbook has no sheet nights"):
        client.import_rows("sheet-kinds", tmp_path / "out.xlsx", sheet="nights")
    with pytest.raises(Invalid, match="not UTF-8"):
        client.import_rows("sheet-kinds", b"hut\n\xff\xfe\n")
    client.add_rows("sheet-kinds", [{"hut": "x" * 40_000}])
    with pytest.raises(Invalid, match="no workbook can hold these rows"):
        exported(client, "sheet-kinds", "xlsx")


@pytest.mark.long
def test_a_hundred_thousand_rows(client: Client, tmp_path: Path, capsys: pytest.CaptureFixture[str]):
    took: dict[str, float] = {}

    def timed(what: str, way: Callable[[], object]) -> object:
        began = time.monotonic()
        got = way()
        took[what] = time.monotonic() - began
        return got

    def row(n: int) -> dict[str, object]:
        return {
            "night": n,
            "hut": f"hut {n % 40}",
            "guest": f"guest {n}",
            "nights": n % 9,
            "paid": n % 3 == 0,
            "note": "a made-up night " * 2,
        }

    file = tmp_path / "nights.jsonl"
    file.write_text("".join(f"{json.dumps(row(n))}\n" for n in range(100_000)))
    assert timed("import of JSON Lines", lambda: client.import_rows("sheet-large", file, create=True)).added == 100_000  # type: ignore[attr-defined]
    for kind in ("csv", "jsonl", "xlsx"):
        out = tmp_path / f"out.{kind}"
        out.write_bytes(timed(f"export as {kind}", lambda kind=kind: exported(client, "sheet-large", kind)))  # type: ignore[arg-type]
    for kind in ("csv", "xlsx"):
        done = timed(
            f"import of {kind}",
            lambda kind=kind: client.import_rows(f"sheet-large-{kind}", tmp_path / f"out.{kind}", create=True),
        )
        assert done.added == 100_000  # type: ignore[attr-defined]
    some = tmp_path / "some.jsonl"
    some.write_text("".join(f"{json.dumps({'night': n, 'paid': True})}\n" for n in range(99_500, 100_500)))
    timed("upsert of 1,000 by match, the first", lambda: client.import_rows("sheet-large", some, match=["night"]))
    done = timed("upsert of 1,000 by match", lambda: client.import_rows("sheet-large", some, match=["night"]))
    assert (done.added, done.updated) == (0, 1000)  # type: ignore[attr-defined]
    client.save(
        "oak: 1\nworkflow: sheet-asks\nsteps:\n  - {step: a, do: table.find, with: {table: sheet-large, where: {hut: hut 7, nights: {at_least: 7}}, order: [-night], limit: 100}}\n  - {step: b, do: table.total, with: {table: sheet-large, by: [hut], sum: [nights]}}\nresult: {last: '${ a.rows[0].night }', huts: '${ b.count }'}\n"
    )
    for what in ("filter, order and totals, the first", "filter, order and totals"):
        gave = timed(what, lambda: client.start("sheet-asks").result())
        last = max(n for n in range(100_000) if n % 40 == 7 and n % 9 >= 7)
        assert gave == {"last": last, "huts": 41}  # those that were added have none
    with capsys.disabled():
        print(
            "\n100,000 rows of 6 columns:",
            *(f"  {what:44s} {seconds:6.2f} s" for what, seconds in took.items()),
            sep="\n",
        )
    assert took["upsert of 1,000 by match"] < 10 and took["import of csv"] < 90


@pytest.mark.parametrize("where", [{}, {"nights": {"above": 1}}, {"hut": "B"}, {"guest": {"contains": "1"}, "nights": {"in": [0, 2]}}, {"nights": {"empty": True}}])  # fmt: skip
@pytest.mark.parametrize("order", [[], ["nights"], ["-nights", "hut"], ["-guest"]])
def test_rows_are_shown_as_asked_page_by_page(client: Client, where: dict[str, object], order: list[str]):
    """As the action finds them, whatever the size of a page."""
    name, kept = "sheet-asked", [{"hut": "AB"[n % 2], "guest": f"g{n}", "nights": n % 4 or None} for n in range(23)]
    if name not in [one.name for one in client.tables()]:
        client.create_table(name, {"hut": "text", "guest": "text", "nights": "number"})
        client.add_rows(name, kept)
    columns = [(one.removeprefix("-"), one.startswith("-")) for one in order]
    wanted = memory.ordered([row for row in kept if memory.fits(row, meant(where))], columns)
    assert [row.row for row in client.every(client.rows, name, limit=4, where=where, order=order)] == wanted
    if not order:
        assert [row.row for row in client.every(client.rows, name, limit=4, where=where, newest=True)] == wanted[::-1]


@pytest.mark.parametrize("query", ['where={"tent": 1}', "where=[1]", "where={", 'where={"hut": {"above": [1]}}', "order=tent", "order=-", "order=a&" * 6, f"where={'[' * 3000}", f"where={'x' * 5000}", "order=hut&after=x"])  # fmt: skip
def test_what_cannot_be_asked_says_so(client: Client, oak: Processes, query: str):
    if "sheet-odd" not in [one.name for one in client.tables()]:
        client.create_table("sheet-odd", {"hut": "text"})
    head = {"Authorization": f"Bearer {oak.token}"}
    answer = httpx.get(f"{oak.url}/api/v1/tables/sheet-odd/rows?{query}", headers=head)
    assert answer.status_code == 422 and answer.json()["title"], answer.text


def test_rows_are_counted_and_added_up(client: Client):
    client.import_rows("sheet-nights", "hut,guest,nights\nA,x,2\nA,y,3.5\nB,x,1\nB,z,\n", create=True)
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
