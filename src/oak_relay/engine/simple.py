"""Steps that compute, choose, reply, publish and end."""

from collections.abc import Iterator
from typing import Any
from uuid import UUID

from oak_relay.changes import AnswerCaller, Change, Contact, EmitEvent, Say
from oak_relay.document import values, wire
from oak_relay.document.errors import StepFailed
from oak_relay.engine import word
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


LONGEST_SAID = 20_000
"""Letters of what is said at once."""
MOST_FILES = 10
"""Files that are said at once."""


def conversation_of(walk: Walking, node: Node, path: str, text: str, files: bool = False) -> str:
    """The key of the run's conversation, where a text is to be said, with files or without. Raises `StepFailed` (`invalid`) where it
    has none, or the text cannot be said."""
    fault = ""
    if not text.strip() and not files:
        fault, fix = "there is nothing to say: the text is empty", "say something"
    elif len(text) > LONGEST_SAID:
        fault, fix = f"the text has {len(text):,} letters; {LONGEST_SAID:,} are said at most", "say less, or in parts"
    if fault:
        raise StepFailed("invalid", f"{node.name}: {fault}", fix=fix, step=path)
    about = walk.start.scope.get("conversation")
    key = about.get("key") if isinstance(about, dict) else None
    if not isinstance(key, str) or not key:
        fix = "begin it by what somebody says: add a conversation trigger"
        raise StepFailed("invalid", f"{node.name}: this run belongs to no conversation", fix=fix, step=path)
    return key


async def send(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """Something that is said in the run's conversation, with the entry's commit."""
    value = walk.render(node, path, scope, [])
    text, buttons = values.text_of(value["text"]), [str(one) for one in value.get("buttons") or ()]
    files = list(_files(node, path, value.get("files")))
    key = _contact(node, path, value["to"]) if value.get("to") else conversation_of(walk, node, path, text, bool(files))
    if len(files) > MOST_FILES:
        fix = "say it in several steps"
        raise StepFailed("invalid", f"{node.name}: {len(files)} files; {MOST_FILES} go at once", fix=fix, step=path)
    output = (await _local(walk, node, path, value, Say(key, text, buttons, files, word.marked(scope, text))))["output"]
    if "fault" in output:
        raise StepFailed.from_data(output["fault"])
    return output


def _contact(node: Node, path: str, to: dict[str, object]) -> Contact:
    """Somebody on a channel. Raises `StepFailed` (`invalid`)."""
    chat = values.text_of(to.get("chat")).strip()
    if not chat or len(chat) > 300:
        raise StepFailed("invalid", f"{node.name}: there is nobody to write to", fix="correct chat:", step=path)
    return Contact(str(to["path"]), chat)


def _files(node: Node, path: str, given: object) -> Iterator[dict[str, object]]:
    """The files among what was given; lists within lists are one. Raises `StepFailed` (`invalid`) for anything else."""
    if isinstance(given, list):
        for one in given:
            yield from _files(node, path, one)
    elif isinstance(given, dict) and isinstance(given.get("file"), str):
        try:
            made = {"file": str(UUID(given["file"]))}
        except ValueError:
            raise StepFailed(
                "invalid", f"{node.name}: files: this is no file", fix="give one that a step gave", step=path
            ) from None
        yield {**made, **{name: values.text_of(given.get(name, "")) for name in ("name", "type")}}
    elif given not in (None, ""):
        raise StepFailed("invalid", f"{node.name}: files: this is no file", fix="give one that a step gave", step=path)


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
