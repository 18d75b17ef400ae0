"""The checker: what is wrong with a document, each with line, column, a sentence and a fix."""

import re
from collections.abc import Mapping
from collections.abc import Set as AbstractSet
from dataclasses import dataclass, field
from difflib import get_close_matches
from typing import Any, get_args

from jinja2 import nodes
from jsonschema import Draft202012Validator
from jsonschema.exceptions import SchemaError
from pydantic import BaseModel, ValidationError

from oak_relay.document import durations, shapes
from oak_relay.document.errors import Finding
from oak_relay.document.expressions import BadExpression, Expression, compile_text, is_template
from oak_relay.document.models import (
    STEP_KINDS,
    STEP_MODELS,
    TRIGGER_KINDS,
    AnswerStep,
    Arm,
    AskStep,
    BaseStep,
    BranchStep,
    DoStep,
    EachStep,
    EmitStep,
    EventWait,
    RepeatStep,
    RunStep,
    SetStep,
    TogetherStep,
    Trigger,
    WaitStep,
    Workflow,
    step_kinds,
)
from oak_relay.document.text import Path, Source, Unreadable, read

_SECRET = re.compile(r"(?i)^(bearer|basic) +[A-Za-z0-9._~+/=-]{12,}$|^(sk|pk|key|tok|whsec|oak)[-_][A-Za-z0-9_-]{16,}$")
_SECRET_KEY = re.compile(r"(?i)(api[-_]?key|secret|password|token|authorization)$")
_KIND_TAGS = frozenset(STEP_KINDS)
_STEP_LISTS = ("steps", "else", "on_error", "always")


@dataclass(frozen=True)
class ActionShape:
    """What the checker knows of an action: JSON Schemas of its input and output."""

    input: Mapping[str, Any]
    output: Mapping[str, Any]


@dataclass(frozen=True)
class World:
    """What documents may name. `None` for a set means it is not known and not checked."""

    actions: Mapping[str, ActionShape]
    models: frozenset[str] | None = None
    credentials: frozenset[str] | None = None
    tables: frozenset[str] | None = None
    workflows: frozenset[str] | None = None


@dataclass(frozen=True)
class Checked:
    """The document when it could be read whole, and all findings in order of line."""

    document: Workflow | None
    source: Source | None
    findings: list[Finding] = field(default_factory=list)

    @property
    def sound(self) -> bool:
        return not any(f.severity == "error" for f in self.findings)


def check(text: str, world: World) -> Checked:
    """Read and check a document."""
    try:
        source = read(text)
    except Unreadable as unreadable:
        return Checked(None, None, [unreadable.finding])
    checker = _Checker(source, world)
    document = checker.models()
    if document is not None:
        checker.whole(document)
    order = sorted(set(checker.findings), key=lambda f: (f.line, f.column))
    return Checked(document, source, order)


class _Checker:
    def __init__(self, source: Source, world: World) -> None:
        self.source = source
        self.world = world
        self.findings: list[Finding] = []
        self.used: set[str] = set()
        self.own_name = ""

    def add(self, path: Path, message: str, fix: str, severity: str = "error", line: int = 0) -> None:
        row, column = self.source.place(path)
        where = ".".join(str(p) for p in path)
        self.findings.append(Finding(row + line, column, message, fix, severity, where))  # type: ignore[arg-type]

    def models(self) -> Workflow | None:
        """Read the data through the models; the first pass."""
        try:
            return Workflow.model_validate(self.source.data)
        except ValidationError as error:
            for problem in error.errors(include_url=False):
                self._shape_problem(problem)
            return None

    def _shape_problem(self, problem: Any) -> None:
        path = self._document_path(problem["loc"])
        two_forms = path and path[-1] in ("wait", "on_error") and isinstance(problem["input"], dict | list)
        if two_forms and problem["type"] in ("string_type", "literal_error"):
            return  # the other form is meant, and says itself what is wrong
        kind, key = problem["type"], problem["loc"][-1] if problem["loc"] else ""
        if kind == "extra_forbidden":
            known = self._known_keys(path[:-1])
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
                "trigger": f"leave one of {', '.join(TRIGGER_KINDS)}",
            }
            message = f"{key}: {problem['msg'][0].lower()}{problem['msg'][1:]}"
            self.add(path, message, fixes.get(kind, "correct this value"))

    def _step_kind(self, path: Path, given: Any) -> None:
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
        here: Any = self.source.data
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
    def _item(here: Any, part: str | int) -> Any:
        return here[part] if isinstance(here, list) and isinstance(part, int) else None

    def _known_keys(self, path: Path) -> list[str]:
        """The keys the language allows at a path."""
        here: Any = self.source.data
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
                inner = next((f for n, f in model.model_fields.items() if (f.alias or n) == part), None)
                candidates = [inner.annotation, *get_args(inner.annotation)] if inner else []
                nested = [c for c in candidates if isinstance(c, type) and issubclass(c, BaseModel)]
                model = nested[0] if nested else model
        return [f.alias or n for n, f in model.model_fields.items()] if model else []

    # The second pass: names, references, actions.

    def whole(self, document: Workflow) -> None:
        self.own_name = document.workflow
        self._schema(("input",), document.input)
        self._schema(("settings",), document.settings)
        scope: dict[str, Mapping[str, Any]] = {
            "input": document.input or shapes.ANY,
            "settings": document.settings or shapes.object_of({}),
            "event": shapes.EVENT,
            "run": shapes.RUN,
            "now": shapes.ANY,
        }
        start = {k: v for k, v in scope.items() if k != "now"}
        self._texts(("subject",), document.subject, start)
        self._triggers(document)
        every = {step.step for _, step in _every_step(document)}
        scope = self._steps(("steps",), document.steps, scope, every)
        self._texts(("result",), document.result, scope, every)
        if document.always:
            late = {name: shapes.ANY if name in every else shape for name, shape in scope.items()}
            self._steps(("always",), document.always, {**late, "outcome": shapes.OUTCOME}, every)
        for path, step in _every_step(document):
            if isinstance(step, SetStep) and step.step not in self.used:
                self.add((*path, "step"), f"nothing uses {step.step}", "use it, or leave the step out", "warning")

    def _schema(self, path: Path, schema: dict[str, Any]) -> None:
        try:
            Draft202012Validator.check_schema(schema)
        except SchemaError as error:
            self.add(
                (*path, *error.absolute_path), f"this is not JSON Schema: {error.message}", "see JSON Schema 2020-12"
            )

    def _triggers(self, document: Workflow) -> None:
        names: set[str] = set()
        for index, trigger in enumerate(document.triggers):
            path: Path = ("triggers", index)
            if trigger.trigger in names:
                self.add((*path, "trigger"), f"there are two triggers {trigger.trigger}", "rename one")
            names.add(trigger.trigger)
            getattr(self, f"_{trigger.kind}_trigger", self._plain_trigger)((*path, trigger.kind), trigger)

    def _plain_trigger(self, path: Path, trigger: Trigger) -> None:
        given = getattr(trigger, trigger.kind)
        self._texts((*path, "where"), getattr(given, "where", None), {"arrived": shapes.ANY})

    def _webhook_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.webhook is not None
        for part in ("verify", "handshake"):
            given = getattr(trigger.webhook, part)
            if given is not None and given.credential:
                self._named((*path, part, "credential"), given.credential, self.world.credentials, "credential")

    def _schedule_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.schedule is not None
        self._texts((*path, "data"), trigger.schedule.data, {"event": shapes.EVENT})

    def _table_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.table is not None
        self._named((*path, "table"), trigger.table.table, self.world.tables, "table")
        self._plain_trigger(path, trigger)

    def _poll_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.poll is not None
        step = DoStep.model_validate({"step": "poll", "do": trigger.poll.do, "with": trigger.poll.with_})
        shape = self._do(path, step, {}, set())
        self._texts((*path, "items"), trigger.poll.items, {"arrived": shape})
        self._texts((*path, "key"), trigger.poll.key, {"arrived": shapes.ANY})

    def _after_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.after is not None
        self._named((*path, "workflow"), trigger.after.workflow, self.world.workflows, "workflow")

    def _steps(
        self, path: Path, steps: list[Any], scope: dict[str, Mapping[str, Any]], every: AbstractSet[str]
    ) -> dict[str, Mapping[str, Any]]:
        """Check steps in order; returns the scope behind them."""
        scope = dict(scope)
        ended: str | None = None
        for index, step in enumerate(steps):
            here = (*path, index)
            if ended:
                self.add(here, f"{step.step} is never reached: {ended} ends the run", "move it before, or leave it out")
                ended = None
            if step.step in scope:
                self.add((*here, "step"), f"the name {step.step} is taken", "choose another name")
            scope[step.step] = self._step(here, step, scope, every)
            if step.kind in ("stop", "fail") and step.when is None:
                ended = step.step
        return scope

    def _step(
        self, path: Path, step: BaseStep, scope: dict[str, Mapping[str, Any]], every: AbstractSet[str]
    ) -> Mapping[str, Any]:
        for key in ("when", "once"):
            self._texts((*path, key), getattr(step, key), scope, every)
        if isinstance(step.on_error, list):
            self._steps((*path, "on_error"), step.on_error, {**scope, "error": shapes.ERROR}, every)
        shape: Mapping[str, Any] = shapes.ANY
        if isinstance(step, DoStep):
            shape = self._do(path, step, scope, every)
        elif isinstance(step, SetStep):
            for key, value in step.set.items():
                self._texts((*path, "set", key), value, scope, every)
            shape = shapes.object_of({key: shapes.ANY for key in step.set})
        elif isinstance(step, BranchStep):
            self._branch(path, step, scope, every)
        elif isinstance(step, EachStep):
            self._texts((*path, "each"), step.each, scope, every)
            if step.as_ in scope:
                self.add((*path, "as"), f"the name {step.as_} is taken", "choose another name")
            inner = self._steps((*path, "steps"), step.steps, {**scope, step.as_: shapes.ANY}, every)
            self._texts((*path, "gives"), step.gives, inner, every)
            shape = {"type": "array"}
        elif isinstance(step, AnswerStep | EmitStep):
            self._texts((*path, step.kind), getattr(step, step.kind).model_dump(), scope, every)
        elif isinstance(step, RunStep):
            self._named((*path, "run"), step.run, self.world.workflows, "workflow")
            self._texts((*path, "with"), step.with_, scope, every)
            shape = shapes.ANY if step.wait else shapes.object_of({"run": shapes.ANY})
        elif isinstance(step, TogetherStep):
            for name, strand in step.together.items():
                here = (*path, "together", name)
                inner = self._steps((*here, "steps"), strand.steps, scope, every)
                self._texts((*here, "gives"), strand.gives, inner, every)
            shape = shapes.object_of({name: shapes.ANY for name in step.together})
        elif isinstance(step, RepeatStep):
            inner = self._steps((*path, "steps"), step.steps, {**scope, "last": shapes.ANY}, every)
            self._texts((*path, "gives"), step.gives, inner, every)
            self._texts((*path, "repeat", "until"), step.repeat.until, inner, every)
        elif isinstance(step, AskStep):
            self._texts((*path, "ask", "text"), step.ask.text, scope, every)
            if step.ask.form is not None:
                self._schema((*path, "ask", "form"), step.ask.form)
            shape = shapes.ANSWERED
        elif isinstance(step, WaitStep) and isinstance(step.wait, EventWait):
            inside = {**scope, "arrived": shapes.ANY}
            self._texts((*path, "wait", "where"), step.wait.where, inside, every)
        else:
            self._texts((*path, step.kind), getattr(step, step.kind), scope, every)
            self._wait(path, step)
        free = step.when is not None or step.on_error != "fail" or step.once is not None
        return shapes.ANY if free else shape

    def _wait(self, path: Path, step: BaseStep) -> None:
        text = getattr(step, "wait", None)
        if isinstance(text, str) and not is_template(text):
            try:
                durations.seconds(text)
            except ValueError:
                try:
                    durations.moment(text)
                except ValueError:
                    self.add(
                        (*path, "wait"),
                        f"{text!r} is neither a duration nor a moment",
                        "write 5m, PT5M or 2031-04-05T06:00:00Z",
                    )

    def _branch(
        self, path: Path, step: BranchStep, scope: dict[str, Mapping[str, Any]], every: AbstractSet[str]
    ) -> None:
        after: dict[str, Mapping[str, Any]] = {}
        for index, arm in enumerate(step.branch):
            here = (*path, "branch", index)
            if arm.else_ is not None and index < len(step.branch) - 1:
                self.add((*path, "branch", index + 1), "nothing behind `else` is reached", "put `else` last")
            self._texts((*here, "if"), arm.if_, scope, every)
            part = "else" if arm.else_ is not None else "steps"
            inner = self._steps((*here, part), arm.body, scope, every)
            self._texts((*here, "gives"), arm.gives, inner, every)
            after |= {name: shapes.ANY for name in inner if name not in scope}
            if isinstance(arm.if_, str) and is_template(arm.if_):
                self._free_text((*here, "if"), arm.if_, scope)
        scope |= after

    def _free_text(self, path: Path, text: str, scope: dict[str, Mapping[str, Any]]) -> None:
        try:
            expression = compile_text(text)
        except BadExpression:
            return
        for compare in expression.tree.find_all(nodes.Compare):
            if any(op.op in ("in", "notin") for op in compare.ops):
                for part in compare.find_all(nodes.Getattr):
                    if (
                        part.attr == "text"
                        and isinstance(part.node, nodes.Name)
                        and (scope.get(part.node.name, {}).get("x-free-text"))
                    ):
                        self.add(
                            path,
                            f"this tests a part of the model's free text {part.node.name}.text",
                            "use model.label, which gives one label of a closed set",
                            "warning",
                        )

    def _do(
        self, path: Path, step: DoStep, scope: dict[str, Mapping[str, Any]], every: AbstractSet[str]
    ) -> Mapping[str, Any]:
        for key, value in step.with_.items():
            self._texts((*path, "with", key), value, scope, every)
        action = self.world.actions.get(step.do)
        if action is None:
            near = get_close_matches(step.do, list(self.world.actions), 1)
            self.add(
                (*path, "do"),
                f"there is no action {step.do}",
                f"write {near[0]}" if near else f"use one of {', '.join(sorted(self.world.actions))}",
            )
            return shapes.ANY
        properties = action.input.get("properties", {})
        for key in step.with_:
            if key not in properties:
                near = get_close_matches(key, list(properties), 1)
                self.add(
                    (*path, "with", key),
                    f"{step.do} has no field {key}",
                    f"write {near[0]}" if near else f"use {', '.join(properties)}",
                )
        for key in action.input.get("required", []):
            if key not in step.with_:
                self.add((*path, "do"), f"{step.do} needs {key}", f"add {key}: under with:")
        for key, value in step.with_.items():
            if key in properties and not _has_template(value):
                self._literal(
                    (*path, "with", key), key, value, {**properties[key], "$defs": action.input.get("$defs", {})}
                )
        for key, known, word in (
            ("model", self.world.models, "model alias"),
            ("credential", self.world.credentials, "credential"),
            ("table", self.world.tables, "table"),
        ):
            if key in properties and isinstance(step.with_.get(key), str):
                self._named((*path, "with", key), step.with_[key], known, word)
        wanted = step.with_.get("gives")
        if step.do == "model.answer" and isinstance(wanted, dict) and not _has_template(wanted):
            output = dict(action.output)
            output["properties"] = {**output.get("properties", {}), "data": wanted}
            return output
        return {**action.output, "x-free-text": step.do == "model.answer"}

    def _literal(self, path: Path, key: str, value: Any, schema: Mapping[str, Any]) -> None:
        for error in Draft202012Validator(schema).iter_errors(value):
            self.add((*path, *error.absolute_path), f"{key}: {error.message}", "give a value of the right type")
            return

    def _named(self, path: Path, name: str, known: frozenset[str] | None, word: str) -> None:
        if known is None or is_template(name) or name in known or (word == "workflow" and name == self.own_name):
            return
        near = get_close_matches(name, list(known), 1)
        fix = f"write {near[0]}" if near else f"add the {word} {name} first"
        # Workflows may name each other, so the first of them to be saved names one that is not there yet.
        self.add(path, f"there is no {word} {name}", fix, "warning" if word == "workflow" else "error")

    def _texts(
        self, path: Path, value: Any, scope: Mapping[str, Mapping[str, Any]], every: AbstractSet[str] = frozenset()
    ) -> None:
        if isinstance(value, dict):
            for key, item in value.items():
                if (
                    isinstance(item, str)
                    and _SECRET_KEY.search(key)
                    and key != "credential"
                    and not is_template(item)
                    and len(item) >= 8
                ):
                    self._secret((*path, key))
                else:
                    self._texts((*path, key), item, scope, every)
        elif isinstance(value, list):
            for index, item in enumerate(value):
                self._texts((*path, index), item, scope, every)
        elif isinstance(value, str):
            if _SECRET.match(value):
                self._secret(path)
            if is_template(value):
                self._expression(path, value, scope, every)

    def _secret(self, path: Path) -> None:
        self.add(path, "a secret stands here in clear", "store it as a credential and name that")

    def _expression(
        self, path: Path, text: str, scope: Mapping[str, Mapping[str, Any]], every: AbstractSet[str]
    ) -> None:
        try:
            expression: Expression = compile_text(text)
        except BadExpression as error:
            self.add(path, str(error), "correct the expression", line=error.line)
            return
        wrong: set[str] = set()
        references = sorted(expression.references())
        for name in sorted(expression.names):
            self.used.add(name)
            if name not in scope:
                wrong.add(name)
                near = get_close_matches(name, list(scope), 1)
                if name in every:
                    self.add(
                        path,
                        f"{name} is not known here: it is a later step, or inside another one",
                        "move this step behind it, or use the outer step's name",
                    )
                else:
                    self.add(path, f"there is no {name}", f"write {near[0]}" if near else f"use {', '.join(scope)}")
        for name, *keys in references:
            if name in wrong or not keys:
                continue
            bad = shapes.misfit(scope[name], tuple(keys), name)
            if bad:
                fix = (
                    f"write {bad.near}"
                    if bad.near
                    else (f"it has {', '.join(bad.known)}" if bad.known else "it is no mapping")
                )
                owner, _, key = bad.path.rpartition(".")
                self.add(path, f"{owner} has no {key}", fix)


def _has_template(value: Any) -> bool:
    if isinstance(value, dict):
        return any(_has_template(v) for v in value.values())
    if isinstance(value, list):
        return any(_has_template(v) for v in value)
    return isinstance(value, str) and is_template(value)


def _every_step(document: Workflow) -> list[tuple[Path, BaseStep]]:
    return [found for root, steps in document.roots.items() for found in _with_paths((root,), steps)]


def _with_paths(path: Path, steps: list[Any]) -> list[tuple[Path, BaseStep]]:
    found: list[tuple[Path, BaseStep]] = []
    for index, step in enumerate(steps):
        found.append(((*path, index), step))
        for where, inner in step.inner():
            parts = tuple(int(p) if p.isdigit() else p for p in where.split("."))
            found += _with_paths((*path, index, *parts), inner)
    return found
