"""`code.python`: a step of one's own, as it is written, checked, tried, carried out, and handed to an agent."""

import json
import re

import pytest
from playwright.sync_api import Page, expect

from oak_relay.actions.catalogue import offer
from oak_relay.client import Client, RunFailed
from oak_relay.document.check import check
from oak_relay.document.errors import Finding
from tests.bench import Hands
from tests.browsing import browser, faults, page
from tests.conftest import Processes

__all__ = ["browser", "page"]

NIGHTS = """oak: 1
workflow: counted-nights
input:
  type: object
  properties: {stays: {type: array, items: {type: object}}, book: {}}
steps:
  - step: count
    do: code.python
    with:
      given: ${ input.stays }
      files: {book: "${ input.book }"}
      source: |
        import csv

        def run(given, files):
            print("counting", len(given))
            with open("nights.csv", "w") as out:
                csv.writer(out).writerows([[stay["guest"], stay["nights"]] for stay in given])
            return {"nights": sum(stay["nights"] for stay in given), "pages": files["book"].read_text().count("page")}
result: {nights: "${ count.value.nights }", pages: "${ count.value.pages }", list: "${ count.files[0] }", said: "${ count.printed }"}
"""


def found(text: str) -> list[Finding]:
    return check(text, offer().catalogue.world()).findings


def step(source: str, more: str = "") -> str:
    lines = "".join(f"        {line}\n" if line else "\n" for line in source.split("\n"))
    return f"oak: 1\nworkflow: w\nsteps:\n  - step: a\n    do: code.python\n    with:\n      source: |\n{lines}{more}"


@pytest.mark.parametrize(
    ("source", "line", "told", "fix"),
    [
        ("def run(given):\n    return given +", 9, "this is not Python: invalid syntax", "correct the line"),
        ("import csv\n\ndef walk(given):\n    return 1", 10, "it defines no function run", "call walk run"),
        ("x = 1", 7, "it defines no function run", "write def run(given)"),
        ("async def run(given):\n    return 1", 8, "run is async", "write def run"),
        ("-" * 40_000 + "1", 7, "this cannot be read as Python", "write it more simply"),
        ("1" + "+1" * 20_000, 7, "this cannot be read as Python", "write it more simply"),
        (
            "def run(given):\n    return '${ given }'",
            7,
            "source stands here as it is, and is never computed",
            "give values",
        ),
    ],
)
def test_a_source_is_checked_at_its_lines(source: str, line: int, told: str, fix: str):
    (finding,) = found(step(source))
    assert (finding.line, finding.severity) == (line, "error")
    assert finding.message.startswith(told) and finding.fix.startswith(fix)


@pytest.mark.parametrize(
    "source",
    [
        "def run(given):\n    return f\"{given} {{ not ours }}\"",
        "if True:\n    def run(given): return 1",
        "from statistics import mean as run",
        "run = lambda given: given",
        "class run:\n    pass",
    ],
)  # fmt: skip
def test_what_is_python_is_left_alone(source: str):
    assert found(step(source)) == []


def test_a_model_never_writes_a_source():
    tool = "oak: 1\nworkflow: w\nsteps:\n  - step: a\n    do: agent\n    with:\n      model: quick\n      prompt: count\n      tools:\n        - do: code.python\n          with: {source: SOURCE, given: {open: what to count}}\n"
    tool += "      limits: {turns: 3, money: 0.1}\n"
    (finding,) = found(tool.replace("SOURCE", "{open: what to do}"))
    assert finding.message == "source is never left to a model" and finding.severity == "error"
    assert found(tool.replace("SOURCE", "'def run(given): return len(given)'")) == []
    lacking = found(tool.replace("source: SOURCE, ", ""))
    assert [one.message for one in lacking] == ["code.python needs source"]
    computed = found(tool.replace("SOURCE", '"${ input.code }"'))
    assert "source stands here as it is, and is never computed" in [one.message for one in computed]


def test_a_run_carries_a_function_out(oak: Processes, client: Client):
    client.save(NIGHTS)
    book = client.add_file(b"page one, page two", "book.txt", "text/plain")
    given = {"stays": [{"guest": "Ida", "nights": 2}, {"guest": "Ole", "nights": 3}], "book": {"file": str(book.file)}}
    gave = client.start("counted-nights", given).result()
    assert (gave["nights"], gave["pages"], gave["said"]) == (5, 2, "counting 2\n")
    assert {key: gave["list"][key] for key in ("name", "type", "size")} == {
        "name": "nights.csv",
        "type": "text/csv",
        "size": 14,
    }
    assert b"".join(client.read_file(gave["list"]["file"])) == b"Ida,2\r\nOle,3\r\n"
    # Whoever gives what the function does not expect is told where it failed; what it printed stands in the trace.
    run = client.start("counted-nights", {**given, "stays": [{"guest": "Ida"}]})
    with pytest.raises(RunFailed, match="line 6: KeyError: 'nights'"):
        run.result()
    record = client.record(run.id, "count").model_dump_json()
    assert "counting 1" in record and '"line":6' in record.replace(" ", "")


def test_a_step_is_tried_with_samples(client: Client):
    text = step("def run(given):\n    return given['nights'] * 2", "      given: ${ input }\n")
    tried = client.try_step(text, "a", {"nights": 3})
    assert (tried.state, tried.spans[0].output) == ("succeeded", {"value": 6, "files": [], "printed": ""})
    tried = client.try_step(text, "a", {"night": 3})
    assert tried.error is not None and (tried.error.kind, tried.error.message) == (
        "failed",
        "line 2: KeyError: 'nights'",
    )


def test_it_is_told_whether_there_is_a_sandbox(client: Client):
    (code,) = [one for one in client.connectors() if one.name == "code"]
    assert (code.actions, code.fault) == (["code.python"], "")


def test_a_function_is_written_tried_and_mended(page: Page, oak: Processes, client: Client):
    oakhand = Hands(page, {})
    page.goto(f"{oak.url}/workflows/new")
    oakhand.shown("steps.0")
    oakhand.new_line("steps.0", "code.python")
    oakhand.shown("steps.1")
    editor = oakhand.bench.get_by_role("textbox", name="Source")
    expect(editor).to_contain_text("def run(given):")  # its example
    editor.click()
    page.keyboard.press("ControlOrMeta+A")
    page.keyboard.type("def run(given):\nreturn given['bunks' + 1", delay=5)
    expect(
        oakhand.bench.get_by_text("line 2: this is not Python: '[' was never closed. correct the line")
    ).to_be_visible()
    expect(oakhand.bench.locator(".cm-lint-marker-error")).to_have_count(1)
    expect(oakhand.bench.get_by_role("button", name="Try", exact=True)).to_be_disabled()
    editor.click()
    page.keyboard.press("ControlOrMeta+End")
    page.keyboard.press("Backspace")
    page.keyboard.type("1]")
    oakhand.bench.get_by_label("Given", exact=True).fill('{"bunks": 12}')
    page.get_by_role("button", name="Try", exact=True).click()
    expect(
        oakhand.bench.get_by_text('line 2: TypeError: can only concatenate str (not "int") to str').first
    ).to_be_visible()
    expect(oakhand.bench.locator(".cm-lint-marker-error")).to_have_count(1)
    assert faults(page) == []
    editor.click()
    page.keyboard.press("ControlOrMeta+A")
    page.keyboard.type("def run(given):\nreturn given['bunks'] + 1", delay=5)
    page.get_by_role("button", name="Try", exact=True).click()
    expect(oakhand.bench.get_by_label("What it gives, as JSON")).to_have_value(
        json.dumps({"value": 13, "files": [], "printed": ""}, indent=2)
    )
    expect(oakhand.bench.locator(".cm-lint-marker-error")).to_have_count(0)
    page.get_by_label("Name of the workflow").fill("one-bunk-more")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page).to_have_url(re.compile("/workflows/one-bunk-more"))
    assert "def run(given):\n" in client.workflow("one-bunk-more").text
