"""Language models as one connector: steps that ask them, media, and agents."""

from oak_relay.actions.base import Connector
from oak_relay.models import agent, media, phrases, steps

CONNECTOR = Connector("Language models", [*steps.ACTIONS, *phrases.ACTIONS, *media.ACTIONS, *agent.ACTIONS])
