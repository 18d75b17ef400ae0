"""Answers that hold values of workflows: every digit and every odd character as it was recorded."""

from datetime import datetime
from typing import Any
from uuid import UUID

from fastapi import Response
from pydantic import BaseModel

from oak_relay.document import values


def text(model: BaseModel | list[Any]) -> str:
    """A model as canonical JSON text."""
    return values.dumps(_plain(model))


def answer(model: BaseModel | list[Any]) -> Response:
    """A model as a JSON answer."""
    return Response(text(model), media_type="application/json")


def _plain(value: Any) -> Any:
    if isinstance(value, BaseModel):
        return _plain(value.model_dump())
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    if isinstance(value, datetime):
        return value.isoformat()
    return str(value) if isinstance(value, UUID) else value
