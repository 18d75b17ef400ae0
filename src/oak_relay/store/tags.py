"""Strong tags of what is stored (RFC 9110, 8.8): the same as long as nobody has changed it."""

from sqlalchemy import Table, func, select
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document import values


def tag_of(*parts: object) -> str:
    """The tag of what is made of these values."""
    return values.digest(values.dumps([str(part) for part in parts]))


async def held(connection: AsyncConnection, workspace: int, table: Table, name: str, *columns: str) -> str | None:
    """The tag of what has a name in a table, made of some of its columns; None when there is none. Until the transaction ends,
    nobody else who asks here changes it, or makes it."""
    place = func.hashtextextended(f"{table.name}|{workspace}|{name}", 7226311)
    await connection.execute(select(func.pg_advisory_xact_lock(place)))
    wanted = select(*(table.c[column] for column in columns))
    row = (await connection.execute(wanted.where(table.c.workspace_id == workspace, table.c.name == name))).first()
    return None if row is None else tag_of(*row)
