"""Statements of the hot paths, planned once on an empty database: each row of the history must be looked up by its key, for
that plan is kept while the history grows."""

import asyncio
import json
import re
from collections.abc import Callable, Iterator
from typing import Any

import asyncpg
import pytest

from oak_relay.store import (
    cancelling,
    intake,
    journal,
    lanes,
    people,
    queue,
    signals,
    talks,
    utterances,
    workers,
    workflows,
)
from oak_relay.store import runs as stored_runs
from oak_relay.store.changes import once, runs
from oak_relay.store.database import Database

GROWS = re.compile(r"(ix_|pk_|uq_)?(run|event|journal|queue|version|token|message|conversation)_(?!suspect)|queue ")
WHOLE = re.compile(r" (\(workspace_id = [^ ]+\))?$")
STATEMENTS = {
    "claim": queue._CLAIM,
    "claim of limited": queue._CLAIM_LIMITED,
    "claim of suspects": queue._CLAIM_SUSPECTS,
    "cancelled here": queue._CANCELLED,
    "family": cancelling._FAMILY,
    "cancel": cancelling._MARK,
    "landed": journal._LANDED,
    "once": once._ONCE,
    "child": runs._PIN,
    "taken in": intake._ACCEPT,
    "taken in before": intake._THERE,
    "outcomes": stored_runs._OUTCOMES,
    "answering": utterances._ANSWERING,
    "event of a run": utterances._EVENT_OF,
    "load": journal._LOAD,
    "sums": journal._SUMS,
    "written": journal._WRITE_ENDS[0],
    "written with what was used": journal._WRITE_ENDS[1],
    "rest": journal._REST,
    "bury": workers._BURY,
    "leave of lanes": lanes._LEAVE,
    "next in lanes": lanes._NEXT,
    "lanes": lanes._LOCK,
    "fewer in lanes": lanes._FEWER,
    "places in lanes": intake._PUT,
    "taken in first": intake._FIRST,
    "memory": talks._WINDOW,
    "brought": signals._SIGNAL,
    "beginning": workflows._BEGINNING,
    "holder": people._HOLDER,
    "remembered": talks._REMEMBER,
}


def reads(node: dict[str, Any]) -> Iterator[str]:
    """What a plan reads, each as a table or an index and how it is looked up there."""
    if "Index Name" in node:
        yield f"{node['Index Name']} {node.get('Index Cond', '')}"
    elif node["Node Type"] == "Seq Scan":
        yield f"{node['Relation Name']} "
    for child in node.get("Plans", ()):
        yield from reads(child)


async def plan_of(connection: asyncpg.Connection, statement: str) -> list[str]:
    """What the plan of a statement reads that is kept."""
    count = max(map(int, re.findall(r"\$(\d+)", statement)))
    async with connection.transaction():
        await connection.execute(f"PREPARE kept AS {statement}")
        [(plan,)] = await connection.fetch(f"EXPLAIN (FORMAT json) EXECUTE kept({', '.join(['NULL'] * count)})")
        await connection.execute("DEALLOCATE kept")
    return list(reads(json.loads(plan)[0]["Plan"]))


async def unkeyed(connection: asyncpg.Connection, statement: str) -> list[str]:
    """Where the kept plan of a statement reads what it does not need: all of a table or of a workspace, or an index by a column
    that is not its next one."""
    found = [one for one in await plan_of(connection, statement) if GROWS.match(one)]
    return [one for one in found if WHOLE.search(one) or ("workflow_id" in one) != ("(workflow_id" in one)]


async def found_in(url: str, statement: str, index: str = "") -> list[str]:
    """The same on a database of its own, with a further index for as long."""
    database = Database(url)
    connection = await database.connect_directly()
    whole = connection.transaction()
    await whole.start()
    try:
        if index:
            await connection.execute(index)
        return await unkeyed(connection, statement)
    finally:
        await whole.rollback()
        await connection.close()
        await database.close()


async def read_by(url: str, statement: str) -> list[str]:
    """What the kept plan of a statement reads of the queue."""
    database = Database(url)
    connection = await database.connect_directly()
    try:
        return [one for one in await plan_of(connection, statement) if "queue" in one]
    finally:
        await connection.close()
        await database.close()


@pytest.fixture(scope="module")
def url(new_database: Callable[[], str]) -> str:
    return new_database()


@pytest.mark.parametrize("name", STATEMENTS)
def test_a_plan_made_while_all_is_empty_looks_up_by_key(url: str, name: str) -> None:
    assert asyncio.run(found_in(url, STATEMENTS[name])) == []


def test_a_plan_that_reads_more_is_seen(url: str) -> None:
    joined = "SELECT r.id FROM queue q JOIN run r ON r.id = q.run_id AND r.workspace_id = $1 WHERE q.worker_id = $2"
    assert asyncio.run(found_in(url, joined)) != []
    misleading = "CREATE INDEX run_workspace_id_workflow_id ON run (workspace_id, workflow_id, id)"
    assert asyncio.run(found_in(url, queue._CLAIM, misleading)) != []


def test_who_looks_for_suspects_every_second_looks_at_nothing_else(url: str) -> None:
    [found] = asyncio.run(read_by(url, queue._SUSPECTS))
    assert found.startswith("ix_queue_suspect ")
