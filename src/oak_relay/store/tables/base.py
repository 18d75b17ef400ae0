"""What all tables share."""

from sqlalchemy import Column, DateTime, MetaData, SmallInteger, func

metadata = MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "ck": "ck_%(table_name)s_%(constraint_name)s",
        "fk": "fk_%(table_name)s_%(column_0_N_name)s",
        "pk": "pk_%(table_name)s",
    }
)


def moment(name: str, nullable: bool = True) -> Column:
    """A column with a time and its zone."""
    return Column(name, DateTime(timezone=True), nullable=nullable, server_default=None if nullable else func.now())


def workspace_key() -> Column:
    """The leading column of every key: the workspace."""
    return Column("workspace_id", SmallInteger, nullable=False)


MAIN_WORKSPACE = 1
