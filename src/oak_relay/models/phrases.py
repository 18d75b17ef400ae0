"""Which of some choices a text means, found by vectors of words that need no network: each choice is known by example phrases, and the
words that only one choice's phrases use weigh most."""

import asyncio
import importlib.util
import re
from collections import Counter
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from pydantic import BaseModel, Field

from oak_relay.actions.base import Action, Fields
from oak_relay.capabilities.given import Result
from oak_relay.document import values
from oak_relay.document.models import Phrases

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    Vector = npt.NDArray[np.float32]

NEAR = 0.25
"""Likeness (cosine) from which on a text means a choice."""
CLEAR = 0.05
"""How much nearer it is than the next one where nobody needs to be asked."""
_LONGEST = 2_000
"""Letters of a text that are looked at."""


class Words:
    """A vector for each piece of a word, trained beforehand (the weights come with `wordllama`)."""

    def __init__(self) -> None:
        import numpy  # what never compares words does without these
        from safetensors.numpy import load_file
        from tokenizers import Tokenizer

        self._numpy = numpy
        found = importlib.util.find_spec("wordllama")
        assert found is not None and found.origin is not None
        home = Path(found.origin).parent
        self._reader = Tokenizer.from_file(str(home / "tokenizers" / "l2_supercat_tokenizer_config.json"))
        self._weights = load_file(home / "weights" / "l2_supercat_256.safetensors")["embedding.weight"]

    def pieces(self, text: str) -> list[int]:
        """The pieces of a text's words."""
        text = values.storable_text(text[:_LONGEST])  # half a character has none
        return list(self._reader.encode(text.lower(), add_special_tokens=False).ids)

    def mean(self, pieces: list[int], weights: list[float]) -> "Vector":
        """The vector of length one of some pieces, each with its weight; of none the zero vector."""
        if not pieces:
            return self._numpy.zeros(self._weights.shape[1], self._numpy.float32)
        made = self._numpy.asarray(weights, self._numpy.float32) @ self._weights[pieces].astype(self._numpy.float32)
        length = float(self._numpy.linalg.norm(made))
        return made / length if length else made

    def rows(self, vectors: "list[Vector]") -> "Vector":
        """Vectors beneath each other."""
        return self._numpy.array(vectors)


@lru_cache(maxsize=1)
def words() -> Words:
    """The vectors of this process, read when they are first needed; some 20 MB."""
    return Words()


class Known:
    """Choices with their phrases, ready to be asked."""

    def __init__(self, choices: tuple[tuple[str, tuple[str, ...]], ...]) -> None:
        self._words = words()
        pieces = {name: [self._words.pieces(phrase) for phrase in (phrases or (name,))] for name, phrases in choices}
        self._use = Counter(piece for own in pieces.values() for piece in {piece for phrase in own for piece in phrase})
        self._phrases = {
            name: self._words.rows([self._vector(phrase) for phrase in own]) for name, own in pieces.items()
        }

    def _vector(self, pieces: list[int]) -> "Vector":
        return self._words.mean(pieces, [1.0 / max(1, self._use[piece]) for piece in pieces])

    def likeness(self, text: str) -> list[tuple[str, float]]:
        """How like each choice a text is, from -1 to 1, the likest first: by its two nearest phrases."""
        mine = self._vector(self._words.pieces(text))
        found = []
        for name, phrases in self._phrases.items():
            near = sorted((float(one) for one in phrases @ mine), reverse=True)
            found.append((name, near[0] if len(near) == 1 else 0.7 * near[0] + 0.3 * near[1]))
        return sorted(found, key=lambda one: -one[1])


@lru_cache(maxsize=32)
def known(choices: tuple[tuple[str, tuple[str, ...]], ...]) -> Known:
    """Choices, prepared once; each takes at most 2 MB."""
    return Known(choices)


class MeantInput(Fields):
    text: str = Field(max_length=20_000, description="What was said.")
    choices: dict[str, Phrases] = Field(
        min_length=1, max_length=20, description="Each choice with phrases that mean it."
    )


class Meant(BaseModel):
    choice: str | None = Field(description="The choice that is meant; null where none is near.")
    sure: bool = Field(description="Whether it is clear enough, one way or the other.")
    likeness: dict[str, float] = Field(description="How like each choice it is, from -1 to 1.")


def meant(text: str, choices: dict[str, list[str]]) -> Meant:
    """Which choice a text means."""
    asked = known(tuple((name, tuple(phrases)) for name, phrases in choices.items()))
    found = asked.likeness(text)
    (name, best), after = found[0], found[1][1] if len(found) > 1 else -1.0
    near = best >= NEAR
    sure = best - after >= CLEAR if near else best < NEAR - CLEAR
    return Meant(choice=name if near else None, sure=sure, likeness={one: round(value, 3) for one, value in found})


CLAIMS, VERBATIM = 0.45, 0.95
"""Likeness from which on a sentence may be a claim, and from which on it is one."""
_SENTENCES = 100
"""Sentences of a text that are looked at."""
_ENDS = re.compile(r"(?<=[.!?…。！？])\s+|\n+")


class ClaimsInput(Fields):
    text: str = Field(max_length=20_000, description="What is said.")
    claims: dict[str, Phrases] = Field(
        min_length=1, max_length=200, description="Each thing that may be said to be done, with phrases that say so."
    )


class Claim(BaseModel):
    sentence: str = Field(description="As it stands in the text.")
    claim: str = Field(description="What it may say was done.")
    sure: bool = Field(description="Whether it claims that in nearly the same words.")
    likeness: float = Field(description="How like the nearest phrase it is, from -1 to 1.")


class Claims(BaseModel):
    claims: list[Claim]


def claimed(text: str, claims: dict[str, list[str]]) -> Claims:
    """What a text may claim, sentence by sentence; a question claims nothing."""
    told = words()
    phrases = {
        name: told.rows([told.mean(p, [1.0] * len(p)) for p in map(told.pieces, own)]) for name, own in claims.items()
    }
    found: list[Claim] = []
    sentences = [one.strip() for one in _ENDS.split(text)]
    for sentence in [one for one in sentences if one and not one.endswith(("?", "？", "؟"))][:_SENTENCES]:
        pieces = told.pieces(sentence)
        mine = told.mean(pieces, [1.0] * len(pieces))
        near, name = max((float((rows @ mine).max()), name) for name, rows in phrases.items())
        if near >= CLAIMS:
            found.append(
                Claim(sentence=sentence[:_LONGEST], claim=name, sure=near >= VERBATIM, likeness=round(near, 3))
            )
    return Claims(claims=found)


async def _claims(given: ClaimsInput, at: object) -> Result:
    found = await asyncio.to_thread(claimed, given.text, given.claims)
    return Result(found.model_dump())


async def _perform(given: MeantInput, at: object) -> Result:
    found = await asyncio.to_thread(meant, given.text, given.choices)
    return Result(found.model_dump())


ACTIONS = [
    Action(
        "model.meant",
        "Find which of some choices a text means",
        MeantInput,
        Meant,
        reach="read",
        timeout=30,
        perform=_perform,
        sentence=lambda step, given: "Find what is meant, by likeness to phrases",
        example={
            "text": "I'd like to reserve two beds",
            "choices": {
                "book": ["can I reserve a bunk", "is there room for us"],
                "cancel": ["I have to cancel", "we cannot come"],
            },
        },
        example_gives={"choice": "book", "sure": True, "likeness": {"book": "…", "cancel": "…"}},
        first=("text", "choices"),
    ),
    Action("model.claims", "", ClaimsInput, Claims, reach="read", timeout=30, perform=_claims, hidden=True),
]
