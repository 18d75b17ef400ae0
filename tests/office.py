"""The office as an OAuth provider, and somebody who consents there."""

import json
from urllib.parse import parse_qs, urlsplit

import httpx

from oak_relay.client import Client
from oak_relay.client.results import Consented
from tests.conftest import OFFICE_SECRET, Processes, until

APP = "larkspur-relay"


def app(oak: Processes, **more: object) -> dict[str, object]:
    """The office's app, as a credential."""
    base = f"{oak.standins}/office/oauth"
    return {
        "kind": "oauth", "issuer": f"{oak.standins}/office", "authorize_url": f"{base}/consent", "token_url": f"{base}/token",
        "revoke_url": f"{base}/revoke", "account_url": f"{base}/account", "client_id": APP, "secret": OFFICE_SECRET,
        "named_issuer": True, "hosts": [f"127.0.0.1:{oak.outside}"], "test_url": f"{oak.standins}/office/me",
        "scopes": ["bookings.read", "replies.write"], **more,
    }  # fmt: skip


def said(url: str, say: str = "yes") -> dict[str, str]:
    """What the office sends back when somebody says yes, or no, on its page."""
    form = {name: found[0] for name, found in parse_qs(urlsplit(url).query).items()}
    page = httpx.get(url)
    assert page.status_code == 200, page.text
    answer = httpx.post(url.partition("?")[0], data={**form, "say": say})
    assert answer.status_code == 303, answer.text
    return {name: found[0] for name, found in parse_qs(urlsplit(answer.headers["location"]).query).items()}


def connect(client: Client, name: str) -> Consented:
    """Consent, as somebody in a browser does."""
    return client.finish_consent(**said(client.begin_consent(name).url))


def behave(oak: Processes, **how: object) -> dict[str, int]:
    """Make the office behave otherwise; what it did so far."""
    return json.loads(httpx.post(f"{oak.standins}/office/oauth/behave", json=how).raise_for_status().text)


def settled(oak: Processes) -> None:
    """Wait until all that was published is handed on: what a credential was told to be ready for before wakes nobody later."""
    until(lambda: not oak.sql("SELECT count(*) FROM published WHERE handled_at IS NULL"))
