"""`/api/v1/events`: CloudEvents 1.0 in, in structured, batched or binary mode (HTTP protocol binding); a list of
what arrived."""

from datetime import UTC, datetime
from typing import Any
from urllib.parse import unquote

from fastapi import APIRouter, Request, Response

from oak_relay.document import values
from oak_relay.service import exact
from oak_relay.service.lists import Asks, Page, page
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.problems import Problem
from oak_relay.service.shapes import EventOut, LargeOut, PublishedOut
from oak_relay.store import artifacts, people, published, runs
from oak_relay.store.database import raw
from oak_relay.store.ids import new_id

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/events", tags=["events"])
_STRUCTURED = "application/cloudevents+json"
_BATCH = "application/cloudevents-batch+json"


@router.get("", response_model=Page[EventOut])
async def list_events(parts: PartsDep, _: CallerDep, asked: Asks) -> Response:
    """Events that made runs, newest first, each with its run."""
    async with parts.database.connect() as connection:
        rows = await runs.events(connection, parts.workspace, asked.id(), asked.limit + 1)
    return exact.answer(page(rows, asked, lambda row: row.id, event_out))


@router.post("", status_code=202)
async def publish(request: Request, parts: PartsDep, who: CallerDep) -> list[PublishedOut]:
    """Publish events: those who wait for their type get them after the commit. The same id of the same source
    counts once."""
    body = await request.body()
    if len(body) > parts.settings.body_limit:
        raise Problem(413, "the body is too long", f"at most {parts.settings.body_limit} bytes are taken", "send less")
    events = _read(request, body)
    published_out: list[PublishedOut] = []
    async with parts.database.begin() as connection:
        await people.note(connection, parts.workspace, who.name, "publish", f"{len(events)} events")
        direct = await raw(connection)
        for event in events:
            event_id = new_id()
            given = event_id, event["type"], event["source"], values.dumps(event)
            new = await published.publish(direct, parts.workspace, *given, 0, None, event["id"])
            published_out.append(PublishedOut(id=event["id"], type=event["type"], duplicate=not new))
    parts.hints.send("published")
    return published_out


def _read(request: Request, body: bytes) -> list[dict[str, Any]]:
    kind = request.headers.get("content-type", "").split(";")[0].strip().lower()
    if kind in (_STRUCTURED, _BATCH):
        data = values.loads(body)
        return [_checked(event) for event in (data if kind == _BATCH and isinstance(data, list) else [data])]
    if "ce-type" in request.headers:
        named = {
            k.lower().removeprefix("ce-"): unquote(v) for k, v in request.headers.items() if k.lower().startswith("ce-")
        }
        data = values.loads(body) if body and "json" in (kind or "json") else body.decode("utf-8", "replace") or None
        return [_checked({**named, "data": data})]
    raise Problem(
        415,
        "this is no event",
        kind or "no content type",
        f"send {_STRUCTURED}, {_BATCH}, or ce-* headers (CloudEvents 1.0)",
    )


def _checked(event: object) -> dict[str, object]:
    if not isinstance(event, dict):
        raise Problem(400, "an event is a JSON object", fix="see CloudEvents 1.0")
    absent = [name for name in ("id", "source", "type") if not isinstance(event.get(name), str) or not event[name]]
    if absent:
        raise Problem(
            400, f"the event lacks {', '.join(absent)}", fix="give the required attributes of CloudEvents 1.0"
        )
    if event.get("specversion", "1.0") != "1.0":
        raise Problem(400, "only CloudEvents 1.0 is taken", str(event["specversion"]), "send specversion 1.0")
    time = event.get("time") or datetime.now(UTC).isoformat()
    extra = {
        k: v for k, v in event.items() if k not in ("specversion", "id", "source", "type", "time", "subject", "data")
    }
    return {
        **published.envelope(
            event["id"], event["type"], event["source"], event.get("data"), event.get("subject"), time
        ),
        **extra,
    }


def large_out(**texts: str | None) -> list[LargeOut]:
    """Which of some stored texts are references, and to what."""
    found = ((of, artifacts.reference(text)) for of, text in texts.items())
    return [LargeOut.model_validate({"of": of, "id": r.id, "bytes": r.size}) for of, r in found if r is not None]


def event_out(row: Any) -> EventOut:
    """An event with the run it made."""
    meta = values.loads(row.meta)
    return EventOut(
        id=row.event_id if hasattr(row, "event_id") else row.id,
        key=row.event_key,
        source=row.source,
        type=row.type,
        at=row.event_at if hasattr(row, "event_at") else row.at,
        data=meta["data"] if "data" in meta else artifacts.shown(row.body),
        large=large_out(body=row.body),
        run_id=row.run_id if hasattr(row, "run_id") else row.id,
        workflow=row.workflow,
        trigger=row.trigger_name,
        headers=meta["headers"],
        query=meta["query"],
    )
