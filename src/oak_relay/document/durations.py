"""Durations (`500ms`, `30s`, `5m`, `2h`, `3d`, or ISO 8601 `PT5M`) and moments (RFC 3339)."""

import re
from datetime import UTC, datetime

_SHORT = re.compile(r"^(\d+(?:\.\d+)?)(ms|s|m|h|d)$")
_ISO = re.compile(
    r"^P(?=.)(?:(\d+(?:\.\d+)?)W)?(?:(\d+(?:\.\d+)?)D)?"
    r"(?:T(?=.)(?:(\d+(?:\.\d+)?)H)?(?:(\d+(?:\.\d+)?)M)?(?:(\d+(?:\.\d+)?)S)?)?$"
)
_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}
PATTERN = r"^(\d+(\.\d+)?(ms|s|m|h|d)|P.+)$"
LONGEST = 3660 * 86400.0


def seconds(text: str) -> float:
    """Seconds in a duration. Raises `ValueError` with what would be right."""
    short = _SHORT.match(text)
    if short:
        total = float(short[1]) * _UNITS[short[2]]
    else:
        iso = _ISO.match(text)
        if not iso:
            raise ValueError(f"{text!r} is not a duration; write 500ms, 30s, 5m, 2h, 3d or PT5M")
        factors = (7 * 86400.0, 86400.0, 3600.0, 60.0, 1.0)
        total = sum(float(n) * f for n, f in zip(iso.groups(), factors, strict=True) if n)
    if total > LONGEST:
        raise ValueError(f"{text!r} is longer than ten years")
    return total


def moment(text: str) -> datetime:
    """A moment in RFC 3339, always zoned (UTC when none is said). Raises `ValueError`."""
    try:
        parsed = datetime.fromisoformat(text)
    except ValueError:
        raise ValueError(f"{text!r} is not a moment; write 2031-04-05T06:00:00Z") from None
    return parsed if parsed.tzinfo else parsed.replace(tzinfo=UTC)
