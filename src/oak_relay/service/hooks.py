"""`/hooks/<path>`: webhooks in, of workflows that are on; or awaited to become a sample while none is."""

import time
from dataclasses import dataclass

from fastapi import APIRouter, Request
from fastapi.responses import Response

from oak_relay.runtime.intake import RunTemplate, Target
from oak_relay.service.parts import ExactRoute, Parts, parts_of
from oak_relay.service.problems import Problem
from oak_relay.service.receiving import METHODS, Way, draft_way, noting, request_kind, taken, validator_of
from oak_relay.store import samples, workflows
from oak_relay.store.database import raw
from oak_relay.store.samples import Awaited

router = APIRouter(route_class=ExactRoute, tags=["hooks"])
_AGE = 2.0


@dataclass(frozen=True)
class _Hook:
    """A way in that is `on`, or else is there for what is awaited alone."""

    way: Way
    awaited: Awaited | None
    on: bool
    made: float


class Hooks:
    """The webhooks of workflows that are on, as far as a process knows them; a stale one is noticed by the write itself."""

    def __init__(self, parts: Parts) -> None:
        self._parts = parts
        self._known: dict[str, _Hook] = {}
        self._asking: set[str] = set()
        parts.hints.on("config", lambda _: self._known.clear())

    async def find(self, path: str, afresh: bool = False) -> _Hook | None:
        """The webhook at a path, None when there is none; `afresh` when what is known has proved stale."""
        known = self._known.get(path)
        if known and not afresh and (time.monotonic() - known.made < _AGE or path in self._asking):
            return known
        self._asking.add(path)  # one asks, the others go on with what is known; the write itself notices a stale one
        try:
            found = await self._ask(path)
        finally:
            self._asking.discard(path)
        if found is None:
            self._known.pop(path, None)
            return None
        if len(self._known) > 5000:
            self._known.clear()
        self._known[path] = found
        return found

    async def _ask(self, path: str) -> _Hook | None:
        parts = self._parts
        async with parts.database.connect() as connection:
            row = await workflows.hook(connection, parts.workspace, path)
            awaited = await samples.awaited_at(await raw(connection), parts.workspace, path)
            if row is not None:
                _plan, document = await parts.registry.plan(await raw(connection), row.version_id)
                kind = request_kind(parts, row.kind)
                target = Target(row.workflow_id, row.version_id, RunTemplate.read(row.start), row.id, row.name)
                way = Way(kind, kind.parsed(row.config), target, validator_of(document), f"/hooks/{path}")
                return _Hook(way, awaited, True, time.monotonic())
            if awaited is None:
                return None
            newest = await workflows.one_version(connection, parts.workspace, awaited.workflow_id, None)
            drafted = newest and await draft_way(parts, connection, newest, awaited.trigger, f"/hooks/{path}")
        return _Hook(drafted, awaited, False, time.monotonic()) if drafted else None


async def receive(request: Request) -> Response:
    """Take a webhook in. 202 with a receipt, or the run's own answer; 401, 405, 413, 400, 422, 429 as problem
    documents. A handshake is answered with its echo."""
    parts, path = parts_of(request), request.path_params["path"]
    hooks: Hooks = request.app.state.hooks
    hook = await hooks.find(path)
    if hook is None:
        raise _nobody(path)

    async def afresh() -> Way:
        fresh = await hooks.find(path, afresh=True)
        if fresh is None or not fresh.on:
            raise _nobody(path)
        return fresh.way

    with noting(parts, hook.way, request):
        return await taken(request, hook.way, parts, afresh if hook.on else None, hook.awaited)


def _nobody(path: str) -> Problem:
    return Problem(
        404, "no workflow that is on listens here", f"/hooks/{path}", "switch a workflow with this webhook path on"
    )


for _method in METHODS:
    router.add_api_route(
        "/hooks/{path:path}",
        receive,
        methods=[_method],
        operation_id=f"receive_{_method.lower()}",
        response_class=Response,
        status_code=202,
        responses={"default": {"description": "What the workflow answers.", "content": {"*/*": {}}}},
        openapi_extra={"parameters": [{"name": "path", "in": "path", "required": True, "schema": {"type": "string"}}]},
    )
