"""Oak Relay: durable, event-triggered workflows that mix model steps with business apps."""

__version__ = "0.1.0"
