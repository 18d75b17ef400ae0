"""The models of the language: one frozen Pydantic model per thing a document can say."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, ClassVar, Literal, Protocol

from pydantic import Discriminator, Field, PrivateAttr, Tag, field_validator, model_validator

from oak_relay.document.errors import ErrorKind
from oak_relay.document.filters import sentences
from oak_relay.document.habits import WORDS, nearest
from oak_relay.document.triggers import Trigger
from oak_relay.document.words import (
    Duration,
    EventType,
    Expression,
    Model,
    StepName,
    Value,
    WorkflowName,
    said,
    sound_duration,
)

RESERVED = frozenset(
    {
        "input",
        "settings",
        "event",
        "conversation",
        "run",
        "now",
        "last",
        "error",
        "outcome",
        "arrived",
        "always",
        "loop",
        "true",
        "false",
        "none",
        "not",
        "and",
        "or",
        "in",
        "is",
        "if",
        "else",
    }
)

STEP_KINDS = (
    "do",
    "run",
    "set",
    "branch",
    "each",
    "together",
    "repeat",
    "wait",
    "ask",
    "reply",
    "todo",
    "send",
    "hand_over",
    "emit",
    "stop",
    "fail",
)


_NOTE = "A remark for whoever reads it."
_STEPS = "What is done, one after the other."


class Retry(Model):
    """How a failing `do` or `run` is tried again. `wait`, doubled by `factor` up to `most`, varied by `spread`."""

    tries: int = Field(3, ge=1, le=100, description="Attempts in all, the first one included.")
    wait: Duration = Field("1s", description="Before the second attempt.")
    factor: float = Field(2.0, ge=1, le=100, description="By which each wait is longer than the one before.")
    most: Duration = Field("1m", description="The longest wait.")
    spread: float = Field(0.2, ge=0, le=1, description="Share by which a wait may vary.")
    kinds: list[ErrorKind] = Field(
        default=["busy", "unavailable", "timeout"], description="Kinds of errors after which it is tried again."
    )

    _check = field_validator("wait", "most")(sound_duration)


class Limits(Model):
    """What a run may use. Reaching one ends it with the error kind `over_limit` or `timeout`."""

    money: float | None = Field(None, gt=0, description="Most a run may spend on models.")
    time: Duration | None = Field(None, description="Most time a run may work; rest does not count.")
    at_once: int | None = Field(None, ge=1, le=10_000, description="Most runs at work at once; rest does not count.")
    per_subject: Literal["queue", "replace", "drop", "free"] = Field(
        "queue",
        description="When another run of the same subject is not over yet: wait behind it, take its place, "
        "be dropped, or run beside it.",
    )

    @field_validator("time")
    @classmethod
    def _time(cls, value: str | None) -> str | None:
        return None if value is None else sound_duration(value)


class BaseStep(Model):
    step: StepName = Field(description="The name later steps refer to.")
    note: str = Field("", description=_NOTE)
    when: Expression | bool | None = Field(None, description="The step is skipped unless this is true.")
    once: Expression | None = Field(None, description="At most once ever for this key.")
    timeout: Duration | None = Field(None, description="Longest time that an attempt may take, such as 30s.")
    on_error: "Literal['fail', 'go_on'] | list[Step]" = Field(
        "fail", description="When it has failed for good: fail, go_on with nothing, or steps that are done instead."
    )

    @field_validator("step")
    @classmethod
    def _not_reserved(cls, value: str) -> str:
        if value in RESERVED:
            raise said(f"{value} is a name of the language", "choose another name")
        return value

    @field_validator("timeout")
    @classmethod
    def _timeout(cls, value: str | None) -> str | None:
        return None if value is None else sound_duration(value)

    @property
    def kind(self) -> str:
        """The key that says what kind of step it is."""
        return next(k for k in STEP_KINDS if k in type(self).model_fields)

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        """The lists of steps inside, each with a word for where it stands."""
        if isinstance(self.on_error, list):
            yield "on_error", self.on_error


class DoStep(BaseStep):
    """An action of the catalogue; the name then holds the action's output."""

    do: str = Field(description="Name of an action, such as http.request.")
    with_: dict[str, Value] = Field(default_factory=dict, alias="with", description="What the action is given.")
    retry: Retry = Retry()
    unknown: Literal["ask", "repeat", "fail"] = Field(
        "ask", description="What to do when nobody knows whether an unsafe action happened."
    )


class RunStep(BaseStep):
    """Another workflow as a child run; the name then holds its result, or `{run}` when it is not waited for."""

    run: WorkflowName = Field(description="Name of the workflow, or of an agent.")
    with_: Value = Field(default_factory=dict, alias="with", description="The child's input.")
    wait: bool = Field(True, description="Whether this run rests until the other one is over.")
    retry: Retry = Retry(tries=1)


class SetStep(BaseStep):
    """Computed values; the name then holds that mapping."""

    set: dict[str, Value] = Field(description="Names, and the value of each.")


class Arm(Model):
    """One way of a branch: `if` with `steps`, or a last `else` with its steps."""

    if_: Expression | bool | None = Field(None, alias="if", description="The way is taken when this is true.")
    steps: "list[Step] | None" = Field(None, description=_STEPS)
    else_: "list[Step] | None" = Field(None, alias="else", description="What is done when no way above is taken.")
    gives: Value = Field(None, description="What the branch then holds.")

    @model_validator(mode="after")
    def _one_form(self) -> "Arm":
        if (self.if_ is None) == (self.else_ is None):
            raise said(
                "an arm is either if: with steps:, or else: with its steps",
                "add if: ${ … }, or put the steps under else:",
            )
        if self.else_ is not None and self.steps is not None:
            raise said("the steps of else: stand under else: itself", "put the steps under else:, and leave steps: out")
        return self

    @property
    def body(self) -> "list[Step]":
        """The steps of the arm."""
        return (self.steps if self.else_ is None else self.else_) or []


class BranchStep(BaseStep):
    """The first arm that holds is taken; the name then holds that arm's `gives`."""

    branch: list[Arm] = Field(min_length=1, description="The ways, of which the first that holds is taken.")

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        for index, arm in enumerate(self.branch):
            yield f"branch.{index}.{'steps' if arm.else_ is None else 'else'}", arm.body
        yield from super().inner()


class EachStep(BaseStep):
    """Steps for every item, `width` at a time; the name then holds the list of `gives`."""

    each: Value = Field(description="The list, or an expression that gives one.")
    as_: StepName = Field("item", alias="as", description="What the present item is called inside.")
    width: int = Field(1, ge=1, le=100, description="How many items are at work at once.")
    failed: Literal["stop", "keep", "drop"] = Field(
        "stop", description="When an item fails: stop, keep its error in the list, or drop it from the list."
    )
    steps: "list[Step]" = Field(min_length=1, description=_STEPS)
    gives: Value = Field(None, description="What each item puts into the list that the step then holds.")

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        yield "steps", self.steps
        yield from super().inner()


class Strand(Model):
    """One of several lists of steps side by side."""

    steps: "list[Step]" = Field(min_length=1, description=_STEPS)
    gives: Value = Field(None, description="What it leaves under its name.")


class TogetherStep(BaseStep):
    """Lists of steps side by side; the name then holds a mapping of their `gives`."""

    together: dict[StepName, Strand] = Field(
        min_length=1, max_length=50, description="Names of the strands, and the steps of each."
    )

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        for name, strand in self.together.items():
            yield f"together.{name}.steps", strand.steps
        yield from super().inner()


class Rounds(Model):
    EXAMPLE: ClassVar[str] = "{until: ${ … }, most: 10}"

    until: Expression = Field(description="Asked after each round.")
    most: int = Field(ge=1, le=10_000, description="Rounds at most.")


class RepeatStep(BaseStep):
    """Steps until something holds; `last` is the round before; the name then holds `gives` of the last round."""

    repeat: Rounds = Field(description="Until what holds, and how many rounds at most.")
    steps: "list[Step]" = Field(min_length=1, description=_STEPS)
    gives: Value = Field(None, description="What it leaves under its name.")

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        yield "steps", self.steps
        yield from super().inner()


class EventWait(Model):
    """An event to wait for, one that came since the run began included."""

    event: EventType = Field(description="Type of the event, such as hut.opened.")
    where: Expression | None = Field(None, description="Only one of which this holds; `arrived` is the event.")
    within: Duration | None = Field(None, description="Longest time to wait for it.")

    @field_validator("within")
    @classmethod
    def _within(cls, value: str | None) -> str | None:
        return None if value is None else sound_duration(value)


class WaitStep(BaseStep):
    """Rest for a duration or until a moment (the name then holds `{at}`), or until an event comes (the event,
    or `{expired: true}`)."""

    wait: Expression | EventWait = Field(
        description="A duration such as 30m, a moment, or {event: …} for one that comes."
    )


Choice = Annotated[str, Field(min_length=1, max_length=60)]
Phrases = Annotated[list[Annotated[str, Field(min_length=1, max_length=200)]], Field(max_length=100)]
"""What means a choice, or says that something was done, in other words."""


class Ask(Model):
    """A question to a person: one of `choices`, or data that fits the JSON Schema `form`; in a conversation it may be answered in any
    words."""

    at: Literal["tray", "link", "conversation"] = Field(
        "tray",
        description="`link`: also by a signed link that needs no sign-in; `conversation`: in that of the run, its answer is what is said next.",
    )
    text: Expression = Field(description="The question, as it is read.")
    choices: list[Choice] | dict[Choice, Phrases] | None = Field(
        None,
        min_length=1,
        max_length=20,
        description="Answers to choose from; in a conversation also each with phrases that mean it, by which it is found in any words.",
    )
    otherwise: Choice | None = Field(
        None, description="In a conversation: the choice where none of the others is meant."
    )
    model: str | None = Field(
        None,
        description="In a conversation: a model alias that is asked where the phrases leave it unsure; of a form, one that takes several pieces from one sentence.",
    )
    form: dict[str, object] | None = Field(None, description="JSON Schema of the data that is asked for.")
    within: Duration | None = Field(None, description="Longest time to wait for an answer.")
    then: str = Field("go_on", description="When nobody answers in time: go_on, fail, or one of the choices.")
    tell: "list[Step]" = Field(
        default_factory=list,
        description="Steps that are done once it can be answered, before the run rests: to send `question.link`, where "
        "whoever has it may answer (with `at: link`).",
    )
    aside: "list[Step]" = Field(
        default_factory=list,
        description="In a conversation: steps that deal with words that are no answer (`aside.text`); then it is asked again.",
    )

    @property
    def phrases(self) -> dict[str, list[str]]:
        """Each choice with phrases that mean it."""
        return dict(self.choices) if isinstance(self.choices, dict) else {}

    @field_validator("within")
    @classmethod
    def _within(cls, value: str | None) -> str | None:
        return None if value is None else sound_duration(value)

    @model_validator(mode="after")
    def _sound(self) -> "Ask":
        if self.at == "conversation" and self.form is not None:
            if self.choices is not None:
                raise said("a form in a conversation has no choices", "ask for one after the other")
            if not isinstance(self.form.get("properties"), dict) or not self.form["properties"]:
                raise said("a form in a conversation has pieces", "write form: {type: object, properties: {…}}")
        if self.choices is None and self.form is None and self.at != "conversation":
            raise said("a question has choices or a form", "add choices: [yes, no], or form: with a JSON Schema")
        if self.at != "conversation" and (isinstance(self.choices, dict) or self.otherwise or self.model):
            raise said(
                "only in a conversation a choice is found in any words",
                "add at: conversation, or write choices: [yes, no]",
            )
        if self.aside and self.at != "conversation":
            raise said(
                "only in a conversation something else is said than an answer",
                "add at: conversation, or leave aside: out",
            )
        if self.aside and self.otherwise:
            raise said("what is no answer is either otherwise: or an aside:", "leave one of them out")
        if (self.otherwise or (self.model and self.form is None)) and not self.choices:
            raise said("there is nothing to choose from", "add choices: with phrases that mean each of them")
        if self.then not in ("go_on", "fail", *(self.choices or ())):
            known = ["go_on", "fail", *(self.choices or ())]
            near = nearest(self.then, known, WORDS)
            raise said(
                "then: is go_on, fail or one of the choices", f"write {near}" if near else f"write {' or '.join(known)}"
            )
        return self


class AskStep(BaseStep):
    """A question to a person; the name then holds `{choice, data, text, by, at, expired}`."""

    ask: Ask = Field(description="What is asked, and how it is answered.")

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        if self.ask.tell:
            yield "ask.tell", self.ask.tell
        if self.ask.aside:
            yield "ask.aside", self.ask.aside
        yield from super().inner()


class Emit(Model):
    """An event to publish (CloudEvents 1.0)."""

    type: EventType = Field(description="Type of the event, such as hut.opened.")
    data: Value = Field(None, description="What it tells.")
    subject: Expression | None = Field(None, description="What it is about.")


class To(Model):
    """Somebody on a channel."""

    path: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,60}$")] = Field(
        description="The path of a channel of a workflow that is on."
    )
    chat: Expression = Field(description="Whom, as the channel calls a chat.")


class Message(Model):
    """What is said in the run's conversation, or to somebody else."""

    text: Expression = Field("", description="The words; Markdown is shown as what it means.")
    buttons: list[Annotated[str, Field(min_length=1, max_length=60)]] = Field(
        default_factory=list, max_length=10, description="Answers that can be given by a press."
    )
    files: Expression | Annotated[list[Expression], Field(max_length=10)] = Field(
        default_factory=list, description="Pictures and files, as steps give them; one that is null is left out."
    )

    to: To | None = Field(
        None, description="Somebody on a channel, who need not have written before; left out, whoever talks."
    )

    @model_validator(mode="after")
    def _something(self) -> "Message":
        if not self.text and not self.files:
            raise said("there is nothing to say", "write text: or files:")
        return self


class SendStep(BaseStep):
    """Says something in the run's conversation, or to somebody on a channel, now; the name then holds `{id}`."""

    send: Expression | Message = Field(description="The words, or {text: …, buttons: […], files: […], to: …}.")


class HandOver(Model):
    """A person takes over the run's conversation, until they hand it back."""

    text: Expression = Field(description="What the person is told, at the tray.")
    within: Duration | None = Field(None, description="Longest time to wait until it is handed back.")
    then: Literal["go_on", "fail"] = Field("go_on", description="When it is not handed back in time.")

    @field_validator("within")
    @classmethod
    def _within(cls, value: str | None) -> str | None:
        return None if value is None else sound_duration(value)


class HandOverStep(BaseStep):
    """Gives the run's conversation to a person, and goes on when they hand it back; the name then holds `{text, by, at, expired}`."""

    hand_over: Expression | HandOver = Field(description="What the person is told, or {text: …, within: …, then: …}.")

    @property
    def given(self) -> HandOver:
        """What it says, in its long form."""
        return HandOver(text=self.hand_over) if isinstance(self.hand_over, str) else self.hand_over


class EmitStep(BaseStep):
    """Publishes an event; the name then holds `{id}`."""

    emit: Emit = Field(description="The event.")


class CallerReply(Model):
    status: int | Expression = Field(200, description="HTTP status.")
    headers: dict[str, Expression] = Field(default_factory=dict, description="HTTP headers, by name.")
    body: Value = Field(None, description="Text, or data that is sent as JSON.")


class ReplyStep(BaseStep):
    """Gives the caller that waits its reply now."""

    reply: CallerReply = Field(description="What the caller is told.")


class SketchStep(BaseStep):
    """What is to be done, in plain words, and not yet how: a run is not begun while there is one."""

    todo: str = Field(min_length=1, max_length=2000, description="What is to be done, in plain words.")


class StopStep(BaseStep):
    """Ends the run well, with this result."""

    stop: Value = Field(description="The result of the run.")


class FailStep(BaseStep):
    """Ends the run as failed, with this message."""

    fail: Expression = Field(description="The message of the error.")


def _kind_of(value: object) -> str | None:
    if isinstance(value, BaseStep):
        return value.kind
    if not isinstance(value, dict):
        return None
    found = step_kinds(value)
    return found[0] if len(found) == 1 else None


def step_kinds(step: dict[str, object]) -> list[str]:
    """The kinds that a step's keys say; a sound step has one. `wait` beside `run` is a field of it."""
    found = [kind for kind in STEP_KINDS if kind in step]
    if "run" in found and isinstance(step.get("wait"), bool):
        found.remove("wait")
    return found


Step = Annotated[
    Annotated[DoStep, Tag("do")]
    | Annotated[RunStep, Tag("run")]
    | Annotated[SetStep, Tag("set")]
    | Annotated[BranchStep, Tag("branch")]
    | Annotated[EachStep, Tag("each")]
    | Annotated[TogetherStep, Tag("together")]
    | Annotated[RepeatStep, Tag("repeat")]
    | Annotated[WaitStep, Tag("wait")]
    | Annotated[AskStep, Tag("ask")]
    | Annotated[ReplyStep, Tag("reply")]
    | Annotated[SketchStep, Tag("todo")]
    | Annotated[SendStep, Tag("send")]
    | Annotated[HandOverStep, Tag("hand_over")]
    | Annotated[EmitStep, Tag("emit")]
    | Annotated[StopStep, Tag("stop")]
    | Annotated[FailStep, Tag("fail")],
    Discriminator(
        _kind_of,
        custom_error_type="step_kind",
        custom_error_message="a step has exactly one of " + ", ".join(STEP_KINDS),
    ),
]


class Workflow(Model):
    """A workflow document."""

    _kind: str = PrivateAttr("workflow")

    oak: Literal[1] = Field(description="Version of this language.")
    workflow: WorkflowName = Field(description="Unique in the workspace.")
    title: str = Field("", description="What it is called in lists.")
    note: str = Field("", description=_NOTE)
    labels: list[str] = Field(default_factory=list, description="Words by which it is found.")
    input: dict[str, object] = Field(default_factory=dict, description="JSON Schema of the data a run is given.")
    settings: dict[str, Any] = Field(
        default_factory=dict, description="JSON Schema of what is adjusted without editing the steps."
    )
    triggers: list[Trigger] = Field(default_factory=list, description="What starts it by itself.")
    subject: Expression | None = Field(None, description="What a run is about.")
    limits: Limits = Field(Limits(), description="What a run may use.")
    steps: list[Step] = Field(min_length=1, description=_STEPS)
    result: Value = Field(None, description="What a run gives to whoever started it.")
    always: list[Step] = Field(
        default_factory=list, description="Steps at the end of the run, whatever happened; they may use `outcome`."
    )

    @property
    def kind(self) -> str:
        """`workflow`, or `agent` when it was made of an agent document."""
        return self._kind

    @property
    def roots(self) -> dict[str, list[Step]]:
        """The lists of steps at the top."""
        return {"steps": self.steps, "always": self.always} if self.always else {"steps": self.steps}


class AgentDocument(Model):
    """An agent that is used in several places: walked like a workflow whose one step it is."""

    oak: Literal[1] = Field(description="Version of this language.")
    agent: WorkflowName = Field(description="Unique in the workspace, among workflows too.")
    title: str = Field("", description="What it is called in lists.")
    note: str = Field("", description=_NOTE)
    labels: list[str] = Field(default_factory=list, description="Words by which it is found.")
    input: dict[str, object] = Field(default_factory=dict, description="JSON Schema of what it is given.")
    settings: dict[str, object] = Field(default_factory=dict, description="JSON Schema of what is adjusted.")
    model: Value = Field(description="Name of a model alias.")
    brief: Value = Field("", description="Who the agent is and what it must keep to.")
    prompt: Value = Field(description="What it is asked.")
    tools: Value = None
    memory: Value = None
    gives: Value = None
    limits: Value = None
    approve: Value = None
    today: Value = None
    zone: Value = None

    def as_workflow(self) -> Workflow:
        """The workflow that it is walked as."""
        fields = ("model", "brief", "prompt", "tools", "memory", "gives", "limits", "approve", "today", "zone")
        given = {name: value for name in fields if (value := getattr(self, name)) is not None}
        made = Workflow.model_validate(
            {
                "oak": 1,
                "workflow": self.agent,
                **{name: getattr(self, name) for name in ("title", "note", "labels", "input", "settings")},
                "steps": [{"step": AGENT_STEP, "do": "agent", "with": given}],
                "result": f"${{ {AGENT_STEP} }}",
            }
        )
        made._kind = "agent"
        return made


class TriggerModel(Protocol):
    """A kind of trigger, as far as the schema tells of it."""

    @property
    def model(self) -> type[Model]: ...


AGENT_STEP = "agent"
"""The name of the one step that an agent document is."""


def document_of(data: object) -> Workflow:
    """The workflow that a document says, an agent document being one of a single step. Raises `ValidationError`."""
    if isinstance(data, dict) and "agent" in data and "workflow" not in data:
        return AgentDocument.model_validate(data).as_workflow()
    return _talking(Workflow.model_validate(data))


_PART: dict[str, object] = {
    "type": "object",
    "properties": {
        "what": {"type": "string", "description": "voice, picture or file; or what cannot be read."},
        "type": {"type": "string", "description": "Its media type."},
        "name": {"type": "string"},
        "file": {"type": "object", "description": "The file itself, kept here."},
        "heard": {
            "type": "string",
            "description": "What a voice note says, where the trigger names a model that writes it down.",
        },
        "fault": {"type": "string", "description": "Why it is not here, or was not written down."},
    },
}
TALK_INPUT: dict[str, object] = {
    "type": "object",
    "required": ["text"],
    "properties": {
        "text": {"type": "string", "description": "What was said."},
        "choice": {"type": ["string", "null"], "default": None, "description": "The button that was pressed."},
        "command": {
            "type": ["string", "null"],
            "default": None,
            "description": "The word behind a slash that it begins with.",
        },
        "parts": {"type": "array", "items": _PART, "default": [], "description": "Files that came with it."},
    },
}
"""JSON Schema of what somebody said, as runs are given it."""
SAID = ("text", "choice", "command", "parts")
"""What stands there of it."""


def talks(document: Workflow) -> bool:
    """Whether runs of a document belong to conversations."""
    return any(trigger.kind == "conversation" for trigger in document.triggers)


def hears(document: Workflow) -> str:
    """The model alias that writes down the voice notes of what is said, empty where none does."""
    named = (
        trigger.given.get("voice")
        for trigger in document.triggers
        if trigger.kind == "conversation" and isinstance(trigger.given, dict)
    )
    return next((one for one in named if isinstance(one, str)), "")


def _talking(document: Workflow) -> Workflow:
    """The same with what is said by itself under a conversation: what its runs are about, and what its agents remember; where
    they begin by nothing but what is said, as it is said, also what they are given, and what its agents are asked."""
    if not talks(document):
        return document
    plain = all(trigger.kind == "conversation" and trigger.input is None for trigger in document.triggers)
    for step in walk_steps([*document.steps, *document.always]):
        if isinstance(step, DoStep) and step.do == "agent":
            if plain:
                step.with_.setdefault("prompt", "${ input.text }")
            step.with_.setdefault("memory", {"conversation": "${ conversation.key }", "turns": 20})
        elif isinstance(step, DoStep) and step.do == "conversation.keep":
            step.with_.setdefault("conversation", "${ conversation.key }")
    more: dict[str, object] = {"input": TALK_INPUT} if plain and not document.input else {}
    if document.subject is None:
        more["subject"] = "${ conversation.key }"
    return document.model_copy(update=more)


STEP_MODELS: tuple[type[BaseStep], ...] = (
    DoStep,
    RunStep,
    SetStep,
    BranchStep,
    EachStep,
    TogetherStep,
    RepeatStep,
    WaitStep,
    AskStep,
    ReplyStep,
    SketchStep,
    SendStep,
    HandOverStep,
    EmitStep,
    StopStep,
    FailStep,
)
_RECURSIVE: tuple[type[Model], ...] = (BaseStep, Arm, Strand, Ask, *STEP_MODELS, Workflow)
for _model in _RECURSIVE:
    _model.model_rebuild()


def walk_steps(steps: list[Any]) -> Iterator[BaseStep]:
    """Every step of a list, outer before inner."""
    for step in steps:
        yield step
        for _, inner in step.inner():
            yield from walk_steps(inner)


def json_schema(triggers: Mapping[str, TriggerModel]) -> dict[str, object]:
    """JSON Schema (2020-12) of the language, with these kinds of triggers; `x-filters` says what each filter of an expression does."""
    schema = Workflow.model_json_schema(by_alias=True) | {"x-filters": sentences()}
    defined = schema["$defs"]
    starts: dict[str, object] = {}
    for name, kind in triggers.items():
        of = kind.model.model_json_schema(by_alias=True, ref_template="#/$defs/{model}")
        defined |= of.pop("$defs", {})
        defined[of["title"]] = of
        starts[name] = {"$ref": f"#/$defs/{of['title']}"}
    trigger = defined["Trigger"]
    trigger["properties"] |= starts
    trigger["additionalProperties"] = False
    trigger["oneOf"] = [{"required": [name]} for name in starts]
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": "/schema/workflow.json",
        **schema,
        "title": "Oak Relay workflow",
    }
