"""Channels that people talk on beside the page: each is one module (see `triggers.channel`)."""
