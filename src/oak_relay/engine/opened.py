"""What is open in a run: asked of others, and neither ended nor taken back since."""

from oak_relay.engine.entries import Entry
from oak_relay.engine.paths import is_below, told_of


class Opened:
    """What is open behind the entries of a journal, by path; and the money that was `allotted` to child runs that have not
    told yet what they spent."""

    def __init__(self) -> None:
        self.entries: dict[str, Entry] = {}
        self.allotted: dict[str, float] = {}

    def take(self, entry: Entry) -> None:
        """Count an entry in, in the order of the journal."""
        if entry.kind == "opened":
            self.entries[entry.path] = entry
            money = (entry.body or {}).get("money")
            if money is not None and "fault" not in ((entry.body or {}).get("output") or {}):
                self.allotted[entry.path] = money
            return
        place, mark = told_of(entry.path)
        if mark in ("end", "woke", "spent"):
            self.entries.pop(place, None)
            self.allotted.pop(place, None)
        elif mark == "withdrawn":
            for path in [path for path in self.entries if is_below(path, place)]:
                del self.entries[path]

    def under(self, prefix: str) -> bool:
        """Whether something is open at a path or below it."""
        return any(is_below(path, prefix) for path in self.entries)
