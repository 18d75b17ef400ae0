"""Model aliases: a workspace-wide name for a server, a model, a credential and its prices."""

from collections.abc import Mapping
from dataclasses import replace
from decimal import Decimal
from functools import lru_cache
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from oak_relay.document import values
from oak_relay.document.numbers import Number, Whole
from oak_relay.document.wire import WebAddress
from oak_relay.usage import Usage


class Prices(BaseModel):
    """Money per million tokens."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    input: Number = Field(0, ge=0)
    cached: Number | None = Field(None, ge=0, description="Of tokens that were cached; without it as the others.")
    output: Number = Field(0, ge=0)


class Can(BaseModel):
    """What a model server can do, found out at connecting and at first use; None of what nobody knows yet. `answers`: it
    takes a JSON Schema for its answer, gives JSON of any form when asked, or is told in words."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    answers: Literal["schema", "object", "text"] | None = None
    tools: bool | None = None
    parallel: bool | None = Field(None, description="Several calls in one turn.")
    stream: bool | None = None
    usage: bool | None = Field(None, description="It counts tokens; else they are estimated.")


class Alias(BaseModel):
    """`url` is the server's base address, up to and with its version (`https://models.example/v1`)."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    url: WebAddress
    model: str = Field(min_length=1)
    credential: str | None = None
    prices: Prices | None = Field(None, description="What it costs; without them that is not known. 0 for a free one.")
    temperature: Number | None = Field(None, ge=0, le=2)
    max_tokens: Whole = Field(1024, ge=1, le=200_000, description="Longest answer.")
    timeout: Number = Field(120, gt=0, le=3600, description="Seconds one request may take.")
    fallbacks: tuple[str, ...] = Field((), description="Aliases that are asked in this order when it is not available.")
    extra: dict[str, object] = Field(default_factory=dict, description="Further fields to send with each request.")
    takes: tuple[Literal["images", "files"], ...] = Field((), description="What its model takes beside text.")
    stream: Literal["watched", "always", "never"] = Field(
        "watched", description="Whether answers are taken piece by piece: when somebody watches the run, always, never."
    )
    can: Can = Field(Can(), description="What its server can do; found out by itself.")
    sources: tuple[str, ...] = Field(
        (), description="JSONPaths (RFC 9535) in a reply under which its sources stand, as addresses or {url, title}."
    )

    def cost(self, usage: Usage) -> float | None:
        """Money for a reply's tokens; None when its prices are not known."""
        if self.prices is None:
            return None
        fresh = max(0, usage.input - usage.cached)
        parts = (
            (fresh, self.prices.input),
            (usage.cached, self.prices.input if self.prices.cached is None else self.prices.cached),
            (usage.output, self.prices.output),
        )
        return float(sum((Decimal(n) * Decimal(str(p)) for n, p in parts), Decimal(0)) / 1_000_000)

    def priced(self, usage: Usage, name: str) -> Usage:
        """The same tokens with their money, and with whose they are: this alias's, by its name."""
        return replace(usage, money=self.cost(usage), alias=name, credential=self.credential)

    def worst(self, size: int, most: int) -> float | None:
        """The most that a request may cost whose content takes so many bytes of UTF-8: no token is less than a byte, and
        what the server adds to it by itself is small. None when its prices are not known."""
        return self.cost(Usage(input=size + 200, output=most))


def read_alias(data: Mapping[str, object]) -> Alias:
    """An alias as it stands in a record, where its own name may stand beside it (`name`)."""
    return _read(values.dumps(data))


@lru_cache(maxsize=512)
def _read(text: str) -> Alias:
    return Alias.model_validate({name: value for name, value in values.loads(text).items() if name != "name"})
