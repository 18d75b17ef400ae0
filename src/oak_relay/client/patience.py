"""When a request is made again: what does no harm twice, while the service is busy or a connection broke."""

from collections.abc import Mapping

import httpx

TRIES = 4
_LONGEST = 10.0
"""Seconds of the longest pause."""
_HARMLESS = frozenset(("GET", "HEAD", "PUT", "DELETE"))
_BUSY = frozenset((429, 502, 503, 504))


def pause(
    attempt: int, method: str, headers: Mapping[str, str], came: httpx.Response | httpx.TransportError
) -> float | None:
    """Seconds until the next try after the attempt of that number (from 1); None when what came is the end of it. GET, HEAD, PUT
    and DELETE are idempotent (RFC 9110, 9.2.2), and so is what has an Idempotency-Key. A service that is not there at all is
    not waited for."""
    if attempt >= TRIES or isinstance(came, httpx.ConnectError | httpx.ConnectTimeout):
        return None
    if method not in _HARMLESS and "Idempotency-Key" not in headers:
        return None
    if isinstance(came, httpx.TransportError):
        return 0.1 * 2**attempt
    if came.status_code not in _BUSY:
        return None
    asked = came.headers.get("retry-after", "")
    return min(_LONGEST, float(asked) if asked.isdigit() else 0.1 * 2**attempt)
