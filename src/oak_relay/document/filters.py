"""Filters beyond Jinja's own."""

import base64
import csv as csv_format
import io
import re
import unicodedata
from collections.abc import Callable
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import jsonpath as jsonpath_format
from markdown_it import MarkdownIt

from oak_relay.document import durations, values
from oak_relay.document.errors import StepFailed


def jsonpath(value: Any, path: str) -> list[object]:
    """All matches of a JSONPath (RFC 9535)."""
    try:
        return jsonpath_format.findall(path, value)
    except jsonpath_format.JSONPathError as error:
        raise StepFailed("invalid", f"{path!r} is no JSONPath: {error}", fix="see RFC 9535") from None


def json(value: object) -> str:
    """JSON text of a value."""
    return values.dumps(value)


def from_json(text: str) -> object:
    """The value of JSON text."""
    try:
        return values.loads(text)
    except values.NotJson as error:
        raise StepFailed("invalid", f"from_json: {error}", fix="check the text") from None


def csv(rows: list[dict[str, object]]) -> str:
    """Rows (mappings) as CSV (RFC 4180) with a head line."""
    if not isinstance(rows, list) or not all(isinstance(r, dict) for r in rows):
        raise StepFailed("invalid", "csv wants a list of mappings", fix="give it rows")
    heads = list(dict.fromkeys(key for row in rows for key in row))
    out = io.StringIO()
    writer = csv_format.DictWriter(out, heads)
    writer.writeheader()
    writer.writerows([{k: values.text_of(v) for k, v in row.items()} for row in rows])
    return out.getvalue()


def plain(text: str) -> str:
    """Markdown (CommonMark) as text without markup."""
    parts: list[str] = []
    for token in MarkdownIt().parse(text):
        if token.type == "inline":
            parts.append(
                "".join("\n" if c.type in ("softbreak", "hardbreak") else c.content for c in token.children or [])
            )
        elif token.type in ("fence", "code_block"):
            parts.append(token.content.rstrip("\n"))
    return "\n".join(parts)


def _moment(value: object) -> datetime:
    if isinstance(value, datetime):
        return value
    try:
        return durations.moment(str(value))
    except ValueError as error:
        raise StepFailed("invalid", str(error), fix="give a moment such as now") from None


def date(value: object, form: str = "%Y-%m-%d") -> str:
    """A moment written by a strftime form."""
    return _moment(value).strftime(form)


def in_zone(value: object, zone: str) -> datetime:
    """A moment in an IANA time zone."""
    try:
        return _moment(value).astimezone(ZoneInfo(zone))
    except (ZoneInfoNotFoundError, ValueError):
        raise StepFailed("invalid", f"there is no time zone {zone}", fix="write Europe/Zurich") from None


def slug(text: object) -> str:
    """Lower-case letters, digits and hyphens."""
    ascii_text = unicodedata.normalize("NFKD", str(text)).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "-", ascii_text.lower()).strip("-")


def mask(text: object, keep: int = 4) -> str:
    """All but the last characters as dots."""
    text = str(text)
    keep = max(0, min(keep, len(text) // 2))
    return "•" * (len(text) - keep) + text[len(text) - keep :]


def base64_text(text: object) -> str:
    """UTF-8 text in base64 (RFC 4648)."""
    return base64.b64encode(str(text).encode()).decode()


OWN_FILTERS: dict[str, Callable[..., object]] = {
    "jsonpath": jsonpath,
    "json": json,
    "from_json": from_json,
    "csv": csv,
    "plain": plain,
    "date": date,
    "in_zone": in_zone,
    "slug": slug,
    "mask": mask,
    "base64": base64_text,
}
