"""What a stand-in received, and faults it was asked to commit."""

import asyncio
import time
from collections import Counter, deque
from dataclasses import dataclass, field
from typing import Any, Literal

from fastapi import Request
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, Field


class Fault(BaseModel):
    """Misbehave for the next `times` requests to a service whose path contains `path`.

    `kind`: status (answer `status`, with Retry-After if given), slow (`seconds` more), drop (cut the
    connection without an answer), drop_after (do the work, then cut the connection), slow_after (do the work, then
    keep the answer `seconds` long), cut_stream (end a streamed answer after its first word, `seconds` later)."""

    service: Literal["model", "accounts", "office", "provider", "search", "weather", "messenger"]
    kind: Literal["status", "slow", "drop", "drop_after", "slow_after", "cut_stream"] = "status"
    status: int = 503
    retry_after: float | None = None
    seconds: float = 1.0
    times: int = Field(1, ge=1)
    path: str = ""


class Dropped(Exception):
    """The connection is to be cut."""


@dataclass
class Ledger:
    """Requests in order, how often each idempotency key was worked on, and pending faults."""

    received: deque[dict[str, Any]] = field(default_factory=lambda: deque(maxlen=2000))
    worked: Counter[str] = field(default_factory=Counter)
    faults: list[Fault] = field(default_factory=list)

    def note(self, service: str, request: Request, body: object, status: int) -> None:
        """Note a request and how it was answered."""
        hidden = {"authorization", "x-api-key"}
        headers = {k: ("(given)" if k in hidden else v) for k, v in request.headers.items()}
        self.received.append(
            {"at": time.time(), "service": service, "method": request.method, "path": request.url.path, "status": status,
             "headers": headers, "body": body}
        )  # fmt: skip

    async def fault(self, service: str, request: Request, body: object) -> Response | None:
        """The answer of a pending fault, if one fits. Raises `Dropped`."""
        fault = self._next(service, request, ("status", "slow", "drop"))
        if fault is None:
            return None
        self._use(fault)
        if fault.kind == "slow":
            await asyncio.sleep(fault.seconds)
            return None
        self.note(service, request, body, fault.status if fault.kind == "status" else 0)
        if fault.kind == "drop":
            raise Dropped
        headers = {} if fault.retry_after is None else {"Retry-After": f"{fault.retry_after:g}"}
        return JSONResponse(
            {"error": {"message": "asked to misbehave by this stand-in's /faults"}}, fault.status, headers
        )

    async def after(self, service: str, request: Request) -> None:
        """Behind the work: keep the answer or cut the connection if asked to. Raises `Dropped`."""
        fault = self._next(service, request, ("drop_after", "slow_after"))
        if fault is None:
            return
        self._use(fault)
        if fault.kind == "drop_after":
            raise Dropped
        await asyncio.sleep(fault.seconds)

    def cut_stream(self, service: str, request: Request) -> Fault | None:
        """The fault that ends a streamed answer early, if one is asked for."""
        fault = self._next(service, request, ("cut_stream",))
        if fault is not None:
            self._use(fault)
        return fault

    def _next(self, service: str, request: Request, kinds: tuple[str, ...]) -> Fault | None:
        path = request.url.path
        return next((f for f in self.faults if f.service == service and f.path in path and f.kind in kinds), None)

    def _use(self, fault: Fault) -> None:
        fault.times -= 1
        if fault.times == 0:
            self.faults.remove(fault)
