"""Time zones by their names in the IANA database."""

from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

_LONGEST = 60


def zone(name: str) -> ZoneInfo:
    """The zone of a name. Raises `ValueError` where there is none."""
    try:
        if len(name) <= _LONGEST:
            return ZoneInfo(name)
    except (ValueError, OSError, ZoneInfoNotFoundError):
        pass  # names of folders and of what is no zone are told in many ways
    raise ValueError(f"{name[:_LONGEST]} is no IANA zone")
