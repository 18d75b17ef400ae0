"""What a local effect needs in the database: ids, and texts of its values."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

import structlog
import uuid_utils.compat as uuids

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.engine.protocols import LocalEffect
from oak_relay.store.queue import Claim

log = structlog.get_logger()


def prepared(effect: LocalEffect, claim: Claim, workflow: str) -> dict[str, Any]:
    """The data of an effect as the store takes it."""
    make = _MAKERS.get(effect.op)
    if make is not None:
        return make(effect.data, claim, workflow)
    return {"text": values.dumps(effect.data)} if effect.op == "answer" else dict(effect.data)


def arrived(row: Mapping[str, Any]) -> dict[str, Any]:
    """What was published as documents see it: an event's CloudEvents attributes, or what changed."""
    found: dict[str, Any] = values.loads(row["body"])
    return found


def holds(where: str | None, scope: dict[str, Any], name: str) -> bool:
    """Whether a `where` holds; False when it cannot be worked out."""
    if where is None:
        return True
    try:
        return bool(Template(where).render(scope))
    except StepFailed as failed:
        log.info("where: cannot be worked out", of=name, reason=failed.message)
        return False


def envelope(event_id: str, kind: str, source: str, data: Any, subject: str | None, time: str = "") -> dict[str, Any]:
    """The attributes of an event (CloudEvents 1.0)."""
    event = {"specversion": "1.0", "id": event_id, "type": kind, "source": source}
    event["time"] = time or datetime.now().astimezone().isoformat()
    return {**event, **({"subject": subject} if subject is not None else {}), "data": data}


def _emit(data: dict[str, Any], claim: Claim, workflow: str) -> dict[str, Any]:
    event_id, source = uuids.uuid7(), f"/workflows/{workflow}"
    subject = None if data.get("subject") is None else values.text_of(data["subject"])
    event = envelope(str(event_id), data["type"], source, data.get("data"), subject)
    return {"id": event_id, "type": data["type"], "source": source, "text": values.dumps(event)}


def _child(data: dict[str, Any], claim: Claim, workflow: str) -> dict[str, Any]:
    part = "chunk" in data
    given = {"chunk": data["chunk"], "input": data["input"]} if part else data["input"]
    return {
        "run_id": uuids.uuid7(),
        "event_id": uuids.uuid7(),
        "version_id": claim.version_id if part else None,
        "workflow": data.get("workflow"),
        "text": values.dumps(given),
        "path": data["path"],
        "step": data["path"].rpartition(".")[2],
        "waited": data["waited"],
        "money": None if data.get("money") is None else f"{data['money']:.9f}",
    }


def _ask(data: dict[str, Any], claim: Claim, workflow: str) -> dict[str, Any]:
    config = {name: data.get(name) for name in ("at", "choices", "form", "then", "input")}
    return {
        "id": uuids.uuid7(),
        "path": data["path"],
        "text": data["text"],
        "config": values.dumps(config),
        "alike": data["alike"],
        "until": datetime.fromisoformat(data["until"]) if data["until"] else None,
    }


def _listen(data: dict[str, Any], claim: Claim, workflow: str) -> dict[str, Any]:
    told: dict[str, Any] = {"text": values.dumps(data["scope"]), "told": arrived}
    told["wanted"] = lambda event: holds(data["where"], {**data["scope"], "arrived": event}, data["path"])
    return {**told, "path": data["path"], "type": data["type"], "where": data["where"]}


def _remember(data: dict[str, Any], claim: Claim, workflow: str) -> dict[str, Any]:
    messages = [(message["role"], values.dumps(message)) for message in data["messages"]]
    key, summary = values.storable_text(data["conversation"]), data.get("summary")
    told = summary and (values.storable_text(summary["text"]), summary["first"])
    return {"key": key, "messages": messages, "summary": told}


def _fact(data: dict[str, Any], claim: Claim, workflow: str) -> dict[str, Any]:
    given = {name: values.storable_text(str(data[name])) for name in ("conversation", "name", "value")}
    return {"key": given["conversation"], "name": given["name"][:100], "value": given["value"][:2000]}


_MAKERS = {"fact": _fact, "remember": _remember, "emit": _emit, "child": _child, "ask": _ask, "listen": _listen}
