"""`conversation`: what people say, on a channel; everything said under one key is one conversation."""

from collections.abc import Mapping
from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, ValidationError, model_validator

from oak_relay.document import durations, model_faults
from oak_relay.document.check_base import Checking
from oak_relay.document.text import Path
from oak_relay.document.words import Duration, Model, said, sound_duration
from oak_relay.triggers.base import Occasion, TriggerKind
from oak_relay.triggers.channel import Channel

Colour = Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]
Command = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_-]{0,30}$")]
MESSAGE = "oak.message"
"""The type of the event that something is which somebody says."""
PAGE = "page"
"""The channel that is a page of ours; others are read and sent to."""


class Pace(Model):
    """How many messages and files a page takes in a minute, of each process of the service."""

    address: int = Field(30, ge=1, le=10_000, description="From one address (IPv6: one network of 64 bits).")
    page: int = Field(600, ge=1, le=1_000_000, description="From all together.")


class Conversation(Model):
    """What people say."""

    channel: Annotated[str, Field(max_length=60)] = Field(
        PAGE, description="Where it is said: `page`, one that is served at /talk/<path>; or a channel of a connector, as `messenger`."
    )  # fmt: skip
    path: Annotated[
        str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,60}$", description="Below /talk/, or of another channel /channels/.")
    ]
    given: dict[str, object] = Field(
        default_factory=dict, alias="with", description="What a channel of a connector needs: where it is sent to, and its credentials."
    )  # fmt: skip
    title: str = Field("", max_length=80, description="What the page is called.")
    colour: Colour | None = Field(None, description="Of its head and buttons, as #3b6b4f.")
    picture: Annotated[str, Field(max_length=30_000, pattern=r"^data:image/(png|jpeg|gif|webp);base64,[A-Za-z0-9+/]+={0,2}$")] | None = Field(
        None, description="Beside its title: a small picture, as data:image/png;base64,… (RFC 2397)."
    )  # fmt: skip
    greeting: str = Field("", max_length=1000, description="What stands there before anything is said.")
    suggestions: list[Annotated[str, Field(min_length=1, max_length=80)]] = Field(
        default_factory=list, max_length=6, description="What somebody may begin with."
    )
    commands: dict[Command, Annotated[str, Field(min_length=1, max_length=100)]] = Field(
        default_factory=dict, max_length=20, description="Words behind a slash that it knows, each with a sentence; a page offers them."
    )  # fmt: skip
    accepts: list[Literal["text", "voice", "picture", "file"]] | None = Field(
        None, max_length=4, description="What may come besides words: of a page nothing else unless it is named here, of another channel all of it."
    )  # fmt: skip
    voice: Annotated[str, Field(max_length=100)] | None = Field(
        None, description="The model alias that writes voice notes down: what they say is the text."
    )
    gather: Annotated[Duration, AfterValidator(sound_duration)] = Field(
        "2s", description="How long more is waited for: several messages sent one after the other are taken as one."
    )

    open_to: Literal["public", "link", "password"] = Field(
        "public",
        description="Of a page: who may talk there; whoever has its address, its secret link, or the password.",
    )
    password: str | None = Field(
        None, description="Of a page that is open to a password: the stored credential that holds it."
    )
    sites: list[Annotated[str, Field(pattern=r"^https?://[a-z0-9.-]{1,200}(:[0-9]{1,5})?$")]] = Field(
        default_factory=list,
        max_length=50,
        description="Of a page: sites that may hold it in a frame, as https://huts.example.",
    )
    pace: Pace = Field(Pace(), description="Of a page: how many messages are taken in a minute.")

    @model_validator(mode="after")
    def _sound(self) -> "Conversation":
        if (self.open_to == "password") != (self.password is not None):
            raise said(
                "a page that is open to a password names the credential that holds it",
                "write open_to: password and password: NAME",
            )
        return self

    def takes(self, what: str) -> bool:
        """Whether something of a kind may come."""
        return self.channel != PAGE if self.accepts is None else what in self.accepts

    @property
    def waits(self) -> float:
        """Seconds that more is waited for."""
        return durations.seconds(self.gather)


class ConversationTrigger(TriggerKind[Conversation]):
    name, model, way, occurs = "conversation", Conversation, "talk", MESSAGE

    def __init__(self, channels: Mapping[str, Channel[Any]]) -> None:
        self.channels = channels

    def sentence(self, given: Conversation) -> str:
        if given.channel == PAGE:
            return f"What people say on the page /talk/{given.path}"
        return f"What people say at /channels/{given.path}, {given.channel.replace('_', ' ')}"

    def check(self, given: Conversation, path: Path, checker: Checking) -> None:
        channel = self.channels.get(given.channel)
        if given.voice is not None:
            checker.named((*path, "voice"), given.voice, checker.world.models, "model alias")
            if not given.takes("voice"):
                checker.add((*path, "voice"), "no voice note comes here", "add accepts: [voice]", "warning")
        if given.channel == PAGE:
            if given.given:
                checker.add((*path, "with"), "a page needs nothing else", "leave with: out, or name another channel")
            if given.password is not None:
                checker.named((*path, "password"), given.password, checker.world.credentials, "credential")
        elif channel is None:
            have = ", ".join([PAGE, *self.channels])
            checker.add((*path, "channel"), f"there is no channel {given.channel}", f"there is {have}")
        else:
            self._with(channel, given, path, checker)

    def _with(self, channel: Channel[Any], given: Conversation, path: Path, checker: Checking) -> None:
        for name in ("title", "colour", "picture", "greeting", "suggestions", "pace", "open_to", "sites"):
            if name in given.model_fields_set:
                checker.add((*path, name), f"{name} is of a page alone", "leave it out", "warning")
        try:
            channel.check(channel.model.model_validate(given.given), (*path, "with"), checker)
        except ValidationError as error:
            where, message, fix = model_faults.first(error, channel.model)
            checker.add((*path, "with"), f"{where}: {message}" if where else message, fix)

    def path(self, given: Conversation) -> str:
        return place(given.path)

    def sent(self, given: Conversation, body: object, now: datetime) -> Occasion:
        return Occasion(self.occurs, {"text": ""} if body is None else body)


def signed_page(workflow: object, path: str) -> str:
    """What the key in the secret link of a page is a signature of."""
    return f"talk/{workflow}/{path}"


def signed_draft(workflow: object, path: str) -> str:
    """What the key is a signature of that opens a page as its newest version has it."""
    return f"talk draft/{workflow}/{path}"


def place(path: str) -> str:
    """How the path of a page stands among those of all triggers."""
    return f"talk:{path}"
