"""A document compiled once into an immutable tree of nodes with compiled expressions."""

from dataclasses import dataclass, field
from typing import Any

from oak_relay.document import durations, models, shapes, values
from oak_relay.document.expressions import Template

REVISION = 1
"""What the engine's walks mean. A version records it; an engine that cannot walk it does not claim it."""


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


@dataclass(frozen=True, slots=True)
class Way:
    """One arm of a branch; `condition` is None for `else`."""

    condition: Template | None
    steps: "tuple[Node, ...]"
    gives: Template


@dataclass(frozen=True, slots=True)
class Node:
    """One step. Which of the optional parts are set follows from `kind`."""

    name: str
    kind: str
    digest: str
    when: Template | None = None
    once: Template | None = None
    timeout: float | None = None
    on_error: "str | tuple[Node, ...]" = "fail"
    uses_now: bool = False
    body: Template = field(default_factory=lambda: Template(None))
    action: str = ""
    retry: RetryPlan | None = None
    unknown: str = "fail"
    ways: tuple[Way, ...] = ()
    steps: "tuple[Node, ...]" = ()
    item: str = ""
    width: int = 1
    failed: str = "stop"
    gives: Template = field(default_factory=lambda: Template(None))


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
    revision: int = REVISION


def compile_plan(document: models.Workflow) -> Plan:
    """Compile a checked document. Raises `BadExpression` for texts the checker would refuse."""
    steps = _nodes(document.steps)
    subject, result = Template(document.subject), Template(document.result)
    names = frozenset().union(subject.names, result.names, *(_names(n) for n in steps))
    return Plan(
        workflow=document.workflow,
        steps=steps,
        subject=subject,
        result=result,
        settings=shapes.defaults(document.settings),
        time=durations.seconds(document.limits.time) if document.limits.time else None,
        money=document.limits.money,
        names=names,
    )


def find_node(steps: tuple[Node, ...], name: str) -> Node | None:
    """The node of a step, wherever it stands."""
    for node in steps:
        inner = [node.steps, *(way.steps for way in node.ways)]
        if isinstance(node.on_error, tuple):
            inner.append(node.on_error)
        found = node if node.name == name else next((f for s in inner if (f := find_node(s, name))), None)
        if found:
            return found
    return None


def _nodes(steps: "list[models.Step] | list[Any]") -> tuple[Node, ...]:
    return tuple(_node(step) for step in steps)


def _node(step: models.BaseStep) -> Node:
    shape = values.dumps(step.model_dump(mode="json", by_alias=True, exclude={"note"}, exclude_defaults=True))
    parts: dict[str, Any] = {
        "name": step.step,
        "kind": step.kind,
        "digest": values.digest(step.kind, shape),
        "when": None if step.when is None else Template(step.when),
        "once": None if step.once is None else Template(step.once),
        "timeout": durations.seconds(step.timeout) if step.timeout else None,
        "on_error": _nodes(step.on_error) if isinstance(step.on_error, list) else step.on_error,
    }
    if isinstance(step, models.DoStep):
        retry = step.retry
        parts |= {
            "body": Template(step.with_),
            "action": step.do,
            "unknown": step.unknown,
            "retry": RetryPlan(
                retry.tries,
                durations.seconds(retry.wait),
                retry.factor,
                durations.seconds(retry.most),
                retry.spread,
                frozenset(retry.kinds),
            ),
        }
    elif isinstance(step, models.BranchStep):
        parts["ways"] = tuple(
            Way(None if arm.if_ is None else Template(arm.if_), _nodes(arm.body), Template(arm.gives))
            for arm in step.branch
        )
    elif isinstance(step, models.EachStep):
        parts |= {
            "body": Template(step.each),
            "steps": _nodes(step.steps),
            "item": step.as_,
            "width": step.width,
            "failed": step.failed,
            "gives": Template(step.gives),
        }
    elif isinstance(step, models.AnswerStep):
        parts["body"] = Template(step.answer.model_dump())
    else:
        parts["body"] = Template(getattr(step, step.kind))
    own = [parts.get("body"), parts["when"], parts["once"], parts.get("gives")]
    own += [t for way in parts.get("ways", ()) for t in (way.condition, way.gives)]
    parts["uses_now"] = any(t is not None and "now" in t.names for t in own)
    return Node(**parts)


def _names(node: Node) -> frozenset[str]:
    own = [node.body, node.when, node.once, node.gives, *(t for w in node.ways for t in (w.condition, w.gives))]
    inner = [*node.steps, *(n for w in node.ways for n in w.steps)]
    if isinstance(node.on_error, tuple):
        inner += node.on_error
    return frozenset().union(*(t.names for t in own if t), *(_names(n) for n in inner))
