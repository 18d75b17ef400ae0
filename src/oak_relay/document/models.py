"""The models of the language: one frozen Pydantic model per thing a document can say."""

from collections.abc import Iterator
from typing import Annotated, Any, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import BaseModel, ConfigDict, Discriminator, Field, PrivateAttr, Tag, field_validator, model_validator
from pydantic_core import PydanticCustomError

from oak_relay.document import calendar, durations
from oak_relay.document.errors import ErrorKind

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

WorkflowName = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,62}$")]
StepName = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,62}$")]
Expression = Annotated[str, Field(description="Text with ${ expressions }.")]
Value = Annotated[Any, Field(description="Any value; texts in it may hold ${ expressions }.")]
Duration = Annotated[str, Field(pattern=durations.PATTERN, examples=["30s", "5m", "PT5M"])]
EventType = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,120}$", examples=["booking.changed"])]
Zone = Annotated[str, Field(description="IANA zone.", examples=["Europe/Zurich"])]
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
    "answer",
    "emit",
    "stop",
    "fail",
)


class Model(BaseModel):
    """Unknown keys are refused; nothing changes once read."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


def _duration(value: str) -> str:
    try:
        durations.seconds(value)
    except ValueError as error:
        raise PydanticCustomError("duration", "{reason}", {"reason": str(error)}) from None
    return value


def _zone(value: str) -> str:
    try:
        ZoneInfo(value)
    except (ValueError, OSError, ZoneInfoNotFoundError):
        raise PydanticCustomError("zone", "{zone} is no IANA zone", {"zone": value}) from None
    return value


class Retry(Model):
    """How a failing `do` or `run` is tried again. `wait`, doubled by `factor` up to `most`, varied by `spread`."""

    tries: int = Field(3, ge=1, le=100, description="Attempts in all, the first one included.")
    wait: Duration = "1s"
    factor: float = Field(2.0, ge=1, le=100)
    most: Duration = "1m"
    spread: float = Field(0.2, ge=0, le=1, description="Share by which a wait may vary.")
    kinds: list[ErrorKind] = Field(default=["busy", "unavailable", "timeout"])

    _check = field_validator("wait", "most")(_duration)


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
        return None if value is None else _duration(value)


class Verify(Model):
    """How a webhook proves who sent it. `signed` follows Standard Webhooks; `hmac` is a plain HMAC of the body
    in a header of the sender's choice."""

    scheme: Literal["signed", "hmac", "bearer", "basic", "none"] = "none"
    credential: str | None = Field(None, description="The stored secret to check with.")
    header: str = Field("X-Signature", description="Of `hmac`: the header that carries the signature.")
    prefix: str = Field("", description="Of `hmac`: what stands before the signature in the header.")
    encoding: Literal["hex", "base64"] = "hex"
    digest: Literal["sha1", "sha256", "sha512"] = "sha256"

    @model_validator(mode="after")
    def _named(self) -> "Verify":
        if self.scheme != "none" and not self.credential:
            raise PydanticCustomError("verify", "the scheme {scheme} needs a credential", {"scheme": self.scheme})
        return self


class Handshake(Model):
    """A sender that asks for an echo before it sends: the value of `echo` in the query is answered as text when
    the value of `token` there is the stored secret (as in WebSub)."""

    echo: str = Field("hub.challenge", description="Query parameter that is echoed.")
    token: str | None = Field(None, description="Query parameter that must hold the secret.")
    credential: str | None = Field(None, description="The stored secret that `token` must be.")


class Webhook(Model):
    path: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_/-]{0,120}$", description="Below /hooks/.")]
    methods: list[Literal["GET", "POST", "PUT", "PATCH", "DELETE"]] = Field(default=["POST"], min_length=1)
    verify: Verify = Verify()
    handshake: Handshake | None = None
    id: Annotated[str, Field(pattern=r"^[A-Za-z0-9-]+$")] = Field(
        "webhook-id", description="Header that carries the sender's id of the event; the same id counts once."
    )
    answer: Literal["receipt", "result", "stream"] = Field(
        "receipt",
        description="What the caller is told: that it was taken, the result, or, as server-sent events, the answer of the "
        "last step while it is being written and then the result.",
    )


class Schedule(Model):
    """When it is time. Exactly one of `cron`, `every`, `rrule`; `cron` and `rrule` by the wall clock of `zone`."""

    cron: str | None = Field(None, description="Five fields: minute, hour, day of month, month, day of week.")
    every: Duration | None = None
    rrule: str | None = Field(None, description="A recurrence rule of RFC 5545, with DTSTART if it needs one.")
    zone: Zone = "UTC"
    missed: Literal["none", "latest", "all"] = Field(
        "latest", description="What happens with occurrences that passed while no clock ran."
    )
    jitter: Duration | None = Field(None, description="Each occurrence begins up to so much later.")
    data: Value = None

    _check = field_validator("zone")(_zone)

    @field_validator("every", "jitter")
    @classmethod
    def _length(cls, value: str | None) -> str | None:
        return None if value is None else _duration(value)

    @model_validator(mode="after")
    def _one(self) -> "Schedule":
        if sum(x is not None for x in (self.cron, self.every, self.rrule)) != 1:
            raise PydanticCustomError("schedule", "a schedule has exactly one of cron, every and rrule")
        try:
            calendar.rule(self.cron, self.every, self.rrule, self.zone)
        except ValueError as error:
            raise PydanticCustomError("schedule", "{reason}", {"reason": str(error)}) from None
        return self


class TableChange(Model):
    """Rows of a table that change."""

    table: str
    on: list[Literal["insert", "update", "delete"]] = Field(default=["insert"], min_length=1)
    where: Expression | None = Field(None, description="Only when this holds of `arrived.row`.")


class Poll(Model):
    """An action carried out again and again; each item not seen before is one event."""

    do: str
    with_: dict[str, Value] = Field(default_factory=dict, alias="with")
    every: Duration = "5m"
    items: Expression = Field("${ arrived }", description="The list of items in `arrived`, the action's output.")
    key: Expression = Field(description="What tells one `arrived` item from another.")

    _check = field_validator("every")(_duration)


class After(Model):
    """Another workflow's run has ended."""

    workflow: WorkflowName
    ended: list[Literal["succeeded", "failed", "cancelled", "set aside"]] = Field(
        default=["succeeded", "failed", "cancelled", "set aside"], min_length=1
    )


class EventFilter(Model):
    """Events (CloudEvents 1.0) that are published here."""

    type: EventType
    source: str | None = None
    where: Expression | None = Field(None, description="Only when this holds of `arrived`, the event.")


TRIGGER_KINDS = ("webhook", "schedule", "table", "poll", "after", "event")


class Trigger(Model):
    """What starts a run: exactly one of the kinds."""

    trigger: WorkflowName
    note: str = ""
    webhook: Webhook | None = None
    schedule: Schedule | None = None
    table: TableChange | None = None
    poll: Poll | None = None
    after: After | None = None
    event: EventFilter | None = None

    @model_validator(mode="after")
    def _one(self) -> "Trigger":
        if sum(getattr(self, kind) is not None for kind in TRIGGER_KINDS) != 1:
            kinds = ", ".join(TRIGGER_KINDS)
            raise PydanticCustomError("trigger", "a trigger has exactly one of {kinds}", {"kinds": kinds})
        return self

    @property
    def kind(self) -> str:
        return next(kind for kind in TRIGGER_KINDS if getattr(self, kind) is not None)


class BaseStep(Model):
    step: StepName = Field(description="The name later steps refer to.")
    note: str = ""
    when: Expression | bool | None = Field(None, description="The step is skipped unless this is true.")
    once: Expression | None = Field(None, description="At most once ever for this key.")
    timeout: Duration | None = None
    on_error: "Literal['fail', 'go_on'] | list[Step]" = "fail"

    @field_validator("step")
    @classmethod
    def _not_reserved(cls, value: str) -> str:
        if value in RESERVED:
            raise PydanticCustomError("reserved", "{name} is a name of the language", {"name": value})
        return value

    @field_validator("timeout")
    @classmethod
    def _timeout(cls, value: str | None) -> str | None:
        return None if value is None else _duration(value)

    @property
    def kind(self) -> str:
        return next(k for k in STEP_KINDS if k in type(self).model_fields)

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        """The lists of steps inside, each with a word for where it stands."""
        if isinstance(self.on_error, list):
            yield "on_error", self.on_error


class DoStep(BaseStep):
    """An action of the catalogue; the name then holds the action's output."""

    do: str
    with_: dict[str, Value] = Field(default_factory=dict, alias="with")
    retry: Retry = Retry()
    unknown: Literal["ask", "repeat", "fail"] = Field(
        "ask", description="What to do when nobody knows whether an unsafe action happened."
    )


class RunStep(BaseStep):
    """Another workflow as a child run; the name then holds its result, or `{run}` when it is not waited for."""

    run: WorkflowName
    with_: Value = Field(default_factory=dict, alias="with", description="The child's input.")
    wait: bool = True
    retry: Retry = Retry(tries=1)


class SetStep(BaseStep):
    """Computed values; the name then holds that mapping."""

    set: dict[str, Value]


class Arm(Model):
    """One way of a branch: `if` with `steps`, or a last `else` with its steps."""

    if_: Expression | bool | None = Field(None, alias="if")
    steps: "list[Step] | None" = None
    else_: "list[Step] | None" = Field(None, alias="else")
    gives: Value = None

    @model_validator(mode="after")
    def _one_form(self) -> "Arm":
        if (self.if_ is None) == (self.else_ is None):
            raise PydanticCustomError("arm", "an arm is either `if` with `steps`, or `else` with its steps")
        if self.else_ is not None and self.steps is not None:
            raise PydanticCustomError("arm", "the steps of `else` stand under `else` itself")
        return self

    @property
    def body(self) -> "list[Step]":
        return (self.steps if self.else_ is None else self.else_) or []


class BranchStep(BaseStep):
    """The first arm that holds is taken; the name then holds that arm's `gives`."""

    branch: list[Arm] = Field(min_length=1)

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        for index, arm in enumerate(self.branch):
            yield f"branch.{index}.{'steps' if arm.else_ is None else 'else'}", arm.body
        yield from super().inner()


class EachStep(BaseStep):
    """Steps for every item, `width` at a time; the name then holds the list of `gives`."""

    each: Value
    as_: StepName = Field("item", alias="as")
    width: int = Field(1, ge=1, le=100)
    failed: Literal["stop", "keep", "drop"] = "stop"
    steps: "list[Step]" = Field(min_length=1)
    gives: Value = None

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        yield "steps", self.steps
        yield from super().inner()


class Strand(Model):
    """One of several lists of steps side by side."""

    steps: "list[Step]" = Field(min_length=1)
    gives: Value = None


class TogetherStep(BaseStep):
    """Lists of steps side by side; the name then holds a mapping of their `gives`."""

    together: dict[StepName, Strand] = Field(min_length=1, max_length=50)

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        for name, strand in self.together.items():
            yield f"together.{name}.steps", strand.steps
        yield from super().inner()


class Rounds(Model):
    until: Expression = Field(description="Asked after each round.")
    most: int = Field(ge=1, le=10_000, description="Rounds at most.")


class RepeatStep(BaseStep):
    """Steps until something holds; `last` is the round before; the name then holds `gives` of the last round."""

    repeat: Rounds
    steps: "list[Step]" = Field(min_length=1)
    gives: Value = None

    def inner(self) -> Iterator[tuple[str, "list[Step]"]]:
        yield "steps", self.steps
        yield from super().inner()


class EventWait(Model):
    """An event to wait for, one that came since the run began included."""

    event: EventType
    where: Expression | None = Field(None, description="Only one of which this holds; `arrived` is the event.")
    within: Duration | None = None

    @field_validator("within")
    @classmethod
    def _within(cls, value: str | None) -> str | None:
        return None if value is None else _duration(value)


class WaitStep(BaseStep):
    """Rest for a duration or until a moment (the name then holds `{at}`), or until an event comes (the event,
    or `{expired: true}`)."""

    wait: Expression | EventWait


class Ask(Model):
    """A question to a person: one of `choices`, or data that fits the JSON Schema `form`."""

    at: Literal["tray", "link"] = Field("tray", description="`link`: also by a signed link that needs no sign-in.")
    text: Expression
    choices: list[Annotated[str, Field(min_length=1, max_length=60)]] | None = Field(None, min_length=1, max_length=20)
    form: dict[str, Any] | None = Field(None, description="JSON Schema of the data that is asked for.")
    within: Duration | None = None
    then: str = Field("go_on", description="When nobody answers in time: go_on, fail, or one of the choices.")

    @field_validator("within")
    @classmethod
    def _within(cls, value: str | None) -> str | None:
        return None if value is None else _duration(value)

    @model_validator(mode="after")
    def _sound(self) -> "Ask":
        if self.choices is None and self.form is None:
            raise PydanticCustomError("ask", "a question has choices or a form")
        if self.then not in ("go_on", "fail", *(self.choices or ())):
            raise PydanticCustomError("ask", "then: is go_on, fail or one of the choices")
        return self


class AskStep(BaseStep):
    """A question to a person; the name then holds `{choice, data, text, by, at, expired}`."""

    ask: Ask


class Emit(Model):
    """An event to publish (CloudEvents 1.0)."""

    type: EventType
    data: Value = None
    subject: Expression | None = None


class EmitStep(BaseStep):
    """Publishes an event; the name then holds `{id}`."""

    emit: Emit


class Answer(Model):
    status: int | Expression = 200
    headers: dict[str, Expression] = Field(default_factory=dict)
    body: Value = None


class AnswerStep(BaseStep):
    """Gives the waiting caller its reply now."""

    answer: Answer


class StopStep(BaseStep):
    """Ends the run well, with this result."""

    stop: Value


class FailStep(BaseStep):
    """Ends the run as failed, with this message."""

    fail: Expression


def _kind_of(value: Any) -> str | None:
    if isinstance(value, BaseStep):
        return value.kind
    if not isinstance(value, dict):
        return None
    found = step_kinds(value)
    return found[0] if len(found) == 1 else None


def step_kinds(step: dict[str, Any]) -> list[str]:
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
    | Annotated[AnswerStep, Tag("answer")]
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
    title: str = ""
    note: str = ""
    labels: list[str] = Field(default_factory=list)
    input: dict[str, Any] = Field(default_factory=dict, description="JSON Schema of the data a run is given.")
    settings: dict[str, Any] = Field(
        default_factory=dict, description="JSON Schema of what is adjusted without editing the steps."
    )
    triggers: list[Trigger] = Field(default_factory=list)
    subject: Expression | None = Field(None, description="What a run is about.")
    limits: Limits = Limits()
    steps: list[Step] = Field(min_length=1)
    result: Value = None
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
    title: str = ""
    note: str = ""
    labels: list[str] = Field(default_factory=list)
    input: dict[str, Any] = Field(default_factory=dict, description="JSON Schema of what it is given.")
    settings: dict[str, Any] = Field(default_factory=dict, description="JSON Schema of what is adjusted.")
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


AGENT_STEP = "agent"
"""The name of the one step that an agent document is."""


def document_of(data: Any) -> Workflow:
    """The workflow that a document says, an agent document being one of a single step. Raises `ValidationError`."""
    if isinstance(data, dict) and "agent" in data and "workflow" not in data:
        return AgentDocument.model_validate(data).as_workflow()
    return Workflow.model_validate(data)


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
    AnswerStep,
    EmitStep,
    StopStep,
    FailStep,
)
_RECURSIVE: tuple[type[Model], ...] = (BaseStep, Arm, Strand, *STEP_MODELS, Workflow)
for _model in _RECURSIVE:
    _model.model_rebuild()


def walk_steps(steps: list[Any]) -> Iterator[BaseStep]:
    """Every step of a list, outer before inner."""
    for step in steps:
        yield step
        for _, inner in step.inner():
            yield from walk_steps(inner)


def json_schema() -> dict[str, Any]:
    """JSON Schema (2020-12) of the language."""
    schema = Workflow.model_json_schema(by_alias=True)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": "/schema/workflow.json",
        **schema,
        "title": "Oak Relay workflow",
    }
