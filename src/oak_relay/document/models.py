"""The models of the language: one frozen Pydantic model per thing a document can say."""

from collections.abc import Iterator
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Discriminator, Field, Tag, field_validator, model_validator
from pydantic_core import PydanticCustomError

from oak_relay.document import durations
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
STEP_KINDS = ("do", "set", "branch", "each", "wait", "answer", "stop", "fail")


class Model(BaseModel):
    """Unknown keys are refused; nothing changes once read."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


def _duration(value: str) -> str:
    try:
        durations.seconds(value)
    except ValueError as error:
        raise PydanticCustomError("duration", "{reason}", {"reason": str(error)}) from None
    return value


class Retry(Model):
    """How a failing `do` is tried again. `wait`, doubled by `factor` up to `most`, varied by `spread`."""

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

    @field_validator("time")
    @classmethod
    def _time(cls, value: str | None) -> str | None:
        return None if value is None else _duration(value)


class Verify(Model):
    """How a webhook proves who sent it. `signed` follows Standard Webhooks."""

    scheme: Literal["signed", "bearer", "none"] = "none"
    credential: str | None = Field(None, description="The stored secret to check with.")

    @model_validator(mode="after")
    def _named(self) -> "Verify":
        if self.scheme != "none" and not self.credential:
            raise PydanticCustomError("verify", "the scheme {scheme} needs a credential", {"scheme": self.scheme})
        return self


class Webhook(Model):
    path: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_/-]{0,120}$", description="Below /hooks/.")]
    verify: Verify = Verify()
    answer: Literal["receipt", "result"] = Field("receipt", description="What the caller is told.")


class Trigger(Model):
    trigger: WorkflowName
    webhook: Webhook
    note: str = ""


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
    unknown: Literal["repeat", "fail"] = Field(
        "fail", description="What to do when nobody knows whether an unsafe action happened."
    )


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


class WaitStep(BaseStep):
    """Rest for a duration or until a moment; the name then holds `{at}`."""

    wait: Expression


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
    found = [kind for kind in STEP_KINDS if kind in value]
    return found[0] if len(found) == 1 else None


Step = Annotated[
    Annotated[DoStep, Tag("do")]
    | Annotated[SetStep, Tag("set")]
    | Annotated[BranchStep, Tag("branch")]
    | Annotated[EachStep, Tag("each")]
    | Annotated[WaitStep, Tag("wait")]
    | Annotated[AnswerStep, Tag("answer")]
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


for _model in (BaseStep, DoStep, SetStep, Arm, BranchStep, EachStep, WaitStep, AnswerStep, StopStep, FailStep):
    _model.model_rebuild()
Workflow.model_rebuild()
STEP_MODELS: tuple[type[BaseStep], ...] = (
    DoStep,
    SetStep,
    BranchStep,
    EachStep,
    WaitStep,
    AnswerStep,
    StopStep,
    FailStep,
)


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
