"""The huts' accounts: a small service that keeps vouchers, described by an OpenAPI document at `/accounts/api/openapi.json`. A voucher is
changed on the condition that it is still what was read (`If-Match`, RFC 9110); its rows are told a page at a time. The same vouchers lie as
a workbook in a folder (`standins.folder`)."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Annotated

from fastapi import Depends, FastAPI, Header, HTTPException, Query, Request
from fastapi.responses import JSONResponse, Response
from fastapi.security import APIKeyHeader, OAuth2AuthorizationCodeBearer
from pydantic import BaseModel, Field

from oak_relay.standins import folder
from oak_relay.standins.ledger import Ledger

MOST = 5_000


class Voucher(BaseModel):
    """Money that came or went."""

    number: str = Field(
        min_length=1, max_length=40, description="Its number, which tells it apart.", examples=["V-2031-0001"]
    )
    hut: str = Field(max_length=60, examples=["glasswater"])
    what: str = Field(max_length=200, examples=["12 breakfasts"])
    amount: float = Field(examples=[96.5])
    night: str = Field("2031-07-01", pattern=r"^\d{4}-\d{2}-\d{2}$")


class Kept(Voucher):
    """A voucher as the accounts have it."""

    version: str = Field(description="What it is now, for If-Match.")


class VoucherPage(BaseModel):
    """Some vouchers, and the mark of the next ones."""

    items: list[Kept]
    next_cursor: str | None = None


@dataclass
class Vouchers:
    """What the accounts keep, by number."""

    kept: dict[str, Kept] = field(default_factory=dict)
    columns = tuple(Voucher.model_fields)

    def put(self, given: Voucher) -> Kept:
        """Keep a voucher, in the place of the one of its number."""
        before = self.kept.get(given.number)
        version = int(before.version.strip('"')) + 1 if before else 1
        self.kept[given.number] = Kept(**given.model_dump(), version=f'"{version}"')
        return self.kept[given.number]

    def rows(self) -> folder.Rows:
        """All vouchers as rows."""
        return [one.model_dump(exclude={"version"}) for one in self.kept.values()]

    def replace(self, rows: folder.Rows) -> None:
        """Take these in the place of all; what is as it was, is not a new version. Raises `ValidationError`, `ValueError`."""
        given = [Voucher.model_validate(_said(row)) for row in rows]
        if len(given) > MOST or len({one.number for one in given}) < len(given):
            raise ValueError("there are too many, or a number stands twice")
        before = self.kept
        self.kept = {one.number: before[one.number] for one in given if one.number in before}
        for one in given:
            if one.number not in before or before[one.number].model_dump(exclude={"version"}) != one.model_dump():
                self.put(one)


def _said(row: Mapping[str, object]) -> dict[str, object]:
    """A row of the workbook without its empty cells."""
    return {name: value for name, value in row.items() if value is not None}


def add(app: FastAPI, ledger: Ledger, refused: Callable[[Request, str], Response | None]) -> None:
    """Its endpoints, under `/accounts/api`."""
    accounts, every = _accounts(), Vouchers()

    @accounts.middleware("http")
    async def known(request: Request, answer: Callable) -> Response:
        if request.url.path.endswith("/openapi.json"):
            told: Response = await answer(request)
            return told
        scope = "accounts.read" if request.method == "GET" else "accounts.write"
        wrong = refused(request, scope) or await ledger.fault("accounts", request, {})
        if wrong is not None:
            return wrong
        found: Response = await answer(request)
        ledger.note("accounts", request, dict(request.query_params), found.status_code)
        await ledger.after("accounts", request)
        return found

    @accounts.exception_handler(HTTPException)
    async def told(request: Request, error: Exception) -> Response:
        assert isinstance(error, HTTPException)
        return JSONResponse({"message": error.detail}, error.status_code)

    _vouchers(accounts, every)
    app.mount("/accounts/api", accounts)
    folder.add(app, ledger, refused, every)


def _accounts() -> FastAPI:
    key = APIKeyHeader(name="X-API-Key", auto_error=False, scheme_name="accountsKey")
    consent = OAuth2AuthorizationCodeBearer(
        authorizationUrl="/office/oauth/authorize", tokenUrl="/office/oauth/token", auto_error=False, scheme_name="accountsConsent",
        scopes={"accounts.read": "See the accounts", "accounts.write": "Keep the accounts"},
    )  # fmt: skip
    return FastAPI(
        title="Larkspur Accounts",
        version="1.0.0",
        description="The vouchers of seven huts. Made up, as everything here.",
        servers=[{"url": "/accounts/api"}],
        root_path_in_servers=False,
        dependencies=[Depends(key), Depends(consent)],
        docs_url=None,
        redoc_url=None,
        generate_unique_id_function=lambda route: route.name,
    )


def _vouchers(accounts: FastAPI, every: Vouchers) -> None:
    def one(number: str) -> Kept:
        if number not in every.kept:
            raise HTTPException(404, f"there is no voucher {number}")
        return every.kept[number]

    @accounts.get("/vouchers")
    async def list_vouchers(limit: Annotated[int, Query(ge=1, le=100)] = 50, cursor: str | None = None) -> VoucherPage:
        """Vouchers as they came, a page at a time."""
        found = list(every.kept.values())
        after = int(cursor) if cursor and cursor.isdecimal() else 0
        more = after + limit < len(found)
        return VoucherPage(items=found[after : after + limit], next_cursor=str(after + limit) if more else None)

    @accounts.post("/vouchers", status_code=201)
    async def add_voucher(given: Voucher) -> Kept:
        """Enter a voucher. 409 when there is one of its number."""
        if given.number in every.kept:
            raise HTTPException(409, f"there is a voucher {given.number}")
        if len(every.kept) >= MOST:
            raise HTTPException(507, "the accounts are full")
        return every.put(given)

    @accounts.put("/vouchers/{number}")
    async def change_voucher(number: str, given: Voucher, if_match: Annotated[str, Header()]) -> Kept:
        """Change a voucher that is still what was read. 412 when it is another by now."""
        before = one(number)
        if before.version != if_match:
            raise HTTPException(412, "the voucher is another by now")
        return every.put(given.model_copy(update={"number": number}))

    @accounts.delete("/vouchers/{number}", status_code=204)
    async def remove_voucher(number: str, if_match: Annotated[str, Header()]) -> None:
        """Take a voucher out that is still what was read."""
        if one(number).version != if_match:
            raise HTTPException(412, "the voucher is another by now")
        del every.kept[number]
