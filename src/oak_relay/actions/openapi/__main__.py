"""The process in which a document is read: it on standard input, what it says on standard output, both as JSON.

The first line of the input tells which operations are wanted in full and where the document is from.
"""

import resource
import sys

from oak_relay.actions.openapi.reading import described
from oak_relay.actions.openapi.text import BadDescription
from oak_relay.jsontext import dumps, loads

MEMORY, SECONDS = 1_500_000_000, 30


def main() -> None:
    """Read one document within the limits."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    asked = loads(sys.stdin.buffer.readline())
    try:
        told = described(sys.stdin.buffer.read(), asked["keys"], asked["place"])
        answer: dict[str, object] = {"description": told.model_dump(mode="python")}
    except BadDescription as error:
        answer = {"fault": str(error), "fix": error.fix}
    except (MemoryError, RecursionError):
        answer = {"fault": "the document takes too much to read", "fix": "leave out what is not needed"}
    sys.stdout.buffer.write(dumps(answer).encode())


main()
