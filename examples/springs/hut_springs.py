"""The springs of the huts: how much water comes out of one, by its gauge."""

from pydantic import BaseModel, Field

from oak_relay.actions.base import Action, Connector, Fields
from oak_relay.actions.exchange import authorised, send
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Outbound


class MeasureInput(Fields):
    gauge: str = Field(pattern=r"^https?://", description="Address of the gauge.")
    minutes: int = Field(5, ge=1, le=60, description="How long it is measured.")
    credential: str = Field(description="Name of a stored credential.")


class Measured(BaseModel):
    litres: float = Field(description="Litres a minute.")
    boil: bool = Field(description="Whether the water has to be boiled.")


async def measure(given: MeasureInput, at: Outbound) -> Result:
    query = {"minutes": given.minutes}
    request = at.http.build_request("GET", given.gauge, params=query, timeout=at.timeout)
    answer = await send(at, await authorised(at, request, given.credential), 100_000, given.credential)
    if answer.status != 200:
        raise answer.failure()
    return Result(answer.read("json"), answer.detail)


MEASURE = Action(
    "springs.measure",
    "Measure a spring",
    MeasureInput,
    Measured,
    repeat="safe",
    perform=measure,
    example={"gauge": "http://tarn.example/gauge", "credential": "gauges"},
)
CONNECTOR = Connector("Springs", [MEASURE])
