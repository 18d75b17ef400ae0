"""large payloads apart, by month"""

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
    op.execute("ALTER TABLE artifact ALTER COLUMN data SET STORAGE EXTERNAL")
    op.execute("CREATE TABLE artifact_rest PARTITION OF artifact DEFAULT")


def downgrade() -> None:
    op.drop_table("artifact")
