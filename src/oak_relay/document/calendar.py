"""When it is time: cron, fixed intervals and recurrence rules (RFC 5545), by the wall clock of a zone (IANA)."""

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import islice, takewhile
from typing import Any
from zoneinfo import ZoneInfo

from cronsim import CronSim, CronSimError
from dateutil.rrule import DAILY, HOURLY, MINUTELY, SECONDLY, WEEKLY, rrule, rruleset, rrulestr

from oak_relay.document import durations, zones

_EPOCH = datetime(2024, 1, 1)
_UNITS = {
    SECONDLY: timedelta(seconds=1),
    MINUTELY: timedelta(minutes=1),
    HOURLY: timedelta(hours=1),
    DAILY: timedelta(days=1),
    WEEKLY: timedelta(weeks=1),
}
_ENDLESS = 20_000
"""Occurrences that are looked at until one is later than a moment: a second each, in three hours, are fewer."""
_LOOKS = 50_000
"""Days that a rule may look at for one occurrence."""
_A_DAY = 20
"""As many looks at an hour, a minute or a second take about as long as one at a day."""
_LONGEST = 500
_UNTIL = re.compile(r"UNTIL=(\d{8}T\d{6})Z", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Rule:
    """Occurrences of a schedule. `after` gives the first one later than a moment, None when there is none."""

    after: Callable[[datetime], datetime | None]

    def from_(self, moment: datetime) -> Iterator[datetime]:
        """All occurrences later than a moment, in order, in UTC."""
        found = self.after(moment)
        while found is not None:
            yield found
            found = self.after(found)

    def next(self, moment: datetime, count: int) -> list[datetime]:
        """The next so many."""
        return list(islice(self.from_(moment), count))

    def between(self, since: datetime, until: datetime, most: int) -> list[datetime]:
        """Those later than `since`, up to and with `until`; the last so many of them."""
        return list(takewhile(lambda moment: moment <= until, islice(self.from_(since), 100_000)))[-most:]


def words(cron: str) -> str:
    """A cron expression in words: `at 06:00 on Monday through Friday`. Raises `ValueError` for one that cannot be read."""
    try:
        told = CronSim(cron, datetime(2026, 1, 1)).explain()
    except CronSimError as error:
        raise ValueError(f"cron {cron!r}: {error}") from None
    return told[:1].lower() + told[1:]


def rule(cron: str | None, every: str | None, recurrence: str | None, zone: str) -> Rule:
    """The rule that exactly one of the three says. Raises `ValueError` with what is wrong.

    Cron and recurrence go by the wall clock. A cron time that the clock skips in spring comes as soon as the
    clock has skipped; one that comes twice in autumn is taken once, unless the hours are a wildcard. A recurrence
    in a skipped hour is read with the offset before (RFC 5545, 3.3.5).
    """
    if cron is not None:
        return Rule(_cron(cron, zones.zone(zone)))
    if every is not None:
        return Rule(_every(durations.seconds(every)))
    return Rule(_recurrence(str(recurrence), zones.zone(zone)))


def _cron(text: str, zone: ZoneInfo) -> Callable[[datetime], datetime | None]:
    if len(text) > _LONGEST:
        raise ValueError(f"cron has at most {_LONGEST} letters")
    if len(text.split()) != 5:
        raise ValueError(f"cron has five fields, not {len(text.split())}")
    try:
        CronSim(text, datetime(2024, 1, 1, tzinfo=UTC))
    except CronSimError as error:
        raise ValueError(f"{text!r} is no cron expression: {error}") from None

    def after(moment: datetime) -> datetime | None:
        found = next(CronSim(text, moment.astimezone(zone)), None)
        return found and found.astimezone(UTC)

    if after(datetime(2024, 1, 1, tzinfo=UTC)) is None:
        raise ValueError(f"{text!r} never comes")
    return after


def _every(seconds: float) -> Callable[[datetime], datetime | None]:
    if seconds < 1:
        raise ValueError("a schedule comes at most once a second")

    def after(moment: datetime) -> datetime:
        return datetime.fromtimestamp((moment.timestamp() // seconds + 1) * seconds, UTC)

    return after


def _recurrence(text: str, zone: ZoneInfo) -> Callable[[datetime], datetime | None]:
    if len(text) > _LONGEST:
        raise ValueError(f"a recurrence rule has at most {_LONGEST} letters")
    lines = _UNTIL.sub(lambda found: f"UNTIL={_wall(found[1], zone)}", text.strip().replace("\\n", "\n"))
    try:
        given: Any = rrulestr(lines, dtstart=None if "DTSTART" in lines.upper() else _EPOCH)
    except Exception as error:  # of whatever kind: the reader is made for rules that are right
        raise ValueError(f"{text!r} is no recurrence rule: {str(error)[:200]}") from None
    if isinstance(given, rruleset):
        raise ValueError("one recurrence rule is taken, not a set of them")
    if given._dtstart.tzinfo is not None:
        raise ValueError("write DTSTART by the wall clock of the zone, without Z")

    def after(moment: datetime) -> datetime | None:
        try:
            return later(moment)
        except (ArithmeticError, TypeError, LookupError) as error:
            raise ValueError(f"{text!r} cannot be followed: {str(error)[:200]}") from None

    def later(moment: datetime) -> datetime | None:
        wall = moment.astimezone(zone).replace(tzinfo=None)
        # The wall clock may have gone back since: begin early enough, and take the first that is truly later.
        here = wall - timedelta(hours=3)
        for found in islice(_counted(_near(given, here)).xafter(here), _ENDLESS):
            there = found.replace(tzinfo=zone).astimezone(UTC)
            if there > moment:
                return there
        return None

    after(datetime.now(UTC))
    return after


class _Looks:
    """How much a rule may still look at for one occurrence."""

    def __init__(self) -> None:
        self.left = _LOOKS * _A_DAY

    def take(self, weight: int) -> None:
        """Raises `ValueError` when that is too much."""
        self.left -= weight
        if self.left < 0:
            raise ValueError(
                "the rule looks at too many days for each time it comes; write it as cron, or more coarsely"
            )


class _Counted(frozenset[int]):
    """What a rule names of months, hours, minutes or seconds; each look at one is counted."""

    looks: _Looks
    weight: int

    def __contains__(self, one: object) -> bool:
        self.looks.take(self.weight)
        return super().__contains__(one)


def _counted(rule: Any) -> Any:
    """The same rule, which gives up when it has looked for long: each day that it looks at is asked for its month, and each
    second of a day, where it names hours, minutes or seconds, for those."""
    counted, looks = rule.replace(), _Looks()
    for name, usual, weight in (("month", range(1, 13), _A_DAY), ("hour", (), 1), ("minute", (), 1), ("second", (), 1)):
        named = _Counted(getattr(rule, f"_by{name}") or usual)
        named.looks, named.weight = looks, weight
        setattr(counted, f"_by{name}", named or getattr(rule, f"_by{name}"))
    return counted


def _wall(text: str, zone: ZoneInfo) -> str:
    """A moment in UTC as the wall clock of a zone shows it."""
    moment = datetime.strptime(text, "%Y%m%dT%H%M%S").replace(tzinfo=UTC)
    return moment.astimezone(zone).strftime("%Y%m%dT%H%M%S")


def _near(given: Any, moment: datetime) -> rrule:
    """The same rule, begun shortly before a moment, so that a rule of seconds is not counted from its beginning."""
    unit = _UNITS.get(given._freq)
    if unit is None or given._count is not None:
        return given
    span = unit * given._interval
    skipped = (moment - given._dtstart) // span - 2
    return given if skipped <= 0 else given.replace(dtstart=given._dtstart + span * skipped)
