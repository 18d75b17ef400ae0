"""The application: resources, problem documents, health, the language's schema, and the console."""

import asyncio
import contextlib
import secrets
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path

import structlog
from fastapi import FastAPI, Request
from fastapi.responses import JSONResponse, Response
from sqlalchemy import text
from starlette.exceptions import HTTPException

from oak_relay import __version__
from oak_relay.document.models import json_schema
from oak_relay.runtime.boot import Base
from oak_relay.runtime.context import Tools
from oak_relay.runtime.intake import Intake
from oak_relay.runtime.receipts import Receipts
from oak_relay.runtime.watchdog import Watchdog
from oak_relay.service import (
    access,
    addresses,
    again,
    agents,
    built,
    catalogue,
    channel_tries,
    channels,
    configured,
    connecting,
    connectors,
    consenting,
    credentials,
    credit,
    curl,
    described,
    events,
    examples,
    files,
    hooks,
    lifecycle,
    metrics,
    models,
    overview,
    page_files,
    pages,
    phrase_tries,
    prices,
    problems,
    restores,
    run_views,
    runs,
    samples,
    schedules,
    tables,
    talk,
    tray,
    usage,
    ways,
    workflows,
)
from oak_relay.service.borders import Guard
from oak_relay.service.front import Service
from oak_relay.service.once import Once
from oak_relay.service.outcomes import Outcomes
from oak_relay.service.parts import Parts, Watch
from oak_relay.service.passwords import Passwords
from oak_relay.service.refusals import Refusals
from oak_relay.store import people

log = structlog.get_logger()
_PLACES = 20
_SILENT = 15.0
"""Seconds that the event loop may be silent before the process ends itself."""


_RESOURCES = (
    access,
    configured,
    addresses,
    agents,
    again,
    workflows,
    lifecycle,
    samples,
    ways,
    examples,
    runs,
    run_views,
    prices,
    overview,
    events,
    tray,
    schedules,
    consenting,
    credentials,
    connecting,
    models,
    restores,
    tables,
    files,
    catalogue,
    channel_tries,
    channels,
    connectors,
    curl,
    hooks,
    page_files,
    pages,
    phrase_tries,
    talk,
    usage,
    credit,
    metrics,
)


def create_app(base: Base | None = None, announce: Callable[[str], None] = print) -> FastAPI:
    """The service. Without a base only its description is of use (for /openapi.json at build time)."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        assert base is not None
        receipts = Receipts(base.settings.data_dir)
        intake = Intake(base.database, base.registry, base.hints, receipts)
        parts = _put_together(base, intake)
        base.hints.on("config", base.registry.forget)
        app.state.parts, app.state.hooks = parts, hooks.Hooks(parts)
        await _first_start(parts, announce)
        watchdog = Watchdog(asyncio.get_running_loop(), _SILENT)
        watchdog.start()
        watching = receipts.watch(base.database, base.registry.workspace)
        tasks = [
            asyncio.create_task(t)
            for t in (
                intake.run(),
                intake.watch(base.settings.backlog),
                base.hints.run(),
                watching,
                parts.refusals.run(),
            )
        ]
        try:
            yield
        finally:
            watchdog.stop()
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)
            await parts.tools.close()

    app = Service(
        title="Oak Relay",
        version=__version__,
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url="/openapi.json" if base is None or base.settings.openapi else None,
        description="Durable, event-triggered workflows. Errors are problem documents (RFC 9457).",
        generate_unique_id_function=lambda route: route.name,
    )
    app.state.counted = metrics.Counted()
    problems.install(app)
    app.include_router(access.opening)
    for module in _RESOURCES:
        app.include_router(module.router)
    _operation(app)
    _console(app)

    app.add_middleware(Guard)
    described.describe(app)
    return app


def _put_together(base: Base, intake: Intake) -> Parts:
    return Parts(
        base.settings,
        base.database,
        base.registry,
        base.hints,
        intake,
        Watch(base.hints),
        Outcomes(base.database, base.registry.workspace),
        Tools(base.database, base.registry, base.settings, base.hints),
        Passwords(base.database),
        Refusals(base.database, base.registry.workspace),
        Once(base.database, base.registry),
    )


def _operation(app: FastAPI) -> None:
    @app.get("/health/live", tags=["operation"])
    async def live() -> dict[str, str]:
        """The process runs."""
        return {"status": "ok", "version": __version__}

    @app.get("/health/ready", tags=["operation"])
    async def ready(request: Request) -> JSONResponse:
        """The database answers; `workers` counts those whose lease holds."""
        parts: Parts = request.app.state.parts
        async with parts.database.connect() as connection:
            workers = (
                await connection.execute(
                    text(
                        "SELECT count(*) FROM worker WHERE role = 'work' AND dead_at IS NULL AND lease_until > clock_timestamp()"
                    )
                )
            ).scalar_one()
        return JSONResponse({"status": "ok", "workers": workers})

    @app.get("/schema/workflow.json", tags=["operation"])
    async def schema(request: Request) -> dict[str, object]:
        """JSON Schema of the workflow language."""
        parts: Parts = request.app.state.parts
        if not parts.settings.openapi:
            raise HTTPException(404)
        return json_schema(parts.registry.catalogue.triggers)


def _console(app: FastAPI) -> None:
    @app.get("/{path:path}", include_in_schema=False)
    async def console(path: str, request: Request) -> Response:
        first = path.split("/")[0]
        if first in ("api", "channels", "drafts", "hooks", "health", "schema") or (
            first == "talk" and not built.there(path)
        ):
            raise HTTPException(404)
        return built.page(path, request.headers.get("accept-encoding", ""))


def _keep_places(file: Path, places: list[str]) -> None:
    """Keep where this installation is reached, for the command line on this machine; the latest first. Whole or not at all:
    a full disk must not take it away, nor keep anybody from starting."""
    fresh = file.with_name("cli.places.new")
    with contextlib.suppress(OSError):
        known = file.read_text().splitlines() if file.exists() else []
        fresh.write_text("\n".join(list(dict.fromkeys([*places, *known]))[:_PLACES]) + "\n")
        fresh.replace(file)


async def _first_start(parts: Parts, announce: Callable[[str], None]) -> None:
    """The first member, with a password printed this once, and a token for the command line on this machine."""
    given = parts.settings.first_password
    password = given.get_secret_value() if given else secrets.token_urlsafe(12)
    home, settings = parts.settings.data_dir, parts.settings
    local = home / "cli.token"
    home.mkdir(parents=True, exist_ok=True)
    here = [f"http://{host}:{settings.port}" for host in ("127.0.0.1", "localhost", "[::1]")]
    places = [settings.own_url, *here] if settings.public_url else here
    await asyncio.to_thread(_keep_places, home / "cli.places", places)
    async with parts.database.begin() as connection:
        await connection.execute(text("SELECT pg_advisory_xact_lock(7226303)"))
        if await people.members(connection, parts.workspace):
            return
        member = await people.add_member(connection, parts.workspace, "owner", "owner", parts.passwords.hash(password))
        _, token = await people.issue(connection, parts.workspace, "api", "this machine", member, None)
        local.unlink(missing_ok=True)
        local.touch(mode=0o600)
        local.write_text(token + "\n")
    if not given:
        announce(
            f"First start. Sign in at {parts.settings.own_url} as owner with the password {password} (shown this once).\n"
            "The console leads on: connect a model, play an example, write a workflow of your own."
        )
