"""How the fields of an operation are written into a request (OpenAPI 3.1, section 4.8.12.5; RFC 6570)."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from urllib.parse import quote, urlencode

from oak_relay.actions.openapi.shapes import Operation, Parameter
from oak_relay.document import values
from oak_relay.document.errors import StepFailed

_RESERVED = ":/?#[]@!$&'()*+,;="


def address(base: str, operation: Operation, given: Mapping[str, object]) -> str:
    """Where a request goes. Raises `StepFailed` (`invalid`) for a value that no path can have."""
    path = operation.path
    query: list[str] = []
    for one in operation.parameters:
        value = given.get(one.field)
        if value is None:
            continue
        if one.where == "path":
            path = path.replace(f"{{{one.name}}}", _segment(operation, one, value))
        elif one.where == "query":
            query += _pairs(one, value)
    where = f"{base}{path}"
    return f"{where}{'&' if '?' in where else '?'}{'&'.join(query)}" if query else where


def headers(operation: Operation, given: Mapping[str, object]) -> dict[str, str]:
    """The headers that its parameters make, cookies among them."""
    found: dict[str, str] = {}
    cookies: list[str] = []
    for one in operation.parameters:
        value = given.get(one.field)
        if value is None:
            continue
        if one.where == "header":
            found[one.name] = _joined(value, ",", one.explode)
        elif one.where == "cookie":
            cookies.append(f"{quote(one.name)}={quote(_joined(value, ',', False))}")
    return {**found, "Cookie": "; ".join(cookies)} if cookies else found


def fields(body: object) -> bytes:
    """A form of fields (WHATWG URL, section 5.2); what a list holds becomes several of one name, a mapping its JSON."""
    pairs: list[tuple[str, str]] = []
    for name, value in body.items() if isinstance(body, Mapping) else ():
        pairs += [(name, values.text_of(one)) for one in (value if isinstance(value, list) else [value])]
    return urlencode(pairs).encode()


def _segment(operation: Operation, one: Parameter, value: object) -> str:
    """A value as a part of the path, which it cannot leave."""
    if one.style == "label":
        return "." + _encoded(value, "." if one.explode else ",", one.explode)
    if one.style == "matrix":
        if isinstance(value, list) and one.explode:
            return "".join(f";{quote(one.name)}={_text(item)}" for item in value)
        if isinstance(value, Mapping) and one.explode:
            return "".join(f";{quote(str(name))}={_text(item)}" for name, item in value.items())
        return f";{quote(one.name)}={_encoded(value, ',', False)}"
    text = _text(values.dumps(value)) if one.style == "json" else _encoded(value, ",", one.explode)
    if text in ("", ".", ".."):
        raise StepFailed(
            "invalid", f"{operation.name}: {one.field} is a part of the address and cannot be {text or 'empty'!r}"
        )
    return text


def _pairs(one: Parameter, value: object) -> Iterator[str]:
    """A parameter of the address as `name=value`, perhaps several times."""
    safe = _RESERVED if one.reserved else ""

    def pair(name: str, item: object) -> str:
        return f"{quote(name, safe='[]')}={quote(values.text_of(item), safe=safe, errors='replace')}"

    if one.style == "json":
        yield pair(one.name, values.dumps(value))
    elif isinstance(value, Mapping):
        if one.style == "deepObject":
            yield from _deep(one.name, value, pair)
        elif one.explode:
            yield from (pair(str(name), item) for name, item in value.items())
        else:
            yield pair(one.name, ",".join(f"{name},{values.text_of(item)}" for name, item in value.items()))
    elif isinstance(value, list):
        if one.explode:
            yield from (pair(one.name, item) for item in value)
        else:
            between = {"spaceDelimited": " ", "pipeDelimited": "|"}.get(one.style, ",")
            yield pair(one.name, between.join(values.text_of(item) for item in value))
    else:
        yield pair(one.name, value)


def _deep(name: str, value: Mapping[str, object], pair: Callable[[str, object], str]) -> Iterator[str]:
    for key, item in value.items():
        if isinstance(item, Mapping):
            yield from _deep(f"{name}[{key}]", item, pair)
        else:
            for one in item if isinstance(item, list) else [item]:
                yield pair(f"{name}[{key}]", one)


def _joined(value: object, between: str, explode: bool) -> str:
    return between.join(_parts(value, explode)) if isinstance(value, list | Mapping) else values.text_of(value)


def _encoded(value: object, between: str, explode: bool) -> str:
    return between.join(map(_text, _parts(value, explode)))


def _parts(value: object, explode: bool) -> Iterable[str]:
    if isinstance(value, Mapping):
        pairs = ((str(name), values.text_of(item)) for name, item in value.items())
        return [f"{n}={v}" for n, v in pairs] if explode else [part for pair in pairs for part in pair]
    return [values.text_of(item) for item in value] if isinstance(value, list) else [values.text_of(value)]


def _text(value: object) -> str:
    return quote(values.text_of(value), safe="", errors="replace")
