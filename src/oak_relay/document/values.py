"""Canonical JSON text: order of keys and every digit of a number survive a round trip (RFC 8259)."""

import hashlib
import json
import math
import re
from decimal import Decimal
from typing import Any

import orjson

_LONG_NUMBER = re.compile(rb"\d{16}|[\d.]{17}|\d[eE]\+?\d{3}|\d\.\d*[eE]")
_UNSTORABLE = re.compile("[\x00\ud800-\udfff]")


class NotJson(ValueError):
    """The text is no JSON, or holds a number or nesting that cannot be kept."""


def loads(text: str | bytes) -> Any:
    """Parse JSON; numbers a float would change come back as `Decimal`. Raises `NotJson`."""
    try:
        raw = text.encode() if isinstance(text, str) else bytes(text)
    except UnicodeEncodeError:
        raise NotJson("the text holds a lone surrogate outside an escape") from None
    if _LONG_NUMBER.search(raw) is None:
        try:
            return orjson.loads(raw)
        except orjson.JSONDecodeError:
            pass  # lone surrogates and the like: the exact parser decides
    try:
        return json.loads(raw, parse_float=_exact, parse_constant=_no_constant)
    except NotJson:
        raise
    except UnicodeDecodeError:
        raise NotJson("the text is not UTF-8") from None
    except (ValueError, RecursionError) as error:
        reason = "it is nested too deeply" if isinstance(error, RecursionError) else str(error)
        raise NotJson(reason) from None


def dumps(value: Any) -> str:
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


def stored(value: Any) -> Any:
    """The value as it comes back from the record."""
    return loads(dumps(value))


def digest(*parts: str) -> str:
    """A short SHA-256 over the parts, 16 hexadecimal digits."""
    h = hashlib.sha256()
    for part in parts:
        h.update(part.encode("utf-8", "surrogatepass"))
        h.update(b"\x1f")
    return h.hexdigest()[:16]


def text_of(value: Any) -> str:
    """How a value reads inside a longer text: texts as they are, null as nothing, the rest as JSON."""
    if isinstance(value, str):
        return value
    if value is None:
        return ""
    if hasattr(value, "isoformat"):
        return value.isoformat()
    return dumps(value)


def unfenced(text: str) -> str:
    """JSON that a model wrote, without the fence of Markdown around it."""
    inner = text.strip()
    return inner.strip("`").removeprefix("json").strip() if inner.startswith("```") else inner


def storable_text(text: str) -> str:
    """Text that PostgreSQL can hold: NUL and lone surrogates become U+FFFD."""
    return _UNSTORABLE.sub("\ufffd", text)


def unstorable(value: Any) -> bool:
    """Whether a value holds text that a searched column cannot keep."""
    try:
        if b"\\u0000" not in orjson.dumps(value):  # written so by this encoder, which refuses lone surrogates
            return False
    except TypeError:
        pass
    return _holds_unstorable(value)


def _holds_unstorable(value: Any) -> bool:
    if isinstance(value, str):
        return _UNSTORABLE.search(value) is not None
    if isinstance(value, dict):
        return any(_holds_unstorable(k) or _holds_unstorable(v) for k, v in value.items())
    if isinstance(value, list | tuple):
        return any(_holds_unstorable(v) for v in value)
    return False


def _exact(text: str) -> float | Decimal:
    number = float(text)
    exact = Decimal(text)
    if math.isfinite(number) and Decimal(repr(number)) == exact:
        return number
    return exact


def _no_constant(name: str) -> Any:
    raise NotJson(f"{name} is not a JSON number")


def _write(value: Any, out: list[str]) -> None:
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
