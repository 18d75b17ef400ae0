"""What credential an operation wants, by the security schemes of its document (OpenAPI 3.1, section 4.8.27)."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from oak_relay.actions.openapi.schemas import Document


@dataclass(frozen=True, slots=True)
class Needed:
    """Kinds of credentials that will do, scopes of an app's, and in words where each goes; `always` when nothing goes without."""

    kinds: tuple[str, ...] = ()
    scopes: tuple[str, ...] = ()
    ways: tuple[str, ...] = ()
    always: bool = False


_MOST = 10


def needed(document: Document, operation: Mapping[str, Any]) -> Needed:
    """What an operation wants; that of the document where it says nothing itself."""
    said = operation.get("security", document.data.get("security"))
    if not isinstance(said, list) or not said:
        return Needed()
    known = document.at("#/components/securitySchemes")
    kinds: list[str] = []
    ways: list[str] = []
    scopes: list[str] = []
    for way in said[:_MOST]:
        if not isinstance(way, Mapping) or not way:
            continue
        found = [_scheme(document.target(known.get(name) if isinstance(known, Mapping) else None)) for name in way]
        some = [one for one in found if one is not None][:_MOST]
        if not some:
            continue
        kinds += ["fields"] if len(some) > 1 else some[0][0]
        ways.append(" and ".join(words for _, words in some))
        if not scopes and "oauth" in some[0][0]:
            asked = next(iter(way.values()))
            scopes += [str(one)[:200] for one in asked[:50]] if isinstance(asked, list) else []
    always = bool(kinds) and not any(isinstance(way, Mapping) and not way for way in said)
    return Needed(tuple(dict.fromkeys(kinds)), tuple(scopes), tuple(dict.fromkeys(ways)), always)


def _scheme(told: object) -> tuple[list[str], str] | None:
    """Kinds of credentials for one scheme, and where they go; None for one that is not known."""
    if not isinstance(told, Mapping):
        return None
    kind, name = told.get("type"), str(told.get("name") or "")[:60]
    if kind == "apiKey" and told.get("in") == "header":
        if name.lower() == "authorization":
            return ["fields", "bearer"], "the header Authorization"
        return ["header", "fields"], f"the header {name}"
    if kind == "apiKey" and told.get("in") == "query":
        return ["query", "fields"], f"the parameter {name} of the address"
    if kind == "apiKey":
        return ["fields"], f"the cookie {name}, as a header Cookie"
    if kind == "http" and str(told.get("scheme")).lower() == "basic":
        return ["basic"], "user and password"
    if kind == "http":
        return ["bearer", "oauth"], "a bearer token"
    if kind in ("oauth2", "openIdConnect"):
        return ["oauth", "bearer"], "an app that was consented to (OAuth 2)"
    if kind == "mutualTLS":
        return ["certificate"], "a client certificate"
    return None
