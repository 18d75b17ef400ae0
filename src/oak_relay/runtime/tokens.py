"""Tokens of OAuth apps, refreshed ahead of their end by exactly one process.

The provider is asked without holding any lock; what it gave is stored before it is used, and tried to be stored for as long as
the database is away. A refresh whose reply never came leaves it open whether the provider has replaced its refresh token: the
old one is tried once more; when that is no good either, the credential needs reconnecting and says why.
"""

import asyncio
from collections import defaultdict
from collections.abc import Awaitable, Callable, Sequence
from datetime import UTC, datetime
from typing import TypeVar
from urllib.parse import urlsplit
from uuid import uuid4

import structlog
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.actions.exchange import Exchange, send
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document.errors import StepFailed
from oak_relay.runtime.registry import Registry
from oak_relay.store import consents
from oak_relay.store.consents import Busy, Consent, Later, Leased
from oak_relay.store.database import Database
from oak_relay.vault.oauth import LARGEST, Denied, Nonsense, OAuth, Tokens, denied_of, tokens_of

log = structlog.get_logger()
T = TypeVar("T")
_LEASES, _TIME = 5, 0.6
"""A process has for a refresh so many times as long as a worker is believed to be alive, its provider this part of it."""
_PATIENCE = 60.0
"""Seconds that a call waits for a token."""
_LOOK = 0.2
"""Seconds after which who waits for another process looks again."""
_AGAIN = 5.0
"""Seconds after which a provider that was away is asked again, twice as many with each failure."""
_MOST_CUT = 1
"""Refreshes cut off in a row after which a rotating refresh token is tried once more, and no further."""
FIX = "connect it: on the page Credentials, or oak-relay credential connect {name}"


class TokenStore:
    """One per process. `calls` makes surroundings for a request to a provider, of so many seconds; `changed` tells the other
    processes that something stored is another now; `lease` is the time, in seconds, after which a silent worker is given up."""

    def __init__(
        self,
        database: Database,
        registry: Registry,
        calls: Callable[[float], Outbound],
        changed: Callable[[], None],
        lease: float,
    ) -> None:
        self._lease = lease * _LEASES
        self._database, self._registry, self._calls, self._changed = database, registry, calls, changed
        self._fresh: dict[str, Consent] = {}
        self.good: dict[str, int] = {}
        """Versions of tokens with which a call of this process went well."""
        self._ahead: set[asyncio.Task[Consent]] = set()
        self._turns: defaultdict[str, asyncio.Lock] = defaultdict(asyncio.Lock)

    async def of(self, name: str, app: OAuth, scopes: Sequence[str] = ()) -> Consent:
        """A consent with a token that holds. Raises `StepFailed`: what waits until somebody connects the credential says so
        (`waits_for`)."""
        now = datetime.now(UTC)
        known = self._known(name)
        if known is None or known.state != "ready":
            known = await self._there(name, app)
        if app.grant == "code" and not known.scopes.issuperset(scopes):
            known = await self._there(name, app)  # it may have been connected again a moment ago
            if missing := [scope for scope in scopes if scope not in known.scopes]:
                await self.want(name, missing)
                raise _wanting(name, f"may not do this: it has not the scope {', '.join(missing)}")
        if not known.due(now):
            return known
        return await self._renewed(name, app, known, False)

    async def after_refusal(self, name: str, app: OAuth, refused: int) -> Consent | None:
        """A consent with another token than that of the version that was refused; None when there is none to be had."""
        known = self._known(name)
        if known is not None and known.version > refused:
            return known
        if known is None or (app.grant == "code" and not known.refresh):
            return None
        found = await self._renewed(name, app, known, True)
        return found if found.version > refused else None

    async def want(self, name: str, scopes: Sequence[str]) -> None:
        """Note scopes that a call was refused for."""
        await self._write(lambda c: consents.want(c, self._registry.workspace, name, scopes))

    def _known(self, name: str) -> Consent | None:
        """The newest that this process knows of."""
        stored, own = self._registry.now.consents.get(name), self._fresh.get(name)
        if own is not None and (stored is None or stored.version >= own.version):
            self._fresh.pop(name, None)
            return stored
        return own or stored

    async def _there(self, name: str, app: OAuth) -> Consent:
        """The consent as it stands in the database. Raises `StepFailed` when there is none that can be used."""
        workspace, keyring = self._registry.workspace, self._registry.vault.keyring

        async def look(connection: AsyncConnection) -> Consent | None:
            if app.grant == "client":
                await consents.for_itself(connection, workspace, name, app.scopes, keyring)
            return await consents.one(connection, workspace, name, keyring)

        found = await self._write(look)
        if found is None:
            raise _wanting(name, "is not connected yet: nobody has consented")
        if found.state != "ready":
            raise _wanting(name, f"needs reconnecting: {found.why}")
        return await self._took(name, found)

    async def _took(self, name: str, consent: Consent) -> Consent:
        """A consent as it is from now on: its tokens are known to whatever is blanked before anybody has them."""
        self._fresh[name] = consent
        self._registry.forget()
        await self._database.patiently(self._registry.fresh)
        return consent

    async def _write(self, work: Callable[[AsyncConnection], Awaitable[T]]) -> T:
        """Do something in a transaction, tried again while the database is away."""

        async def within() -> T:
            async with self._database.begin() as connection:
                return await work(connection)

        return await self._database.patiently(within)

    async def _renewed(self, name: str, app: OAuth, known: Consent, forced: bool) -> Consent:
        """The consent with a newer token than is known; the known one when that holds still and there is no newer one."""
        still = not forced and not known.over(datetime.now(UTC))
        if still:  # nobody waits for a provider as long as the token holds
            if not self._turns[name].locked():
                ahead = asyncio.ensure_future(self._in_turn(name, app, known, forced, still))
                self._ahead.add(ahead)
                ahead.add_done_callback(self._done)
            return known
        return await self._in_turn(name, app, known, forced, still)

    def _done(self, ahead: asyncio.Task[Consent]) -> None:
        self._ahead.discard(ahead)
        if not ahead.cancelled() and (failed := ahead.exception()) is not None and not isinstance(failed, StepFailed):
            log.error("token not refreshed ahead of its end", reason=f"{type(failed).__name__}: {failed}")

    async def _in_turn(self, name: str, app: OAuth, known: Consent, forced: bool, still: bool) -> Consent:
        """The same, one call of this process after the other."""
        deadline = asyncio.get_running_loop().time() + _PATIENCE
        async with self._turns[name]:
            newer = self._known(name)
            if newer is not None and newer.version > known.version and newer.state == "ready":
                return newer
            # What was asked of the provider is stored, whoever gives up waiting for it.
            return await asyncio.shield(asyncio.ensure_future(self._turn(name, app, known, forced, still, deadline)))

    async def _turn(self, name: str, app: OAuth, known: Consent, forced: bool, still: bool, deadline: float) -> Consent:
        by, workspace, keyring = uuid4(), self._registry.workspace, self._registry.vault.keyring
        good = self.good.get(name) == known.version
        while True:
            found = await self._write(
                lambda c: consents.lease(c, workspace, name, known.version, by, forced, good, keyring, self._lease)
            )
            match found:
                case Leased():
                    return await self._refresh(name, app, found, still)
                case Consent():
                    if found.state != "ready":
                        raise _wanting(name, f"needs reconnecting: {found.why}")
                    return await self._took(name, found)
                case Busy() | Later() if still:
                    return known
                case Later(seconds, why):
                    raise StepFailed(
                        "unavailable",
                        f"the credential {name} could not be refreshed: {why}",
                        fix="is its provider up?",
                        delay=seconds,
                    )
                case Busy(seconds):
                    if asyncio.get_running_loop().time() > deadline:
                        late = f"the credential {name} is being refreshed for longer than a call waits"
                        raise StepFailed("unavailable", late, fix="is its provider up?")
                    await asyncio.sleep(min(seconds, _LOOK))

    async def _refresh(self, name: str, app: OAuth, leased: Leased, still: bool) -> Consent:
        """Ask the provider, and store what it gives."""
        if app.grant == "code" and not leased.consent.refresh:
            raise await self._lost(
                name, app, leased, "its token is over, and its provider gave none to refresh it with"
            )
        if leased.cut > _MOST_CUT and leased.consent.rotates:
            why = "two refreshes in a row were cut off before their reply was stored"
            raise await self._lost(name, app, leased, why)
        try:
            tokens = await self._asked(app, leased)
        except StepFailed as failed:
            if failed.kind == "denied" and failed.reached == "yes":
                raise await self._lost(name, app, leased, _why(failed, leased)) from None
            cut = failed.reached == "maybe"
            pause = failed.delay or min(_AGAIN * 2 ** min(leased.cut, 6), 300.0)
            why = self._registry.now.blanker.text(failed.message)
            await self._write(lambda c: consents.put_off(c, self._registry.workspace, leased, pause, why, cut))
            log.warning("token not refreshed", credential=name, reason=why)
            if still:
                return leased.consent
            failed.message = f"the credential {name} could not be refreshed: {why}"
            if failed.kind in ("wrong_shape", "too_long"):
                failed.kind = "unavailable"
            failed.delay, failed.reached = pause, "no"  # what the step itself wanted was not asked for
            raise
        found = await self._write(
            lambda c: consents.refreshed(c, self._registry.workspace, leased, tokens, self._registry.vault.keyring)
        )
        self._changed()
        return await self._took(name, found)

    async def _asked(self, app: OAuth, leased: Leased) -> Tokens:
        if app.grant == "client":
            body = {"grant_type": "client_credentials"}
            if app.scopes:
                body["scope"] = " ".join(app.scopes)
        else:
            body = {"grant_type": "refresh_token", "refresh_token": leased.consent.refresh}
        return await ask(self._calls(self._lease * _TIME), app, body)

    async def _lost(self, name: str, app: OAuth, leased: Leased, why: str) -> StepFailed:
        """The credential needs reconnecting, or the app is refused for which nobody consents; what a call that needs it fails
        with."""
        workspace, version = self._registry.workspace, leased.consent.version
        why = self._registry.now.blanker.text(why)
        if app.grant == "client":
            await self._write(lambda c: consents.put_off(c, workspace, leased, _AGAIN, why, False))
            log.warning("app refused by its provider", credential=name, reason=why)
            return _wanting(name, f"is refused: {why}", "store it again as its provider knows it")
        if await self._write(lambda c: consents.needs(c, workspace, name, version, why)):
            log.warning("credential needs reconnecting", credential=name, reason=why)
            self._changed()
        newer = await self._write(lambda c: consents.one(c, workspace, name, self._registry.vault.keyring))
        if newer is not None and newer.state == "ready":  # another process was quicker
            await self._took(name, newer)
            return StepFailed("unavailable", f"the credential {name} was just refreshed", fix="try again", delay=0.1)
        self._fresh.pop(name, None)
        return _wanting(name, f"needs reconnecting: {why}")


def _wanting(name: str, why: str, fix: str = "") -> StepFailed:
    """What a call fails with that waits until somebody connects or stores a credential."""
    return StepFailed("denied", f"the credential {name} {why}", fix=fix or FIX.format(name=name), waits_for=name)


def _why(failed: StepFailed, leased: Leased) -> str:
    """Why a provider takes a refresh token no longer, as far as it can be told."""
    if leased.cut:
        return f"a refresh was cut off before its reply was stored, and the earlier token is not taken any more ({failed.message})"
    return failed.message


async def ask(at: Outbound, app: OAuth, body: dict[str, str]) -> Tokens:
    """Tokens from an app's provider (RFC 6749). Raises `StepFailed`: `denied` and reached for what it refuses; reached `maybe` when
    it may have given some that did not arrive."""
    exchange = await posted(at, app, app.token_url, body)
    media = exchange.headers.get("content-type", "")
    denied = denied_of(exchange.body, media)
    if 200 <= exchange.status < 300 and denied is None:
        try:
            return tokens_of(exchange.body, media)
        except Nonsense as error:
            raise StepFailed(
                "wrong_shape",
                f"{exchange.what} answered what is no token: {error}",
                fix="is this the address that gives tokens?",
                reached="maybe",
                detail=exchange.detail,
            ) from None
    if denied is not None and (exchange.status < 500 and exchange.status != 429):
        raise refusal(denied, exchange)
    failed = exchange.failure()
    if exchange.status < 500 and exchange.status != 429:
        raise StepFailed("denied", failed.message, fix=failed.fix, reached="yes", detail=exchange.detail)
    raise StepFailed("unavailable", failed.message, fix=failed.fix, delay=failed.delay, detail=exchange.detail)


def refusal(denied: Denied, exchange: Exchange) -> StepFailed:
    """What a provider's refusal means (RFC 6749, section 5.2)."""
    said = exchange.said(str(denied))
    words = {
        "invalid_grant": f"its provider does not take the consent any more ({said})",
        "invalid_client": f"its provider does not know the app by this id and secret ({said})",
        "unauthorized_client": f"its provider does not let this app do that ({said})",
        "invalid_scope": f"its provider does not know one of the scopes, or does not give it ({said})",
    }
    fixes = {"invalid_client": "give the app's client id and secret again", "invalid_scope": "correct its scopes"}
    message = words.get(denied.code, f"its provider refused ({said})")
    return StepFailed(
        "denied", message, fix=fixes.get(denied.code, "connect it again"), reached="yes", detail=exchange.detail
    )


async def posted(at: Outbound, app: OAuth, url: str, body: dict[str, str]) -> Exchange:
    """A request of an app to its provider. Raises `StepFailed`."""
    headers, form = app.asked(body)
    at.may_reach(url)
    request = at.http.build_request("POST", url, data=form, headers=headers, timeout=at.timeout)
    try:
        async with asyncio.timeout(at.timeout):
            return await send(at, request, LARGEST, None, show=False)
    except TimeoutError:
        host = urlsplit(url).hostname
        raise StepFailed(
            "timeout", f"{host} gave no answer within {at.timeout:g} s", fix="is it up?", reached="maybe"
        ) from None
