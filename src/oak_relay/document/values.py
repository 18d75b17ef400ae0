"""Values as documents hold them: JSON, digests, how they read in text, and what the database can keep."""

import hashlib
import re
from typing import Any

import orjson

from oak_relay.jsontext import NotJson, copied, dumps, loads

_UNSTORABLE = re.compile("[\x00\ud800-\udfff]")


def stored(value: object) -> object:
    """The value as it comes back from the record."""
    return copied(value)[1]


def digest(*parts: str) -> str:
    """A short SHA-256 over the parts, 16 hexadecimal digits."""
    whole = "\x1f".join(parts) + "\x1f"
    return hashlib.sha256(whole.encode("utf-8", "surrogatepass")).hexdigest()[:16]


def text_of(value: object) -> str:
    """How a value reads inside a longer text: texts as they are, null as nothing, the rest as JSON."""
    if isinstance(value, str):
        return value
    if value is None:
        return ""
    if hasattr(value, "isoformat"):
        return value.isoformat()
    return dumps(value)


def in_brief(value: object) -> str:
    """How a value reads inside a short sentence: on one line, an expression without its marks, 70 characters at most."""
    text = " ".join(text_of(value).split())
    if text.startswith("${") and text.endswith("}") and text.count("${") == 1:
        text = text[2:-1].strip()
    return text if len(text) <= 70 else text[:67] + "…"


def unfenced(text: str) -> str:
    """JSON that a model wrote, without the fence of Markdown around it."""
    inner = text.strip()
    return inner.strip("`").removeprefix("json").strip() if inner.startswith("```") else inner


def json_in(text: str) -> Any:
    """The JSON that a model wrote: the whole text, what a fence of Markdown holds, or the first mapping or list among other
    words. Raises `NotJson`."""
    try:
        return loads(unfenced(text))
    except NotJson as error:
        for start in _opening(text):
            for end in (text.rfind("}"), text.rfind("]")):
                try:
                    return loads(text[start : end + 1])
                except NotJson:
                    continue
        raise error


def _opening(text: str) -> list[int]:
    """Where JSON may begin among words."""
    found = [text.find("{"), text.find("[")]
    return sorted(place for place in found if place > -1)


def storable_text(text: str) -> str:
    """Text that PostgreSQL can hold: NUL and lone surrogates become U+FFFD."""
    return _UNSTORABLE.sub("\ufffd", text)


def unstorable(value: object) -> bool:
    """Whether a value holds text that a searched column cannot keep."""
    try:
        if b"\\u0000" not in orjson.dumps(value):  # written so by this encoder, which refuses lone surrogates
            return False
    except TypeError:
        pass
    return _holds_unstorable(value)


def _holds_unstorable(value: object) -> bool:
    if isinstance(value, str):
        return _UNSTORABLE.search(value) is not None
    if isinstance(value, dict):
        return any(_holds_unstorable(k) or _holds_unstorable(v) for k, v in value.items())
    if isinstance(value, list | tuple):
        return any(_holds_unstorable(v) for v in value)
    return False


__all__ = [
    "NotJson",
    "copied",
    "digest",
    "dumps",
    "in_brief",
    "json_in",
    "loads",
    "storable_text",
    "stored",
    "text_of",
    "unfenced",
    "unstorable",
]
