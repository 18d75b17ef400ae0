"""Places that may be called although they are private, as the settings list them."""

import ipaddress
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address
from urllib.parse import urlsplit

Address = IPv4Address | IPv6Address


@dataclass(frozen=True, slots=True)
class Listed:
    """A place that is open although it is private: a host by name, or a network; of all ports where none is said."""

    host: str
    network: ipaddress.IPv4Network | ipaddress.IPv6Network | None
    port: int | None

    @classmethod
    def read(cls, text: str) -> "Listed":
        """`ledger.internal`, `10.0.0.5:5432`, `10.1.0.0/16`, `[fd00::1]:8080`. Raises `ValueError`."""
        if "/" in text:
            return cls("", ipaddress.ip_network(text, strict=False), None)
        parts = urlsplit(f"//{text}")
        host = parts.hostname or ""
        if not host:
            raise ValueError(f"{text!r} is no host, address or network")
        try:
            return cls("", ipaddress.ip_network(host), parts.port)
        except ValueError:
            return cls(host.rstrip("."), None, parts.port)

    def holds(self, host: str, address: Address, port: int) -> bool:
        """Whether an address that a host was found at is such a place."""
        if self.port not in (None, port):
            return False
        if self.network is None:
            return self.host == host
        return address.version == self.network.version and address in self.network
