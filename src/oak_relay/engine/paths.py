"""Paths of entries: where in a run something happened, and what about it an entry tells.

`per_hut[3].findings/turn[2]/look_up[0].or1` names a place: steps stand behind dots (behind `!.` those of an `on_error`), items
and rounds in brackets, parts of long lists as `[0:100]`, an agent's opening, turns and calls behind slashes. `~2` is a further
attempt of a child run, or a further time that something is asked. Behind `#` stands a mark, which says what of the place is told; what is told of a mark stands behind
another one: `pay#unknown1#end`.
"""

import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

PlaceKind = Literal["step", "item", "part", "turn", "call", "open"]
_ITEM = re.compile(r"\[\d+\]$")
_PART = re.compile(r"\[\d+:\d+\]$")
_NUMBERS = re.compile(r"\[[\d:]+\]")
_OF_AGENT = re.compile(r"/(turn)\[\d+\]$|/turn\[\d+\](/)[\w]+\[\d+\](\.or\d+)?$|/(open)$")
_TRY = re.compile(r"~(\d+)$")
_TRIES = re.compile(r"~\d+(?=$|[./!])")
_INNER = re.compile(r"(!?\.)|(\[)|(\])|(/)")
_AGENT_PART = re.compile(r"/\w+$")


@dataclass(frozen=True, slots=True)
class EntryPath:
    """A path as its parts: the place, the mark behind it, and the number of the attempt."""

    place: str
    mark: str = ""
    attempt: int = 1

    @classmethod
    def parse(cls, text: str) -> "EntryPath":
        """Of a text as it stands with an entry."""
        return _parsed(text)

    @property
    def kind(self) -> PlaceKind:
        """What stands at the place."""
        found = _OF_AGENT.search(self.place)
        if found:
            return "turn" if found[1] else "open" if found[4] else "call"
        return "item" if _ITEM.search(self.place) else "part" if _PART.search(self.place) else "step"

    @property
    def line(self) -> str:
        """The place in the script: without the numbers of items and turns."""
        return _NUMBERS.sub("[]", _TRIES.sub("", self.place))

    @property
    def spot(self) -> str:
        """The place, whichever time something is tried or asked there."""
        return _TRIES.sub("", self.place)

    @property
    def parent(self) -> str:
        """The place that it lies in, empty at the top."""
        place = self.place
        if _OF_AGENT.search(place) and ".or" not in place.rpartition("/")[2]:
            return place.rpartition("/")[0]
        if place.endswith("]"):
            return place[: place.rindex("[")]
        return _TRY.sub("", place.rpartition(".")[0].rstrip("!"))

    @property
    def name(self) -> str:
        """The last word of the place: a step's name, or a tool's."""
        return self.place.rpartition(".")[2].rpartition("/")[2].partition("[")[0]

    def around(self) -> list[str]:
        """The places that it lies in, the outermost first."""
        found = []
        for inner in _INNER.finditer(self.place):
            if inner.group() == "[" and _AGENT_PART.search(self.place[: inner.start()]):
                continue  # turns and calls are numbered, but nothing holds them together but their agent or turn
            outer = _TRY.sub("", self.place[: inner.start() + (1 if inner.group() == "]" else 0)])
            if outer and outer != self.place:
                found.append(outer)
        return found


@lru_cache(maxsize=4096)
def _parsed(text: str) -> EntryPath:
    place, _, mark = text.partition("#")
    found = _TRY.search(place)
    return EntryPath(place[: found.start()], mark, int(found[1])) if found else EntryPath(place, mark)


def told_of(path: str) -> tuple[str, str]:
    """What the last mark of a path tells of, and that mark: `pay#unknown1` and `end` of `pay#unknown1#end`."""
    owner, _, mark = path.rpartition("#")
    return owner, mark


def is_below(path: str, prefix: str) -> bool:
    """Whether a path is `prefix` or lies inside it; all paths lie inside the empty one."""
    if not prefix:
        return True
    return path.startswith(prefix) and path[len(prefix) : len(prefix) + 1] in ("", ".", "[", "!", "#", "~", "/")


def scope_of(path: str) -> str:
    """The innermost item, round, agent or turn around an entry, or the list or loop whose item, round or part it tells of;
    empty at the top."""
    if "]" not in path and "/" not in path:
        return ""
    owner = path.partition("#")[0]
    if "/" in owner:
        return owner[: owner.rindex("/")]
    if owner.endswith("]"):
        return owner[: owner.rindex("[")]
    return owner[: owner.rfind("]") + 1]


def turn_of(agent: str, number: int) -> str:
    """The place of a turn of an agent."""
    return f"{agent}/turn[{number}]"


def turn_at(path: str) -> tuple[str, int] | None:
    """The agent and the number of a turn; None when a path is no turn."""
    agent, found, number = path.rpartition("/turn[")
    return (agent, int(number[:-1])) if found and number[-1:] == "]" and number[:-1].isdigit() else None
