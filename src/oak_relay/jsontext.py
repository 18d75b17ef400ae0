"""Canonical JSON text: order of keys and every digit of a number survive a round trip (RFC 8259)."""

import json
import math
import re
from decimal import Decimal
from typing import Any

import orjson

_LONG_NUMBER = re.compile(rb"\d{16}|[\d.]{17}|\d[eE][-+]?\d{3}|\d\.\d*[eE]")
_ALIKE = bytes.maketrans(b"123456789.E", b"0000000000e")
_SUSPECT = (b"0" * 16, b"0e0", b"0e+", b"0e-")
"""What a text with such a number must hold, its digits and points all written `0`: far quicker to look for."""


DIGITS = 1_000
"""Digits that a number may have, and its largest exponent either way. Beyond that, counting alone can take for ever."""
_TOO_LONG = f"a number has more than {DIGITS:,} digits, or an exponent beyond {DIGITS:,}"
DEEPEST = 200
"""How deep lists and mappings may lie in each other."""


class NotJson(ValueError):
    """The text is no JSON, or holds a number or nesting that cannot be kept."""


def loads(text: str | bytes) -> Any:
    """Parse JSON; numbers a float would change come back as `Decimal`. Raises `NotJson`."""
    try:
        raw = text.encode() if isinstance(text, str) else bytes(text)
    except UnicodeEncodeError:
        raise NotJson("the text holds a lone surrogate outside an escape") from None
    value = _parsed(raw)
    if raw.count(b"[") + raw.count(b"{") > DEEPEST and deeper(value):
        raise NotJson(f"it is nested more than {DEEPEST} deep")
    return value


def _parsed(raw: bytes) -> Any:
    if _plain(raw):
        try:
            return orjson.loads(raw)
        except orjson.JSONDecodeError:
            pass  # lone surrogates and the like: the exact parser decides
    try:
        return json.loads(raw, parse_float=_exact, parse_int=_whole, parse_constant=_no_constant)
    except NotJson:
        raise
    except UnicodeDecodeError:
        raise NotJson("the text is not UTF-8") from None
    except (ValueError, RecursionError) as error:
        reason = "it is nested too deeply" if isinstance(error, RecursionError) else str(error)
        raise NotJson(reason) from None


def deeper(value: object, most: int = DEEPEST) -> bool:
    """Whether lists and mappings lie in each other more than so deep."""
    level = [value] if isinstance(value, dict | list) else []
    for _ in range(most):
        level = [
            inner
            for one in level
            for inner in (one.values() if isinstance(one, dict) else one)
            if isinstance(inner, dict | list)
        ]
        if not level:
            return False
    return True


def _plain(raw: bytes) -> bool:
    """Whether every number in a text is one that a float or an integer of 64 bits holds exactly."""
    alike = raw.translate(_ALIKE)
    for mark in _SUSPECT:
        if mark in alike:
            return _LONG_NUMBER.search(raw) is None
    return True


def copied(value: object) -> tuple[str, Any]:
    """A value's JSON text, and the value as it is read back from that. Raises `NotJson`."""
    try:
        raw = orjson.dumps(value)
        return raw.decode(), orjson.loads(raw)  # what this encoder takes, its decoder gives back exactly
    except TypeError:
        text = dumps(value)
        return text, loads(text)


def dumps(value: object) -> str:
    """Compact JSON text of plain values and `Decimal`. Raises `NotJson` for what JSON cannot say."""
    try:
        return orjson.dumps(value).decode()
    except TypeError:
        pieces: list[str] = []
        try:
            _write(value, pieces)
        except RecursionError:
            raise NotJson("it is nested too deeply") from None
        return "".join(pieces)


def _whole(text: str) -> int:
    if len(text) > DIGITS + 1:
        raise NotJson(f"a number has more than {DIGITS:,} digits")
    return int(text)


def _exact(text: str) -> float | Decimal:
    digits, _, exponent = text.lower().partition("e")
    if len(digits) > DIGITS + 2 or len(exponent) > 6 or abs(int(exponent or 0)) > DIGITS:
        raise NotJson(_TOO_LONG)
    number = float(text)
    exact = Decimal(text)
    if abs(exact.adjusted()) > DIGITS:  # it is written with this exponent
        raise NotJson(_TOO_LONG)
    if math.isfinite(number) and Decimal(repr(number)) == exact:
        return number
    return exact


def _no_constant(name: str) -> object:
    raise NotJson(f"{name} is not a JSON number")


def _write(value: object, out: list[str]) -> None:
    if value is None or isinstance(value, bool | str):
        out.append(json.dumps(value))
    elif isinstance(value, int):
        out.append(int.__repr__(value))
    elif isinstance(value, float | Decimal):
        if not (value.is_finite() if isinstance(value, Decimal) else math.isfinite(value)):
            raise NotJson(f"{value} is not a JSON number")
        out.append(str(value) if isinstance(value, Decimal) else float.__repr__(value))
    elif isinstance(value, dict):
        out.append("{")
        for index, (key, item) in enumerate(value.items()):
            if not isinstance(key, str):
                raise NotJson(f"the key {key!r} is not text")
            out.append(("," if index else "") + json.dumps(key) + ":")
            _write(item, out)
        out.append("}")
    elif isinstance(value, list | tuple):
        out.append("[")
        for index, item in enumerate(value):
            if index:
                out.append(",")
            _write(item, out)
        out.append("]")
    else:
        raise NotJson(f"a value of type {type(value).__name__} is not JSON")


def pretty(value: object, indent: int = 0) -> str:
    """JSON text for people, indented by two."""
    inner = "  " * (indent + 1)
    if isinstance(value, dict) and value:
        items = [f"{inner}{json.dumps(str(k), ensure_ascii=False)}: {pretty(v, indent + 1)}" for k, v in value.items()]
    elif isinstance(value, list | tuple) and value:
        items = [inner + pretty(v, indent + 1) for v in value]
    else:
        return json.dumps(value, ensure_ascii=False) if isinstance(value, str) else dumps(value)
    open_, close = "{}" if isinstance(value, dict) else "[]"
    return f"{open_}\n" + ",\n".join(items) + f"\n{'  ' * indent}{close}"
