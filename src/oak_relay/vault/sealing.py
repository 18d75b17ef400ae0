"""Encryption at rest: AES-256-GCM (NIST SP 800-38D) under a data key that a master key wraps."""

import base64
import contextlib
import hmac
import os
import secrets
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from oak_relay.document.errors import Fault

_NONCE = 12


class KeyProblem(Fault, RuntimeError):
    """The master key is missing, unreadable or another one than the data was sealed with."""


def master_key(file: Path, given: str | None = None) -> bytes:
    """The 32-byte master key: `given` in base64, or from the file, made with mode 0600 on first use.
    Raises `KeyProblem`."""
    if given is None:
        if not file.exists():
            file.parent.mkdir(parents=True, exist_ok=True)
            new_key(file)
        if file.stat().st_mode & 0o077:
            raise KeyProblem(f"{file} can be read by others; chmod 600 {file}")
        given = file.read_text()
    try:
        key = base64.b64decode(given.strip(), validate=True)
    except ValueError:
        key = b""
    if len(key) != 32:
        raise KeyProblem("the master key is not 32 bytes in base64")
    return key


def new_key(file: Path) -> None:
    """A new key, whole or not at all: of several processes that begin at once, the first one's counts."""
    made = file.with_name(f"{file.name}.{os.getpid()}.{secrets.token_hex(4)}")
    with os.fdopen(os.open(made, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as out:
        out.write(base64.b64encode(secrets.token_bytes(32)).decode() + "\n")
        out.flush()
        os.fsync(out.fileno())
    with contextlib.suppress(FileExistsError):
        os.link(made, file)
    made.unlink()


class Sealer:
    """Seals bytes under one data key; `context` binds a sealed text to the place it belongs to."""

    def __init__(self, data_key: bytes) -> None:
        self._key = data_key
        self._aead = AESGCM(data_key)
        self._signing = hmac.digest(data_key, b"signing", "sha256")

    def sign(self, text: str) -> str:
        """A signature of a text (HMAC-SHA256, shortened to 128 bits, base64url)."""
        return base64.urlsafe_b64encode(hmac.digest(self._signing, text.encode(), "sha256")[:16]).decode().rstrip("=")

    def seal(self, plain: bytes, context: str) -> bytes:
        """Encrypt under a context, which must be given again to open it."""
        nonce = secrets.token_bytes(_NONCE)
        return nonce + self._aead.encrypt(nonce, plain, context.encode())

    def open(self, sealed: bytes, context: str) -> bytes:
        """Raises `KeyProblem` when the text was sealed with another key or for another place."""
        try:
            return self._aead.decrypt(sealed[:_NONCE], sealed[_NONCE:], context.encode())
        except InvalidTag:
            raise KeyProblem(f"{context}: sealed with another key than the one given") from None


def wrap_new(master: bytes) -> bytes:
    """A new data key, wrapped by the master key."""
    return wrap(master, Sealer(secrets.token_bytes(32)))


def wrap(master: bytes, sealer: Sealer) -> bytes:
    """The data key of a sealer, wrapped by a master key."""
    return Sealer(master).seal(sealer._key, "data key")


def unwrap(master: bytes, wrapped: bytes) -> Sealer:
    """The sealer of a wrapped data key. Raises `KeyProblem`."""
    return Sealer(Sealer(master).open(wrapped, "data key"))
