"""How an operation's pages follow each other, guessed from what its document says of parameters and answer."""

from collections.abc import Iterator, Mapping
from typing import Any

from oak_relay.actions.openapi.naming import slug
from oak_relay.actions.openapi.schemas import Document
from oak_relay.actions.openapi.shapes import Paging, Parameter

_CURSORS = (
    "cursor",
    "after",
    "page_token",
    "next_token",
    "continuation",
    "continuation_token",
    "marker",
    "start_after",
)
_MARKS = (
    "next_cursor",
    "next_page_token",
    "next_token",
    "next_marker",
    "continuation",
    "continuation_token",
    "next_page",
    "next",
    "end_cursor",
    "cursor",
    "marker",
    "after",
)
_ADDRESSES = ("next", "next_url", "next_link", "next_page", "next_page_url")
_OFFSETS = ("offset", "skip", "start", "start_index", "from")
_NUMBERS = ("page", "page_number", "page_no", "page_index")
_SIZES = ("limit", "per_page", "page_size", "size", "count", "top", "max_results", "first")
_ITEMS = ("items", "data", "results", "values", "value", "entries", "records", "rows", "list", "content")
_AROUND = (
    "",
    "meta",
    "paging",
    "pagination",
    "page",
    "page_info",
    "links",
    "_links",
    "metadata",
    "cursors",
    "response_metadata",
)


def paging(document: Document, parameters: tuple[Parameter, ...], answer: object, headers: object) -> Paging | None:
    """How pages follow each other; None where nothing says that there are several."""
    items = _items(document, answer)
    if items is None:
        return None
    asked = {_plain(one.name): one.field for one in parameters if one.where == "query"}
    marks = dict(_marks(document, answer))
    if cursor := next((asked[name] for name in _CURSORS if name in asked), ""):
        place = next((marks[name] for name in _MARKS if name in marks), None)
        if place is not None:
            return Paging(how="cursor", field=cursor, next=place, items=items)
    place = next((marks[name] for name in _ADDRESSES if name in marks), None)
    if place is not None:
        return Paging(how="link", next=place, items=items)
    if isinstance(headers, Mapping) and any(str(name).lower() == "link" for name in headers):
        return Paging(how="link", items=items)
    if offset := next((asked[name] for name in _OFFSETS if name in asked and any(s in asked for s in _SIZES)), ""):
        return Paging(how="offset", field=offset, items=items)
    if number := next((asked[name] for name in _NUMBERS if name in asked), ""):
        return Paging(how="page", field=number, items=items)
    return None


def _plain(name: str) -> str:
    """A name without its humps and strokes."""
    return slug(name)


def _properties(document: Document, schema: object) -> dict[str, Any]:
    """What a mapping holds, of all its parts."""
    told = document.target(schema)
    if not isinstance(told, Mapping):
        return {}
    found: dict[str, Any] = {}
    for part in told.get("allOf") or ():
        inner = document.target(part)
        if isinstance(inner, Mapping) and isinstance(inner.get("properties"), Mapping):
            found |= inner["properties"]
    if isinstance(told.get("properties"), Mapping):
        found |= told["properties"]
    return found


def _is_list(document: Document, schema: object) -> bool:
    told = document.target(schema)
    return isinstance(told, Mapping) and (told.get("type") == "array" or isinstance(told.get("items"), Mapping))


def _items(document: Document, answer: object) -> tuple[str, ...] | None:
    if _is_list(document, answer):
        return ()
    inner = _properties(document, answer)
    lists = [name for name, one in inner.items() if _is_list(document, one)]
    known = [name for name in _ITEMS if name in lists]
    if known:
        return (known[0],)
    return (lists[0],) if len(lists) == 1 else None


def _marks(document: Document, answer: object) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Texts and numbers of the answer, and of what tells of its pages, by their plain names; the outermost last."""
    inner = _properties(document, answer)
    for around in reversed(_AROUND):
        own = [name for name in inner if _plain(name) == _plain(around)] if around else [""]
        for place in own:
            for name, one in _properties(document, inner[place] if place else answer).items():
                told = document.target(one)
                if isinstance(told, Mapping) and _is_mark(told):
                    yield _plain(name), (place, name) if place else (name,)


def _is_mark(told: Mapping[str, Any]) -> bool:
    """Whether a schema is that of a text or number, perhaps none."""
    kinds = told.get("type")
    some = kinds if isinstance(kinds, list) else [kinds]
    ways = told.get("anyOf") or told.get("oneOf") or ()
    some += [one.get("type") for one in ways if isinstance(one, Mapping)]
    return any(one in ("string", "integer") for one in some)
