"""Blanking: secrets are recognised in every form that servers naturally give them, and replaced before anything is shown
or written.

A secret is found as it is and under up to four layers of escapes, of whatever kinds (see `escapes`), and in base64 at each
of the three places where a longer text may put it. What is not found: a secret that is reversed, split, in other letters
than its own or lower ones, compressed or enciphered; one of few letters that are mostly escapes by themselves, once it is
escaped again. Texts are blanked, never JSON text as such: a number whose digits are a secret's becomes a text in the value,
and what is JSON stays JSON.
"""

import base64
import json
import re
import string
from collections.abc import Collection, Iterable, Iterator, Mapping
from decimal import Decimal
from typing import Any
from urllib.parse import quote

from ahocorasick_rs import BytesAhoCorasick, Implementation

from oak_relay.document import values
from oak_relay.vault.escapes import MARKS, Layer, decoded, escapes_of, layers

BLANK = "‹blanked›"
LAYERS = 4
"""Decodings under which a secret is looked for."""
CUT = "… ("
"""What stands between a text that was cut and how long it was."""
_CUT = re.compile(re.escape(CUT) + r"[\d,]+ characters\)\Z")
_SHORTEST = 8
"""Letters that a form has at least: shorter ones are ordinary words."""
_SHORTEST_UNDER = 6
"""The same, of a secret that looks as if there were escapes in it, with those taken back."""
_DIGITS = 4
"""Digits that an escape has at most which is written in its whole length."""
_HEAD = 8
"""Bytes of a form that the automaton looks for; what follows them is compared."""
_QUICK = 4_000
"""Heads up to which the automaton is laid out for speed, at some memory each."""
Span = tuple[int, int]


class Blanker:
    """Replaces every form of the given secrets."""

    def __init__(self, secrets: Iterable[str]) -> None:
        forms = {form for secret in secrets if secret for form in _forms(secret)}
        self._by_head: dict[bytes, list[bytes]] = {}
        for form in sorted(forms, key=len, reverse=True):
            raw = _bytes(form)
            self._by_head.setdefault(raw[:_HEAD], []).append(raw)
        self._heads: BytesAhoCorasick | None = None
        if forms:
            small = len(self._by_head) <= _QUICK
            how = Implementation.DFA if small else Implementation.ContiguousNFA
            self._heads = BytesAhoCorasick(list(self._by_head), implementation=how)
        self._begun = frozenset(head[:n] for head in self._by_head for n in range(1, len(head)))
        self._marks = (*MARKS, *escapes_of({letter for form in forms for letter in form}))

    def finds(self, text: str, most: int = LAYERS) -> bool:
        """Whether a text holds a secret in any form."""
        if self._heads is None:
            return False
        for _ in range(most):
            if next(self._found(_bytes(text)), None):
                return True
            if not any(mark in text for mark in self._marks):
                return False
            under = decoded(text)
            if under == text:
                return False
            text = under
        return next(self._found(_bytes(text)), None) is not None

    def _found(self, raw: bytes) -> Iterator[Span]:
        """Where forms stand in the bytes of a text."""
        assert self._heads is not None
        for _, first, last in self._heads.find_matches_as_indexes(raw, overlapping=True):
            form = next((one for one in self._by_head[raw[first:last]] if raw.startswith(one, first)), None)
            if form is not None:
                yield first, first + len(form)

    def text(self, text: str) -> str:
        """A text with every form of every secret replaced. Of one that says that it was cut, an end that a secret may begin
        with is left out."""
        cut = _CUT.search(text) if CUT in text and self._heads is not None else None
        if cut is not None:
            text = text[: self.begun(text[: cut.start()])] + cut[0]
        return _without(text, self._spans(text)) if self.finds(text) else text

    def head(self, text: str, most: int) -> str:
        """The first letters of a text, blanked; of a longer text without an end that a secret may begin with."""
        if len(text) <= most:
            return self.text(text)
        first = text[:most]
        return self.text(first[: self.begun(first)])

    def json(self, text: str) -> str:
        """JSON text with every value in it blanked; the text itself stays JSON. Texts in it are escaped once more than as
        values."""
        if self._heads is not None and (CUT in text or self.finds(text, LAYERS + 1)):
            return values.dumps(self.value(values.loads(text)))
        return text

    def value(self, value: object) -> Any:
        """A value with every text in it blanked, keys included."""
        if self._heads is None:
            return value
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, bool) or value is None:
            return value
        if isinstance(value, int | float | Decimal):
            return BLANK if self.finds(str(value)) else value
        if isinstance(value, Mapping):
            return self._mapping(value)
        if isinstance(value, list | tuple):
            return [self.value(v) for v in value]
        return value

    def _mapping(self, value: Mapping[Any, object]) -> dict[str, Any]:
        """A mapping, blanked; of keys that become alike each is kept."""
        made: dict[str, Any] = {}
        for key, one in value.items():
            shown = name = self.text(str(key))
            for number in range(2, len(value) + 2):
                if shown not in made:
                    break
                shown = f"{name} {number}"
            made[shown] = self.value(one)
        return made

    def _spans(self, text: str) -> list[Span]:
        """Where secrets stand in a text, in order, none in another."""
        found: list[Span] = []
        for layer in layers(text, LAYERS):
            raw = _bytes(layer.text)
            for first, last in _in_letters(raw, _joined(list(self._found(raw)))):
                found.append((layer.starts[first], layer.ends[last - 1]))
        return _joined(found)

    def begun(self, text: str) -> int:
        """Where a secret, or an escape, begins that may go on beyond a text's end; the text's length when none does."""
        if self._heads is None:
            return len(text)
        first = whole = len(text)
        layer: Layer | None = Layer.outermost(text)
        for _ in range(LAYERS + 1):
            if layer is None:
                break
            for _ in range(LAYERS):  # before an escape that is cut another one may stand, of the layer below
                if (end := layer.unfinished()) == len(layer.text):
                    break
                whole = min(whole, layer.starts[end])
                first = min(first, whole)
                layer = layer.until(end)
            begin = self._beginning(layer.text)
            if begin < len(layer.text):
                first = min(first, layer.starts[begin])
            layer = layer.below()
        # What is found by itself is no less a secret for a letter that is cut behind it, in the same run of escapes.
        found = [span for part in {text, text[:whole]} for span in self._spans(part)]
        return min((start for start, stop in found if start < first < stop), default=first)

    def _beginning(self, text: str) -> int:
        """Where the longest end of a text stands that a form begins with, and is longer than."""
        assert self._heads is not None
        raw = _bytes(text)
        for _, first, last in self._heads.find_matches_as_indexes(raw, overlapping=True):
            if any(
                len(form) > len(raw) - first and form.startswith(raw[first:]) for form in self._by_head[raw[first:last]]
            ):
                return _letters(raw, first)
        near = max(0, len(raw) - _HEAD + 1)
        return _letters(raw, next((n for n in range(near, len(raw)) if raw[n:] in self._begun), len(raw)))


class Stream:
    """A text that comes in pieces, blanked across their edges. Only what may yet become a secret is held back and read
    again."""

    def __init__(self, blanker: Blanker) -> None:
        self._blanker = blanker
        self._held = ""

    def take(self, piece: str) -> str:
        """What can be shown now."""
        text = self._held + piece
        end = self._blanker.begun(text)
        self._held = text[end:]
        return self._blanker.text(text[:end])

    def end(self) -> str:
        """What was held back, when nothing more comes."""
        held, self._held = self._held, ""
        return self._blanker.text(held)


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogatepass")


def _letters(raw: bytes, position: int) -> int:
    """How many letters stand before a position in the bytes of a text."""
    return position if raw.isascii() else len(raw[:position].decode("utf-8", "surrogatepass"))


def _in_letters(raw: bytes, spans: list[Span]) -> Iterator[Span]:
    """Spans of bytes, in order, as spans of letters."""
    if raw.isascii():
        yield from spans
        return
    letters = done = 0
    for first, last in spans:
        begin = letters + _letters(raw[done:first], first - done)
        letters, done = begin + _letters(raw[first:last], last - first), last
        yield begin, letters


def _joined(spans: list[Span]) -> list[Span]:
    """Spans in order; those that lie in each other or touch are one."""
    joined: list[Span] = []
    for first, last in sorted(spans):
        if joined and first <= joined[-1][1]:
            joined[-1] = joined[-1][0], max(last, joined[-1][1])
        else:
            joined.append((first, last))
    return joined


def _without(text: str, spans: list[Span]) -> str:
    pieces, done = [], 0
    for first, last in spans:
        pieces += [text[done:first], BLANK]
        done = last
    return "".join([*pieces, text[done:]])


def _forms(secret: str) -> Iterator[str]:
    """What a secret may look like once all escapes are taken back, those that it has by itself too."""
    yield secret
    under = secret
    for _ in range(LAYERS):
        under = decoded(under)
        if len(under) >= _SHORTEST_UNDER:
            yield under
    # Its own end may look like the beginning of an escape, and be taken for one together with what follows.
    begun = secret[: Layer.outermost(secret).unfinished()]
    if len(begun) >= _SHORTEST_UNDER:
        yield begun
    # And its beginning for the end of one that stands before it, as that of `ba…` behind a `%`.
    digits = next((n for n, letter in enumerate(secret[:_DIGITS]) if letter not in string.hexdigits), _DIGITS)
    for n in range(1, digits + 1):
        if len(secret) - n >= _SHORTEST_UNDER:
            yield secret[n:]
    for form in (secret.replace(" ", "+"), secret.lower()):
        if len(form) >= _SHORTEST:
            yield form
    for text in {
        secret,
        json.dumps(secret)[1:-1],
        json.dumps(secret, ensure_ascii=False)[1:-1],
        quote(secret, safe=""),
    }:
        yield from _in_base64(text.encode("utf-8", "replace"))


def _in_base64(raw: bytes) -> Iterator[str]:
    """How bytes look in base64 (RFC 4648), wherever in a longer text they stand."""
    for offset in range(3):
        encoded = base64.b64encode(b"\0" * offset + raw).decode().rstrip("=")
        # Characters that also hold bits of the neighbours are left out; the rest is this secret's alone.
        head = (0, 2, 3)[offset]
        tail = (offset + len(raw)) % 3
        kept = encoded[head : len(encoded) - (1 if tail else 0)]
        if len(kept) >= _SHORTEST:
            yield kept
            yield kept.replace("+", "-").replace("/", "_")


_PROOFS = frozenset(("authorization", "proxy-authorization", "cookie", "set-cookie", "x-api-key", "webhook-signature"))


def unseen(headers: Mapping[str, str], more: Collection[str] = ()) -> dict[str, str]:
    """Headers without those that carry proof of who somebody is, nor some more (in small letters)."""
    return {k: (BLANK if (low := k.lower()) in _PROOFS or low in more else v) for k, v in headers.items()}
