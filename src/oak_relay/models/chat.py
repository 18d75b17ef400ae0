"""The chat-completions HTTP protocol that most model servers implement."""

import re
from dataclasses import dataclass
from difflib import get_close_matches
from typing import Any

from oak_relay.actions.base import Surroundings
from oak_relay.actions.http import Exchange, authorised, send
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.models.alias import Alias

_LARGEST = 4_000_000
_THOUGHTS = re.compile(r"^\s*<(think|thinking|reasoning)>(.*?)</\1>\s*", re.DOTALL)
_TOO_LONG = re.compile(r"context|maximum.*tokens|too long", re.IGNORECASE)
_NO_MODEL = re.compile(r"\bmodel\b", re.IGNORECASE)
_NO_CREDIT = re.compile(r"quota|credit|billing|balance", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Reply:
    """A model's reply. `usage` has tokens and money; `detail` what the trace shows."""

    text: str
    reasoning: str
    finish: str
    usage: dict[str, Any]
    detail: dict[str, Any]


def letters_in(messages: list[dict[str, Any]]) -> int:
    """Letters of messages, from which tokens are estimated."""
    return sum(len(values.text_of(m["content"])) for m in messages)


async def complete(
    name: str,
    alias: Alias,
    messages: list[dict[str, Any]],
    at: Surroundings,
    *,
    schema: dict[str, Any] | None = None,
    max_tokens: int | None = None,
    temperature: float | None = None,
) -> Reply:
    """One reply to messages. Raises `StepFailed` of the kind that fits."""
    most = max_tokens or alias.max_tokens
    letters = letters_in(messages)
    if at.money is not None and alias.worst(letters, most) > at.money:
        raise StepFailed(
            "over_limit",
            f"this call of {name} may cost {alias.worst(letters, most):.6f}, and {at.money:.6f} is left of the run's money",
            fix="raise limits: money, or lower max_tokens",
        )
    body: dict[str, Any] = {"model": alias.model, "messages": messages, "max_tokens": most}
    chosen = temperature if temperature is not None else alias.temperature
    if chosen is not None:
        body["temperature"] = chosen
    if schema is not None:
        body["response_format"] = {
            "type": "json_schema",
            "json_schema": {"name": "answer", "schema": schema, "strict": False},
        }
    exchange = await _post(name, alias, "chat/completions", body, at)
    shown = {"messages": messages, "model": alias.model, "alias": name, **exchange.detail}
    if exchange.status != 200:
        raise _failure(name, alias, exchange, shown)
    return _reply(name, alias, exchange, messages, shown)


async def offered(alias: Alias, at: Surroundings, name: str = "the model server") -> list[str]:
    """The names of models that the server offers. Raises `StepFailed`."""
    request = at.http.build_request(
        "GET", f"{alias.url.rstrip('/')}/models", headers=await _headers(alias, at), timeout=at.timeout
    )
    exchange = await send(at.http, request, _LARGEST, alias.credential)
    if exchange.status != 200:
        raise exchange.failure()
    listed = exchange.read("json")
    items = listed.get("data", []) if isinstance(listed, dict) else []
    return sorted(str(m["id"]) for m in items if isinstance(m, dict) and "id" in m)


async def _headers(alias: Alias, at: Surroundings) -> dict[str, str]:
    headers = {"User-Agent": "oak-relay", "traceparent": at.trace_parent, "Idempotency-Key": at.key}
    return headers | await authorised(at, alias.url, alias.credential)


async def _post(name: str, alias: Alias, path: str, body: dict[str, Any], at: Surroundings) -> Exchange:
    request = at.http.build_request(
        "POST",
        f"{alias.url.rstrip('/')}/{path}",
        content=values.dumps(body).encode(),
        headers={**await _headers(alias, at), "Content-Type": "application/json"},
        timeout=min(at.timeout, alias.timeout),
    )
    return await send(at.http, request, _LARGEST, alias.credential)


def _failure(name: str, alias: Alias, exchange: Exchange, shown: dict[str, Any]) -> StepFailed:
    failed = exchange.failure()
    failed.detail = shown
    said = exchange.body.decode("utf-8", "replace")
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


def _reply(name: str, alias: Alias, exchange: Exchange, messages: list[dict[str, Any]], shown: dict[str, Any]) -> Reply:
    data = exchange.read("json")
    try:
        choice = data["choices"][0]
        message = choice["message"]
    except (KeyError, IndexError, TypeError):
        raise StepFailed(
            "wrong_shape",
            f"{name}: the server's reply has no choices",
            fix="is the alias's url right?",
            reached="yes",
            detail=shown,
        ) from None
    text = _content(message.get("content"))
    reasoning = message.get("reasoning_content") or message.get("reasoning") or ""
    thought = _THOUGHTS.match(text)
    if thought:
        reasoning, text = thought[2].strip(), text[thought.end() :]
    usage = _usage(data.get("usage"), messages, text + reasoning)
    usage["money"] = alias.cost(usage)
    finish = str(choice.get("finish_reason") or "stop")
    shown = {**shown, "reply": text, "finish": finish, "usage": usage}
    if reasoning:
        shown["reasoning"] = reasoning
    if message.get("refusal") or finish == "content_filter":
        raise StepFailed(
            "refused",
            f"{name} refuses: {message.get('refusal') or 'filtered'}",
            fix="change the prompt",
            reached="yes",
            detail=shown,
            usage=usage,
        )
    if finish == "length":
        raise StepFailed(
            "cut_off",
            f"{name}'s answer was cut off after {usage['output']} tokens",
            fix="raise max_tokens",
            reached="yes",
            detail=shown,
            usage=usage,
        )
    if not text.strip():
        raise StepFailed(
            "wrong_shape",
            f"{name} gave an empty answer",
            fix="change the prompt",
            reached="yes",
            detail=shown,
            usage=usage,
        )
    return Reply(text, reasoning, finish, usage, shown)


def _content(content: Any) -> str:
    if isinstance(content, list):
        return "".join(str(p.get("text", "")) if isinstance(p, dict) else str(p) for p in content)
    return "" if content is None else str(content)


def _usage(given: Any, messages: list[dict[str, Any]], text: str) -> dict[str, Any]:
    """Tokens as the server counted them, or estimated at four letters each."""
    if isinstance(given, dict) and "prompt_tokens" in given:
        cached = (given.get("prompt_tokens_details") or {}).get("cached_tokens") or 0
        return {
            "input": int(given["prompt_tokens"] or 0),
            "cached": int(cached),
            "output": int(given.get("completion_tokens") or 0),
        }
    letters = letters_in(messages)
    return {"input": letters // 4 + 1, "cached": 0, "output": len(text) // 4 + 1, "estimated": True}


def nearest(model: str, names: list[str]) -> str:
    """A sentence with the nearest offered names."""
    near = get_close_matches(model, names, 3, 0.3) or names[:5]
    return f"{model} is not offered; nearest: {', '.join(near)}" if near else f"{model} is not offered"
