"""Requests that a sender would make, as commands for a shell (POSIX) that are ready to copy."""

import shlex
from collections.abc import Sequence

from oak_relay.document.expressions import Reference, compile_text, is_template

SECRET = "SECRET"
"""The shell's variable in which the stored secret must stand."""


def curl(
    method: str, url: str, headers: Sequence[tuple[str, str]] = (), body: str = "", more: Sequence[str] = ()
) -> str:
    """A call by curl; in values of headers `$NAME` stands for a variable of the shell, and nothing else does."""
    lines = [f"curl --globoff -X {method} {shlex.quote(url)}"]
    lines += [f"  -H {_quoted(f'{name}: {value}')}" for name, value in headers]
    if body:
        lines.append(f"  --data-raw {body}")
    return " \\\n".join((*lines, *(f"  {one}" for one in more)))


def quoted(text: str) -> str:
    """A text as one word of a shell."""
    return shlex.quote(text)


def _quoted(text: str) -> str:
    if "$" not in text:
        return shlex.quote(text)
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("`", "\\`") + '"'


def signed(text: str, digest: str, encoding: str, decoded: bool) -> str:
    """The shell's words for the HMAC of a text in double quotes; `decoded` when the secret is base64 behind `whsec_`."""
    key = f'"hexkey:$(printf %s "${{{SECRET}#whsec_}}" | base64 -d | od -An -vtx1 | tr -d \' \\n\')"'
    plain = f'"hexkey:$(printf %s "${SECRET}" | od -An -vtx1 | tr -d \' \\n\')"'
    written = "base64 -w0" if encoding == "base64" else "od -An -vtx1 | tr -d ' \\n'"
    return f"$(printf %s {text} | openssl dgst -{digest} -mac HMAC -macopt {key if decoded else plain} -binary | {written})"


def data_of(made: object, sample: object) -> object:
    """Data of an event from which `made`, the `input` of a trigger, makes something like a sample of the input."""
    found: dict[str, object] = {}
    _look(made, sample, found)
    return found


def _look(made: object, sample: object, found: dict[str, object]) -> None:
    if isinstance(made, dict):
        for name, one in made.items():
            _look(one, sample.get(name) if isinstance(sample, dict) else None, found)
    elif isinstance(made, list):
        for one in made:
            _look(one, None, found)
    elif isinstance(made, str) and is_template(made):
        expression = compile_text(made)
        for path in sorted(expression.references()):
            if path[:2] == ("event", "data") and len(path) > 2:
                _put(found, path[2:], sample if path == expression.path and sample is not None else "text")


def _put(found: dict[str, object], path: Reference, value: object) -> None:
    for key in path[:-1]:
        inner = found.setdefault(key, {})
        if not isinstance(inner, dict):
            return
        found = inner
    found.setdefault(path[-1], value)
