"""All actions together."""

from oak_relay.actions import events, http, tables
from oak_relay.actions.base import Catalogue
from oak_relay.models import steps

CATALOGUE = Catalogue([*steps.ACTIONS, *http.ACTIONS, *events.ACTIONS, *tables.ACTIONS])
