"""The one door to the outside: which addresses may be called, decided where the socket is made, so that what was checked
is what is connected to.

Link-local and multicast addresses, those where clouds tell about a machine, and the ports of this service are closed to
everybody. Addresses of this machine and of private networks (RFC 1918, RFC 4193, RFC 6598 and alike; also inside of IPv6
addresses that carry one of IPv4) are open as long as the service itself is reached from this machine alone, and closed
otherwise unless they are listed.
"""

import asyncio
import errno
import ipaddress
import socket
import time
from collections import OrderedDict
from collections.abc import Iterator
from contextvars import ContextVar
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from typing import Any
from urllib.parse import urlsplit

from oak_relay.document.errors import StepFailed
from oak_relay.runtime.listed import Address, Listed
from oak_relay.runtime.settings import Settings

_TELLING = frozenset(map(ipaddress.ip_address, ("100.100.100.200", "168.63.129.16", "192.0.0.192", "fd00:ec2::254")))
"""Where a machine in a cloud is told about itself, beside link-local addresses."""
_TRANSLATED = (ipaddress.IPv6Network("64:ff9b::/96"), ipaddress.IPv6Network("64:ff9b:1::/48"))
"""IPv4 addresses in the last four bytes (RFC 6052, RFC 8215)."""
_COMPATIBLE = ipaddress.IPv6Network("::/96")
_HOSTS = 2_000
"""Hosts whose pace is remembered."""


Socket = socket.socket


class Closed(OSError):
    """The door is closed for an address."""


@dataclass(slots=True)
class Asked:
    """A request on its way: the host it is for, and why the door was closed to it."""

    host: str
    closed: str = ""


ASKED: ContextVar[Asked | None] = ContextVar("asked", default=None)


@dataclass(slots=True)
class _Pace:
    left: float
    seen: float


@dataclass
class Door:
    """What a process may call. `exposed`: whether the service is reached from elsewhere than this machine."""

    settings: Settings
    exposed: bool = False
    _paces: OrderedDict[str, _Pace] = field(default_factory=OrderedDict)

    def __post_init__(self) -> None:
        self._reach = frozenset(self.settings.reach)
        self._listed = [Listed.read(text) for text in self.settings.private]
        for own in (self.settings.otlp_endpoint, self.settings.proxy):
            if own:
                parts = urlsplit(own)
                self._listed.append(Listed.read(f"{parts.netloc.rpartition('@')[2]}"))
        if self._reach and self.settings.otlp_endpoint:  # what the settings name themselves may be called
            self._reach |= {(urlsplit(self.settings.otlp_endpoint).hostname or "").rstrip(".")}
        self._ports = self.settings.own_ports
        self.exposed = self.exposed or self.settings.exposed

    def name(self, url: str) -> None:
        """Whether a host may be called by its name. Raises `StepFailed` (`denied`)."""
        host = (urlsplit(url).hostname or "").rstrip(".")
        if self._reach and host not in self._reach:
            raise denied(f"actions may not call {host}", "add it to the setting reach")

    def fault(self, host: str, address: Address, port: int) -> str:
        """Why the door is closed for an address; empty when it is open."""
        for one in _inside(address):
            fault = self._fault(host, one, port)
            if fault:
                return fault
        return ""

    def _fault(self, host: str, address: Address, port: int) -> str:
        if address in _TELLING or address.is_link_local or address.is_multicast or address.is_unspecified:
            return f"{address} is an address that nothing here may call"
        if address.version == 4 and (address.is_reserved or int(address) >> 24 == 0):
            return f"{address} is an address that nothing here may call"
        if port in self._ports and _of_this_machine(address):
            return f"port {port} of this machine is the service's own"
        open_to_all = address.is_global and not (address.version == 6 and address.is_site_local)
        if open_to_all or any(one.holds(host, address, port) for one in self._listed):
            return ""
        if not self.exposed:
            return ""
        where = "this machine" if address.is_loopback else "a private network"
        return f"{address} is an address of {where}, and this service is reached from elsewhere"

    def proxied(self, host: str, port: int) -> None:
        """What a proxy is asked for is judged by its name: addresses as such, and this machine. Raises `StepFailed`."""
        name = "127.0.0.1" if host == "localhost" or host.endswith(".localhost") else host
        try:
            address = ipaddress.ip_address(name)
        except ValueError:
            return  # the proxy resolves it, and decides
        fault = self.fault(host, address, port)
        if fault:
            raise denied(f"{host} may not be called: {fault}")

    def socket(self, found: Any) -> socket.socket:
        """A socket for an address as `getaddrinfo` gives it (RFC 3493). Raises `Closed`."""
        family, kind, protocol, _, place = found
        asked = ASKED.get()
        address = ipaddress.ip_address(place[0].partition("%")[0])
        fault = self.fault(asked.host if asked else "", address, place[1])
        if fault:
            if asked is not None:
                asked.closed = fault
            raise Closed(errno.EACCES, fault)
        return socket.socket(family, kind, protocol)

    async def connected(self, host: str, port: int, timeout: float) -> Socket:
        """A connected socket, for libraries that speak another protocol. Raises `StepFailed`."""
        self.name(f"tcp://{host}")
        loop, asked, reason = asyncio.get_running_loop(), Asked(host.rstrip(".")), "it has no address"
        token = ASKED.set(asked)
        try:
            async with asyncio.timeout(timeout):
                for found in await loop.getaddrinfo(host, port, type=socket.SOCK_STREAM):
                    made = self.socket(found)
                    made.setblocking(False)
                    try:
                        await loop.sock_connect(made, found[4])
                    except OSError as error:
                        made.close()
                        reason = error.strerror or str(error)
                    except BaseException:
                        made.close()
                        raise
                    else:
                        return made
        except Closed:
            raise denied(f"{host} may not be called: {asked.closed}") from None
        except TimeoutError:
            late = f"{host}:{port}: no connection within {timeout:g} s"
            raise StepFailed("timeout", late, fix="is the host up?") from None
        except (OSError, UnicodeError) as error:
            reason = str(error)
        finally:
            ASKED.reset(token)
        fix = "is the address right, and the host up?"
        raise StepFailed("unavailable", f"{host}:{port}: cannot connect ({reason})", fix=fix)

    async def pace(self, host: str) -> None:
        """Wait until a host may be called once more: so many times a second by this process, as the settings say."""
        most = self.settings.host_rate
        now = time.monotonic()
        pace = self._paces.get(host)
        if pace is None:
            pace = self._paces[host] = _Pace(most, now)
            if len(self._paces) > _HOSTS:
                self._paces.popitem(last=False)
        self._paces.move_to_end(host)
        pace.left = min(most, pace.left + (now - pace.seen) * most) - 1
        pace.seen = now
        if pace.left < 0:
            await asyncio.sleep(-pace.left / most)


def denied(why: str, fix: str = "list it in the setting private, if it is meant") -> StepFailed:
    """What a step fails with that may not call an address."""
    return StepFailed("denied", why, fix=fix)


def _inside(address: Address) -> Iterator[Address]:
    """The addresses of IPv4 that one of IPv6 carries, which are what is called; any other address is its own."""
    if isinstance(address, IPv4Address):
        yield address
    elif address.ipv4_mapped is not None:
        yield address.ipv4_mapped
    elif address.sixtofour is not None:
        yield address.sixtofour
    elif address.teredo is not None:
        yield from address.teredo
    elif any(address in network for network in _TRANSLATED) or (address in _COMPATIBLE and int(address) > 1):
        yield IPv4Address(int(address) & 0xFFFFFFFF)
    else:
        yield address


def _of_this_machine(address: Address) -> bool:
    """Whether a socket here could have an address."""
    if address.is_loopback:
        return True
    family = socket.AF_INET if address.version == 4 else socket.AF_INET6
    with socket.socket(family, socket.SOCK_DGRAM) as probe:
        try:
            probe.bind((str(address), 0))
        except OSError:
            return False
    return True
