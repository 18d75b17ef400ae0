"""Signed addresses by which a question is answered, and a file is read, without signing in."""

import time
from datetime import datetime
from urllib.parse import urlencode
from uuid import UUID

from oak_relay.document.numbers import whole
from oak_relay.runtime.settings import Settings
from oak_relay.store.vault import Vault

_DAY = 86_400


class NoLink(ValueError):
    """A text is no link of ours (`over` False), or one whose time has passed."""

    def __init__(self, over: bool = False) -> None:
        super().__init__("this link is over" if over else "this link is not valid")
        self.over = over


def link(vault: Vault, settings: Settings, question: UUID | str) -> str:
    """The address of a question; the same all day, and good for the days that are set."""
    ends = str((int(time.time()) // _DAY + 1 + settings.link_days) * _DAY)
    return f"{settings.own_url}/answer/{question}.{ends}.{vault.sign(_linked(question, ends))}"


def question_of(vault: Vault, text: str) -> UUID:
    """The question of what stands behind `/answer/`. Raises `NoLink`, and `LookupError` for what names no question."""
    name, _, rest = text.partition(".")
    ends, _, signature = rest.partition(".")
    try:
        question = UUID(name)
    except ValueError:
        raise LookupError(name) from None
    if not vault.signed(_linked(question, ends), signature):
        raise NoLink
    if (whole(ends) or 0) < time.time():
        raise NoLink(over=True)
    return question


def file_link(vault: Vault, settings: Settings, file: UUID, until: datetime, name: str, type: str) -> str:
    """The address of a file until a moment, under a name and a media type that nobody can change."""
    ends = str(int(until.timestamp()))
    signed = vault.sign(_of_file(file, ends, name, type))
    query = urlencode({"name": name, "type": type})
    return f"{settings.own_url}/api/v1/files/by-link/{file}.{ends}.{signed}?{query}"


def file_of(vault: Vault, text: str, name: str, type: str) -> UUID:
    """The file of what stands behind `/files/by-link/`. Raises `NoLink`, and `LookupError` for what names no file."""
    id, _, rest = text.partition(".")
    ends, _, signature = rest.partition(".")
    try:
        file = UUID(id)
    except ValueError:
        raise LookupError(id) from None
    if not vault.signed(_of_file(file, ends, name, type), signature):
        raise NoLink
    if (whole(ends) or 0) < time.time():
        raise NoLink(over=True)
    return file


def _of_file(file: UUID, ends: str, name: str, type: str) -> str:
    return "\n".join(("file", str(file), ends, name, type))


def _linked(question: UUID | str, ends: str) -> str:
    """What a link's signature is of."""
    return f"answer/{question}/{ends}"
