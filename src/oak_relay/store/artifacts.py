"""Large payloads apart from the rows they belong to: compressed, content-addressed (SHA-256) within their month.

In the row stands a reference and a preview, a value of the same form with its long parts cut. A reference begins with
a character that no JSON text begins with, so that no value can be taken for one.
"""

import hashlib
import re
import zlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.document import values
from oak_relay.store.history import first_id, month
from oak_relay.vault.blanking import CUT

LARGE = 64 * 1024
"""Bytes of UTF-8 from which on a payload is kept apart."""
_PREVIEW = 8 * 1024
_REFERENCE = re.compile(r"@([0-9a-f]{32})-([0-9a-f]{64}) (\d+) ")
_CUTS = ((1000, 20, 12), (300, 8, 8), (80, 3, 5), (20, 1, 3))


@dataclass(frozen=True, slots=True)
class Reference:
    """Where a large payload is, how many bytes of UTF-8 it has, and what is shown in its place."""

    month: UUID
    digest: bytes
    size: int
    preview: str

    @property
    def id(self) -> str:
        """Its name in addresses."""
        return f"{self.month.hex}-{self.digest.hex()}"

    def __str__(self) -> str:
        return f"@{self.id} {self.size} {self.preview}"


def reference(text: str | None) -> Reference | None:
    """The reference in the place of a text; None for a text that stands for itself."""
    if text is None or not text.startswith("@"):
        return None
    found = _REFERENCE.match(text)
    assert found is not None, "only references begin with @"
    return Reference(UUID(found[1]), bytes.fromhex(found[2]), int(found[3]), text[found.end() :])


def id_of(text: str) -> str:
    """The id in a reference."""
    return text[1:98]


def shown(text: str | None) -> object:
    """A stored text as a value, a large one as its preview; None for none."""
    if text is None:
        return None
    apart = reference(text)
    return values.loads(text if apart is None else apart.preview)


class Pile:
    """Collects what one commit keeps apart."""

    def __init__(self) -> None:
        self._rows: dict[tuple[UUID, bytes], bytes] = {}

    def place(self, owner: UUID, text: str | None) -> str | None:
        """What to store in the row: the text, or a reference to it. `owner`: the row's id, which holds its time."""
        if text is None or len(text) <= LARGE // 4:
            return text
        raw = text.encode()
        if len(raw) <= LARGE:
            return text
        made = Reference(_month(owner), hashlib.sha256(raw).digest(), len(raw), _preview(values.loads(text)))
        if (made.month, made.digest) not in self._rows:
            self._rows[made.month, made.digest] = zlib.compress(raw, 1)
        return str(made)

    def __bool__(self) -> bool:
        return bool(self._rows)

    async def write(self, connection: asyncpg.Connection, workspace: int) -> None:
        """Store what is not there yet, in the order of its keys, so that commits cannot block each other."""
        rows = sorted(self._rows.items())
        await connection.execute(
            "INSERT INTO artifact (workspace_id, month, digest, data) "
            "SELECT $1, u.* FROM unnest($2::uuid[], $3::bytea[], $4::bytea[]) AS u ON CONFLICT DO NOTHING",
            workspace,
            [key[0] for key, _ in rows],
            [key[1] for key, _ in rows],
            [data for _, data in rows],
        )


async def whole(connection: asyncpg.Connection, workspace: int, texts: Iterable[str | None]) -> dict[str, str]:
    """The texts that stand behind those that are references; the others are not in it."""
    wanted = {text: apart for text in texts if text is not None and (apart := reference(text)) is not None}
    if not wanted:
        return {}
    rows = await connection.fetch(
        "SELECT a.month, a.digest, a.data FROM artifact a JOIN (SELECT DISTINCT * FROM unnest($2::uuid[], $3::bytea[])) "
        "AS u(month, digest) USING (month, digest) WHERE a.workspace_id = $1",
        workspace,
        [apart.month for apart in wanted.values()],
        [apart.digest for apart in wanted.values()],
    )
    found = {(row["month"], row["digest"]): zlib.decompress(row["data"]).decode() for row in rows}
    return {text: found[key] for text, apart in wanted.items() if (key := (apart.month, apart.digest)) in found}


def filled(row: Mapping[str, Any], apart: dict[str, str], *columns: str) -> Mapping[str, Any]:
    """A row with the texts that stand behind its references."""
    found = {name: apart[row[name]] for name in columns if row[name] in apart}
    return {**row, **found} if found else row


async def one(connection: asyncpg.Connection, workspace: int, id: str) -> str | None:
    """The text of an artifact by its id; None when there is none."""
    text = f"@{id} 0 "
    if _REFERENCE.fullmatch(text) is None:
        return None
    try:
        return (await whole(connection, workspace, [text]))[text]
    except KeyError:
        return None


def _month(owner: UUID) -> UUID:
    return first_id(month(datetime.fromtimestamp((owner.int >> 80) / 1000, UTC)))


def _preview(value: object) -> str:
    """A value of the same form, its long texts, lists and mappings cut, ever shorter until it is small."""
    for text, items, depth in _CUTS:
        shown = values.dumps(_cut(value, text, items, depth))
        if len(shown) <= _PREVIEW:
            return shown
    return values.dumps(_cut(value, 20, 1, 1))


def _cut(value: object, text: int, items: int, depth: int) -> object:
    if isinstance(value, str):
        return value if len(value) <= text else f"{value[:text]}{CUT}{len(value):,} characters)"
    if isinstance(value, list):
        if depth <= 0:
            return f"… ({len(value):,} items)"
        kept = [_cut(inner, text, items, depth - 1) for inner in value[:items]]
        return kept if len(value) <= items else [*kept, f"… ({len(value) - items:,} more)"]
    if isinstance(value, dict):
        if depth <= 0:
            return f"… ({len(value):,} fields)"
        kept_keys = list(value)[: items * 5]
        cut = {str(key)[:text]: _cut(value[key], text, items, depth - 1) for key in kept_keys}
        return cut if len(value) == len(kept_keys) else {**cut, "…": f"{len(value) - len(kept_keys):,} more"}
    return value
