"""`/api/v1/phrases`: which choice of a question phrases would find in a conversation, tried before anybody says them."""

import asyncio
from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from oak_relay.document import values
from oak_relay.document.models import Choice, Phrases
from oak_relay.engine.asking import chosen
from oak_relay.models.phrases import meant
from oak_relay.service.parts import CallerDep, ExactRoute
from oak_relay.service.shapes import In


class _PhraseRoute(ExactRoute):
    """A question with all its phrases, and those that are tried."""

    most = 1_500_000


router = APIRouter(route_class=_PhraseRoute, prefix="/api/v1", tags=["talking"])


class PhrasesIn(In):
    """`choices` and `otherwise` as a question has them; `phrases` is what somebody might say, each by itself."""

    choices: dict[Choice, Phrases] = Field(min_length=1, max_length=20)
    otherwise: Choice | None = None
    phrases: list[Annotated[str, Field(max_length=2_000)]] = Field(min_length=1, max_length=100)


class PhraseOut(BaseModel):
    """What a phrase finds; where it is not `sure`, a model is asked if the question names one."""

    text: str
    choice: str | None
    sure: bool
    likeness: dict[str, float] = Field(description="How like each choice it is, from -1 to 1, the likest first.")


class PhrasesOut(BaseModel):
    found: list[PhraseOut]


@router.post("/phrases")
async def try_phrases(given: PhrasesIn, _: CallerDep) -> PhrasesOut:
    """Which choice each phrase finds: by a button's word or its number, else by likeness to the phrases of each. No model is asked."""
    return PhrasesOut(
        found=await asyncio.to_thread(lambda: [_found(given, values.storable_text(one)) for one in given.phrases])
    )


def _found(given: PhrasesIn, text: str) -> PhraseOut:
    told = meant(text, given.choices)
    said = chosen(list(given.choices), None, text)
    if said is not None:
        return PhraseOut(text=text, choice=said, sure=True, likeness=told.likeness)
    return PhraseOut(text=text, choice=told.choice or given.otherwise, sure=told.sure, likeness=told.likeness)
