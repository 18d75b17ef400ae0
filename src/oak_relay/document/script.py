"""The script: a document told as numbered, indented sentences."""

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass
from typing import Any

from oak_relay.document.check_base import ActionShape, TriggerShape
from oak_relay.document.models import (
    AskStep,
    BaseStep,
    BranchStep,
    DoStep,
    EachStep,
    EmitStep,
    EventWait,
    FailStep,
    HandOverStep,
    RepeatStep,
    ReplyStep,
    RunStep,
    SendStep,
    SetStep,
    SketchStep,
    StopStep,
    TogetherStep,
    WaitStep,
    Workflow,
)
from oak_relay.document.triggers import Trigger
from oak_relay.document.values import in_brief

_NUMBERS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten")


@dataclass(frozen=True, slots=True)
class Line:
    """One sentence. `path` is where the step stands in the document, `trace` the path of its spans
    with `[]` for a list's items, `depth` counts from 0."""

    number: str
    depth: int
    step: str
    kind: str
    sentence: str
    path: str
    trace: str
    note: str = ""

    def as_data(self) -> dict[str, object]:
        """As JSON."""
        return asdict(self)


Actions = Mapping[str, ActionShape]


def script(document: Workflow, actions: Actions) -> list[Line]:
    """The lines of a document, in reading order."""
    lines = list(_lines(actions, document.steps, "steps", "", "", 0))
    if document.always:
        lines.append(Line("+", 0, "always", "arm", "At the end, whatever happened", "always", "always"))
        lines += _lines(actions, document.always, "always", "+", "always.", 1)
    return lines


def starters(document: Workflow, kinds: Mapping[str, TriggerShape]) -> list[str]:
    """What starts the workflow, a sentence each."""
    return [_starter(trigger, kinds) for trigger in document.triggers] or ["A person or a client starts it"]


def _starter(trigger: Trigger, kinds: Mapping[str, TriggerShape]) -> str:
    kind = kinds.get(trigger.kind)
    if kind is None:
        return f"A trigger of the kind {trigger.kind}, which is not installed"
    return kind.sentence(kind.model.model_validate(trigger.given))


def _lines(actions: Actions, steps: list[Any], path: str, numbers: str, trace: str, depth: int) -> Iterator[Line]:
    for index, step in enumerate(steps):
        here, number, span = f"{path}.{index}", f"{numbers}{index + 1}", f"{trace}{step.step}"
        yield Line(number, depth, step.step, step.kind, sentence(step, actions), here, span, step.note)
        if isinstance(step, BranchStep):
            for at, arm in enumerate(step.branch):
                word = "Otherwise" if arm.else_ is not None else f"If {in_brief(arm.if_)}"
                part = "else" if arm.else_ is not None else "steps"
                letter = chr(ord("a") + at % 26)
                where = f"{here}.branch.{at}"
                yield Line(f"{number}{letter}", depth + 1, step.step, "arm", word, where, f"{span}#{at}")
                yield from _lines(actions, arm.body, f"{where}.{part}", f"{number}{letter}.", f"{span}.", depth + 2)
        elif isinstance(step, TogetherStep):
            for at, (name, strand) in enumerate(step.together.items()):
                letter = chr(ord("a") + at % 26)
                where = f"{here}.together.{name}"
                yield Line(
                    f"{number}{letter}", depth + 1, step.step, "strand", f"Beside: {name}", where, f"{span}.{name}"
                )
                yield from _lines(
                    actions, strand.steps, f"{where}.steps", f"{number}{letter}.", f"{span}.{name}.", depth + 2
                )
        elif isinstance(step, EachStep | RepeatStep):
            yield from _lines(actions, step.steps, f"{here}.steps", f"{number}.", f"{span}[].", depth + 1)
        elif isinstance(step, AskStep):
            arms = (
                ("a", "tell", "Once it can be answered", step.ask.tell),
                ("b", "aside", "If something else is said", step.ask.aside),
            )
            for letter, key, said, inner in arms:
                if inner:
                    place = f"{here}.ask.{key}"
                    yield Line(f"{number}{letter}", depth + 1, step.step, "arm", said, place, f"{span}#{key}")
                    yield from _lines(actions, inner, place, f"{number}{letter}.", f"{span}.", depth + 2)
        if isinstance(step.on_error, list):
            yield Line(f"{number}!", depth + 1, step.step, "arm", "If that fails", f"{here}.on_error", f"{span}!")
            yield from _lines(actions, step.on_error, f"{here}.on_error", f"{number}!", f"{span}!.", depth + 2)


def sentence(step: BaseStep, actions: Actions) -> str:
    """A step as one sentence."""
    text = _main_clause(step, actions)
    if step.when is not None:
        text += f", when {in_brief(step.when)}"
    if step.once is not None:
        text += ", only once ever"
    return text


def _main_clause(step: BaseStep, actions: Actions) -> str:
    if isinstance(step, DoStep):
        known = actions.get(step.do)
        return f"Do {step.do}" if known is None else known.sentence(step.step, step.with_)
    if isinstance(step, SetStep):
        return f"Set {_listed(list(step.set))}"
    if isinstance(step, BranchStep):
        return "Choose the first that holds"
    if isinstance(step, EachStep):
        many = "" if step.width == 1 else f", {_NUMBERS[step.width] if step.width < 11 else step.width} at a time"
        return f"For each {step.as_} in {in_brief(step.each)}{many}"
    if isinstance(step, RunStep):
        return f"Run {step.run}" if step.wait else f"Start {step.run} without waiting"
    if isinstance(step, TogetherStep):
        return f"Side by side: {_listed(list(step.together))}"
    if isinstance(step, RepeatStep):
        return f"Repeat until {in_brief(step.repeat.until)}, at most {step.repeat.most} times"
    if isinstance(step, WaitStep) and isinstance(step.wait, EventWait):
        where = f" where {in_brief(step.wait.where)}" if step.wait.where else ""
        within = f", at most {step.wait.within}" if step.wait.within else ""
        return f"Wait for the event {step.wait.event}{where}{within}"
    if isinstance(step, WaitStep):
        text = in_brief(step.wait)
        return f"Wait until {text}" if "T" in text and text[:1].isdigit() else f"Wait {text}"
    if isinstance(step, AskStep):
        choices = f" ({', '.join(step.ask.choices)})" if step.ask.choices else ""
        whom = "who talks" if step.ask.at == "conversation" else "a person"
        return f"Ask {whom}: {in_brief(step.ask.text)}{choices}"
    if isinstance(step, SendStep):
        said = step.send if isinstance(step.send, str) else step.send.text
        to = None if isinstance(step.send, str) else step.send.to
        whom = f"{in_brief(to.chat)} on {to.path}" if to else ""
        if not said:
            return f"Send files to {whom or 'who talks'}"
        return f"Write to {whom}: {in_brief(said)}" if whom else f"Say {in_brief(said)}"
    if isinstance(step, HandOverStep):
        return f"Hand over to a person: {in_brief(step.given.text)}"
    if isinstance(step, EmitStep):
        return f"Publish {step.emit.type}"
    if isinstance(step, ReplyStep):
        return f"Reply to the caller with status {in_brief(step.reply.status)}"
    if isinstance(step, SketchStep):
        return f"To do: {in_brief(step.todo)}"
    if isinstance(step, StopStep):
        return "End the run here"
    if isinstance(step, FailStep):
        return f"Fail: {in_brief(step.fail)}"
    return step.kind


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + f" and {names[-1]}" if names else "nothing"
