"""large payloads apart, by month; what a run settled at first use"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "artifact",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("month", sa.Uuid(), nullable=False),
        sa.Column("digest", sa.LargeBinary(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "month", "digest", name=op.f("pk_artifact")),
        postgresql_partition_by="RANGE (month)",
    )
    op.create_table(
        "pin",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("version_id", sa.Uuid(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "kind", "name", name=op.f("pk_pin")),
    )
    op.execute("ALTER TABLE artifact ALTER COLUMN data SET STORAGE EXTERNAL")
    op.execute("CREATE TABLE artifact_rest PARTITION OF artifact DEFAULT")


def downgrade() -> None:
    op.drop_table("pin")
    op.drop_table("artifact")
