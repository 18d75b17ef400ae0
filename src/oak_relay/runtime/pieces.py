"""Answers while they are being written: pieces go to who watches the run, as hints that may be missed.

Who watches says so every few seconds (`watch:<run>`); only then does a worker send anything. A piece carries the path,
the attempt and where in the text it belongs; a new attempt begins again at the beginning.
"""

import asyncio
import base64
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from typing import Any

from oak_relay.document import values
from oak_relay.runtime.hints import AGAIN, Hints
from oak_relay.vault.blanking import Blanker, Stream

_PAUSE = 0.08
_MOST = 4000


@dataclass(slots=True)
class _Text:
    """What one attempt writes: what of it came since it was last told, and how many letters were told."""

    stream: Stream
    came: str = ""
    told: int = 0


@dataclass(slots=True)
class Piece:
    """A part of what an attempt at a path is writing; `at` is where in its text the part begins."""

    run: str
    path: str
    attempt: int
    at: int
    text: str


@dataclass
class Pieces:
    """The sending side, one per worker."""

    hints: Hints
    watched: dict[str, float] = field(default_factory=dict)
    _texts: dict[tuple[str, str, int], _Text] = field(default_factory=dict)
    _timer: asyncio.TimerHandle | None = None

    def __post_init__(self) -> None:
        self.hints.on("watch", self._watch)

    def writer(self, run: str, path: str, attempt: int, blanker: Blanker) -> Callable[[str], None] | None:
        """What takes the pieces of an attempt, as they come; None when nobody watches."""
        if self.watched.get(run, 0) < time.monotonic():
            return None
        key = run, path, attempt
        self._texts[key] = _Text(Stream(blanker))

        def write(text: str) -> None:
            if key in self._texts:
                self._texts[key].came += text
                if self._timer is None:
                    self._timer = asyncio.get_running_loop().call_later(_PAUSE, self._flush)

        return write

    def done(self, run: str, path: str, attempt: int) -> None:
        """Nothing more will be written there."""
        self._send(run, path, attempt, last=True)
        self._texts.pop((run, path, attempt), None)

    def _watch(self, run: str) -> None:
        now = time.monotonic()
        self.watched = {key: until for key, until in self.watched.items() if until > now}
        self.watched[run] = now + 3 * AGAIN

    def _flush(self) -> None:
        self._timer = None
        for key in self._texts:
            self._send(*key)

    def _send(self, run: str, path: str, attempt: int, last: bool = False) -> None:
        """Tell what can be shown of an attempt's text and was not told yet."""
        text = self._texts[run, path, attempt]
        shown = text.stream.take(text.came) + (text.stream.end() if last else "")
        text.came = ""
        for start in range(0, len(shown), _MOST):
            piece = Piece(run, path, attempt, text.told + start, shown[start : start + _MOST])
            self.hints.send(f"piece:{base64.urlsafe_b64encode(values.dumps(asdict(piece)).encode()).decode()}")
        text.told += len(shown)


def read(hint: str) -> Piece:
    """The piece that a hint carries."""
    data: dict[str, Any] = values.loads(base64.urlsafe_b64decode(hint))
    return Piece(**data)
