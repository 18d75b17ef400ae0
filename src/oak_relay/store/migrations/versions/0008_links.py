"""tables whose rows live elsewhere"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("table_def", sa.Column("link", postgresql.JSONB()))


def downgrade() -> None:
    op.drop_column("table_def", "link")
