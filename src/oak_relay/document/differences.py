"""What differs between two documents, step by step, as it is told to people."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Literal, cast

from oak_relay.document.check import Checked
from oak_relay.document.script import Actions, Line, script
from oak_relay.document.values import dumps

What = Literal["added", "removed", "changed", "moved", "renamed"]
MOST = 500
"""Differences that are told; the rest is counted."""
_FIELDS = 40
_LONGEST = 300
_AROUND = {
    "title": "The title",
    "note": "The note",
    "labels": "The labels",
    "input": "What it is given",
    "settings": "The settings",
    "triggers": "What starts it",
    "subject": "What a run is about",
    "limits": "The limits",
    "result": "What it gives",
}
_MISSING = object()


@dataclass(frozen=True, slots=True)
class FieldChange:
    """A value that differs: its dotted name within the step, and how it reads in each of the two; None where it is not there."""

    name: str
    before: str | None
    after: str | None


@dataclass(frozen=True, slots=True)
class Difference:
    """A step, or what stands around the steps, that differs. `number` and `sentence` are those of the script, of the newer one
    where it is there; both empty of what stands around."""

    what: What
    number: str
    sentence: str
    step: str
    fields: tuple[FieldChange, ...] = ()
    before: str = ""
    """The name of a step that is called otherwise now."""


@dataclass(frozen=True, slots=True)
class _Step:
    line: Line
    own: dict[str, object]
    holder: str
    """The list it stands in, by the name of the step that holds it."""


def differences(before: Checked, after: Checked, actions: Actions) -> list[Difference]:
    """What the second document says otherwise than the first, in the order of the script; those that are gone stand last. Both
    are such that could be read whole, with mistakes or without."""
    old, new = _steps_of(before, actions), _steps_of(after, actions)
    found = list(_around(old[0], new[0]))
    steps, others = old[1], new[1]
    gone = {name: step for name, step in steps.items() if name not in others}
    renamed = _renamed(gone, {name: step for name, step in others.items() if name not in steps})
    moved = _moved(steps, others)
    for name, step in others.items():
        line = step.line
        if name in renamed:
            found.append(Difference("renamed", line.number, line.sentence, name, (), renamed[name]))
        elif name not in steps:
            found.append(Difference("added", line.number, line.sentence, name))
        elif fields := _fields(steps[name].own, step.own):
            found.append(Difference("changed", line.number, line.sentence, name, fields))
        if name in moved:
            found.append(Difference("moved", line.number, line.sentence, name))
    for name, step in gone.items():
        if name not in renamed.values():
            found.append(Difference("removed", step.line.number, step.line.sentence, name))
    return found


def _steps_of(checked: Checked, actions: Actions) -> tuple[dict[str, object], dict[str, _Step]]:
    assert checked.document is not None and checked.source is not None
    data = cast(dict[str, object], checked.source.data)
    lines = script(checked.document, actions)
    names = {line.path: line.step for line in lines}
    steps = {}
    for line in lines:
        value = _at(data, line.path)
        if line.kind not in ("arm", "strand") and isinstance(value, dict):
            steps[line.step] = _Step(line, _own(value), _holder(line.path, names))
    return data, steps


def _at(data: object, path: str) -> object:
    for key in path.split("."):
        if isinstance(data, list):
            data = data[int(key)] if key.isdigit() and int(key) < len(data) else None
        else:
            data = data.get(key) if isinstance(data, dict) else None
    return data


def _holder(path: str, names: Mapping[str, str]) -> str:
    keys = path.split(".")[:-1]
    for length in range(len(keys), 0, -1):
        if (name := names.get(".".join(keys[:length]))) is not None:
            return f"{name}.{'.'.join(keys[length:])}"
    return ".".join(keys)


def _own(step: dict[str, object]) -> dict[str, object]:
    """A step without the steps inside of it."""
    return {key: _bare(key, value) for key, value in step.items() if key != "step" and not _holds_steps(key, value)}


def _bare(key: str, value: object) -> object:
    if key in ("branch", "together", "ask"):
        inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
        kept = {
            str(name): _own(one) if isinstance(one, dict) else one
            for name, one in inner
            if not _holds_steps(str(name), one)
        }
        return kept
    return value


def _holds_steps(key: str, value: object) -> bool:
    return key in ("steps", "else", "on_error", "tell", "aside") and isinstance(value, list)


def _renamed(gone: Mapping[str, _Step], come: Mapping[str, _Step]) -> dict[str, str]:
    """Those that are what another one was, but for the name; the new name and the old one."""
    left, found = dict(gone), {}
    for name, step in come.items():
        same = next((old for old, one in left.items() if one.own == step.own and one.holder == step.holder), None)
        if same is not None:
            found[name] = same
            del left[same]
    return found


def _moved(before: Mapping[str, _Step], after: Mapping[str, _Step]) -> set[str]:
    common = [name for name in after if name in before]
    moved = {name for name in common if before[name].holder != after[name].holder}
    for holder in {after[name].holder for name in common}:
        now = [name for name in common if name not in moved and after[name].holder == holder]
        here = set(now)
        was = [name for name in before if name in here]
        kept = {
            was[n]
            for a, _, size in SequenceMatcher(None, was, now, autojunk=False).get_matching_blocks()
            for n in range(a, a + size)
        }
        moved |= set(now) - kept
    return moved


def _around(before: Mapping[str, object], after: Mapping[str, object]) -> Iterator[Difference]:
    more = {
        key: f"Its {key}" for key in (*after, *before) if key not in ("oak", "workflow", "agent", "steps", "always")
    }
    for key, said in {**more, **_AROUND}.items():
        was, now = (_by_name(given.get(key, _MISSING)) for given in (before, after))
        fields = _fields({key: was} if was is not _MISSING else {}, {key: now} if now is not _MISSING else {})
        if fields:
            what: What = "added" if was is _MISSING else "removed" if now is _MISSING else "changed"
            yield Difference(what, "", said, "", fields)


def _by_name(value: object) -> object:
    """Triggers, by their names."""
    if isinstance(value, list) and value and all(isinstance(one, dict) and "trigger" in one for one in value):
        return {str(one["trigger"]): {key: given for key, given in one.items() if key != "trigger"} for one in value}
    return value


def _fields(before: Mapping[str, object], after: Mapping[str, object]) -> tuple[FieldChange, ...]:
    found: list[FieldChange] = []
    for name, was, now in _leaves((), dict(before), dict(after)):
        if len(found) == _FIELDS:
            found.append(FieldChange("…", None, "and more"))
            break
        said = name[1:] if name[:1] == ("with",) and len(name) > 1 else name
        found.append(FieldChange(".".join(said), _brief(was), _brief(now)))
    return tuple(found)


def _leaves(path: tuple[str, ...], was: object, now: object) -> Iterator[tuple[tuple[str, ...], object, object]]:
    if isinstance(was, dict) and isinstance(now, dict):
        for key in dict.fromkeys((*now, *was)):
            yield from _leaves((*path, str(key)), was.get(key, _MISSING), now.get(key, _MISSING))
    elif was != now or (was is True) != (now is True) or (was is False) != (now is False):
        yield path, was, now


def _brief(value: object) -> str | None:
    if value is _MISSING:
        return None
    text = value if isinstance(value, str) else dumps(value)
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"
