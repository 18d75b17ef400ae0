"""What one request to a tool server is, beside the protocol: whose it is, what is sent exactly, and what came of it.

The SDK of the protocol carries messages and keeps sessions; it knows nothing of secrets, limits and attempts, and reads numbers
as floats. So values pass it by: a request goes through it with a mark, in whose place the values are put where it leaves, and a reply
is read there once more, with all its digits.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import values
from oak_relay.document.errors import Reached, StepFailed

LARGEST = 4_000_000
"""Bytes of a reply, at most."""
MARK = "oak-relay/call"
"""Names a request in its `_meta` on its way through the SDK; it is never sent."""


@dataclass(eq=False)
class ServerCall:
    """A request, and what is known of it. `unsent` holds until it begins to leave; `gone` when the server does not know the
    session any more, and so has done nothing."""

    name: str
    at: Outbound
    reached: Reached
    arguments: Mapping[str, object] | None = None
    unsent: bool = True
    gone: bool = False
    result: dict[str, Any] | None = None
    refusal: dict[str, Any] | None = None
    failure: StepFailed | None = field(default=None)

    def take(self, message: Mapping[str, Any]) -> None:
        """Its reply (JSON-RPC 2.0), as it came."""
        if "error" in message:
            given = message["error"]
            self.refusal = given if isinstance(given, dict) else {}
        elif "result" in message:
            given = message["result"]
            self.result = given if isinstance(given, dict) else {}


class Calls:
    """The requests that are under way in one session, by their marks and by the numbers that the protocol gave them."""

    def __init__(self, opening: ServerCall) -> None:
        self.opening = opening
        """In whose name is sent what belongs to no other request: the handshake, and the end."""
        self.marked: dict[str, ServerCall] = {}
        self._numbered: dict[object, ServerCall] = {}

    def leaving(self, content: bytes) -> tuple[bytes, ServerCall, object]:
        """A message as it is sent, whose it is, and its number; None for one that has no answer."""
        message = values.loads(content)
        assert isinstance(message, dict)
        params: dict[str, Any] = message.get("params") or {}
        meta, call = params.get("_meta"), self.opening
        if isinstance(meta, dict) and MARK in meta:
            call = self.marked.get(str(meta.pop(MARK)), call)
            if not meta:
                del params["_meta"]
            if call.arguments is not None:
                params["arguments"] = dict(call.arguments)
        number = message.get("id") if "method" in message else None
        if number is not None:
            self._numbered[number] = call
        call.unsent = False
        return values.dumps(message).encode(), call, number

    def came(self, content: bytes | str) -> None:
        """Something that the server said: taken where it is an answer to a request of ours, left alone where it is not."""
        try:
            message = values.loads(content)
        except values.NotJson:
            return
        if isinstance(message, dict) and "method" not in message and message.get("id") in self._numbered:
            self._numbered.pop(message["id"]).take(message)

    def forget(self, call: ServerCall) -> None:
        """Nobody waits for a request any more."""
        for number in [number for number, one in self._numbered.items() if one is call]:
            del self._numbered[number]
