"""items of lists that failed are counted, and found"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("journal", sa.Column("broken", sa.Integer()))
    op.create_index(
        "ix_journal_closes",
        "journal",
        ["workspace_id", "run_id", "page"],
        postgresql_where=sa.text("closes IS NOT NULL"),
    )


def downgrade() -> None:
    op.drop_index("ix_journal_closes", "journal")
    op.drop_column("journal", "broken")
