"""Connectors that were read from a description, and their versions."""

from typing import Any

from sqlalchemy import Text, delete, func, insert, select
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.dialects.postgresql import insert as insert_or
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.store.tables import connector, connector_version

_KEPT = 50
"""Versions of one that are kept."""


async def put(connection: AsyncConnection, workspace: int, name: str, text: str, author: str) -> int:
    """Keep what is used from now on as a new version; its number. The same text makes none."""
    mine = (connector.c.workspace_id == workspace) & (connector.c.name == name)
    row = (await connection.execute(select(connector).where(mine).with_for_update())).first()
    if row is not None and row.text == text:
        return int(row.number)
    last = select(func.max(connector_version.c.number)).where(
        connector_version.c.workspace_id == workspace, connector_version.c.name == name
    )
    number = ((await connection.execute(last)).scalar() or 0) + 1
    given = {"workspace_id": workspace, "name": name, "number": number, "text": text}
    changed = {"number": number, "text": text, "updated_at": func.clock_timestamp()}
    await connection.execute(
        insert_or(connector)
        .values(**given)
        .on_conflict_do_update(index_elements=["workspace_id", "name"], set_=changed)
    )
    await connection.execute(insert(connector_version).values(**given, author=author))
    await connection.execute(
        delete(connector_version).where(
            connector_version.c.workspace_id == workspace,
            connector_version.c.name == name,
            connector_version.c.number <= number - _KEPT,
        )
    )
    return number


async def one(connection: AsyncConnection, workspace: int, name: str) -> Any:
    """A connector as it is used now; None when there is none of that name."""
    mine = (connector.c.workspace_id == workspace) & (connector.c.name == name)
    return (await connection.execute(select(connector).where(mine))).first()


async def versions(connection: AsyncConnection, workspace: int, name: str) -> list[Any]:
    """The versions of a connector, the newest first, each with what its description called its own."""
    said = func.coalesce(connector_version.c.text.cast(JSONB)["version"].astext, "").cast(Text).label("version")
    columns = connector_version.c.number, connector_version.c.author, connector_version.c.created_at, said
    wanted = select(*columns).where(connector_version.c.workspace_id == workspace, connector_version.c.name == name)
    return list(await connection.execute(wanted.order_by(connector_version.c.number.desc())))


async def remove(connection: AsyncConnection, workspace: int, name: str) -> bool:
    """Remove a connector with its versions; False when there is none of that name."""
    await connection.execute(
        delete(connector_version).where(connector_version.c.workspace_id == workspace, connector_version.c.name == name)
    )
    mine = (connector.c.workspace_id == workspace) & (connector.c.name == name)
    return bool((await connection.execute(delete(connector).where(mine))).rowcount)
