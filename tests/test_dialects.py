"""Model servers as they are: what one can do is found out, kept, and fallen back from."""

import pytest

from oak_relay.capabilities.alias import Can
from oak_relay.client import Client
from oak_relay.client.errors import Invalid, Problem
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.models import probing
from oak_relay.models.dialect import calls_in, dialects, told
from tests.conftest import MODEL_KEY, Processes

TOOLS = [{"name": "look_up", "description": "Looks it up.", "parameters": {"type": "object"}}]


# Alone


def test_only_what_is_not_known_is_given_up():
    assert [d.answers for d in dialects(Can(answers="schema"), True, False, False)] == ["schema"]
    assert [d.answers for d in dialects(Can(), True, False, False)][:3] == ["schema", "object", "text"]
    ways = list(dialects(Can(), True, True, True))
    assert (ways[0].answers, ways[0].tools, ways[0].stream) == ("schema", True, True)
    assert (ways[-1].answers, ways[-1].tools, ways[-1].stream) == ("text", False, False)
    assert len(ways) == 6
    assert not next(dialects(Can(stream=False), False, False, True)).stream


def test_calls_and_their_results_are_told_in_words_and_read_from_words():
    plain = next(dialects(Can(tools=False, answers="text"), True, True, False))
    call = {"id": "a", "type": "function", "function": {"name": "look_up", "arguments": '{"q": "x"}'}}
    messages = [
        {"role": "user", "content": "find x"},
        {"role": "assistant", "content": None, "tool_calls": [call]},
        {"role": "tool", "tool_call_id": "a", "content": "found"},
        {"role": "user", "content": "and now?"},
    ]
    said = told(messages, plain, {"type": "object"}, TOOLS)
    assert [m["role"] for m in said] == ["system", "user", "assistant", "user"]
    assert "look_up: Looks it up." in said[0]["content"]
    assert "JSON Schema" in said[0]["content"]
    assert values.loads(said[2]["content"]) == {"calls": [{"name": "look_up", "arguments": {"q": "x"}}]}
    assert said[3]["content"] == "look_up gave: found\n\nand now?"
    assert all(set(m) == {"role", "content"} for m in said)


@pytest.mark.parametrize(
    ("text", "count"),
    [
        ('{"calls": [{"name": "look_up", "arguments": {"q": 1}}]}', 1),
        ('Sure!\n```json\n{"calls": [{"name": "look_up", "arguments": {}}, {"name": "look_up"}]}\n```', 2),
        ('{"name": "look_up", "arguments": "{\\"q\\": 1}"}', 1),
        ('{"calls": [{"name": "other"}, 7, null]}', 0),
        ('{"calls": "look_up"}', 0),
        ("I would look_up but will not", 0),
        ("{" * 10_000, 0),
        ('{"answer": 1}', 0),
    ],
)
def test_calls_are_read_from_what_a_model_wrote(text, count):
    assert len(calls_in(text, TOOLS)) == count


@pytest.mark.parametrize(
    ("text", "data"),
    [
        ('{"a": 1}', {"a": 1}),
        ('```json\n{"a": 1}\n```', {"a": 1}),
        ('Here it is: {"a": [1, 2]} – good luck!', {"a": [1, 2]}),
        ("The list: [1, 2].", [1, 2]),
    ],
)
def test_json_is_found_among_words(text, data):
    assert values.json_in(text) == data


@pytest.mark.parametrize(
    ("address", "first"),
    [
        ("127.0.0.1:8080", "http://127.0.0.1:8080/v1"),
        ("models.example", "https://models.example/v1"),
        ("https://models.example/v1/chat/completions", "https://models.example/v1"),
        ("https://models.example/models/v1/", "https://models.example/models/v1"),
        ("http://localhost:9/api", "http://localhost:9/api/v1"),
    ],
)
def test_an_address_is_completed(address, first):
    assert probing.bases(address)[0] == first


@pytest.mark.parametrize(
    "address",
    ["", "ftp://models.example", "https://key@models.example", "http://", "://x", "http://a:99999", "http://[::1"],
)
def test_what_is_no_address_is_refused(address):
    with pytest.raises(StepFailed, match="is no address of a server"):
        probing.bases(address)


def turns_of(oak: Processes) -> int:
    return sum(one["service"] == "model" for one in oak.received()["received"])


# Connecting


def test_a_model_is_connected_by_its_address_and_key(oak: Processes, client: Client):
    with pytest.raises(Invalid) as refused:
        client.look_at_models(oak.standins)
    assert (refused.value.kind, refused.value.fix) == ("denied", "give the server's key")
    with pytest.raises(Invalid, match="401") as refused:
        client.look_at_models(oak.standins, "wrong-key-of-nobody")
    assert "wrong-key" not in str(refused.value.more)
    server = client.look_at_models(f"{oak.standins}/v1/chat/completions", MODEL_KEY)
    assert (server.url, server.keyed) == (f"{oak.standins}/v1", True)
    assert [m.id for m in server.models] == ["larch-large", "larch-small"]
    with pytest.raises(Invalid, match="nearest: larch-small"):
        client.connect_model("typo", oak.standins, "larch-smal", MODEL_KEY)
    done = client.connect_model("bright", oak.standins, "larch-small", MODEL_KEY)
    can = done.alias.config.can
    assert (can.answers, can.tools, can.stream, can.usage) == ("schema", True, True, True)
    assert done.test.reply
    assert done.credential == "bright-key"
    [key] = [c for c in client.credentials() if c.name == "bright-key"]
    assert key.config.hosts == [oak.standins]
    assert done.alias.config.prices is None
    assert not any("wrong" in m.name or m.name == "typo" for m in client.models())
    assert MODEL_KEY not in str(done)


def test_what_answers_but_is_no_model_server_says_so(oak: Processes, client: Client):
    with pytest.raises(Problem, match="does not list models"):
        client.look_at_models(f"{oak.standins}/office/a/b")
    with pytest.raises(Problem) as refused:
        client.look_at_models("http://127.0.0.1:9")
    assert refused.value.kind == "unavailable"
    with pytest.raises(Problem):
        client.look_at_models(oak.url)


MANNERS = {
    "no-schema": ("object", True, True, True),
    "no-schema+no-object": ("text", True, True, True),
    "no-tools": ("schema", False, True, True),
    "strict+no-schema+no-object+no-tools+no-stream+no-usage": ("text", False, False, False),
}
FLOW = """
oak: 1
workflow: {name}
input: {{type: object}}
steps:
  - step: kind
    do: model.label
    with: {{model: {alias}, text: "I want my money back for last night", labels: {{refund: "wants money back, a refund", question: "asks about a hut"}}}}
  - step: shaped
    do: model.answer
    with: {{model: {alias}, prompt: "Say hello", gives: {{type: object, required: [text], properties: {{text: {{type: string}}}}}}}}
  - step: bunks
    do: agent
    with:
      model: {alias}
      prompt: How many bunks has Glasswater?
      tools: [{{table: huts}}]
      limits: {{turns: 4}}
result: {{label: "${{ kind.label }}", calls: "${{ bunks.calls }}"}}
"""


@pytest.mark.parametrize("manners", MANNERS)
def test_what_a_server_cannot_do_is_found_out_at_connecting(oak: Processes, client: Client, manners: str):
    alias = manners.replace("+", "-").replace("strict-", "")[:40]
    done = client.connect_model(alias, f"{oak.standins}/{manners}", "larch-small", MODEL_KEY)
    can = done.alias.config.can
    assert (can.answers, can.tools, can.stream, can.usage) == MANNERS[manners]
    name = f"with-{alias}"
    client.save(FLOW.format(name=name, alias=alias))
    result = client.start(name, {}).result()
    assert result["label"] == "refund"
    assert result["calls"] >= 1


def test_what_a_server_cannot_do_is_found_out_at_first_use_and_kept(oak: Processes, client: Client):
    client.put_model(
        "unknown", url=f"{oak.standins}/no-schema+no-object+no-tools/v1", model="larch-small", credential="models"
    )
    client.save(FLOW.format(name="first-use", alias="unknown"))
    run = client.start("first-use", {})
    assert run.result()["label"] == "refund"
    [alias] = [a for a in client.models() if a.name == "unknown"]
    assert (alias.config.can.answers, alias.config.can.tools) == ("text", False)
    spans = {s.path: s for s in client.trace(run.id).spans}
    assert "told in words" in str(spans["kind"].model_dump())
    before = turns_of(oak)
    assert client.start("first-use", {}).result()["label"] == "refund"
    assert turns_of(oak) - before <= 5  # nothing is tried again that was found out
