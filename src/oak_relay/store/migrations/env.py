"""Alembic's entry: the caller hands over an open connection."""

from alembic import context

from oak_relay.store.tables import metadata

context.configure(connection=context.config.attributes["connection"], target_metadata=metadata)
with context.begin_transaction():
    context.run_migrations()
