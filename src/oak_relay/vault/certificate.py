"""Client certificates: proof of who connects, given while the connection is made (TLS, RFC 8446)."""

import ssl
import tempfile
from datetime import UTC, datetime
from functools import lru_cache
from typing import Annotated, Literal

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from pydantic import Field, SecretStr, model_validator

from oak_relay.vault.kinds import Authorization, SecretText, Sent, _texts

Pem = Annotated[str, Field(max_length=50_000)]


class Certificate(Sent):
    """Client certificate (TLS).

    The certificate and its key in PEM (RFC 7468), as the service's operator hands them out."""

    kind: Literal["certificate"] = "certificate"
    certificate: Pem = Field(
        title="Certificate",
        description="In PEM, the client's own first, then those that vouch for it.",
        json_schema_extra={"format": "multiline"},
    )
    key: SecretText = Field(title="Key", description="In PEM.", json_schema_extra={"format": "multiline"})
    password: SecretStr | None = Field(
        None, title="Password of the key", description="Where the key is enciphered with one."
    )
    authority: Pem = Field(
        "",
        title="Certificates to trust",
        description="In PEM, of who vouches for the server, where that is none of the usual ones.",
        json_schema_extra={"format": "multiline"},
    )

    @model_validator(mode="after")
    def _belong_together(self) -> "Certificate":
        try:
            chain = x509.load_pem_x509_certificates(self.certificate.encode())
        except ValueError:
            raise ValueError("the certificate is not in PEM: it begins with -----BEGIN CERTIFICATE-----") from None
        try:
            key = serialization.load_pem_private_key(self.key.get_secret_value().encode(), self._password())
        except (ValueError, TypeError):
            raise ValueError("the key cannot be read: is it in PEM, and its password right?") from None
        public = serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo
        if key.public_key().public_bytes(*public) != chain[0].public_key().public_bytes(*public):
            raise ValueError("the key is not that of the certificate")
        if self.authority:
            try:
                x509.load_pem_x509_certificates(self.authority.encode())
            except ValueError:
                raise ValueError("the certificates to trust are not in PEM") from None
        return self

    def _password(self) -> bytes | None:
        return self.password.get_secret_value().encode() if self.password is not None else None

    def authorization(self) -> Authorization:
        password = self.password.get_secret_value() if self.password is not None else ""
        return Authorization(tls=_context(self.certificate, self.key.get_secret_value(), password, self.authority))

    def forms(self) -> list[str]:
        """The key as it is, without its line breaks, and each of its lines."""
        key = self.key.get_secret_value()
        lines = [line for line in key.splitlines() if len(line) >= 16 and not line.startswith("-----")]
        return [*_texts(self.clear()), "".join(lines), *lines]

    @property
    def about(self) -> str:
        """Whose it is and how long it holds, in a sentence."""
        own = x509.load_pem_x509_certificates(self.certificate.encode())[0]
        left = own.not_valid_after_utc - datetime.now(UTC)
        ends = f"{own.not_valid_after_utc:%d %B %Y}"
        holds = f"it holds until {ends}" if left.total_seconds() > 0 else f"it is over since {ends}"
        return f"It is that of {own.subject.rfc4514_string() or 'nobody named'}; {holds}."

    @property
    def over(self) -> bool:
        """Whether it holds no longer."""
        return x509.load_pem_x509_certificates(self.certificate.encode())[0].not_valid_after_utc < datetime.now(UTC)


@lru_cache(maxsize=256)
def _context(certificate: str, key: str, password: str, authority: str) -> ssl.SSLContext:
    """What connections are made with. The library reads files alone; they are ours alone and gone at once."""
    context = ssl.create_default_context(cadata=authority or None)
    with tempfile.NamedTemporaryFile("w", prefix="oak-", suffix=".pem") as both:  # mode 0600
        both.write(f"{key.strip()}\n{certificate.strip()}\n")
        both.flush()
        context.load_cert_chain(both.name, password=password)
    return context
