"""Filters beyond Jinja's own."""

import base64
import csv as csv_format
import io
import re
import unicodedata
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from decimal import ROUND_CEILING, ROUND_FLOOR, Decimal
from typing import Any

from jinja2 import Environment, pass_environment
from jinja2.filters import do_filesizeformat, make_attrgetter
from markdown_it import MarkdownIt

from oak_relay.document import durations, paths, values, zones
from oak_relay.document.errors import StepFailed
from oak_relay.document.meter import METER, short_text, sound_number


def jsonpath(value: object, path: str) -> Sequence[object]:
    """All matches of a JSONPath (RFC 9535)."""
    return paths.find(path, value)


def joined(items: Sequence[object], between: str = "") -> str:
    """Values as they read in text, one behind the other. Raises `StepFailed` before it grows too long."""
    pieces: list[str] = []
    length = -len(between)
    for item in items:
        METER.get().weigh(item)
        piece = values.text_of(item)
        length += len(piece) + len(between)
        short_text(length)
        pieces.append(piece)
    METER.get().charge(1 + max(0, length) // 100)
    return between.join(pieces)


@pass_environment
def join(environment: Environment, items: Iterable[object], between: object = "", attribute: str | None = None) -> str:
    """The items of a list, or an attribute of each, as one text."""
    if attribute is not None:
        items = [make_attrgetter(environment, attribute)(item) for item in items]
    return joined(list(items), values.text_of(between))


def replace(text: object, old: str, new: str, count: int = -1) -> str:
    """A text with every `old` (or the first so many) replaced."""
    whole, old, new = values.text_of(text), values.text_of(old), values.text_of(new)
    found = whole.count(old)
    times = found if count is None or count < 0 else min(count, found)
    short_text(len(whole) + times * (len(new) - len(old)))
    return whole.replace(old, new, times)


def rounded(value: Any, precision: int = 0, method: str = "common") -> object:
    """A number with so many places behind its point, or before it; `common`, `ceil` or `floor`."""
    if method not in ("common", "ceil", "floor") or not isinstance(precision, int) or abs(precision) > _PLACES:
        raise StepFailed(
            "invalid",
            f"round wants a precision up to {_PLACES} and common, ceil or floor",
            fix="write round(2), or round(2, 'floor')",
        )
    if isinstance(value, bool) or not isinstance(value, int | float | Decimal):
        raise StepFailed("invalid", f"round wants a number, not {values.dumps(value)[:40]}", fix="| float before it")
    if method == "common":
        return round(value, precision)
    exact = Decimal(str(value)).quantize(Decimal(1).scaleb(-precision), _ROUNDINGS[method])
    return exact if isinstance(value, Decimal) else type(value)(exact)


@pass_environment
def total(environment: Environment, items: Iterable[Any], attribute: str | None = None, start: Any = 0) -> object:
    """The sum of numbers, or of an attribute of each item."""
    if attribute is not None:
        items = [make_attrgetter(environment, attribute)(item) for item in items]
    result: Any = start
    items = list(items)
    for item in (start, *items):
        if isinstance(item, bool) or not isinstance(item, int | float | Decimal):
            raise StepFailed("invalid", "sum wants numbers", fix="choose them with map(attribute=…)")
    for item in items:
        METER.get().charge()
        result += item
    sound_number(result)
    return result


@pass_environment
def unique(
    environment: Environment, items: Iterable[object], case_sensitive: bool = False, attribute: str | None = None
) -> list[object]:
    """The items of a list, each once; texts alike but for their case are one, unless that matters."""
    take = make_attrgetter(environment, attribute) if attribute is not None else None
    found: dict[str, object] = {}
    for item in items:
        key = take(item) if take else item
        text = values.dumps(key)  # by its text: numbers can be made that are all kept in one place
        found.setdefault(text if case_sensitive or not isinstance(key, str) else text.lower(), item)
    return list(found.values())


def as_list(items: Iterable[object]) -> list[object]:
    """A list of the items of anything that has some."""
    found = []
    for item in items:
        METER.get().charge()
        found.append(item)
    return found


def filesize(value: Any, binary: bool = False) -> str:
    """A number of bytes for people."""
    return str(do_filesizeformat(float(value), binary))


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
    if len(text) > _MARKDOWN:
        raise StepFailed("over_limit", f"plain takes at most {_MARKDOWN:,} letters", fix="shorten the text before")
    METER.get().charge(len(text))
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
    if len(form) > _FORM:
        raise StepFailed("invalid", f"a form has at most {_FORM} letters", fix="write a shorter one")
    return _moment(value).strftime(form)


def in_zone(value: object, zone: str) -> datetime:
    """A moment in an IANA time zone."""
    try:
        return _moment(value).astimezone(zones.zone(zone))
    except ValueError as error:
        raise StepFailed("invalid", str(error), fix="write Europe/Zurich") from None


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


_PLACES = 300
_ROUNDINGS = {"ceil": ROUND_CEILING, "floor": ROUND_FLOOR}
_MARKDOWN, _FORM = 50_000, 100
"""Letters of Markdown, and of a form or a zone."""
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
    "join": join,
    "replace": replace,
    "round": rounded,
    "sum": total,
    "unique": unique,
    "list": as_list,
    "string": values.text_of,
    "filesizeformat": filesize,
}


_OF_JINJA = {
    "abs": "A number without its sign.",
    "capitalize": "The first letter large, the others small.",
    "count": "How many items there are, or letters.",
    "d": "What is written in brackets, where there is nothing; short for default.",
    "default": "What is written in brackets, where there is nothing.",
    "dictsort": "Pairs of name and value, by name.",
    "first": "The first item.",
    "float": "A number with a fraction; 0.0, or what is written in brackets, for what is none.",
    "groupby": "Pairs of a value of an attribute and the items that have it.",
    "int": "A whole number; 0, or what is written in brackets, for what is none.",
    "items": "Pairs of name and value.",
    "last": "The last item.",
    "length": "How many items there are, or letters.",
    "lower": "All letters small.",
    "map": "A filter, or an attribute, of each item: map('lower'), map(attribute='name').",
    "max": "The largest item.",
    "min": "The smallest item.",
    "reject": "The items for which a test does not hold.",
    "rejectattr": "The items for whose attribute a test does not hold.",
    "reverse": "The items, or letters, from the last to the first.",
    "select": "The items for which a test holds.",
    "selectattr": "The items for whose attribute a test holds: selectattr('open', 'equalto', true).",
    "sort": "The items in order: sort(attribute='name'), sort(reverse=true).",
    "striptags": "Text without the marks of HTML.",
    "title": "Each word with a large letter.",
    "trim": "Text without the spaces around it.",
    "truncate": "The beginning of a text: truncate(80).",
    "upper": "All letters large.",
    "urlencode": "Text as it may stand in an address.",
    "wordcount": "How many words a text has.",
}


def sentences() -> dict[str, str]:
    """What each filter of the language does, in a sentence."""
    own = {
        name: (filter.__doc__ or "").partition("\n\n")[0].replace("\n    ", " ") for name, filter in OWN_FILTERS.items()
    }
    return dict(sorted({**_OF_JINJA, **own}.items()))
