"""connectors that were read from a description, and their versions; what was leased of a limit of calls"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    now = sa.text("now()")
    op.create_table(
        "connector",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=now, nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=now, nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "name", name="pk_connector"),
    )
    op.create_table(
        "connector_version",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("author", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=now, nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "name", "number", name="pk_connector_version"),
    )
    op.add_column("rate", sa.Column("grants", postgresql.JSONB(), server_default="[]", nullable=False))
    op.execute(
        "CREATE CONSTRAINT TRIGGER connector_changed AFTER INSERT OR DELETE OR UPDATE OF text ON connector "
        "DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION oak_changed()"
    )


def downgrade() -> None:
    op.execute("DROP TRIGGER connector_changed ON connector")
    op.drop_column("rate", "grants")
    op.drop_table("connector_version")
    op.drop_table("connector")
