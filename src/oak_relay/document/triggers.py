"""What starts runs: one frozen Pydantic model per kind of trigger."""

from typing import Annotated, Literal

from pydantic import Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from oak_relay.document import calendar
from oak_relay.document.words import (
    Duration,
    EventType,
    Expression,
    Model,
    Value,
    WorkflowName,
    Zone,
    sound_duration,
    sound_zone,
)


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

    _check = field_validator("zone")(sound_zone)

    @field_validator("every", "jitter")
    @classmethod
    def _length(cls, value: str | None) -> str | None:
        return None if value is None else sound_duration(value)

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

    _check = field_validator("every")(sound_duration)


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
