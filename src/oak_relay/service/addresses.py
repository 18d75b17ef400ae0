"""`/api/v1/files/<id>/address`: addresses at which whoever has them reads a file."""

from datetime import UTC, datetime, timedelta
from uuid import UUID

from fastapi import APIRouter
from pydantic import Field

from oak_relay.capabilities.given import file_name
from oak_relay.runtime import links
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.problems import missing
from oak_relay.service.shapes import AddressOut, In
from oak_relay.store import files, people

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["files"])


class AddressIn(In):
    """For how long an address is good, and what the file is called there."""

    minutes: int = Field(60, ge=1, le=60 * 24 * 30)
    name: str = Field("", max_length=255)
    type: str = Field("", max_length=120)


@router.post("/files/{file_id}/address", status_code=201)
async def make_address(file_id: UUID, given: AddressIn, parts: PartsDep, who: CallerDep) -> AddressOut:
    """An address at which a file is read without signing in, until it is over. Whoever has it has the file."""
    async with parts.database.reading() as connection:
        found = await files.about(connection, parts.workspace, file_id)
    if found is None:
        raise missing("file", str(file_id), "nothing may have referred to it for two days")
    until = datetime.now(UTC) + timedelta(minutes=given.minutes)
    name, type = file_name(given.name or found.name), given.type or found.type
    async with parts.database.begin() as session:
        await people.note(
            session, parts.workspace, who.name, "address of file", f"{file_id} until {until:%Y-%m-%d %H:%M}"
        )
    return AddressOut(
        url=links.file_link(parts.registry.vault, parts.settings, file_id, until, name, type), until=until
    )
