"""What a transaction has for itself by a name."""

from collections.abc import Collection

import asyncpg


def having(place: int) -> str:
    """The statement that takes locks: their keys are its so many-th parameter, an array of texts."""
    return (
        "SELECT pg_advisory_xact_lock(hashtextextended(k, 7226302)) "
        f"FROM (SELECT k FROM unnest(${place}::text[]) AS k ORDER BY k) AS s"
    )


async def lock(connection: asyncpg.Connection, keys: Collection[str]) -> None:
    """Have these until the end of the transaction; of several, the least first, so that two cannot block each other."""
    if keys:
        await connection.execute(having(1), sorted(set(keys)))


def of_conversation(key: str) -> str:
    """What whoever changes a conversation has for himself, before he locks anything else."""
    return f"talk|{key}"
