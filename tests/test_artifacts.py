"""Large payloads apart from their rows: nothing of a value is lost, rows stay small, previews keep the form."""

import json
import uuid
from datetime import UTC, datetime

import httpx
import pytest
import uuid_utils.compat as uuids
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.changes import AddRow
from oak_relay.client.errors import NotFound
from oak_relay.document.values import dumps, loads
from oak_relay.store import artifacts, history, journal
from oak_relay.store.journal import Batch
from oak_relay.store.tables import MAIN_WORKSPACE
from tests.conftest import Processes, until
from tests.test_store import claimed, connection, database, end, made, page, write  # noqa: F401

BIG = {"rows": [{"hut": f"hut {n}", "note": "ä" * 50} for n in range(1500)], "sum": 12345678901234567890.5}
LARGE = """
oak: 1
workflow: large
input: {type: object}
triggers: [{trigger: t, webhook: {path: large}}]
steps:
  - {step: copy, set: {rows: "${ input.rows }"}}
  - {step: sent, do: http.request, with: {method: POST, url: "URL/office/echo", json: "${ copy.rows }"}, on_error: go_on}
  - {step: nap, wait: 100ms}
  - {step: child, run: counts, with: {rows: "${ copy.rows }"}}
result: {rows: "${ copy.rows }", counted: "${ child }"}
"""
COUNTS = """
oak: 1
workflow: counts
input: {type: object}
steps: [{step: nap, wait: 50ms}]
result: {count: "${ input.rows | length }", first: "${ input.rows[0] }"}
"""
AFTER = """
oak: 1
workflow: afterwards
triggers: [{trigger: t, after: {workflow: large}}]
input: {type: object}
steps: [{step: count, set: {rows: "${ input.result.rows | length }"}}]
result: ${ count.rows }
"""
JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.text(max_size=3000),
    lambda inner: st.lists(inner, max_size=200) | st.dictionaries(st.text(max_size=40), inner, max_size=60),
    max_leaves=400,
)


def same_kind(value, preview) -> bool:
    if isinstance(value, dict):
        return isinstance(preview, dict) and all(k in value or k == "…" for k in preview)
    return type(value) is type(preview)


@settings(max_examples=25)
@given(JSON, st.integers(1_700_000_000_000, 4_000_000_000_000))
def test_what_is_placed_apart_is_known_by_its_reference(value, moment):
    """Small texts stay as they are; a reference tells month, digest and size, its preview is small and of one form."""
    pile, text = artifacts.Pile(), dumps({"output": value})
    stored = pile.place(uuid.UUID(int=moment << 80), text)
    apart = artifacts.reference(stored)
    assert (apart is None) == (len(text.encode()) <= artifacts.LARGE) == (not pile)
    if apart is not None:
        assert str(apart) == stored
        assert apart.size == len(text.encode())
        assert len(apart.preview) < artifacts.LARGE // 4
        assert same_kind({"output": value}, loads(apart.preview))
        assert history.month(datetime.fromtimestamp(moment / 1000, UTC)).timestamp() * 1000 == apart.month.int >> 80
    else:
        assert stored == text


@given(st.text())
def test_no_json_text_is_taken_for_a_reference(text):
    assert artifacts.reference(dumps(text)) is None
    assert artifacts.reference(dumps({"@": text})) is None


async def test_rows_of_a_journal_stay_small_and_come_back_whole(database, connection):  # noqa: F811
    """The same payload twice is stored once."""
    mine, [claim] = await claimed(database, connection)
    text = dumps({"output": BIG})
    await write(
        connection, mine, Batch([page(claim.run_id, n, path=f"p{n}", kind="ended", body=text) for n in range(2)])
    )
    assert await connection.fetchval("SELECT max(length(entries)) FROM journal") < artifacts.LARGE // 4
    assert await connection.fetchval("SELECT count(*) FROM artifact") == 1
    assert await connection.fetchval("SELECT length(data) FROM artifact") < len(text) // 4
    found = (await journal.load(connection, MAIN_WORKSPACE, [claim.run_id]))[claim.run_id]
    assert [e.body for e in found.entries] == [{"output": BIG}] * 2
    assert await journal.landed(
        connection,
        MAIN_WORKSPACE,
        mine,
        Batch([page(claim.run_id, 1, path="p1", change=made(AddRow(claim.workflow_id, {})))]),
    )


async def test_what_a_run_that_is_not_over_refers_to_outlives_its_month(database, connection):  # noqa: F811
    """Rule 12, with large payloads."""
    mine, claims = await claimed(database, connection, 2)
    for n, claim in enumerate(claims):
        await write(connection, mine, Batch([page(claim.run_id, body=dumps([n, BIG]))]))
    await write(connection, mine, Batch([], [end(claims[0])]))
    assert await connection.fetchval("SELECT count(*) FROM artifact") == 2
    later = history.month(datetime.now(UTC), 1)
    await history.ensure(connection, later)
    assert len(await history.drop_before(connection, later)) == 1
    assert await connection.fetchval("SELECT count(*) FROM artifact") == 1
    found = (await journal.load(connection, MAIN_WORKSPACE, [claims[1].run_id]))[claims[1].run_id]
    assert found.entries[0].body == loads(dumps([1, BIG]))


@pytest.fixture(scope="module")
def ran(oak: Processes):
    """A run whose event, steps, calls, child and result are all large."""
    client = oak.client()
    for text in (COUNTS, LARGE.replace("URL", oak.standins), AFTER):
        client.save(text, over=True)
    for name in ("large", "afterwards"):
        client.on(name)
    reply = httpx.post(f"{oak.url}/hooks/large", json=BIG).raise_for_status().json()
    run_id = reply["run"]
    detail = until(lambda: (found := client.run(run_id)).run.over and found)
    assert detail.run.state == "succeeded", detail.run.error
    return run_id


def test_a_large_run_is_whole_where_it_counts_and_previewed_where_it_is_shown(oak: Processes, ran: str):
    client = oak.client()
    detail, trace = client.run(ran), client.trace(ran)
    assert detail.result["rows"] == BIG["rows"]
    assert detail.result["counted"] == {"count": 1500, "first": BIG["rows"][0]}
    assert client.run(detail.children[0].id).result["count"] == 1500
    copy = next(s for s in trace.spans if s.path == "copy")
    assert len(copy.output["rows"]) < 30
    assert [one.of for one in copy.large] == ["body"]
    assert client.artifact(copy.large[0].id)["rows"] == BIG["rows"]
    assert len(json.dumps([s.model_dump(mode="json") for s in trace.spans])) < 100_000
    assert client.artifact(detail.event["large"][0]["id"]) == loads(dumps(BIG))
    with pytest.raises(NotFound):
        client.artifact("nothing")
    assert oak.sql("SELECT max(length(body)) FROM entry WHERE run_id = $1", uuid.UUID(ran)) < artifacts.LARGE // 4


def test_the_end_of_a_large_run_is_told_whole(oak: Processes, ran: str):
    found = until(lambda: oak.client().runs(workflow="afterwards", state="succeeded"))
    assert oak.client().run(found[0].id).result == 1500


def test_a_large_run_is_resumed_redone_and_sampled_with_all_of_it(oak: Processes, ran: str):
    client = oak.client()
    again = client.again(ran, "child")
    detail = until(lambda: (found := client.run(again.run)).run.over and found)
    assert detail.result["rows"] == BIG["rows"]
    assert "copy" in again.kept
    rerun = client.again(ran, "start")
    detail = until(lambda: (found := client.run(rerun.run)).run.over and found)
    assert detail.result["counted"]["count"] == 1500
    client.keep_sample(ran, "whole", "copy")
    assert client.samples("large")[0].value["rows"] == BIG["rows"]


def test_an_id_that_no_row_has_leads_nowhere(oak: Processes):
    with pytest.raises(NotFound):
        oak.client().artifact(f"{uuids.uuid7().hex}-{'0' * 64}")
