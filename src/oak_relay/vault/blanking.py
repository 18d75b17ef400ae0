"""Blanking: secrets are recognised in every form and replaced before anything is shown or written."""

import base64
import json
import re
from collections.abc import Iterable, Mapping
from decimal import Decimal
from typing import Any
from urllib.parse import quote, quote_plus

from oak_relay.document import values

BLANK = "‹blanked›"


class Blanker:
    """Replaces every form of the given secrets. Forms: plain, JSON-escaped, URL-encoded, base64 at each
    of the three offsets a longer text may put it at."""

    def __init__(self, secrets: Iterable[str]) -> None:
        forms = {form for secret in secrets if secret for form in _forms(secret)}
        ordered = sorted(forms, key=len, reverse=True)
        self._longest = max((len(form) for form in forms), default=0)
        self._begun: frozenset[str] | None = None
        self._forms = forms
        self._pattern = re.compile("|".join(re.escape(f) for f in ordered)) if ordered else None

    def text(self, text: str) -> str:
        """A text with every form of every secret replaced."""
        return text if self._pattern is None else self._pattern.sub(BLANK, text)

    def withheld(self, text: str) -> str:
        """What of a text that is still being written may be shown: blanked, without an end that could yet become a
        secret."""
        if self._pattern is None:
            return text
        if self._begun is None:
            self._begun = frozenset(form[:n] for form in self._forms for n in range(1, len(form)))
        first = max(0, len(text) - self._longest + 1)
        end = next((n for n in range(first, len(text)) if text[n:] in self._begun), len(text))
        whole = (match.span() for match in self._pattern.finditer(text))
        end = next((start for start, stop in whole if start < end < stop), end)
        return self.text(text[:end])

    def json(self, text: str) -> str:
        """JSON text with every value in it blanked; the text itself stays JSON."""
        if self._pattern is None or self._pattern.search(text) is None:
            return text
        return values.dumps(self.value(values.loads(text)))

    def value(self, value: object) -> Any:
        """A value with every text in it blanked, keys included."""
        if self._pattern is None:
            return value
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, bool) or value is None:
            return value
        if isinstance(value, int | float | Decimal):
            return value if self.text(str(value)) == str(value) else BLANK
        if isinstance(value, Mapping):
            return {self.text(str(k)): self.value(v) for k, v in value.items()}
        if isinstance(value, list | tuple):
            return [self.value(v) for v in value]
        return value


def _forms(secret: str) -> Iterable[str]:
    yield secret
    yield json.dumps(secret)[1:-1]
    yield json.dumps(secret, ensure_ascii=False)[1:-1]
    yield quote(secret, safe="")
    yield quote(secret)
    yield quote_plus(secret)
    raw = secret.encode()
    for offset in range(3):
        encoded = base64.b64encode(b"\0" * offset + raw).decode().rstrip("=")
        # Characters that also hold bits of the neighbours are left out; the rest is this secret's alone.
        head = (0, 2, 3)[offset]
        tail = (offset + len(raw)) % 3
        kept = encoded[head : len(encoded) - (1 if tail else 0)]
        if len(kept) >= 8:
            yield kept
            yield kept.replace("+", "-").replace("/", "_")
            yield quote(kept, safe="")


def unseen(headers: Mapping[str, str]) -> dict[str, str]:
    """Headers without those that carry proof of who somebody is."""
    hidden = ("authorization", "proxy-authorization", "cookie", "set-cookie", "x-api-key", "webhook-signature")
    return {k: (BLANK if k.lower() in hidden else v) for k, v in headers.items()}
