"""The async face of the client."""

import asyncio
import ssl
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from types import TracebackType
from typing import Any, ParamSpec
from uuid import UUID

import httpx
from httpx_sse import aconnect_sse
from pydantic import PrivateAttr

from oak_relay.client import calls, patience, results
from oak_relay.client.calls import Part, T
from oak_relay.client.errors import RunFailed, WaitedTooLong
from oak_relay.client.results import Page

P = ParamSpec("P")
Listed = Callable[P, Awaitable[Page[T]]]
"""A method of a client that lists things, page by page."""


class AsyncRun(results.RunData):
    """A run that was started; `wait` and `follow` look after it."""

    _client: "AsyncClient" = PrivateAttr()

    async def refresh(self) -> "AsyncRun":
        """The run as it is now."""
        return self._client._bound((await self._client.run(self.id)).run.model_dump())

    async def wait(self, timeout: float = 300.0) -> "AsyncRun":
        """Return when the run has ended. Raises `WaitedTooLong` after so many seconds."""
        deadline, pause, now = time.monotonic() + timeout, 0.05, self
        while not (now := await now.refresh()).over:
            if time.monotonic() > deadline:
                raise WaitedTooLong(f"the run {self.id} is {now.state} after {timeout:g} s")
            await asyncio.sleep(pause)
            pause = min(pause * 1.5, 1.0)
        return now

    async def result(self, timeout: float = 300.0) -> Any:
        """What the run gives. Raises `RunFailed` when it ends otherwise than well."""
        ended = await self.wait(timeout)
        if ended.state != "succeeded":
            raise RunFailed(ended.state, ended.error)
        return (await self._client.run(self.id)).result

    def follow(self) -> AsyncIterator[results.Span | results.RunData]:
        """What happens, as it happens: spans, and the run itself whenever it changes; ends with it."""
        return self._client.follow(self.id)

    async def trace(self) -> results.Trace:
        """Everything it did so far."""
        return await self._client.trace(self.id)

    async def cancel(self) -> str:
        """Tell it to end."""
        return await self._client.cancel(self.id)


class AsyncClient:
    """Talks to a service. Without arguments: `OAK_RELAY_URL`, `OAK_RELAY_TOKEN`, or the service on this machine. `verify` is a
    context of TLS, or False to trust any certificate; without it the authorities that are known, or those in the file
    `OAK_RELAY_CA_FILE`. `proxy` is the address of one in between. `timeout`: seconds. What does no harm twice is tried again
    while the service is busy, or when the connection broke."""

    def __init__(
        self,
        url: str | None = None,
        token: str | None = None,
        timeout: float = 30.0,
        *,
        verify: ssl.SSLContext | bool = True,
        proxy: str | None = None,
    ) -> None:
        self.url, headers = calls.address(url, token)
        self._http = httpx.AsyncClient(
            base_url=self.url,
            headers=headers,
            timeout=timeout,
            trust_env=False,
            verify=calls.trusted(verify),
            proxy=proxy,
        )

    async def __aenter__(self) -> "AsyncClient":
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        """Close the connection."""
        await self._http.aclose()

    async def start(
        self, workflow: str, input: object = None, version: int | None = None, key: str | None = None
    ) -> AsyncRun:
        """Start a run. The same `key` again gives the same run."""
        return self._bound(await self._send(calls.start(workflow, {} if input is None else input, version, key)))

    async def follow(self, run_id: UUID | str) -> AsyncIterator[results.Span | results.RunData]:
        """What happens in a run, as it happens."""
        async for event, data in self._events(calls.stream(run_id), ("span", "run")):
            yield (results.Span if event == "span" else results.RunData).model_validate_json(data)

    async def _events(self, path: str, wanted: tuple[str, ...]) -> AsyncIterator[tuple[str, str]]:
        try:
            async with aconnect_sse(self._http, "GET", path, timeout=60) as source:
                if source.response.status_code >= 400:
                    await source.response.aread()
                    raise calls.refused(source.response)
                async for event in source.aiter_sse():
                    if event.event in wanted:
                        yield event.event, event.data
        except httpx.TransportError as error:
            raise calls.away(self.url, error) from None

    async def every(self, listed: "Listed[P, T]", *given: P.args, **asked: P.kwargs) -> AsyncIterator[T]:
        """Everything that a method lists, over all its pages: `client.every(client.runs, workflow="arrivals")`."""
        page = await listed(*given, **asked)
        while True:
            for one in page:
                yield one
            if page.next is None:
                return
            asked["after"] = page.next
            page = await listed(*given, **asked)

    async def workflows(
        self, text: str | None = None, limit: int | None = None, after: str | None = None
    ) -> Page[results.Workflow]:
        """Workflows by name; with `text` those that have it in name, title or labels."""
        return await self._send(calls.workflows(text, Part(limit, after)))

    async def workflow(self, name: str, version: int | None = None) -> results.WorkflowText:
        """One workflow with its text, the newest version unless one is named."""
        return await self._send(calls.workflow(name, version))

    async def save(self, text: str, expected: int | None = None, over: bool = False, remark: str = "") -> results.Saved:
        """Save a document as a new workflow; with `expected` as a new version behind the one of that number, with `over` behind
        whatever is there; `remark` says what is new in it. Raises `Conflict` when another version is the newest, and for a new one where one of its name is
        there with another text."""
        return await self._send(calls.save(text, expected, over, remark))

    async def remove_workflow(self, name: str, expected: int | None = None) -> None:
        """Remove a workflow; its runs stay. With `expected`, raises `Conflict` when another version is the newest."""
        await self._send(calls.remove_workflow(name, expected))

    async def rename(self, name: str, other: str) -> results.Renamed:
        """Give a workflow another name, by a new version; says which others still name it as it was called."""
        return await self._send(calls.rename(name, other))

    async def duplicate(self, name: str, other: str) -> results.Saved:
        """Make a workflow of another name of the newest version of one."""
        return await self._send(calls.duplicate(name, other))

    async def check(self, text: str, beside: Sequence[str] = ()) -> results.Checked:
        """Check a document against what is stored in the service; `beside` are workflows that are checked along with it."""
        return await self._send(calls.check(text, beside))

    async def compare(self, before: str, after: str) -> results.Compared:
        """What one document says otherwise than another, step by step."""
        return await self._send(calls.compare(before, after))

    async def render(
        self, text: str, step: str, input: object = None, steps: Mapping[str, object] | None = None, sample: str = ""
    ) -> results.Rendered:
        """What a step would send, without sending; with the input given, or a kept event's."""
        return await self._send(
            calls.render({"text": text, "step": step, "input": input, "steps": steps or {}, "sample": sample})
        )

    async def on(self, name: str, version: int | None = None) -> results.Workflow:
        """Switch a workflow on with a version, the newest when none is named: its triggers start it from now on."""
        return await self._send(calls.on(name, version))

    async def off(self, name: str) -> results.Workflow:
        """Switch a workflow off: its triggers start it no longer; a person or a client still may."""
        return await self._send(calls.off(name))

    async def settings(self, name: str, given: Mapping[str, object], tag: str | None = None) -> Mapping[str, object]:
        """Adjust a workflow's settings."""
        return await self._send(calls.settings(name, given, tag=tag))

    async def runs(
        self, limit: int | None = None, after: str | None = None, **filters: calls.Param
    ) -> Page[results.RunData]:
        """Runs, newest first: by `workflow`, `state`, `subject`, `text`, `error_kind`, `since`, `until`, `parent`, `origin`, `held`,
        `mended`."""
        return await self._send(calls.runs(Part(limit, after), **filters))

    async def run(self, run_id: UUID | str) -> results.RunDetail:
        """One run with its result, its event, and why it is not moving."""
        return await self._send(calls.run(run_id))

    async def trace(
        self, run_id: UUID | str, under: str | None = None, after: int = -1, limit: int = 3000
    ) -> results.Trace:
        """Everything a run did; `under` a path only what lies there, `after` the `next` of the page before."""
        return await self._send(calls.trace(run_id, under, after, limit))

    async def service_settings(self, limit: int | None = None, after: str | None = None) -> Page[results.Setting]:
        """What can be set of the service when it starts, and how it is; of secrets only whether they are."""
        return await self._send(calls.service_settings(Part(limit, after)))

    async def price(self, text: str) -> results.Price:
        """What the workflow of a document will cost, by its runs or by what was tried of it, before it is put on."""
        return await self._send(calls.price(text))

    async def overview(self, hours: int = 24) -> results.Overview:
        """How the runs of the last hours went, and what made them fail that nobody mended."""
        return await self._send(calls.overview(hours))

    async def counts(self) -> results.Counts:
        """What waits for a person: questions, and credentials that need reconnecting."""
        return await self._send(calls.counts())

    async def view(self, run_id: UUID | str, at: str = "") -> results.View:
        """A run in brief, whatever its size: every line once, and of each list and loop one item: that in which the path `at`
        lies, else one that failed, one under way, or the first."""
        return await self._send(calls.view(run_id, at))

    async def record(self, run_id: UUID | str, path: str) -> results.Record:
        """All that is recorded of one step, item, turn or call; of an agent with its turns and calls."""
        return await self._send(calls.record(run_id, path))

    async def items(
        self, run_id: UUID | str, of: str, state: str | None = None, text: str | None = None, limit: int | None = None,
        after: str | None = None,
    ) -> Page[results.Item]:  # fmt: skip
        """The items of a list, or the rounds of a loop: those that are `failed`, `succeeded` or `open` alone, or that have some
        words."""
        return await self._send(calls.items(run_id, of, Part(limit, after), state, text))

    async def again(
        self, run_id: UUID | str, from_: str = "", version: int | None = None, input: object = None,
        values: Mapping[str, object] | None = None, check: bool = False,
    ) -> results.Kept:  # fmt: skip
        """Run it again, as a new run: from `start`, from its `failure`, or from the path of a step; left out, from where it
        failed, or from the start. With the version that is on, or the newest while none is. With `check` only say what would be kept."""
        given = {"from": from_, "version": version, "input": input, "values": values or {}, "check": check}
        return await self._send(calls.again(run_id, given))

    async def many(self, ids: list[UUID | str], action: str) -> results.ManyDone:
        """Cancel many runs, or run them again (`cancel`, `again`)."""
        return await self._send(calls.many(ids, action))

    async def try_step(
        self,
        text: str,
        step: str,
        input: object = None,
        steps: Mapping[str, object] | None = None,
        onwards: bool = False,
        sample: str = "",
    ) -> results.Tried:
        """Carry out a step of a draft with the input given, or a kept event's, and what earlier steps gave."""
        given = {"text": text, "step": step, "input": input, "steps": steps or {}, "onwards": onwards, "sample": sample}
        return await self._send(calls.try_step(given))

    async def samples(self, workflow: str, limit: int | None = None, after: str | None = None) -> Page[results.Sample]:
        """Kept events and results of a workflow, the newest first."""
        return await self._send(calls.samples(workflow, Part(limit, after)))

    async def keep_sample(self, run_id: UUID | str, name: str, step: str = "") -> dict[str, str]:
        """Keep a run's event, or what a step gave, as a sample."""
        return await self._send(calls.keep_sample(run_id, name, step))

    async def session(self) -> results.Caller:
        """Who is asking."""
        return await self._send(calls.session())

    async def change_password(self, old: str, new: str) -> None:
        """Change the password of who is asking, who has signed in with it."""
        await self._send(calls.change_password(old, new))

    async def connectors(self, limit: int | None = None, after: str | None = None) -> Page[results.Connector]:
        """What is installed, and what of it cannot be used."""
        return await self._send(calls.connectors(Part(limit, after)))

    async def credential_kinds(
        self, limit: int | None = None, after: str | None = None
    ) -> Page[results.CredentialKind]:
        """Kinds of credentials, with their fields."""
        return await self._send(calls.credential_kinds(Part(limit, after)))

    async def trigger_kinds(self, limit: int | None = None, after: str | None = None) -> Page[results.TriggerKind]:
        """Kinds of triggers, with their fields."""
        return await self._send(calls.trigger_kinds(Part(limit, after)))

    async def channels(self, limit: int | None = None, after: str | None = None) -> Page[results.Channel]:
        """Channels of connectors, with what each is set up with."""
        return await self._send(calls.channels(Part(limit, after)))

    async def examples(self, limit: int | None = None, after: str | None = None) -> Page[results.Example]:
        """Workflows to begin with."""
        return await self._send(calls.examples(Part(limit, after)))

    async def play(self, example: str) -> AsyncRun:
        """Save an example as a workflow, unless it is there, and start it with its own sample."""
        return self._bound(await self._send(calls.play(example)))

    async def why(self, run_id: UUID | str) -> str:
        """Why a run is not moving; empty when it moves or has ended."""
        return (await self._send(calls.why(run_id))).get("why", "")

    async def coming(
        self, cron: str | None = None, every: str | None = None, rrule: str | None = None, zone: str = "UTC"
    ) -> list[datetime]:
        """The next ten occurrences of a rule, before it is written down."""
        given = {"cron": cron, "every": every, "rrule": rrule, "zone": zone}
        return await self._send(calls.coming({name: one for name, one in given.items() if one is not None}))

    async def follow_all(self) -> AsyncIterator[results.RunData]:
        """Runs whenever one changes, until it is left."""
        async for _, data in self._events(calls.every_stream(), ("run",)):
            yield results.RunData.model_validate_json(data)

    async def usage_csv(
        self,
        by: list[str] | None = None,
        since: str | None = None,
        until: str | None = None,
        workflow: str | None = None,
    ) -> str:
        """What models used, as CSV; days as YYYY-MM-DD."""
        return await self._send(calls.usage_csv(by or [], since, until, workflow))

    async def add_sample(self, workflow: str, name: str, value: object, step: str = "") -> dict[str, str]:
        """Keep a value as a sample: of the input, or of what a step gave."""
        return await self._send(calls.add_sample(workflow, name, value, step))

    async def remove_sample(self, workflow: str, sample_id: UUID | str) -> None:
        """Remove a sample."""
        await self._send(calls.remove_sample(workflow, sample_id))

    async def linked_question(self, link: str) -> results.Question:
        """The question of a link: of what stands behind `/answer/` in it."""
        return await self._send(calls.linked_question(link))

    async def answer_by_link(
        self, link: str, choice: str | None = None, data: object = None, text: str | None = None
    ) -> int:
        """Answer the question of a link."""
        given = {"choice": choice, "data": data, "text": text}
        return (await self._send(calls.answer_by_link(link, given)))["answered"]

    async def credits(self, limit: int | None = None, after: str | None = None) -> Page[results.Credit]:
        """What was noted of the accounts behind credentials, and what is left by what models cost since."""
        return await self._send(calls.credits(Part(limit, after)))

    async def note_credit(self, credential: str, money: float, adds: bool = True) -> results.Credit:
        """Note what was paid in, beside what is left or (without `adds`) as all there is; runs that rest for it go on."""
        return await self._send(calls.note_credit(credential, money, adds))

    async def forget_credit(self, credential: str) -> None:
        """Keep no account of a credential any more."""
        await self._send(calls.forget_credit(credential))

    async def refusals(
        self, workflow: str, limit: int | None = None, after: str | None = None
    ) -> Page[results.Refusal]:
        """Deliveries that the webhooks of a workflow did not take within a week, the newest first, and why."""
        return await self._send(calls.refusals(workflow, Part(limit, after)))

    async def triggers(
        self, workflow: str, limit: int | None = None, after: str | None = None
    ) -> Page[results.Trigger]:
        """The triggers of a workflow's newest version, with the addresses of its draft."""
        return await self._send(calls.triggers(workflow, Part(limit, after)))

    async def keep_next(self, workflow: str, trigger: str, name: str = "", seconds: int = 3600) -> results.Awaited:
        """Keep the next event of a trigger as a sample, if it comes within so many seconds."""
        return await self._send(calls.keep_next(workflow, trigger, name, seconds))

    async def keep_no_longer(self, workflow: str, trigger: str) -> None:
        """Await no event of a trigger any longer."""
        await self._send(calls.keep_no_longer(workflow, trigger))

    async def tray(
        self,
        state: str | None = "open",
        run: UUID | str | None = None,
        limit: int | None = None,
        after: str | None = None,
    ) -> Page[results.Question]:
        """Questions to people, the oldest first."""
        return await self._send(calls.tray(state, run, Part(limit, after)))

    async def answer(
        self, question_id: UUID | str, choice: str | None = None, data: object = None, text: str | None = None,
        alike: bool = False,
    ) -> int:  # fmt: skip
        """Answer a question, with `alike` all of its kind; how many were."""
        given = {"choice": choice, "data": data, "text": text, "alike": alike}
        return (await self._send(calls.answer(question_id, given)))["answered"]

    async def say(self, question_id: UUID | str, text: str) -> int:
        """Say something in a conversation that was handed over; its place there."""
        return (await self._send(calls.say(question_id, text)))["seq"]

    async def handed_over(
        self, question_id: UUID | str, limit: int | None = None, after: str | None = None
    ) -> Page[results.Message]:
        """What was said in a conversation that was handed over, in order."""
        return await self._send(calls.handed_over(question_id, Part(limit, after)))

    async def restore(self, after: UUID | str | None = None) -> results.Restore:
        """Runs that are held after a restore of the database, and events that it took back."""
        return await self._send(calls.restore(after))

    async def forget_missing(self) -> dict[str, int]:
        """The missing events were looked after."""
        return await self._send(calls.forget_missing())

    async def hold(self, on: bool = True) -> dict[str, int]:
        """Hold all runs that are not over, or let held ones go."""
        return await self._send(calls.hold(on))

    async def schedules(
        self, workflow: str | None = None, occurrences: int = 10, limit: int | None = None, after: str | None = None
    ) -> Page[results.Schedule]:
        """Schedules and polls with what comes next."""
        return await self._send(calls.schedules(workflow, occurrences, Part(limit, after)))

    async def pause_schedule(self, workflow: str, trigger: str, paused: bool = True) -> results.Schedule:
        """Pause a trigger in time, or let it go on."""
        return await self._send(calls.pause_schedule(workflow, trigger, paused))

    async def fire(self, workflow: str, trigger: str) -> results.Fired:
        """Make an occurrence of a schedule now."""
        return await self._send(calls.fire(workflow, trigger))

    async def publish(self, event: Mapping[str, object]) -> list[Mapping[str, object]]:
        """Publish an event (CloudEvents 1.0): id, source, type, data."""
        return await self._send(calls.publish(event))

    async def journal(
        self, run_id: UUID | str, limit: int | None = None, after: str | None = None
    ) -> Page[results.Entry]:
        """The journal of a run."""
        return await self._send(calls.journal(run_id, Part(limit, after)))

    async def artifact(self, artifact_id: str) -> Any:
        """The whole of a payload of which a trace tells only a preview."""
        return await self._send(calls.artifact(artifact_id))

    async def cancel(self, run_id: UUID | str) -> str:
        """Cancel a run: `cancelled`, `asked` or `over`."""
        return (await self._send(calls.cancel(run_id)))["outcome"]

    async def events(self, limit: int | None = None, after: str | None = None) -> Page[results.Received]:
        """Events, newest first."""
        return await self._send(calls.events(Part(limit, after)))

    async def credentials(self, limit: int | None = None, after: str | None = None) -> Page[results.Credential]:
        """Stored credentials, without their secrets."""
        return await self._send(calls.credentials(Part(limit, after)))

    async def put_credential(self, name: str, *, tag: str | None = None, **given: object) -> results.Credential:
        """Store a credential: `kind`, its secrets, and what the kind needs."""
        return await self._send(calls.put_credential(name, given, tag=tag))

    async def remove_credential(self, name: str, anyway: bool = False, tag: str | None = None) -> None:
        """Remove a credential; `anyway` although something uses it."""
        return await self._send(calls.remove_credential(name, anyway, tag=tag))

    async def credential_use(self, name: str) -> results.CredentialUse:
        """What uses a credential, and what would stop without it."""
        return await self._send(calls.credential_use(name))

    async def begin_consent(self, name: str) -> results.ConsentBegun:
        """Begin to connect an OAuth app: the address to open in a browser in which you are signed in here."""
        return await self._send(calls.begin_consent(name))

    async def finish_consent(self, **given: object) -> results.Consented:
        """Finish what was begun, with what the provider sent back: `state`, and `code` or `error`, and `iss`."""
        return await self._send(calls.finish_consent(given))

    async def forget_consent(self, name: str) -> None:
        """Disconnect an OAuth app; its tokens are taken back where its provider can do that."""
        return await self._send(calls.forget_consent(name))

    async def look_at_provider(self, issuer: str = "", file: str = "") -> results.Provider:
        """What is known of an OAuth provider, by its issuer or by the client file that it hands out (as text)."""
        return await self._send(calls.look_at_provider(issuer, file))

    async def broken_credentials(self, limit: int | None = None, after: str | None = None) -> Page[results.Broken]:
        """Credentials that need reconnecting, by name, with how many runs wait for each."""
        return await self._send(calls.broken_credentials(Part(limit, after)))

    async def credential_ready(self, name: str) -> results.Ready:
        """Say that its account has credit again, so that runs that wait for that go on."""
        return await self._send(calls.credential_ready(name))

    async def test_credential(self, name: str) -> results.Test:
        """Use a credential once and see both sides."""
        return await self._send(calls.test_credential(name))

    async def models(self, limit: int | None = None, after: str | None = None) -> Page[results.Alias]:
        """Model aliases."""
        return await self._send(calls.models(Part(limit, after)))

    async def put_model(
        self, name: str, *, unseen: bool = False, tag: str | None = None, **given: object
    ) -> results.Alias:
        """Store an alias: `url`, `model`, `credential`, `prices`, …; `unseen` also when its server does not offer the model."""
        return await self._send(calls.put_model(name, given, unseen, tag=tag))

    async def nearby_models(self, limit: int | None = None, after: str | None = None) -> Page[results.ModelServer]:
        """Model servers that answer on the service's machine."""
        return await self._send(calls.nearby_models(Part(limit, after)))

    async def look_at_models(self, address: str, key: str = "", credential: str | None = None) -> results.ModelServer:
        """What a model server offers; nothing is stored."""
        return await self._send(calls.look_at_models(address, key, credential))

    async def connect_model(
        self, name: str, address: str, model: str, key: str = "", credential: str | None = None,
        prices: Mapping[str, object] | None = None, max_tokens: int = 1024,
    ) -> results.Connected:  # fmt: skip
        """Store a model under a name, its key as a credential that is sent to its server alone; what the server can do is
        found out, which may take a minute."""
        given = {"name": name, "address": address, "model": model, "key": key, "credential": credential}
        return await self._send(calls.connect_model({**given, "prices": prices, "max_tokens": max_tokens}))

    async def remove_model(self, name: str, tag: str | None = None) -> None:
        """Remove an alias."""
        return await self._send(calls.remove_model(name, tag=tag))

    async def test_model(self, name: str) -> results.Test:
        """Which models the server offers, and an answer to something trivial."""
        return await self._send(calls.test_model(name))

    async def servers(self, limit: int | None = None, after: str | None = None) -> Page[results.Server]:
        """Tool servers."""
        return await self._send(calls.servers(Part(limit, after)))

    async def put_server(self, name: str, *, tag: str | None = None, **given: object) -> results.Server:
        """Store a tool server: `url` and `credential`, or `command`."""
        return await self._send(calls.put_server(name, given, tag=tag))

    async def remove_server(self, name: str, tag: str | None = None) -> None:
        """Remove a tool server."""
        return await self._send(calls.remove_server(name, tag=tag))

    async def test_server(self, name: str) -> results.ServerTest:
        """Connect to a tool server and list what it offers."""
        return await self._send(calls.test_server(name))

    async def conversations(self, limit: int | None = None, after: str | None = None) -> Page[results.Conversation]:
        """Conversations, the latest first."""
        return await self._send(calls.conversations(Part(limit, after)))

    async def conversation(self, key: str, limit: int | None = None, after: str | None = None) -> Page[results.Message]:
        """What was said in a conversation, in order."""
        return await self._send(calls.conversation(key, Part(limit, after)))

    async def judge(self, key: str, seq: int, good: bool | None) -> None:
        """Say of an answer in a conversation whether it was good; None takes that back. Raises `Conflict` where there is none."""
        return await self._send(calls.judge(key, seq, good))

    async def read_channel(
        self, channel: str, given: Mapping[str, object], body: str, type: str = "application/json"
    ) -> results.ChannelRead:
        """What a channel, set up as `given`, reads in something that a service sent; nothing begins by it. Raises `Problem`."""
        return await self._send(calls.read_channel(channel, given, body, type))

    async def send_by_channel(
        self, channel: str, given: Mapping[str, object], chat: str, text: str, buttons: Sequence[str] = ()
    ) -> results.ChannelSent:
        """Send something by a channel that is set up as `given`, really, in no conversation; how it went. Raises `Problem`."""
        return await self._send(calls.send_by_channel(channel, given, chat, text, buttons))

    async def try_phrases(
        self, choices: Mapping[str, Sequence[str]], phrases: Sequence[str], otherwise: str | None = None
    ) -> results.PhrasesFound:
        """Which of a question's choices, each with phrases that mean it, what is said in a conversation would find; no model is asked.
        Raises `Problem`."""
        return await self._send(calls.try_phrases(choices, phrases, otherwise))

    async def settle(self, key: str, seq: int, arrived: bool) -> None:
        """Say of a message whose sending was cut off whether it arrived; what did not is sent again."""
        return await self._send(calls.settle(key, seq, arrived))

    async def forget(self, key: str) -> None:
        """Forget a conversation."""
        return await self._send(calls.forget(key))

    async def messages(self, run_id: UUID | str, turn: str) -> Mapping[str, object]:
        """The messages of a turn of an agent as they were sent, with the tools that were offered."""
        return await self._send(calls.messages(run_id, turn))

    async def talk(
        self,
        text: str,
        say: str,
        messages: Sequence[Mapping[str, object]] | None = None,
        step: str = "",
        input: object = None,
        sample: str = "",
    ) -> results.Talked:
        """Say something to an agent of a draft, in a conversation that is kept nowhere."""
        given = {"text": text, "say": say, "messages": messages or [], "step": step, "input": input, "sample": sample}
        return await self._send(calls.talk(given))

    async def usage(
        self,
        by: list[str] | None = None,
        since: str | None = None,
        until: str | None = None,
        workflow: str | None = None,
        limit: int | None = None,
        after: str | None = None,
    ) -> Page[results.Usage]:
        """Calls of models, tokens and money by some of day, workflow, alias, credential, source; days as YYYY-MM-DD."""
        return await self._send(calls.usage(by or [], since, until, workflow, Part(limit, after)))

    async def budgets(self, limit: int | None = None, after: str | None = None) -> Page[results.Budget]:
        """Budgets and what of them is spent."""
        return await self._send(calls.budgets(Part(limit, after)))

    async def put_budget(
        self,
        name: str,
        money: float,
        period: str = "day",
        workflow: str = "",
        warn_at: float = 0.8,
        tag: str | None = None,
    ) -> results.Budget:
        """Set a budget of a workflow, or of all."""
        return await self._send(
            calls.put_budget(
                name, {"money": money, "period": period, "workflow": workflow, "warn_at": warn_at}, tag=tag
            )
        )

    async def remove_budget(self, name: str, tag: str | None = None) -> None:
        """Remove a budget."""
        return await self._send(calls.remove_budget(name, tag=tag))

    async def tables(self, limit: int | None = None, after: str | None = None) -> Page[results.Table]:
        """Tables."""
        return await self._send(calls.tables(Part(limit, after)))

    async def create_table(self, name: str, columns: dict[str, str]) -> results.Table:
        """A new table; columns are text, number, boolean or any."""
        return await self._send(calls.create_table(name, columns))

    async def link_table(
        self, name: str, link: Mapping[str, object], columns: Mapping[str, str] | None = None
    ) -> results.Table:
        """A table whose rows live elsewhere: `link` is of kind database, file or operations (see docs/tables.md). Its columns are
        told by the other side when left out."""
        return await self._send(calls.link_table(name, link, columns or {}))

    async def drop_table(self, name: str) -> None:
        """Remove a table with its rows."""
        return await self._send(calls.drop_table(name))

    async def files(self, limit: int | None = None, after: str | None = None) -> Page[results.File]:
        """Files that are kept, the newest first."""
        return await self._send(calls.files(Part(limit, after)))

    async def file(self, file_id: UUID | str) -> results.FileDetail:
        """What is known of a file, and the latest runs that hold it."""
        return await self._send(calls.file(file_id))

    async def add_file(self, source: Path | bytes | Iterable[bytes], name: str = "", type: str = "") -> results.File:
        """Keep a file: one of this machine, or bytes. Its media type is told by its name unless `type` says it. The same bytes
        are kept once. Raises `Problem` (413) when it is larger than files may be."""
        content = calls.pieces(source) if isinstance(source, Path) else source
        called = name or (source.name if isinstance(source, Path) else "file")
        return await self._send(calls.add_file(called, content, type))

    async def file_address(
        self, file_id: UUID | str, minutes: int = 60, name: str = "", type: str = ""
    ) -> results.FileAddress:
        """An address at which whoever has it reads a file, for so many minutes, under a name and media type."""
        return await self._send(calls.file_address(file_id, minutes, name, type))

    async def read_file(self, file_id: UUID | str) -> AsyncIterator[bytes]:
        """The bytes of a file, as they come."""
        async for piece in self._pieces(calls.file_content(file_id)):
            yield piece

    async def _pieces(self, path: str) -> AsyncIterator[bytes]:
        try:
            async with self._http.stream("GET", path) as response:
                if response.status_code >= 400:
                    await response.aread()
                    raise calls.refused(response)
                async for piece in response.aiter_bytes():
                    yield piece
        except httpx.TransportError as error:
            raise calls.away(self.url, error) from None

    async def rows(
        self,
        table: str,
        limit: int | None = None,
        after: str | None = None,
        text: str | None = None,
        newest: bool = False,
        where: Mapping[str, object] | None = None,
        order: Sequence[str] = (),
    ) -> Page[results.Row]:
        """Rows of a table, oldest first or `newest`, or in an `order` of columns (-column from the greatest down); with `text` those
        alone that have some words, with `where` those that are meant, as in `table.find`: `{"free": {"above": 3}}`."""
        return await self._send(calls.rows(table, Part(limit, after), text, newest, where, order))

    async def update_row(
        self, table: str, row_id: UUID | str, row: Mapping[str, object], tag: str | None = None
    ) -> None:
        """Change columns of a row."""
        await self._send(calls.update_row(table, row_id, row, tag=tag))

    async def remove_row(self, table: str, row_id: UUID | str, tag: str | None = None) -> None:
        """Remove a row."""
        await self._send(calls.remove_row(table, row_id, tag=tag))

    async def add_rows(self, table: str, given: list[Mapping[str, object]]) -> dict[str, int]:
        """Add rows, all or none."""
        return await self._send(calls.add_rows(table, given))

    async def import_rows(
        self, table: str, source: str | Path | bytes, columns: Mapping[str, str] | None = None, match: Sequence[str] = (),
        create: bool = False, check: bool = False, kind: str = "", sheet: str = "",
    ) -> results.Imported:  # fmt: skip
        """Take the rows of a CSV text, or of a file of this machine (CSV, JSON Lines, a workbook; `kind` csv, jsonl or xlsx where
        its name does not tell), into a table, all or none: `columns` says which heads mean which columns, `match` by which columns
        rows are updated, `create` that the table is made where there is none; with `check` only say what would be done."""
        given: dict[str, object] = {
            "columns": dict(columns or {}),
            "match": list(match),
            "create": create,
            "check": check,
        }
        given |= {"kind": kind or None, "sheet": sheet}
        if isinstance(source, str) and len(source) <= 400_000:
            return await self._send(calls.import_rows(table, {**given, "text": source}))
        if isinstance(source, Path):
            kept = await self.add_file(source)
        else:
            kept = await self.add_file(calls.as_bytes(source), f"{table}.{kind or 'csv'}")
        return await self._send(calls.import_rows(table, {**given, "file": str(kept.file)}))

    async def export_rows(self, table: str, kind: str = "csv") -> AsyncIterator[bytes]:
        """All rows of a table as a file (csv, jsonl, xlsx), as it comes; the columns in their order."""
        async for piece in self._pieces(calls.export_rows(table, kind)):
            yield piece

    async def actions(self, limit: int | None = None, after: str | None = None) -> Page[results.Action]:
        """The catalogue of actions."""
        return await self._send(calls.actions(Part(limit, after)))

    async def read_curl(self, text: str) -> results.CurlStep:
        """A curl command as a step `http.request`. What proves who asks is stored as a credential that goes to that host alone, and is
        no part of the step."""
        return await self._send(calls.read_curl(text))

    async def read_description(self, **given: object) -> results.Description:
        """What a description (OpenAPI 3.0, 3.1) offers: its `text`, the id of a `file`, or the `source` it is fetched from; with
        `operations`, what those become. Nothing is stored."""
        return await self._send(calls.read_description(given))

    async def connector(self, name: str) -> results.ConnectorDetail:
        """A connector that was read from a description, with its actions, versions and the workflows that use it."""
        return await self._send(calls.connector(name))

    async def put_connector(self, name: str, *, tag: str | None = None, **given: object) -> results.ConnectorDetail:
        """Make a connector of a description (`text`, `file` or `source`) and the keys of its `operations`; or a new version of
        one, of which without a description only what is given changes: `title`, `address`, `operations`."""
        return await self._send(calls.put_connector(name, given, tag=tag))

    async def remove_connector(self, name: str, anyway: bool = False) -> None:
        """Remove a connector; `anyway` although workflows that are on use it."""
        return await self._send(calls.remove_connector(name, anyway))

    async def compare_connector(self, name: str, **given: object) -> results.ConnectorCompared:
        """How a description differs from what is there, and which workflows that touches; without one that which it was
        fetched from is fetched again."""
        return await self._send(calls.compare_connector(name, given))

    async def try_action(self, name: str, action: str, given: Mapping[str, object]) -> results.ActionTried:
        """Carry out an action of a connector, really, and see both sides of the exchange."""
        return await self._send(calls.try_action(name, action, given))

    async def tokens(self, limit: int | None = None, after: str | None = None) -> Page[results.Token]:
        """Tokens, without their secrets."""
        return await self._send(calls.tokens(Part(limit, after)))

    async def add_token(
        self,
        name: str,
        days: int | None = None,
        rights: Sequence[str] | None = None,
        workflows: Sequence[str] | None = None,
    ) -> results.Token:
        """A new token; its secret is given this once. It may be over after some days, and limited to rights and workflows."""
        return await self._send(calls.add_token(name, days, rights, workflows))

    async def sessions(self, limit: int | None = None, after: str | None = None) -> Page[results.Session]:
        """The open sessions of who asks."""
        return await self._send(calls.sessions(Part(limit, after)))

    async def end_session(self, session_id: str) -> None:
        """End a session."""
        return await self._send(calls.end_session(session_id))

    async def remove_token(self, token_id: str) -> None:
        """Revoke a token."""
        return await self._send(calls.remove_token(token_id))

    def _bound(self, data: Mapping[str, object]) -> AsyncRun:
        run = AsyncRun.model_validate(data)
        run._client = self
        return run

    async def _send(self, call: calls.Call[T]) -> T:
        attempt, came = 0, None
        while came is None:
            attempt += 1
            try:
                came = await self._http.send(call.request(self._http))
            except httpx.TransportError as error:
                seconds = patience.pause(attempt, call.method, call.headers, error)
                if seconds is None:
                    raise calls.away(self.url, error) from None
            else:
                seconds = patience.pause(attempt, call.method, call.headers, came)
            if seconds is not None:
                came = None
                await asyncio.sleep(seconds)
        return call.result(came)
