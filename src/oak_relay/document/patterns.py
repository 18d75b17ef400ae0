"""Patterns (I-Regexp, RFC 9485, and what of ECMA 262 can be matched in linear time)."""

from functools import lru_cache

import jsonschema_rs

_LONGEST = 500
_OPTIONS = jsonschema_rs.RegexOptions(size_limit=500_000, dfa_size_limit=2_000_000)


def found_in(pattern: str, text: str) -> bool:
    """Whether a part of a text matches; never of a pattern that cannot be used."""
    rule = _rule(pattern)
    return rule is not None and rule.is_valid(text)


def matches(pattern: str, text: str) -> bool:
    """Whether the whole of a text matches; never of a pattern that cannot be used."""
    return found_in(f"^(?:{pattern})$", text)


@lru_cache(maxsize=256)
def _rule(pattern: str) -> jsonschema_rs.Validator | None:
    if len(pattern) > _LONGEST:
        return None
    try:
        return jsonschema_rs.validator_for({"pattern": pattern}, pattern_options=_OPTIONS, offline=True)
    except (jsonschema_rs.ValidationError, ValueError):
        return None
