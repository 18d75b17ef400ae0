"""`Idempotency-Key` on requests that make something: the same key again, with the same body and from the same caller, gives the
answer of the first within a day, and nothing is done twice. Another body under a key is refused (as in the draft of the
IETF's working group on HTTP interfaces)."""

from collections.abc import Awaitable, Callable
from hashlib import blake2b

from fastapi import Request, Response
from fastapi.exceptions import RequestValidationError

from oak_relay.document import values
from oak_relay.document.errors import Fault
from oak_relay.runtime.registry import Registry
from oak_relay.service.problems import Problem
from oak_relay.store import answered
from oak_relay.store.database import Database
from oak_relay.vault.sealing import KeyProblem

HEADER = "idempotency-key"
_LONGEST = 200
_UNSURE = 60.0
"""Seconds after which nobody knows any more what became of a request that was not answered."""
_LARGEST = 1_000_000
"""Bytes of an answer that is kept; of a larger one only its status is."""


class Once:
    """Remembers answers by the keys of requests."""

    def __init__(self, database: Database, registry: Registry) -> None:
        self._database, self._registry = database, registry

    async def answer(
        self, request: Request, body: bytes, who: str, handle: Callable[[], Awaitable[Response]]
    ) -> Response:
        """The answer that was given under the key of a request; or it is handled now, and its answer kept if it did
        something. Raises `Problem`: 400 for a key that is none, 409 while the first is under way, 422 for another body."""
        given = request.headers[HEADER]
        if not given or len(given) > _LONGEST or not given.isprintable():
            raise Problem(
                400, "this is no Idempotency-Key", fix=f"send 1 to {_LONGEST} printable letters, such as a UUID"
            )
        key = _digest(who, request.method, request.url.path, request.url.query, given)
        workspace, said = self._registry.workspace, _digest(body.hex())
        async with self._database.reading() as connection:
            known = await answered.begin(connection, workspace, key, said)
        if known is not None:
            return self._again(known, key, said)
        try:
            response = await handle()
        except (Fault, Problem, RequestValidationError, values.NotJson):
            await self._forget(key)  # of whatever else nobody knows whether it did something
            raise
        if not 200 <= response.status_code < 300:
            await self._forget(key)
            return response
        content = bytes(response.body) if len(getattr(response, "body", b"")) <= _LARGEST else b""
        kept = values.dumps(
            [response.headers.get("content-type", ""), response.headers.get("etag", ""), content.decode()]
        )
        sealed = self._registry.vault.keyring.seal(kept.encode(), self._place(key))
        async with self._database.reading() as connection:
            await answered.keep(connection, workspace, key, response.status_code, sealed)
        return response

    def _again(self, known: answered.Known, key: bytes, said: bytes) -> Response:
        if known.body != said:
            raise Problem(422, "this Idempotency-Key came with another body", fix="take a new key for another request")
        if known.status is None or known.answer is None:
            raise _not_known(known.age > _UNSURE)
        try:
            kind, tag, content = values.loads(self._registry.vault.keyring.open_sealed(known.answer, self._place(key)))
        except KeyProblem:  # the master key is another one since
            raise _not_known(True) from None
        headers = {name: text for name, text in (("content-type", kind), ("etag", tag)) if text}
        return Response(content, known.status, {**headers, "Idempotency-Replayed": "true"})

    async def _forget(self, key: bytes) -> None:
        async with self._database.reading() as connection:
            await answered.forget(connection, self._registry.workspace, key)

    def _place(self, key: bytes) -> str:
        return f"answered/{self._registry.workspace}/{key.hex()}"


def _not_known(unsure: bool) -> Problem:
    if unsure:
        what = "what became of the first request is not known"
        return Problem(409, what, fix="look whether it was done, and take a new key if not")
    what = "the first request is under way"
    return Problem(409, what, fix="ask again in a moment", kind="busy", headers={"Retry-After": "1"})


def _digest(*parts: str) -> bytes:
    return blake2b("\0".join(parts).encode("utf-8", "replace"), digest_size=16).digest()
