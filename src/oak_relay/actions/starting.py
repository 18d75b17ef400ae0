"""What starts runs by itself: moments, what is looked at again and again, ends of other runs."""

from oak_relay.actions.base import Connector
from oak_relay.triggers.after import AfterTrigger
from oak_relay.triggers.poll import PollTrigger
from oak_relay.triggers.schedule import ScheduleTrigger

CONNECTOR = Connector("Time and other runs", triggers=[ScheduleTrigger(), PollTrigger(), AfterTrigger()])
