"""Where a tool server is."""

from typing import Annotated

from pydantic import Field, model_validator

from oak_relay.actions.base import Fields
from oak_relay.document.wire import WebAddress
from oak_relay.vault.kinds import LONGEST


class ToolServer(Fields):
    """Where a tool server is: an address (`url`), or a program to start (`command`)."""

    url: WebAddress | None = Field(None, description="Its endpoint, for streamable HTTP.")
    credential: str | None = Field(None, description="Name of a stored credential.")
    command: list[str] | None = Field(
        None, min_length=1, description="A program and its arguments, spoken to by stdio."
    )
    environment: dict[
        Annotated[str, Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,100}$")],
        Annotated[str, Field(max_length=LONGEST, pattern=r"^[^\x00]*$")],
    ] = Field(
        default_factory=dict,
        max_length=100,
        description="Further variables for the program; their values are kept sealed and never shown.",
    )

    @model_validator(mode="after")
    def _one_way(self) -> "ToolServer":
        if (self.url is None) == (self.command is None):
            raise ValueError("a tool server has either url or command")
        return self
