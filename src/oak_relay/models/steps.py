"""`model.answer`, `model.label` and `model.judge`."""

from collections.abc import Mapping, Sequence
from typing import Any

from pydantic import BaseModel, Field

from oak_relay.actions.base import Action, Fields, Given
from oak_relay.capabilities.alias import Alias
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Asking
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import holds_template
from oak_relay.document.shapes import Schema, answer_in, properties
from oak_relay.document.values import in_brief
from oak_relay.messages import Content, Message
from oak_relay.models.chat import Ask, Reply, complete, foreseen, size_of
from oak_relay.models.files import File, content, listed
from oak_relay.usage import NOTHING

REPAIRS = 2


class AnswerInput(Fields):
    model: str = Field(description="Name of a model alias.")
    brief: str = Field("", description="Who the model is and what it must keep to.")
    prompt: str = Field(description="What it is asked.")
    files: list[File] = Field(default_factory=list, max_length=20, description="Pictures and files to look at.")
    gives: dict[str, object] | None = Field(None, description="JSON Schema that the answer must be valid against.")
    temperature: float | None = Field(None, ge=0, le=2)
    max_tokens: int | None = Field(None, ge=1, le=200_000)


class Answered(BaseModel):
    text: str
    data: object = None
    reasoning: str = ""
    tokens: int
    money: float | None = Field(description="What it cost; None when the model's price is not known.")


class Meaning(Fields):
    means: str = Field(description="What the label means.")
    examples: list[str] = Field(default_factory=list, max_length=20, description="Texts that have it.")


class LabelInput(Fields):
    model: str = Field(description="Name of a model alias.")
    text: str = Field(description="What is to be labelled.")
    labels: dict[str, str | Meaning] = Field(
        min_length=2, description="Each label and what it means, or {means, examples}."
    )
    otherwise: str | None = Field(None, description="The label when none of these fits.")
    brief: str = Field("", description="What to look at when choosing.")

    @property
    def names(self) -> list[str]:
        """All labels that may be given."""
        return [*self.labels, *([self.otherwise] if self.otherwise and self.otherwise not in self.labels else [])]


class Labelled(BaseModel):
    label: str
    confidence: float | None = Field(description="From 0 to 1, as the model judges it; None when it does not say.")
    tokens: int
    money: float | None = Field(description="What it cost; None when the model's price is not known.")


class JudgeInput(Fields):
    model: str = Field(description="Name of a model alias.")
    question: str = Field(description="What must be true of the answer.")
    answer: str = Field(description="What is judged.")
    context: str = Field("", description="What else must be known to judge it.")


class Judged(BaseModel):
    passed: bool
    reason: str
    tokens: int
    money: float | None = Field(description="What it cost; None when the model's price is not known.")


def judge_messages(given: JudgeInput) -> list[Message]:
    """The messages as they are sent."""
    system = f'You judge an answer. {given.question}\nAnswer with JSON: {{"passed": true or false, "reason": "one sentence"}}'
    context = f"{given.context}\n\n" if given.context else ""
    return [{"role": "system", "content": system}, {"role": "user", "content": f"{context}The answer: {given.answer}"}]


def answer_messages(given: AnswerInput) -> list[Message]:
    """The messages as they are sent; files are named alone, they are fetched when it comes to that."""
    asked: str | list[Content] = given.prompt
    if given.files:
        asked = [{"type": "text", "text": given.prompt}, *listed(given.files)]
    return _answer_messages(given, asked)


def _answer_messages(given: AnswerInput, asked: str | list[Content]) -> list[Message]:
    system: list[Message] = [{"role": "system", "content": given.brief}] if given.brief else []
    return [*system, {"role": "user", "content": asked}]


def label_messages(given: LabelInput) -> list[Message]:
    """The messages as they are sent."""
    lines = []
    for name, meaning in given.labels.items():
        means, examples = (meaning, []) if isinstance(meaning, str) else (meaning.means, meaning.examples)
        lines.append(f"- {name}: {means}")
        lines += [f"  for example: {' '.join(example.split())}" for example in examples]
    if given.otherwise and given.otherwise not in given.labels:
        lines.append(f"- {given.otherwise}: none of these")
    brief = f"{given.brief}\n" if given.brief else ""
    asked = 'Answer with JSON: {"label": "…", "confidence": a number from 0 to 1}'
    system = f"{brief}Choose the one label that fits the text best.\n{chr(10).join(lines)}\n{asked}"
    return [{"role": "system", "content": system}, {"role": "user", "content": given.text}]


async def _answer(given: AnswerInput, at: Asking) -> Result:
    alias: Alias = await at.model(given.model)
    asked = await content(given.prompt, given.files, given.model, alias, at)
    talk = _Talk(given.model, alias, at, _answer_messages(given, asked))
    reply = await talk.turn(given.gives, given.max_tokens, given.temperature)
    data: object = None
    if given.gives is not None:
        data = await talk.shaped(reply, given.gives, given.max_tokens, given.temperature)
    return talk.result({"text": talk.last.text, "data": data, "reasoning": talk.last.reasoning})


def _label_schema(given: LabelInput) -> dict[str, object]:
    return {
        "type": "object",
        "required": ["label"],
        "additionalProperties": False,
        "properties": {"label": {"enum": given.names}, "confidence": {"type": "number", "minimum": 0, "maximum": 1}},
    }


async def _label(given: LabelInput, at: Asking) -> Result:
    alias: Alias = await at.model(given.model)
    schema = _label_schema(given)
    talk = _Talk(given.model, alias, at, label_messages(given))
    reply = await talk.turn(schema)
    bare = reply.text.strip().strip("\"'.*` ").lower()
    exact = next((name for name in given.names if name.lower() == bare), None)
    found = {"label": exact} if exact else await talk.shaped(reply, schema)
    return talk.result({"label": found["label"], "confidence": found.get("confidence")})


_VERDICT = {
    "type": "object",
    "required": ["passed", "reason"],
    "additionalProperties": False,
    "properties": {"passed": {"type": "boolean"}, "reason": {"type": "string"}},
}


async def _judge(given: JudgeInput, at: Asking) -> Result:
    alias: Alias = await at.model(given.model)
    talk = _Talk(given.model, alias, at, judge_messages(given))
    return talk.result(dict(await talk.shaped(await talk.turn(_VERDICT), _VERDICT)))


async def _judge_worst(given: JudgeInput, at: Asking) -> float | None:
    return _worst(await at.model(given.model), judge_messages(given), _VERDICT, None)


async def _answer_worst(given: AnswerInput, at: Asking) -> float | None:
    return _worst(await at.model(given.model), answer_messages(given), given.gives, given.max_tokens)


async def _label_worst(given: LabelInput, at: Asking) -> float | None:
    return _worst(await at.model(given.model), label_messages(given), _label_schema(given), None)


def _worst(
    alias: Alias, messages: Sequence[Message], schema: dict[str, object] | None, most: int | None
) -> float | None:
    """The most a first turn may cost; turns of repair are weighed when they come."""
    return alias.worst(size_of(messages, [], schema), most or alias.max_tokens)


class _Talk:
    """The turns of one step with one model; sums up what they cost."""

    def __init__(self, name: str, alias: Alias, at: Asking, messages: list[Message]) -> None:
        self.name, self.alias, self.at, self.messages = name, alias, at, messages
        self.turns: list[dict[str, object]] = []
        self.usage = NOTHING
        self.last: Reply

    async def turn(
        self, schema: dict[str, object] | None, max_tokens: int | None = None, temperature: float | None = None
    ) -> Reply:
        try:
            ask = Ask(list(self.messages), schema, max_tokens, temperature)
            self.last = await complete(self.name, self.alias, ask, self.at)
        except StepFailed as failed:
            self.usage = failed.usage = self.usage.plus(failed.usage)
            failed.detail = {"turns": [*self.turns, failed.detail]}
            raise
        self.usage = self.usage.plus(self.last.usage)
        self.turns.append(self.last.detail)
        return self.last

    async def shaped(
        self, reply: Reply, schema: dict[str, object], max_tokens: int | None = None, temperature: float | None = None
    ) -> Any:
        """The reply as data valid against a schema; the model is told what was wrong and asked again."""
        for _ in range(REPAIRS):
            data, wrong = answer_in(reply.text, schema)
            if not wrong:
                return data
            self.messages += [
                {"role": "assistant", "content": reply.text},
                {
                    "role": "user",
                    "content": f"That does not fit: {wrong}. Answer with JSON alone that fits the schema.",
                },
            ]
            reply = await self.turn(schema, max_tokens, temperature)
        data, wrong = answer_in(reply.text, schema)
        if wrong:
            raise StepFailed(
                "wrong_shape",
                f"{self.name} did not give what was asked for: {wrong}",
                fix="simplify the schema, or take another model",
                reached="yes",
                detail={"turns": self.turns},
                usage=self.usage,
            )
        return data

    def result(self, output: dict[str, object]) -> Result:
        result = {**output, "tokens": self.usage.tokens, "money": self.usage.money}
        return Result(result, {"turns": self.turns}, self.usage)


def _answer_gives(given: Given, output: Schema) -> Schema:
    """What an answer is: with `gives` its data is what that says, without it is a free text."""
    wanted = given.get("gives")
    if isinstance(wanted, dict) and not holds_template(wanted):
        return {**output, "properties": {**properties(output), "data": wanted}}
    return {**output, "x-free-text": True}


async def _answer_preview(given: AnswerInput, at: Asking) -> Mapping[str, object]:
    return await _previewed(given.model, answer_messages(given), at, given.max_tokens, given.gives)


async def _label_preview(given: LabelInput, at: Asking) -> Mapping[str, object]:
    return await _previewed(given.model, label_messages(given), at)


async def _judge_preview(given: JudgeInput, at: Asking) -> Mapping[str, object]:
    return await _previewed(given.model, judge_messages(given), at)


async def _previewed(
    model: str, messages: Sequence[Message], at: Asking, most: int | None = None, gives: object = None
) -> Mapping[str, object]:
    try:
        return {"messages": messages, "cost": foreseen(model, await at.model(model), messages, most, gives)}
    except StepFailed:
        return {"messages": messages}


ACTIONS = [
    Action(
        "model.answer",
        "Ask a model",
        AnswerInput,
        Answered,
        timeout=180,
        perform=_answer,
        worst=_answer_worst,
        streams=True,
        gives=_answer_gives,
        preview=_answer_preview,
        sentence=lambda step, given: f"Ask {in_brief(given.get('model'))} for {step}",
        example_gives={"text": "…", "data": None, "reasoning": "", "tokens": "…", "money": "…"},
        example={"model": "quick", "prompt": "Write one friendly sentence for ${ input.guest }."},
        first=("model", "prompt", "brief", "gives"),
    ),
    Action(
        "model.label",
        "Give a text one label of a closed set",
        LabelInput,
        Labelled,
        timeout=120,
        perform=_label,
        worst=_label_worst,
        preview=_label_preview,
        sentence=lambda step, given: f"Have {in_brief(given.get('model'))} label {in_brief(given.get('text'))}",
        example_gives={"label": "booking", "confidence": 0.9, "tokens": "…", "money": "…"},
        example={
            "model": "quick",
            "text": "${ input.message }",
            "labels": {"booking": "asks for a bunk", "complaint": "tells what was not well"},
            "otherwise": "other",
        },
        first=("model", "text", "labels", "otherwise"),
    ),
    Action(
        "model.judge",
        "Let a model judge an answer",
        JudgeInput,
        Judged,
        timeout=120,
        perform=_judge,
        worst=_judge_worst,
        preview=_judge_preview,
        sentence=lambda step, given: f"Have {in_brief(given.get('model'))} judge: {in_brief(given.get('question'))}",
        example_gives={"passed": False, "reason": "It does not answer what was asked.", "tokens": "…", "money": "…"},
        example={"model": "careful", "question": "Does it promise nothing?", "answer": "${ reply.text }"},
        first=("model", "question", "answer"),
    ),
]
