"""The first pass of the checker: whether a document has the form of the language, in its own words."""

from difflib import get_close_matches
from typing import Any, get_args

from pydantic import BaseModel, ValidationError

from oak_relay.document.check_triggers import Triggers
from oak_relay.document.models import STEP_KINDS, STEP_MODELS, Arm, Workflow, document_of, step_kinds
from oak_relay.document.text import Path
from oak_relay.document.triggers import Trigger
from oak_relay.document.words import Model

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
            for problem in error.errors(include_url=False):
                self._shape_problem(problem)
            return None
        return document if sound else None

    def _shape_problem(self, problem: Any, above: Path = (), model: type[Model] | None = None) -> None:
        path = self._document_path((*above, *problem["loc"]))
        two_forms = path and path[-1] in ("wait", "on_error") and isinstance(problem["input"], dict | list)
        if two_forms and problem["type"] in ("string_type", "literal_error"):
            return  # the other form is meant, and says itself what is wrong
        kind, key = problem["type"], problem["loc"][-1] if problem["loc"] else ""
        if kind == "extra_forbidden":
            known = self._known_keys(path[:-1]) if model is None else _keys_at(model, path[len(above) : -1])
            near = get_close_matches(str(key), known, 1)
            fix = f"write {near[0]}" if near else f"leave it out; here may stand {', '.join(known)}"
            self.add(path, f"{key} is not a key of the language here", fix)
        elif kind == "missing":
            self.add(path[:-1], f"{key} is missing", f"add {key}:")
        elif kind == "step_kind":
            self._step_kind(path, problem["input"])
        elif kind == "string_pattern_mismatch":
            fix = "use lower-case letters, digits and " + ("_" if "step" in path or "as" in path else "-")
            if "^P" in str(problem["ctx"]["pattern"]) or "ms" in str(problem["ctx"]["pattern"]):
                fix = "write 500ms, 30s, 5m, 2h, 3d or PT5M"
            self.add(path, f"{problem['input']!r} is not a valid {key}", fix)
        elif kind == "literal_error":
            self.add(
                path,
                f"{problem['input']!r} is not one of the words allowed here",
                f"write {problem['ctx']['expected']}",
            )
        else:
            fixes = {
                "reserved": "choose another name",
                "verify": "add credential: NAME",
                "trigger": f"leave one of {', '.join(self.world.triggers)}",
            }
            message = f"{key}: {problem['msg'][0].lower()}{problem['msg'][1:]}"
            self.add(path, message, fixes.get(kind, "correct this value"))

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
        near = get_close_matches(odd[0], STEP_KINDS, 1) if odd else []
        self.add(
            (*path, odd[0]) if odd else path,
            f"{name} does not say what to do" + (f"; {odd[0]} is no kind of step" if odd else ""),
            f"write {near[0]}" if near else f"add one of {', '.join(STEP_KINDS)}",
        )

    def _document_path(self, loc: tuple[Any, ...]) -> Path:
        """A Pydantic location without the names of union members, which are no keys of the document."""
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
            elif position == len(loc) - 1 and not isinstance(here, str | bool | int | float | list):
                path.append(part)
        return tuple(path)

    @staticmethod
    def _item(here: object, part: str | int) -> object:
        return here[part] if isinstance(here, list) and isinstance(part, int) else None

    def _known_keys(self, path: Path) -> list[str]:
        """The keys the language allows at a path."""
        here: object = self.source.data
        model: type[BaseModel] | None = Workflow
        for part in path:
            here = here[part] if isinstance(here, dict) else self._item(here, part)
            if isinstance(part, int) and isinstance(here, dict):
                kinds = step_kinds(here)
                model = next((m for m in STEP_MODELS if kinds and kinds[0] in m.model_fields), None)
                if "if" in here or ("else" in here and "step" not in here):
                    model = Arm
                if "trigger" in here:
                    model = Trigger
            elif isinstance(part, str) and model is not None:
                model = _inside(model, part)
        return _keys(model) if model else []


def _inside(model: type[BaseModel], key: str) -> type[BaseModel]:
    """The model of what stands under a key; the same when that has none."""
    inner = next((f for n, f in model.model_fields.items() if (f.alias or n) == key), None)
    candidates = [inner.annotation, *get_args(inner.annotation)] if inner else []
    nested = [c for c in candidates if isinstance(c, type) and issubclass(c, BaseModel)]
    return nested[0] if nested else model


def _keys(model: type[BaseModel]) -> list[str]:
    return [f.alias or n for n, f in model.model_fields.items()]


def _keys_at(model: type[BaseModel], path: Path) -> list[str]:
    """The keys that a model allows at a path below it."""
    for part in path:
        if isinstance(part, str):
            model = _inside(model, part)
    return _keys(model)
