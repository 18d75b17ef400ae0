"""Steps with lists inside: `each`, `together`, `repeat`. A finished item, strand or round closes into one result."""

from oak_relay.changes import Part
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine import waiting
from oak_relay.engine.bodies import ItemEnd
from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import Scope
from oak_relay.engine.plan import Node, models_in, names_in
from oak_relay.engine.rest import Resting
from oak_relay.engine.walking import Walking

LONG_LIST = 200
"""Items above which a list is walked in chunks, each a child run that any worker may take."""
CHUNK = 100
SIDE_BY_SIDE = 16
"""Chunks of one list that may be walked at once."""


async def each(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """Steps for every item; the list of what they give."""
    closed = walk.journal.entries(f"{path}#end")
    if closed:
        return closed[0].body
    items = walk.render(node, path, scope, [])
    if not isinstance(items, list):
        raise StepFailed("invalid", f"{node.name} needs a list, not {type(items).__name__}", fix="give each: a list")
    hash_ = values.digest(node.digest, values.dumps(items))
    recorded = walk.recorded(path, hash_)
    if recorded is None:
        body: dict[str, object] = {"items": items}
        if len(items) > LONG_LIST:
            body["chunk"] = CHUNK
        recorded = walk.journal.add(
            Entry(path, "value", 0, hash_, body, {"kind": "each", "count": len(items)}, at=walk.journal.now())
        )
    items = recorded["items"]
    if "chunk" in recorded:
        results = await _in_chunks(walk, node, path, scope, items, recorded["chunk"])
    else:
        results = await _through(walk, node, path, scope, items, 0, node.width)
    if node.failed == "drop":
        results = [r for r in results if "error" not in r]
    given = [{"error": r["error"]} if "error" in r else r["value"] for r in results]
    return walk.journal.add(Entry(f"{path}#end", "value", body=given, at=walk.journal.now()))


async def chunk(walk: Walking, node: Node, scope: Scope, part: Part) -> list[ItemEnd]:
    """A part of a list, as the child run that walks it does: `{value}` or `{error}` of each item."""
    return await _through(walk, node, part.path, scope, part.items, part.first, part.width)


async def together(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """Strands side by side; a mapping of what they give."""
    closed = walk.journal.entries(f"{path}#end")
    if closed:
        return closed[0].body
    if walk.recorded(path, node.digest) is None:
        body = {"strands": [way.name for way in node.ways]}
        walk.journal.add(Entry(path, "value", 0, node.digest, body, {"kind": "together"}, at=walk.journal.now()))
    results: dict[str, object] = {way.name: None for way in node.ways}

    async def strand(index: int) -> None:
        way = node.ways[index]
        inner = dict(scope)
        await walk.steps(way.steps, f"{path}.{way.name}.", inner)
        results[way.name] = walk.value(way.gives, inner)

    await walk.strands.together([strand(index) for index in range(len(node.ways))])
    return walk.journal.add(Entry(f"{path}#end", "value", body=results, at=walk.journal.now()))


async def repeat(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """Rounds until something holds; what the last one gives."""
    assert node.until is not None
    over = walk.journal.entries(f"{path}#end")
    if over:
        return over[0].body
    if walk.recorded(path, node.digest) is None:
        body = {"rounds": node.most}
        walk.journal.add(Entry(path, "value", 0, node.digest, body, {"kind": "repeat"}, at=walk.journal.now()))
    outer = {k: v for k, v in scope.items() if k != "last"}
    last: dict[str, object] = {}
    for number in range(node.most):
        here = f"{path}[{number}]"
        closed = walk.journal.entries(f"{here}#end")
        if closed:
            ended = closed[0].body
        else:
            inner = {**outer, **last}
            await walk.steps(node.steps, f"{here}.", inner)
            if "now" in node.until.names | node.gives.names:
                inner["now"] = walk.moment(here)
            ended = {"value": walk.value(node.gives, inner), "done": bool(walk.value(node.until, inner))}
            ended = walk.journal.add(Entry(f"{here}#end", "closed", body=ended, at=walk.journal.now()))
        last = {"last": ended["value"]}
        if ended["done"]:
            break
    return walk.journal.add(Entry(f"{path}#end", "value", body=last["last"], at=walk.journal.now()))


async def _through(
    walk: Walking, node: Node, path: str, scope: Scope, items: list[object], first: int, width: int
) -> list[ItemEnd]:
    """Items, so many at a time, in this walk."""
    results: list[ItemEnd] = [{} for _ in items]
    positions = iter(range(len(items)))
    broken: list[BaseException] = []

    async def strand() -> None:
        for index in positions:
            if broken:
                return
            try:
                results[index] = await _item(walk, node, f"{path}[{first + index}]", scope, items[index])
            except Resting:
                raise
            except BaseException as error:
                broken.append(error)
                raise

    await walk.strands.together([strand() for _ in range(min(width, len(items)))])
    return results


async def _item(walk: Walking, node: Node, path: str, scope: Scope, item: object) -> ItemEnd:
    """`{value}` or, where failures are kept, `{error}` of one item."""
    closed = walk.journal.entries(f"{path}#end")
    if closed:
        return closed[0].body
    inner = {**scope, node.item: item}
    await walk.breathe()
    try:
        await walk.steps(node.steps, f"{path}.", inner)
        outcome: ItemEnd = {"value": walk.value(node.gives, inner)}
    except StepFailed as failed:
        failed.step = failed.step or path
        if node.failed == "stop":
            raise
        await walk.withdraw(path)
        outcome = {"error": failed.as_data()}
    return walk.journal.add(Entry(f"{path}#end", "closed", body=outcome, at=walk.journal.now()))


async def _in_chunks(
    walk: Walking, node: Node, path: str, scope: Scope, items: list[object], size: int
) -> list[ItemEnd]:
    """A long list as child runs, some of them at once, each with its share of the width."""
    at_once = min(node.width, SIDE_BY_SIDE)
    named = names_in(node.steps) | node.gives.names
    seen = {k: v for k, v in scope.items() if k in named and k not in (node.item, "settings", "now")}
    for name in sorted(models_in(node.steps)):  # the parts are one run: they ask the same models
        await walk.settle(name)
    starts = range(0, len(items), size)
    results: dict[int, list[ItemEnd]] = {}
    positions = iter(starts)

    async def strand() -> None:
        for first in positions:
            width = max(1, node.width // at_once)
            part = Part(node.place, path, items[first : first + size], first, width, dict(walk.settled))
            here = f"{path}[{first}:{min(first + size, len(items))}]"
            wanted = waiting.Wanted(seen, part=part)
            results[first] = await waiting.child(walk, here, values.digest(node.digest, here), wanted, node.name)

    await walk.strands.together([strand() for _ in range(min(at_once, len(starts)))])
    return [outcome for first in starts for outcome in results[first]]
