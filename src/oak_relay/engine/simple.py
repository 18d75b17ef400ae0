"""Steps that compute, choose, reply, publish and end."""

from typing import Any

from oak_relay.changes import AnswerCaller, Change, EmitEvent
from oak_relay.document import values, wire
from oak_relay.document.errors import StepFailed
from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import Scope, Stopped
from oak_relay.engine.plan import Node
from oak_relay.engine.walking import Walking


async def set_values(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """Computed values."""
    empty: list[str] = []
    value = walk.render(node, path, scope, empty)
    return walk.note(path, "value", node, value, empty)


async def branch(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """The first way that holds; which one is recorded."""
    failed = any(entry.kind == "ended" for entry in walk.journal.entries(path))
    recorded = None if failed else walk.recorded(path, node.digest)
    if recorded is None:
        holding = (i for i, w in enumerate(node.ways) if w.condition is None or walk.asked(path, w.condition, scope))
        way = next(holding, -1)
        about = {"kind": "branch", "steps": len(node.ways[way].steps) if way >= 0 else 0}
        entry = Entry(path, "value", 0, node.digest, {"way": way}, about, at=walk.journal.now())
        recorded = walk.journal.add(entry)
    if recorded["way"] < 0:
        return None
    taken = node.ways[recorded["way"]]
    await walk.steps(taken.steps, f"{path}.", scope)
    return walk.value(taken.gives, scope)


async def reply(walk: Walking, node: Node, path: str, scope: Scope) -> None:
    """The waiting caller's reply."""
    value = walk.render(node, path, scope, [])
    wrong = _broken(value)
    if wrong:
        error = StepFailed("invalid", f"{node.name}: {wrong}", fix="correct reply:", step=path)
        if not walk.journal.entries(path):
            entry = Entry(path, "ended", 1, "", {"error": error.as_data()}, {"input": value}, at=walk.journal.now())
            walk.journal.add(entry)
        raise error
    await _local(walk, node, path, value, AnswerCaller(value))


def _broken(value: dict[str, object]) -> str:
    """What keeps a reply from being an HTTP response (RFC 9110); empty when nothing does."""
    status, headers = value.get("status"), value.get("headers")
    if status is not None and (isinstance(status, bool) or not isinstance(status, int) or not 200 <= status <= 599):
        return f"the status is a whole number from 200 to 599, not {values.text_of(status)[:50]!r}"
    if headers is not None and not isinstance(headers, dict):
        return "headers are a mapping of names and values"
    return wire.header_fault((name, values.text_of(given)) for name, given in (headers or {}).items())


async def emit(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """An event that is published with the entry's commit."""
    value = walk.render(node, path, scope, [])
    output = (await _local(walk, node, path, value, EmitEvent(path, **value)))["output"]
    if "fault" in output:
        raise StepFailed.from_data(output["fault"])
    return output


async def stop(walk: Walking, node: Node, path: str, scope: Scope) -> None:
    """The run's end, well."""
    raise Stopped(walk.note(path, "value", node, walk.render(node, path, scope, [])))


async def sketch(walk: Walking, node: Node, path: str, scope: Scope) -> None:
    """What is only written down; a workflow with one is not begun, so this is a try of it."""
    raise StepFailed(
        "invalid", f"{node.name} is a sketch: {node.body.raw}", fix="say with do: how it is done", step=path
    )


async def fail(walk: Walking, node: Node, path: str, scope: Scope) -> None:
    """The run's end as failed."""
    message = values.text_of(walk.render(node, path, scope, []))
    error = StepFailed("failed", message, fix="the document ends the run here", step=path)
    if not walk.journal.entries(path):
        walk.journal.add(Entry(path, "ended", 1, "", {"error": error.as_data()}, at=walk.journal.now()))
    raise error


async def _local(walk: Walking, node: Node, path: str, value: object, change: Change) -> Any:
    hash_ = values.digest(node.digest, values.dumps(value))
    recorded = walk.recorded(path, hash_)
    if recorded is None:
        entry = Entry(path, "value", 0, hash_, {"given": value}, {"kind": "local"}, at=walk.journal.now())
        recorded = await walk.journal.commit(entry, change)
    return recorded
