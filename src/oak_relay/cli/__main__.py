"""`python -m oak_relay.cli`."""

from oak_relay.cli.main import run

run()
