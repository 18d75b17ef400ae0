"""What was said in a conversation, as every model server takes it: each call of a tool has its result behind it."""

from typing import Any

NOT_DONE = "this was not done: the agent was ended before"


def whole(messages: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The same messages (chat completions) with a result behind every call, and no result without its call. Strict servers
    refuse a conversation for ever that holds one without the other."""
    found: list[dict[str, Any]] = []
    given = iter([*messages, {"role": ""}])
    message = next(given)
    while message["role"]:
        calls = message.get("tool_calls") or []
        if message["role"] != "tool":
            found.append(message)
        message = next(given)
        results: dict[str, dict[str, Any]] = {}
        while calls and message["role"] == "tool":
            results.setdefault(str(message.get("tool_call_id")), message)
            message = next(given)
        for call in calls:
            missing = {"role": "tool", "tool_call_id": call["id"], "content": NOT_DONE}
            found.append(results.get(str(call["id"]), missing))
    return found
