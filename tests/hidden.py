"""Secrets of awkward shapes, and what servers do to a text before they repeat it."""

import html
import json
import re
from collections.abc import Callable
from urllib.parse import quote, quote_plus

LETTERS = "aZ09 -_.~+=&;%#\"'\\/<>{}[]:\u00e9\u4e16\U0001f332"
SECRETS = [
    "93017465528", "secret-word-123456", 'pine"needle"12', "back\\slash\\n\\t", "a/b/c/d/e/f/g", "schl\u00fcssel-\u4e16\u754c", "\U0001f332\U0001f332\U0001f332\U0001f332\U0001f332\U0001f332\U0001f332\U0001f332",
    "50%25off%2Fnow", "&amp;&quot;&lt;x", "two words here", "12345678", "k" * 8, "q9-" * 1333, "'; DROP TABLE", "<b>not bold</b>", "[/x]\\u0041bcdef", "a+b=c&d=e;f", "C:\\new\\table\\readme", "{\"n\":123456}", "whsec_bW9zc3kgc3RvbmU=",
]  # fmt: skip


def _in_units(text: str, code: Callable[[int], str]) -> str:
    """Each letter of a text in UTF-16, as a server may escape it."""
    raw = text.encode("utf-16-be")
    return "".join(code(int.from_bytes(raw[n : n + 2], "big")) for n in range(0, len(raw), 2))


ESCAPES: dict[str, Callable[[str], str]] = {
    "JSON": lambda t: json.dumps(t)[1:-1],
    "JSON in UTF-8": lambda t: json.dumps(t, ensure_ascii=False)[1:-1],
    "JSON with \\/": lambda t: json.dumps(t)[1:-1].replace("/", "\\/"),
    "JSON all escaped": lambda t: _in_units(t, lambda n: f"\\u{n:04x}"),
    "JSON all escaped, upper": lambda t: _in_units(t, lambda n: f"\\u{n:04X}"),
    "percent": lambda t: quote(t, safe=""),
    "percent, path": quote,
    "percent, lower": lambda t: re.sub("%..", lambda m: m[0].lower(), quote(t, safe="")),
    "percent, all": lambda t: "".join(f"%{b:02X}" for b in t.encode()),
    "form": quote_plus,
    "HTML": html.escape,
    "HTML by numbers": lambda t: "".join(f"&#{ord(c)};" for c in t),
    "HTML by hexadecimal numbers": lambda t: "".join(f"&#x{ord(c):X};" for c in t),
}


def escaped(secret: str, names: list[str]) -> str:
    """A secret under layers of escapes, the first named innermost."""
    for name in names:
        secret = ESCAPES[name](secret)
    return secret
