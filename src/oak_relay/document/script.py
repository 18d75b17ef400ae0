"""The script: a document told as numbered, indented sentences."""

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Any

from oak_relay.document.models import (
    AnswerStep,
    AskStep,
    BaseStep,
    BranchStep,
    DoStep,
    EachStep,
    EmitStep,
    EventWait,
    FailStep,
    RepeatStep,
    RunStep,
    SetStep,
    StopStep,
    TogetherStep,
    WaitStep,
    Workflow,
)
from oak_relay.document.triggers import Trigger
from oak_relay.document.values import text_of

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

    def as_data(self) -> dict[str, Any]:
        return asdict(self)


def script(document: Workflow) -> list[Line]:
    """The lines of a document, in reading order."""
    lines = list(_lines(document.steps, "steps", "", "", 0))
    if document.always:
        lines.append(Line("+", 0, "always", "arm", "At the end, whatever happened", "always", "always"))
        lines += _lines(document.always, "always", "+", "always.", 1)
    return lines


def starters(document: Workflow) -> list[str]:
    """What starts the workflow, a sentence each."""
    return [_starter(trigger) for trigger in document.triggers] or ["A person or a client starts it"]


def _starter(trigger: Trigger) -> str:
    if trigger.webhook:
        proofs = {
            "signed": ", signed",
            "hmac": ", signed",
            "bearer": ", with a bearer token",
            "basic": ", with a password",
        }
        return f"A webhook at /hooks/{trigger.webhook.path}{proofs.get(trigger.webhook.verify.scheme, '')}"
    if trigger.schedule:
        when = trigger.schedule
        if when.every:
            return f"Every {when.every}"
        rule = f"cron {when.cron}" if when.cron else str(when.rrule)
        return f"On a schedule, {rule}, {when.zone}"
    if trigger.table:
        return f"{' or '.join(trigger.table.on).capitalize()} of a row in {trigger.table.table}"
    if trigger.poll:
        return f"A new item of {trigger.poll.do}, looked for every {trigger.poll.every}"
    if trigger.after:
        ended = "ended" if len(trigger.after.ended) == 4 else " or ".join(trigger.after.ended)
        return f"A run of {trigger.after.workflow} that {ended}"
    assert trigger.event is not None
    return f"An event {trigger.event.type}"


def _lines(steps: list[Any], path: str, numbers: str, trace: str, depth: int) -> Iterator[Line]:
    for index, step in enumerate(steps):
        here, number, span = f"{path}.{index}", f"{numbers}{index + 1}", f"{trace}{step.step}"
        yield Line(number, depth, step.step, step.kind, sentence(step), here, span, step.note)
        if isinstance(step, BranchStep):
            for at, arm in enumerate(step.branch):
                word = "Otherwise" if arm.else_ is not None else f"If {_bare(arm.if_)}"
                part = "else" if arm.else_ is not None else "steps"
                letter = chr(ord("a") + at % 26)
                where = f"{here}.branch.{at}"
                yield Line(f"{number}{letter}", depth + 1, step.step, "arm", word, where, f"{span}#{at}")
                yield from _lines(arm.body, f"{where}.{part}", f"{number}{letter}.", f"{span}.", depth + 2)
        elif isinstance(step, TogetherStep):
            for at, (name, strand) in enumerate(step.together.items()):
                letter = chr(ord("a") + at % 26)
                where = f"{here}.together.{name}"
                yield Line(
                    f"{number}{letter}", depth + 1, step.step, "strand", f"Beside: {name}", where, f"{span}.{name}"
                )
                yield from _lines(strand.steps, f"{where}.steps", f"{number}{letter}.", f"{span}.{name}.", depth + 2)
        elif isinstance(step, EachStep | RepeatStep):
            yield from _lines(step.steps, f"{here}.steps", f"{number}.", f"{span}[].", depth + 1)
        if isinstance(step.on_error, list):
            yield Line(f"{number}!", depth + 1, step.step, "arm", "If that fails", f"{here}.on_error", f"{span}!")
            yield from _lines(step.on_error, f"{here}.on_error", f"{number}!", f"{span}!.", depth + 2)


def sentence(step: BaseStep) -> str:
    """A step as one sentence."""
    text = _main_clause(step)
    if step.when is not None:
        text += f", when {_bare(step.when)}"
    if step.once is not None:
        text += ", only once ever"
    return text


def _main_clause(step: BaseStep) -> str:
    if isinstance(step, DoStep):
        return _do(step)
    if isinstance(step, SetStep):
        return f"Set {_listed(list(step.set))}"
    if isinstance(step, BranchStep):
        return "Take the first way that holds"
    if isinstance(step, EachStep):
        many = "" if step.width == 1 else f", {_NUMBERS[step.width] if step.width < 11 else step.width} at a time"
        return f"For each {step.as_} in {_bare(step.each)}{many}"
    if isinstance(step, RunStep):
        return f"Run {step.run}" if step.wait else f"Start {step.run} without waiting"
    if isinstance(step, TogetherStep):
        return f"Side by side: {_listed(list(step.together))}"
    if isinstance(step, RepeatStep):
        return f"Repeat until {_bare(step.repeat.until)}, at most {step.repeat.most} times"
    if isinstance(step, WaitStep) and isinstance(step.wait, EventWait):
        where = f" where {_bare(step.wait.where)}" if step.wait.where else ""
        within = f", at most {step.wait.within}" if step.wait.within else ""
        return f"Wait for the event {step.wait.event}{where}{within}"
    if isinstance(step, WaitStep):
        text = _bare(step.wait)
        return f"Wait until {text}" if "T" in text and text[:1].isdigit() else f"Wait {text}"
    if isinstance(step, AskStep):
        choices = f" ({', '.join(step.ask.choices)})" if step.ask.choices else ""
        return f"Ask a person: {_bare(step.ask.text)}{choices}"
    if isinstance(step, EmitStep):
        return f"Publish {step.emit.type}"
    if isinstance(step, AnswerStep):
        return f"Answer the caller with status {_bare(step.answer.status)}"
    if isinstance(step, StopStep):
        return "End the run here"
    if isinstance(step, FailStep):
        return f"Fail: {_bare(step.fail)}"
    return step.kind


def _do(step: DoStep) -> str:
    given = step.with_
    if step.do == "model.answer":
        return f"Ask {_bare(given.get('model'))} for {step.step}"
    if step.do == "model.label":
        return f"Have {_bare(given.get('model'))} label {_bare(given.get('text'))}"
    if step.do == "model.judge":
        return f"Have {_bare(given.get('model'))} judge: {_bare(given.get('question'))}"
    if step.do == "agent":
        return f"Let an agent work out {step.step}{_tools(given.get('tools'))}"
    if step.do == "http.request":
        return f"Send {_bare(given.get('method', 'GET'))} {_bare(given.get('url'))}"
    if step.do == "event.send":
        return f"Send the event {_bare(given.get('type'))} to {_bare(given.get('url'))}"
    verbs = {
        "table.add": "Add a row to",
        "table.upsert": "Add or update a row in",
        "table.find": "Find rows of",
        "table.delete": "Remove rows of",
    }
    if step.do in verbs:
        return f"{verbs[step.do]} {_bare(given.get('table'))}"
    return f"Do {step.do}"


def _tools(tools: Any) -> str:
    """The tools of an agent, by name."""
    named = [
        str(
            tool.get("name")
            or next((tool[k] for k in ("do", "run", "agent", "server", "table", "ask") if k in tool), "tool")
        )
        for tool in tools or ()
        if isinstance(tool, dict)
    ]
    return f" with {', '.join(named)}" if named else ""


def _bare(value: Any) -> str:
    text = " ".join(text_of(value).split())
    if text.startswith("${") and text.endswith("}") and text.count("${") == 1:
        text = text[2:-1].strip()
    return text if len(text) <= 70 else text[:67] + "…"


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + f" and {names[-1]}" if names else "nothing"
