"""The client library, blocking and async: typed results, clear exceptions.

It stands alone: it speaks HTTP to the service and imports nothing else of the product.

    with Client() as oak:
        run = oak.start("booking-triage", {"message": "…", "guest": {"email": "…"}})
        print(run.wait().state)
"""

from oak_relay.client.blocking import Client, Run
from oak_relay.client.concurrent import AsyncClient, AsyncRun
from oak_relay.client.errors import (
    Busy,
    Conflict,
    Denied,
    Invalid,
    NotFound,
    OakRelayError,
    Problem,
    RunFailed,
    Unreachable,
    WaitedTooLong,
)

__all__ = [
    "AsyncClient",
    "AsyncRun",
    "Busy",
    "Client",
    "Conflict",
    "Denied",
    "Invalid",
    "NotFound",
    "OakRelayError",
    "Problem",
    "Run",
    "RunFailed",
    "Unreachable",
    "WaitedTooLong",
]
