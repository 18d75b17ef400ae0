"""What changes answer with."""

from typing import Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field


class ManyDone(BaseModel):
    """What was done to many runs at once."""

    done: int = Field(description="How many it was done to.")
    refused: dict[UUID, str] = Field(description="Why not to others.")


class Cancelled(BaseModel):
    """`cancelled` at once, `asked` when a worker is just at it, or `over`."""

    outcome: Literal["cancelled", "asked", "over"]


class Why(BaseModel):
    """Why a run is not moving; empty when it moves or has ended."""

    why: str


class SampleKept(BaseModel):
    """A sample, by its name."""

    kept: str


class Answered(BaseModel):
    """How many questions were answered."""

    answered: int


class Fired(BaseModel):
    """The run of an occurrence; none for a poll, which looks by itself, with a note that says so."""

    run: UUID | None
    note: str


class Forgotten(BaseModel):
    """How many missing events are listed no more."""

    forgotten: int


class Held(BaseModel):
    """How many runs are held."""

    held: int


class Released(BaseModel):
    """How many runs go on."""

    released: int


class RowsAdded(BaseModel):
    """How many rows were added."""

    added: int


class RowUpdated(BaseModel):
    """Whether a row was changed."""

    updated: bool


class CostOut(BaseModel):
    """What one request to a model is likely to use; of an agent its first turn."""

    model: str
    tokens: int = Field(description="Of what is asked, estimated.")
    longest: int = Field(description="Tokens of the longest answer.")
    money: float | None = Field(description="Of both together; null when the model's price is not known.")


class RenderedOut(BaseModel):
    """What a step would send: its `input`, of models also their `messages` and what they are offered."""

    model_config = ConfigDict(extra="allow")

    step: str
    action: str
    input: object
    empty: list[str] = Field(description="Expressions that came out empty.")
    messages: list[dict[str, object]] | None = None
    tools: list[dict[str, object]] = []
    cost: CostOut | None = None
