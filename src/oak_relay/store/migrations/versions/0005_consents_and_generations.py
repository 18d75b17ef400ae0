"""consents of OAuth apps, secrets that are over, keys that follow one another, and what changed"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

CHANGES = {
    "budget": "state",
    "consent": "sealed, state, scopes, wanted, account",
    "credential": "kind, config, sealed",
    "model_alias": "config",
    "past_secret": "sealed",
    "table_def": "name, columns, searched",
    "tool_server": "config, sealed",
    "trigger": "topic",
    "vault_key": "wrapped, next, link",
    "workflow": "name, removed_at, at_once",
}
"""Tables of which processes keep a copy, and the columns that are in it."""


def upgrade() -> None:
    now = sa.text("now()")
    op.create_table(
        "generation",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("parts", postgresql.JSONB(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", name="pk_generation"),
    )
    op.create_table(
        "consent",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("account", sa.Text(), server_default="", nullable=False),
        sa.Column("scopes", sa.Text(), server_default="[]", nullable=False),
        sa.Column("wanted", sa.Text(), server_default="[]", nullable=False),
        sa.Column("key_id", sa.Integer(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("version", sa.BigInteger(), nullable=False),
        sa.Column("state", sa.Text(), server_default="ready", nullable=False),
        sa.Column("why", sa.Text(), server_default="", nullable=False),
        sa.Column("since", sa.DateTime(timezone=True), server_default=now, nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True)),
        sa.Column("rotates", sa.Boolean(), server_default="false", nullable=False),
        sa.Column("lease", sa.Uuid()),
        sa.Column("leased_until", sa.DateTime(timezone=True)),
        sa.Column("cut", sa.Integer(), server_default="0", nullable=False),
        sa.Column("forced_at", sa.DateTime(timezone=True)),
        sa.Column("retry_at", sa.DateTime(timezone=True)),
        sa.Column("granted_by", sa.Text(), server_default="", nullable=False),
        sa.Column("granted_at", sa.DateTime(timezone=True), server_default=now, nullable=False),
        sa.Column("refreshed_at", sa.DateTime(timezone=True)),
        sa.PrimaryKeyConstraint("workspace_id", "name", name="pk_consent"),
        sa.ForeignKeyConstraint(
            ["workspace_id", "name"],
            ["credential.workspace_id", "credential.name"],
            name="fk_consent_workspace_id_credential",
            ondelete="CASCADE",
        ),
    )
    op.create_table(
        "consent_begun",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("digest", sa.LargeBinary(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("member", sa.Text(), nullable=False),
        sa.Column("key_id", sa.Integer(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("redirect", sa.Text(), nullable=False),
        sa.Column("scopes", sa.Text(), nullable=False),
        sa.Column("until", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "digest", name="pk_consent_begun"),
        sa.ForeignKeyConstraint(
            ["workspace_id", "name"],
            ["credential.workspace_id", "credential.name"],
            name="fk_consent_begun_workspace_id_credential",
            ondelete="CASCADE",
        ),
    )
    op.add_column("past_secret", sa.Column("until", sa.DateTime(timezone=True)))
    op.add_column("past_secret", sa.Column("key_id", sa.Integer(), server_default="1", nullable=False))
    op.add_column("tool_server", sa.Column("key_id", sa.Integer(), server_default="1", nullable=False))
    op.add_column("vault_key", sa.Column("link", sa.LargeBinary()))
    op.add_column("vault_key", sa.Column("next", sa.LargeBinary()))
    op.execute(
        "CREATE FUNCTION oak_changed() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
        "INSERT INTO generation (workspace_id, parts) "
        "VALUES (COALESCE(NEW.workspace_id, OLD.workspace_id), jsonb_build_object(TG_TABLE_NAME, 1)) "
        "ON CONFLICT (workspace_id) DO UPDATE SET parts = generation.parts || jsonb_build_object("
        "TG_TABLE_NAME, COALESCE((generation.parts ->> TG_TABLE_NAME)::bigint, 0) + 1); "
        "RETURN NULL; END $$"
    )
    for table, columns in CHANGES.items():
        # At the end of a transaction, so that nothing is waited for while the one row is held.
        op.execute(
            f"CREATE CONSTRAINT TRIGGER {table}_changed AFTER INSERT OR DELETE OR UPDATE OF {columns} ON {table} "
            "DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION oak_changed()"
        )


def downgrade() -> None:
    for table in CHANGES:
        op.execute(f"DROP TRIGGER {table}_changed ON {table}")
    op.execute("DROP FUNCTION oak_changed()")
    for table, column in (
        ("vault_key", "next"),
        ("vault_key", "link"),
        ("tool_server", "key_id"),
        ("past_secret", "key_id"),
        ("past_secret", "until"),
    ):
        op.drop_column(table, column)
    for table in ("consent_begun", "consent", "generation"):
        op.drop_table(table)
