"""Kinds that are a key, or several, and where it goes in a request."""

import base64
import re
from collections.abc import Mapping
from typing import Annotated, ClassVar, Literal

from pydantic import AfterValidator, Field, model_validator

from oak_relay.document import wire
from oak_relay.vault.kinds import Authorization, Secret, SecretSent, Sent


class Bearer(SecretSent):
    """Bearer token (RFC 6750)."""

    kind: Literal["bearer"] = "bearer"

    def authorization(self) -> Authorization:
        return Authorization({"Authorization": f"Bearer {self.reveal()}"})


class HeaderKey(SecretSent):
    """Key in a header of its own."""

    kind: Literal["header"] = "header"
    header: Annotated[str, Field(pattern=r"^[A-Za-z0-9-]{1,60}$")] = "X-API-Key"

    def authorization(self) -> Authorization:
        return Authorization({self.header: self.reveal()})


class QueryKey(SecretSent):
    """Key in the address.

    Addresses are written down in many places; where the service takes the key in a header too, that is better."""

    kind: Literal["query"] = "query"
    parameter: Annotated[str, Field(title="Parameter", pattern=r"^[A-Za-z0-9._~-]{1,60}$")] = "key"

    def authorization(self) -> Authorization:
        return Authorization(query={self.parameter: self.reveal()})


class Basic(SecretSent):
    """User and password (RFC 7617)."""

    must_be_sent: ClassVar[bool] = False
    kind: Literal["basic"] = "basic"
    user: str = Field(title="User", min_length=1, pattern=r"^[^:\x00-\x1f]+$")

    def authorization(self) -> Authorization:
        return Authorization({"Authorization": f"Basic {self._pair()}"})

    def forms(self) -> list[str]:
        return [self.reveal(), self._pair()]

    def _pair(self) -> str:
        return base64.b64encode(f"{self.user}:{self.reveal()}".encode()).decode()


_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_]{0,39}")
_SLOT = re.compile(r"\{([^{}]*)\}")


def _named(value: dict[str, Secret]) -> dict[str, Secret]:
    for name in value:
        if not _NAME.fullmatch(name):
            raise ValueError(f"{name[:50]!r} is no name of a secret; use letters, digits and _")
    return value


Templates = dict[Annotated[str, Field(min_length=1, max_length=200)], Annotated[str, Field(max_length=2_000)]]


class Fields(Sent):
    """Several secrets.

    Templates put them where the service wants them: in each, {name} stands for the secret of that name."""

    kind: Literal["fields"] = "fields"
    secrets: Annotated[dict[str, Secret], AfterValidator(_named)] = Field(
        title="Secrets", min_length=1, max_length=20, description="Name to secret."
    )
    headers: Templates = Field(
        default_factory=dict, title="Headers", max_length=20, description="Name to template, as Key {app}:{token}"
    )
    query: Templates = Field(
        default_factory=dict, title="Parameters of the address", max_length=20, description="Name to template."
    )
    body: Templates = Field(
        default_factory=dict,
        title="Fields of the body",
        max_length=20,
        description="Name to template; added to a body that is a form or a JSON object.",
    )

    @model_validator(mode="after")
    def _fits(self) -> "Fields":
        if not (self.headers or self.query or self.body):
            raise ValueError("say where the secrets go: headers, query or body")
        fault = wire.header_fault((name, _SLOT.sub("x", text)) for name, text in self.headers.items())
        if fault:
            raise ValueError(fault)
        for text in (*self.headers.values(), *self.query.values(), *self.body.values()):
            for name in _SLOT.findall(text):
                if name not in self.secrets:
                    raise ValueError(f"a template names {name[:50]!r}; there is {', '.join(self.secrets)}")
        return self

    def authorization(self) -> Authorization:
        return Authorization(self._filled(self.headers), self._filled(self.query), self._filled(self.body))

    def forms(self) -> list[str]:
        """Each secret, and each text it becomes a part of."""
        own = [secret.get_secret_value() for secret in self.secrets.values()]
        filled = (
            *self._filled(self.headers).values(),
            *self._filled(self.query).values(),
            *self._filled(self.body).values(),
        )
        return [*own, *(text for text in filled if any(one in text for one in own))]

    def _filled(self, templates: Mapping[str, str]) -> dict[str, str]:
        def secret(found: re.Match[str]) -> str:
            return self.secrets[found[1]].get_secret_value()

        return {name: _SLOT.sub(secret, text) for name, text in templates.items()}
