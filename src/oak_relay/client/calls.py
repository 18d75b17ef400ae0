"""Every call of the API, once: what is sent, and how the reply is read. Both faces of the client use these."""

import asyncio
import mimetypes
import os
import ssl
from collections.abc import AsyncIterable, AsyncIterator, Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, Generic, TypeVar
from urllib.parse import quote, urlsplit
from uuid import UUID

import httpx
from pydantic import TypeAdapter

from oak_relay import jsontext
from oak_relay.client import results
from oak_relay.client.errors import OakRelayError, Unreachable, problem
from oak_relay.client.results import Page
from oak_relay.places import is_this_machine

T = TypeVar("T")
Param = str | int | float | bool | UUID | datetime | list[str] | None
"""What may stand in a query."""
DEFAULT_URL = "http://127.0.0.1:8470"


@dataclass(frozen=True)
class Call(Generic[T]):
    """A request, and how its reply is read."""

    method: str
    path: str
    read: Callable[[Any], T]
    params: Mapping[str, Param] = field(default_factory=dict)
    body: object = None
    headers: Mapping[str, str] = field(default_factory=dict)
    content: bytes | Iterable[bytes] | None = None
    seconds: float | None = None
    """How long its reply may take; as long as usual when left out."""

    def request(self, client: "httpx.Client | httpx.AsyncClient") -> httpx.Request:
        """The request as a client of httpx sends it."""
        headers: dict[str, str] = dict(self.headers)
        content: bytes | Iterable[bytes] | AsyncIterable[bytes] | None = None
        if self.body is not None:
            content = jsontext.dumps(self.body).encode()
            headers.setdefault("Content-Type", "application/json")
        elif self.content is not None:
            content = self.content if isinstance(client, httpx.Client) else _patiently(self.content)
        params = {name: _written(value) for name, value in self.params.items() if value is not None}
        patience = httpx.USE_CLIENT_DEFAULT if self.seconds is None else httpx.Timeout(self.seconds)
        return client.build_request(
            self.method, self.path, params=params, headers=headers, content=content, timeout=patience
        )

    def result(self, response: httpx.Response) -> T:
        """The reply as its type. Raises `Problem`."""
        if response.status_code >= 400:
            raise refused(response)
        if response.headers.get("content-type", "").startswith("text/csv"):
            return self.read(response.text)
        return self.read(jsontext.loads(response.content) if response.content else None)


def _patiently(content: bytes | Iterable[bytes]) -> bytes | AsyncIterable[bytes]:
    """What is sent piece by piece, as an async client takes it; a file is read beside the event loop."""
    if isinstance(content, bytes):
        return content

    async def pieces() -> AsyncIterator[bytes]:
        coming = iter(content)
        while (piece := await asyncio.to_thread(next, coming, None)) is not None:
            yield piece

    return pieces()


def _written(value: Param) -> str | list[str]:
    if isinstance(value, list):
        return value
    if isinstance(value, datetime):
        return value.isoformat()
    return str(value).lower() if isinstance(value, bool) else str(value)


def away(url: str, error: httpx.TransportError) -> Unreachable:
    """The exception of a service that gave no answer, or broke it off."""
    if isinstance(error, httpx.ReadError | httpx.RemoteProtocolError | httpx.ReadTimeout):
        return Unreachable(f"the service at {url} broke off ({error or type(error).__name__}); is it up?")
    return Unreachable(f"no service answers at {url} ({error or type(error).__name__}); start one with oak-relay up")


def refused(response: httpx.Response) -> Exception:
    """The exception of a refusal."""
    try:
        document = jsontext.loads(response.content)
    except ValueError:
        document = {"title": f"the service answered {response.status_code}", "detail": response.text[:300]}
    return problem(response.status_code, document if isinstance(document, dict) else {})


def address(url: str | None, token: str | None) -> tuple[str, dict[str, str]]:
    """The service's address and the headers, from arguments or `OAK_RELAY_URL`, `OAK_RELAY_TOKEN`, or the
    token that a service on this machine left in its data directory, which goes to that service alone. Raises
    `OakRelayError` rather than send a token elsewhere, or in clear to another machine."""
    token = token or os.environ.get("OAK_RELAY_TOKEN")
    url = url or os.environ.get("OAK_RELAY_URL")
    if not token:
        home = Path(os.environ.get("OAK_RELAY_DATA_DIR", "data"))
        places = _lines(home / "cli.places") or [DEFAULT_URL]
        url = url or places[0]
        token = next(iter(_lines(home / "cli.token")), "")
        if token and _origin(url) not in {_origin(place) for place in places}:
            raise OakRelayError(
                f"the token in {home} is for {places[0]} and is not sent to {url}; set OAK_RELAY_TOKEN to one of that service"
            )
    url = (url or DEFAULT_URL).rstrip("/")
    scheme, host, _ = _origin(url)
    if token and scheme != "https" and not is_this_machine(host):
        raise OakRelayError(f"a token is not sent to {url} in clear; use https, or a tunnel from this machine")
    return url, {"Authorization": f"Bearer {token}"} if token else {}


def trusted(verify: ssl.SSLContext | bool) -> ssl.SSLContext | bool:
    """What certificates are checked with: what is given, or the authorities in the file `OAK_RELAY_CA_FILE`. Raises
    `OakRelayError` when that cannot be read."""
    file = os.environ.get("OAK_RELAY_CA_FILE")
    if verify is not True or not file:
        return verify
    try:
        return ssl.create_default_context(cafile=file)
    except OSError as error:
        raise OakRelayError(f"OAK_RELAY_CA_FILE: {file} holds no certificates that can be read: {error}") from None


def _lines(file: Path) -> list[str]:
    return [line for line in file.read_text().splitlines() if line.strip()] if file.exists() else []


def _origin(url: str) -> tuple[str, str, int | None]:
    """Scheme, host and port of an address (RFC 6454)."""
    try:
        parts = urlsplit(url)
        return parts.scheme, parts.hostname or "", parts.port or {"http": 80, "https": 443}.get(parts.scheme)
    except ValueError as error:
        raise OakRelayError(f"{url} is no address: {error}; write http://127.0.0.1:8470") from None


def _one(model: type[T]) -> Callable[[Any], T]:
    return TypeAdapter(model).validate_python


def _page(model: type[T]) -> Callable[[Any], Page[T]]:
    return _Pages(TypeAdapter(list[model])).read  # type: ignore[valid-type]


@dataclass(frozen=True, slots=True)
class _Pages(Generic[T]):
    """Reads a page of a list, `{"items": […], "next": …}`."""

    items: TypeAdapter[list[T]]

    def read(self, given: Any) -> Page[T]:
        page = Page(self.items.validate_python(given["items"]))
        page.next = given.get("next")
        return page


@dataclass(frozen=True, slots=True)
class Part:
    """Which part of a list is wanted: `limit` entries at most (as many as the service tells by itself where it is None), behind
    where `after` points, the `next` of the page before."""

    limit: int | None = None
    after: str | None = None

    def __call__(self, **filters: Param) -> Mapping[str, Param]:
        """The query, with what else is asked."""
        return {**filters, "limit": self.limit, "after": self.after}


def _raw(value: object) -> Any:
    return value


def _at(*parts: object) -> str:
    return "/api/v1/" + "/".join(quote(str(part), safe="") for part in parts)


def _if(tag: str | None) -> dict[str, str]:
    """Only if it is what a tag says."""
    return {} if tag is None else {"If-Match": f'"{tag}"'}


def workflows(text: str | None, part: Part) -> Call[Page[results.Workflow]]:
    """All workflows."""
    return Call("GET", _at("workflows"), _page(results.Workflow), part(text=text))


def workflow(name: str, version: int | None) -> Call[results.WorkflowText]:
    """One workflow with its text, the newest version unless one is named."""
    return Call("GET", _at("workflows", name), _one(results.WorkflowText), {"version": version})


def save(text: str, expected: int | None, over: bool, remark: str) -> Call[results.Saved]:
    """Save a document."""
    headers = {"If-Match": "*"} if over else _if(None if expected is None else str(expected))
    return Call(
        "POST",
        _at("workflows"),
        _one(results.Saved),
        body={"text": text, **({"remark": remark} if remark else {})},
        headers=headers,
    )


def remove_workflow(name: str, expected: int | None) -> Call[None]:
    """Remove a workflow."""
    return Call("DELETE", _at("workflows", name), _raw, headers=_if(None if expected is None else str(expected)))


def rename(name: str, other: str) -> Call[results.Renamed]:
    """Give a workflow another name."""
    return Call("POST", _at("workflows", name, "rename"), _one(results.Renamed), body={"name": other})


def duplicate(name: str, other: str) -> Call[results.Saved]:
    """Make a workflow of another name of the newest version of one."""
    return Call("POST", _at("workflows", name, "duplicate"), _one(results.Saved), body={"name": other})


def check(text: str, beside: Sequence[str] = ()) -> Call[results.Checked]:
    """Check a document against what is stored in the service; `beside` are workflows that are checked along with it."""
    return Call("POST", _at("workflows", "check"), _one(results.Checked), body={"text": text, "beside": list(beside)})


def compare(before: str, after: str) -> Call[results.Compared]:
    """What one document says otherwise than another."""
    return Call("POST", _at("workflows", "compare"), _one(results.Compared), body={"before": before, "after": after})


def render(given: Mapping[str, object]) -> Call[results.Rendered]:
    """What a step would send, without sending."""
    return Call("POST", _at("workflows", "render"), _one(results.Rendered), body=given)


def on(name: str, version: int | None) -> Call[results.Workflow]:
    """Switch a workflow on with a version."""
    return Call("POST", _at("workflows", name, "on"), _one(results.Workflow), body={"version": version})


def off(name: str) -> Call[results.Workflow]:
    """Switch a workflow off."""
    return Call("POST", _at("workflows", name, "off"), _one(results.Workflow))


def settings(name: str, given: Mapping[str, object], tag: str | None = None) -> Call[Mapping[str, object]]:
    """Adjust a workflow's settings."""
    return Call("PUT", _at("workflows", name, "settings"), _raw, body=given, headers=_if(tag))


def start(name: str, data: object, version: int | None, key: str | None) -> Call[Mapping[str, object]]:
    """Start a run. The same `key` again gives the same run."""
    headers = {"Idempotency-Key": key} if key else {}
    return Call("POST", _at("runs"), _raw, body={"workflow": name, "input": data, "version": version}, headers=headers)


def runs(part: Part, **filters: Param) -> Call[Page[results.RunData]]:
    """Runs, newest first: workflow, state, subject, error_kind, held, since, until and more."""
    return Call("GET", _at("runs"), _page(results.RunData), part(**filters))


def run(run_id: UUID | str) -> Call[results.RunDetail]:
    """One run with its result, its event, and why it is not moving."""
    return Call("GET", _at("runs", run_id), _one(results.RunDetail))


def trace(run_id: UUID | str, under: str | None, after: int, limit: int) -> Call[results.Trace]:
    """Everything a run did; `under` a path only what lies there, `after` the `next` of the page before."""
    return Call(
        "GET", _at("runs", run_id, "trace"), _one(results.Trace), {"under": under, "after": after, "limit": limit}
    )


def service_settings(part: Part) -> Call[Page[results.Setting]]:
    """How the service is set."""
    return Call("GET", _at("settings"), _page(results.Setting), part())


def price(text: str) -> Call[results.Price]:
    """What a workflow will cost."""
    return Call("POST", _at("workflows", "price"), _one(results.Price), body={"text": text})


def overview(hours: int) -> Call[results.Overview]:
    """How runs of the last hours went, and what made them fail."""
    return Call("GET", _at("overview"), _one(results.Overview), {"hours": hours})


def counts() -> Call[results.Counts]:
    """What waits for a person."""
    return Call("GET", _at("counts"), _one(results.Counts))


def view(run_id: UUID | str, at: str) -> Call[results.View]:
    """A run in brief: every line once, of lists and loops the item in which the path `at` lies."""
    return Call("GET", _at("runs", run_id, "view"), _one(results.View), {"at": at})


def record(run_id: UUID | str, path: str) -> Call[results.Record]:
    """All that is recorded of one step, item, turn or call."""
    return Call("GET", _at("runs", run_id, "record"), _one(results.Record), {"path": path})


def items(run_id: UUID | str, of: str, part: Part, state: str | None, text: str | None) -> Call[Page[results.Item]]:
    """The items of a list, or the rounds of a loop."""
    return Call("GET", _at("runs", run_id, "items"), _page(results.Item), part(of=of, state=state, text=text))


def journal(run_id: UUID | str, part: Part) -> Call[Page[results.Entry]]:
    """The journal of a run."""
    return Call("GET", _at("runs", run_id, "journal"), _page(results.Entry), part())


def artifact(artifact_id: str) -> Call[object]:
    """The whole of a payload of which a trace tells only a preview."""
    return Call("GET", _at("artifacts", artifact_id), _raw)


def cancel(run_id: UUID | str) -> Call[dict[str, str]]:
    """Cancel a run: `cancelled`, `asked` or `over`."""
    return Call("POST", _at("runs", run_id, "cancel"), _raw)


def stream(run_id: UUID | str) -> str:
    """What a run does, as server-sent events: `run` and `span`, each as it changes."""
    return _at("runs", run_id, "stream")


def events(part: Part) -> Call[Page[results.Received]]:
    """Events, newest first."""
    return Call("GET", _at("events"), _page(results.Received), part())


def credentials(part: Part) -> Call[Page[results.Credential]]:
    """Stored credentials, without their secrets."""
    return Call("GET", _at("credentials"), _page(results.Credential), part())


def put_credential(name: str, given: Mapping[str, object], tag: str | None = None) -> Call[results.Credential]:
    """Store a credential: `kind`, its secrets, and what the kind needs."""
    return Call("PUT", _at("credentials", name), _one(results.Credential), body=given, headers=_if(tag))


def remove_credential(name: str, anyway: bool, tag: str | None = None) -> Call[None]:
    """Remove a credential; `anyway` although something uses it."""
    return Call("DELETE", _at("credentials", name), _raw, {"anyway": anyway or None}, headers=_if(tag))


def credential_use(name: str) -> Call[results.CredentialUse]:
    """What uses a credential."""
    return Call("GET", _at("credentials", name, "use"), _one(results.CredentialUse))


def begin_consent(name: str) -> Call[results.ConsentBegun]:
    """Begin to connect an OAuth app."""
    return Call("POST", _at("credentials", name, "consent"), _one(results.ConsentBegun))


def finish_consent(given: Mapping[str, object]) -> Call[results.Consented]:
    """Finish what was begun, with what the provider sent back."""
    return Call("POST", _at("consents"), _one(results.Consented), body=given)


def forget_consent(name: str) -> Call[None]:
    """Disconnect an OAuth app."""
    return Call("DELETE", _at("credentials", name, "consent"), _raw)


def look_at_provider(issuer: str, file: str) -> Call[results.Provider]:
    """What is known of an OAuth provider, by its issuer or a client file."""
    return Call("POST", _at("providers", "look"), _one(results.Provider), body={"issuer": issuer, "file": file})


def broken_credentials(part: Part) -> Call[Page[results.Broken]]:
    """Credentials that need reconnecting."""
    return Call("GET", _at("tray", "connections"), _page(results.Broken), part())


def credential_ready(name: str) -> Call[results.Ready]:
    """Say that its account has credit again, so that runs that wait for that go on."""
    return Call("POST", _at("credentials", name, "ready"), _one(results.Ready))


def test_credential(name: str) -> Call[results.Test]:
    """Use a credential once and see both sides."""
    return Call("POST", _at("credentials", name, "test"), _one(results.Test))


def models(part: Part) -> Call[Page[results.Alias]]:
    """Model aliases."""
    return Call("GET", _at("models"), _page(results.Alias), part())


def put_model(name: str, given: Mapping[str, object], unseen: bool, tag: str | None = None) -> Call[results.Alias]:
    """Store an alias: `url`, `model`, `credential`, `prices`, …; `unseen` also when its server does not offer the model."""
    return Call(
        "PUT", _at("models", name), _one(results.Alias), {"unseen": unseen or None}, body=given, headers=_if(tag)
    )


def nearby_models(part: Part) -> Call[Page[results.ModelServer]]:
    """Model servers on the service's machine."""
    return Call("GET", _at("model-servers"), _page(results.ModelServer), part())


def look_at_models(address: str, key: str, credential: str | None) -> Call[results.ModelServer]:
    """What a model server offers."""
    body = {"address": address, "key": key, "credential": credential}
    return Call("POST", _at("model-servers", "look"), _one(results.ModelServer), body=body)


def connect_model(given: Mapping[str, object]) -> Call[results.Connected]:
    """Store a model by an address and a key."""
    return Call("POST", _at("model-servers", "connect"), _one(results.Connected), body=given)


def remove_model(name: str, tag: str | None = None) -> Call[None]:
    """Remove an alias."""
    return Call("DELETE", _at("models", name), _raw, headers=_if(tag))


def test_model(name: str) -> Call[results.Test]:
    """Which models the server offers, and an answer to something trivial."""
    return Call("POST", _at("models", name, "test"), _one(results.Test))


def servers(part: Part) -> Call[Page[results.Server]]:
    """Tool servers."""
    return Call("GET", _at("servers"), _page(results.Server), part())


def put_server(name: str, given: Mapping[str, object], tag: str | None = None) -> Call[results.Server]:
    """Store a tool server: `url` and `credential`, or `command`."""
    return Call("PUT", _at("servers", name), _one(results.Server), body=given, headers=_if(tag))


def remove_server(name: str, tag: str | None = None) -> Call[None]:
    """Remove a tool server."""
    return Call("DELETE", _at("servers", name), _raw, headers=_if(tag))


def test_server(name: str) -> Call[results.ServerTest]:
    """Connect to a tool server and list what it offers."""
    return Call("POST", _at("servers", name, "test"), _one(results.ServerTest))


def conversations(part: Part) -> Call[Page[results.Conversation]]:
    """Conversations, the latest first."""
    return Call("GET", _at("conversations"), _page(results.Conversation), part())


def judge(key: str, seq: int, good: bool | None) -> Call[None]:
    """Say of an answer whether it was good."""
    return Call("POST", _at("conversations", "verdicts"), _raw, body={"key": key, "seq": seq, "good": good})


def channels(part: Part) -> Call[Page[results.Channel]]:
    """Channels of connectors."""
    return Call("GET", _at("channels"), _page(results.Channel), part())


def read_channel(channel: str, given: Mapping[str, object], body: str, type: str) -> Call[results.ChannelRead]:
    """What a channel reads in something that was sent."""
    asked = {"channel": channel, "with": given, "body": body, "type": type}
    return Call("POST", _at("channels", "read"), _one(results.ChannelRead), body=asked)


def send_by_channel(
    channel: str, given: Mapping[str, object], chat: str, text: str, buttons: Sequence[str]
) -> Call[results.ChannelSent]:
    """Send something by a channel, really."""
    asked = {"channel": channel, "with": given, "chat": chat, "text": text, "buttons": list(buttons)}
    return Call("POST", _at("channels", "send"), _one(results.ChannelSent), body=asked)


def try_phrases(
    choices: Mapping[str, Sequence[str]], phrases: Sequence[str], otherwise: str | None
) -> Call[results.PhrasesFound]:
    """Which choice of a question each phrase finds."""
    asked = {"choices": dict(choices), "phrases": list(phrases), "otherwise": otherwise}
    return Call("POST", _at("phrases"), _one(results.PhrasesFound), body=asked)


def settle(key: str, seq: int, arrived: bool) -> Call[None]:
    """Say of a message whose sending was cut off whether it arrived."""
    return Call("POST", _at("conversations", "settle"), _raw, body={"key": key, "seq": seq, "arrived": arrived})


def conversation(key: str, part: Part) -> Call[Page[results.Message]]:
    """What was said in a conversation, in order."""
    return Call("GET", _at("conversations", key), _page(results.Message), part())


def forget(key: str) -> Call[None]:
    """Forget a conversation."""
    return Call("DELETE", _at("conversations", key), _raw)


def messages(run_id: UUID | str, turn: str) -> Call[Mapping[str, object]]:
    """The messages of a turn of an agent as they were sent, with the tools that were offered."""
    return Call("GET", _at("runs", run_id, "messages"), _raw, {"turn": turn})


def talk(given: Mapping[str, object]) -> Call[results.Talked]:
    """Say something to an agent of a draft, in a conversation that is kept nowhere."""
    return Call("POST", _at("workflows", "talk"), _one(results.Talked), body=given)


def usage(
    by: list[str], since: str | None, until: str | None, workflow: str | None, part: Part
) -> Call[Page[results.Usage]]:
    """Calls of models, tokens and money by some of day, workflow, alias, credential, source; days as YYYY-MM-DD."""
    given = part(by=by, since=since, until=until, workflow=workflow)
    return Call("GET", _at("usage"), _page(results.Usage), given)


def budgets(part: Part) -> Call[Page[results.Budget]]:
    """Budgets and what of them is spent."""
    return Call("GET", _at("budgets"), _page(results.Budget), part())


def put_budget(name: str, given: Mapping[str, object], tag: str | None = None) -> Call[results.Budget]:
    """Set a budget of a workflow, or of all."""
    return Call("PUT", _at("budgets", name), _one(results.Budget), body=given, headers=_if(tag))


def remove_budget(name: str, tag: str | None = None) -> Call[None]:
    """Remove a budget."""
    return Call("DELETE", _at("budgets", name), _raw, headers=_if(tag))


def tables(part: Part) -> Call[Page[results.Table]]:
    """Tables."""
    return Call("GET", _at("tables"), _page(results.Table), part())


def create_table(name: str, columns: dict[str, str]) -> Call[results.Table]:
    """A new table; columns are text, number, boolean or any."""
    listed = [{"name": column, "type": kind} for column, kind in columns.items()]
    return Call("POST", _at("tables"), _one(results.Table), body={"name": name, "columns": listed})


def link_table(name: str, link: Mapping[str, object], columns: Mapping[str, str]) -> Call[results.Table]:
    """A table whose rows live elsewhere."""
    listed = [{"name": column, "type": kind} for column, kind in columns.items()]
    return Call("POST", _at("tables"), _one(results.Table), body={"name": name, "link": link, "columns": listed})


def drop_table(name: str) -> Call[None]:
    """Remove a table with its rows."""
    return Call("DELETE", _at("tables", name), _raw)


def files(part: Part) -> Call[Page[results.File]]:
    """Files that are kept, the newest first."""
    return Call("GET", _at("files"), _page(results.File), part())


def file(file_id: UUID | str) -> Call[results.FileDetail]:
    """What is known of a file."""
    return Call("GET", _at("files", file_id), _one(results.FileDetail))


def add_file(name: str, content: bytes | Iterable[bytes], type: str = "") -> Call[results.File]:
    """Keep a file."""
    media = type or mimetypes.guess_type(name)[0] or "application/octet-stream"
    headers = {"Content-Type": media}
    return Call("POST", _at("files"), _one(results.File), {"name": name}, headers=headers, content=content)


def file_address(file_id: UUID | str, minutes: int, name: str, type: str) -> Call[results.FileAddress]:
    """A signed address of a file."""
    body = {"minutes": minutes, "name": name, "type": type}
    return Call("POST", _at("files", file_id, "address"), _one(results.FileAddress), body=body)


def file_content(file_id: UUID | str) -> str:
    """The address of a file's bytes."""
    return _at("files", file_id, "content")


def as_bytes(source: str | bytes) -> bytes:
    """A text as UTF-8."""
    return source.encode() if isinstance(source, str) else source


def pieces(path: Path, size: int = 256 * 1024) -> Iterator[bytes]:
    """A file of this machine, so many bytes at once."""
    with path.open("rb") as opened:
        while piece := opened.read(size):
            yield piece


def rows(
    table: str, part: Part, text: str | None, newest: bool, where: Mapping[str, object] | None, order: Sequence[str]
) -> Call[Page[results.Row]]:
    """Rows of a table, oldest first or newest or in an order of columns; those alone that are meant, and that have some words."""
    wanted = jsontext.dumps(where) if where else None
    asked = part(text=text, newest=newest or None, where=wanted, order=list(order) or None)
    return Call("GET", _at("tables", table, "rows"), _page(results.Row), asked)


def update_row(
    table: str, row_id: UUID | str, row: Mapping[str, object], tag: str | None = None
) -> Call[dict[str, bool]]:
    """Change columns of a row."""
    return Call("PATCH", _at("tables", table, "rows", row_id), _raw, body=row, headers=_if(tag))


def remove_row(table: str, row_id: UUID | str, tag: str | None = None) -> Call[None]:
    """Remove a row."""
    return Call("DELETE", _at("tables", table, "rows", row_id), _raw, headers=_if(tag))


def add_rows(table: str, given: list[Mapping[str, object]]) -> Call[dict[str, int]]:
    """Add rows, all or none."""
    return Call("POST", _at("tables", table, "rows"), _raw, body={"rows": given})


def import_rows(table: str, given: Mapping[str, object]) -> Call[results.Imported]:
    """Take rows of a file into a table."""
    return Call("POST", _at("tables", table, "import"), _one(results.Imported), body=given, seconds=330)


def export_rows(table: str, kind: str) -> str:
    """Where all rows of a table are, as a file of a kind."""
    return _at("tables", table, f"rows.{kind}")


def actions(part: Part) -> Call[Page[results.Action]]:
    """The catalogue of actions."""
    return Call("GET", _at("actions"), _page(results.Action), part())


def read_curl(text: str) -> Call[results.CurlStep]:
    """A curl command as a step; its secret is stored as a credential."""
    return Call("POST", _at("curl"), _one(results.CurlStep), body={"text": text})


def read_description(given: Mapping[str, object]) -> Call[results.Description]:
    """What a description offers: its `text`, the id of a `file`, or the `source` it is fetched from."""
    return Call("POST", _at("descriptions"), _one(results.Description), body=given)


def connector(name: str) -> Call[results.ConnectorDetail]:
    """A connector that was read from a description."""
    return Call("GET", _at("connectors", name), _one(results.ConnectorDetail))


def put_connector(name: str, given: Mapping[str, object], tag: str | None = None) -> Call[results.ConnectorDetail]:
    """Make a connector of a description, or change one."""
    return Call("PUT", _at("connectors", name), _one(results.ConnectorDetail), body=given, headers=_if(tag))


def remove_connector(name: str, anyway: bool) -> Call[None]:
    """Remove a connector."""
    return Call("DELETE", _at("connectors", name), _raw, {"anyway": anyway or None})


def compare_connector(name: str, given: Mapping[str, object]) -> Call[results.ConnectorCompared]:
    """How a description differs from what is there."""
    return Call("POST", _at("connectors", name, "compare"), _one(results.ConnectorCompared), body=given)


def try_action(name: str, action: str, given: Mapping[str, object]) -> Call[results.ActionTried]:
    """Carry out an action of a connector."""
    body = {"action": action, "with": given}
    return Call("POST", _at("connectors", name, "try"), _one(results.ActionTried), body=body)


def tokens(part: Part) -> Call[Page[results.Token]]:
    """Tokens, without their secrets."""
    return Call("GET", _at("tokens"), _page(results.Token), part())


def add_token(
    name: str, days: int | None = None, rights: Sequence[str] | None = None, workflows: Sequence[str] | None = None
) -> Call[results.Token]:
    """A new token; its secret is given this once. It may be over after some days, and limited to rights and workflows."""
    limits = {"days": days, "rights": rights, "workflows": workflows}
    body = {"name": name, **{key: value for key, value in limits.items() if value is not None}}
    return Call("POST", _at("tokens"), _one(results.Token), body=body)


def sessions(part: Part) -> Call[Page[results.Session]]:
    """The open sessions of who asks."""
    return Call("GET", _at("sessions"), _page(results.Session), part())


def end_session(session_id: str) -> Call[None]:
    """End a session."""
    return Call("DELETE", _at("sessions", session_id), _raw)


def remove_token(token_id: str) -> Call[None]:
    """Revoke a token."""
    return Call("DELETE", _at("tokens", token_id), _raw)


def again(run_id: UUID | str, given: Mapping[str, object]) -> Call[results.Kept]:
    """Run it again."""
    return Call("POST", _at("runs", run_id, "again"), _one(results.Kept), body=given)


def many(ids: Sequence[UUID | str], action: str) -> Call[results.ManyDone]:
    """Do something with many runs at once."""
    return Call(
        "POST", _at("runs", "many"), _one(results.ManyDone), body={"ids": [str(i) for i in ids], "action": action}
    )


def try_step(given: Mapping[str, object]) -> Call[results.Tried]:
    """Carry out a step of a draft with samples."""
    return Call("POST", _at("workflows", "try"), _one(results.Tried), body=given)


def samples(workflow: str, part: Part) -> Call[Page[results.Sample]]:
    """Kept events and results of a workflow."""
    return Call("GET", _at("workflows", workflow, "samples"), _page(results.Sample), part())


def keep_sample(run_id: UUID | str, name: str, step: str) -> Call[dict[str, str]]:
    """Keep a run's event, or what a step gave, as a sample."""
    return Call("POST", _at("runs", run_id, "sample"), _raw, body={"name": name, "step": step})


def refusals(workflow: str, part: Part) -> Call[Page[results.Refusal]]:
    """Deliveries that its webhooks did not take within a week."""
    return Call("GET", _at("workflows", workflow, "refusals"), _page(results.Refusal), part())


def triggers(workflow: str, part: Part) -> Call[Page[results.Trigger]]:
    """The triggers of a workflow's newest version."""
    return Call("GET", _at("workflows", workflow, "triggers"), _page(results.Trigger), part())


def keep_next(workflow: str, trigger: str, name: str, seconds: int) -> Call[results.Awaited]:
    """Keep the next event of a trigger as a sample."""
    body = {"name": name, "seconds": seconds}
    return Call("POST", _at("workflows", workflow, "triggers", trigger, "next"), _one(results.Awaited), body=body)


def keep_no_longer(workflow: str, trigger: str) -> Call[None]:
    """Await no event of a trigger any longer."""
    return Call("DELETE", _at("workflows", workflow, "triggers", trigger, "next"), _raw)


def tray(state: str | None, run_id: UUID | str | None, part: Part) -> Call[Page[results.Question]]:
    """Questions to people, the oldest first."""
    return Call("GET", _at("tray"), _page(results.Question), part(state=state, run=run_id))


def say(question_id: UUID | str, text: str) -> Call[dict[str, int]]:
    """Say something in a conversation that was handed over."""
    return Call("POST", _at("tray", question_id, "say"), _raw, body={"text": text})


def handed_over(question_id: UUID | str, part: Part) -> Call[Page[results.Message]]:
    """What was said in a conversation that was handed over."""
    return Call("GET", _at("tray", question_id, "said"), _page(results.Message), part())


def answer(question_id: UUID | str, given: Mapping[str, object]) -> Call[dict[str, int]]:
    """Answer a question, with `alike` all of its kind; how many were."""
    return Call("POST", _at("tray", question_id, "answer"), _raw, body=given)


def schedules(workflow: str | None, occurrences: int, part: Part) -> Call[Page[results.Schedule]]:
    """Schedules and polls with what comes next."""
    given = part(workflow=workflow, occurrences=occurrences)
    return Call("GET", _at("schedules"), _page(results.Schedule), given)


def pause_schedule(workflow: str, trigger: str, paused: bool) -> Call[results.Schedule]:
    """Pause a trigger in time, or let it go on."""
    return Call("POST", _at("schedules", workflow, trigger, "pause"), _one(results.Schedule), body={"paused": paused})


def fire(workflow: str, trigger: str) -> Call[results.Fired]:
    """Make an occurrence of a schedule now."""
    return Call("POST", _at("schedules", workflow, trigger, "fire"), _one(results.Fired))


def publish(event: Mapping[str, object]) -> Call[list[Mapping[str, object]]]:
    """Publish an event (CloudEvents 1.0): id, source, type, data."""
    headers = {"Content-Type": "application/cloudevents+json"}
    return Call("POST", _at("events"), _raw, body=event, headers=headers)


def restore(after: UUID | str | None) -> Call[results.Restore]:
    """Runs that are held after a restore of the database, and events that it took back."""
    return Call("GET", _at("restore"), results.Restore.model_validate, params={"after": after})


def forget_missing() -> Call[dict[str, int]]:
    """The missing events were looked after."""
    return Call("DELETE", _at("restore", "missing"), _raw)


def hold(on: bool) -> Call[dict[str, int]]:
    """Hold all runs that are not over, or let held ones go."""
    return Call("POST", _at("hold" if on else "release"), _raw)


def credits(part: Part) -> Call[Page[results.Credit]]:
    """What is left in the accounts behind credentials."""
    return Call("GET", _at("credits"), _page(results.Credit), part())


def note_credit(credential: str, money: float, adds: bool) -> Call[results.Credit]:
    """Note what was paid in."""
    return Call("POST", _at("credits", credential), _one(results.Credit), body={"money": money, "adds": adds})


def forget_credit(credential: str) -> Call[None]:
    """Keep no account any more."""
    return Call("DELETE", _at("credits", credential), _raw)


def session() -> Call[results.Caller]:
    """Who is asking."""
    return Call("GET", _at("session"), _one(results.Caller))


def change_password(old: str, new: str) -> Call[None]:
    """Change the password of who is asking."""
    return Call("POST", _at("password"), _raw, body={"old": old, "new": new})


def connectors(part: Part) -> Call[Page[results.Connector]]:
    """What is installed, and what of it cannot be used."""
    return Call("GET", _at("connectors"), _page(results.Connector), part())


def credential_kinds(part: Part) -> Call[Page[results.CredentialKind]]:
    """Kinds of credentials, with their fields."""
    return Call("GET", _at("credential-kinds"), _page(results.CredentialKind), part())


def trigger_kinds(part: Part) -> Call[Page[results.TriggerKind]]:
    """Kinds of triggers, with their fields."""
    return Call("GET", _at("trigger-kinds"), _page(results.TriggerKind), part())


def examples(part: Part) -> Call[Page[results.Example]]:
    """Workflows to begin with."""
    return Call("GET", _at("examples"), _page(results.Example), part())


def play(example: str) -> Call[Mapping[str, object]]:
    """Save an example, and start it with its own sample."""
    return Call("POST", _at("examples", example, "play"), _raw)


def why(run_id: UUID | str) -> Call[dict[str, str]]:
    """Why a run is not moving."""
    return Call("GET", _at("runs", run_id, "why"), _raw)


def every_stream() -> str:
    """Runs as they change, as server-sent events."""
    return _at("runs", "stream")


def coming(given: Mapping[str, str]) -> Call[list[datetime]]:
    """The next ten occurrences of a rule."""
    return Call("POST", _at("schedules", "preview"), _one(list[datetime]), body=given)


def usage_csv(by: list[str], since: str | None, until: str | None, workflow: str | None) -> Call[str]:
    """What models used, as CSV."""
    given = {"by": by, "since": since, "until": until, "workflow": workflow}
    return Call("GET", _at("usage.csv"), _raw, given)


def add_sample(workflow: str, name: str, value: object, step: str) -> Call[dict[str, str]]:
    """Keep a value as a sample."""
    body = {"name": name, "value": value, "step": step}
    return Call("POST", _at("workflows", workflow, "samples"), _raw, body=body)


def remove_sample(workflow: str, sample_id: UUID | str) -> Call[None]:
    """Remove a sample."""
    return Call("DELETE", _at("workflows", workflow, "samples", sample_id), _raw)


def linked_question(link: str) -> Call[results.Question]:
    """The question of a link."""
    return Call("GET", _at("answers", link), _one(results.Question))


def answer_by_link(link: str, given: Mapping[str, object]) -> Call[dict[str, int]]:
    """Answer the question of a link."""
    return Call("POST", _at("answers", link), _raw, body=given)
