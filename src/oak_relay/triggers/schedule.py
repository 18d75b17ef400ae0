"""`schedule`: when it is time."""

from datetime import datetime, timedelta
from hashlib import sha256
from typing import ClassVar, Literal
from uuid import UUID

from pydantic import Field, field_validator, model_validator

from oak_relay.document import calendar, durations, shapes
from oak_relay.document.check_base import Checking
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.document.text import Path
from oak_relay.document.words import Duration, Model, Value, Zone, said, sound_duration, sound_zone
from oak_relay.triggers.base import Due, TimeTrigger

PUNCTUAL = timedelta(seconds=60)
"""An occurrence that is found later than this was missed."""
MOST_MISSED = 1000
_MOST_FOUND = 20_000
_WINDOWS = (timedelta(minutes=10), timedelta(hours=6), timedelta(days=7))


class Schedule(Model):
    """When it is time. Exactly one of `cron`, `every`, `rrule`; `cron` and `rrule` by the wall clock of `zone`."""

    EXAMPLE: ClassVar[str] = '{cron: "0 6 * * *", zone: Europe/Zurich}'

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
            fix = 'give one of cron: "0 6 * * *", every: 5m and rrule: FREQ=DAILY'
            raise said("a schedule has exactly one of cron, every and rrule", fix)
        try:
            self.times()
        except ValueError as error:
            fix = 'write five fields, as "0 6 * * *" for each day at six: minute, hour, day, month, day of week'
            raise said(str(error), fix if self.cron is not None else "correct the recurrence (RFC 5545)") from None
        return self

    def times(self) -> calendar.Rule:
        """Its occurrences. Raises `ValueError` with what is wrong."""
        return calendar.rule(self.cron, self.every, self.rrule, self.zone)


class ScheduleTrigger(TimeTrigger[Schedule]):
    name, model = "schedule", Schedule

    def sentence(self, given: Schedule) -> str:
        if given.every:
            return f"Every {given.every}"
        if given.cron:
            told = calendar.words(given.cron)
            return f"{told[:1].upper()}{told[1:]}, {given.zone}"
        return f"By the recurrence {given.rrule}, {given.zone}"

    def check(self, given: Schedule, path: Path, checker: Checking) -> None:
        checker.texts((*path, "data"), given.data, {"event": shapes.EVENT})

    def rule(self, given: Schedule) -> str:
        return f"every {given.every}" if given.every else str(given.cron or given.rrule)

    def zone(self, given: Schedule) -> str:
        return given.zone

    def coming(self, given: Schedule, after: datetime, count: int) -> list[datetime]:
        return given.times().next(after, count)

    def due(self, given: Schedule, trigger: UUID, last: datetime, now: datetime) -> Due:
        rule, jitter = given.times(), durations.seconds(given.jitter) if given.jitter else 0.0
        found: list[datetime] = []
        if given.missed != "all":  # only the latest matters: what is long ago is passed over
            last = next((now - window for window in _WINDOWS if _comes(rule, last, now - window, now)), last)
        moment = rule.after(last)
        while moment is not None and moment + _later(trigger, moment, jitter) <= now and len(found) < _MOST_FOUND:
            found.append(moment)
            last, moment = moment, rule.after(moment)
        punctual = [m for m in found if now - m - _later(trigger, m, jitter) <= PUNCTUAL]
        taken = {"all": found[-MOST_MISSED:], "latest": punctual or found[-1:], "none": punctual}[given.missed]
        return Due(taken, last, None if moment is None else moment + _later(trigger, moment, jitter))

    def data(self, given: Schedule, moment: datetime) -> object:
        event = {"id": moment.isoformat(), "source": "/clock", "type": "oak.time", "time": moment.isoformat()}
        try:
            data = Template(given.data).render({"event": {**event, "data": None, "headers": {}, "query": {}}})
        except StepFailed as failed:
            data = {"error": failed.as_data()}
        return {} if data is None else data


def _comes(rule: calendar.Rule, last: datetime, since: datetime, until: datetime) -> bool:
    """Whether there is an occurrence between two moments, both later than the last."""
    if since <= last:
        return False
    moment = rule.after(since)
    return moment is not None and moment + PUNCTUAL <= until


def _later(trigger: UUID, moment: datetime, jitter: float) -> timedelta:
    """How much later than its time an occurrence begins: always the same for the same one."""
    if not jitter:
        return timedelta()
    chosen = int.from_bytes(sha256(f"{trigger}{moment.isoformat()}".encode()).digest()[:8], "big") / 2**64
    return timedelta(seconds=chosen * jitter)
