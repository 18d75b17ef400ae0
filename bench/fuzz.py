"""Whatever parses what comes from outside, fed with what a fuzzer thinks of: each answers with its own error or a value,
in bounded time and memory.

`python -m bench.fuzz [--minutes 8] [--only document]` runs each target in a process of its own, two at a time, guided by
what the code does with its input (libFuzzer by atheris), and prints what was run and found. What breaks a target is kept
in `.build/fuzz/` and printed.
"""

import argparse
import asyncio
import contextlib
import io
import re
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any
from unittest.mock import Mock

import atheris

with atheris.instrument_imports(include=["oak_relay", "jsonpath", "dateutil", "cronsim", "jinja2", "yaml", "ruamel"]):
    import httpx

    from oak_relay import jsontext
    from oak_relay.actions import curl, servers
    from oak_relay.actions.catalogue import offer
    from oak_relay.actions.code import connector as code
    from oak_relay.actions.exchange import Exchange
    from oak_relay.actions.openapi.calling import DescribedAction
    from oak_relay.actions.openapi.reading import described
    from oak_relay.actions.openapi.text import BadDescription
    from oak_relay.actions.server_calls import Calls, ServerCall
    from oak_relay.actions.sheets import cells, formats
    from oak_relay.capabilities.alias import Alias
    from oak_relay.document import calendar, durations, paths, schemas, values, wire
    from oak_relay.document.check import check
    from oak_relay.document.errors import StepFailed
    from oak_relay.document.expressions import BadExpression, Template
    from oak_relay.models import chat
    from oak_relay.vault import oauth
    from oak_relay.vault.blanking import LAYERS, Blanker, Stream
    from oak_relay.vault.database import Database

if TYPE_CHECKING:
    from oak_relay.document.check_base import World

HOME = Path(".build/fuzz")
DEMO = Path("demo/workflows")
SLOWEST, LARGEST = 10, 1500
"""Seconds and megabytes that one input may take, its code being watched line by line."""
SCOPE = {
    "guest": {"name": "Ada Fenn", "nights": [1, 2, 3], "paid": None},
    "rows": [{"hut": f"hut-{n}", "beds": n, "tags": ["warm", "small"]} for n in range(40)],
    "text": "Upper Tarn, 1840 m",
    "number": 7,
}
MOMENT = datetime(2031, 4, 5, 6, 7, 8, tzinfo=UTC)
VALUES: tuple[object, ...] = (
    None,
    0,
    12345678901234567890,
    "aaaaaaaaaaaaaaaaaaaaaaaa!",
    [1, 1, [1], {"a": 1}],
    SCOPE,
    [[[[[]]]]],
)
_BLANKER = Blanker(["secret-word-123456", "50%25off%2Fnow"])
AT: Any = Mock(shown=_BLANKER.head, said=_BLANKER.head)
ALIAS = Alias.model_validate({"url": "http://127.0.0.1:1/v1", "model": "small", "sources": ["$..sources[*]", "$..url"]})


@dataclass(frozen=True)
class Target:
    """Something that takes text from outside. `seeds`: what it is made for; `words`: pieces worth trying."""

    take: Callable[[str], object]
    seeds: Callable[[], list[str]]
    words: str = ""


_WORLD: list["World"] = []


def _document(text: str) -> None:
    if not _WORLD:
        _WORLD.append(offer().catalogue.world())
    check(text, _WORLD[0])


def _expression(text: str) -> None:
    with contextlib.suppress(BadExpression, StepFailed):
        jsontext.dumps(Template(text).render(SCOPE))


def _path(text: str) -> None:
    with contextlib.suppress(StepFailed):
        paths.find(text, SCOPE)


def _json(text: str) -> object:
    try:
        return jsontext.loads(text)
    except jsontext.NotJson:
        return None


def _provider(text: str) -> None:
    """What an OAuth provider answers, hands out or tells of itself; and an address of a database."""
    raw = text.encode("utf-8", "replace")
    for read in (
        lambda: oauth.tokens_of(raw),
        lambda: oauth.tokens_of(raw, "application/x-www-form-urlencoded"),
        lambda: oauth.client_file(text),
        lambda: oauth.provider_of(raw, "https://office.example"),
    ):
        with contextlib.suppress(oauth.Nonsense):
            read()
    denied = oauth.denied_of(raw)
    assert denied is None or len(str(denied)) < 500
    with contextlib.suppress(ValueError):
        Database.model_validate({"url": text})


def _body(text: str) -> None:
    value = _json(text)
    assert jsontext.loads(jsontext.dumps(value)) == value


def _schema(text: str) -> None:
    schema = _json(text)
    if isinstance(schema, dict):
        with contextlib.suppress(schemas.BadSchema):
            validator = schemas.validator(schema)
            for value in VALUES:
                validator.fault(value)


def _description(text: str) -> None:
    with contextlib.suppress(BadDescription):
        offered = described(text.encode("utf-8", "replace"), None).offered
        keys = [one.key for one in offered if not one.fault][:20]
        for one in described(text.encode("utf-8", "replace"), keys).operations:
            DescribedAction("it", "http://office.example", one).shape.sentence("it", {})


def _when(text: str) -> None:
    how, _, said = text.partition(" ")
    given: dict[str, str | None] = {"cron": None, "every": None, "recurrence": None}
    name = how if how in given else "recurrence"
    with contextlib.suppress(ValueError):
        calendar.rule(**{**given, name: said}, zone="Atlantic/Madeira").next(MOMENT, 3)


def _duration(text: str) -> None:
    with contextlib.suppress(ValueError):
        assert 0 <= durations.seconds(text) <= durations.LONGEST
    with contextlib.suppress(ValueError):
        assert durations.moment(text).tzinfo


def _address(text: str) -> None:
    if not wire.address_fault(text):
        httpx.Request("GET", text)
    name, _, value = text.partition(":")
    if not wire.header_fault([(name, value)]):
        with contextlib.suppress(UnicodeEncodeError):  # letters beyond ASCII are refused as they are sent
            httpx.Request("GET", "http://127.0.0.1/", headers={name: value})


def _exchange(text: str) -> Exchange:
    response = httpx.Response(200, headers={"content-type": "application/json"})
    return Exchange("a server", {}, response, text.encode("utf-8", "replace"), None, AT)


def _model(text: str) -> None:
    gathered = chat.Gathered()
    for line in text.splitlines():
        gathered.take(line)
    for body in (text, jsontext.dumps(gathered.whole())):
        with contextlib.suppress(StepFailed):
            chat._reply("a-model", ALIAS, _exchange(body), chat.Ask([{"role": "user", "content": "?"}]), {}, AT)


def _secret(text: str) -> None:
    assert not _BLANKER.finds(_BLANKER.text(text).replace("‹", "\x01"))
    stream = Stream(_BLANKER)
    shown = "".join([*(stream.take(text[at : at + 5]) for at in range(0, len(text), 5)), stream.end()])
    assert not _BLANKER.finds(shown.replace("‹", "\x01"))
    value = _json(text)
    jsontext.loads(_BLANKER.json(jsontext.dumps(value)))
    assert not _BLANKER.finds(jsontext.dumps(_BLANKER.value(value)).replace("‹", "\x01"), LAYERS + 1)


class _Said:
    """Sessions with a tool server that answers everything with what the fuzzer thinks of, as it comes and as its result."""

    def __init__(self, text: str) -> None:
        self._text, self._result = text, _json(text)

    async def ask(
        self, name: str, _server: object, at: Any, method: str, params: Any, reached: Any = "no"
    ) -> dict[str, Any]:
        call = ServerCall(name, at, reached)
        calls = Calls(call)
        calls.leaving(values.dumps({"jsonrpc": "2.0", "id": 1, "method": method, "params": dict(params)}).encode())
        calls.came(self._text)
        if call.result is not None:
            return call.result
        return self._result if isinstance(self._result, dict) else {}


def _server(text: str) -> None:
    async def ask() -> None:
        at: Any = Mock()
        sessions: Any = _Said(text)
        with contextlib.suppress(StepFailed):
            await servers.tools("huts", at, at, sessions)
        with contextlib.suppress(StepFailed):
            await servers.call("huts", at, "beds", {}, at, sessions)

    asyncio.run(ask())


def _sheet(text: str) -> None:
    """A file of rows as CSV and as JSON Lines. A workbook is read by a library, apart, where it may die (tests/test_sheets.py)."""
    kinds: tuple[formats.Kind, ...] = ("csv", "jsonl")
    for kind in kinds:
        with contextlib.suppress(formats.BadSheet):
            every = list(formats.checked(formats.read(kind, io.BytesIO(text.encode("utf-8", "replace")))[1], 500))
            heads = [str(head) for head in every[0][1]]
            columns = cells.headings(heads, every[1:], (), {})
            names = {one.name for one in columns}
            assert all(set(row) <= names for _, row in cells.rows(heads, every[1:], columns))


def _function(text: str) -> None:
    assert all(fault.message and fault.fix and fault.line >= 0 for fault in code.faults({"source": text}))


def _command(text: str) -> None:
    with contextlib.suppress(curl.BadCommand):
        curl.read(text)


def _demo() -> list[str]:
    return [path.read_text() for path in sorted(DEMO.glob("*.yaml"))]


def _written() -> list[str]:
    """The expressions of the demo, and some more."""
    found = [text for document in _demo() for text in re.findall(r"\$\{[^}]*\}", document)]
    return [
        *found,
        "${ rows | map('beds') | sum }",
        "%% for r in rows\n${ r.hut }\n%% endfor\n",
        "${ '%5.2f' % number }",
    ]


TARGETS = {
    "document": Target(_document, _demo, "oak: workflow: steps: step: do: with: each: as: gives: if: else: repeat: until: ask: wait: emit: run: together: agent: tools: retry: tries: &a *a <<: !!int | > ${ }"),
    "expression": Target(_expression, _written, "${ } %% for in endfor if else endif | map( select( join( replace( sum sort unique round jsonpath( json from_json date( in_zone( plain csv ** // ~ rows guest text number loop. [::] {%"),
    "path": Target(_path, lambda: ["$.rows[*].hut", "$..tags[?@ == 'warm']", "$.rows[?match(@.hut, 'hut-[0-9]+')].beds", "$[?count($..*) > 1]", "$.rows[1:9:2]"], "$ @ .. [*] [? ] match( search( count( length( value( == != <= && || ! ::"),
    "schema": Target(_schema, lambda: ['{"type":"object","properties":{"a":{"$ref":"#/$defs/b"}},"$defs":{"b":{"anyOf":[{"pattern":"^a+$"},{"multipleOf":0.01}]}}}', '{"items":{"type":"number"},"uniqueItems":true}', '{"$defs":{"t":{"$dynamicAnchor":"t","prefixItems":[{"$dynamicRef":"#t"}]}},"$ref":"#/$defs/t"}'], '"$ref" "$defs" "$id" "$anchor" "$dynamicRef" "allOf" "anyOf" "not" "if" "then" "pattern" "patternProperties" "propertyNames" "unevaluatedProperties" "dependentSchemas" "multipleOf" "const" "enum" "contains" "minContains" "$schema" "format" #/$defs/'),
    "description": Target(_description, lambda: ['{"openapi":"3.1.0","info":{"title":"t"},"security":[{"k":["a"]}],"paths":{"/a/{b}":{"post":{"operationId":"x","parameters":[{"name":"b","in":"path","schema":{"type":"array"}},{"$ref":"#/components/parameters/p"}],"requestBody":{"content":{"application/json":{"schema":{"$ref":"#/components/schemas/s"}}}},"responses":{"200":{"content":{"application/json":{"schema":{"allOf":[{"$ref":"#/components/schemas/s"},{"oneOf":[{"nullable":true}]}]}}}}}}}},"components":{"schemas":{"s":{"type":"object","required":["a"],"properties":{"a":{"$ref":"#/components/schemas/s"}}}},"parameters":{"p":{"name":"cursor","in":"query"}},"securitySchemes":{"k":{"type":"apiKey","in":"header","name":"K"}}}}', "openapi: 3.0.1\npaths:\n  /a: &a\n    get: {responses: {200: {headers: {Link: {}}, content: {'*/*': {schema: {type: array}}}}}}\n  /b: *a\n"], '"openapi" "paths" "parameters" "$ref" #/components/schemas/s #/paths/ "allOf" "oneOf" "anyOf" "nullable" "properties" "required" "readOnly" "requestBody" "content" "schema" "responses" "default" "security" "securitySchemes" "servers" "variables" "exclusiveMinimum" "items" "format" binary &a *a <<:'),
    "when": Target(_when, lambda: ["cron 0 6 * * 1-5", "every 5m", "recurrence DTSTART:20310405T060000\nRRULE:FREQ=MONTHLY;BYDAY=2TU;COUNT=9", "recurrence FREQ=YEARLY;BYSETPOS=-1;BYMONTH=2;BYMONTHDAY=29"], "FREQ= SECONDLY MINUTELY HOURLY DAILY WEEKLY MONTHLY YEARLY INTERVAL= COUNT= UNTIL= BYSETPOS= BYDAY= BYHOUR= BYMINUTE= BYSECOND= BYYEARDAY= BYWEEKNO= BYEASTER= WKST= RDATE: EXDATE: EXRULE: DTSTART; TZID= ;"),
    "duration": Target(_duration, lambda: ["5m", "500ms", "PT5M", "P1W2DT3H4M5.5S", "2031-04-05T06:00:00Z", "2031-W14-6"]),
    "address": Target(_address, lambda: ["https://office.example:8443/a/b?c=d#e", "http://[::1]:80/", "X-Hut: upper tarn"], "http:// https:// @ %00 %0d%0a xn-- [:: ] \\ : ;"),
    "secret": Target(_secret, lambda: ["a secret-word-123456 b", "50%25off%2Fnow", '["secret\\u002dword\\u002d123456", {"50%25off%2Fnow": 1}]', "&#115;ecret-word-123456"], "secret-word-123456 50%25off%2Fnow %25 %2525 &amp; &quot; \\u0025 \\\\ \\/ secret-wor d-123456 ec2VjcmV0LXdvcmQtMTIzNDU2"),
    "provider": Target(_provider, lambda: ['{"access_token":"abcdefgh12","token_type":"Bearer","expires_in":"3600","scope":"a b","id_token":"a.eyJlbWFpbCI6ImFAYiJ9.c"}', '{"web":{"client_id":"a","auth_uri":"https://a.example/a","redirect_uris":["http://b.example"]}}', '{"issuer":"https://office.example","token_endpoint":"https://office.example/t","scopes_supported":["a"]}', '{"error":{"code":"invalid_grant"},"error_description":"x"}', "postgresql://a:long-enough-1@h:5432/x?sslmode=require"], '"access_token" "refresh_token" "expires_in" "token_type" "scope" "id_token" "error" "error_description" "client_id" "client_secret" "issuer" "token_endpoint" "code_challenge_methods_supported" 1e999 null access_token= &scope= postgresql:// mysql:// ?host= @ :'),
    "sheet": Target(_sheet, lambda: ['hut,free,open\nUpper Tarn,7,true\n"Saint ""Odo""",1.5,\n', '{"hut":"Upper Tarn","free":7}\n{"hut":null,"free":1e5}\n'], '; ,, " "" 0001-01-01 1e999 true {"a":'),
    "function": Target(_function, lambda: ["def run(given):\n    return given\n", "import json\n\ndef run(given, files=None):\n    for one in given: yield one\n", "async def run(given):\n    pass\n"], "def run( lambda async class import exec compile __import__ \\N{ f' {!r} := match case with *, /"),
    "command": Target(_command, lambda: ["curl -X POST 'https://office.example/a?b=c' -H 'Authorization: Bearer abcdefgh' --data-raw '{\"a\": 1}'", "curl -u a:b -F f=@x --url https://h.example -G -d a=b"], "curl -X -H -d --data-binary @ -F -u --user -b --cookie -G --json --url -k --compressed $' \\x41 \\\\"),
    "body": Target(_body, lambda: ['{"n": 1e5, "m": [1.10, 12345678901234567890], "s": "\\ud83c\\udf32"}', "[1E-999, -0.0]"], "1e999 1E-1000 \\ud800 \\u0000 NaN [[[[ {}"),
    "model": Target(_model, lambda: ['{"choices":[{"message":{"content":"hm","tool_calls":[{"id":"1","function":{"name":"a","arguments":"{}"}}]},"finish_reason":"stop"}],"usage":{"prompt_tokens":1,"completion_tokens":2}}', 'data: {"choices":[{"delta":{"content":"a","tool_calls":[{"index":0,"function":{"name":"f","arguments":"{"}}]}}]}\ndata: [DONE]\n'], '"choices" "message" "content" "delta" "tool_calls" "function" "function_call" "index" "arguments" "usage" "prompt_tokens" "prompt_tokens_details" "cached_tokens" "refusal" "reasoning" "finish_reason" "sources" null <think> </think> data:'),
    "server": Target(_server, lambda: ['{"tools":[{"name":"beds","description":"d","inputSchema":{"type":"object"},"annotations":{"readOnlyHint":true}}],"nextCursor":"a"}', '{"content":[{"type":"text","text":"7"}],"isError":false,"structuredContent":{"n":7}}'], '"tools" "name" "title" "inputSchema" "annotations" "nextCursor" "content" "type" "text" "isError" "structuredContent" null'),
}  # fmt: skip


def target(name: str, seconds: int) -> None:
    """Feed a target for a while; ends the process, with 0 when nothing was found."""
    one, home = TARGETS[name], HOME / name
    seeds = home / "seeds"
    seeds.mkdir(parents=True, exist_ok=True)
    for number, text in enumerate(one.seeds()):
        (seeds / f"seed-{number}").write_text(text)
    words = home / "words"
    words.write_text("\n".join('"' + re.sub(r'(["\\])', r"\\\1", word) + '"' for word in one.words.split()) + "\n")
    options = [f"-max_total_time={seconds}", f"-timeout={SLOWEST}", f"-rss_limit_mb={LARGEST}", "-max_len=20000", "-print_final_stats=1", f"-dict={words}", f"-artifact_prefix={home}/"]  # fmt: skip
    atheris.Setup([sys.argv[0], *options, str(seeds)], lambda data: one.take(data.decode("utf-8", "replace")) and None)
    atheris.Fuzz()


def found(name: str, seconds: int) -> tuple[bool, str]:
    """Run a target in a process of its own: whether nothing was found, and a line about it."""
    home = HOME / name
    home.mkdir(parents=True, exist_ok=True)
    began = time.monotonic()
    with (home / "log").open("w") as log:
        code = subprocess.call(
            [sys.executable, "-m", "bench.fuzz", "--target", name, "--seconds", str(seconds)], stdout=log, stderr=log
        )
    told = (home / "log").read_text(errors="replace")
    runs = re.search(r"number_of_executed_units:\s*(\d+)", told) or re.search(r"\n#(\d+)[^\n]*\Z", told)
    slowest = re.search(r"slowest_unit_time_sec:\s*(\d+)", told)
    largest = re.search(r"peak_rss_mb:\s*(\d+)", told)
    line = f"{name:<12} {runs[1] if runs else '?':>9} inputs in {time.monotonic() - began:.0f} s, slowest {slowest[1] if slowest else '?'} s, {largest[1] if largest else '?'} MB"
    if code:
        line += f"\n  ended with {code}; see {home}/log:\n" + "\n".join("  " + one for one in _trouble(told))
    return code == 0, line


def _trouble(log: str) -> Iterator[str]:
    lines = log.splitlines()
    begun = next(
        (n for n, line in enumerate(lines) if "=== Uncaught" in line or "== ERROR" in line), max(0, len(lines) - 20)
    )
    yield from lines[begun : begun + 20]


def main() -> int:
    """0 when nothing was found."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--minutes", type=float, default=8, help="of each target")
    parser.add_argument("--only", choices=TARGETS, action="append")
    parser.add_argument("--target", choices=TARGETS, help=argparse.SUPPRESS)
    parser.add_argument("--seconds", type=int, help=argparse.SUPPRESS)
    args = parser.parse_args()
    if args.target:
        target(args.target, args.seconds)
        return 0
    fine = True
    with ThreadPoolExecutor(2) as two:
        for good, line in two.map(lambda name: found(name, int(args.minutes * 60)), args.only or TARGETS):
            print(line, flush=True)
            fine &= good
    return 0 if fine else 1


if __name__ == "__main__":
    sys.exit(main())
