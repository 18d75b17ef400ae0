"""The model stand-in: the chat-completions protocol, answered by rules and a sensible general behaviour."""

import json
import re
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML

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
    """Rules of `*.yaml` files in a folder: each `when` (texts that must appear in `system` or `message`,
    lower case) and `say` (text) or `give` (structured)."""

    def __init__(self, folder: str) -> None:
        self._rules: list[dict[str, Any]] = []
        for file in sorted(Path(folder).glob("*.yaml")):
            self._rules += YAML(typ="safe").load(file.read_text()) or []

    def answer(self, system: str, message: str, schema: dict[str, Any] | None) -> str | None:
        for rule in self._rules:
            when = rule["when"]
            texts = {"system": system.lower(), "message": message.lower()}
            if all(word in texts[place] for place in when for word in when[place]):
                if schema is not None and "give" in rule:
                    return json.dumps(rule["give"])
                if schema is None and "say" in rule:
                    return str(rule["say"])
        return None


def reply(body: dict[str, Any], rules: Rules) -> dict[str, Any]:
    """The reply to a request of the protocol."""
    messages = body["messages"]
    system = "\n".join(_text(m) for m in messages if m["role"] == "system")
    message = next((_text(m) for m in reversed(messages) if m["role"] == "user"), "")
    schema = ((body.get("response_format") or {}).get("json_schema") or {}).get("schema")
    text = rules.answer(system, message, schema)
    if text is None:
        text = json.dumps(_fill(schema, system, message)) if schema else _say(system, message)
    prompt = sum(_tokens(_text(m)) for m in messages)
    written = _tokens(text)
    return {
        "id": "standin", "object": "chat.completion", "model": body["model"],
        "choices": [{"index": 0, "finish_reason": "stop", "message": {"role": "assistant", "content": text}}],
        "usage": {"prompt_tokens": prompt, "completion_tokens": written, "total_tokens": prompt + written},
    }  # fmt: skip


def _text(message: dict[str, Any]) -> str:
    content = message.get("content")
    return "".join(p.get("text", "") for p in content) if isinstance(content, list) else str(content or "")


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
        return {name: _fill(inner, system, message) for name, inner in schema.get("properties", {}).items()}
    if kind == "array":
        return [_fill(schema.get("items", {}), system, message)]
    if kind in ("number", "integer"):
        found = re.search(r"\d+", message)
        return int(found[0]) if found else 0
    if kind == "boolean":
        return "yes" in message.lower()
    return " ".join(message.split()[:12])


def _say(system: str, message: str) -> str:
    """The passage of the brief that shares most words with the message, else plainly that this is a stand-in."""
    passages = _PASSAGE.findall(f"{system}\n{message}")
    question = message.split("\n\n")[-1]
    asked = _words(question)
    scored = sorted(((len(asked & _words(p)), -i, p) for i, p in enumerate(passages)), reverse=True)
    if scored and scored[0][0] >= 2:
        return f"{scored[0][2]} Kind regards, the office of Larkspur Huts."
    if "hello" in message.lower():
        return "Hello from the model stand-in."
    return "I am a stand-in for a model, and nothing I was given answers that."
