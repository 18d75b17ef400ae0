"""Signing secrets: of webhooks that come in, and of requests that are sent (Standard Webhooks, HMAC)."""

import base64
import hmac
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import ClassVar, Literal

from standardwebhooks import Webhook

from oak_relay.document.numbers import whole
from oak_relay.vault.kinds import Authorization, Refused, SecretSent, Signature

_TOLERANCE = 300
"""Seconds that a webhook's time stamp may be off."""


class Signing(SecretSent):
    """Signing secret (Standard Webhooks).

    It is shared with who sends webhooks here, or receives requests: whsec_ and base64, or any text. It is never sent itself:
    requests carry a signature of their body."""

    must_be_sent: ClassVar[bool] = False
    kind: Literal["signing"] = "signing"

    def authorization(self) -> Authorization:
        return Authorization(sign=self._signature)

    def _signature(self, id: str) -> Signature:
        """What signs a body that is sent under an id, now."""
        stamp = str(int(time.time()))
        made = hmac.new(self._key(), f"{id}.{stamp}.".encode("utf-8", "replace"), "sha256")

        def headers(digest: bytes) -> Mapping[str, str]:
            signed = "v1," + base64.b64encode(digest).decode()
            return {"webhook-id": id, "webhook-timestamp": stamp, "webhook-signature": signed}

        return Signature(made, headers)

    def proof(self, headers: Mapping[str, str]) -> "Proof":
        """What checks signature and time stamp (Standard Webhooks) of a body, piece by piece. Raises `Refused`."""
        given = {name.lower(): value for name, value in headers.items()}
        id, stamp, signatures = (given.get(f"webhook-{part}", "") for part in ("id", "timestamp", "signature"))
        if not id or not stamp or not signatures:
            raise Refused("webhook-id, webhook-timestamp or webhook-signature is missing")
        seconds = whole(stamp)
        if seconds is None:
            raise Refused("webhook-timestamp is no number of seconds")
        age = time.time() - seconds
        if abs(age) > _TOLERANCE:
            raise Refused(
                f"webhook-timestamp {'is more than' if age > 0 else 'lies more than'} five minutes {'old' if age > 0 else 'ahead'}"
            )
        made = hmac.new(self._key(), f"{id}.{stamp}.".encode("utf-8", "replace"), "sha256")

        def fits(digest: bytes) -> bool:
            expected = b"v1," + base64.b64encode(digest)
            ones = (one.encode("utf-8", "replace") for one in signatures.split(" ")[:20])
            return any([hmac.compare_digest(one, expected) for one in ones])

        return Proof(made, b"", fits, "the signature does not match")

    def plain_proof(self, before: bytes, after: bytes, given: str, prefix: str, encoding: str, digest: str) -> "Proof":
        """What checks a plain HMAC of a body with something before and after it, piece by piece."""

        def fits(made: bytes) -> bool:
            expected = prefix + (made.hex() if encoding == "hex" else base64.b64encode(made).decode())
            return hmac.compare_digest(given.strip().encode("utf-8", "replace"), expected.encode())

        made = hmac.new(self.reveal().encode(), before, digest)
        return Proof(made, after, fits, "the signature does not match the body")

    def tried(self) -> str:
        """Sign a message and check it, as sender and receiver would; how it went, in a sentence. Raises `Refused`."""
        now, body = datetime.now(UTC), '{"test": true}'
        signature = Webhook(base64.b64encode(self._key()).decode()).sign("test", now, body)
        stamp = str(int(now.timestamp()))
        proof = self.proof({"webhook-id": "test", "webhook-timestamp": stamp, "webhook-signature": signature})
        proof.take(body.encode())
        proof.proved()
        return "A message signed with it here is accepted; whether the other side has the same shows the first that is sent."

    def _key(self) -> bytes:
        """The bytes that are signed with: what stands in base64 behind `whsec_`, or the text itself."""
        text = self.reveal().removeprefix("whsec_")
        try:
            decoded = base64.b64decode(text, validate=True) if text != self.reveal() else b""
        except ValueError:
            decoded = b""
        return decoded or self.reveal().encode()


class Proof:
    """A signature of a body that comes in pieces: `take` each of them, then see whether it is `proved`."""

    def __init__(self, made: "hmac.HMAC", after: bytes, fits: Callable[[bytes], bool], fault: str) -> None:
        self._made, self._after, self._fits, self._fault = made, after, fits, fault

    def take(self, piece: bytes) -> None:
        """What follows of the body."""
        self._made.update(piece)

    def proved(self) -> None:
        """Raises `Refused` when the signature is not of all that was taken."""
        self._made.update(self._after)
        if not self._fits(self._made.digest()):
            raise Refused(self._fault)
