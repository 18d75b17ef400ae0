"""What goes over the wire: headers (RFC 9110) and addresses (RFC 3986), right or refused before anything is sent."""

import ipaddress
import re
from collections.abc import Iterable, Mapping
from typing import Annotated
from urllib.parse import urlsplit

import idna
from pydantic import AfterValidator, Field

_TOKEN = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]{1,200}")
_BAD = re.compile(r"[\x00-\x08\x0a-\x1f\x7f]|[^\x00-\xff]")
_HOST = re.compile(r"[^\W_](?:[\w.-]*\w)?\.?|\[[0-9A-Fa-f:.]{2,45}\]")
_DOTTED = re.compile(r"\d+\.\d+\.\d+\.\d+")
_CONTROL = re.compile(r"[\x00-\x1f\x7f\\\ud800-\udfff]")
_LONGEST = 8_000
_OF_THE_CONNECTION = frozenset(
    [
        "connection",
        "content-length",
        "expect",
        "host",
        "keep-alive",
        "proxy-connection",
        "te",
        "trailer",
        "transfer-encoding",
        "upgrade",
    ]
)


def header_fault(headers: Iterable[tuple[str, str]]) -> str:
    """What keeps headers from being sent; empty when nothing does. Those of the connection itself are not for who
    writes a message to set, and none is given twice."""
    seen: set[str] = set()
    for name, text in headers:
        if not _TOKEN.fullmatch(name):
            return f"{name[:50]!r} is no name of a header"
        if _BAD.search(text):
            return f"the header {name} holds a line break, a control character, or one beyond Latin-1"
        low = name.lower()
        if low in _OF_THE_CONNECTION:
            return f"the header {name} belongs to the connection"
        if low in seen:
            return f"the header {name} is given twice"
        seen.add(low)
    return ""


def overlaid(*groups: Mapping[str, str]) -> dict[str, str]:
    """Headers of which later ones replace earlier ones of the same name, however it is written."""
    found: dict[str, tuple[str, str]] = {}
    for group in groups:
        for name, text in group.items():
            found[name.lower()] = name, text
    return dict(found.values())


def address_fault(address: str) -> str:
    """What keeps an address from being one on the web; empty when nothing does."""
    if len(address) > _LONGEST:
        return f"it has more than {_LONGEST} letters"
    if _CONTROL.search(address):
        return "it holds a control character, a backslash or half a character"
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError as error:
        return str(error)
    if parts.scheme not in ("http", "https"):
        return "it begins with neither http:// nor https://"
    if "@" in parts.netloc:
        return "it holds a user; use a credential"
    host = parts.netloc.removesuffix(f":{port}" if port is not None else ":")
    if len(host) > 253 or not _HOST.fullmatch(host) or ".." in host or port == 0:
        return f"{host[:100]!r} is no host"
    try:
        _ = not _DOTTED.fullmatch(host) or ipaddress.IPv4Address(host)
        _ = host.isascii() or idna.encode(host.lower())
        _ = not host.lower().startswith("xn--") or idna.decode(host)
    except ValueError as error:
        return f"{host[:100]!r} is no host: {error}"
    return ""


def _address(address: str) -> str:
    fault = address_fault(address)
    if fault:
        raise ValueError(f"this is no address: {fault}")
    return address


WebAddress = Annotated[str, AfterValidator(_address), Field(pattern=r"^https?://[^/?#\s]+")]
"""An absolute address on the web."""
