"""Operations of a document as actions of the catalogue."""

from collections.abc import Mapping
from functools import cached_property
from typing import Any
from urllib.parse import urljoin, urlsplit

from oak_relay.actions import files
from oak_relay.actions.base import Action, Connector, Fields, Given
from oak_relay.actions.exchange import Exchange, authorised, send
from oak_relay.actions.openapi import sending
from oak_relay.actions.openapi.shapes import BODY, CREDENTIAL, KEY, PAGES, Described, Operation, Paging
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import schemas, shapes, values, wire
from oak_relay.document.check_base import ActionShape
from oak_relay.document.errors import StepFailed
from oak_relay.document.shapes import Schema

_LARGEST, _TOGETHER, _ITEMS = 4_000_000, 16_000_000, 100_000
"""Bytes of one answer and of all pages together, and items of these."""


class DescribedAction(Action):
    """An action whose fields are told by a schema."""

    def __init__(self, connector: str, address: str, operation: Operation) -> None:
        def sentence(step: str, given: Given) -> str:
            return operation.title

        async def perform(given: Any, at: Any) -> Result:
            return await _perform(address, operation, given, at)

        super().__init__(
            name=f"{connector}.{operation.name}",
            title=operation.title,
            input=Fields,
            output=None,
            repeat=operation.repeat,
            perform=perform,
            credentials=operation.credentials,
            scopes=operation.scopes,
            sentence=sentence,
            example=_example(operation),
            first=tuple(one for one in (*shapes.required(operation.input), BODY) if one in _fields(operation)),
        )
        object.__setattr__(self, "operation", operation)

    operation: Operation

    @property
    def schema(self) -> Schema:
        """JSON Schema of its input; not to be changed."""
        return self.operation.input

    @cached_property
    def _validator(self) -> schemas.Validator:
        return schemas.validator(self.operation.input)

    def read(self, data: Given) -> object:
        """The input, checked. Raises `StepFailed` (`invalid`)."""
        found = next(self._validator.misfits(dict(data)), None)
        if found is not None:
            raise StepFailed("invalid", f"{self.name}: {found}", fix=found.fix)
        return dict(data)

    @cached_property
    def shape(self) -> ActionShape:
        """What the checker and the script know of it."""
        operation = self.operation
        return ActionShape(
            input=operation.input,
            output=operation.output,
            repeat=lambda _: operation.repeat,
            gives=lambda _: operation.output,
            sentence=lambda *_: operation.title,
            credentials=self.credentials,
            streams=False,
            scopes=self.scopes,
        )


def connector(name: str, described: Described) -> Connector:
    """A connector of what was read from a document."""
    return Connector(described.title, [DescribedAction(name, described.address, one) for one in described.operations])


def _fields(operation: Operation) -> Mapping[str, object]:
    return shapes.properties(operation.input)


def _example(operation: Operation) -> dict[str, object]:
    """What must be given, with the examples of the document or something simple."""
    told, defined = shapes.properties(operation.input), operation.input.get("$defs", {})
    found: dict[str, object] = {}
    for name in shapes.required(operation.input):
        schema = shapes.resolved(told.get(name, {}), {"$defs": defined})
        found[name] = "a credential" if name == CREDENTIAL else shapes.sample_of(schema)
    return found


async def _perform(base: str, operation: Operation, given: Mapping[str, Any], at: Outbound) -> Result:
    paging, most = operation.paging, int(given.get(PAGES) or 1)
    url = sending.address(base, operation, given)
    exchange = await _one(operation, url, given, at)
    body = _read(operation, exchange)
    if paging is None or most <= 1:
        return Result(body, exchange.detail)
    turning = _Turning(paging, body)
    now = given
    for _ in range(most - 1):
        after = turning.next(exchange, url, now)
        if after is None:
            break
        where, now = after
        url = where or sending.address(base, operation, now)
        last, exchange = exchange, await _one(operation, url, now, at)
        exchange.detail = last.detail  # the first of them is shown
        turning.add(_read(operation, exchange), len(exchange.body))
    return Result(turning.whole(), {**exchange.detail, "pages": turning.pages})


class _Turning:
    """Pages that are put together."""

    def __init__(self, paging: Paging, first: object) -> None:
        self._paging = paging
        self._last: Any = None
        self._items: list[Any] = []
        self._seen: set[str] = set()
        self._size = self.pages = 0
        self.add(first, 0)

    def add(self, body: object, size: int) -> None:
        """One page more. Raises `StepFailed` (`too_long`)."""
        found = _at(body, self._paging.items)
        self._last, self._had = body, found if isinstance(found, list) else []
        self._items += self._had
        self._size += size
        self.pages += 1
        if self._size > _TOGETHER or len(self._items) > _ITEMS:
            raise StepFailed(
                "too_long",
                f"{self.pages} pages together are more than {_TOGETHER:,} bytes or {_ITEMS:,} items",
                fix="ask for fewer pages",
                reached="yes",
            )

    def next(self, exchange: Exchange, url: str, given: Mapping[str, Any]) -> tuple[str, Mapping[str, Any]] | None:
        """Where the next page is, by its address or by what is given for it; None when this was the last. Raises
        `StepFailed` (`wrong_shape`) for one that was there before."""
        paging = self._paging
        if paging.how == "link":
            told = _at(self._last, paging.next) if paging.next else None
            where = told if isinstance(told, str) and told else exchange.links.get("next", {}).get("url")
            if not where:
                return None
            whole = urljoin(url, str(where)[:4_000])
            if urlsplit(whole).netloc != urlsplit(url).netloc:
                raise StepFailed("denied", f"the next page is elsewhere: {urlsplit(whole).netloc[:200]}")
            return self._fresh(whole), given
        if paging.how == "cursor":
            mark = _at(self._last, paging.next)
            if mark in (None, "", False):
                return None
            self._fresh(values.text_of(mark))
            return "", {**given, paging.field: mark}
        if not self._had:
            return None
        before = given.get(paging.field)
        at = before if isinstance(before, int) else 0 if paging.how == "offset" else 1
        return "", {**given, paging.field: at + (len(self._had) if paging.how == "offset" else 1)}

    def _fresh(self, mark: str) -> str:
        if mark in self._seen:
            raise StepFailed("wrong_shape", "the next page is one that was there before", reached="yes")
        self._seen.add(mark)
        return mark

    def whole(self) -> object:
        """The last page with the items of all."""
        return _with(self._last, self._paging.items, self._items)


def _at(body: object, place: tuple[str, ...]) -> Any:
    for name in place:
        body = body.get(name) if isinstance(body, Mapping) else None
    return body


def _with(body: object, place: tuple[str, ...], value: object) -> object:
    if not place:
        return value
    if not isinstance(body, Mapping):
        return body
    return {**body, place[0]: _with(body.get(place[0]), place[1:], value)}


async def _one(operation: Operation, url: str, given: Mapping[str, Any], at: Outbound) -> Exchange:
    """One request and its answer. Raises `StepFailed`."""
    said = sending.headers(operation, given)
    fault = wire.header_fault(said.items()) or wire.address_fault(url)
    if fault:
        raise StepFailed("invalid", f"{operation.name}: {fault}", fix="correct what it is given")
    theirs = {"User-Agent": "oak-relay", "Accept": "application/json, */*;q=0.5"}
    ours = {"traceparent": at.trace_parent}
    if operation.method not in ("GET", "HEAD", "OPTIONS"):
        ours[KEY] = at.key
    content, more = await _content(operation, given.get(BODY), at)
    headers = wire.overlaid({**theirs, **more}, said, ours)
    plain = at.http.build_request(operation.method, url, headers=headers, timeout=at.timeout, content=content)
    name = given.get(CREDENTIAL)
    request = await authorised(at, plain, name)
    if operation.repeat == "unsafe":
        at.send_check()
    keep = (lambda response: files.kept(response, plain.url, at)) if operation.gives == "file" else None
    exchange = await send(at, request, _LARGEST, name, keep=keep)
    if not 200 <= exchange.status < 300:
        raise exchange.failure()
    return exchange


async def _content(operation: Operation, body: object, at: Outbound) -> tuple[Any, Mapping[str, str]]:
    """What is sent, and the headers that tell of it."""
    told = operation.body
    if told is None or body is None:
        return None, {}
    if told.form == "json":
        return values.dumps(body).encode(), {
            "Content-Type": told.media if "*" not in told.media else "application/json"
        }
    if told.form == "fields":
        return sending.fields(body), {"Content-Type": told.media}
    if told.form == "multipart":
        sent = await files.form(body if isinstance(body, Mapping) else {}, at)
        return sent, sent.headers
    if told.form == "text":
        return values.text_of(body).encode("utf-8", "replace"), {"Content-Type": f"{told.media}; charset=utf-8"}
    sent = await files.whole(body, at)
    return sent, sent.headers


def _read(operation: Operation, exchange: Exchange) -> Any:
    if exchange.kept is not None:
        return exchange.kept.value
    if operation.gives == "nothing" and not exchange.body:
        return None
    return exchange.read("text" if operation.gives == "text" else "auto")
