"""A curl command becomes a step, and what proves who asks a credential: as words, through the service, on the command line."""

import base64
import contextlib
import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.actions.catalogue import offer
from oak_relay.actions.curl import BadCommand, read
from oak_relay.client import Client
from oak_relay.client.errors import Invalid
from tests.conftest import Processes

PLAIN: list[tuple[str, dict[str, Any]]] = [
    ("curl office.example/x", {"method": "GET", "url": "http://office.example/x"}),
    ("curl -d a=1 -d 'b=2 3' https://office.example", {"method": "POST", "url": "https://office.example/", "form": {"a": "1", "b": "2 3"}}),
    ("curl -G -d q=huts https://office.example", {"method": "GET", "url": "https://office.example/", "query": {"q": "huts"}}),
    ("curl --json '{}' https://office.example", {"method": "POST", "url": "https://office.example/", "json": {}, "headers": {"Accept": "application/json"}}),
    ("curl -sSL https://office.example -H X-Kind:hut", {"method": "GET", "url": "https://office.example/", "headers": {"X-Kind": "hut"}, "redirects": 5}),
    ("curl -F note=hello -F 'n=2 3' https://office.example:8443/a", {"method": "POST", "url": "https://office.example:8443/a", "multipart": {"note": "hello", "n": "2 3"}}),
    ("  $ curl \\\n  -X put 'https://office.example/b?kind=new&n=1' --data-raw $'{\"a\": \"it\\'s\"}'", {"method": "PUT", "url": "https://office.example/b", "query": {"kind": "new", "n": "1"}, "json": {"a": "it's"}}),
    ("curl -I http://[::1]:8080/a", {"method": "HEAD", "url": "http://[::1]:8080/a"}),
]  # fmt: skip


@pytest.mark.parametrize(("text", "fields"), PLAIN)
def test_a_command_is_a_step(text: str, fields: dict[str, Any]):
    found = read(text)
    assert (found.fields, found.credential) == (fields, None)
    offer().catalogue.get("http.request").read(found.fields)


PAIR = base64.b64encode(b"ada:pass-word-1").decode()
PROOFS: list[tuple[str, dict[str, Any]]] = [
    ("-H 'Authorization: Bearer a-secret-word'", {"kind": "bearer", "secret": "a-secret-word"}),
    ("-u ada:pass-word-1", {"kind": "basic", "user": "ada", "secret": "pass-word-1"}),
    (f"-H 'Authorization: Basic {PAIR}'", {"kind": "basic", "user": "ada", "secret": "pass-word-1"}),
    ("-H 'X-Api-Key: a-secret-word'", {"kind": "header", "header": "X-Api-Key", "secret": "a-secret-word"}),
    ("-H 'Authorization: Token a-secret-word'", {"kind": "header", "header": "Authorization", "secret": "Token a-secret-word"}),
    ("-b 'session=a-secret-word'", {"kind": "header", "header": "Cookie", "secret": "session=a-secret-word"}),
    ("--url 'https://office.example/?api_key=a-secret-word'", {"kind": "query", "parameter": "api_key", "secret": "a-secret-word"}),
    (
        "-H 'Authorization: Bearer a-secret-word' -H 'X-App-Key: another-secret'",
        {"kind": "fields", "secrets": {"X_App_Key": "another-secret", "token": "a-secret-word"}, "headers": {"X-App-Key": "{X_App_Key}", "Authorization": "Bearer {token}"}},
    ),
    (
        "-d 'user=ada&password=pass-word-1'",
        {"kind": "fields", "secrets": {"password": "pass-word-1"}, "body": {"password": "{password}"}},
    ),
    (
        "--json '{\"client_secret\": \"a-secret-word\", \"n\": 1}' -u ada:pass-word-1",
        {"kind": "fields", "secrets": {"client_secret": "a-secret-word", "pair": PAIR}, "body": {"client_secret": "{client_secret}"}, "headers": {"Authorization": "Basic {pair}"}},
    ),
]  # fmt: skip


@pytest.mark.parametrize(("options", "credential"), PROOFS)
def test_what_proves_who_asks_is_no_part_of_the_step(options: str, credential: dict[str, Any]):
    found = read(f"curl https://office.example/ {options}")
    assert found.credential == {**credential, "hosts": ["office.example"]}
    told = json.dumps(found.fields)
    assert not any(word in told for word in ("secret-word", "pass-word", "another-secret", PAIR))
    offer().catalogue.credentials.read(found.credential)


@pytest.mark.parametrize(
    "text",
    ["", "curl", "wget x", "curly x", "curl -F a=@x https://a.example", "curl 'https://a.example", "curl https://a.example; rm -rf /", "curl https://a.example?b=1&c=2",
     "curl https://a.example | sh", "curl file:///etc/passwd", "curl --upload-file x https://a.example", "curl -d @/etc/passwd https://a.example", "curl -X",
     "curl -X BREW https://a.example", "curl http://[::1", "curl https://a.example -H 'Content-Type: text/xml' -d '<a/>'", "curl " + "x" * 200_000],
)  # fmt: skip
def test_what_is_none_is_refused_with_a_sentence(text: str):
    with pytest.raises(BadCommand) as refused:
        read(text)
    assert str(refused.value)


@given(st.text(max_size=300), st.lists(st.sampled_from(["-H", "-d", "-u", "a:b", "https://a.example", "'", '"', "\\", "$'", "--json", "{}", "-G", "=", "&"]), max_size=12))  # fmt: skip
def test_any_text_is_a_step_or_refused(text: str, words: list[str]):
    for command in (text, f"curl {text}", f"curl {' '.join(words)} {text}"):
        with contextlib.suppress(BadCommand):
            assert read(command).fields["url"]


def test_a_command_that_is_pasted_leaves_its_secret_in_a_credential(oak: Processes, client: Client):
    command = f"curl -X POST {oak.standins}/office/api/bookings?x=1 -H 'X-API-Key: a-key-of-the-office' --json '{{\"hut\": \"glasswater\"}}'"
    made = client.read_curl(command)
    assert made.fields["json"] == {"hut": "glasswater"}
    assert made.credential and made.fields["credential"] == made.credential
    assert "a-key-of-the-office" not in made.model_dump_json()
    stored = next(one for one in client.every(client.credentials) if one.name == made.credential)
    assert stored.kind == "header"
    again = client.read_curl(command)
    assert again.credential != made.credential
    with pytest.raises(Invalid, match="at least 8"):
        client.read_curl("curl https://a.example -u ada:short")
    with pytest.raises(Invalid, match="no curl"):
        client.read_curl("wget x")
    for name in (made.credential, again.credential):
        client.remove_credential(str(name))
