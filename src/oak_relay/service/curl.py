"""`/api/v1/curl`: a curl command as a step, its secret as a credential."""

import asyncio
import re
from urllib.parse import urlsplit

from fastapi import APIRouter, Response
from pydantic import Field

from oak_relay.actions import curl
from oak_relay.service import exact
from oak_relay.service.credentials import free_name, put_credential
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.preconditions import Asked
from oak_relay.service.problems import Problem
from oak_relay.service.shapes import CurlOut, In

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["actions"])


class CurlIn(In):
    text: str = Field(
        min_length=1, max_length=curl.LONGEST, description="A curl command, as it is copied from documentation."
    )


@router.post("/curl", response_model=CurlOut)
async def read_curl(given: CurlIn, parts: PartsDep, who: CallerDep, answer: Response) -> Response:
    """A curl command as a step `http.request`. What proves who asks (tokens, user and password, keys in headers, address or body) is
    stored as a credential that goes to this host alone."""
    try:
        found = await asyncio.to_thread(curl.read, given.text)
    except curl.BadCommand as error:
        raise Problem(422, "this is no step", str(error), error.fix) from None
    host = urlsplit(str(found.fields["url"])).hostname or "service"
    name = None
    if found.credential is not None:
        name = await free_name(parts, re.sub(r"[^A-Za-z0-9_-]+", "-", host).strip("-")[:50] or "service")
        await put_credential(name, found.credential, parts, who, Asked(new=True), answer)
        found.fields["credential"] = name
    step = re.sub(r"[^a-z0-9_]+", "_", host.split(".")[0].lower()).strip("_")
    step = step if step[:1].isalpha() else "asked"
    return exact.answer(CurlOut(name=step, fields=found.fields, credential=name, notes=found.notes))
