"""What models cost: each call until it is summed up by day, the sums, budgets, and what accounts hold."""

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

# What was paid in behind a credential.
credit = Table(
    "credit",
    metadata,
    workspace_key(),
    Column("credential", Text, nullable=False),
    # What was in the account at `noted_at`, and what its day had cost until then.
    Column("money", Numeric(18, 9), nullable=False),
    Column("base", Numeric(18, 9), nullable=False),
    Column("base_unpriced", BigInteger, nullable=False),
    moment("noted_at", False),
    # The part of it, and the days at the present pace, that are left when a warning is published.
    Column("warn_at", Float, nullable=False, server_default="0.2"),
    Column("warn_days", Float, nullable=False, server_default="3"),
    Column("state", Text, nullable=False, server_default="within"),
    Column("spent", Numeric(18, 9), nullable=False, server_default="0"),
    Column("unpriced", BigInteger, nullable=False, server_default="0"),
    Column("a_day", Numeric(18, 9), nullable=False, server_default="0"),
    PrimaryKeyConstraint("workspace_id", "credential"),
    CheckConstraint("state IN ('within','warned','spent')", name="state"),
)
