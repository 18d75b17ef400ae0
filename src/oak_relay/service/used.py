"""What uses a credential, and which scopes that needs."""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.actions.catalogue import Catalogue
from oak_relay.document.text import read
from oak_relay.engine.effects import READY
from oak_relay.service.parts import Parts
from oak_relay.service.runs import run_out
from oak_relay.service.shapes import CredentialUseOut, WorkflowUseOut
from oak_relay.store import runs, workflows
from oak_relay.vault.mail import Mail
from oak_relay.vault.oauth import OAuth

_RUNS = 5


async def of(connection: AsyncConnection, parts: Parts, name: str) -> CredentialUseOut:
    """What uses a credential."""
    known = await parts.registry.fresh()
    models = sorted(alias for alias, one in known.aliases.items() if one.credential == name)
    servers = sorted(server for server, one in known.servers.items() if one.get("credential") == name)
    mailboxes = sorted(box for box, one in known.credentials.items() if isinstance(one, Mail) and one.oauth == name)
    naming = await workflows.holding(connection, parts.workspace, [name, *models, *servers])
    named = await parts.registry.documents.surely(
        lambda: [row for row in naming if _names(row.text, name, models, servers)]
    )
    found = [WorkflowUseOut(name=row.name, on=row.on) for row in named]
    waiting = await runs.waiting_for(connection, parts.workspace, f"{READY}.{name}")
    last = await runs.of_workflows(connection, parts.workspace, [row.id for row in named], _RUNS) if named else []
    on = [one.name for one in found if one.on]
    return CredentialUseOut(
        workflows=found,
        models=models,
        servers=servers,
        credentials=mailboxes,
        runs=[run_out(row) for row in last],
        waiting=waiting,
        would_stop=bool(on or waiting),
        sentence=_sentence(name, on, found, (*models, *servers, *mailboxes), waiting),
    )


def _sentence(name: str, on: list[str], found: list[WorkflowUseOut], others: Iterable[str], waiting: int) -> str:
    said = []
    if on:
        said.append(f"{', '.join(on[:10])} {'are' if len(on) > 1 else 'is'} on and would wait for it")
    off = [one.name for one in found if not one.on]
    if off:
        said.append(
            f"{', '.join(off[:10])} name{'s' if len(off) == 1 else ''} it, and {'is' if len(off) == 1 else 'are'} off"
        )
    named = list(others)
    if named:
        said.append(f"{', '.join(named[:10])} use{'s' if len(named) == 1 else ''} it")
    if waiting:
        said.append(f"{waiting} run{'s wait' if waiting > 1 else ' waits'} for it")
    return "; ".join(said) + "." if said else f"nothing uses {name}."


def _names(text: str, name: str, models: Iterable[str], servers: Iterable[str]) -> bool:
    """Whether a document names a credential, or a model or tool server that is used with it."""
    meant = {"credential": {name}, "model": set(models), "server": set(servers)}
    return any(
        isinstance(value, str) and value in meant[key]
        for one in _mappings(_data(text))
        for key, value in one.items()
        if key in meant
    )


def _data(text: str) -> object:
    try:
        return read(text).data
    except ValueError:
        return None


def _mappings(data: object) -> Iterator[Mapping[str, Any]]:
    if isinstance(data, dict):
        yield data
        for value in data.values():
            yield from _mappings(value)
    elif isinstance(data, list):
        for value in data:
            yield from _mappings(value)


async def scopes_needed(connection: AsyncConnection, parts: Parts, name: str, app: OAuth) -> list[str]:
    """The scopes that an app asks for: its own, those of all actions that are used with it, and those that calls were refused
    for."""
    naming = await workflows.holding(connection, parts.workspace, [name])
    catalogue = parts.registry.catalogue

    def every() -> list[str]:
        return [scope for row in naming for scope in _scopes(row.text, name, catalogue)]

    of_actions = await parts.registry.documents.surely(every)
    consent = (await parts.registry.fresh()).consents.get(name)
    wanted = sorted(consent.wanted) if consent is not None else []
    return list(dict.fromkeys([*app.scopes, *of_actions, *wanted]))


async def of_actions(parts: Parts, names: list[str]) -> dict[str, list[WorkflowUseOut]]:
    """Which workflows and agents use some actions, by the action's name."""
    async with parts.database.connect() as connection:
        naming = await workflows.holding(connection, parts.workspace, names)

    def every() -> dict[str, list[WorkflowUseOut]]:
        found: dict[str, list[WorkflowUseOut]] = {name: [] for name in names}
        for row in naming:
            named = {str(one["do"]) for one in _mappings(_data(row.text)) if isinstance(one.get("do"), str)}
            for name in named & found.keys():
                found[name].append(WorkflowUseOut(name=row.name, on=row.on))
        return found

    return await parts.registry.documents.surely(every)


def _scopes(text: str, name: str, catalogue: Catalogue) -> Iterator[str]:
    for one in _mappings(_data(text)):
        action, given = catalogue.known(one.get("do")), one.get("with")
        if action is not None and isinstance(given, dict) and given.get("credential") == name:
            yield from action.scopes
