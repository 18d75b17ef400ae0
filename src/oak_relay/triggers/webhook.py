"""`webhook`: requests from outside, proved, read as JSON or a form."""

import shlex
import time
from typing import Annotated, Any, ClassVar, Literal
from urllib.parse import parse_qs

from pydantic import AfterValidator, Field, model_validator

from oak_relay.capabilities.protocols import Credentials
from oak_relay.document import durations, values
from oak_relay.document.check_base import Checking
from oak_relay.document.errors import StepFailed
from oak_relay.document.numbers import whole
from oak_relay.document.text import Path
from oak_relay.document.words import Duration, Model, said, sound_duration
from oak_relay.triggers import requests
from oak_relay.triggers.base import Occasion, Proof, Proofs, Refused, Reply, Request, RequestTrigger
from oak_relay.vault import kinds
from oak_relay.vault.kinds import SecretSent, same_token
from oak_relay.vault.signing import Proof as SignatureProof
from oak_relay.vault.signing import Signing

_NAME = r"^[A-Za-z0-9-]{1,80}$"
"""A header's name."""


class Verify(Model):
    """How a webhook proves who sent it. `signed` follows Standard Webhooks; `hmac` is a plain HMAC of the body
    in a header of the sender's choice, or of what `signed` says; `token` is the secret itself in a header."""

    EXAMPLE: ClassVar[str] = "{scheme: signed, credential: NAME}"

    scheme: Literal["signed", "hmac", "token", "bearer", "basic", "none"] = "none"
    credential: str | None = Field(None, description="The stored secret to check with.")
    header: Annotated[str, Field(pattern=_NAME)] = Field(
        "X-Signature", description="Of `hmac` and `token`: the header that carries the signature or the secret."
    )
    prefix: str = Field("", description="Of `hmac` and `token`: what stands before it in the header.")
    signed: str = Field(
        "{body}",
        pattern=r"\{body\}",
        max_length=200,
        description="Of `hmac`: what is signed; {body}, {id} (of the webhook's id header) and {timestamp} stand for their texts.",
    )
    timestamp: Annotated[str, Field(pattern=_NAME)] = Field(
        "X-Timestamp", description="Of `hmac`: the header with the seconds since 1970, where {timestamp} is signed."
    )
    tolerance: Annotated[Duration, AfterValidator(sound_duration)] = Field(
        "5m", description="Of `hmac`: how old a timestamp may be."
    )
    encoding: Literal["hex", "base64"] = "hex"
    digest: Literal["sha1", "sha256", "sha512"] = "sha256"

    @model_validator(mode="after")
    def _named(self) -> "Verify":
        if self.scheme != "none" and not self.credential:
            raise said(f"the scheme {self.scheme} needs a credential", "add credential: NAME")
        return self


class Handshake(Model):
    """A sender that asks for an echo before it sends: the value of `echo` in the query is answered as text when
    the value of `token` there is the stored secret (as in WebSub)."""

    echo: str = Field("hub.challenge", description="Query parameter that is echoed.")
    token: str | None = Field(None, description="Query parameter that must hold the secret.")
    credential: str | None = Field(None, description="The stored secret that `token` must be.")


class Webhook(Model):
    path: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_/-]{0,120}$", description="Below /hooks/.")]
    methods: list[Literal["GET", "POST", "PUT", "PATCH", "DELETE"]] = Field(default=["POST"], min_length=1)
    verify: Verify = Verify()
    handshake: Handshake | None = None
    id: Annotated[str, Field(pattern=r"^[A-Za-z0-9-]+$")] = Field(
        "webhook-id", description="Header that carries the sender's id of the event; the same id counts once."
    )
    files: bool = Field(
        False,
        description="Files are taken: a body that is one becomes event.data.file, those of a form (multipart/form-data) its "
        "fields. Otherwise bodies are JSON or plain forms.",
    )
    waits: bool = Field(
        False,
        description="The caller waits for what a `reply` step says, or else for the result; one that sends "
        "`Accept: text/event-stream` is told the last step's answer while it is being written, and then the result. "
        "Otherwise it is told at once that its request was taken.",
    )


_PROOFS = {
    "signed": ", signed",
    "hmac": ", signed",
    "token": ", with a token",
    "bearer": ", with a bearer token",
    "basic": ", with a password",
}


class WebhookTrigger(RequestTrigger[Webhook]):
    name, model, occurs = "webhook", Webhook, "webhook"

    def sentence(self, given: Webhook) -> str:
        return f"A webhook at /hooks/{given.path}{_PROOFS.get(given.verify.scheme, '')}"

    def check(self, given: Webhook, path: Path, checker: Checking) -> None:
        if "verify" not in given.model_fields_set:
            checker.add(
                path,
                f"anybody may call /hooks/{given.path}: nobody has to prove who sends",
                "add verify, or verify: {scheme: none} where that is meant",
                "warning",
            )
        for part, named in (("verify", given.verify), ("handshake", given.handshake)):
            if named is not None and named.credential:
                checker.named((*path, part, "credential"), named.credential, checker.world.credentials, "credential")

    def path(self, given: Webhook) -> str:
        return given.path

    def methods(self, given: Webhook) -> list[Any]:
        return list(given.methods)

    def files(self, given: Webhook) -> bool:
        return given.files

    async def proving(self, given: Webhook, request: Request, at: Credentials) -> Proof:
        return await proof_of(given.verify, request, request.headers.get(given.id.lower()) or "", at)

    def waits(self, given: Webhook) -> bool:
        return given.waits

    def request(self, given: Webhook, url: str, body: str) -> str:
        method, verify = given.methods[0], given.verify
        kind = [] if method == "GET" else [("Content-Type", "application/json")]
        first = [] if verify.scheme == "none" else [f"{requests.SECRET}=…  # of the credential {verify.credential}"]
        if given.handshake is not None:
            told = f"&{given.handshake.token}=${requests.SECRET}" if given.handshake.token else ""
            first.append(f'curl "{url}?{given.handshake.echo}=hello{told}"  # the handshake: it answers hello')
        sent = "" if method == "GET" else shlex.quote(body)
        if verify.scheme in ("signed", "hmac") and sent:
            first.append(f"BODY={sent}")
            sent = '"$BODY"'
        if verify.scheme == "signed":
            first += [
                "ID=msg_$(date +%s%N)",
                "AT=$(date +%s)",
                "SIGNATURE=" + requests.signed('"$ID.$AT.$BODY"', "sha256", "base64", True),
            ]
            kind += [("webhook-id", "$ID"), ("webhook-timestamp", "$AT"), ("webhook-signature", "v1,$SIGNATURE")]
        elif verify.scheme == "hmac":
            words = verify.signed.replace("{body}", "$BODY").replace("{id}", "$ID").replace("{timestamp}", "$AT")
            first += ["ID=msg_$(date +%s%N)"] if "{id}" in verify.signed else []
            first += ["AT=$(date +%s)"] if "{timestamp}" in verify.signed else []
            quoted = f'"{words}"'
            first.append("SIGNATURE=" + requests.signed(quoted, verify.digest, verify.encoding, False))
            kind += [(given.id, "$ID")] if "{id}" in verify.signed else []
            kind += [(verify.timestamp, "$AT")] if "{timestamp}" in verify.signed else []
            kind.append((verify.header, f"{verify.prefix}$SIGNATURE"))
        elif verify.scheme == "token":
            kind.append((verify.header, f"{verify.prefix}${requests.SECRET}"))
        elif verify.scheme == "bearer":
            kind.append(("Authorization", f"Bearer ${requests.SECRET}"))
        more = [f'-u "USER:${requests.SECRET}"'] if verify.scheme == "basic" else []
        return "\n".join((*first, requests.curl(method, url, kind, sent, more)))

    def proofs(self, given: Webhook) -> Proofs:
        header = given.verify.header.lower() if given.verify.scheme in ("hmac", "token") else ""
        query = given.handshake.token if given.handshake and given.handshake.token else ""
        return Proofs(frozenset({header} - {""}), frozenset({query} - {""}))

    def early(self, given: Webhook, request: Request) -> bool:
        return bool(given.handshake and request.method == "GET" and given.handshake.echo in request.query)

    async def received(self, given: Webhook, request: Request, at: Credentials) -> Occasion | Reply:
        if given.handshake is not None and self.early(given, request):
            return await echoed(given.handshake, request, at)
        key = request.headers.get(given.id.lower())
        if not request.proved:
            proof = await self.proving(given, request, at)
            proof.take(request.body)
            proof.proved()
        if given.verify.scheme == "hmac" and "{id}" not in given.verify.signed:
            # An id that is not signed proves nothing: the same signature is the same delivery, whatever it is called.
            key = "signature " + values.digest(request.headers.get(given.verify.header.lower(), "").strip())
        return Occasion(self.occurs, sent_body(request), key)


def sent_body(request: Request) -> object:
    """The body as a value: JSON, or the fields of a form; without a body the query. Raises `NotJson`."""
    if request.proved:
        return request.data
    if not request.body:
        return dict(request.query) or None
    if request.headers.get("content-type", "").startswith("application/x-www-form-urlencoded"):
        fields = parse_qs(request.body.decode("utf-8", "replace"), keep_blank_values=True)
        return {name: found[0] if len(found) == 1 else found for name, found in fields.items()}
    return values.loads(request.body)


async def stored_secret(name: str | None, at: Credentials) -> SecretSent:
    """A stored credential with one secret. Raises `Refused`."""
    try:
        stored = await at.credential(name or "")
    except StepFailed:
        raise Refused(
            503,
            "this webhook cannot be checked",
            f"there is no credential {name}",
            "store the credential",
            kind="missing",
        ) from None
    if not isinstance(stored, SecretSent):
        raise Refused(
            503,
            "this webhook cannot be checked",
            f"{name} is no credential with one secret",
            "store one of kind signing",
            kind="invalid",
        )
    return stored


async def echoed(handshake: Handshake, request: Request, at: Credentials) -> Reply:
    """The echo that a sender asks for before it sends."""
    if handshake.token:
        stored = await stored_secret(handshake.credential, at)
        if not same_token(request.query.get(handshake.token, ""), stored.reveal()):
            raise Refused(403, "the handshake's token is wrong", fix="give the sender the stored secret")
    return Reply(request.query[handshake.echo])


def _around(verify: Verify, request: Request, key: str) -> tuple[bytes, bytes]:
    """What a plain HMAC is of, before the body and behind it. Raises `Refused` for a timestamp that is missing or too old."""
    stamp = request.headers.get(verify.timestamp.lower(), "")
    if "{timestamp}" in verify.signed:
        seconds = whole(stamp)
        if seconds is None or abs(time.time() - seconds) > durations.seconds(verify.tolerance):
            raise Refused(
                401, "the timestamp is missing or too old", fix=f"send {verify.timestamp} with the seconds since 1970"
            )
    if "{id}" in verify.signed and not key:
        raise Refused(401, "the id is missing", fix="send the header that is signed")
    before, _, after = verify.signed.partition("{body}")
    one, other = (
        part.replace("{id}", key).replace("{timestamp}", stamp).encode("utf-8", "replace") for part in (before, after)
    )
    return one, other


class _Proof:
    """The proof of a signature, told as a request that is not taken."""

    def __init__(self, of: SignatureProof | None) -> None:
        self._of = of

    def take(self, piece: bytes) -> None:
        if self._of is not None:
            self._of.take(piece)

    def proved(self) -> None:
        try:
            if self._of is not None:
                self._of.proved()
        except kinds.Refused as refused:
            raise _wrong(refused) from None


def _wrong(refused: kinds.Refused) -> Refused:
    return Refused(401, "the signature is wrong", str(refused), "sign with the shared secret")


async def proof_of(verify: Verify, request: Request, key: str, at: Credentials) -> _Proof:
    """What proves a body. What stands in headers is checked here. Raises `Refused`."""
    if verify.scheme == "none":
        return _Proof(None)
    stored = await stored_secret(verify.credential, at)
    if verify.scheme == "token":
        given = request.headers.get(verify.header.lower(), "")
        if not given.startswith(verify.prefix) or not same_token(given[len(verify.prefix) :].strip(), stored.reveal()):
            raise Refused(401, "the token is wrong", fix=f"send it in {verify.header}")
        return _Proof(None)
    if verify.scheme in ("bearer", "basic"):
        expected = (
            stored.authorization().headers.get("Authorization", "")
            if verify.scheme == "basic"
            else f"Bearer {stored.reveal()}"
        )
        if not expected or not same_token(request.headers.get("authorization", ""), expected):
            challenge = {"WWW-Authenticate": verify.scheme.capitalize()}
            raise Refused(
                401, f"the {verify.scheme} authorization is wrong", fix="send Authorization", headers=challenge
            )
        return _Proof(None)
    if not isinstance(stored, Signing):
        raise Refused(
            503,
            "this webhook cannot be checked",
            f"{verify.credential} is no signing secret",
            "store one of kind signing",
            kind="invalid",
        )
    try:
        if verify.scheme == "signed":
            return _Proof(stored.proof(request.headers))
    except kinds.Refused as refused:
        raise _wrong(refused) from None
    before, after = _around(verify, request, key)
    given = request.headers.get(verify.header.lower(), "")
    return _Proof(stored.plain_proof(before, after, given, verify.prefix, verify.encoding, verify.digest))
