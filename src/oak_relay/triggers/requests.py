"""Requests that a sender would make, as commands for a shell (POSIX) that are ready to copy."""

import shlex
from collections.abc import Sequence

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
