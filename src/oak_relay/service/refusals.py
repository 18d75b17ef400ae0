"""What webhooks refuse, so that whoever builds one sees why a sender gets nowhere; strangers can only fill so much of it."""

import asyncio
from datetime import UTC, datetime
from uuid import UUID

import structlog
from fastapi import Request

from oak_relay.store import refusals
from oak_relay.store.database import LOST, Database
from oak_relay.store.refusals import Refusal

log = structlog.get_logger()
_WAITING, _EACH = 200, 1.0
"""Refusals that wait to be written, and seconds between writings; more are counted by nobody."""


class Refusals:
    """Gathers what is refused, and writes it now and then."""

    def __init__(self, database: Database, workspace: int) -> None:
        self._database, self._workspace = database, workspace
        self._waiting: list[Refusal] = []

    def note(self, workflow_id: UUID, path: str, request: Request, status: int, reason: str) -> None:
        """A delivery was refused."""
        if len(self._waiting) >= _WAITING:
            return
        source = request.client.host if request.client else ""
        agent = request.headers.get("user-agent", "")
        clean = [_text(one, most) for one, most in ((path, 130), (reason, 500), (source, 60), (agent, 200))]
        self._waiting.append(Refusal(workflow_id, clean[0], status, clean[1], clean[2], clean[3], datetime.now(UTC)))

    async def run(self) -> None:
        """Write what was gathered, until cancelled."""
        while True:
            await asyncio.sleep(_EACH)
            if not self._waiting:
                continue
            taken, self._waiting = self._waiting, []
            try:
                async with self._database.reading() as connection:
                    await refusals.keep(connection, self._workspace, taken)
            except LOST:
                continue  # they are a help, and not worth a second try
            except Exception:
                log.exception("refusals not kept")


def _text(text: str, most: int) -> str:
    return text.replace("\x00", "\N{REPLACEMENT CHARACTER}").encode("utf-8", "replace").decode()[:most]
