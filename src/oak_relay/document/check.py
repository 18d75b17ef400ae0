"""The checker: what is wrong with a document, each with line, column, a sentence and a fix."""

import re
from collections.abc import Set as AbstractSet
from dataclasses import dataclass, field
from typing import Any

from oak_relay.document import durations, shapes, values
from oak_relay.document.check_base import Schema, World
from oak_relay.document.check_form import Form
from oak_relay.document.check_names import guards_of
from oak_relay.document.errors import Finding
from oak_relay.document.expressions import holds_template, is_template
from oak_relay.document.models import (
    SAID,
    AskStep,
    BaseStep,
    BranchStep,
    DoStep,
    EachStep,
    EmitStep,
    EventWait,
    HandOverStep,
    RepeatStep,
    ReplyStep,
    RunStep,
    SendStep,
    SetStep,
    SketchStep,
    TogetherStep,
    WaitStep,
    Workflow,
    talks,
)
from oak_relay.document.numbers import whole
from oak_relay.document.schemas import validator
from oak_relay.document.text import Path, Source, Unreadable, read

_FACT = re.compile(r"conversation\.facts\.([A-Za-z_]\w*)")
_MOST = 40
"""Findings that are told of one document."""


@dataclass(frozen=True)
class Checked:
    """The document when it could be read whole, and all findings in order of line."""

    document: Workflow | None
    source: Source | None
    findings: list[Finding] = field(default_factory=list)

    @property
    def sound(self) -> bool:
        """Whether nothing is wrong with it; warnings are no mistakes."""
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
    if len(order) > _MOST:
        more = f"{len(order) - _MOST:,} more were found"
        rest = min((f.severity for f in order[_MOST:]), key=("error", "warning").index)
        order = [*order[:_MOST], Finding(order[_MOST].line, 1, more, "correct the first ones, and look again", rest)]
    return Checked(document, source, order)


def name_of(text: str) -> str:
    """The name of the workflow or agent that a document says; empty where it cannot be read."""
    try:
        data = read(text).data
    except Unreadable:
        return ""
    found = data.get("workflow", data.get("agent")) if isinstance(data, dict) else None
    return found if isinstance(found, str) else ""


def _says(step: BaseStep) -> bool:
    """Whether a step says something in the run's conversation."""
    return isinstance(step, SendStep | HandOverStep) or (isinstance(step, AskStep) and step.ask.at == "conversation")


class _Checker(Form):
    """The second pass: names, references, actions."""

    def whole(self, document: Workflow) -> None:
        self.own_name = document.workflow
        self.limited = document.limits.money is not None
        for name, schema in (("input", document.input), ("settings", document.settings)):
            self._schema((name,), schema)
            self._required((name,), schema)
        scope: dict[str, Schema] = {
            "input": document.input or shapes.ANY,
            "settings": document.settings or shapes.object_of({}),
            "event": shapes.EVENT,
            "run": shapes.RUN,
            "now": shapes.ANY,
        }
        self.talks = talks(document)
        if self.talks:
            scope["conversation"] = shapes.CONVERSATION
        start = {k: v for k, v in scope.items() if k != "now"}
        self.texts(("subject",), document.subject, start)
        self._triggers(document)
        every = {step.step for _, step in _every_step(document)}
        scope = self._steps(("steps",), document.steps, scope, every)
        self.texts(("result",), document.result, scope, every)
        if document.always:
            late = {name: shapes.ANY if name in every else shape for name, shape in scope.items()}
            self._steps(("always",), document.always, {**late, "outcome": shapes.OUTCOME}, every)
        if self.talks and not any(_says(step) for _, step in _every_step(document)):
            message, fix = (
                "nothing here answers who talks",
                "add a step with send: ${ … }, which says something to them",
            )
            self.add(("triggers",), message, fix, "warning")
        if self.talks:
            self._facts(document)
            self._said(document)
        for path, step in _every_step(document):
            if isinstance(step, DoStep) and step.do == "agent":
                self.memory_order(path, step, document)
            if isinstance(step, SetStep) and step.step not in self.used:
                self.add((*path, "step"), f"nothing uses {step.step}", "use it, or leave the step out", "warning")

    def _said(self, document: Workflow) -> None:
        """What the input needs and nobody says."""
        filled = {*SAID, *shapes.defaults(document.input)}
        lacking = [name for name in shapes.required(document.input) if name not in filled]
        for place, trigger in enumerate(document.triggers):
            if lacking and trigger.kind == "conversation" and trigger.input is None:
                message = f"what is said has no {lacking[0]}, which the input needs: it is {', '.join(SAID)}"
                fix = f"add input: {{{lacking[0]}: ${{ event.data.text }}}} beside conversation:, or leave {lacking[0]} out of the input"
                self.add(("triggers", place, "conversation"), message, fix)

    def _facts(self, document: Workflow) -> None:
        """What is read of who talks and kept by nothing here. Where an agent keeps what it likes, or a name is worked out, nobody knows."""
        texts = [
            (path, step, values.dumps(step.model_dump(by_alias=True, exclude_unset=True)))
            for path, step in _every_step(document)
        ]
        kept = {
            str(step.with_.get("name"))
            for _, step, _ in texts
            if isinstance(step, DoStep) and step.do == "conversation.keep"
        }
        agents = [text for _, step, text in texts if isinstance(step, DoStep) and step.do == "agent"]
        if any("${" in name for name in kept) or any(
            '"facts":true' in one or "conversation.keep" in one for one in agents
        ):
            return
        for path, _, text in reversed(texts):  # inner steps before those that hold them
            for name in sorted(set(_FACT.findall(text)) - kept):
                fix = f"add do: conversation.keep with name: {name}; or another workflow keeps it"
                self.add(path, f"nothing here keeps {name} of who talks", fix, "warning")
                kept.add(name)

    def _steps(
        self, path: Path, steps: list[Any], scope: dict[str, Schema], every: AbstractSet[str]
    ) -> dict[str, Schema]:
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

    def _step(self, path: Path, step: BaseStep, scope: dict[str, Schema], every: AbstractSet[str]) -> Schema:
        self.condition((*path, "when"), step.when, scope, every)
        outer = len(self.guards)
        self.guards += guards_of(step.when)
        shape = self._kind(path, step, scope, every)
        del self.guards[outer:]
        return shape

    def _kind(self, path: Path, step: BaseStep, scope: dict[str, Schema], every: AbstractSet[str]) -> Schema:
        self.texts((*path, "once"), step.once, scope, every)
        if isinstance(step.on_error, list):
            self._steps((*path, "on_error"), step.on_error, {**scope, "error": shapes.ERROR}, every)
        shape: Schema = shapes.ANY
        if isinstance(step, DoStep):
            shape = self._do(path, step, scope, every)
        elif isinstance(step, SetStep):
            for key, value in step.set.items():
                self.texts((*path, "set", key), value, scope, every)
            shape = shapes.object_of({key: shapes.ANY for key in step.set})
        elif isinstance(step, BranchStep):
            self._branch(path, step, scope, every)
        elif isinstance(step, EachStep):
            self._each(path, step, scope, every)
            shape = {"type": "array"}
        elif isinstance(step, SendStep):
            self._send(path, step, scope, every)
            shape = shapes.object_of({"id": {"type": "string"}})
        elif isinstance(step, ReplyStep | EmitStep):
            self.texts((*path, step.kind), getattr(step, step.kind).model_dump(), scope, every)
        elif isinstance(step, RunStep):
            self.named((*path, "run"), step.run, self.world.workflows, "workflow")
            self.texts((*path, "with"), step.with_, scope, every)
            shape = shapes.ANY if step.wait else shapes.object_of({"run": shapes.ANY})
        elif isinstance(step, TogetherStep):
            for name, strand in step.together.items():
                here = (*path, "together", name)
                inner = self._steps((*here, "steps"), strand.steps, scope, every)
                self.texts((*here, "gives"), strand.gives, inner, every)
            shape = shapes.object_of({name: shapes.ANY for name in step.together})
        elif isinstance(step, RepeatStep):
            inner = self._steps((*path, "steps"), step.steps, {**scope, "last": shapes.ANY}, every)
            self.texts((*path, "gives"), step.gives, inner, every)
            self.condition((*path, "repeat", "until"), step.repeat.until, inner, every)
        elif isinstance(step, HandOverStep):
            self.texts((*path, "hand_over"), step.given.text, scope, every)
            self._answerable((*path, "hand_over"), step)
            shape = shapes.HANDED_BACK
        elif isinstance(step, AskStep):
            self._ask(path, step, scope, every)
            shape = shapes.ANSWERED
        elif isinstance(step, SketchStep):
            self.add(
                (*path, "todo"),
                f"{step.step} is a sketch: no run begins before it is done",
                "write do: and with:",
                "warning",
            )
        elif isinstance(step, WaitStep) and isinstance(step.wait, EventWait):
            inside = {**scope, "arrived": shapes.ANY}
            self.condition((*path, "wait", "where"), step.wait.where, inside, every)
        else:
            self.texts((*path, step.kind), getattr(step, step.kind), scope, every)
            self._wait(path, step)
        free = step.when is not None or step.on_error != "fail" or step.once is not None
        return shapes.ANY if free else shape

    def _each(self, path: Path, step: EachStep, scope: dict[str, Schema], every: AbstractSet[str]) -> None:
        self.texts((*path, "each"), step.each, scope, every)
        if step.as_ in scope:
            self.add((*path, "as"), f"the name {step.as_} is taken", "choose another name")
        inner = self._steps((*path, "steps"), step.steps, {**scope, step.as_: shapes.ANY}, every)
        self.texts((*path, "gives"), step.gives, inner, every)

    def _ask(self, path: Path, step: AskStep, scope: dict[str, Schema], every: AbstractSet[str]) -> None:
        self.texts((*path, "ask", "text"), step.ask.text, scope, every)
        inside = {**scope, "question": shapes.QUESTION if step.ask.at == "link" else shapes.TOLD}
        self._steps((*path, "ask", "tell"), step.ask.tell, inside, every)
        self._steps((*path, "ask", "aside"), step.ask.aside, {**scope, "aside": shapes.ASIDE}, every)
        if step.ask.at == "conversation":
            self._answerable((*path, "ask", "at"), step)
        if step.ask.form is not None:
            self._schema((*path, "ask", "form"), step.ask.form)

    def _send(self, path: Path, step: SendStep, scope: dict[str, Schema], every: AbstractSet[str]) -> None:
        given = step.send if isinstance(step.send, str) else step.send.model_dump()
        self.texts((*path, "send"), given, scope, every)
        if isinstance(step.send, str) or step.send.to is None:
            self._answerable((*path, "send"), step)

    def _answerable(self, path: Path, step: BaseStep) -> None:
        if not self.talks:
            message = f"{step.step} has nobody to say it to: nothing here begins by what somebody says"
            self.add(path, message, "add a conversation trigger")

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

    def _branch(self, path: Path, step: BranchStep, scope: dict[str, Schema], every: AbstractSet[str]) -> None:
        after: dict[str, Schema] = {}
        for index, arm in enumerate(step.branch):
            here = (*path, "branch", index)
            if arm.else_ is not None and index < len(step.branch) - 1:
                self.add((*path, "branch", index + 1), "nothing behind `else` is reached", "put `else` last")
            self.condition((*here, "if"), arm.if_, scope, every)
            part = "else" if arm.else_ is not None else "steps"
            outer = len(self.guards)
            self.guards += guards_of(arm.if_)
            inner = self._steps((*here, part), arm.body, scope, every)
            self.texts((*here, "gives"), arm.gives, inner, every)
            del self.guards[outer:]
            after |= {name: shapes.ANY for name in inner if name not in scope}
        scope |= after

    def _do(self, path: Path, step: DoStep, scope: dict[str, Schema], every: AbstractSet[str]) -> Schema:
        for key, value in step.with_.items():
            if self.written((*path, "with", key), step.do, key, value):
                continue
            if step.do != "agent" or key not in ("tools", "approve"):
                self.texts((*path, "with", key), value, scope, every)
        if step.do == "agent":
            self.agent(path, step, scope, every)
        action = self.world.actions.get(step.do)
        if action is None:
            self.no_action((*path, "do"), step.do)
            return shapes.ANY
        properties = shapes.properties(action.input)
        for key in self.fields((*path, "with"), step.do, action, step.with_):
            self.add((*path, "do"), f"{step.do} needs {key}", f"add {key}: under with:")
        for key, value in step.with_.items():
            if properties.get(key, {}).get("columns"):
                self.columns((*path, "with", key), step.with_.get("table"), value)
            if key in properties and not holds_template(value):
                self._literal(
                    (*path, "with", key), key, value, {**properties[key], "$defs": action.input.get("$defs", {})}
                )
        self.faults((*path, "with"), action, step.with_)
        if step.unknown == "repeat" and action.repeat(step.with_) == "unsafe":
            self.add(
                (*path, "unknown"),
                f"{step.do} may then be done twice: it cannot be repeated without harm",
                "leave it out to be asked, say repeat: keyed if the other side honours a key, or give look:",
                "warning",
            )
        for key, known, word in (
            ("model", self.world.models, "model alias"),
            ("credential", self.world.credentials, "credential"),
            ("table", self.world.tables, "table"),
        ):
            named = step.with_.get(key)
            if key in properties and isinstance(named, str):
                self.named((*path, "with", key), named, known, word)
        self.credential_kind((*path, "with", "credential"), step.do, action, step.with_.get("credential"))
        gives = step.with_.get("gives")
        if "gives" in properties and isinstance(gives, dict) and not holds_template(gives):
            self._schema((*path, "with", "gives"), gives)
            self._required((*path, "with", "gives"), gives)
        self._priced(path, step)
        return action.gives(step.with_)

    def _priced(self, path: Path, step: DoStep) -> None:
        """A limit of money can only be kept where it is known what a model costs."""
        model, limits = step.with_.get("model"), step.with_.get("limits")
        own = isinstance(limits, dict) and limits.get("money") is not None
        if isinstance(model, str) and model in self.world.unpriced and (self.limited or own):
            self.add(
                (*path, "with", "model"),
                f"money is limited here, and the price of {model} or of one of its fallbacks is not known",
                "give the model alias its prices (0 for one that is free), or leave out limits: money",
            )

    def _literal(self, path: Path, key: str, value: object, schema: Schema) -> None:
        misfit = next(validator(schema).misfits(value), None)
        if misfit is not None:
            self.add((*path, *misfit.path), f"{key}: {misfit.message}", misfit.fix)


def _every_step(document: Workflow) -> list[tuple[Path, BaseStep]]:
    return [found for root, steps in document.roots.items() for found in _with_paths((root,), steps)]


def _with_paths(path: Path, steps: list[Any]) -> list[tuple[Path, BaseStep]]:
    found: list[tuple[Path, BaseStep]] = []
    for index, step in enumerate(steps):
        found.append(((*path, index), step))
        for where, inner in step.inner():
            parts = tuple(p if (n := whole(p)) is None else n for p in where.split("."))
            found += _with_paths((*path, index, *parts), inner)
    return found
