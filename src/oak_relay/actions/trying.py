"""Trying a credential, harmlessly: whose it is, what it may do, and both sides of the exchange without the secret."""

from typing import Any

from oak_relay.actions.base import Tried
from oak_relay.actions.exchange import Exchange, authorised, send
from oak_relay.capabilities.protocols import Surroundings
from oak_relay.document.errors import StepFailed
from oak_relay.vault.certificate import Certificate
from oak_relay.vault.kinds import Refused, Sent
from oak_relay.vault.oauth import OAuth, account_of
from oak_relay.vault.signing import Signing

_LARGEST = 100_000
_MAY = ("scope", "scopes", "permissions", "rights", "may")
_MOST = 20


async def by_address(name: str, stored: Any, at: Surroundings) -> Tried:
    """By the address that is given to test it on."""
    if not isinstance(stored, Sent) or not stored.test_url:
        return Tried(
            False,
            "It has no address to test it on, so it was not tried.",
            "give it a test_url; its secret need not be given again",
            tried=False,
        )
    return await _asked(name, stored, stored.test_url, at)


async def by_token(name: str, stored: OAuth, at: Surroundings) -> Tried:
    """By its address, or the one that tells whose account it is; without any by having a token that holds."""
    address = stored.test_url or (stored.account_url if stored.may_reach(stored.account_url) else "")
    if address:
        return await _asked(name, stored, address, at)
    await at.authorization(name)
    return Tried(True, "It has a token that holds; there is no address to try that on.")


async def by_certificate(name: str, stored: Certificate, at: Surroundings) -> Tried:
    """What the certificate says of itself, and its address where there is one."""
    if stored.over:
        return Tried(False, stored.about, "store a newer one")
    if not stored.test_url:
        return Tried(True, stored.about)
    tried = await _asked(name, stored, stored.test_url, at)
    return Tried(
        tried.ok, f"{tried.sentence} {stored.about}", tried.fix, tried.exchange, True, tried.account, tried.may
    )


async def by_signing(name: str, stored: Signing, at: Surroundings) -> Tried:
    """By signing something and checking that."""
    try:
        return Tried(True, stored.tried())
    except Refused as refused:
        return Tried(False, str(refused), "store another secret")


async def _asked(name: str, stored: Sent, address: str, at: Surroundings) -> Tried:
    if not stored.may_reach(address):
        return Tried(
            False, "The address to test it on is at a host it may not be sent to.", "add the host to its hosts"
        )
    plain = at.http.build_request("GET", address, headers={"User-Agent": "oak-relay"}, timeout=at.timeout)
    exchange = await send(at, await authorised(at, plain, name), _LARGEST, name)
    shown = exchange.detail["exchange"]
    if not 200 <= exchange.status < 300:
        failed = exchange.failure()
        return Tried(False, failed.message, failed.fix, shown)
    account, may = _told(exchange)
    whose = f" It is that of {account}." if account else ""
    can = f" It may: {', '.join(may)}." if may else ""
    return Tried(
        True, f"It works: {exchange.what} answered {exchange.status}.{whose}{can}", "", shown, True, account, may
    )


def _told(exchange: Exchange) -> tuple[str, tuple[str, ...]]:
    """Whose a credential is and what it may do, as far as a reply tells."""
    try:
        told = exchange.read("json")
    except StepFailed:
        return "", ()
    if not isinstance(told, dict):
        return "", ()
    listed: Any = next((told[word] for word in _MAY if isinstance(told.get(word), list | str)), [])
    each = listed.split() if isinstance(listed, str) else [one for one in listed if isinstance(one, str)]
    return exchange.said(account_of(told)), tuple(exchange.said(one)[:100] for one in each[:_MOST])
