"""Money: purses that calls draw on, each a part of another; what a call may cost at most is set aside before it.

Nothing is spent that was not set aside first: not by strands side by side, nor by children, repairs and fallbacks. What was
sent and is not known to have cost nothing counts at its worst case.
"""

from collections.abc import Awaitable, Callable
from dataclasses import replace

from oak_relay.document.errors import StepFailed
from oak_relay.usage import Usage


class Purse:
    """A limit (None: none of its own), what is spent and set aside under it, and the purse it is a part of. `owner` is the
    path of the step whose it is, empty for the run."""

    __slots__ = ("limit", "outer", "owner", "reserved", "spent")

    def __init__(self, limit: float | None, outer: "Purse | None" = None, spent: float = 0.0, owner: str = "") -> None:
        self.limit, self.outer, self.owner = limit, outer, owner
        self.spent, self.reserved = spent, 0.0

    def left(self) -> float | None:
        """What may still be set aside; None when nothing limits it."""
        mine = None if self.limit is None else max(0.0, self.limit - self.spent - self.reserved)
        above = self.outer.left() if self.outer is not None else None
        found = [one for one in (mine, above) if one is not None]
        return min(found) if found else None

    def short(self, amount: float) -> "Purse | None":
        """The purse in which there is less left than so much; None when all have it."""
        if self.limit is not None and amount > self.limit - self.spent - self.reserved:
            return self
        return self.outer.short(amount) if self.outer is not None else None

    def reserve(self, amount: float) -> None:
        """Set aside (or with a negative amount, set free), here and above."""
        self.reserved = max(0.0, self.reserved + amount)
        if self.outer is not None:
            self.outer.reserve(amount)

    def reserve_here(self, amount: float) -> None:
        """Set aside what is set aside above already: of what an earlier walk began."""
        self.reserved += amount

    def pay(self, amount: float) -> None:
        """It is spent, here and above."""
        self.spent += amount
        if self.outer is not None:
            self.outer.pay(amount)

    def recall(self, amount: float) -> None:
        """It was spent by an earlier walk: the outermost purse knows that of the record."""
        if self.outer is not None:
            self.spent += amount
            self.outer.recall(amount)


class Draw:
    """What one call draws on a purse. Its first request is granted before the intention is written; what it asks for
    beyond that (a repair, a fallback) is noted by `note`, durably, before it is sent."""

    def __init__(self, purse: Purse, what: str, note: Callable[[float], Awaitable[object]]) -> None:
        self._purse, self._what, self._note = purse, what, note
        self.granted = 0.0
        self._known = 0.0
        self._open = 0.0
        self.unsure = 0.0
        """The worst case of requests of which nobody knows what they cost."""

    def grant(self, worst: float | None) -> None:
        """Set the worst case of the first request aside. Raises `StepFailed`."""
        self._more(self._bounded(worst))

    async def reserve(self, worst: float | None) -> None:
        """A request is about to be sent that costs at most so much (None: nobody knows). Raises `StepFailed`
        (`over_limit`) when that is more than is left now."""
        amount = self._bounded(worst)
        self._unsettled()
        used = self._known + self.unsure
        if used + amount > self.granted + 1e-12:
            self._more(used + amount - self.granted)
            await self._note(self.granted)
        self._open = amount

    def settle(self, cost: float | None, reached: str = "yes") -> None:
        """What the request has cost; None when it told nothing: then nothing where it was not reached or was refused."""
        if cost is not None:
            self._known, self._open = self._known + cost, 0.0
        elif reached != "maybe":
            self._open = 0.0
        else:
            self._unsettled()

    def end(self, usage: Usage) -> Usage:
        """The call is over: what is left is set free. Returns its usage with what is unsure counted in."""
        self._unsettled()
        self._purse.reserve(-self.granted)
        self.granted = 0.0
        more = max(0.0, self._known - usage.paid) + self.unsure
        if more <= 0:
            return usage
        return replace(usage, money=round(usage.paid + more, 9), unsure=round(self.unsure, 9))

    def _unsettled(self) -> None:
        self.unsure, self._open = self.unsure + self._open, 0.0

    def _bounded(self, worst: float | None) -> float:
        if worst is None and self._purse.left() is not None:
            raise StepFailed(
                "invalid",
                f"{self._what} asks a model whose price is not known, so the limit of money cannot be kept",
                fix="give the model alias its prices (0 for one that is free), or leave out limits: money",
            )
        return worst or 0.0

    def _more(self, amount: float) -> None:
        short = self._purse.short(amount)
        if short is not None:
            whose = short.owner or "the run"
            raise StepFailed(
                "over_limit",
                f"this call of {self._what} may cost {amount:.6f}, and {short.left() or 0.0:.6f} is left of {whose}'s money",
                fix="raise limits: money, or lower max_tokens",
                limit=short.owner,
            )
        self._purse.reserve(amount)
        self.granted += amount
