"""The catalogue of a workspace: what is installed, with the connectors that were read from a description."""

import asyncio
from collections.abc import Mapping

import structlog
from pydantic import ValidationError

from oak_relay.actions.base import Connector
from oak_relay.actions.catalogue import Catalogue
from oak_relay.actions.openapi.calling import connector
from oak_relay.actions.openapi.shapes import Described
from oak_relay.jsontext import loads

log = structlog.get_logger()


class Describing:
    """Follows what is stored; a connector whose text has not changed stays the same object."""

    def __init__(self, installed: Catalogue) -> None:
        self._installed = installed
        self._texts: Mapping[str, str] = {}
        self._read: dict[str, tuple[str, Connector]] = {}
        self.catalogue = installed

    async def follow(self, texts: Mapping[str, str]) -> None:
        """Make the catalogue anew where the connectors are others than before."""
        if texts is not self._texts and texts != self._texts:
            self.catalogue = await asyncio.to_thread(self._made, texts)
        self._texts = texts

    def _made(self, texts: Mapping[str, str]) -> Catalogue:
        found: dict[str, tuple[str, Connector]] = {}
        for name, text in texts.items():
            before = self._read.get(name)
            if before is not None and before[0] == text:
                found[name] = before
                continue
            try:
                found[name] = text, connector(name, Described.model_validate(loads(text)))
            except ValidationError as error:  # of a newer process than this one: it alone is missing then
                log.warning("connector cannot be used", connector=name, reason=str(error)[:300])
        self._read = found
        made = self._installed.beside({name: one for name, (_, one) in found.items()})
        for name, fault in made.faults.items():
            log.warning("connector left out", connector=name, reason=fault)
        return made
