"""Questions to people: at the tray, by a link, or in a conversation, where choices are found in any words and forms are asked for
piece by piece. The run rests meanwhile."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from oak_relay.changes import AskPerson, ExpireQuestion
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.schemas import validator
from oak_relay.engine import effects, hearing
from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import Scope
from oak_relay.engine.plan import ByExample, Node, tool_node
from oak_relay.engine.simple import conversation_of
from oak_relay.engine.waiting import put
from oak_relay.engine.walking import Walking


async def ask(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """A question to a person, or a conversation that a person takes over; at rest until it is answered or handed back, or expires."""
    closed = walk.journal.entries(f"{path}#end")
    text = values.text_of(walk.render(node, path, scope, []))
    hash_ = values.digest(node.digest, text)
    if closed:
        walk.recorded(path, hash_)
        return _answered(node, path, closed[0].body)
    if node.fixed["at"] == "conversation" and node.fixed["form"]:
        given = await _form(walk, node, path, scope, text, hash_)
    else:
        given = await _answer(walk, node, path, scope, text, hash_)
    if given["expired"] and node.fixed["then"] in (node.fixed["choices"] or ()):
        given["choice"] = node.fixed["then"]
    return _answered(node, path, walk.journal.add(Entry(f"{path}#end", "value", body=given, at=walk.journal.now())))


async def _answer(walk: Walking, node: Node, path: str, scope: Scope, text: str, hash_: str) -> dict[str, Any]:
    """What is answered; what is said in a conversation that is no answer is dealt with, and it is asked again."""
    until: datetime | None = None
    given: dict[str, Any] = {}
    for number in range(_ROUNDS):
        here, own = (f"{path}~{number + 1}", values.digest(hash_, str(number))) if number else (path, hash_)
        said = await _question(walk, node, here, text, own, None if number else scope, until)
        given = {name: said.get(name) for name in _ANSWER[node.fixed["at"]]}
        if node.fixed["at"] == "conversation":
            given["parts"] = said.get("parts") or []
            words = values.text_of(given["text"] or "")
            given["choice"] = chosen(node.fixed["choices"] or (), given["choice"], words)
            if given["choice"] is None and words and node.meant is not None:
                given["choice"] = await _meant(walk, node, here, words, node.meant)
        given["expired"] = bool(said.get("expired"))
        strays = given.get("choice") is None if node.fixed["choices"] else _asks(given)
        if given["expired"] or not node.aside or not strays:
            break
        until = _until(walk, path)
        await _stray(walk, node, here, scope, given)
    return given


def _until(walk: Walking, path: str) -> datetime | None:
    """The end of the time for a question that was put before."""
    first = walk.journal.entries(path)[0].body["until"]
    return datetime.fromisoformat(first) if first else None


def _asks(given: Mapping[str, Any]) -> bool:
    """Whether words are a question themselves."""
    return values.text_of(given.get("text") or "").rstrip().endswith(("?", "？", "؟"))


async def _stray(walk: Walking, node: Node, path: str, scope: Scope, given: Mapping[str, Any]) -> None:
    """Deal with what was said that is no answer."""
    about = {"text": given.get("text") or "", "parts": given.get("parts") or []}
    await walk.steps(node.aside, f"{path}.", {**scope, "aside": about})


async def _question(
    walk: Walking, node: Node, path: str, text: str, hash_: str, scope: Scope | None = None, until: datetime | None = None,
    choices: Sequence[str] | None = None,
) -> Mapping[str, Any]:  # fmt: skip
    """Put one question, and rest until it is answered, or until a moment; what was said. Without a moment the step's own time counts."""
    recorded = walk.recorded(path, hash_)
    if recorded is None:
        if until is None and node.within is not None:
            until = walk.journal.now() + timedelta(seconds=node.within)
        moment = until.isoformat() if until else None
        talks = node.fixed["at"] in ("conversation", "hand_over")
        talk = conversation_of(walk, node, path, text) if talks else ""
        fixed = node.fixed if choices is None else {**node.fixed, "choices": choices or None, "form": None}
        question = AskPerson(path, text, until=moment, conversation=talk, **fixed)
        recorded = await put(walk, path, hash_, question, body={"until": moment})
    until = datetime.fromisoformat(recorded["until"]) if recorded["until"] else None
    if node.steps and scope is not None:
        await walk.steps(node.steps, f"{path}.", {**scope, "question": _told(walk, node, path, text, recorded)})
    said = await walk.signal(path, until)
    if said is None:
        if walk.replaying:
            await walk.halt(path)
        entry = Entry(f"{path}#expired", "value", body={}, at=walk.journal.now())
        settled = walk.journal.entries(entry.path)
        body = settled[0].body if settled else await walk.journal.commit(entry, ExpireQuestion(path))
        said = body["output"]["answer"] or {"expired": True}
    return await hearing.written_down(walk, node, path, said) if node.fixed["at"] == "conversation" else dict(said)


_ROUNDS = 30
"""Questions that one form is asked in."""
_BUTTONS, _LABEL = 10, 60
"""Values of a piece that stand as buttons, and letters of one; of more, or longer ones, none does."""


async def _form(walk: Walking, node: Node, path: str, scope: Scope, text: str, hash_: str) -> dict[str, Any]:
    """A form that is asked for piece by piece: the first that is missing each time. Each piece is checked; a model, where one is
    named, takes several from one sentence and understands corrections."""
    schema: dict[str, Any] = node.fixed["form"]
    pieces = _pieces(schema)
    wanted = [name for name in schema.get("required") or () if name in pieces] or list(pieces)
    known: dict[str, Any] = {}
    until: datetime | None = None
    said: Mapping[str, Any] = {}
    fault = ""
    for number in range(_ROUNDS):
        missing = next((name for name in wanted if name not in known), None)
        if missing is None:
            break
        here = path if not number else f"{path}~{number + 1}"
        asked = _wording(pieces[missing], missing)
        whole = "\n".join(part for part in (text if not number else fault, asked) if part)
        labels = [values.text_of(one) for one in pieces[missing].get("enum", ()) if one is not None]
        buttons = labels if len(labels) <= _BUTTONS and all(0 < len(one) <= _LABEL for one in labels) else []
        own = hash_ if not number else values.digest(hash_, whole)
        said = await _question(walk, node, here, whole, own, None if number else scope, until, buttons)
        until = _until(walk, path)
        if said.get("expired"):
            break
        words = values.text_of(said.get("choice") or said.get("text") or "")
        took = (
            _Took()
            if node.aside and node.meant is None and _asks(said)
            else await _take(walk, node, here, known, missing, words)
        )
        fault = took.fault
        if node.aside and not took.any:
            await _stray(walk, node, here, scope, said)
    over = any(name not in known for name in wanted)
    if over and not said.get("expired"):
        raise StepFailed(
            "wrong_shape", f"{node.name} was not understood in {_ROUNDS} questions", fix="ask for less", step=path
        )
    told = {name: said.get(name) for name in ("text", "by", "at")}
    return {"choice": None, "data": known, **told, "parts": [], "expired": over}


def _pieces(schema: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
    """The pieces of a form; one that is only true or false says nothing of its value (JSON Schema, section 4.3.2)."""
    return {name: dict(one) if isinstance(one, dict) else {} for name, one in schema["properties"].items()}


def _wording(piece: Mapping[str, Any], name: str) -> str:
    """How a piece is asked for: as its schema describes it."""
    return str(piece.get("description") or piece.get("title") or f"{name.replace('_', ' ').capitalize()}?")


@dataclass(frozen=True, slots=True)
class _Took:
    """Whether words said anything of a form, and what was wrong with it, empty when nothing was."""

    any: bool = False
    fault: str = ""


async def _take(walk: Walking, node: Node, path: str, known: dict[str, Any], asked: str, text: str) -> _Took:
    """Take what words say of a form."""
    schema: dict[str, Any] = node.fixed["form"]
    pieces, checks = _pieces(schema), validator({**schema, "required": []})
    model = node.meant.model if node.meant is not None else None
    if model is None:
        found = {asked: _read(pieces[asked], text)}
    else:
        brief = (
            "Take from what somebody says the values of the fields that they tell, also where they correct what is known. Leave out what they do not tell.\n"
            f"They were asked for: {asked}. Known so far: {values.dumps(known)}. Today is {walk.journal.now():%A, %Y-%m-%d}."
        )
        gives = {**schema, "required": [], "additionalProperties": False}
        given: dict[str, object] = {"model": model, "brief": brief, "prompt": text, "gives": gives}
        found = (await _asked(walk, node, f"{path}/taken", "model.answer", given))["data"] or {}
    fault, any_ = "", False
    for name, value in found.items():
        if name not in pieces or value is None:
            continue
        any_ = True
        wrong = checks.fault({name: value})
        if wrong:
            fault = f"{_wording(pieces[name], name)} {wrong}"
        else:
            known[name] = value
    return _Took(any_, fault)


def _read(piece: Mapping[str, Any], text: str) -> object:
    """Words as a value of a piece: a number, yes or no, one of its values, or themselves."""
    kind, bare = piece.get("type"), text.strip()
    if "enum" in piece:
        labels = [values.text_of(one) for one in piece["enum"]]
        meant = chosen(labels, None, bare)
        return piece["enum"][labels.index(meant)] if meant is not None else bare
    if kind in ("number", "integer"):
        try:
            return values.loads(bare.replace(",", "."))
        except values.NotJson:
            return bare
    if kind == "boolean":
        return {"yes": True, "no": False, "true": True, "false": False}.get(_bare(bare), bare)
    return bare


async def _meant(walk: Walking, node: Node, path: str, text: str, by: ByExample) -> str | None:
    """The choice that words mean, by the phrases of each; a model is asked where one is named and they leave it unsure. Each is a
    span of its own, with how sure it is."""
    found: str | None = None
    if by.phrases:
        given: dict[str, object] = {"text": text, "choices": by.phrases}
        told = await _asked(walk, node, f"{path}/meant", "model.meant", given)
        if told["sure"] or by.model is None:
            return told["choice"] or by.otherwise
        found = told["choice"]
    if by.model is None:
        return by.otherwise
    labels = {name: {"means": name, "examples": by.phrases.get(name, [])} for name in node.fixed["choices"]}
    none = by.otherwise or "none of these"
    given = {"model": by.model, "text": text, "labels": labels, "otherwise": none}
    if len(labels) < 2:
        return found or by.otherwise
    label = (await _asked(walk, node, f"{path}/label", "model.label", given))["label"]
    return label if label in labels else by.otherwise


async def _asked(walk: Walking, node: Node, path: str, action: str, given: dict[str, object]) -> Any:
    """What an action gives that a step does on its own account."""
    asking = tool_node(node, action, f"{node.name}/{path.rpartition('/')[2]}")
    hash_ = values.digest(node.digest, values.dumps(given))
    return await effects.act(walk, asking, path, given, hash_, {"input": given})


_BY_A_PERSON = ("choice", "data", "text", "by", "at")
_ANSWER = {"tray": _BY_A_PERSON, "link": _BY_A_PERSON, "conversation": _BY_A_PERSON, "hand_over": ("text", "by", "at")}
"""What an answer holds, by where it is given."""


def chosen(choices: Sequence[str], pressed: object, text: str) -> str | None:
    """The choice that an answer means: the button that was pressed, or its words, or its number; None of any other words."""
    if pressed in choices:
        return str(pressed)
    bare = [_bare(one) for one in choices]
    said = _bare(text)
    if said in bare:
        return choices[bare.index(said)]
    return choices[int(said) - 1] if said.isascii() and said.isdigit() and 0 < int(said[:3]) <= len(choices) else None


def _bare(text: str) -> str:
    return " ".join("".join(one if one.isalnum() else " " for one in text.casefold()).split())


def _told(walk: Walking, node: Node, path: str, text: str, opened: Any) -> dict[str, object]:
    """What steps that tell of a question see of it; its address is recorded, for it is another one tomorrow."""
    told = walk.journal.entries(f"{path}#told")
    if told:
        return dict(told[0].body)
    question = str(opened["output"]["question"])
    body: dict[str, object] = {"id": question, "text": text}
    if node.fixed["at"] == "link":
        body["link"] = walk.executor.link(question)
    return dict(walk.journal.add(Entry(f"{path}#told", "value", body=body, at=walk.journal.now())))


def _answered(node: Node, path: str, given: Any) -> object:
    if given["expired"] and node.fixed["then"] == "fail":
        raise StepFailed("timeout", f"nobody answered {node.name} in time", fix="ask again", step=path)
    return given
