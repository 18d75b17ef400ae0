"""Connectors of OpenAPI documents: large ones as services publish them, a server that is driven by its own, and strangers'."""

import asyncio
import json
import time
from collections import Counter
from typing import Any

import pytest
import yaml

from oak_relay.actions.openapi import sending
from oak_relay.actions.openapi.apart import Readers
from oak_relay.actions.openapi.calling import DescribedAction, connector
from oak_relay.actions.openapi.differences import differences
from oak_relay.actions.openapi.shapes import Described, Description, Operation, Parameter
from oak_relay.actions.openapi.text import BadDescription, data_of
from oak_relay.client import Client
from oak_relay.client.errors import Invalid, OakRelayError
from oak_relay.document import schemas
from oak_relay.document.errors import StepFailed
from tests import descriptions
from tests.conftest import Processes, free_port, until


def read(raw: bytes, keys: list[str] | None = None) -> Description:
    return asyncio.run(Readers().read(raw, keys))


def small(**operation: Any) -> bytes:
    """A document of one operation."""
    document = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "servers": [{"url": "http://bunks.example/v1"}], "paths": {"/bunks": {"get": {"responses": {}, **operation}}}}  # fmt: skip
    return json.dumps(document).encode()


LARGE = {
    "3.1 of a program": lambda: descriptions.as_json(descriptions.stock(Counter()).openapi()),
    "3.0 in YAML": lambda: yaml.safe_dump(descriptions.classic()).encode(),
    "3.1 where all refers to all": lambda: descriptions.as_json(descriptions.sprawling(400)),
}


@pytest.mark.parametrize("which", LARGE)
def test_large_documents_are_read_in_seconds_without_hand_work(which: str):
    raw = LARGE[which]()
    began = time.monotonic()
    offered = read(raw).offered
    whole = read(raw, [one.key for one in offered])
    assert time.monotonic() - began < 30  # a few seconds where nothing else is done
    assert len(whole.operations) == len(offered) >= 290 and not any(one.fault for one in offered)
    assert len({one.name for one in offered}) == len(offered)
    for one in whole.operations:
        schemas.validator(one.input)
        assert len(json.dumps(one.input, default=str)) < 200_000
        assert set(one.input["required"]) <= set(one.input["properties"])


def test_what_is_read_of_3_0_is_what_3_1_says():
    document = descriptions.classic()
    document["paths"]["/v2/bells"]["post"]["parameters"] = [
        {"name": "idempotency-key", "in": "header", "schema": {}},
        {"name": "Accept", "in": "header", "schema": {}},
        {"name": "page[size]", "in": "query", "schema": {"type": "integer"}},
    ]
    raw = descriptions.as_json(document)
    keys = ["POST /v2/bells", "GET /v2/bells", "GET /v2/benchs", "GET /v2/blankets", "GET /v2/bookings", "GET /v2/bells/{bell_id}/files/{name}"]  # fmt: skip
    told = read(raw, keys)
    assert told.addresses == ("https://north.registry.example/api",)
    by_key = {one.key: one for one in told.operations}
    made = by_key["POST /v2/bells"]
    assert (made.name, made.repeat, made.credentials) == ("bell_controller_create", "keyed", ("query", "fields"))
    assert made.sent_as == ("the parameter api_key of the address",)
    assert set(made.input["properties"]) == {"body", "page_size", "credential"}
    body = made.input["$defs"]["Bell"]
    assert body["required"] == ["name"], "what is read only is not asked for"
    assert set(body["properties"]) == {"secret", "kind", "name", "weight", "beside", "above"}
    assert body["properties"]["weight"] == {"type": ["number", "null"], "exclusiveMinimum": 0}
    assert [one.get("type") for one in body["properties"]["above"]["anyOf"]] == [None, "string", "null"]
    pages = [by_key[f"GET /v2/{kind}s"].paging for kind in ("bell", "bench", "blanket", "booking")]
    assert [page.how if page else "" for page in pages] == ["link", "link", "cursor", "link"]
    assert by_key["GET /v2/bells/{bell_id}/files/{name}"].gives == "file"
    given = schemas.validator(made.input)
    assert not given.fault({"credential": "c", "body": {"name": "B", "beside": {"name": "C", "weight": None}}})
    assert "name" in given.fault({"credential": "c", "body": {"weight": 2}})


HOSTILE = {
    "no text": b"\xff\xfe\x00",
    "no mapping": b"[1, 2]",
    "no OpenAPI": b"hello: there",
    "an older version": b"swagger: '2.0'\npaths: {}",
    "no operations": b"openapi: 3.0.0\npaths: {}",
    "a circle of aliases": b"openapi: 3.0.0\npaths: &a\n  /x: *a\n",
    "aliases of aliases": b"openapi: 3.0.0\na: &a [x, x, x, x, x, x, x, x, x]\n" + b"".join(b"%c: &%c [*%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c]\n" % (n + 1, n + 1, *[n] * 9) for n in range(97, 110)),
    "a tag of a program": b"openapi: !!python/object/apply:os.system ['true']\n",
    "nested deep": b'{"openapi": "3.0.0", "x": ' + b"[" * 5_000 + b"]" * 5_000 + b"}",
    "nested deep in YAML": b"openapi: 3.0.0\nx: " + b"[" * 3_000 + b"]" * 3_000,
    "a number without end": b'{"openapi": "3.0.0", "x": ' + b"9" * 100_000 + b"}",
    "too large": b"openapi: 3.0.0\n# " + b"x" * 13_000_000,
    "half of it": b'{"openapi": "3.0.0", "paths": {"/a": {"get": {"resp',
}  # fmt: skip


@pytest.mark.parametrize("which", HOSTILE)
def test_a_hostile_document_is_refused_in_words(which: str):
    with pytest.raises(BadDescription) as refused:
        read(HOSTILE[which])
    assert str(refused.value) and refused.value.fix


ODD: dict[str, dict[str, Any]] = {
    "refers to itself": {"parameters": [{"$ref": "#/paths/~1bunks/get/parameters/0"}]},
    "a schema that is itself": {"responses": {"200": {"content": {"application/json": {"schema": {"$ref": "#/paths/~1bunks/get/responses/200/content/application~1json/schema"}}}}}},
    "nothing is what it should be": {"parameters": 7, "requestBody": [], "responses": "no", "security": {"a": 1}, "tags": {}, "summary": [1], "operationId": 3},
    "lists where mappings are": {"parameters": [[], 1, None, {"in": "query"}, {"name": "x", "in": "nowhere"}, {"name": "y", "in": ["query"]}, {"name": "z", "in": {}}], "requestBody": {"content": {"application/json": []}}},
    "odd media types": {"requestBody": {"content": {"": {"schema": True}, "x/*": {}}}, "responses": {"2XX": {"content": {"*/*": {}}}}},
    "a schema that takes for ever": {"requestBody": {"content": {"application/json": {"schema": {"allOf": [{"anyOf": [{"anyOf": [{"type": "string"}] * 20}] * 20}] * 20}}}}},
    "numbers nobody divides by": {"requestBody": {"content": {"application/json": {"schema": {"type": "number", "multipleOf": 1e-300, "pattern": "(a+)+$("}}}}},
    "no end of parameters": {"parameters": [{"name": f"p{n}", "in": "query", "schema": {}} for n in range(190)]},
}  # fmt: skip


@pytest.mark.parametrize("which", ODD)
def test_an_odd_operation_harms_nobody(which: str):
    told = read(small(**ODD[which]), ["GET /bunks"])
    [one] = told.operations
    schemas.validator(one.input)
    assert DescribedAction("bunks", "http://bunks.example", one).shape.input == one.input


def test_one_operation_that_cannot_be_carried_out_fails_alone():
    raw = json.loads(small())
    raw["paths"]["/bunks/{id}"] = {"get": {"responses": {}}}
    told = read(json.dumps(raw).encode())
    assert {one.key: bool(one.fault) for one in told.offered} == {"GET /bunks": False, "GET /bunks/{id}": True}
    with pytest.raises(BadDescription, match="id, which is no parameter"):
        read(json.dumps(raw).encode(), ["GET /bunks/{id}"])


def test_yaml_has_the_types_of_json():
    told = data_of(b"openapi: 3.1.0\nyes: no\non: 2031-07-14\n1: 0x10\na: .5\nb: ~\nc: 1e3\nd: 007\n")
    assert told == {"openapi": "3.1.0", "yes": "no", "on": "2031-07-14", "1": "0x10", "a": 0.5, "b": None, "c": 1000.0, "d": 7}  # fmt: skip


SENT: list[tuple[dict[str, Any], object, str]] = [
    ({"where": "query", "style": "form", "explode": True}, ["a b", "c&d"], "?v=a%20b&v=c%26d"),
    ({"where": "query", "style": "form"}, ["a", "b"], "?v=a%2Cb"),
    ({"where": "query", "style": "form", "explode": True}, {"x": 1, "y": True}, "?x=1&y=true"),
    ({"where": "query", "style": "form"}, {"x": 1, "y": None}, "?v=x%2C1%2Cy%2C"),
    ({"where": "query", "style": "spaceDelimited"}, ["a", "b"], "?v=a%20b"),
    ({"where": "query", "style": "pipeDelimited"}, ["a", "b"], "?v=a%7Cb"),
    ({"where": "query", "style": "deepObject", "explode": True}, {"a": {"b": 1}, "c": [2, 3]}, "?v[a][b]=1&v[c]=2&v[c]=3"),
    ({"where": "query", "style": "json"}, {"a": [1]}, "?v=%7B%22a%22%3A%5B1%5D%7D"),
    ({"where": "query", "style": "form", "reserved": True}, "a/b?c", "?v=a/b?c"),
    ({"where": "path", "style": "simple"}, "../../x y", "/..%2F..%2Fx%20y"),
    ({"where": "path", "style": "simple"}, ["a", "b"], "/a,b"),
    ({"where": "path", "style": "simple", "explode": True}, {"a": 1}, "/a%3D1"),
    ({"where": "path", "style": "label"}, 5, "/.5"),
    ({"where": "path", "style": "matrix"}, 5, "/;v=5"),
    ({"where": "path", "style": "matrix", "explode": True}, ["a", "b"], "/;v=a;v=b"),
]  # fmt: skip


@pytest.mark.parametrize(("how", "value", "sent"), SENT)
def test_parameters_are_written_as_the_document_says(how: dict[str, Any], value: object, sent: str):
    one = Parameter(field="v", name="v", **how)
    path = "/{v}" if one.where == "path" else "/"
    operation = Operation(key="GET /", name="n", title="", method="GET", path=path, parameters=(one,))
    assert sending.address("http://b.example", operation, {"v": value}) == f"http://b.example{sent if one.where == 'path' else '/' + sent}"  # fmt: skip


@pytest.mark.parametrize("value", ["", ".", ".."])
def test_a_value_cannot_climb_out_of_its_address(value: str):
    one = Parameter(field="v", name="v", where="path", style="simple")
    operation = Operation(key="GET /", name="n", title="", method="GET", path="/a/{v}/b", parameters=(one,))
    with pytest.raises(StepFailed, match="part of the address"):
        sending.address("http://b.example", operation, {"v": value})


def test_every_operation_of_a_server_is_driven_by_its_document(oak: Processes, client: Client):
    """336 operations, each once: with bodies of several kinds, keys, files both ways, pages by mark and by number."""
    calls: Counter[str] = Counter()
    app = descriptions.stock(calls)
    with descriptions.served(app, free_port()) as address:
        text = json.dumps(app.openapi())
        told = client.read_description(text=text)
        assert (told.name, told.addresses, len(told.offered)) == ("hut_stock", [], 336)
        with pytest.raises(OakRelayError, match="does not say where the service is"):
            client.put_connector("stock", text=text, operations=[told.offered[0].key])
        client.put_credential("stock", kind="bearer", secret=descriptions.KEY, hosts=["127.0.0.1"])
        client.put_connector("stock", text=text, operations=[one.key for one in told.offered], address=address)
        file = client.add_file(iter([b"paper"]), "paper.txt", "text/plain")

        def done(name: str, **given: object) -> Any:
            tried = client.try_action("stock", f"stock.{name}", {"credential": "stock", **given})
            assert tried.ok, (name, tried.sentence)
            assert descriptions.KEY not in json.dumps(tried.exchange)
            return tried.output

        new = {"name": "Grey Marmot", "made_of": {"material": "steel", "thickness": 2.5}, "built": {"name": "roof", "parts": [{"name": "beam"}]}}  # fmt: skip
        for kind in descriptions.KINDS:
            made = done(f"make_{kind}", body=new)
            assert made["built"]["parts"] == [{"name": "beam", "parts": []}]
            assert done(f"show_{kind}", id=made["id"]) == made
            assert done(f"replace_{kind}", id=made["id"], body={**new, "size": "large"})["size"] == "large"
            assert [one["id"] for one in done(f"list_{kind}", size=["large"])["items"]] == [made["id"]]
            assert done(f"hand_in_{kind}", id=made["id"], body={"paper": {"file": str(file.file)}, "note": "n"}) == {"name": "paper.txt", "size": 5, "note": "n"}  # fmt: skip
            picture = done(f"picture_{kind}", id=made["id"])
            assert picture["type"] == "image/png" and picture["size"] == 16
            assert len(done(f"log_{kind}", id=made["id"])) == 3
            assert done(f"remove_{kind}", id=made["id"]) is None
        assert set(calls.values()) == {1} and len(calls) == 336

        for n in range(5):
            done("make_bunk", body={**new, "name": f"bunk {n}"})
        several = done("list_bunk", pages=10)
        assert [one["name"] for one in several["items"]] == [f"bunk {n}" for n in range(5)]
        assert several["next_cursor"] is None
        assert len(done("list_bunk", pages=2)["items"]) == 4
        assert done("log_bunk", id="bunk-2", pages=9) == [f"bunk-2 line {n}" for n in range(7)]
        wrong = client.try_action("stock", "stock.make_bunk", {"credential": "stock", "body": {"name": 7}})
        assert ((wrong.ok, wrong.kind) == (False, "invalid") and "made_of" in wrong.sentence + wrong.fix) or wrong.sentence  # fmt: skip
        lost = client.try_action("stock", "stock.show_bunk", {"credential": "stock", "id": "nowhere"})
        assert lost.kind == "missing" and "there is no bunk nowhere" in lost.sentence
        client.remove_connector("stock")


OFFICE = """
oak: 1
workflow: books-{n}
input: {{type: object, properties: {{guest: {{type: string}}}}, required: [guest]}}
steps:
  - step: made
    do: office_{n}.make_booking
    with: {{credential: {credential}, body: {{hut: glasswater, guest: "${{ input.guest }}", night: "2031-07-14"}}}}
  - step: seen
    do: office_{n}.show_booking
    with: {{credential: {credential}, booking: "${{ made.id }}"}}
result: "${{ seen.{field} }}"
"""


def test_actions_of_a_document_work_in_steps_and_are_checked(oak: Processes, client: Client):
    source = f"{oak.standins}/office/api/openapi.json"
    told = client.read_description(source=source, operations=["POST /bookings"])
    assert told.addresses == [f"{oak.standins}/office/api"]
    [make] = told.operations
    assert (make.action.repeat, make.action.title) == ("keyed", "Ask for bunks in a hut")
    assert "idempotency-key" not in make.action.input["properties"]  # type: ignore[operator]
    client.put_connector("office_a", source=source, operations=["POST /bookings", "GET /bookings/{booking}"])
    fine = OFFICE.format(n="a", credential="office", field="state")
    run = client.start(client.on(client.save(fine).workflow).name, {"guest": "ada@guests.example"})
    assert run.result() == "asked"

    def findings(text: str) -> str:
        return " ".join(one.message for one in client.check(text).findings)

    assert findings(fine) == ""
    assert "stat" in findings(OFFICE.format(n="a", credential="office", field="stat"))
    assert "signing" in findings(OFFICE.format(n="a", credential="booking-site", field="state"))
    assert "body" in findings(fine.replace(", body: {hut: glasswater, guest: \"${ input.guest }\", night: \"2031-07-14\"}", ""))  # fmt: skip
    using = client.connector("office_a").workflows
    assert [(one.name, one.on) for one in using] == [("books-a", True)]
    with pytest.raises(OakRelayError, match="in use"):
        client.remove_connector("office_a")
    client.remove_connector("office_a", anyway=True)
    assert "office_a.make_booking" in findings(fine)


def test_a_newer_document_is_compared_and_keeps_the_names(oak: Processes, client: Client):
    source = f"{oak.standins}/office/api/openapi.json"
    keys = ["POST /bookings", "GET /bookings/{booking}", "GET /huts"]
    made = client.put_connector("office_b", source=source, operations=keys)
    client.save(OFFICE.format(n="b", credential="office", field="state"))
    assert client.compare_connector("office_b").changed == []
    newer = read_json(oak, source)
    newer["info"]["version"] = "3.0.0"
    booking = newer["components"]["schemas"]["NewBooking"]
    booking["properties"]["member"] = {"type": "string"}
    booking["required"].append("member")
    booking["properties"]["nights"]["type"] = "string"
    newer["paths"]["/bookings/{booking}"]["get"]["operationId"] = "another_name"
    del newer["paths"]["/huts"]
    text = json.dumps(newer)
    found = client.compare_connector("office_b", text=text)
    by_name = {one.name: one for one in found.changed}
    assert found.version == "3.0.0" and by_name["list_huts"].gone and not by_name["make_booking"].gone
    assert "it takes body.member, which is needed" in by_name["make_booking"].what
    assert "it takes body.nights as string, and took integer" in by_name["make_booking"].what
    assert [one.name for one in by_name["make_booking"].workflows] == ["books-b"]
    assert by_name["list_huts"].workflows == []
    renewed = client.put_connector("office_b", text=text, operations=keys[:2], address=made.address)
    assert {one.action.name for one in renewed.operations} == {"office_b.show_booking", "office_b.make_booking"}
    assert (renewed.number, [one.version for one in renewed.versions]) == (2, ["3.0.0", "2.1.0"])
    only = client.put_connector("office_b", operations=keys[:1], title="The office")
    assert (only.title, len(only.operations), only.number) == ("The office", 1, 3)
    client.remove_connector("office_b")


def read_json(oak: Processes, address: str) -> Any:
    import httpx

    return httpx.get(address).json()


def test_what_differs_is_said_in_sentences():
    old = read(small(summary="See bunks"), ["GET /bunks"]).operations[0]
    assert differences(old, old) == []
    new = read(small(summary="See all bunks", parameters=[{"name": "size", "in": "query", "required": True, "schema": {"enum": ["s", "l"]}}]), ["GET /bunks"]).operations[0]  # fmt: skip
    assert differences(old, new) == [
        "it takes size, which is needed",
        "its fields are sent in another way",
        "it is described in other words",
    ]


def test_an_agent_is_given_an_action_with_open_fields(oak: Processes, client: Client):
    source = f"{oak.standins}/office/api/openapi.json"
    client.put_connector("office_c", source=source, operations=["GET /huts", "GET /bookings"])
    text = """
oak: 1
workflow: office-agent
input: {type: object}
steps:
  - step: asked
    do: agent
    with:
      model: quick
      limits: {turns: 4, money: 0.2}
      prompt: Which bookings are there in glasswater?
      tools:
        - {do: office_c.list_bookings, name: bookings, use_when: Asked for bookings, with: {credential: office, hut: {open: the hut}}}
result: ${ asked.text }
"""
    assert client.check(text).findings == []
    run = client.start(client.on(client.save(text).workflow).name, {})
    until(lambda: client.run(run.id).run.state in ("succeeded", "failed"))
    assert client.run(run.id).run.state == "succeeded"
    paths = [one["path"] for one in oak.received()["received"] if one["service"] == "office"]
    assert any(path.endswith("/office/api/bookings") for path in paths), "the agent has called it"


def test_many_strangers_documents_leave_the_service_answering(oak: Processes, client: Client):
    for which in ("aliases of aliases", "nested deep in YAML", "half of it"):
        with pytest.raises(Invalid):
            client.read_description(text=HOSTILE[which].decode())
    with pytest.raises(OakRelayError, match="cannot be had"):
        client.read_description(source=f"{oak.standins}/nowhere")
    for name in ("http", "Http", "9x", "a-b", "a" * 40):
        with pytest.raises(OakRelayError):
            client.put_connector(name, text=small().decode(), operations=["GET /bunks"])
    assert client.session().name


def test_described_text_is_kept_small():
    operations = read(LARGE["3.1 where all refers to all"](), [f"POST /odd path/{n}/{{a.b[c]}}" for n in range(20)]).operations  # fmt: skip
    made = connector("odd", Described(title="t", address="http://b.example", operations=operations))
    assert len({action.name for action in made.actions}) == 20
    assert all(len(json.dumps(one.model_dump(), default=str)) < 60_000 for one in operations)
    assert operations[0].scopes == ("things.write",) and operations[0].notes
