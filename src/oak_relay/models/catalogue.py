"""All actions together."""

from oak_relay.actions import events, http, search, tables
from oak_relay.actions.base import Catalogue
from oak_relay.models import agent, media, steps

CATALOGUE = Catalogue(
    [*steps.ACTIONS, *media.ACTIONS, *http.ACTIONS, *search.ACTIONS, *events.ACTIONS, *tables.ACTIONS]
)
for _action in agent.actions(CATALOGUE):
    CATALOGUE.add(_action)
