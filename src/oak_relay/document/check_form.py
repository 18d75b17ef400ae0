"""The first pass of the checker: whether a document has the form of the language, in its own words."""

from collections import defaultdict
from collections.abc import Collection, Sequence
from typing import Any, get_origin

from pydantic import BaseModel, ValidationError
from pydantic.fields import FieldInfo

from oak_relay.document import habits, model_faults
from oak_relay.document.check_triggers import Triggers
from oak_relay.document.models import STEP_KINDS, STEP_MODELS, AgentDocument, Workflow, document_of, step_kinds
from oak_relay.document.text import Path
from oak_relay.document.words import OURS, Model

_KIND_TAGS = frozenset(STEP_KINDS)
_STEP_LISTS = ("steps", "else", "on_error", "always")


class Form(Triggers):
    """Reads the data through the models."""

    def models(self) -> Workflow | None:
        """Read the data through the models; the first pass."""
        sound = self.trigger_forms()
        try:
            document = document_of(self.source.data)
        except ValidationError as error:
            self._shape_problems(error)
            return None
        return document if sound else None

    def _shape_problems(self, error: ValidationError, above: Path = (), model: type[Model] | None = None) -> None:
        """Tell of what is wrong with the whole document, or with what stands at a path and is read through a model."""
        problems = [
            (self._document_path((*above, *one["loc"]), one["type"] in ("missing", "extra_forbidden")), one)
            for one in error.errors(include_url=False, include_context=True)
        ]
        lacking: dict[Path, list[str]] = defaultdict(list)
        for path, one in problems:
            if one["type"] == "missing":
                lacking[path[:-1]].append(str(one["loc"][-1]))
        told: set[Path] = set()
        for path, one in sorted(problems, key=lambda found: found[1]["type"] != "extra_forbidden"):
            if path in told or self._other_form(path, one):
                continue
            told.add(path)
            if one["type"] == "extra_forbidden":
                self._not_a_key(path, lacking[path[:-1]], above, model)
            elif one["type"] == "missing":
                if str(one["loc"][-1]) in lacking[path[:-1]]:
                    self.add(path[:-1], f"{one['loc'][-1]} is missing", f"add {one['loc'][-1]}:")
            else:
                self._shape_problem(path, one, above, model)

    def _shape_problem(self, path: Path, one: Any, above: Path, model: type[Model] | None) -> None:
        kind, key, value = one["type"], next((str(p) for p in reversed(path) if isinstance(p, str)), ""), one["input"]
        owner, field = self._at(path, above, model)
        if kind == "step_kind":
            self._step_kind(path, value)
        elif kind == "literal_error" and key == "oak":
            self.add(path, f"{value!r} is no version of this language", "write oak: 1")
        elif key == "wait" and kind in ("string_type", "model_type") and len(path) > 1:
            self.add(path, *model_faults.sentence("duration", {}, value, field, key))
        elif kind == "trigger":
            self.add(path, "a trigger has exactly one kind", f"leave one of {', '.join(self.world.triggers)}")
        elif kind == OURS and not (model_faults.is_duration(field) and model_faults.duration_of(value)):
            self.add(path, str(one["ctx"]["reason"]), str(one["ctx"]["fix"]))
        elif path == above and owner is not None and kind.startswith("model"):
            self.add(path, f"{key} is a mapping", f"write {key}: {model_faults.example(owner, value)}")
        else:
            self.add(path, *model_faults.sentence(kind, one.get("ctx", {}), value, field, key))

    def _other_form(self, path: Path, one: Any) -> bool:
        """Whether this is said of a form that is not meant: where something may be a text or a mapping, the one that it is
        says itself what is wrong."""
        if not path or path[-1] not in ("wait", "on_error", "status", "send", "hand_over", "files"):
            return False
        nested = isinstance(one["input"], dict | list)
        return (nested and one["type"] in ("string_type", "literal_error")) or (
            not nested and path[-1] in ("on_error", "files") and one["type"] == "list_type"
        )

    def _not_a_key(self, path: Path, lacking: list[str], above: Path, model: type[Model] | None) -> None:
        key, parent = str(path[-1]), path[:-1]
        owner = self._at(parent, above, model)[0]
        known = [one for one in _keys(owner) if one not in self._present(parent)] if owner else []
        short = model_faults.duration_of(self._value(parent)) if parent and parent[-1] in ("wait", *_DURATIONS) else ""
        if short:
            self.add(path, f"a duration is a text, not a mapping with {key}", f"write {parent[-1]}: {short}")
            lacking.clear()
            return
        near = habits.meant(key, lacking)[:1] or habits.meant(key, known)
        if near and near[0] in lacking:
            lacking.remove(near[0])
        step = parent and isinstance(self._value(parent), dict) and "step" in self._mapping(parent)
        action = self.world.actions.get(str(self._mapping(parent).get("do"))) if step else None
        if not near and key == "if":
            near = ["when"]
        if action is not None and key in (action.input.get("properties") or {}):  # type: ignore[operator]
            fix = f"put {key}: under with:"
        elif near:
            fix = f"write {' or '.join(near)}"
        elif known:
            fix = f"leave it out; here may stand {', '.join(known)}"
        else:
            fix = "leave it out"
        self.add(path, f"{key} is not a key of the language here", fix)

    def _step_kind(self, path: Path, given: object) -> None:
        if not isinstance(given, dict):
            self.add(path, "a step is a mapping", "write - step: name")
            return
        found = step_kinds(given)
        name = given.get("step", "this step")
        if len(found) > 1:
            self.add((*path, found[1]), f"{name} has both {' and '.join(found)}", "make them two steps")
            return
        known = {f.alias or n for m in STEP_MODELS for n, f in m.model_fields.items()}
        odd = [k for k in given if k not in known]
        if "if" in given:
            fix = "write branch: with - if: and its steps: below it, or when: on the steps themselves"
            self.add((*path, "if"), f"{name} is no branch: a condition with steps of its own stands in one", fix)
            return
        near = [(key, word) for key in odd for word in habits.meant(key, STEP_KINDS, habits.KINDS)[:1]]
        self.add(
            (*path, near[0][0] if near else odd[0]) if odd else path,
            f"{name} does not say what to do" + (f"; {odd[0]} is no kind of step" if odd else ""),
            f"write {near[0][1]}" if near else f"add one of {', '.join(STEP_KINDS)}",
        )

    def _document_path(self, loc: tuple[Any, ...], names_a_key: bool) -> Path:
        """A Pydantic location without the names of union members, which are no keys of the document; the last may be one
        that is not there."""
        path: list[str | int] = []
        here: object = self.source.data
        tagged = False  # the name of a step's kind comes behind its place in a list of steps
        for position, part in enumerate(loc):
            if tagged and part in _KIND_TAGS:
                tagged = False
            elif (isinstance(here, dict) and part in here) or (
                isinstance(here, list) and isinstance(part, int) and part < len(here)
            ):
                tagged = isinstance(part, int) and bool(path) and path[-1] in _STEP_LISTS
                path.append(part)
                here = here[part]
            elif names_a_key and position == len(loc) - 1:
                path.append(part)
        return tuple(path)

    def _value(self, path: Path) -> object:
        here: object = self.source.data
        for part in path:
            inside = isinstance(here, dict) and part in here
            if not inside and not (isinstance(here, list) and isinstance(part, int) and part < len(here)):
                return None
            here = here[part]  # type: ignore[index]
        return here

    def _mapping(self, path: Path) -> dict[str, object]:
        found = self._value(path)
        return found if isinstance(found, dict) else {}

    def _present(self, path: Path) -> Collection[str]:
        return self._mapping(path)

    def _at(
        self, path: Path, above: Path = (), model: type[BaseModel] | None = None
    ) -> tuple[type[BaseModel] | None, FieldInfo | None]:
        """The model that a mapping at a path is read as, and the field that it stands under, as far as they are known."""
        here: type[BaseModel] | None = model or (AgentDocument if self.agent_document else Workflow)
        field: FieldInfo | None = None
        named = False
        for depth in range(len(above), len(path)):
            part = path[depth]
            if isinstance(part, int):
                here = here or _of_a_step(self._value(path[: depth + 1]))
            elif named:
                named = False
            else:
                field = _field(here, part)
                here = model_faults.model_of(field.annotation) if field is not None else None
                named = field is not None and get_origin(field.annotation) is dict
        return here, field


_DURATIONS = ("timeout", "within", "time", "most", "every", "jitter", "tolerance")


def _of_a_step(value: object) -> type[BaseModel] | None:
    kinds: Sequence[str] = step_kinds(value) if isinstance(value, dict) else ()
    return next((m for m in STEP_MODELS if kinds and kinds[0] in m.model_fields), None)


def _field(model: type[BaseModel] | None, key: str) -> FieldInfo | None:
    if model is None:
        return None
    return next((f for n, f in model.model_fields.items() if (f.alias or n) == key), None)


def _keys(model: type[BaseModel]) -> list[str]:
    return [f.alias or n for n, f in model.model_fields.items()]
