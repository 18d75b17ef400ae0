"""A document compiled once into an immutable tree of nodes with compiled expressions."""

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

from oak_relay.document import durations, models, shapes, values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template

REVISION = 2
"""What the engine's walks mean. A version records the least it needs (2: agents); an engine that cannot walk it does
not claim it."""
NOTHING = Template(None)


@dataclass(frozen=True, slots=True)
class RetryPlan:
    """`wait` and `most` in seconds."""

    tries: int
    wait: float
    factor: float
    most: float
    spread: float
    kinds: frozenset[str]

    def delay(self, failures: int, random: float, asked: float | None) -> float:
        """Seconds to wait after so many failures; what the other side asked for is the least."""
        delay = min(self.wait * self.factor ** (failures - 1), self.most)
        delay *= 1 + self.spread * (2 * random - 1)
        return max(delay, asked or 0.0)


USUAL_RETRY = RetryPlan(3, 1.0, 2.0, 30.0, 0.2, frozenset({"busy", "unavailable", "timeout"}))


@dataclass(frozen=True, slots=True)
class Way:
    """A list of steps inside a step: one arm of a branch (`condition` is None for `else`), or one strand of
    `together` with its name."""

    condition: Template | None
    steps: "tuple[Node, ...]"
    gives: Template
    name: str = ""


@dataclass(frozen=True, slots=True)
class Node:
    """One step. Which of the optional parts are set follows from `kind`. `place` is the path of its spans with
    `[]` for items and rounds; times in seconds."""

    name: str
    kind: str
    digest: str
    place: str = ""
    when: Template | None = None
    once: Template | None = None
    timeout: float | None = None
    on_error: "str | tuple[Node, ...]" = "fail"
    uses_now: bool = False
    body: Template = NOTHING
    action: str = ""
    retry: RetryPlan | None = None
    unknown: str = "ask"
    ways: tuple[Way, ...] = ()
    steps: "tuple[Node, ...]" = ()
    aside: "tuple[Node, ...]" = ()
    """What deals with words that are no answer."""
    item: str = ""
    width: int = 1
    failed: str = "stop"
    gives: Template = NOTHING
    until: Template | None = None
    most: int = 0
    within: float | None = None
    event: str = ""
    where: str | None = None
    waited: bool = True
    patient: bool = True
    """Whether the run rests when a credential or its credit is wanting, instead of failing."""
    fixed: dict[str, Any] = field(default_factory=dict)
    meant: "ByExample | None" = None
    """How an answer in any words finds its choice."""

    def lists(self) -> "Iterator[tuple[Node, ...]]":
        """The lists of steps inside."""
        yield self.steps
        yield self.aside
        for way in self.ways:
            yield way.steps
        if isinstance(self.on_error, tuple):
            yield self.on_error

    def templates(self) -> Iterator[Template]:
        """Its own texts."""
        for template in (self.body, self.when, self.once, self.gives, self.until):
            if template is not None:
                yield template
        for way in self.ways:
            if way.condition is not None:
                yield way.condition
            yield way.gives
        yield from (when for when in self.fixed.get("approve", ()) if isinstance(when, Template))
        if "named" in self.fixed:
            yield self.fixed["named"]


@dataclass(frozen=True, slots=True)
class ByExample:
    """Choices with phrases that mean them; the one where none of them is meant, and the model that is asked when it is unsure."""

    phrases: dict[str, list[str]]
    otherwise: str | None
    model: str | None


@dataclass(frozen=True, slots=True)
class Plan:
    """A compiled workflow. `time` in seconds, `money` in the workspace's currency."""

    workflow: str
    steps: tuple[Node, ...]
    subject: Template
    result: Template
    settings: dict[str, Any]
    time: float | None
    money: float | None
    names: frozenset[str]
    always: tuple[Node, ...] = ()
    at_once: int | None = None
    per_subject: str = "free"
    revision: int = 1
    fills: shapes.Fills = field(default_factory=dict)
    """Defaults of the input."""
    talks: bool = False
    """Whether its runs belong to conversations."""
    hears: str = ""
    """The model alias that writes voice notes down, where one is named."""
    inputs: Mapping[str, Template] = field(default_factory=dict)
    """Where voice notes are written down: how the input is made of what is said at a path, of triggers that say so."""
    takes: dict[str, object] = field(default_factory=dict)
    """The JSON Schema of the input."""
    sketches: tuple[str, ...] = ()
    """Steps that say only what is to be done: a plan with one is not walked."""


def compile_plan(document: models.Workflow) -> Plan:
    """Compile a checked document. Raises `BadExpression` for texts the checker would refuse."""
    steps, always = _nodes(document.steps), _nodes(document.always, "always.")
    subject, result = Template(document.subject), Template(document.result)
    limits, hears = document.limits, models.hears(document)
    return Plan(
        workflow=document.workflow,
        steps=steps,
        subject=subject,
        result=result,
        settings=shapes.defaults(document.settings),
        time=durations.seconds(limits.time) if limits.time else None,
        money=limits.money,
        names=subject.names | result.names | names_in(steps) | names_in(always) | ({"event"} if hears else set()),
        always=always,
        at_once=limits.at_once,
        per_subject="free" if document.subject is None else limits.per_subject,
        fills=shapes.fills(document.input),
        sketches=tuple(node.name for node in every_node((*steps, *always)) if node.kind == "todo"),
        talks=models.talks(document),
        hears=hears,
        inputs=_inputs(document) if hears else {},
        takes=document.input,
        revision=2 if any(node.kind == "agent" for node in every_node((*steps, *always))) else 1,
    )


def _inputs(document: models.Workflow) -> dict[str, Template]:
    return {
        str(trigger.given.get("path")): Template(trigger.input)
        for trigger in document.triggers
        if trigger.kind == "conversation" and isinstance(trigger.given, dict) and trigger.input is not None
    }


def complete(plan: Plan) -> None:
    """Raises `StepFailed` (`invalid`) for a plan with sketches: no run of it begins."""
    if plan.sketches:
        names = ", ".join(plan.sketches)
        message = f"{plan.workflow} is not done: {names} {'is a sketch' if len(plan.sketches) == 1 else 'are sketches'}"
        raise StepFailed("invalid", message, fix="say with do: and with: how each is done, in the place of todo:")


def streamed_step(plan: Plan, streams: Callable[[str], bool]) -> str:
    """The step whose words a caller may be told while they are being written: the last one, when the result is made of
    its text and nothing judges or approves it before it leaves; `streams` says which actions tell theirs. Empty for none."""
    last = plan.steps[-1]
    return last.name if _free(last, streams) and plan.result.names == {last.name} else ""


def spoken_steps(plan: Plan, streams: Callable[[str], bool]) -> frozenset[str]:
    """The steps whose words whoever talks may be told while they are being written: the next step says their text, as it is and in
    any case, and nothing judges or approves it before."""
    lists = [plan.steps, *(steps for node in every_node(plan.steps) for steps in node.lists())]
    pairs = (pair for steps in lists for pair in pairwise(steps))
    return frozenset(one.name for one, then in pairs if _free(one, streams) and _says(then, one.name))


def _free(node: Node, streams: Callable[[str], bool]) -> bool:
    """Whether what a step writes leaves it as it is being written."""
    asks = any(node.fixed.get("approve", ())) or bool(node.fixed.get("named", NOTHING).raw)
    held = isinstance(node.body.raw, dict) and node.body.raw.get("unkept", "mark") != "mark"
    return streams(node.action) and not asks and not held and node.on_error == "fail"


def _says(node: Node, name: str) -> bool:
    """Whether a step says the text of another, and nothing else."""
    if node.kind != "send" or node.when is not None or node.once is not None:
        return False
    text = node.body.raw["text"]
    return not node.body.raw.get("to") and isinstance(text, str) and re.sub(r"\s", "", text) == f"${{{name}.text}}"


def every_node(steps: tuple[Node, ...]) -> Iterator[Node]:
    """All nodes of a list of steps, outer before inner."""
    for node in steps:
        yield node
        for inner in node.lists():
            yield from every_node(inner)


def find_node(plan: Plan, name: str) -> Node | None:
    """The node at a place (`per_hut[].findings`), or else of a name, wherever it stands."""
    nodes = list(every_node((*plan.steps, *plan.always)))
    return next((n for n in nodes if n.place == name), None) or next((n for n in nodes if n.name == name), None)


def names_in(steps: tuple[Node, ...]) -> frozenset[str]:
    """The names that steps refer to."""
    return frozenset().union(*(t.names for node in every_node(steps) for t in node.templates()), *_wheres(steps))


def models_in(steps: tuple[Node, ...]) -> frozenset[str]:
    """The model aliases that actions among steps name outright."""
    given = (
        node.body.raw.get("model") for node in every_node(steps) if node.action and isinstance(node.body.raw, dict)
    )
    return frozenset(name for name in given if isinstance(name, str) and "${" not in name)


def _wheres(steps: tuple[Node, ...]) -> Iterator[frozenset[str]]:
    return (Template(node.where).names for node in every_node(steps) if node.where)


def _nodes(steps: "list[models.Step] | list[Any]", base: str = "") -> tuple[Node, ...]:
    return tuple(_node(step, f"{base}{step.step}") for step in steps)


def _node(step: models.BaseStep, place: str) -> Node:
    shape = values.dumps(step.model_dump(mode="json", by_alias=True, exclude={"note"}, exclude_defaults=True))
    parts: dict[str, Any] = {
        "name": step.step,
        "kind": step.kind,
        "digest": values.digest(step.kind, shape),
        "place": place,
        "when": None if step.when is None else Template(step.when),
        "once": None if step.once is None else Template(step.once),
        "timeout": _seconds(step.timeout),
        "on_error": _nodes(step.on_error, f"{place}!.") if isinstance(step.on_error, list) else step.on_error,
        **_parts(step, place),
    }
    node = Node(**parts)
    parts["uses_now"] = any("now" in t.names for t in node.templates())
    return Node(**parts) if parts["uses_now"] else node


def _parts(step: Any, place: str) -> dict[str, object]:
    """What a kind has of its own."""
    if isinstance(step, models.DoStep):
        parts = {"action": step.do, "unknown": step.unknown, "retry": _retry(step.retry)}
        if step.do == "agent":
            given, fixed = _agent(step.with_)
            return {**parts, "kind": "agent", "body": Template(given), "fixed": fixed}
        return {**parts, "body": Template(step.with_)}
    if isinstance(step, models.RunStep):
        given = {"workflow": step.run, "input": step.with_}
        return {"body": Template(given), "waited": step.wait, "retry": _retry(step.retry)}
    if isinstance(step, models.BranchStep):
        ways = (
            Way(None if a.if_ is None else Template(a.if_), _nodes(a.body, f"{place}."), Template(a.gives))
            for a in step.branch
        )
        return {"ways": tuple(ways)}
    if isinstance(step, models.EachStep):
        return {
            "body": Template(step.each),
            "steps": _nodes(step.steps, f"{place}[]."),
            "item": step.as_,
            "width": step.width,
            "failed": step.failed,
            "gives": Template(step.gives),
        }
    if isinstance(step, models.TogetherStep):
        strands = (
            Way(None, _nodes(s.steps, f"{place}.{name}."), Template(s.gives), name) for name, s in step.together.items()
        )
        return {"ways": tuple(strands)}
    if isinstance(step, models.RepeatStep):
        return {
            "steps": _nodes(step.steps, f"{place}[]."),
            "until": Template(step.repeat.until),
            "most": step.repeat.most,
            "gives": Template(step.gives),
        }
    if isinstance(step, models.WaitStep) and isinstance(step.wait, models.EventWait):
        wait = step.wait
        return {"event": wait.event, "where": wait.where, "within": _seconds(wait.within)}
    if isinstance(step, models.AskStep):
        return _question(step.ask, place)
    if isinstance(step, models.HandOverStep):
        fixed = {"at": "hand_over", "choices": None, "form": None, "then": step.given.then}
        return {"body": Template(step.given.text), "within": _seconds(step.given.within), "fixed": fixed}
    if isinstance(step, models.SendStep):
        said = {"text": step.send} if isinstance(step.send, str) else step.send.model_dump()
        return {"body": Template(said)}
    if isinstance(step, models.ReplyStep | models.EmitStep):
        return {"body": Template(getattr(step, step.kind).model_dump())}
    return {"body": Template(getattr(step, step.kind))}


def _question(ask: models.Ask, place: str) -> dict[str, object]:
    choices = None if ask.choices is None else list(ask.choices)
    return {
        "body": Template(ask.text),
        "within": _seconds(ask.within),
        "fixed": {"at": ask.at, "choices": choices, "form": ask.form, "then": ask.then},
        "meant": ByExample(ask.phrases, ask.otherwise, ask.model) if choices or ask.model else None,
        "steps": _nodes(ask.tell, f"{place}."),
        "aside": _nodes(ask.aside, f"{place}."),
    }


def _agent(given: dict[str, Any]) -> tuple[dict[str, object], dict[str, object]]:
    """An agent's `with` without what says when its tools must be approved, and that: `approve` of each tool, and what is
    `named` beside them. It is worked out when a call is made, so it does not belong to what is rendered at the beginning."""
    tools, approve = [], []
    for tool in given.get("tools") or []:
        when = tool.get("approve", False) if isinstance(tool, dict) else False
        approve.append(Template(when) if isinstance(when, str) else bool(when))
        tools.append({k: v for k, v in tool.items() if k != "approve"} if isinstance(tool, dict) else tool)
    rest = {k: v for k, v in given.items() if k not in ("approve", "tools")}
    fixed = {"approve": approve, "named": Template(given.get("approve"))}
    return {**rest, **({"tools": tools} if tools else {})}, fixed


def tool_node(
    owner: Node,
    action: str,
    name: str,
    retry: RetryPlan | None = None,
    timeout: float | None = None,
    patient: bool = True,
) -> Node:
    """An action that a step makes on its own account, such as a turn of an agent or a call of its tool."""
    return Node(
        name,
        "do",
        owner.digest,
        owner.place,
        action=action,
        retry=retry or USUAL_RETRY,
        timeout=timeout,
        patient=patient and owner.on_error == "fail",
    )


def _seconds(text: str | None) -> float | None:
    return durations.seconds(text) if text else None


def _retry(retry: models.Retry) -> RetryPlan:
    return RetryPlan(
        retry.tries,
        durations.seconds(retry.wait),
        retry.factor,
        durations.seconds(retry.most),
        retry.spread,
        frozenset(retry.kinds),
    )
