"""What differs between an operation as it was kept and as a newer document has it, in sentences."""

from collections.abc import Iterator, Mapping

from oak_relay.actions.openapi.shapes import Operation, Schema
from oak_relay.document import shapes
from oak_relay.jsontext import dumps

_MOST = 20


def differences(old: Operation, new: Operation) -> list[str]:
    """What is another now, what breaks what is there first; empty when nothing is."""
    return list(_all(old, new))[:_MOST]


def _all(old: Operation, new: Operation) -> Iterator[str]:
    yield from _fields("it takes", old.input, new.input)
    yield from _fields("it gives", old.output, new.output)
    if old.gives != new.gives:
        yield f"it gives {_GIVES[new.gives]}, and gave {_GIVES[old.gives]}"
    if old.repeat != new.repeat:
        yield f"repeating it is {new.repeat} now, and was {old.repeat}"
    if old.sent_as != new.sent_as:
        yield f"its credential goes by {' or '.join(new.sent_as) or 'nothing'}, and went by {' or '.join(old.sent_as) or 'nothing'}"
    if set(old.scopes) != set(new.scopes):
        yield f"it needs the scopes {', '.join(new.scopes) or 'of nobody'}"
    if (old.parameters, old.body) != (new.parameters, new.body):
        yield "its fields are sent in another way"
    if old.paging != new.paging:
        yield "its pages follow each other in another way"
    if (old.title, old.about) != (new.title, new.about):
        yield "it is described in other words"


_GIVES = {"data": "data", "text": "a text", "file": "a file", "nothing": "nothing"}


def _fields(how: str, old: Schema, new: Schema, place: str = "", depth: int = 0) -> Iterator[str]:
    """How the fields of two schemas differ, and those within them."""
    yield from _level(how, old, old, new, new, place, depth)


def _level(
    how: str,
    old: Mapping[str, object],
    old_root: Schema,
    new: Mapping[str, object],
    new_root: Schema,
    place: str,
    depth: int,
) -> Iterator[str]:
    old, new = shapes.resolved(old, old_root), shapes.resolved(new, new_root)
    before, now = shapes.properties(old), shapes.properties(new)
    needed_before, needed = set(shapes.required(old)), set(shapes.required(new))
    for name in before:
        if name not in now:
            yield f"{how} no {place}{name} any more"
    for name in now:
        if name not in before:
            yield f"{how} {place}{name}" + (", which is needed" if name in needed and how == "it takes" else "")
        else:
            if (name in needed) != (name in needed_before) and how == "it takes":
                yield f"{place}{name} is {'needed' if name in needed else 'not needed'} now"
            one, other = shapes.resolved(before[name], old_root), shapes.resolved(now[name], new_root)
            if _kind(one) != _kind(other):
                yield f"{how} {place}{name} as {_kind(other)}, and {_WAS[how]} {_kind(one)}"
            elif depth < 4:
                yield from _level(how, one, old_root, other, new_root, f"{place}{name}.", depth + 1)
    if depth < 4 and isinstance(old.get("items"), Mapping) and isinstance(new.get("items"), Mapping):
        items = old["items"], new["items"]
        yield from _level(how, items[0], old_root, items[1], new_root, f"{place.rstrip('.')}[].", depth + 1)  # type: ignore[arg-type]


_WAS = {"it takes": "took", "it gives": "gave"}


def _kind(schema: Mapping[str, object]) -> str:
    """The type of a value in short, with what it may be."""
    some = schema.get("enum")
    if isinstance(some, list):
        return f"one of {', '.join(dumps(one) for one in some[:6])}"
    kind = schema.get("type", "anything")
    return " or ".join(map(str, kind)) if isinstance(kind, list) else str(kind)
