"""Mailboxes: signing in to the servers that take letters (SMTP) and that are read from (IMAP)."""

import asyncio
import contextlib
import imaplib
import smtplib
import socket
import ssl
from collections.abc import Callable
from typing import Any

from oak_relay.actions.base import Connector, Tried
from oak_relay.capabilities.protocols import Surroundings
from oak_relay.document.errors import StepFailed
from oak_relay.vault.mail import Mail, Security

_TIME = 10.0
"""Seconds that a server has for each line."""
Login = tuple[str, str, bool]
"""User, password or token, and whether it is a token."""


class _Smtp(smtplib.SMTP):
    """SMTP over a socket that is connected already."""

    def __init__(self, made: socket.socket, host: str, port: int) -> None:
        self._made = made
        super().__init__(timeout=_TIME)
        self._host = host
        code, said = self.connect(host, port)
        if code != 220:
            raise smtplib.SMTPConnectError(code, said)

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        return self._made


class _Imap(imaplib.IMAP4):
    """IMAP over a socket that is connected already."""

    def __init__(self, made: socket.socket, host: str, port: int) -> None:
        self._made = made
        super().__init__(host, port, timeout=_TIME)

    def _create_socket(self, timeout: float | None) -> socket.socket:
        return self._made


def _smtp(made: socket.socket, host: str, port: int, security: Security, login: Login) -> str:
    user, secret, token = login
    server = _Smtp(made, host, port)
    server.ehlo()
    if security == "starttls":
        server.starttls(context=ssl.create_default_context())
        server.ehlo()
    if not token:
        server.login(user, secret)
    elif "OAUTHBEARER" in server.esmtp_features.get("auth", "").split():
        server.auth("OAUTHBEARER", lambda _=None: _bearer(user, secret))
    else:
        server.auth("XOAUTH2", lambda _=None: _bearer_as_earlier(user, secret))
    size = server.esmtp_features.get("size", "")
    server.quit()
    return f"letters of {int(size):,} bytes are taken" if size.isdigit() else "letters are taken"


def _imap(made: socket.socket, host: str, port: int, security: Security, login: Login) -> str:
    user, secret, token = login
    server = _Imap(made, host, port)
    if security == "starttls":
        server.starttls(ssl.create_default_context())
    if not token:
        server.login(user, secret)
    elif "AUTH=OAUTHBEARER" in server.capabilities:
        server.authenticate("OAUTHBEARER", lambda _: _bearer(user, secret).encode())
    else:
        server.authenticate("XOAUTH2", lambda _: _bearer_as_earlier(user, secret).encode())
    _, found = server.select("INBOX", readonly=True)
    count = (found[0] or b"0").decode("ascii", "replace") if found else "0"
    with contextlib.suppress(imaplib.IMAP4.error, OSError):
        server.logout()
    return f"its inbox holds {count} letters"


def _bearer(user: str, token: str) -> str:
    """RFC 7628."""
    return f"n,a={user.replace('=', '=3D').replace(',', '=2C')},\x01auth=Bearer {token}\x01\x01"


def _bearer_as_earlier(user: str, token: str) -> str:
    """The form that was in use before RFC 7628."""
    return f"user={user}\x01auth=Bearer {token}\x01\x01"


async def signed_in(stored: Mail, protocol: str, login: Login, at: Surroundings) -> str:
    """Sign in to a server of a mailbox; what it told, in a few words. Raises `StepFailed`."""
    host, port, security = stored.server(protocol)
    speak: Callable[[socket.socket, str, int, Security, Login], str] = _smtp if protocol == "smtp" else _imap
    made = await at.dial(host, port)
    made.settimeout(_TIME)

    def within() -> str:
        with made:
            if security != "tls":
                return speak(made, host, port, security, login)
            with ssl.create_default_context().wrap_socket(made, server_hostname=host) as sealed:
                return speak(sealed, host, port, security, login)

    working = asyncio.get_running_loop().run_in_executor(None, within)
    where = f"{protocol.upper()} at {host}:{port}"
    try:
        async with asyncio.timeout(at.timeout):
            return await asyncio.shield(working)
    except TimeoutError:
        with contextlib.suppress(OSError):  # what waits for the other side gives up
            made.shutdown(socket.SHUT_RDWR)
        raise StepFailed("timeout", f"{where} gave no answer in time", fix="is it the right server and port?") from None
    except (smtplib.SMTPAuthenticationError, imaplib.IMAP4.error) as error:
        said = at.said(_words(error), 300)
        raise StepFailed(
            "denied", f"{where} does not let {stored.login} in: {said}", fix="are user and password right?"
        ) from None
    except ssl.SSLError as error:
        fix = "is it tls, or starttls on another port? is the server's certificate one that is trusted?"
        raise StepFailed("unavailable", f"{where}: no secure connection ({error.reason or error})", fix=fix) from None
    except (smtplib.SMTPException, OSError, ValueError) as error:
        said = at.said(_words(error), 300)
        fix = "is it the right server and port, and the right security?"
        raise StepFailed("unavailable", f"{where}: {said}", fix=fix) from None


def _words(error: Exception) -> str:
    said = error.args[-1] if error.args else ""
    return said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said) or type(error).__name__


async def tried(name: str, stored: Mail, at: Surroundings) -> Tried:
    """Sign in to each server of a mailbox."""
    if stored.oauth:
        app = await at.credential(stored.oauth)
        for host, port, _ in map(stored.server, ("smtp", "imap")):
            if host and not app.may_reach(f"https://{host}:{port}"):
                raise StepFailed(
                    "denied", f"the credential {stored.oauth} may not be sent to {host}", fix="add it to its hosts"
                )
        token = (await at.authorization(stored.oauth)).headers.get("Authorization", "").removeprefix("Bearer ")
        login: Login = (stored.login, token, True)
    else:
        secret: Any = stored.password
        login = (stored.login, secret.get_secret_value(), False)
    told = [
        f"{protocol.upper()}: {await signed_in(stored, protocol, login, at)}"
        for protocol in ("smtp", "imap")
        if stored.server(protocol)[0]
    ]
    return Tried(True, f"It works: {stored.login} is let in. {'; '.join(told)}.", account=stored.address)


CONNECTOR = Connector("Mail", credentials=[Mail], trying={"mail": tried})
