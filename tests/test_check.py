"""The checker: one finding per mistake, on the right line, with a fix."""

import json
from pathlib import Path

import jsonschema_rs
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.actions.catalogue import offer
from oak_relay.cli.main import main
from oak_relay.document.check import check
from oak_relay.document.models import json_schema
from oak_relay.document.schemas import validator
from oak_relay.document.script import script
from oak_relay.document.shapes import fills, sample_of
from oak_relay.document.text import read
from oak_relay.engine.plan import compile_plan

CATALOGUE = offer().catalogue
WORLD = CATALOGUE.world(frozenset({"quick"}), {"office": "bearer"}, {"huts": ["name", "valley", "bunks"]})
BROKEN = Path(__file__).parent / "broken"
DEMO = (Path(__file__).parent.parent / "demo" / "workflows" / "booking-triage.yaml").read_text()


@pytest.mark.parametrize("file", sorted(BROKEN.glob("*.yaml")), ids=lambda f: f.stem)
def test_each_mistake_is_found_once_on_its_line(file):
    """Each broken document marks its one mistake with `# HERE: words of the message`."""
    text = file.read_text()
    line, words = next((n, t.split("# HERE:")[1].strip()) for n, t in enumerate(text.splitlines(), 1) if "# HERE:" in t)
    findings = check(text, WORLD).findings
    assert [(f.line, words in f.message) for f in findings] == [(line, True)], findings
    assert findings[0].fix
    assert findings[0].column >= 1


KEYWORDS = st.sampled_from(["type", "properties", "required", "enum", "examples", "default", "const", "items", "anyOf", "format", "$ref", "$defs", "name"])  # fmt: skip
ODD = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.sampled_from(["object", "array", "string", "#/$defs/name", "email", "x"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(KEYWORDS, inner, max_size=4),
    max_leaves=12,
)


@given(st.dictionaries(KEYWORDS, ODD, max_size=4), st.sampled_from(["input", "settings", "form", "gives"]))
def test_a_schema_of_whatever_shape_is_looked_at(schema: dict[str, object], where: str):
    odd = {name: schema if name == where else {"type": "object", "properties": {"a": {}}} for name in ("input", "settings", "form", "gives")}  # fmt: skip
    steps = [
        {"step": "a", "do": "model.answer", "with": {"model": "quick", "prompt": "x", "gives": odd["gives"]}},
        {"step": "b", "ask": {"at": "conversation", "text": "Who?", "form": odd["form"]}},
        {"step": "c", "send": "${ b.data.a } ${ a.data.a } ${ input.a }"},
    ]
    talk = {"trigger": "t", "conversation": {"path": "odd"}}
    document = {
        "oak": 1,
        "workflow": "odd",
        "triggers": [talk],
        "input": odd["input"],
        "settings": odd["settings"],
        "steps": steps,
    }
    found = check(json.dumps(document), WORLD)
    assert all(one.fix and one.line for one in found.findings)
    if found.document is not None:
        json.dumps([sample_of(found.document.input), fills(found.document.input)])
        script(found.document, WORLD.actions)
        if found.sound:
            compile_plan(found.document)


def test_the_demo_is_sound():
    assert check(DEMO, CATALOGUE.world()).findings == []


def test_the_demo_fits_the_published_schema():
    assert jsonschema_rs.meta.is_valid(json_schema(CATALOGUE.triggers))
    jsonschema_rs.validator_for(json_schema(CATALOGUE.triggers), offline=True).validate(read(DEMO).data)


def test_the_script_reads_as_numbered_sentences():
    document = check(DEMO, CATALOGUE.world()).document
    lines = [(line.number, line.sentence) for line in script(document, WORLD.actions)]
    assert lines[0] == ("1", "Have quick label input.message")
    assert ("3a.1", "Ask careful for draft") in lines
    assert lines[-1] == ("5", "Add or update a row in requests")


@pytest.mark.parametrize(
    "text",
    ["", "- a", "oak: 1", "a: [", "\x00", "&a [*a]", "oak: 1\nworkflow: x\nsteps: 3", "a: " + "[" * 200, "? [a]\n: b"],
)
def test_anything_gives_findings_and_never_breaks(text):
    assert check(text, WORLD).findings


def test_the_command_line_checks_a_folder(capsys):
    assert main(["check", str(BROKEN)]) == 1
    out = capsys.readouterr().out
    assert f"{len(list(BROKEN.glob('*.yaml')))} documents" in out
    assert "unknown-key.yaml:4:" in out


TABLES = """
oak: 1
workflow: kept
input: {type: object, properties: {name: {type: string, default: x}}}
steps:
  - step: row
    do: table.upsert
    with: {table: huts, match: [%s], row: {name: "${ input.name }", %s: 3}}
  - step: more
    do: agent
    with: {model: quick, prompt: x, limits: {turns: 2}, tools: [{table: huts, may: [find], columns: [%s]}]}
result: ${ row.id ~ more.text }
"""


@pytest.mark.parametrize(
    ("names", "found"),
    [
        (("name", "bunks", "name"), []),
        (("nmae", "bunks", "name"), ["write name"]),
        (("name", "reminded", "name"), ["add the column to the table, or use one of name, bunks"]),
        (("name", "bunks", "bunk"), ["write bunks"]),
        (("${ input.name }", "bunks", "name"), []),
    ],
)
def test_columns_that_a_table_does_not_have_are_found(names: tuple[str, str, str], found: list[str]):
    world = offer().catalogue.world(models=frozenset({"quick"}), tables={"huts": ["name", "bunks"]})
    assert [f.fix for f in check(TABLES % tuple(json.dumps(n) for n in names), world).findings] == found


def test_keys_in_quotes_are_plain_texts():
    """Those of JSON too: a value with such keys is judged by a schema as any other."""
    document = read('{"oak": 1, "steps": [{"with": {"json": {"n": 2, \'m\': 3}}}]}').data
    inner = document["steps"][0]["with"]["json"]
    assert inner == {"n": 2, "m": 3}
    assert {type(key) for key in inner} == {str}
    assert validator({"type": "object"}).fault(inner) == ""


def test_many_things_to_look_at_are_no_mistake():
    steps = "".join(f"  - {{step: s{n}, set: {{x: 1}}}}\n" for n in range(100))
    checked = check(f"oak: 1\nworkflow: many\nsteps:\n{steps}", WORLD)
    assert len(checked.findings) == 41
    assert {one.severity for one in checked.findings} == {"warning"}
    assert checked.sound
