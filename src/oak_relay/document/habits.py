"""What people write from habit, by the word that stands for it here; and the nearest of the words that are known."""

from collections.abc import Iterable, Mapping
from difflib import get_close_matches

KINDS = {
    "do": "action uses use call type invoke function operation task tool execute exec kind",
    "run": "workflow subworkflow sub_workflow child start_workflow",
    "set": "assign vars var variables let values define compute assignments",
    "branch": "switch case choose choice match router route cond conditions conditional select",
    "each": "foreach for_each for loop iterate map for_all items over in",
    "together": "parallel concurrently fork concurrent all side_by_side",
    "repeat": "while until do_while loop_until",
    "wait": "sleep delay pause wait_for timer",
    "ask": "approval approve input prompt question human form",
    "reply": "answer respond response respond_to_caller http_response",
    "todo": "sketch placeholder later tbd",
    "send": "say message tell respond_with write speak",
    "hand_over": "handoff handover hand_off takeover escalate transfer",
    "emit": "publish event send_event raise_event",
    "stop": "return exit end finish succeed done halt",
    "fail": "throw raise error abort",
}
"""Kinds of steps, and what else may be written for them."""
KEYS = {
    "step": "name id key title label",
    "with": "params parameters args arguments inputs input options config fields body data payload properties",
    "when": "if condition cond only_if unless where run_if",
    "steps": "tasks jobs actions nodes stages do then flow body sequence pipeline",
    "result": "output outputs return returns results response gives",
    "input": "inputs parameters params schema arguments args in",
    "settings": "variables vars config env options environment",
    "triggers": "on trigger events start starts when schedule webhook",
    "workflow": "name id",
    "title": "description summary display_name displayname",
    "note": "description comment comments doc docs help remark",
    "labels": "tags",
    "limits": "budget max_turns max_iterations max_steps quota limit",
    "always": "finally ensure after cleanup post",
    "oak": "version apiversion api_version schema_version",
    "on_error": "continue_on_error continue_on_fail catch onerror on_failure rescue ignore_errors error_handler",
    "retry": "retries retry_policy attempts max_retries",
    "timeout": "time_limit max_time deadline time",
    "once": "idempotency_key dedupe unique",
    "if": "when condition cond case test",
    "else": "otherwise default elsewhere",
    "gives": "output outputs result returns return yields then value schema",
    "as": "var item item_name name loop_var alias",
    "width": "concurrency parallelism max_parallel batch_size workers at_once",
    "failed": "on_error on_item_error",
    "until": "while condition stop_when",
    "most": "max max_rounds limit times max_iterations count",
    "tries": "attempts max_attempts count times retries max",
    "factor": "backoff multiplier",
    "spread": "jitter",
    "kinds": "on errors",
    "money": "budget cost price max_cost",
    "time": "timeout max_time duration deadline",
    "at_once": "concurrency parallelism max_parallel",
    "choices": "options answers buttons values",
    "text": "message question title prompt content",
    "within": "timeout deadline expires",
    "trigger": "name id",
    "path": "url endpoint route uri",
    "waits": "answer wait sync synchronous respond response_mode",
    "verify": "auth authentication security signature",
    "scheme": "type kind method",
    "cron": "expression crontab schedule",
    "every": "interval rate period",
    "zone": "timezone tz time_zone",
    "type": "name event topic",
    "brief": "system system_prompt instructions role persona",
    "prompt": "user message question user_prompt text input",
    "model": "llm engine",
    "tools": "functions actions skills",
    "credential": "auth token key secret api_key authorization password",
    "row": "rows data record values item fields",
    "url": "uri address endpoint href",
    "json": "body payload data",
    "method": "verb type",
    "query": "q search",
    "do": "action uses",
    "run": "workflow flow subworkflow",
    "server": "mcp tool_server",
    "use_when": "description purpose",
    "approve": "approval confirm require_approval",
    "table": "sheet collection",
    "match": "key keys on unique",
}
"""Keys of the language, and what else may be written for them."""
TRIGGERS = {
    "webhook": "http http_request hook request url post",
    "schedule": "cron timer interval every time",
    "event": "topic queue",
    "table": "row database sheet",
    "poll": "watch feed rss",
    "after": "workflow run completed finished",
    "conversation": "chat talk message page messages dialog",
}
"""Kinds of triggers, and what else may be written for them."""
ACTIONS = {
    "add": "insert create append new write save store put",
    "upsert": "save update merge put set change",
    "find": "select get query read list search lookup fetch rows",
    "delete": "remove drop destroy",
    "request": "get post put patch call fetch send http",
    "answer": "complete completion chat generate ask prompt text message reply",
    "label": "classify categorize classification category intent",
    "judge": "evaluate score check review rate",
    "transcribe": "speech audio stt",
    "embed": "embedding embeddings vector vectors",
    "search": "find query google",
    "call": "tool invoke",
    "send": "publish emit",
}
"""The last words of actions' names, and what else may be written for them."""
WORDS = {
    "go_on": "continue ignore skip resume proceed pass",
    "fail": "stop abort raise error",
    "drop": "skip ignore discard",
    "keep": "continue go_on include",
    "stop": "fail abort",
    "queue": "wait fifo serial",
    "replace": "cancel latest restart",
    "free": "parallel allow concurrent",
    "ask": "human approve",
    "repeat": "retry again",
    "tray": "inbox person human console",
    "link": "url email web",
    "latest": "last once newest",
    "none": "skip never no ignore",
    "all": "every catchup each",
    "signed": "jwt signature standard",
    "bearer": "token jwt",
    "busy": "rate_limit rate_limited too_many_requests",
    "unavailable": "server_error connection network",
}
"""Words that stand as values, and what else may be written for them."""
TYPES = {
    "string": "str text char varchar date datetime email uuid",
    "integer": "int long whole",
    "number": "float double decimal numeric",
    "boolean": "bool",
    "array": "list tuple set",
    "object": "dict map mapping record struct any",
}
"""Types of JSON Schema, and what else may be written for them."""


def meant(given: object, known: Iterable[str], habits: Mapping[str, str] = KEYS) -> list[str]:
    """Those of the known words that may be meant: by habit, the one that is spelt alike, or of which it is a part."""
    words, said = list(known), str(given)
    folded = said.strip().lower().replace("-", "_").replace(" ", "_")
    if folded in words:
        return [folded]
    alike = get_close_matches(said, words, 1, 0.8) or get_close_matches(folded, words, 1, 0.8)
    by_habit = [word for word in words if folded in habits.get(word, "").split()]
    parts = [word for word in words if len(folded) > 2 and folded in word.split("_")]
    return alike or by_habit or (parts if len(parts) == 1 else []) or get_close_matches(folded, words, 1)


def nearest(given: object, known: Iterable[str], habits: Mapping[str, str] = KEYS) -> str | None:
    """The first of the known words that may be meant; None when none is near."""
    return next(iter(meant(given, known, habits)), None)


def instead(
    given: object, known: Iterable[str], otherwise: str = "use one of", habits: Mapping[str, str] = KEYS
) -> str:
    """What to write in the place of a word that is not known."""
    words = list(known)
    near = meant(given, words, habits)
    if near:
        return f"write {' or '.join(near)}"
    return f"{otherwise} {', '.join(words)}" if words else "leave it out"
