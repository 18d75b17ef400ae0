"""`/api/v1/workflows`: save, on and off, remove, rename, duplicate."""

import re
from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter, Response
from pydantic import Field
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document.check import Checked
from oak_relay.document.numbers import Whole
from oak_relay.document.words import WorkflowName
from oak_relay.engine.plan import compile_plan, complete
from oak_relay.service.parts import Caller, CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.preconditions import Asked, Preconditions, etag
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import In, RenamedOut, SavedOut, WorkflowOut
from oak_relay.service.workflows import TextIn, findings_out, one_workflow, sound
from oak_relay.store import people, workflows
from oak_relay.triggers.standing import standings
from oak_relay.vault.blanking import BLANK

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/workflows", tags=["workflows"])


class OnIn(In):
    version: Whole | None = Field(None, ge=1, description="The version that is to be on; the newest when left out.")


class SaveIn(TextIn):
    remark: str = Field("", max_length=300, description="What is new in it, for the list of versions.")


class NameIn(In):
    name: WorkflowName


@router.post("", status_code=201)
async def save_workflow(
    given: SaveIn, parts: PartsDep, who: CallerDep, asked: Preconditions, response: Response
) -> SavedOut:
    """Save a document: a new workflow, or with `If-Match` a new version of the one of its name. The tag is the number of the
    version that it was made from, as `"7"`; `*` saves over whatever is there. Without it 428 where there is one of that name
    and another text; with another tag than that of its newest version 412."""
    saved = await save_document(parts, who, given.text, asked, given.remark)
    response.headers.update(etag(saved.version))
    return saved


def _may_follow(asked: Asked, number: int) -> bool:
    if not number:
        return asked.match is None or asked.whatever
    return asked.match is not None and asked.fits(str(number))


async def save_document(parts: Parts, who: Caller, text: str, asked: Asked, remark: str = "") -> SavedOut:
    """Save a sound document. Raises `Problem`."""
    checked = await sound(parts, text)
    async with parts.database.begin() as connection:
        saved = await _saved(parts, connection, who, checked, text, asked, remark)
    if saved.new and saved.version == 1:
        parts.config_changed()
    return saved


async def _saved(
    parts: Parts, connection: AsyncConnection, who: Caller, checked: Checked, text: str, asked: Asked, remark: str = ""
) -> SavedOut:
    assert checked.document is not None
    document, name = checked.document, checked.document.workflow
    _without_secrets(parts, text)
    _without_secrets(parts, remark)
    plan = await parts.registry.documents.now(lambda: compile_plan(document))
    try:
        number, new = await workflows.save(
            connection,
            parts.workspace,
            document,
            plan.revision,
            text,
            who.name,
            lambda latest: _may_follow(asked, latest),
            remark,
        )
    except workflows.Changed as changed:
        raise _not_the_newest(name, asked, changed) from None
    if new:
        await people.note(connection, parts.workspace, who.name, "save", f"{name} {number}")
    return SavedOut(workflow=name, version=number, new=new, findings=findings_out(checked))


def _not_the_newest(name: str, asked: Asked, changed: workflows.Changed) -> Problem:
    return Problem(
        412 if asked.match is not None else 428,
        f"{name} is not what this was made from" if changed.latest else f"there is no workflow {name}",
        str(changed),
        "load the newest version and bring your change into it, or name it in If-Match to save over it"
        if changed.latest
        else "leave out If-Match to make it",
        latest=changed.latest,
        author=changed.author,
    )


def _without_secrets(parts: Parts, text: str) -> None:
    """Documents hold no secret, and nothing that was blanked when it was read. Raises `Problem`."""
    if BLANK in text:
        raise Problem(
            422,
            f"the document holds {BLANK}",
            "it stood for a secret when the document was read",
            "name a credential instead",
        )
    if parts.registry.now.blanker.finds(text):
        raise Problem(422, "the document holds the secret of a credential", fix="name the credential instead")


@router.post("/{name}/on")
async def switch_on(name: str, given: OnIn, parts: PartsDep, who: CallerDep) -> WorkflowOut:
    """Switch a workflow on with a version: its triggers start it from now on."""
    async with parts.database.begin() as connection:
        row = await workflows.by_name(connection, parts.workspace, name)
        chosen = await workflows.one_version(connection, parts.workspace, row.id, given.version) if row else None
        if row is None or chosen is None:
            raise missing("workflow" if row is None else "version", name if row is None else str(given.version))
        await _switch_on(parts, connection, row, chosen.number, await sound(parts, chosen.text))
        await people.note(connection, parts.workspace, who.name, "on", f"{name} {chosen.number}")
    return await _told(parts, name)


async def _switch_on(parts: Parts, connection: AsyncConnection, row: Any, number: int, checked: Checked) -> None:
    document = checked.document
    assert document is not None
    complete(await parts.registry.documents.now(lambda: compile_plan(document)))
    starts = standings(document, parts.registry.catalogue.triggers, datetime.now(UTC))
    try:
        await workflows.switch(connection, parts.workspace, row, number, document, starts)
    except workflows.PathTaken as taken:
        raise Problem(409, "the webhook path is taken", str(taken), "choose another path") from None


@router.post("/{name}/off")
async def switch_off(name: str, parts: PartsDep, who: CallerDep) -> WorkflowOut:
    """Switch a workflow off: its triggers start it no longer; a person or a client still may."""
    async with parts.database.begin() as connection:
        row = await workflows.by_name(connection, parts.workspace, name)
        if row is None:
            raise missing("workflow", name)
        await workflows.switch(connection, parts.workspace, row, None, None)
        await people.note(connection, parts.workspace, who.name, "off", name)
    return await _told(parts, name)


@router.delete("/{name}", status_code=204)
async def remove_workflow(name: str, parts: PartsDep, who: CallerDep, asked: Preconditions) -> None:
    """Remove a workflow, and its samples with it: nothing starts it any more, and its name is free. Its runs stay, and those
    under way go on to their end; they are listed under its name and the time at which it was removed."""
    async with parts.database.begin() as connection:
        row = await _row(connection, parts, name)
        await workflows.switch(connection, parts.workspace, row, None, None)  # from here on nobody else saves it
        asked.check(str(await _newest(connection, parts, row)), name)
        await workflows.remove(connection, parts.workspace, row)
        await people.note(connection, parts.workspace, who.name, "remove workflow", name)
    parts.config_changed()


@router.post("/{name}/rename")
async def rename_workflow(
    name: str, given: NameIn, parts: PartsDep, who: CallerDep, asked: Preconditions
) -> RenamedOut:
    """Give a workflow another name, by a new version whose text says so, which is on where the newest one was. `referring` are
    workflows that still name it as it was called."""
    _within(who, given.name)
    async with parts.database.begin() as connection:
        row = await _row(connection, parts, name)
        newest = await workflows.one_version(connection, parts.workspace, row.id, None)
        assert newest is not None
        asked.check(str(newest.number), name)
        text = _named(newest.text, name, given.name)
        checked = await sound(parts, text)
        try:
            await workflows.rename(connection, parts.workspace, row, given.name)
        except workflows.NameTaken:
            raise _taken(given.name) from None
        made_from = Asked(frozenset({str(newest.number)}))
        saved = await _saved(parts, connection, who, checked, text, made_from, f"named {given.name}")
        if row.on_version == newest.number:
            await _switch_on(parts, connection, row, saved.version, checked)
        await people.note(connection, parts.workspace, who.name, "rename workflow", f"{name} {given.name}")
        referring = await workflows.referring(connection, parts.workspace, name, row.id)
    parts.config_changed()
    word = re.compile(rf"(?<![\w-]){re.escape(name)}(?![\w-])")
    return RenamedOut(
        workflow=given.name, version=saved.version, referring=[one.name for one in referring if word.search(one.text)]
    )


@router.post("/{name}/duplicate", status_code=201)
async def duplicate_workflow(name: str, given: NameIn, parts: PartsDep, who: CallerDep) -> SavedOut:
    """Make a workflow of another name of the newest version of one."""
    _within(who, given.name)
    async with parts.database.connect() as connection:
        row = await _row(connection, parts, name)
        newest = await workflows.one_version(connection, parts.workspace, row.id, None)
        assert newest is not None
        if await workflows.by_name(connection, parts.workspace, given.name) is not None:
            raise _taken(given.name)
    text = _named(newest.text, name, given.name)
    return await save_document(parts, who, text, Asked(), f"made of {name}")


def _within(who: Caller, name: str) -> None:
    """A token that is limited to some workflows makes no other. Raises `Problem`."""
    if who.workflows is not None and name not in who.workflows:
        only = ", ".join(sorted(who.workflows))
        raise Problem(403, "this token is for other workflows", f"it is for {only}", "name one of them")


def _named(text: str, name: str, other: str) -> str:
    """A document's text in which it has another name. Raises `Problem` where that cannot be told."""
    begins = rf"""(^|[{{,\s])(["']?(?:workflow|agent)["']?\s*:\s*["']?){re.escape(name)}(?![\w-])"""
    found, count = re.subn(begins, lambda part: f"{part[1]}{part[2]}{other}", text, count=1, flags=re.MULTILINE)
    if not count:
        raise Problem(409, "its name cannot be found in its text", fix="save it under the other name by hand")
    return found


def _taken(name: str) -> Problem:
    return Problem(409, f"there is a workflow {name} already", fix="choose another name")


async def _row(connection: AsyncConnection, parts: Parts, name: str) -> Any:
    row = await workflows.by_name(connection, parts.workspace, name)
    if row is None:
        raise missing("workflow", name)
    return row


async def _newest(connection: AsyncConnection, parts: Parts, row: Any) -> int:
    newest = await workflows.one_version(connection, parts.workspace, row.id, None)
    return newest.number if newest is not None else 0


async def _told(parts: Parts, name: str) -> WorkflowOut:
    parts.config_changed()
    async with parts.database.connect() as connection:
        return await one_workflow(parts, connection, name)
