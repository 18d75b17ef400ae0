"""Where a host is, by its name alone."""

import ipaddress


def is_this_machine(host: str) -> bool:
    """Whether a host is this machine, whatever answers for its name: `localhost`, or a loopback address as such."""
    try:
        return host == "localhost" or ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False
