"""What `http.request` does beyond one exchange: pages, redirects under rules, conditional requests, what is picked of an answer."""

import json
from types import SimpleNamespace
from typing import Any

import httpx
import pytest

from oak_relay.actions.catalogue import offer
from oak_relay.actions.redirects import leads_to
from oak_relay.actions.turning import Turning
from oak_relay.document.errors import StepFailed
from tests.test_actions import request

HUTS = [f"hut {n}" for n in range(7)]


def links(asked: httpx.Request) -> httpx.Response:
    """Two huts at a time, the next ones by a `Link` header."""
    at = int(asked.url.params.get("at", 0))
    more = {"Link": f'</a?at={at + 2}>; rel="next", </a>; rel="first"'} if at + 2 < len(HUTS) else {}
    return httpx.Response(200, json=HUTS[at : at + 2], headers=more)


def marks(asked: httpx.Request) -> httpx.Response:
    at = int(asked.url.params.get("after", 0))
    return httpx.Response(200, json={"rows": HUTS[at : at + 3], "meta": {"after": at + 3 if at + 3 < len(HUTS) else None}})  # fmt: skip


def addresses(asked: httpx.Request) -> httpx.Response:
    at = int(asked.url.params.get("at", 0))
    return httpx.Response(200, json={"rows": HUTS[at : at + 4], "next": f"/a?at={at + 4}" if at + 4 < len(HUTS) else ""})  # fmt: skip


def offsets(asked: httpx.Request) -> httpx.Response:
    at = int(asked.url.params.get("skip", 0))
    return httpx.Response(200, json={"rows": HUTS[at : at + 3]})


def numbers(asked: httpx.Request) -> httpx.Response:
    at = (int(asked.url.params.get("page", 1)) - 1) * 3
    return httpx.Response(200, json={"rows": HUTS[at : at + 3]})


@pytest.mark.parametrize(
    ("server", "pages", "asked"),
    [
        (links, {}, 4),
        (marks, {"items": "$.rows", "mark": "$.meta.after", "parameter": "after"}, 3),
        (addresses, {"items": "$.rows", "mark": "$.next"}, 2),
        (offsets, {"items": "$.rows", "offset": "skip"}, 4),
        (numbers, {"items": "$.rows", "number": "page"}, 4),
    ],
)
async def test_pages_are_put_together(server, pages, asked):
    result, outside = await request(server, pages=pages, credential="office")
    assert result.output["body"] == HUTS
    assert (len(outside.sent), result.detail["pages"]) == (asked, asked)
    assert all(one.headers["authorization"] == "Bearer a-secret-token" for one in outside.sent)
    few, _ = await request(server, pages={**pages, "most": 1})
    assert few.output["body"] == HUTS[: len(few.output["body"])] and len(few.output["body"]) < len(HUTS)


@pytest.mark.parametrize(
    ("answer", "pages", "kind", "said"),
    [
        ({"rows": [1], "next": "http://elsewhere.example/a"}, {"items": "$.rows", "mark": "$.next"}, "denied", "elsewhere"),
        ({"rows": [1], "next": "https://office.example/a"}, {"items": "$.rows", "mark": "$.next"}, "denied", "elsewhere"),
        ({"rows": [1], "next": "/a?b=1"}, {"items": "$.rows", "mark": "$.next"}, "wrong_shape", "there before"),
        ({"rows": [1], "next": 7}, {"items": "$.rows", "mark": "$.next", "parameter": "n"}, "wrong_shape", "there before"),
        ({"rows": {}}, {"items": "$.rows", "offset": "n"}, "wrong_shape", "no list of items"),
        ([], {"items": "$[?", "offset": "n"}, "invalid", "no JSONPath"),
    ],
)  # fmt: skip
async def test_pages_that_lead_astray_end(answer, pages, kind, said):
    with pytest.raises(StepFailed, match=said) as failed:
        await request(httpx.Response(200, json=answer), pages=pages)
    assert failed.value.kind == kind


async def test_pages_without_end_are_bounded():
    with pytest.raises(StepFailed) as failed:
        await request(httpx.Response(200, json=list(range(60_000))), pages={"offset": "n", "most": 1000})
    assert failed.value.kind == "too_long"


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"pages": {"mark": "$.a", "offset": "n"}}, "one of mark"),
        ({"pages": {"parameter": "n"}}, "takes a mark"),
        ({"pages": {"most": 5000}}, "1000"),
        ({"pages": {}, "method": "DELETE"}, "GET or POST"),
        ({"pages": {}, "response": "file"}, "wants JSON"),
        ({"pick": "$.a", "response": "text"}, "wants JSON"),
    ],
)
async def test_what_does_not_go_together_is_said(given, said):
    with pytest.raises(StepFailed, match=said):
        offer().catalogue.get("http.request").read({"url": "http://office.example/", **given})


def leads(*ways: tuple[int, str]):
    """One redirect after the other, then an answer."""
    left = list(ways)

    def answer(asked: httpx.Request) -> httpx.Response:
        if left:
            status, where = left.pop(0)
            return httpx.Response(status, headers={"Location": where})
        return httpx.Response(200, json={"got": asked.method})

    return answer


async def test_redirects_are_followed_as_far_as_is_said():
    result, outside = await request(leads((301, "/b"), (308, "c?d=1")), redirects=2, credential="office")
    assert result.output["body"] == {"got": "GET"}
    assert [str(one.url) for one in outside.sent] == ["http://office.example/a", "http://office.example/b", "http://office.example/c?d=1"]  # fmt: skip
    assert all("authorization" in one.headers for one in outside.sent)
    assert result.detail["redirects"] == ["http://office.example/b", "http://office.example/c?d=1"]
    with pytest.raises(StepFailed):
        await request(leads((301, "/b"), (301, "/c")), redirects=1)
    with pytest.raises(StepFailed):
        await request(leads((302, "/b")))


async def test_elsewhere_nothing_goes_that_proves_who_asks():
    headers = {"Cookie": "a=b", "Authorization": "by hand", "X-Hut": "7"}
    result, outside = await request(leads((307, "http://elsewhere.example/b")), redirects=1, method="POST", json={"a": 1}, headers=headers, credential="office")  # fmt: skip
    assert result.output["body"] == {"got": "POST"}
    here, there = outside.sent
    assert here.headers["authorization"] == "Bearer a-secret-token"
    assert not {"authorization", "cookie"} & set(there.headers) and there.headers["x-hut"] == "7"
    assert json.loads(there.content) == {"a": 1}
    again, outside = await request(leads((302, "http://models.example/b")), redirects=1, credential="office")
    assert outside.sent[1].headers["authorization"] == "Bearer a-secret-token", "it may go there"
    assert again.output["status"] == 200


@pytest.mark.parametrize(("status", "method"), [(301, "GET"), (302, "GET"), (303, "GET"), (307, "POST"), (308, "POST")])
async def test_what_becomes_of_a_body(status, method):
    result, outside = await request(leads((status, "/b")), redirects=1, method="POST", json={"a": 1}, repeat="keyed")
    assert result.output["body"] == {"got": method}
    assert bool(outside.sent[1].content) == (method == "POST")
    assert ("content-type" in outside.sent[1].headers) == (method == "POST")
    assert ("idempotency-key" in outside.sent[1].headers) == (method == "POST")


@pytest.mark.parametrize(
    ("where", "kind"),
    [("http://office.example/b", "denied"), ("ftp://office.example/b", "invalid"), ("https://a:b@office.example/", "invalid"), ("https://office.example/" + "x" * 9_000, "invalid")],
)  # fmt: skip
async def test_redirects_to_where_nothing_is_sent(where, kind):
    with pytest.raises(StepFailed) as failed:
        await request(leads((302, where)), url="https://office.example/a", redirects=3)
    assert failed.value.kind == kind


def test_what_is_no_address_leads_nowhere():
    answer: Any = SimpleNamespace(status=302, headers={"location": "https://[::1"}, links={"next": {"url": "//[::1"}})
    with pytest.raises(StepFailed, match="no address"):
        leads_to(answer, "https://office.example/a")
    turning = Turning("link", lambda page: page, None)
    with pytest.raises(StepFailed, match="no address"):
        turning.address(answer, "https://office.example/a")


async def test_what_is_known_is_not_sent_again():
    known, outside = await request(httpx.Response(304, headers={"etag": '"7"'}), if_none_match='"7"', if_modified_since="Sat, 05 Apr 2031 06:07:08 GMT")  # fmt: skip
    assert (known.output["status"], known.output["body"]) == (304, None)
    assert outside.sent[0].headers["if-none-match"] == '"7"'
    assert outside.sent[0].headers["if-modified-since"].startswith("Sat, 05")
    with pytest.raises(StepFailed):
        await request(httpx.Response(304))
    with pytest.raises(StepFailed, match="412"):
        await request(httpx.Response(412), method="PUT", json={}, if_match='"7"')
    with pytest.raises(StepFailed):
        await request(httpx.Response(200), if_match='"7"\r\nX: y')


async def test_what_is_picked_of_an_answer():
    body = {"rows": [{"hut": "Upper Tarn", "free": 4}, {"hut": "Glasswater", "free": 0}], "at": "2031"}
    assert (await request(httpx.Response(200, json=body), pick="$.rows[?@.free > 0].hut"))[0].output["body"] == ["Upper Tarn"]  # fmt: skip
    assert (await request(httpx.Response(200, json=body), pick="$.at"))[0].output["body"] == "2031"
    assert (await request(httpx.Response(200, json=body), pick="$.nothing"))[0].output["body"] is None
    plain = httpx.Response(200, text=json.dumps(body), headers={"content-type": "text/plain"})
    assert (await request(plain, pick="$.at"))[0].output["body"] == "2031"
    with pytest.raises(StepFailed, match="not JSON"):
        await request(httpx.Response(200, text="plain"), pick="$.at")
    with pytest.raises(StepFailed, match="no JSONPath"):
        await request(httpx.Response(200, json=body), pick="$[")


async def test_a_list_is_sent_several_times():
    _, outside = await request(httpx.Response(200), query={"hut": ["Upper Tarn", "Glasswater"], "n": 2})
    assert outside.sent[0].url.params.multi_items() == [("hut", "Upper Tarn"), ("hut", "Glasswater"), ("n", "2")]
