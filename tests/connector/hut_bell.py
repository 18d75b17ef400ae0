"""The bells of the huts: to ring one, the key it is rung with, and to hear who rang."""

from collections.abc import Iterable, Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from oak_relay.actions.base import Action, Connector, Fields
from oak_relay.actions.exchange import authorised, send
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import durations
from oak_relay.document.check_base import Checking
from oak_relay.document.text import Path
from oak_relay.document.values import in_brief
from oak_relay.document.words import Duration, Model
from oak_relay.triggers.base import Looking, Occasion, WatchTrigger
from oak_relay.vault.kinds import Authorization, SecretSent

_LARGEST = 100_000


class BellKey(SecretSent):
    """Key of a hut's bell."""

    kind: Literal["bell-key"] = "bell-key"
    hut: str = Field(min_length=1, title="Hut")

    def authorization(self) -> Authorization:
        return Authorization({"X-Bell": f"{self.hut}:{self.reveal()}"})


class RingInput(Fields):
    url: str = Field(pattern=r"^https?://", description="Address of the bell.")
    times: int = Field(1, ge=1, le=12)
    credential: str


class Rung(BaseModel):
    rung: int


async def _ring(given: RingInput, at: Outbound) -> Result:
    headers = {"Idempotency-Key": at.key}
    plain = at.http.build_request("POST", given.url, json={"times": given.times}, headers=headers, timeout=at.timeout)
    exchange = await send(at, await authorised(at, plain, given.credential), _LARGEST, given.credential)
    if exchange.status != 200:
        raise exchange.failure()
    return Result(exchange.read("json"), exchange.detail)


class Bell(Model):
    """A bell that is listened to."""

    url: str
    credential: str
    every: Duration = "30s"


class BellTrigger(WatchTrigger[Bell]):
    name, model = "bell", Bell

    def sentence(self, given: Bell) -> str:
        return f"Somebody rings at {given.url}"

    def check(self, given: Bell, path: Path, checker: Checking) -> None:
        checker.named((*path, "credential"), given.credential, checker.world.credentials, "credential")

    def every(self, given: Bell) -> float:
        return durations.seconds(given.every)

    async def look(self, given: Bell, settings: Mapping[str, Any], at: Looking) -> Iterable[Occasion]:
        request = await authorised(at, at.http.build_request("GET", given.url), given.credential)
        exchange = await send(at, request, _LARGEST, given.credential)
        if exchange.status != 200:
            raise exchange.failure()
        return [Occasion("bell.rang", rang, str(rang["id"])) for rang in exchange.read("json")]


CONNECTOR = Connector(
    "Hut bells",
    [
        Action(
            "bell.ring",
            "Ring a hut's bell",
            RingInput,
            Rung,
            repeat="keyed",
            timeout=10,
            perform=_ring,
            credentials=("bell-key",),
            sentence=lambda step, given: (
                f"Ring {in_brief(given.get('times', 1))} times at {in_brief(given.get('url'))}"
            ),
            example={"url": "http://tarn.example/bell", "times": 3, "credential": "tarn-bell"},
        )
    ],
    credentials=[BellKey],
    triggers=[BellTrigger()],
)
CRACKED = Connector("Cracked bells", [Action("http.request", "Taken already", RingInput, Rung, perform=_ring)])


class OfficeInput(Fields):
    url: str = Field(pattern=r"^https?://", description="Address of the booking office.")
    credential: str


def _calling(method: str, path: str) -> Any:
    async def call(given: OfficeInput, at: Outbound) -> Result:
        plain = at.http.build_request(method, f"{given.url}{path}", json={"to": "a"} if method == "POST" else None)
        exchange = await send(at, await authorised(at, plain, given.credential), _LARGEST, given.credential)
        if exchange.status >= 300:
            raise exchange.failure()
        return Result(exchange.read("json"), exchange.detail)

    return call


def _office(name: str, title: str, method: str, path: str, scope: str) -> Connector:
    """A connector with one action of the office that needs one scope."""
    action = Action(
        f"{name}.do", title, OfficeInput, None, perform=_calling(method, path), credentials=("oauth",), scopes=(scope,)
    )
    return Connector(title, [action])


BOOKINGS = _office("office-bookings", "See bookings", "GET", "/me", "bookings.read")
REPLIES = _office("office-replies", "Reply to a guest", "POST", "/replies", "replies.write")
DESK = _office("office-desk", "See whose desk it is", "GET", "/oauth/account", "huts.read")
