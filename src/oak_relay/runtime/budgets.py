"""What is left of budgets, closely: what was spent a moment ago, and what calls under way are likely to cost, counts."""

import time
from collections import Counter, deque
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from oak_relay.document.errors import StepFailed
from oak_relay.store import usage
from oak_relay.store.database import Database

_LOOK = 1.0
"""Seconds after which it is looked again what is left."""
_LAG = 0.5
"""Seconds within which what was spent may not stand in the records yet."""
_EVERY = ""
"""In the place of a workflow: all of them."""


@dataclass(slots=True)
class Paying:
    """A call that is under way; `money` is what it cost in the end."""

    money: float = 0.0


@dataclass
class Budgets:
    """Of one process. Others spend too: of what they do, it knows a second later."""

    _database: Database
    _workspace: int
    _left: dict[str, tuple[str, float]] = field(default_factory=dict)
    _looked: float = float("-inf")
    _done: deque[tuple[float, str, float]] = field(default_factory=deque)
    _flying: Counter[str] = field(default_factory=Counter)
    _usual: dict[str, float] = field(default_factory=dict)

    async def look(self, workflow: str) -> None:
        """Raises `StepFailed` (`over_limit`) when a budget that a call of a workflow would draw on is spent."""
        now = time.monotonic()
        if now - self._looked > _LOOK:
            self._looked = now  # who asks meanwhile goes by what was known
            try:
                async with self._database.reading() as connection:
                    self._left = await usage.left(connection, self._workspace)
            except BaseException:
                self._looked = float("-inf")
                raise
            while self._done and self._done[0][0] < now - _LAG:
                self._done.popleft()
        for of in (_EVERY, workflow):
            if of in self._left and self._left[of][1] <= self._since(of):
                raise StepFailed(
                    "over_limit",
                    f"the budget {self._left[of][0]} is spent, so no model is asked",
                    fix="raise it (oak-relay budget set), or wait for its next period",
                )

    def _since(self, of: str) -> float:
        """What was spent since it was looked, and what calls under way are likely to cost."""
        spent = sum(money for _, workflow, money in self._done if of in (_EVERY, workflow))
        flying = ((name, count) for name, count in self._flying.items() if of in (_EVERY, name))
        return spent + sum(count * self._usual.get(name, 0.0) for name, count in flying)

    @contextmanager
    def paying(self, workflow: str) -> Iterator[Paying]:
        """A call is under way; who makes it says what it cost."""
        one = Paying()
        self._flying[workflow] += 1
        try:
            yield one
        finally:
            self._flying[workflow] -= 1
            if not self._flying[workflow]:
                del self._flying[workflow]
            if one.money:
                self._done.append((time.monotonic(), workflow, one.money))
                usual = self._usual.get(workflow, one.money)
                self._usual[workflow] = usual + (one.money - usual) / 5
                if len(self._usual) > 10_000:
                    self._usual.pop(next(iter(self._usual)))
