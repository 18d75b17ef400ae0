"""What calls to models use: tokens and money, as it travels from a reply to the record and its sums."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any


@dataclass(frozen=True, slots=True)
class Usage:
    """Tokens and money. `input` counts those that were `cached` in; `money` is None when its price is not known.

    `alias` and `credential` say whose it was; `estimated` that the server counted no tokens. `unsure` is the part of the money
    that counts because nobody knows whether it was spent; `unpriced` how many calls of a sum have no known price.
    """

    input: int = 0
    cached: int = 0
    output: int = 0
    money: float | None = 0.0
    alias: str = ""
    credential: str | None = None
    estimated: bool = False
    unsure: float = 0.0
    unpriced: int = 0

    @property
    def paid(self) -> float:
        """The money that is known."""
        return self.money or 0.0

    @property
    def tokens(self) -> int:
        """Tokens read and written."""
        return self.input + self.output

    @property
    def unknown(self) -> int:
        """How many calls have no known price: its own, or those of a sum."""
        return self.unpriced or int(self.money is None)

    def plus(self, other: "Usage") -> "Usage":
        """The sum of two; its money is not known when that of one is not."""
        known = self.money is not None and other.money is not None
        return replace(
            self,
            input=self.input + other.input,
            cached=self.cached + other.cached,
            output=self.output + other.output,
            money=round(self.paid + other.paid, 9) if known else None,
            alias=other.alias or self.alias,
            credential=other.credential if other.alias else self.credential,
        )

    def as_data(self) -> dict[str, object]:
        """As it stands in records."""
        data: dict[str, object] = {
            "input": self.input,
            "cached": self.cached,
            "output": self.output,
            "money": self.money,
        }
        if self.alias:
            data |= {"alias": self.alias, "credential": self.credential}
        for name in ("estimated", "unsure", "unpriced"):
            if value := getattr(self, name):
                data[name] = value
        return data

    @classmethod
    def read(cls, data: Mapping[str, Any] | None) -> "Usage":
        """From a record; nothing when it holds none."""
        if not data:
            return NOTHING
        money = data.get("money", 0.0)
        return cls(
            int(data.get("input") or 0),
            int(data.get("cached") or 0),
            int(data.get("output") or 0),
            None if money is None else float(money),
            str(data.get("alias") or ""),
            data.get("credential"),
            bool(data.get("estimated")),
            float(data.get("unsure") or 0),
            int(data.get("unpriced") or 0),
        )

    def __bool__(self) -> bool:
        """Whether anything was used."""
        return self != NOTHING


NOTHING = Usage()
