"""Taking back what servers do to a text before they repeat it: escapes of JSON and of programs (RFC 8259), percent escapes
(RFC 3986), character references (HTML). One look takes back one layer of all of them."""

import html
import re
from array import array
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from itertools import accumulate

from typing_extensions import TypeAliasType

_CODED = re.compile(
    r"\\u[dD][89abAB][0-9A-Fa-f]{2}\\u[dD][c-fC-F][0-9A-Fa-f]{2}"  # a character beyond the first plane, in halves
    r"|\\u[0-9A-Fa-f]{4}|\\U[0-9A-Fa-f]{8}|\\x[0-9A-Fa-f]{2}"
    r"|(?:%[0-9A-Fa-f]{2})+"
    r"|&(?:#[0-9]{1,7}|#[xX][0-9A-Fa-f]{1,6}|[A-Za-z][A-Za-z0-9]{1,31});"
)
_ESCAPE = re.compile(_CODED.pattern + r"|\\[\\\"'/bfnrt]")
_UNFINISHED = re.compile(
    r"\\(?:u[0-9A-Fa-f]{0,3}|U[0-9A-Fa-f]{0,7}|x[0-9A-Fa-f]?)?\Z|%[0-9A-Fa-f]?\Z|&(?:#?[A-Za-z0-9]{0,31})?\Z"
)
_FIRST_HALF = re.compile(r"\\u[dD][89abAB]..")
MARKS = ("%", "&", "\\u", "\\U", "\\x")
"""What every escape that may stand for any character begins with."""
_SHORT = {"\\b": "\b", "\\f": "\f", "\\n": "\n", "\\r": "\r", "\\t": "\t", '\\"': '"', "\\'": "'", "\\/": "/"}


def decoded(text: str) -> str:
    """A text with one layer of escapes taken back; the same object when it holds none."""
    if "\\" in text:
        return _ESCAPE.sub(lambda found: _meant(found[0]), text) if _hard(text) else _quick(text)
    if "%" in text or "&" in text:
        return _CODED.sub(lambda found: _meant(found[0]), text)
    return text


def _hard(text: str) -> bool:
    """Whether there is more in a text than escapes of two characters."""
    return "\0" in text or any(mark in text for mark in MARKS)


def escapes_of(letters: Iterable[str]) -> list[str]:
    """The escapes of two characters that stand for some of these letters."""
    return [escape for escape, meant in {**_SHORT, "\\\\": "\\"}.items() if meant in letters]


def _quick(text: str) -> str:
    text = text.replace("\\\\", "\0")
    for escape, meant in _SHORT.items():
        text = text.replace(escape, meant)
    return text.replace("\0", "\\")


@lru_cache(maxsize=4096)
def _meant(escape: str) -> str:
    """What an escape stands for."""
    if escape[0] == "&":
        return html.unescape(escape)
    if escape[0] == "%":
        raw = bytes.fromhex(escape.replace("%", ""))
        try:
            return raw.decode()
        except UnicodeDecodeError:
            return raw.decode("latin-1")
    if escape[1] in "uUx" and len(escape) > 2:
        if len(escape) == 12:
            return chr(0x10000 + ((int(escape[2:6], 16) - 0xD800) << 10) + int(escape[8:], 16) - 0xDC00)
        number = int(escape[2:], 16)
        return chr(number) if number < 0x110000 else escape
    return _SHORT.get(escape, "\\")


def _waiting(escapes: str) -> int:
    """How many bytes at the end of percent escapes are of a letter that is not whole (RFC 3629)."""
    raw = bytes.fromhex(escapes[-9:].replace("%", ""))
    for back in range(1, len(raw) + 1):
        if raw[-back] >= 0xC0:
            return back if back < (2 if raw[-back] < 0xE0 else 3 if raw[-back] < 0xF0 else 4) else 0
    return 0


_ONE_BYTE = [3]


def _widths(escapes: str, meant: str) -> list[int] | None:
    """How long the escape of each letter is in a row of percent escapes, so that only the letter that is not whole yet is
    waited for, not the row; None where a part of it alone would mean something else."""
    if escapes[0] != "%" or len(meant) == 1:
        return None
    if meant.isascii():
        return _ONE_BYTE
    widths = [3 * len(letter.encode(errors="replace")) for letter in meant]
    return widths if sum(widths) == len(escapes) else None


Places = TypeAliasType("Places", "array[int]")
"""Positions in a text."""


@dataclass(frozen=True, slots=True)
class Layer:
    """A text of which layers of escapes are taken back, and where each of its characters stood in the text as it came:
    from `starts[n]` up to `ends[n]`."""

    text: str
    starts: Places
    ends: Places

    @classmethod
    def outermost(cls, text: str) -> "Layer":
        """A text as it came."""
        return cls(text, array("I", range(len(text))), array("I", range(1, len(text) + 1)))

    def until(self, end: int) -> "Layer":
        """Its first letters."""
        return Layer(self.text[:end], self.starts[:end], self.ends[:end])

    def below(self) -> "Layer | None":
        """The text under one more layer of escapes; None when there is none."""
        pieces: list[str] = []
        starts: Places = array("I")
        ends: Places = array("I")
        done = 0
        for found in _ESCAPE.finditer(self.text):
            first, last = found.span()
            meant = _meant(found[0])
            pieces += [self.text[done:first], meant]
            starts += self.starts[done:first]
            ends += self.ends[done:first]
            if (widths := _widths(found[0], meant)) is None:
                starts += self.starts[first : first + 1] * len(meant)
                ends += self.ends[last - 1 : last] * len(meant)
            elif widths == _ONE_BYTE:
                starts += self.starts[first:last:3]
                ends += self.ends[first + 2 : last : 3]
            else:
                places = list(accumulate(widths, initial=first))
                starts.extend(self.starts[place] for place in places[:-1])
                ends.extend(self.ends[place - 1] for place in places[1:])
            done = last
        if not done:
            return None
        return Layer("".join([*pieces, self.text[done:]]), starts + self.starts[done:], ends + self.ends[done:])

    def unfinished(self) -> int:
        """Where an escape begins that may go on beyond the text's end; its length when none does."""
        last = None
        for last in _ESCAPE.finditer(self.text):  # noqa: B007 - the last one is wanted
            pass
        done = last.end() if last else 0
        found = _UNFINISHED.search(self.text, max(done, len(self.text) - 40))
        end = found.start() if found else len(self.text)
        if last is None or end != done:
            return end
        if _FIRST_HALF.fullmatch(last[0]):
            return last.start()
        return end - 3 * _waiting(last[0]) if last[0][0] == "%" else end


def layers(text: str, most: int) -> Iterator[Layer]:
    """A text, and what is under each of its layers of escapes, so many at most."""
    layer: Layer | None = Layer.outermost(text)
    for _ in range(most + 1):
        if layer is None:
            return
        yield layer
        layer = layer.below()
