"""`/api/v1/credits`: what was paid in behind credentials, what is left of it, and until when that lasts."""

from decimal import Decimal
from typing import Any

from fastapi import APIRouter
from pydantic import Field, StrictBool

from oak_relay.document.numbers import Number
from oak_relay.service.credentials import say_ready
from oak_relay.service.lists import Asks, Page, cut
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.problems import missing
from oak_relay.service.shapes import CreditOut, In
from oak_relay.store import credit, people, usage
from oak_relay.store.database import raw

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/credits", tags=["usage"])


class CreditIn(In):
    money: Number = Field(ge=0, le=1e9, description="What was paid in, or what is in the account.")
    adds: StrictBool = Field(True, description="Whether it was paid in beside what is left; else it is all there is.")


@router.get("")
async def list_credits(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[CreditOut]:
    """What was noted of accounts, by credential, and what is left of it by what models cost since."""
    async with parts.database.connect() as connection:
        found = await credit.listed(await raw(connection), parts.workspace)
    return cut(sorted(found, key=lambda row: row["credential"]), asked, lambda row: row["credential"], _out)


@router.post("/{credential}", status_code=201)
async def note_credit(credential: str, given: CreditIn, parts: PartsDep, who: CallerDep) -> CreditOut:
    """Note what was paid in behind a credential. Runs that rest because its account was empty go on. `oak.credit` is
    published when a fifth is left, or what lasts three days at the present pace; and when nothing is."""
    if credential not in (await parts.registry.fresh()).credentials:
        raise missing("credential", credential)
    async with parts.database.begin() as connection:
        direct = await raw(connection)
        await usage.sum_up(direct, parts.workspace)
        await credit.note(direct, parts.workspace, credential, Decimal(str(given.money)), given.adds)
        await credit.look(direct, parts.workspace)
        await people.note(connection, parts.workspace, who.name, "credit", f"{credential} {given.money:g}")
        found = next(r for r in await credit.listed(direct, parts.workspace) if r["credential"] == credential)
    if given.money:
        await say_ready(credential, parts, who)
    return _out(found)


@router.delete("/{credential}", status_code=204)
async def forget_credit(credential: str, parts: PartsDep, who: CallerDep) -> None:
    """Keep no account of a credential any more."""
    async with parts.database.begin() as connection:
        if not await credit.forget(await raw(connection), parts.workspace, credential):
            raise missing("credit", credential)
        await people.note(connection, parts.workspace, who.name, "remove credit", credential)


def _out(row: Any) -> CreditOut:
    return CreditOut.model_validate(dict(row))
