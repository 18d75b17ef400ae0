"""Voice notes written down: those of the message that a run begins with, and of what answers its questions.

Where the trigger names an alias that transcribes (`voice`), each note becomes text before anything is made of it. Each is a call of its own,
beneath `message/heard` or the question's `/heard`; a note that cannot be written down stays a file, and says why (`fault`)."""

from collections.abc import Mapping
from typing import Any

from oak_relay.changes import Hear
from oak_relay.document import shapes, values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.document.schemas import validator
from oak_relay.engine import effects
from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import Scope, Start
from oak_relay.engine.plan import USUAL_RETRY, Node, tool_node
from oak_relay.engine.walking import Walking

VOICE = "voice"
_MOST = 10
"""Voice notes of one message that are written down."""
_MESSAGE = Node("message", "do", "", "message", action="model.transcribe", retry=USUAL_RETRY)


async def begun(walk: Walking) -> Start:
    """What the walk begins with, the voice notes of its message written down; the input that a trigger makes of it is made anew.
    Raises `StepFailed` where that cannot be, or does not fit."""
    start = walk.start
    event: Any = start.scope.get("event")
    data = event.get("data") if isinstance(event, dict) else None
    if not walk.plan.hears or start.part is not None or not isinstance(data, dict) or not _notes(data):
        return start
    heard = await written_down(walk, _MESSAGE, "message", data)
    scope = {**start.scope, "event": {**event, "data": heard}}
    given, made = start.scope.get("input"), walk.plan.inputs.get(values.text_of(event["source"]).rpartition("/")[2])
    if made is not None:
        if given == _input(walk, made, start.scope):  # else somebody gave another one
            scope["input"] = _input(walk, made, scope)
            if wrong := validator(walk.plan.takes).fault(scope["input"]):
                fix = "correct input: of the trigger"
                raise StepFailed("invalid", f"the input does not fit {walk.plan.workflow}: {wrong}", fix=fix)
    elif isinstance(given, dict) and all(given.get(name) == data.get(name) for name in ("text", "parts")):
        scope["input"] = {**given, "text": heard["text"], "parts": heard["parts"]}
    return start._replace(scope=scope)


def _input(walk: Walking, made: Template, scope: Scope) -> object:
    return shapes.filled(walk.plan.fills, made.render({name: scope[name] for name in ("event", "settings")}))


async def written_down(walk: Walking, node: Node, path: str, said: Mapping[str, Any]) -> dict[str, Any]:
    """What was said, with the text of its voice notes behind its own."""
    notes = _notes(said)
    if not walk.plan.hears or not notes:
        return dict(said)
    parts, lines, texts = list(said["parts"]), [values.text_of(said.get("text") or "")], dict[str, str]()
    for place in notes[:_MOST]:
        here = f"{path}/heard{place + 1 if place else ''}"
        try:
            text = await _transcribed(walk, node, here, parts[place]["file"])
        except StepFailed as failed:
            walk.go_on()
            parts[place] = {**parts[place], "fault": failed.message[:300]}
            continue
        texts[str(parts[place]["file"].get("file"))] = text
        lines.append(text)
        parts[place] = {**parts[place], "heard": text}
    if texts and not walk.journal.entries(f"{path}/heard#kept") and not walk.replaying:
        about = walk.start.scope.get("conversation")
        key = about.get("key") if isinstance(about, dict) else None
        if isinstance(key, str):
            kept = Entry(f"{path}/heard#kept", "value", body={}, at=walk.journal.now())
            await walk.journal.commit(kept, Hear(key, texts))
    return {**said, "text": "\n".join(line for line in lines if line), "parts": parts}


def _notes(said: Mapping[str, Any]) -> list[int]:
    """Where voice notes are among the parts of something that was said."""
    parts = said.get("parts")
    return [
        place
        for place, part in enumerate(parts if isinstance(parts, list) else ())
        if isinstance(part, dict) and part.get("what") == VOICE and isinstance(part.get("file"), dict)
    ]


async def _transcribed(walk: Walking, node: Node, path: str, file: Mapping[str, object]) -> str:
    asking = tool_node(node, "model.transcribe", f"{node.name}/{path.rpartition('/')[2]}")
    given: dict[str, object] = {"model": walk.plan.hears, "file": dict(file)}
    hash_ = values.digest(walk.plan.hears, values.dumps(given))
    return values.text_of((await effects.act(walk, asking, path, given, hash_, {"input": given}))["text"])
