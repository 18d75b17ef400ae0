"""What models cost: each call until it is summed up by day, the sums, and budgets."""

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Column,
    Date,
    Float,
    Integer,
    Numeric,
    PrimaryKeyConstraint,
    Table,
    Text,
    Uuid,
)

from oak_relay.store.tables.base import metadata, moment, workspace_key


def _used() -> list[Column]:
    """Of what, for whom, and how much: tokens (`input` counts the cached ones in) and money."""
    return [
        Column("workflow_id", Uuid, nullable=False),
        Column("alias", Text, nullable=False),
        Column("credential", Text, nullable=False),
        Column("source", Text, nullable=False),
        Column("input", BigInteger, nullable=False),
        Column("cached", BigInteger, nullable=False),
        Column("output", BigInteger, nullable=False),
        Column("money", Numeric(18, 9), nullable=False),
        # Calls of models whose price is not known.
        Column("unpriced", BigInteger, nullable=False, server_default="0"),
    ]


spent = Table(
    "spent",
    metadata,
    workspace_key(),
    Column("run_id", Uuid, nullable=False),
    Column("seq", Integer, nullable=False),
    *_used(),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "run_id", "seq"),
)

usage = Table(
    "usage",
    metadata,
    workspace_key(),
    Column("day", Date, nullable=False),
    *_used(),
    Column("calls", BigInteger, nullable=False),
    PrimaryKeyConstraint("workspace_id", "day", "workflow_id", "alias", "credential", "source"),
)

budget = Table(
    "budget",
    metadata,
    workspace_key(),
    Column("name", Text, nullable=False),
    # Of one workflow, or empty for all of the workspace.
    Column("workflow", Text, nullable=False, server_default=""),
    Column("period", Text, nullable=False),
    Column("money", Numeric(18, 9), nullable=False),
    Column("warn_at", Float, nullable=False, server_default="0.8"),
    Column("state", Text, nullable=False, server_default="within"),
    Column("spent", Numeric(18, 9), nullable=False, server_default="0"),
    moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "name"),
    CheckConstraint("state IN ('within','warned','spent')", name="state"),
    CheckConstraint("period IN ('day','month')", name="period"),
)
