"""runs of a workflow are found by its id alone, so that no plan takes that index for a single run; suspects have an index"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.drop_index("ix_run_workflow", table_name="run")
    op.create_index("ix_run_workflow", "run", ["workflow_id", "id"])
    op.create_index("ix_queue_suspect", "queue", ["workspace_id", "deaths"], postgresql_where=sa.text("deaths >= 2"))


def downgrade() -> None:
    op.drop_index("ix_queue_suspect", table_name="queue")
    op.drop_index("ix_run_workflow", table_name="run")
    op.create_index("ix_run_workflow", "run", ["workspace_id", "workflow_id", "id"])
