"""Every operation of the API is called once through each face of the client, against a real service."""

import asyncio
import inspect
import threading
from collections.abc import AsyncIterator, Callable, Iterator
from typing import Any

import pytest

from oak_relay.client import AsyncClient, Client, Conflict, Denied, NotFound, OakRelayError, Problem
from tests.conftest import Processes, apart, seed, seed_agents

LARDER = """
oak: 1
workflow: {name}
input: {{type: object, required: [hut], properties: {{hut: {{type: string}}}}}}
settings: {{type: object, properties: {{crates: {{type: integer, default: 3}}}}}}
subject: "${{ input.hut }}"
triggers:
  - {{trigger: order, webhook: {{path: "{name}/order", verify: {{scheme: none}}}}, input: {{hut: "${{ event.data.hut }}"}}}}
  - {{trigger: daily, schedule: {{cron: "0 4 * * *"}}, input: {{hut: all}}}}
steps:
  - {{step: kept, set: {{line: "${{ settings.crates }} crates for ${{ input.hut }}"}}}}
result: "${{ kept.line }}"
"""
ASKS = """
oak: 1
workflow: {name}
input: {{type: object}}
steps:
  - {{step: sure, ask: {{at: link, text: "Shall the larder be filled?", choices: [fill, leave]}}}}
result: "${{ sure.choice }}"
"""
SAYS = """
oak: 1
workflow: {name}
input: {{type: object}}
steps:
  - step: told
    do: agent
    with: {{model: quick, prompt: "${{ input.say }}", memory: {{conversation: "{name}"}}}}
result: "${{ told.text }}"
"""


@pytest.fixture(scope="module")
def house(new_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Processes]:
    made = Processes(tmp_path_factory.mktemp("faces"), new_database())
    made.start_all()
    made.start_worker()
    seed(made)
    seed_agents(made)
    yield made
    made.stop()


class Face:
    """A face of the client, called as the async one is; it keeps in mind what was called."""

    def __init__(self, client: "Client | AsyncClient") -> None:
        self._client, self.called = client, set[str]()

    def __getattr__(self, name: str) -> Any:
        self.called.add(name)
        method = getattr(self._client, name)

        async def call(*given: Any, **named: Any) -> Any:
            found = method(*given, **named) if isinstance(self._client, AsyncClient) else None
            if found is None:
                return await asyncio.to_thread(method, *given, **named)
            return await found

        return call

    async def through(self, name: str, *given: Any, **named: Any) -> AsyncIterator[Any]:
        """What a method that iterates tells."""
        self.called.add(name)
        method = getattr(self._client, name)
        if isinstance(self._client, AsyncClient):
            async for one in method(*given, **named):
                yield one
            return
        for one in await asyncio.to_thread(lambda: list(method(*given, **named))):
            yield one

    async def first(self, name: str) -> Any:
        """The first thing that a method without an end tells."""
        self.called.add(name)
        method = getattr(self._client, name)
        if isinstance(self._client, AsyncClient):
            return await anext(method())
        return await asyncio.to_thread(lambda: next(method()))

    def listed(self, name: str) -> Any:
        """A method, as `every` takes it."""
        return getattr(self._client, name)


async def soon(what: Callable[[], Any]) -> Any:
    for _ in range(300):
        if found := await what():
            return found
        await asyncio.sleep(0.1)
    raise AssertionError("not within 30 s")


async def workflows(oak: Face, name: str) -> None:
    text = LARDER.format(name=name)
    assert (await oak.check(text)).sound
    saved = await oak.save(text)
    with pytest.raises(Conflict):
        await oak.save(text.replace("crates for", "boxes for"))
    boxes = text.replace("crates for", "boxes for")
    await oak.save(boxes, expected=saved.version, remark="boxes")
    newest = await oak.workflow(name)
    assert (newest.version, [one.remark for one in newest.versions]) == (2, ["boxes", ""])
    [difference] = (await oak.compare(text, boxes)).differences
    assert (difference.what, difference.step) == ("changed", "kept")
    assert name in [one.name for one in await oak.workflows(name)]
    assert (await oak.render(text, "kept", {"hut": "Glasswater"})).input["line"] == "3 crates for Glasswater"
    assert (await oak.try_step(text, "kept", {"hut": "Glasswater"})).state == "succeeded"
    assert (await oak.on(name)).on_version == 2
    assert await oak.settings(name, {"crates": 5}) == {"crates": 5}
    [order, daily] = await oak.triggers(name)
    assert (order.trigger, daily.trigger) == ("order", "daily")
    assert (await oak.keep_next(name, "order", "next")).sample == "next"
    await oak.keep_no_longer(name, "order")
    await oak.add_sample(name, "made up", {"hut": "Upper Tarn"})
    [sample] = await oak.samples(name)
    await oak.remove_sample(name, sample.id)
    assert await oak.refusals(name) == []
    [schedule] = await oak.schedules(name)
    assert (await oak.pause_schedule(name, "daily")).paused and not schedule.paused
    assert (await oak.pause_schedule(name, "daily", False)).next_at
    assert (await oak.fire(name, "daily")).run
    assert len(await oak.coming(cron="0 4 * * *")) == 10
    await oak.duplicate(name, f"{name}-copy")
    await oak.rename(f"{name}-copy", f"{name}-other")
    await oak.remove_workflow(f"{name}-other")
    assert (await oak.off(name)).on_version is None
    assert (await oak.examples())[0].name


async def runs(oak: Face, name: str) -> None:
    await oak.on(name)
    run = await oak.start(name, {"hut": "Thistle Col"}, key=f"{name}-once")
    assert (await oak.start(name, {"hut": "Thistle Col"}, key=f"{name}-once")).id == run.id
    followed = [one async for one in oak.through("follow", run.id)]
    assert followed[-1].state == "succeeded"
    assert (await oak.run(run.id)).result == "5 boxes for Thistle Col"
    assert [one.id for one in await oak.runs(workflow=name, subject="Thistle Col")] == [run.id]
    assert [one.id async for one in oak.through("every", oak.listed("runs"), workflow=name, text="thistle")] == [run.id]
    assert (await oak.trace(run.id)).spans[0].path == "kept"
    assert (await oak.journal(run.id))[0].kind
    seen = await oak.view(run.id)
    assert (seen.spans[0].path, seen.loops) == ("kept", [])
    text = (await oak.workflow(name)).text
    assert (await oak.price(text)).runs > 0
    assert "OAK_RELAY_CURRENCY" in [one.name for one in await oak.service_settings(limit=200)]
    told = await oak.overview(hours=2)
    assert len(told.hours) == 2 and sum(hour.succeeded for hour in told.hours) > 0
    assert (await oak.counts()).connections == 0
    assert (await oak.record(run.id, "kept")).span.state == "succeeded"
    with pytest.raises(NotFound):
        await oak.items(run.id, "kept", state="failed", limit=5)
    assert await oak.why(run.id) == ""
    assert (await oak.again(run.id, "start")).run
    assert (await oak.many([run.id], "again")).done == 1
    assert await oak.cancel(run.id) == "over"
    await oak.keep_sample(run.id, "kept")
    assert (await oak.events())[0].workflow
    [published] = await oak.publish({"specversion": "1.0", "id": name, "type": "larder", "source": "/tests"})
    assert not published["duplicate"]
    with pytest.raises(NotFound):
        await oak.artifact("0" * 32)
    again = threading.Event()

    def begin() -> None:
        while not again.wait(0.1):
            starts.start(name, {"hut": "x"})

    starts = Client(oak._client.url, token_of(oak))
    thread = threading.Thread(target=begin)
    thread.start()
    try:
        assert (await asyncio.wait_for(oak.first("follow_all"), 30)).id
    finally:
        again.set()
        thread.join()


def token_of(oak: Face) -> str:
    return str(oak._client._http.headers["authorization"]).removeprefix("Bearer ")


async def people(oak: Face, name: str) -> None:
    await oak.save(ASKS.format(name=f"{name}-asks"))
    for answer in ("answer", "answer_by_link"):
        run = await oak.start(f"{name}-asks", {})
        [question] = await soon(lambda run=run: oak.tray(run=run.id))
        assert (await oak.linked_question(question.link.rpartition("/")[2])).text == question.text
        with pytest.raises(NotFound):
            await oak.handed_over(question.id)
        with pytest.raises(Conflict):
            await oak.say(question.id, "Good day")
        if answer == "answer":
            assert await oak.answer(question.id, "fill") == 1
        else:
            assert await oak.answer_by_link(question.link.rpartition("/")[2], "leave") == 1
    made = await oak.add_token(name, days=1)
    assert made.secret and made.id in [one.id for one in await oak.tokens()]
    await oak.remove_token(str(made.id))
    assert (await oak.session()).by == "token"
    assert await oak.sessions() == []
    with pytest.raises(NotFound):
        await oak.end_session("00000000-0000-7000-8000-000000000000")
    with pytest.raises(Denied):
        await oak.change_password("a password", "another password")
    held = await oak.hold()
    assert "held" in held
    assert (await oak.restore()).missing == []
    assert (await oak.forget_missing())["forgotten"] == 0
    assert "released" in await oak.hold(False)


async def stored(oak: Face, name: str, standins: str) -> None:
    await oak.put_credential(
        name, kind="bearer", secret="a-long-enough-word", hosts=["127.0.0.1"], test_url=f"{standins}/office/me"
    )
    assert name in [one.name for one in await oak.credentials()]
    assert not (await oak.test_credential(name)).ok
    await oak.credential_ready(name)
    assert not (await oak.credential_use(name)).would_stop
    app = f"{name}-app"
    found = await oak.look_at_provider(issuer=f"{standins}/office")
    await oak.put_credential(
        app, kind="oauth", client_id="c", secret="long-enough-1", hosts=["127.0.0.1"], scopes=["huts.read"],
        authorize_url=found.authorize_url, token_url=found.token_url,
    )  # fmt: skip
    assert (await oak.begin_consent(app)).scopes == ["huts.read"]
    with pytest.raises(OakRelayError):
        await oak.finish_consent(state="nobody's")
    with pytest.raises(OakRelayError):
        await oak.forget_consent(app)
    assert app not in [one.credential for one in await oak.broken_credentials()]
    await oak.remove_credential(app)
    assert (await oak.note_credit(name, 20)).credential == name
    assert name in [one.credential for one in await oak.credits()]
    await oak.forget_credit(name)
    await oak.put_model(name, url=f"{standins}/v1", model="larch-small", credential="models")
    assert name in [one.name for one in await oak.models()]
    assert (await oak.test_model(name)).ok
    assert (await oak.look_at_models(f"{standins}/v1", credential="models")).models
    assert (
        await oak.connect_model(f"{name}-c", f"{standins}/v1", "larch-small", credential="models")
    ).alias.name == f"{name}-c"
    assert isinstance(await oak.nearby_models(), list)
    await oak.remove_model(name)
    await oak.put_server(name, url=f"{standins}/weather")
    assert name in [one.name for one in await oak.servers()]
    assert (await oak.test_server(name)).ok
    await oak.remove_server(name)
    assert (await oak.read_curl("curl https://office.example/huts?limit=2")).credential is None
    source = f"{standins}/office/api/openapi.json"
    assert (await oak.read_description(source=source)).offered
    own = name.replace("-", "_")
    assert (await oak.put_connector(own, source=source, operations=["GET /huts"])).number == 1
    assert (await oak.connector(own)).name == own and not (await oak.compare_connector(own)).changed
    assert (await oak.try_action(own, f"{own}.list_huts", {})).kind == "invalid"
    await oak.remove_connector(own)
    await oak.remove_credential(name)
    assert (await oak.put_budget(name, 3)).name == name
    assert name in [one.name for one in await oak.budgets()]
    await oak.remove_budget(name)
    assert (await oak.actions())[0].name and (await oak.connectors())[0].name
    assert (await oak.credential_kinds())[0].name and (await oak.trigger_kinds())[0].name


async def files(oak: Face, name: str) -> None:
    kept = await oak.add_file([b"a picture of ", name.encode()], f"{name}.txt")
    assert kept.type == "text/plain"
    assert kept.file in [one.file for one in await oak.files()]
    assert (await oak.file(kept.file)).size == kept.size
    made = await oak.file_address(kept.file, 5)
    assert str(kept.file) in made.url and made.until > kept.created_at
    assert b"".join([piece async for piece in oak.through("read_file", kept.file)]) == f"a picture of {name}".encode()


async def tables(oak: Face, name: str) -> None:
    await oak.create_table(name, {"hut": "text", "crates": "number"})
    assert (await oak.add_rows(name, [{"hut": "Glasswater", "crates": 2}]))["added"] == 1
    assert (await oak.import_rows(name, "hut,crates\nUpper Tarn,4\n")).added == 1
    [first, second] = await oak.rows(name)
    await oak.update_row(name, first.id, {"crates": 3}, tag=first.tag)
    await oak.remove_row(name, second.id)
    out = b"".join([piece async for piece in oak.through("export_rows", name)])
    assert out.splitlines() == [b"hut,crates", b"Glasswater,3"]
    assert name in [one.name for one in await oak.tables()]
    await oak.drop_table(name)
    with pytest.raises(Problem, match="cannot be read"):
        await oak.link_table(name, {"kind": "file", "url": "http://127.0.0.1:9/huts.csv"})


async def talking(oak: Face, name: str) -> None:
    text = SAYS.format(name=f"{name}-says")
    await oak.save(text)
    run = await oak.start(f"{name}-says", {"say": "Is the path open?"})
    await soon(lambda: ended(oak, run.id))
    assert (await oak.messages(run.id, "told/turn[0]"))["messages"]
    assert f"{name}-says" in [one.key for one in await oak.conversations()]
    assert (await oak.conversation(f"{name}-says"))[0].role
    with pytest.raises(Conflict):
        await oak.settle(f"{name}-says", 0, True)
    with pytest.raises(Conflict):
        await oak.judge(f"{name}-says", 0, True)
    by = {"reads": {"chat": "$.room", "text": "$.words"}, "send": {"url": "http://127.0.0.1:9/", "json": {}}}
    assert {one.name for one in await oak.channels()} >= {"messenger", "by_example"}
    read = await oak.read_channel("by_example", by, '{"room": "larder", "words": "Two crates came."}')
    assert [(one.chat, one.text) for one in read.messages] == [("larder", "Two crates came.")]
    assert not (await oak.send_by_channel("by_example", by, "larder", "Thank you.")).ok
    menu = {"book": ["is there a free bunk"], "path": ["is the path open"]}
    found = (await oak.try_phrases(menu, ["Is the path open?", "2", "asdf"], otherwise="book")).found
    assert [(one.choice, one.sure) for one in found] == [("path", True), ("path", True), ("book", True)]
    await oak.forget(f"{name}-says")
    assert (await oak.talk(text, "Is it far?", input={"say": "Is it far?"})).text
    assert (await oak.usage(["workflow"], workflow=f"{name}-says"))[0].calls
    assert (await oak.usage_csv(["day"])).startswith("day,")
    play = next(one for one in await oak.examples() if not one.needs_model)
    try:
        assert (await oak.play(play.name)).id
    except Problem:
        raise AssertionError("an example is played") from None


async def ended(oak: Face, run_id: Any) -> bool:
    return bool((await oak.run(run_id)).run.over)


@pytest.mark.parametrize("kind", ["blocking", "awaiting"])
def test_every_operation_is_called_once(house: Processes, kind: str):
    def client() -> "Client | AsyncClient":
        return (Client if kind == "blocking" else AsyncClient)(house.url, house.token)

    async def all_of_it() -> None:
        made = client()
        oak, name = Face(made), f"larder-{kind}"
        await workflows(oak, name)
        await runs(oak, name)
        await people(oak, name)
        await stored(oak, name, house.standins)
        await tables(oak, name)
        await files(oak, name)
        await talking(oak, name)
        methods = {one for one, _ in inspect.getmembers(type(made), inspect.isfunction) if not one.startswith("_")}
        assert methods - oak.called == {"close"}
        await (made.close() if isinstance(made, AsyncClient) else asyncio.to_thread(made.close))

    apart(all_of_it)
