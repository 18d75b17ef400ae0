"""The model stand-in: the chat-completions protocol, answered by rules and a sensible general behaviour."""

import base64
import contextlib
import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML

from oak_relay.standins.media import pictured

MODELS = ("larch-small", "larch-large")
_WORD = re.compile(r"[a-z']{3,}")
_LABEL = re.compile(r"^- ([\w -]+): (.*)$", re.MULTILINE)
_PASSAGE = re.compile(r"^- (.+)$", re.MULTILINE)
_COMMON = frozenset(
    [
        "the",
        "and",
        "for",
        "are",
        "was",
        "with",
        "that",
        "this",
        "you",
        "your",
        "our",
        "from",
        "have",
        "has",
        "can",
        "not",
        "but",
        "what",
        "when",
        "how",
        "any",
        "all",
        "its",
    ]
)


class Rules:
    """Rules of `*.yaml` files in a folder. `when` has texts that must appear (lower case) in `system`, `message` (the
    last of a person) or `heard` (what tools gave since), `tool` that must be offered, and `turn` (how often the model
    has spoken since the person did). The reply is `say` (text), `give` (structured) or `call` (tools, each `{name:
    arguments}`), with `reasoning` and `finish` if they are named."""

    def __init__(self, folder: str) -> None:
        self._rules: list[dict[str, Any]] = []
        for file in sorted(Path(folder).glob("*.yaml")):
            self._rules += YAML(typ="safe").load(file.read_text()) or []

    def find(self, seen: "Seen") -> dict[str, Any] | None:
        """The first rule that fits."""
        texts = {"system": seen.system.lower(), "message": seen.message.lower(), "heard": " ".join(seen.heard).lower()}
        for rule in self._rules:
            when = rule["when"]
            if "tool" in when and when["tool"] not in seen.tools:
                continue
            if "turn" in when and when["turn"] != seen.turn:
                continue
            if not all(word in texts[place] for place in texts if place in when for word in when[place]):
                continue
            if "call" in rule or ("give" in rule and seen.schema) or ("say" in rule and not seen.schema):
                return rule
        return None


class Seen:
    """What a request of the protocol asks."""

    def __init__(self, body: dict[str, Any]) -> None:
        self.messages: list[dict[str, object]] = body["messages"]
        last = max((n for n, m in enumerate(self.messages) if m["role"] == "user"), default=-1)
        since = self.messages[last + 1 :]
        self.system = "\n".join(_text(m) for m in self.messages if m["role"] == "system")
        self.message = _text(self.messages[last]) if last >= 0 else ""
        self.before = [_text(m) for m in self.messages[:last] if m["role"] in ("user", "assistant")]
        self.heard = [_text(m) for m in since if m["role"] == "tool"]
        self.turn = sum(m["role"] == "assistant" for m in since)
        self.tools = {t["function"]["name"]: t["function"] for t in body.get("tools") or []}
        self.schema = ((body.get("response_format") or {}).get("json_schema") or {}).get("schema")


def reply(body: dict[str, object], rules: Rules) -> dict[str, object]:
    """The reply to a request of the protocol."""
    seen = Seen(body)
    message, finish = _spoken(seen, rules)
    prompt = sum(_tokens(_text(m) + json.dumps(m.get("tool_calls") or "")) for m in seen.messages)
    written = _tokens((message["content"] or "") + json.dumps(message.get("tool_calls") or ""))
    return {
        "id": "standin", "object": "chat.completion", "model": body["model"],
        "choices": [{"index": 0, "finish_reason": finish, "message": message}],
        "usage": {"prompt_tokens": prompt, "completion_tokens": written, "total_tokens": prompt + written},
    }  # fmt: skip


def pieces(whole: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """The same reply as it is streamed: words of the text, arguments of calls in two halves, usage at the end."""
    choice, message = whole["choices"][0], whole["choices"][0]["message"]

    def piece(delta: dict[str, object], finish: str | None = None) -> dict[str, object]:
        return {"id": whole["id"], "object": "chat.completion.chunk", "model": whole["model"],
                "choices": [{"index": 0, "delta": delta, "finish_reason": finish}]}  # fmt: skip

    yield piece({"role": "assistant"})
    if message.get("reasoning_content"):
        yield piece({"reasoning_content": message["reasoning_content"]})
    for word in re.findall(r"\S+\s*", message["content"] or ""):
        yield piece({"content": word})
    for number, call in enumerate(message.get("tool_calls") or []):
        text = call["function"]["arguments"]
        named = {"name": call["function"]["name"], "arguments": text[: len(text) // 2]}
        yield piece({"tool_calls": [{"index": number, "id": call["id"], "type": "function", "function": named}]})
        yield piece({"tool_calls": [{"index": number, "function": {"arguments": text[len(text) // 2 :]}}]})
    yield piece({}, choice["finish_reason"])
    yield {**piece({}), "choices": [], "usage": whole["usage"]}


def _spoken(seen: Seen, rules: Rules) -> tuple[dict[str, Any], str]:
    """The message and why it ended."""
    rule = rules.find(seen)
    message: dict[str, object] = {"role": "assistant", "content": None}
    if rule is not None and "reasoning" in rule:
        message["reasoning_content"] = rule["reasoning"]
    calls = [(name, given) for one in rule["call"] for name, given in one.items()] if rule and "call" in rule else None
    if rule is None and seen.tools and not seen.heard:
        calls = _fitting(seen)
    if calls:
        message["tool_calls"] = [
            {"id": f"call_{seen.turn}_{number}", "type": "function",
             "function": {"name": name, "arguments": json.dumps(_completed(given, seen), ensure_ascii=False)}}
            for number, (name, given) in enumerate(calls)
        ]  # fmt: skip
        message["content"] = (rule or {}).get("say")
        return message, "tool_calls"
    if rule is not None:
        text = (
            json.dumps(_completed(rule["give"], seen))
            if "give" in rule and seen.schema
            else _completed(str(rule["say"]), seen)
        )
        message["content"] = text
        return message, rule.get("finish", "stop")
    heard = "\n".join(seen.heard) or seen.message
    message["content"] = json.dumps(_fill(seen.schema, seen.system, heard)) if seen.schema else _say(seen)
    return message, "stop"


def _completed(given: object, seen: Seen) -> object:
    """What a rule gives, with `<message>` for what the person wrote and `<heard>` for what the last tool gave."""
    if isinstance(given, str):
        return given.replace("<message>", seen.message).replace("<heard>", seen.heard[-1] if seen.heard else "")
    if isinstance(given, dict):
        return {key: _completed(inner, seen) for key, inner in given.items()}
    return [_completed(inner, seen) for inner in given] if isinstance(given, list) else given


def _fitting(seen: Seen) -> list[tuple[str, dict[str, object]]] | None:
    """The tool whose description shares most words with the message, its arguments filled from the text."""
    asked = _words(seen.message)
    scored = sorted(
        ((len(asked & _words(f"{name} {tool.get('description', '')}")), -place, name)
         for place, (name, tool) in enumerate(seen.tools.items())), reverse=True,
    )  # fmt: skip
    if not scored or not scored[0][0]:
        return None
    name = scored[0][2]
    return [(name, _fill(seen.tools[name].get("parameters") or {}, "", seen.message))]


def _text(message: dict[str, object]) -> str:
    content = message.get("content")
    return "\n".join(map(_part, content)) if isinstance(content, list) else str(content or "")


def _part(part: dict[str, Any]) -> str:
    """A part of a message: of pictures what they show, of files their text."""
    address = (part.get("image_url") or {}).get("url") or (part.get("file") or {}).get("file_data") or ""
    if not address:
        return str(part.get("text", ""))
    body = base64.b64decode(address.partition(",")[2])
    return pictured(body) if address.startswith("data:image/") else body.decode("utf-8", "replace")


def _tokens(text: str) -> int:
    return max(1, len(text) // 4)


def _words(text: str) -> set[str]:
    return {w.rstrip("s") for w in _WORD.findall(text.lower())} - _COMMON


def _fill(schema: dict[str, Any], system: str, message: str) -> Any:
    """A value that fits a JSON Schema; an enumeration is chosen by word overlap with what the brief says of it."""
    if "enum" in schema:
        meanings = dict(_LABEL.findall(system))
        said = _words(message) | ({"question", "ask"} if message.rstrip().endswith("?") else set())
        scored = [
            (len(said & _words(f"{name} {meanings.get(name, '')}")), -place, name)
            for place, name in enumerate(map(str, schema["enum"]))
        ]
        best = max(scored)
        return best[2] if best[0] else str(schema["enum"][-1])
    kind = schema.get("type")
    if kind == "object" or "properties" in schema:
        needed = set(schema.get("required", ())) if "leave out what" in system.lower() else None
        return {
            name: _field(name, inner, system, message)
            for name, inner in schema.get("properties", {}).items()
            if needed is None or name in needed or _tells(inner, message)
        }
    if kind == "array":
        return [_fill(schema.get("items", {}), system, message)]
    if kind in ("number", "integer"):
        if schema.get("maximum") == 1:
            return 0.9
        found = re.search(r"\d+", message)
        return int(found[0]) if found else 0
    if kind == "boolean":
        return "yes" in message.lower()
    return " ".join(message.split()[:12])


def _tells(schema: dict[str, Any], message: str) -> bool:
    """Whether a message says anything of a field, as far as its schema tells."""
    if "enum" in schema:
        return any(_words(str(one)) & _words(message) for one in schema["enum"])
    if schema.get("type") in ("number", "integer"):
        return re.search(r"\d", message) is not None
    if schema.get("type") == "boolean":
        return message.strip(" .!").lower() in ("yes", "no", "true", "false")
    return not message.rstrip().endswith("?")


def _field(name: str, schema: dict[str, Any], system: str, message: str) -> object:
    """A field of an object: what stands under its name in something a tool gave, else the sentence that shares most
    words with what the schema says of it, else as any value."""
    for line in message.split("\n"):
        with contextlib.suppress(ValueError):
            found = _under(json.loads(line), name)
            if found is not None and (schema.get("type") == "string") == isinstance(found, str):
                return found
    if schema.get("type") == "string" and "description" in schema:
        wanted = _words(f"{name} {schema['description']}")
        texts = [text for line in message.split("\n") for text in _texts_in(line)]
        best = max(((len(wanted & _words(text)), -n, text) for n, text in enumerate(texts)), default=(0, 0, ""))
        if best[0]:
            return best[2]
    return _fill(schema, system, message)


def _under(value: object, name: str) -> object:
    """The first value under a key, however deep."""
    todo = [value]
    while todo:
        one = todo.pop(0)
        if isinstance(one, dict):
            if one.get(name) is not None:
                return one[name]
            todo += list(one.values())
        elif isinstance(one, list):
            todo += one
    return None


def _say(seen: Seen) -> str:
    """The passage, of the brief, of what tools gave or of what was said before, that shares most words with the
    message, else plainly that this is a stand-in."""
    passages = _PASSAGE.findall(f"{seen.system}\n{seen.message}")
    question = seen.message.split("\n\n")[-1]
    asked = _words(question)
    if len(asked) < 3 and seen.before:  # a question that leans on what was said before
        asked |= _words(" ".join(seen.before[-2:]))
    heard = [line for text in seen.heard for line in _texts_in(text)]
    scored = sorted(((len(asked & _words(p)), -i, p) for i, p in enumerate([*heard, *passages])), reverse=True)
    if scored and scored[0][0] >= 2:
        return f"{scored[0][2]} Kind regards, the office of Larkspur Huts."
    if heard:
        return heard[0]
    if "hello" in seen.message.lower():
        return "Hello from the model stand-in."
    return "I am a stand-in for a model, and nothing I was given answers that."


def _texts_in(text: str) -> list[str]:
    """The sentences in what a tool gave."""
    try:
        value = json.loads(text)
    except ValueError:
        return [text]
    found: list[str] = []
    todo = [value]
    while todo:
        one = todo.pop(0)
        if isinstance(one, str) and " " in one:
            found.append(one)
        elif isinstance(one, dict):
            todo += list(one.values())
        elif isinstance(one, list):
            todo += one
    return found
