"""The chat-completions HTTP protocol that most model servers implement."""

import re
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from difflib import get_close_matches
from typing import Any

from oak_relay.actions.exchange import Exchange, authorised, send
from oak_relay.capabilities.alias import Alias
from oak_relay.capabilities.protocols import Asking
from oak_relay.document import paths, values
from oak_relay.document.errors import StepFailed
from oak_relay.messages import Message, Offered, Source, Wanted
from oak_relay.models import files
from oak_relay.models.dialect import Dialect, calls_in, dialects, learned, told
from oak_relay.usage import Usage

_LARGEST = 4_000_000
_MOST_TOKENS, _SAID = 10**9, 2_000
"""Tokens of one reply that are believed, and letters of what a server says when it refuses."""
_THOUGHTS = re.compile(r"^\s*<(think|thinking|reasoning)>(.*?)</\1>\s*", re.DOTALL)
_TOO_LONG = re.compile(r"context|maximum.*tokens|too long", re.IGNORECASE)
_NO_MODEL = re.compile(r"\bmodel\b", re.IGNORECASE)
_NO_CREDIT = re.compile(r"quota|credit|billing|balance", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Reply:
    """A model's reply. `calls` are tools it wants called, each in the order it gave them;
    `detail` is what the trace shows."""

    text: str
    reasoning: str
    finish: str
    usage: Usage
    detail: dict[str, object]
    calls: list[Wanted]
    sources: list[Source]


@dataclass(frozen=True, slots=True)
class Ask:
    """What a model is asked: messages, a JSON Schema for the answer, tools (`name`, `description`, `parameters`)."""

    messages: Sequence[Message]
    schema: Mapping[str, object] | None = None
    max_tokens: int | None = None
    temperature: float | None = None
    tools: Sequence[Offered] = ()


def size_of(messages: Sequence[Message], *more: object) -> int:
    """The bytes of UTF-8 that what is asked takes: an upper bound of its tokens. Pictures and files count for so many
    tokens as the largest do."""
    parts = sum(files.most(m.get("content")) + len(values.dumps(m.get("tool_calls"))) + 16 for m in messages)
    return parts + sum(len(values.dumps(one).encode()) for one in more if one)


def letters_in(messages: Sequence[Message]) -> int:
    """Letters of messages, from which tokens are estimated."""
    return sum(files.letters(m.get("content")) + len(values.text_of(m.get("tool_calls"))) for m in messages)


def foreseen(
    name: str, alias: Alias, messages: Sequence[Message], most: int | None, *more: object
) -> dict[str, object]:
    """What a request is likely to use before it is made: `tokens` of what is asked, estimated at four letters each, `longest`
    answer in tokens, and the `money` of both; None where the prices are not known."""
    letters = letters_in(messages) + sum(len(values.dumps(one)) for one in more if one)
    tokens, longest = letters // 4 + 1, most or alias.max_tokens
    return {"model": name, "tokens": tokens, "longest": longest, "money": alias.cost(Usage(tokens, output=longest))}


async def complete(name: str, alias: Alias, ask: Ask, at: Asking) -> Reply:
    """One reply of a model, or of the first of its fallbacks that is available. Raises `StepFailed` of the kind
    that fits."""
    tried: list[dict[str, str]] = []
    names = [name, *alias.fallbacks]
    for index, one in enumerate(names):
        try:
            reply = await _complete(one, alias if index == 0 else await at.model(one), ask, at)
        except StepFailed as failed:
            if at.draw is not None:
                at.draw.settle(failed.usage.money if failed.usage else None, failed.reached)
            if failed.kind not in ("unavailable", "busy", "timeout") or index == len(names) - 1:
                raise
            tried.append({"alias": one, "error": f"{failed.kind}: {failed.message}"})
            continue
        if at.draw is not None:
            at.draw.settle(reply.usage.money)
        return reply if not tried else replace(reply, detail={**reply.detail, "tried": tried})
    raise AssertionError("an alias is asked at least")


async def _complete(name: str, alias: Alias, ask: Ask, at: Asking) -> Reply:
    most = ask.max_tokens or alias.max_tokens
    can = at.can(alias)
    streamed = alias.stream == "always" or (alias.stream == "watched" and at.piece is not None)
    wants = bool(ask.schema is not None), bool(ask.tools), streamed
    ways = list(dialects(can, *wants))
    if at.draw is not None:
        worst = None if alias.prices is None else alias.worst(max(_size(ask, way) for way in ways), most)
        await at.draw.reserve(worst)
    refused: StepFailed | None = None
    for way in ways:
        for again in (False, True):
            try:
                reply = await _asked(name, alias, ask, way, most, at)
            except StepFailed as failed:
                refused = refused or failed
                status = _status(failed)
                if way == ways[-1] or not _unable(failed, status):
                    raise refused from None
                if status == 500 and not again:
                    continue  # it may just have stumbled
                break
            found = learned(can, way, *wants, bool(reply.calls))
            if reply.usage.estimated == (can.usage is not False):
                found = found.model_copy(update={"usage": not reply.usage.estimated})
            if found != can:
                await at.learn(alias, found)
            return reply
    raise AssertionError("a model is asked at least once")


def _size(ask: Ask, way: Dialect) -> int:
    """The bytes of what is sent in a dialect."""
    schema = ask.schema if way.answers == "schema" else None
    return size_of(told(ask.messages, way, ask.schema, ask.tools), list(ask.tools) if way.tools else [], schema)


def _status(failed: StepFailed) -> int:
    exchange = failed.detail.get("exchange")
    response = exchange.get("response") if isinstance(exchange, dict) else None
    status = response.get("status") if isinstance(response, dict) else None
    return status if isinstance(status, int) else 0


def _unable(failed: StepFailed, status: int) -> bool:
    """Whether a refusal may mean that the server cannot do something that was asked of it."""
    return failed.kind not in ("too_long", "out_of_credit") and status in (400, 404, 405, 415, 422, 500, 501)


async def _asked(name: str, alias: Alias, ask: Ask, way: Dialect, most: int, at: Asking) -> Reply:
    """One request in one dialect."""
    messages = told(ask.messages, way, ask.schema, ask.tools)
    body: dict[str, object] = {"model": alias.model, "messages": messages, "max_tokens": most}
    chosen = ask.temperature if ask.temperature is not None else alias.temperature
    if chosen is not None:
        body["temperature"] = chosen
    if ask.schema is not None and way.answers == "schema":
        body["response_format"] = {
            "type": "json_schema",
            "json_schema": {"name": "answer", "schema": ask.schema, "strict": False},
        }
    elif ask.schema is not None and way.answers == "object" and (way.tools or not ask.tools):
        body["response_format"] = {"type": "json_object"}
    if ask.tools and way.tools:
        body["tools"] = [{"type": "function", "function": tool} for tool in ask.tools]
    body |= alias.extra
    first: float | None = None
    if way.stream:
        exchange, first = await _streamed(name, alias, body, at)
    else:
        exchange = await post(alias, "chat/completions", body, at)
    # The messages are shown once, and not as part of the request too.
    asked = {key: value for key, value in body.items() if key not in ("messages", "tools")}
    exchange.detail["exchange"]["request"]["body"] = values.dumps(asked)
    shown: dict[str, object] = {
        "messages": files.shown(messages),
        "model": alias.model,
        "alias": name,
        **exchange.detail,
    }
    plain = way.plain(ask.schema is not None, bool(ask.tools))
    if plain:
        shown["dialect"] = plain
    if first is not None:
        shown["first_token"] = round(first, 6)
    if exchange.status != 200:
        raise failure(name, alias, exchange, shown)
    reply = _reply(name, alias, exchange, ask, shown, at)
    if ask.tools and not way.tools and (calls := calls_in(reply.text, ask.tools)):
        reply = replace(reply, text="", calls=calls, detail={**reply.detail, "calls": calls})
    return reply


async def offered(alias: Alias, at: Asking, name: str = "the model server") -> list[str]:
    """The names of models that the server offers. Raises `StepFailed`."""
    url = f"{alias.url.rstrip('/')}/models"
    request = at.http.build_request("GET", url, headers=_headers(at), timeout=at.timeout)
    exchange = await send(at, await authorised(at, request, alias.credential), _LARGEST, alias.credential)
    if exchange.status != 200:
        raise exchange.failure()
    listed = exchange.read("json")
    items = listed.get("data", []) if isinstance(listed, dict) else []
    return sorted(str(m["id"]) for m in items if isinstance(m, dict) and "id" in m)


def _headers(at: Asking) -> dict[str, str]:
    return {"User-Agent": "oak-relay", "traceparent": at.trace_parent, "Idempotency-Key": at.key}


async def post(alias: Alias, path: str, body: dict[str, object], at: Asking) -> Exchange:
    """A JSON request to a model server. Raises `StepFailed` when none comes back."""
    given = {"content": values.dumps(body).encode(), "headers": {"Content-Type": "application/json"}}
    return await posted(alias, path, given, at)


async def posted(
    alias: Alias, path: str, given: dict[str, Any], at: Asking, take: Callable[[str], None] | None = None
) -> Exchange:
    """A request of whatever content to a model server; `take` is given the lines of a streamed answer."""
    headers = {**_headers(at), **given.pop("headers", {})}
    url, timeout = f"{alias.url.rstrip('/')}/{path}", min(at.timeout, alias.timeout)
    request = at.http.build_request("POST", url, headers=headers, timeout=timeout, **given)
    request = await authorised(at, request, alias.credential)
    return await send(at, request, _LARGEST, alias.credential, take, show=False)


async def _streamed(name: str, alias: Alias, body: dict[str, object], at: Asking) -> tuple[Exchange, float | None]:
    """The same taken piece by piece: the whole as if it had come at once, and the seconds until its first piece.
    A server that does not stream answers at once, which is fine too."""
    given = {**body, "stream": True, "stream_options": {"include_usage": True}}
    began = time.monotonic()
    first: float | None = None
    gathered = Gathered()

    def take(line: str) -> None:
        nonlocal first
        text = gathered.take(line)
        if text:
            first = time.monotonic() - began if first is None else first
            if at.piece is not None:
                at.piece(text)

    content = {
        "content": values.dumps(given).encode(),
        "headers": {"Content-Type": "application/json", "Accept": "text/event-stream"},
    }
    exchange = await posted(alias, "chat/completions", content, at, take)
    if "text/event-stream" in exchange.headers.get("content-type", "") and exchange.status == 200:
        if not gathered.ended:
            raise StepFailed(
                "unavailable", f"{name}: the answer broke off", fix="try again", reached="maybe", detail=exchange.detail
            )
        exchange.body = values.dumps(gathered.whole()).encode()
        exchange.headers["content-type"] = "application/json"
    return exchange, first


class Gathered:
    """Puts a streamed answer together again: server-sent events whose pieces carry deltas of one message."""

    def __init__(self) -> None:
        self.text, self.reasoning, self.refusal = "", "", ""
        self.finish: str | None = None
        self.usage: object = None
        self.calls: dict[int, dict[str, str]] = {}
        self.ended = False
        self._more: dict[str, object] = {}

    def take(self, line: str) -> str:
        """Take a line of the stream; the text that it adds to the answer."""
        if not line.startswith("data:"):
            return ""
        data = line[5:].strip()
        if data == "[DONE]":
            self.ended = True
            return ""
        try:
            piece = values.loads(data)
        except values.NotJson:
            return ""
        if not isinstance(piece, dict):
            return ""
        self.usage = piece.get("usage") or self.usage
        self._more |= {k: v for k, v in piece.items() if k not in ("choices", "usage")}
        for choice in _mappings(piece.get("choices")):
            if choice.get("finish_reason"):
                self.finish, self.ended = str(choice["finish_reason"]), True
            return self._delta(_mapping(choice.get("delta")))
        return ""

    def _delta(self, delta: dict[str, Any]) -> str:
        text = _content(delta.get("content"))
        self.text += text
        self.reasoning += _reasoning(delta)
        self.refusal += _content(delta.get("refusal"))
        for number, call in enumerate(_mappings(delta.get("tool_calls"))):
            index = call.get("index", number)
            place = index if isinstance(index, int) else number
            kept = self.calls.setdefault(place, {"id": "", "name": "", "arguments": ""})
            inner = _mapping(call.get("function"))
            kept["id"] = kept["id"] or _content(call.get("id"))
            kept["name"] += _content(inner.get("name"))
            arguments = inner.get("arguments")
            kept["arguments"] += (
                arguments if isinstance(arguments, str) else values.dumps(arguments) if arguments else ""
            )
        return text

    def whole(self) -> dict[str, object]:
        """The reply as it would have come at once."""
        message: dict[str, object] = {"role": "assistant", "content": self.text, "reasoning_content": self.reasoning}
        if self.refusal:
            message["refusal"] = self.refusal
        if self.calls:
            message["tool_calls"] = [
                {"id": c["id"], "function": {"name": c["name"], "arguments": c["arguments"]}}
                for _, c in sorted(self.calls.items())
            ]
        choice = {"index": 0, "finish_reason": self.finish, "message": message}
        return {**self._more, "choices": [choice], "usage": self.usage}


def failure(name: str, alias: Alias, exchange: Exchange, shown: dict[str, object]) -> StepFailed:
    """The error that a model server's refusal means, with what to do."""
    failed = exchange.failure()
    failed.detail = shown
    said = exchange.body[:_SAID].decode("utf-8", "replace")
    if exchange.status in (402, 429) and _NO_CREDIT.search(said):
        failed.kind, failed.fix = ("out_of_credit", f"top up the account behind the credential {alias.credential}")
    elif exchange.status in (400, 413) and _TOO_LONG.search(said):
        failed.kind, failed.fix = "too_long", "shorten the prompt, or choose a model with a larger context"
    elif exchange.status in (400, 404) and _NO_MODEL.search(said):
        failed.kind, failed.fix = (
            "missing",
            f"the alias {name} names the model {alias.model}; see oak-relay model test {name}",
        )
    return failed


def _reply(name: str, alias: Alias, exchange: Exchange, ask: Ask, shown: dict[str, object], at: Asking) -> Reply:
    data = exchange.read("json")
    try:
        choice = data["choices"][0]
        message = choice["message"]
        if not isinstance(message, dict):
            raise TypeError
    except (KeyError, IndexError, TypeError):
        raise StepFailed(
            "wrong_shape",
            f"{name}: the server's reply has no choices",
            fix="is the alias's url right?",
            reached="yes",
            detail=shown,
        ) from None
    text = _content(message.get("content"))
    reasoning = _reasoning(message)
    thought = _THOUGHTS.match(text)
    if thought:
        reasoning, text = thought[2].strip(), text[thought.end() :]
    calls = _calls(message)
    written = text + reasoning + "".join(call["text"] for call in calls)
    usage = alias.priced(_usage(data.get("usage"), ask.messages, written), name)
    finish = str(choice.get("finish_reason") or "stop")
    shown = {**shown, "reply": text, "finish": finish, "usage": usage.as_data()}
    if reasoning:
        shown["reasoning"] = reasoning
    if calls:
        shown["calls"] = calls
    sources = _sources(alias, data)
    if sources:
        shown["sources"] = sources
    if message.get("refusal") or finish == "content_filter":
        raise StepFailed(
            "refused",
            f"{name} refuses: {at.said(_content(message.get('refusal')), _SAID) or 'filtered'}",
            fix="change the prompt",
            reached="yes",
            detail=shown,
            usage=usage,
        )
    if finish == "length":
        raise StepFailed(
            "cut_off",
            f"{name}'s answer was cut off after {usage.output} tokens",
            fix="raise max_tokens",
            reached="yes",
            detail=shown,
            usage=usage,
        )
    if not text.strip() and not calls:
        raise StepFailed(
            "wrong_shape",
            f"{name} gave an empty answer",
            fix="change the prompt",
            reached="yes",
            detail=shown,
            usage=usage,
        )
    return Reply(text, reasoning, finish, usage, shown, calls, sources)


def _calls(message: Mapping[str, Any]) -> list[Wanted]:
    """The tools that a message wants called; servers differ in where they put them and in how arguments are written."""
    given = _mappings(message.get("tool_calls"))
    if not given and isinstance(message.get("function_call"), dict):
        given = [{"function": message["function_call"]}]
    calls: list[Wanted] = []
    for number, call in enumerate(given):
        inner = _mapping(call.get("function")) or call
        arguments = inner.get("arguments", inner.get("input"))
        text = (arguments if isinstance(arguments, str) else values.dumps(arguments or {})) or "{}"
        calls.append(
            {"id": str(call.get("id") or f"call_{number}"), "name": str(inner.get("name") or ""), "text": text}
        )
    return calls


def _sources(alias: Alias, data: Mapping[str, object]) -> list[Source]:
    """Sources that a reply of a server that searches by itself names."""
    found: list[Source] = []
    for path in alias.sources:
        for match in paths.find(path, data):
            for one in match if isinstance(match, list) else [match]:
                if isinstance(one, str):
                    found.append({"url": one})
                elif isinstance(one, dict) and isinstance(one.get("url"), str):
                    found.append(Source(url=one["url"], title=str(one.get("title") or one["url"])))
    return found


def _content(content: object) -> str:
    if isinstance(content, list):
        return "".join(str(p.get("text", "")) if isinstance(p, dict) else str(p) for p in content)
    return content if isinstance(content, str) else "" if content is None else values.text_of(content)


def _reasoning(message: Mapping[str, Any]) -> str:
    return _content(message.get("reasoning_content") or message.get("reasoning"))


def _mapping(given: object) -> dict[str, Any]:
    return given if isinstance(given, dict) else {}


def _mappings(given: object) -> list[dict[str, Any]]:
    """The mappings in a list; servers send what they like."""
    return [one for one in given if isinstance(one, dict)] if isinstance(given, list) else []


def _usage(given: object, messages: Sequence[Message], text: str) -> Usage:
    """Tokens as the server counted them, or estimated at four letters each."""
    if isinstance(given, dict) and "prompt_tokens" in given:
        cached = _mapping(given.get("prompt_tokens_details")).get("cached_tokens") or 0
        counted = (given["prompt_tokens"] or 0, cached, given.get("completion_tokens") or 0)
        if all(isinstance(n, int | float | Decimal) and 0 <= n <= _MOST_TOKENS for n in counted):
            taken, cached, written = map(int, counted)
            return Usage(taken, cached, written)
    return Usage(letters_in(messages) // 4 + 1, output=len(text) // 4 + 1, estimated=True)


def nearest(model: str, names: list[str]) -> str:
    """A sentence with the nearest offered names."""
    near = get_close_matches(model, names, 3, 0.3) or names[:5]
    return f"{model} is not offered; nearest: {', '.join(near)}" if near else f"{model} is not offered"
