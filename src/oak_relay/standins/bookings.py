"""The booking office's own interface, described by an OpenAPI document at `/office/api/openapi.json`: huts, bookings with pages,
receipts as files, what guests hand in. A booking that is asked for twice under one `Idempotency-Key` is made once."""

import uuid
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Annotated, Literal

from fastapi import Depends, FastAPI, File, Form, Header, HTTPException, Query, Request, UploadFile
from fastapi.responses import JSONResponse, Response
from fastapi.security import APIKeyHeader, OAuth2AuthorizationCodeBearer
from pydantic import BaseModel, Field

from oak_relay.standins.ledger import Ledger

HUTS = {
    "kestrel-notch": ("Kestrel Notch", 2140, 28),
    "upper-tarn": ("Upper Tarn", 1870, 40),
    "saint-odos-rest": ("Saint Odo's Rest", 1620, 22),
    "marmot-saddle": ("Marmot Saddle", 2310, 18),
    "glasswater": ("Glasswater", 1750, 36),
    "thistle-col": ("Thistle Col", 2080, 24),
    "long-shadow": ("Long Shadow", 1490, 30),
}


class Hut(BaseModel):
    """A hut of the cooperative."""

    hut: str
    name: str
    height: int = Field(description="Metres above the sea.")
    bunks: int


class NewBooking(BaseModel):
    """What a guest asks for."""

    hut: str = Field(description="The hut's short name.", examples=["glasswater"])
    guest: str = Field(min_length=1, max_length=200, examples=["ada@guests.example"])
    night: str = Field(pattern=r"^\d{4}-\d{2}-\d{2}$", description="The first night.", examples=["2031-07-14"])
    nights: int = Field(1, ge=1, le=14)
    bunks: int = Field(1, ge=1, le=12)
    note: str | None = Field(None, max_length=500)


class Booking(NewBooking):
    """A booking as the office has it."""

    id: str
    state: Literal["asked", "confirmed", "cancelled"]
    made_at: datetime


class Changes(BaseModel):
    """What is to be another."""

    nights: int | None = Field(None, ge=1, le=14)
    bunks: int | None = Field(None, ge=1, le=12)
    state: Literal["asked", "confirmed", "cancelled"] | None = None
    note: str | None = Field(None, max_length=500)


class BookingPage(BaseModel):
    """Some bookings, and the mark of the next ones."""

    items: list[Booking]
    next_cursor: str | None = None


class Paper(BaseModel):
    """Something that was handed in for a booking."""

    booking: str
    name: str
    size: int
    about: str


def add(app: FastAPI, ledger: Ledger, refused: Callable[[Request, str], Response | None]) -> None:
    """Its endpoints, under `/office/api`."""
    office = _office()
    bookings: dict[str, Booking] = {}

    @office.middleware("http")
    async def known(request: Request, answer: Callable) -> Response:
        """Who is not known is told nothing but the description; faults are as they were asked for."""
        if request.url.path.endswith("/openapi.json"):
            found: Response = await answer(request)
            return found
        wrong = refused(request, "") or await ledger.fault("office", request, {})
        if wrong is not None:
            return wrong
        found = await answer(request)
        ledger.note("office", request, dict(request.query_params), found.status_code)
        return found

    @office.exception_handler(HTTPException)
    async def told(request: Request, error: Exception) -> Response:
        assert isinstance(error, HTTPException)
        return JSONResponse({"message": error.detail}, error.status_code)

    _listed(office, bookings)
    _made(office, ledger, bookings)
    _changed(office, bookings)
    _papers(office, bookings)
    app.mount("/office/api", office)


def _office() -> FastAPI:
    key = APIKeyHeader(name="X-API-Key", auto_error=False, scheme_name="officeKey")
    consent = OAuth2AuthorizationCodeBearer(
        authorizationUrl="/office/oauth/authorize",
        tokenUrl="/office/oauth/token",
        scopes={"bookings.read": "See bookings", "replies.write": "Write to guests"},
        auto_error=False,
        scheme_name="officeConsent",
    )
    return FastAPI(
        title="Larkspur Booking Office",
        version="2.1.0",
        description="Bunks of seven huts. Made up, as everything here.",
        servers=[{"url": "/office/api"}],
        root_path_in_servers=False,
        dependencies=[Depends(key), Depends(consent)],
        docs_url=None,
        redoc_url=None,
        generate_unique_id_function=lambda route: route.name,
    )


def _one(bookings: Mapping[str, Booking], booking: str) -> Booking:
    if booking not in bookings:
        raise HTTPException(404, f"there is no booking {booking}")
    return bookings[booking]


def _listed(office: FastAPI, bookings: Mapping[str, Booking]) -> None:
    @office.get("/huts", tags=["huts"])
    async def list_huts() -> list[Hut]:
        """All huts, with their bunks."""
        return [Hut(hut=hut, name=name, height=height, bunks=bunks) for hut, (name, height, bunks) in HUTS.items()]

    @office.get("/bookings", tags=["bookings"])
    async def list_bookings(
        hut: str | None = None,
        state: Annotated[list[Literal["asked", "confirmed", "cancelled"]] | None, Query()] = None,
        limit: Annotated[int, Query(ge=1, le=50)] = 20,
        cursor: str | None = None,
    ) -> BookingPage:
        """Bookings, the oldest first, a page at a time."""
        found = [b for b in bookings.values() if hut in (None, b.hut) and (not state or b.state in state)]
        after = int(cursor) if cursor and cursor.isdecimal() else 0
        more = after + limit < len(found)
        return BookingPage(items=found[after : after + limit], next_cursor=str(after + limit) if more else None)


def _made(office: FastAPI, ledger: Ledger, bookings: dict[str, Booking]) -> None:
    made: dict[str, str] = {}

    @office.post("/bookings", status_code=201, tags=["bookings"])
    async def make_booking(
        given: NewBooking,
        idempotency_key: Annotated[str, Header(description="The same again makes no second booking.")] = "",
    ) -> Booking:
        """Ask for bunks in a hut."""
        if given.hut not in HUTS:
            raise HTTPException(422, f"there is no hut {given.hut}")
        ledger.worked[idempotency_key] += 1
        if idempotency_key and idempotency_key in made:
            return bookings[made[idempotency_key]]
        booking = Booking(
            id=f"booking-{len(bookings) + 1}", state="asked", made_at=datetime.now(UTC), **given.model_dump()
        )
        bookings[booking.id] = booking
        made[idempotency_key or str(uuid.uuid4())] = booking.id
        return booking


def _changed(office: FastAPI, bookings: dict[str, Booking]) -> None:
    @office.get("/bookings/{booking}", tags=["bookings"])
    async def show_booking(booking: str) -> Booking:
        """One booking."""
        return _one(bookings, booking)

    @office.patch("/bookings/{booking}", tags=["bookings"])
    async def change_booking(booking: str, given: Changes) -> Booking:
        """Change a booking, or confirm it."""
        bookings[booking] = _one(bookings, booking).model_copy(update=given.model_dump(exclude_unset=True))
        return bookings[booking]

    @office.delete("/bookings/{booking}", status_code=204, tags=["bookings"])
    async def cancel_booking(booking: str) -> None:
        """Cancel a booking; it stays in the list."""
        bookings[booking] = _one(bookings, booking).model_copy(update={"state": "cancelled"})


def _papers(office: FastAPI, bookings: Mapping[str, Booking]) -> None:
    papers: list[Paper] = []

    @office.get(
        "/bookings/{booking}/receipt",
        tags=["papers"],
        response_class=Response,
        responses={200: {"content": {"text/csv": {"schema": {"type": "string", "format": "binary"}}}}},
    )
    async def download_receipt(booking: str) -> Response:
        """The receipt of a booking, as a file."""
        b = _one(bookings, booking)
        text = f"booking,hut,nights,bunks\n{b.id},{b.hut},{b.nights},{b.bunks}\n"
        headers = {"Content-Disposition": f'attachment; filename="{b.id}.csv"'}
        return Response(text, media_type="text/csv", headers=headers)

    @office.post("/bookings/{booking}/papers", status_code=201, tags=["papers"])
    async def hand_in_paper(
        booking: str, paper: Annotated[UploadFile, File()], about: Annotated[str, Form(max_length=200)] = ""
    ) -> Paper:
        """Hand in something for a booking, such as a picture."""
        size = len(await paper.read())
        papers.append(Paper(booking=_one(bookings, booking).id, name=paper.filename or "", size=size, about=about))
        return papers[-1]
