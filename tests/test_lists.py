"""Lists of the API: all of one form, by pages that hold still while something is added; and words that are looked for in runs."""

from typing import Any

import pytest

from oak_relay.client import Problem
from oak_relay.service import problems as service
from oak_relay.service.app import create_app
from oak_relay.service.lists import Asked, cursor
from tests.conftest import Processes, until

DESCRIBED = create_app().openapi()
NOTED = """
oak: 1
workflow: noted
input: {type: object, required: [note], properties: {note: {type: string}}}
subject: "${ input.note }"
steps:
  - step: kept
    set: {note: "${ input.note }"}
result: "${ kept.note }"
"""


def resolved(schema: dict[str, Any]) -> dict[str, Any]:
    return DESCRIBED["components"]["schemas"][schema["$ref"].rsplit("/", 1)[1]] if "$ref" in schema else schema


def test_every_list_has_one_form():
    for path, methods in DESCRIBED["paths"].items():
        answer = methods.get("get", {}).get("responses", {}).get("200", {}).get("content", {}).get("application/json")
        if answer is None:
            continue
        schema = resolved(answer["schema"])
        assert schema.get("type") != "array", f"{path} is a list without pages"
        if "items" in schema.get("properties", {}):
            assert schema["properties"].keys() == {"items", "next"}, path
            assert {"limit", "after"} <= {one["name"] for one in methods["get"]["parameters"]}, path


@pytest.mark.parametrize("given", ["", "x", "-", "9" * 400, "W10", "WzFd", cursor("a", "b"), "\u2603", "[]"])
def test_a_cursor_of_another_list_is_refused(given: str, oak: Processes):
    with pytest.raises(Problem) as told:
        oak.client().conversations(after=given)
    assert told.value.status == 422


def test_a_cursor_is_read_as_it_was_written():
    moment = Asked(1, cursor("2031-04-01T08:00:00+00:00", "ü/☃")).key(str, str)
    assert moment == ["2031-04-01T08:00:00+00:00", "ü/☃"]
    assert Asked(1, "17").number() == 17
    for odd in ("1e3", "٣", "--1", "1" * 20, ""):
        with pytest.raises(service.Problem):
            Asked(1, odd).number()


def test_pages_are_the_whole_and_hold_still_while_something_is_added(oak: Processes):
    client = oak.client()
    for n in range(5):
        client.add_token(f"paged-{n}")
    whole = [one.id for one in client.every(client.tokens)]
    assert [one.id for one in client.every(client.tokens, limit=2)] == whole
    first = client.tokens(limit=3)
    client.add_token("paged-late")
    rest = client.tokens(limit=1000, after=first.next)
    assert [one.id for one in (*first, *rest)][: len(whole)] == whole
    assert rest.next is None


def known(one: Any) -> str:
    """What a thing is known by, whatever happens to it meanwhile."""
    told = one.model_dump(mode="json")
    return str(next(told[name] for name in ("id", "key", "name", "workflow") if name in told))


def test_every_kind_of_list_comes_in_pages(oak: Processes):
    client = oak.client()
    client.save(NOTED, over=True)
    for n in range(3):
        client.start("noted", {"note": f"page {n}"}).wait()
        client.add_sample("noted", f"sample {n}", {"note": "x"})
    for listed, given in (
        (client.workflows, ()), (client.actions, ()), (client.connectors, ()), (client.credential_kinds, ()),
        (client.trigger_kinds, ()), (client.examples, ()), (client.events, ()), (client.runs, ()), (client.samples, ("noted",)),
        (client.models, ()), (client.credentials, ()), (client.tables, ()), (client.schedules, ()), (client.conversations, ()),
    ):  # fmt: skip
        whole = [known(one) for one in client.every(listed, *given, limit=1000)][:40]
        by_one = list(zip(client.every(listed, *given, limit=1), range(40), strict=False))
        assert [known(one) for one, _ in by_one] == whole, listed.__name__
        assert len(listed(*given, limit=1)) == min(1, len(whole))
    journal = client.runs(workflow="noted")[0].id
    assert [e.seq for e in client.every(client.journal, journal, limit=1)] == [e.seq for e in client.journal(journal)]


@pytest.mark.parametrize("limit", [0, -1, 1001, 10**30])
def test_a_page_has_a_size(limit: int, oak: Processes):
    with pytest.raises(Problem) as told:
        oak.client().runs(limit=limit)
    assert told.value.status == 422


def test_words_are_found_in_runs(oak: Processes):
    client = oak.client()
    client.save(NOTED, over=True)
    odd = 'the "Étage" at 100%_\\ of ☃'
    run = client.start("noted", {"note": odd}).wait()
    other = client.start("noted", {"note": "something else"}).wait()
    for words in ("étage", odd, "100%_", "☃", str(run.id)[-9:], '"Étage"'):
        assert [one.id for one in client.runs(text=words, workflow="noted")] == [run.id], words
    assert client.runs(text="100%x") == [] and client.runs(text="no such words") == []
    assert client.runs(text="something else", workflow="noted", state=["failed"]) == []
    assert [one.id for one in client.runs(id=str(other.id)[3:30].upper())] == [other.id]


def test_who_searches_learns_nothing_of_secrets(oak: Processes):
    client = oak.client()
    client.save(NOTED, over=True)
    client.put_credential("searched", kind="bearer", secret="quite-a-secret-word", hosts=["127.0.0.1"])
    run = client.start("noted", {"note": "it is quite-a-secret-word, they say"}).wait()
    assert client.run(run.id).event["data"]["note"] != "it is quite-a-secret-word, they say"
    for words in ("quite-a-secret-word", "quite-a-se", "cret-wor"):
        assert client.runs(text=words) == [], words
    assert [one.id for one in client.runs(text="they say")] == [run.id]


def test_a_search_goes_on_where_its_page_ended(oak: Processes):
    client = oak.client()
    client.save(NOTED, over=True)
    mine = [client.start("noted", {"note": f"far back {n}"}) for n in range(6)]
    until(lambda: all(run.refresh().over for run in mine))
    pages = []
    after = None
    while True:
        page = client.runs(text="far back", limit=2, after=after)
        pages.append(page)
        if page.next is None:
            break
        after = page.next
    assert [one.id for page in pages for one in page] == [run.id for run in reversed(mine)]
    assert [len(page) for page in pages[:3]] == [2, 2, 2]
