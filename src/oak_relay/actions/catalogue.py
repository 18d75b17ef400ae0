"""The catalogue: what all connectors together offer."""

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cache
from importlib.metadata import entry_points
from typing import Any

import structlog

from oak_relay.actions import trying
from oak_relay.actions.base import Action, Connector, Trying
from oak_relay.document.check_base import World
from oak_relay.document.errors import StepFailed
from oak_relay.triggers.base import TriggerKind, TriggerKinds
from oak_relay.triggers.channel import Channel
from oak_relay.triggers.conversation import PAGE, ConversationTrigger
from oak_relay.vault.kinds import Credential, CredentialKinds

log = structlog.get_logger()
GROUP = "oak_relay.connectors"


@dataclass(frozen=True)
class Installed:
    """A connector as it was found: the package it came with and its version, or why it cannot be used."""

    name: str
    package: str
    version: str
    connector: Connector | None = None
    fault: str = ""


class Catalogue:
    """Actions, kinds of credentials, kinds of triggers and channels by name. Of two things with one name the first counts, and the
    second's connector is left out whole."""

    def __init__(self, connectors: Mapping[str, Connector]) -> None:
        self._connectors = connectors
        self._actions: dict[str, Action] = {}
        kinds: dict[str, type[Credential]] = {}
        self.channels: dict[str, Channel[Any]] = {}
        """Where people talk beside the page."""
        talks = ConversationTrigger(self.channels)
        triggers: dict[str, TriggerKind[Any]] = {talks.name: talks}
        self.faults: dict[str, str] = {}
        self._trying: dict[str, Trying] = {}
        for name, connector in connectors.items():
            stored = {str(kind.model_fields["kind"].default): kind for kind in connector.credentials}
            begins = {kind.name: kind for kind in connector.triggers}
            offered = {action.name: action for action in connector.actions}
            spoken = {channel.name: channel for channel in connector.channels}
            for word, new, known in (
                ("action", offered, self._actions),
                ("kind of credential", stored, kinds),
                ("kind of trigger", begins, triggers),
                ("channel", spoken, {**self.channels, PAGE: None}),
            ):
                for twice in sorted(set(new) & set(known)):
                    self.faults[name] = f"the {word} {twice} is there already"
            if name not in self.faults:
                self._actions |= offered
                kinds |= stored
                triggers |= begins
                self.channels |= spoken
                self._trying |= connector.trying
        self.credentials = CredentialKinds(kinds.values())
        self.triggers = TriggerKinds(triggers.values())

    def beside(self, others: Mapping[str, Connector]) -> "Catalogue":
        """A catalogue with some connectors more; those of a name that is taken are left out."""
        free = {name: one for name, one in others.items() if name not in self._connectors}
        return Catalogue({**self._connectors, **free})

    def __iter__(self) -> Iterator[Action]:
        """The actions that documents may name."""
        return iter(action for action in self._actions.values() if not action.hidden)

    def get(self, name: str) -> Action:
        """Raises `StepFailed` (`missing`)."""
        action = self._actions.get(name)
        if action is None:
            raise StepFailed("missing", f"there is no action {name}", fix="see the catalogue of actions")
        return action

    def trying(self, kind: str) -> Trying:
        """How credentials of a kind are tried."""
        return self._trying.get(kind, trying.by_address)

    def known(self, name: object) -> Action | None:
        """An action, if there is one of that name."""
        return self._actions.get(name) if isinstance(name, str) else None

    def streams(self, name: str) -> bool:
        """Whether an action's answer is told while it is being written."""
        action = self.known(name)
        return action is not None and action.streams

    def world(
        self,
        models: frozenset[str] | None = None,
        credentials: Mapping[str, str] | None = None,
        tables: Mapping[str, Collection[str]] | None = None,
        workflows: frozenset[str] | None = None,
        servers: frozenset[str] | None = None,
        unpriced: frozenset[str] = frozenset(),
        consents: Mapping[str, Collection[str] | None] | None = None,
        limited: Mapping[str, Collection[str]] | None = None,
    ) -> World:
        """What documents may name, with what is stored in a workspace; None of it where that is not known."""
        shapes = {action.name: action.shape for action in self}
        unsent = frozenset(kind for kind in self.credentials if not self.credentials.sent(kind))
        return World(
            shapes,
            self.triggers,
            models,
            credentials,
            tables,
            workflows,
            servers,
            unpriced=unpriced,
            unsent=unsent,
            consents=consents or {},
            limited=limited or {},
        )


@cache
def installed() -> tuple[Installed, ...]:
    """The connectors of this environment, the shipped ones first. One that cannot be loaded says why, and harms no other."""
    found = []
    for point in entry_points(group=GROUP):
        about = point.dist
        package, version = (about.name, about.version) if about else ("", "")
        try:
            connector = point.load()
            fault = "" if isinstance(connector, Connector) else f"{point.value} is no Connector"
        except Exception as error:  # of whatever kind: it is somebody else's code
            connector, fault = None, f"{type(error).__name__}: {error}"
        if fault:
            log.error("connector left out", connector=point.name, package=package, reason=fault)
        found.append(Installed(point.name, package, version, None if fault else connector, fault))
    return tuple(sorted(found, key=lambda one: (one.package != "oak-relay", one.package, one.name)))


@dataclass(frozen=True)
class Offer:
    """The catalogue of this environment, and what it was made of."""

    catalogue: Catalogue
    connectors: tuple[Installed, ...] = field(default=())


def offer() -> Offer:
    """Put together what is installed."""
    every = installed()
    catalogue = Catalogue({one.name: one.connector for one in every if one.connector is not None})
    for name, fault in catalogue.faults.items():
        log.error("connector left out", connector=name, reason=fault)
    marked = tuple(
        Installed(one.name, one.package, one.version, None, catalogue.faults[one.name])
        if one.name in catalogue.faults
        else one
        for one in every
    )
    return Offer(catalogue, marked)
