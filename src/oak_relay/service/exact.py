"""Answers that hold values of workflows: every digit and every odd character as it was recorded, and no stored secret.

Values are blanked where they are shown, here and by every route of the API (`ExactRoute`): what is recorded is what
workflows compute with.
"""

from collections.abc import Mapping
from datetime import datetime
from typing import Any
from uuid import UUID

from fastapi import Response
from pydantic import BaseModel

from oak_relay.document import values
from oak_relay.service.parts import Parts


def text(parts: Parts, model: BaseModel | list[object]) -> str:
    """A model as canonical JSON text, blanked of all stored secrets."""
    return parts.registry.now.blanker.json(values.dumps(_plain(model)))


def answer(model: BaseModel | list[Any], status: int = 200, headers: Mapping[str, str] | None = None) -> Response:
    """A model as a JSON answer; its route blanks it."""
    return Response(values.dumps(_plain(model)), status, headers, media_type="application/json")


def _plain(value: object) -> object:
    if isinstance(value, BaseModel):
        return _plain(value.model_dump())
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    if isinstance(value, datetime):
        return value.isoformat()
    return str(value) if isinstance(value, UUID) else value
