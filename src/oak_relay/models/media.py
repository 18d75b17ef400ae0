"""`model.embed` and `model.transcribe`: texts as vectors, speech as text (the same protocol's other two calls)."""

from typing import Any

from pydantic import BaseModel, Field, model_validator

from oak_relay.actions.base import Action, Fields
from oak_relay.capabilities.alias import Alias
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Asking
from oak_relay.document.errors import StepFailed
from oak_relay.document.values import in_brief
from oak_relay.document.wire import WebAddress
from oak_relay.models.chat import failure, post, posted
from oak_relay.models.files import fetched, read
from oak_relay.usage import Usage


class EmbedInput(Fields):
    model: str = Field(description="Name of a model alias.")
    texts: list[str] = Field(min_length=1, max_length=2048)


class Embedded(BaseModel):
    vectors: list[list[float]] = Field(description="One for each text, in their order.")
    tokens: int
    money: float | None


class TranscribeInput(Fields):
    model: str = Field(description="Name of a model alias.")
    url: WebAddress | None = Field(None, description="Where the recording is fetched.")
    credential: str | None = Field(None, description="Name of a stored credential for fetching it.")
    file: object = Field(None, description="Or a recording that is kept here as a file.")
    audio: str | None = Field(None, description="Or the recording itself, in base64.")
    name: str = Field("speech.wav", description="Its file name, whose ending says what it is.")
    language: str | None = Field(None, description="Its language, as ISO 639-1, if it is known.")

    @model_validator(mode="after")
    def _one_source(self) -> "TranscribeInput":
        if sum(one is not None for one in (self.url, self.file, self.audio)) != 1:
            raise ValueError("give one of url, file and audio")
        return self


class Transcribed(BaseModel):
    text: str
    tokens: int
    money: float | None


async def _embed(given: EmbedInput, at: Asking) -> Result:
    alias: Alias = await at.model(given.model)
    if at.draw is not None:
        await at.draw.reserve(await _embed_worst(given, at))
    exchange = await post(alias, "embeddings", {"model": alias.model, "input": given.texts, **alias.extra}, at)
    shown = {"alias": given.model, "model": alias.model, "texts": len(given.texts)}
    if exchange.status != 200:
        raise failure(given.model, alias, exchange, shown)
    data = exchange.read("json")
    rows = data.get("data") if isinstance(data, dict) else None
    if not isinstance(rows, list) or len(rows) != len(given.texts):
        raise _odd(given.model, "as many vectors as texts", shown)
    ordered = sorted(rows, key=lambda row: int(row.get("index", 0)))
    usage = _usage(given.model, alias, data, sum(map(len, given.texts)))
    if at.draw is not None:
        at.draw.settle(usage.money)
    output = {"vectors": [row["embedding"] for row in ordered], "tokens": usage.input, "money": usage.money}
    return Result(output, shown, usage)


async def _transcribe(given: TranscribeInput, at: Asking) -> Result:
    alias: Alias = await at.model(given.model)
    name = given.name
    if given.file is not None:
        held = await at.file(given.file)
        audio, name = await read(held, at), held.name
    else:
        audio, _ = await fetched(given.url, given.credential, given.audio, at)
    fields = {"model": alias.model, **({"language": given.language} if given.language else {})}
    files = {"file": (name, audio)}
    if at.draw is not None:
        await at.draw.reserve(await _transcribe_worst(given, at))
    exchange = await posted(alias, "audio/transcriptions", {"data": fields, "files": files}, at)
    shown = {"alias": given.model, "model": alias.model, "bytes": len(audio)}
    if exchange.status != 200:
        raise failure(given.model, alias, exchange, shown)
    data = exchange.read("json")
    if not isinstance(data, dict) or not isinstance(data.get("text"), str):
        raise _odd(given.model, "a text", shown)
    usage = _usage(given.model, alias, data, len(data["text"]))
    if at.draw is not None:
        at.draw.settle(usage.money)
    return Result({"text": data["text"], "tokens": usage.tokens, "money": usage.money}, shown, usage)


def _usage(name: str, alias: Alias, data: dict[str, Any], letters: int) -> Usage:
    """Tokens as the server counted them, or estimated at four letters each."""
    counted = data.get("usage") or {}
    read = counted.get("prompt_tokens", counted.get("input_tokens"))
    written = counted.get("completion_tokens", counted.get("output_tokens")) or 0
    return alias.priced(Usage(int(read or letters // 4 + 1), output=int(written)), name)


def _odd(name: str, wanted: str, shown: dict[str, object]) -> StepFailed:
    return StepFailed(
        "wrong_shape",
        f"{name} did not answer with {wanted}",
        fix="is this the right model?",
        reached="yes",
        detail=shown,
    )


async def _embed_worst(given: EmbedInput, at: Asking) -> float | None:
    alias: Alias = await at.model(given.model)
    return alias.worst(sum(len(text.encode("utf-8", "replace")) for text in given.texts), 0)


async def _transcribe_worst(given: TranscribeInput, at: Asking) -> float | None:
    alias: Alias = await at.model(given.model)
    return alias.worst(0, alias.max_tokens)


ACTIONS = [
    Action(
        "model.embed",
        "Turn texts into vectors",
        EmbedInput,
        Embedded,
        timeout=120,
        perform=_embed,
        worst=_embed_worst,
        sentence=lambda step, given: f"Turn texts into vectors with {in_brief(given.get('model'))}",
        example_gives={"vectors": [[0.0, 0.0, 0.0, 0.5, "…"]], "tokens": "…", "money": "…"},
        example={"model": "vectors", "texts": ["${ input.message }"]},
    ),
    Action(
        "model.transcribe",
        "Turn speech into text",
        TranscribeInput,
        Transcribed,
        timeout=180,
        perform=_transcribe,
        worst=_transcribe_worst,
        sentence=lambda step, given: (
            f"Write down what is said in {in_brief(given.get('url') or given.get('name') or 'a recording')}"
        ),
        example_gives={"text": "The path is free.", "tokens": "…", "money": "…"},
        example={"model": "ears", "url": "${ input.recording }"},
        first=("model", "url", "language"),
    ),
]
