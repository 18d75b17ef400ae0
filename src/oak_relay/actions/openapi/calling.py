"""Operations of a document as actions of the catalogue."""

from collections.abc import Mapping
from functools import cached_property
from typing import Any

from oak_relay.actions import files
from oak_relay.actions.base import Action, Connector, Fields, Given
from oak_relay.actions.exchange import Exchange, authorised, send
from oak_relay.actions.openapi import sending
from oak_relay.actions.openapi.shapes import BODY, CREDENTIAL, KEY, PAGES, Described, Operation
from oak_relay.actions.turning import Turning
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import schemas, shapes, values, wire
from oak_relay.document.check_base import ActionShape
from oak_relay.document.errors import StepFailed
from oak_relay.document.shapes import Schema

_LARGEST = 4_000_000
"""Bytes of one answer."""


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
    turning = Turning(
        paging.how, lambda page: _at(page, paging.items), (lambda page: _at(page, paging.next)) if paging.next else None
    )
    turning.add(body, len(exchange.body))
    now, detail = given, exchange.detail
    for _ in range(most - 1):
        if paging.how == "link":
            after = turning.address(exchange, url)
            if after is None:
                break
            url = after
        else:
            value = turning.value(now.get(paging.field))
            if value is None:
                break
            now = {**now, paging.field: value}
            url = sending.address(base, operation, now)
        exchange = await _one(operation, url, now, at)
        turning.add(_read(operation, exchange), len(exchange.body))
    return Result(_with(turning.last, paging.items, turning.items), {**detail, "pages": turning.pages})


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
