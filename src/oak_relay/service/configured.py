"""`/api/v1/settings`: how the service is set, without what is secret."""

import re

from fastapi import APIRouter
from pydantic import SecretStr

from oak_relay.runtime.settings import Settings
from oak_relay.service.lists import Asks, Page, cut
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.shapes import SettingOut

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["operation"])
_LONGEST = 500
_IN_ADDRESS = re.compile(r"//[^/@\s]*@")
"""Who somebody is, in an address."""


@router.get("/settings")
async def list_settings(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[SettingOut]:
    """What can be set of the service (by environment or file, when it starts), and how it is; of secrets only whether they are."""
    return cut(sorted(_all(parts.settings), key=lambda one: one.name), asked, lambda one: one.name, lambda one: one)


def _all(settings: Settings) -> list[SettingOut]:
    found = []
    for name, field in type(settings).model_fields.items():
        value = getattr(settings, name)
        is_set = value != field.get_default(call_default_factory=True)
        found.append(
            SettingOut(name=f"OAK_RELAY_{name.upper()}", value=_shown(value), about=field.description or "", own=is_set)
        )
    return found


def _shown(value: object) -> str:
    if isinstance(value, SecretStr):
        return "(secret)"
    if value is None or value == "":
        return ""
    text = ", ".join(map(str, value)) if isinstance(value, list | tuple) else str(value)
    text = _IN_ADDRESS.sub("//…@", text)
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…"
