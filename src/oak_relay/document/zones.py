"""Time zones by their names in the IANA database."""

from difflib import get_close_matches
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

_LONGEST = 60


def zone(name: str) -> ZoneInfo:
    """The zone of a name. Raises `ValueError` where there is none."""
    try:
        if len(name) <= _LONGEST:
            return ZoneInfo(name)
    except (ValueError, OSError, ZoneInfoNotFoundError):
        pass  # names of folders and of what is no zone are told in many ways
    raise ValueError(f"{name[:_LONGEST]} is no IANA zone")


def near(name: str) -> str | None:
    """The zone that may be meant by what is no name of one: of its city, or spelt alike."""
    if len(name) > _LONGEST:
        return None
    city = name.strip().replace(" ", "_").split("/")[-1].lower()
    zones = sorted(available_timezones())
    found = [one for one in zones if one.split("/")[-1].lower() == city and "/" in one]
    return next(iter(found or get_close_matches(name, zones, 1, 0.7)), None)
