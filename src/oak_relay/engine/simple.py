"""Steps that compute, choose, answer, publish and end."""

from typing import TYPE_CHECKING, Any

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine.outcomes import Scope, Stopped
from oak_relay.engine.plan import Node
from oak_relay.engine.protocols import Entry, LocalEffect

if TYPE_CHECKING:
    from oak_relay.engine.walk import Walk


async def set_values(walk: "Walk", node: Node, path: str, scope: Scope) -> Any:
    """Computed values."""
    empty: list[str] = []
    value = walk.render(node, path, scope, empty)
    return walk.note(path, "value", node, value, empty)


async def branch(walk: "Walk", node: Node, path: str, scope: Scope) -> Any:
    """The first way that holds; which one is recorded."""
    recorded = walk.recorded(path, node.digest)
    if recorded is None:
        held = (i for i, w in enumerate(node.ways) if w.condition is None or walk.value(w.condition, scope))
        body = {"way": next(held, -1)}
        recorded = walk.journal.add(Entry(path, "value", hash=node.digest, body=body, at=walk.journal.now()))
    if recorded["way"] < 0:
        return None
    way = node.ways[recorded["way"]]
    await walk.steps(way.steps, f"{path}.", scope)
    return walk.value(way.gives, scope)


async def answer(walk: "Walk", node: Node, path: str, scope: Scope) -> None:
    """The waiting caller's reply."""
    value = walk.render(node, path, scope, [])
    await _local(walk, node, path, value, LocalEffect("answer", value))


async def emit(walk: "Walk", node: Node, path: str, scope: Scope) -> Any:
    """An event that is published with the entry's commit."""
    value = walk.render(node, path, scope, [])
    output = (await _local(walk, node, path, value, LocalEffect("emit", {"path": path, **value})))["output"]
    if "fault" in output:
        raise StepFailed.from_data(output["fault"])
    return output


async def stop(walk: "Walk", node: Node, path: str, scope: Scope) -> None:
    """The run's end, well."""
    raise Stopped(walk.note(path, "value", node, walk.render(node, path, scope, [])))


async def fail(walk: "Walk", node: Node, path: str, scope: Scope) -> None:
    """The run's end as failed."""
    message = values.text_of(walk.render(node, path, scope, []))
    walk.note(path, "value", node, message)
    raise StepFailed("failed", message, fix="the document ends the run here", step=path)


async def _local(walk: "Walk", node: Node, path: str, value: Any, effect: LocalEffect) -> Any:
    hash_ = values.digest(node.digest, values.dumps(value))
    recorded = walk.recorded(path, hash_)
    if recorded is None:
        entry = Entry(path, "value", hash=hash_, body={"given": value}, at=walk.journal.now())
        recorded = await walk.journal.commit(entry, effect)
    return recorded
