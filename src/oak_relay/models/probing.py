"""Connecting a model server: where it answers, what it offers, and what it can do."""

import asyncio
import re
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Literal, cast
from urllib.parse import urlsplit, urlunsplit

from oak_relay.actions.exchange import authorised, send
from oak_relay.capabilities.alias import Alias, Can
from oak_relay.capabilities.protocols import Asking
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.shapes import answer_in
from oak_relay.messages import Message
from oak_relay.models.chat import Ask, Reply, complete

_LARGEST, _MOST = 4_000_000, 500
_BASES = ("", "/v1", "/api/v1")
PORTS = (8000, 8001, 8080, 8081, 8888, 1234, 1337, 4000, 4891, 5000, 5001, 8471, 9000, 9997, 10000, 11434, 30000)
"""Ports on which model servers of one's own machine are commonly found."""
Purpose = Literal["chat", "vectors", "speech", "other"]
_PURPOSES: tuple[tuple[Purpose, str], ...] = (
    ("vectors", r"embed|vector|rerank"),
    ("speech", r"transcri|speech|audio|\btts\b|voice"),
    ("other", r"moderation|image|diffusion|vision-encoder|guard"),
)
_WORDS = 800
_HELLO: list[Message] = [{"role": "user", "content": "Say hello in one short sentence."}]
_SCHEMA: dict[str, object] = {
    "type": "object",
    "required": ["hut", "bunks"],
    "additionalProperties": False,
    "properties": {"hut": {"type": "string"}, "bunks": {"type": "integer"}},
}
_ASKED: list[Message] = [
    {"role": "user", "content": 'Glasswater is a hut with 12 bunks. Answer with JSON: {"hut": "…", "bunks": 0}'}
]
_TOOL = {
    "name": "bunks_of",
    "description": "How many bunks a hut has.",
    "parameters": {"type": "object", "required": ["hut"], "properties": {"hut": {"type": "string"}}},
}
_CALLED: list[Message] = [
    {
        "role": "user",
        "content": "How many bunks have the huts Glasswater and Thistle Col? Call the tool for both at once.",
    }
]


@dataclass(frozen=True, slots=True)
class Model:
    """A model that a server offers; what it says of it: tokens of context, money per million tokens read and written."""

    id: str
    purpose: Purpose
    context: int | None = None
    read: float | None = None
    written: float | None = None


@dataclass(frozen=True, slots=True)
class Server:
    """A model server that answered: its base address, version included; whether it asked for a key; what it offers."""

    url: str
    keyed: bool
    models: tuple[Model, ...]


def bases(address: str) -> list[str]:
    """The base addresses that an address may mean, the likeliest first: as it is given, and with a version behind it.
    Raises `StepFailed` (`invalid`)."""
    text = address.strip()
    if "://" not in text:
        local = re.match(r"(localhost|127\.|\[::1\]|[\w-]+:\d+$)", text)
        text = f"{'http' if local else 'https'}://{text}"
    try:
        parts = urlsplit(text)
        sound = parts.scheme in ("http", "https") and parts.hostname and parts.username is None and parts.port != 0
    except ValueError:
        sound = None
    if not sound:
        raise StepFailed("invalid", f"{address[:100]!r} is no address of a server", fix="write https://models.example")
    path = re.sub(r"/(chat/completions|completions|models|embeddings)$", "", parts.path.rstrip("/"))
    origin = (parts.scheme, parts.netloc)
    tried = [path] if re.search(r"/v\d+$", path) else [f"{path}/v1", path]
    tried += [base for base in _BASES if not path and base not in tried]
    return [urlunsplit((*origin, base, "", "")) for base in tried]


async def found(address: str, credential: str | None, at: Asking, timeout: float = 15.0) -> Server:
    """The server at an address, asked with a credential where one is named, looked for at each base that it may mean, `timeout` seconds each. Raises `StepFailed`: what the most telling of them
    answered."""
    failures: list[StepFailed] = []
    for base in bases(address):
        request = at.http.build_request("GET", f"{base}/models", timeout=timeout)
        try:
            exchange = await send(at, await authorised(at, request, credential), _LARGEST, credential)
        except StepFailed as failed:
            failures.append(failed)
            if failed.kind in ("denied", "invalid", "unavailable", "timeout"):
                break  # another path of the same host answers no better
            continue
        if exchange.status in (401, 403):
            refused = exchange.failure()
            refused.fix = "give the server's key" if not credential else "is the key right, and of this server?"
            raise refused
        if exchange.status == 200 and (models := _listed(exchange.body)) is not None:
            return Server(base, bool(credential), models)
        failures.append(exchange.failure() if exchange.status != 200 else _foreign(base))
    told = next((one for one in failures if one.kind not in ("missing", "wrong_shape")), failures[0])
    if told.kind == "missing":
        told = _foreign(address)
    raise told


def _foreign(where: str) -> StepFailed:
    return StepFailed(
        "wrong_shape",
        f"what answers at {where} does not list models as model servers do",
        fix="give the address under which its documentation shows /v1/chat/completions",
    )


def _listed(body: bytes) -> tuple[Model, ...] | None:
    try:
        data = values.loads(body)
    except values.NotJson:
        return None
    listed = data.get("data", data.get("models")) if isinstance(data, dict) else data
    if not isinstance(listed, list):
        return None
    named = [one for one in listed if isinstance(one, dict) and isinstance(one.get("id", one.get("name")), str)]
    return tuple(sorted((_model(one) for one in named[:_MOST]), key=lambda m: (m.purpose != "chat", m.id)))


def _model(told: Mapping[str, Any]) -> Model:
    name = str(told.get("id", told.get("name")))[:200]
    about = f"{name} {told.get('type', '')} {told.get('task', '')}".lower()
    purpose: Purpose = next((kind for kind, pattern in _PURPOSES if re.search(pattern, about)), "chat")
    names = ("context_length", "max_model_len", "context_window", "max_context_length", "n_ctx_train")
    inner = _mapping(told.get("meta"))
    context = next((told.get(n, inner.get(n)) for n in names if isinstance(told.get(n, inner.get(n)), int)), None)
    prices = _mapping(told.get("pricing"))
    return Model(name, purpose, context, _million(prices, "prompt", "input"), _million(prices, "completion", "output"))


def _mapping(given: object) -> Mapping[str, Any]:
    return given if isinstance(given, dict) else {}


def _million(prices: Mapping[str, Any], *names: str) -> float | None:
    """Money per million tokens, of a price per token as some servers tell it."""
    for name in names:
        try:
            price = Decimal(str(prices[name])) * 1_000_000
        except (KeyError, ArithmeticError, ValueError):
            continue
        if price.is_finite() and 0 <= price < 1_000_000:
            return float(price)
    return None


async def probed(name: str, alias: Alias, at: Asking) -> tuple[Can, Reply]:
    """What the server of an alias can do, asked of it; and its answer to something trivial. Raises `StepFailed` when it does
    not answer at all."""
    plain = alias.model_copy(update={"stream": "never", "fallbacks": ()})
    hello = await complete(name, plain.model_copy(update={"can": Can()}), Ask(_HELLO, max_tokens=_WORDS), at)
    can = Can(usage=not hello.usage.estimated)
    answers, streams = await _answers(name, plain, at), await _streams(name, plain, at)
    tools, parallel = await _tools(name, plain, at)
    found = {"answers": answers, "stream": streams, "tools": tools, "parallel": parallel}
    return can.model_copy(update=found), hello


async def _answers(name: str, alias: Alias, at: Asking) -> Literal["schema", "object", "text"]:
    for form in ("schema", "object"):
        try:
            reply = await complete(name, alias, Ask(_ASKED, _SCHEMA, _WORDS), _knowing(at, Can(answers=form)))
        except StepFailed as failed:
            if failed.kind in ("denied", "out_of_credit"):
                raise
            continue
        if not answer_in(reply.text, _SCHEMA)[1]:
            return form
    return "text"


async def _tools(name: str, alias: Alias, at: Asking) -> tuple[bool, bool]:
    try:
        ask = Ask(_CALLED, max_tokens=_WORDS, tools=[_TOOL])  # type: ignore[list-item]
        reply = await complete(name, alias, ask, _knowing(at, Can(tools=True)))
    except StepFailed:
        return False, False
    return bool(reply.calls), len(reply.calls) > 1


async def _streams(name: str, alias: Alias, at: Asking) -> bool:
    pieces: list[str] = []
    try:
        known = _knowing(at, Can(stream=True), pieces.append)
        await complete(name, alias.model_copy(update={"stream": "always"}), Ask(_HELLO, max_tokens=_WORDS), known)
    except StepFailed:
        return False
    return bool(pieces)


def _knowing(at: Asking, can: Can, piece: Any = None) -> Asking:
    """The same surroundings, with a server of which this is known and nothing is learnt."""
    return cast(Asking, _Knowing(at, can, piece))


class _Knowing:
    def __init__(self, at: Asking, can: Can, piece: Any) -> None:
        self._at, self._can, self.piece = at, can, piece

    def __getattr__(self, name: str) -> Any:
        return getattr(self._at, name)

    def can(self, alias: Alias) -> Can:
        return self._can

    async def learn(self, alias: Alias, can: Can) -> None:
        """Only what is asked here is looked at."""


async def nearby(at: Asking, closed: frozenset[int]) -> list[Server]:
    """Model servers on this machine, at ports where they are commonly found."""

    async def look(port: int) -> Server | None:
        address = f"http://127.0.0.1:{port}"
        try:
            return await found(address, None, at, 2.0)
        except StepFailed as failed:
            return (
                Server(f"{address}/v1", True, ())
                if failed.kind == "denied" and "answered 401" in failed.message
                else None
            )

    looked = await asyncio.gather(*(look(port) for port in PORTS if port not in closed))
    return [one for one in looked if one is not None and (one.models or one.keyed)]
