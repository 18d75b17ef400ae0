"""A mailbox: where its mail is read and where its letters are handed in."""

from collections.abc import Collection, Mapping
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, model_validator

from oak_relay.document.wire import address_fault
from oak_relay.vault.kinds import Credential, Secret

Security = Literal["tls", "starttls", "none"]


def _host(text: str) -> str:
    if text and (address_fault(f"https://{text}") or "/" in text):
        raise ValueError(f"{text[:100]!r} is no host; write mail.example or mail.example:587")
    return text.lower()


MailHost = Annotated[str, AfterValidator(_host), Field(max_length=260)]
_PORTS = {("smtp", "tls"): 465, ("smtp", "starttls"): 587, ("smtp", "none"): 25}
_PORTS |= {("imap", "tls"): 993, ("imap", "starttls"): 143, ("imap", "none"): 143}


class Mail(Credential):
    """Mailbox.

    Letters are handed in by SMTP (RFC 6409), and read by IMAP (RFC 9051); either may be left out."""

    kind: Literal["mail"] = "mail"
    address: str = Field(
        title="Address", max_length=254, pattern=r"^[^@\s]+@[^@\s]+$", description="Whom letters come from."
    )
    user: str = Field("", title="User", max_length=254, description="Where it is another than the address.")
    password: Secret | None = Field(None, title="Password", description="Or an OAuth app, by its name.")
    oauth: str = Field("", title="OAuth app", max_length=60, description="The credential whose token is the password.")
    smtp: MailHost = Field("", title="Server that takes letters", description="mail.example, or with a port.")
    smtp_security: Security = Field("tls", title="Security there")
    imap: MailHost = Field("", title="Server that is read from", description="mail.example, or with a port.")
    imap_security: Security = Field("tls", title="Security there")

    @model_validator(mode="after")
    def _whole(self) -> "Mail":
        if not self.smtp and not self.imap:
            raise ValueError("name a server: smtp, imap or both")
        if (self.password is None) == (not self.oauth):
            raise ValueError("give either a password or the OAuth app whose token is used")
        return self

    @property
    def places(self) -> list[str]:
        return [f"{host}:{port}" for host, port, _ in map(self.server, ("smtp", "imap")) if host]

    def optional(self, given: Mapping[str, Any]) -> Collection[str]:
        return ("password",) if given.get("oauth") else ()

    @property
    def login(self) -> str:
        """Who signs in."""
        return self.user or self.address

    def server(self, protocol: str) -> tuple[str, int, Security]:
        """Host, port and security of a protocol (`smtp` or `imap`); the host is empty where there is none."""
        text, security = (self.smtp, self.smtp_security) if protocol == "smtp" else (self.imap, self.imap_security)
        host, _, port = text.rpartition(":")
        if not port.isdigit():
            host, port = text, str(_PORTS[protocol, security])
        return host.strip("[]"), int(port), security
