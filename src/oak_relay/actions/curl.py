"""A curl command as a step `http.request`: what proves who asks is told apart, to become a credential."""

import base64
import re
import shlex
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qsl, unquote, urlsplit, urlunsplit

from oak_relay.document import wire
from oak_relay.document.errors import Fault
from oak_relay.jsontext import NotJson, loads

LONGEST = 100_000
_LONG_LINE = re.compile(r"[\\^]\r?\n")
_ESCAPED = re.compile(r"\$'((?:[^'\\]|\\.)*)'")
_PROVES = re.compile(
    r"(^|[-_])(authorization|cookie|token|secret|signature|password|passwd|auth)([-_]|$)|api[-_]?key|^x-.*-key$",
    re.IGNORECASE,
)
_PROVES_FIELD = re.compile(
    r"(^|[-_])(token|secret|signature|password|passwd|pwd)([-_]|$)|api[-_]?key|^(key|auth|sig)$", re.IGNORECASE
)
_ALONE = frozenset((
    "-s", "--silent", "-S", "--show-error", "-L", "--location", "-i", "--include", "-v", "--verbose", "--compressed", "-g", "--globoff",
    "-f", "--fail", "-G", "--get", "-I", "--head", "--http1.1", "--http2", "-N", "--no-buffer", "-#", "--progress-bar",
))  # fmt: skip
_DATA = frozenset(("-d", "--data", "--data-raw", "--data-ascii", "--data-binary", "--json", "--data-urlencode"))
_IGNORED = frozenset((
    "-o", "--output", "-m", "--max-time", "--connect-timeout", "-e", "--referer", "--retry", "-w", "--write-out", "-c", "--cookie-jar",
))  # fmt: skip


class BadCommand(Fault, ValueError):
    """A text that is no curl command, or one that does what a step does not."""

    kind = "invalid"
    fix = "write the step by hand"


@dataclass(slots=True)
class Asked:
    """What a command asks for: the fields of `http.request`, and what proves who asks as the fields of a credential, None where
    nothing does; `notes` say what was left out."""

    fields: dict[str, Any] = field(default_factory=dict)
    credential: dict[str, Any] | None = None
    notes: list[str] = field(default_factory=list)


@dataclass(slots=True)
class _Said:
    """What the options say."""

    method: str = ""
    url: str = ""
    user: str = ""
    headers: dict[str, str] = field(default_factory=dict)
    data: list[str] = field(default_factory=list)
    parts: dict[str, object] = field(default_factory=dict)
    as_query: bool = False
    follows: bool = False
    notes: list[str] = field(default_factory=list)


def read(text: str) -> Asked:
    """The step that a command is. Raises `BadCommand`."""
    said = _options(_words(text))
    if not said.url:
        raise BadCommand("it names no address")
    url, query, said.user = _address(said)
    sends = (said.data and not said.as_query) or said.parts
    found = Asked({"method": said.method or ("POST" if sends else "GET"), "url": url}, notes=said.notes)
    if found.fields["method"] not in ("GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE"):
        raise BadCommand(f"a step does not send {found.fields['method'][:20]}")
    if said.data and said.as_query:
        query |= dict(parse_qsl("&".join(said.data), keep_blank_values=True))
    body = _body(said) if said.data and not said.as_query else {}
    proofs = _Proofs(said.headers, query, next(iter(body.values()), None), said.user)
    found.credential = proofs.credential(url)
    if query:
        found.fields["query"] = query
    if said.headers:
        found.fields["headers"] = said.headers
    found.fields |= {name: value for name, value in body.items() if value or name == "json"}
    if said.parts:
        found.fields["multipart"] = said.parts
    if said.follows:
        found.fields["redirects"] = 5
    return found


def _words(text: str) -> list[str]:
    """The words of a command, as a shell reads it. Raises `BadCommand`."""
    if len(text) > LONGEST:
        raise BadCommand("the command is too long")
    line = _LONG_LINE.sub(" ", text.strip()).removeprefix("$").strip()
    line = _ESCAPED.sub(lambda found: shlex.quote(_unescaped(found[1])), line)
    reader = shlex.shlex(line, posix=True, punctuation_chars=";|&<>()\n")
    reader.whitespace_split, reader.commenters, reader.whitespace = True, "", " \t\r"
    try:
        words = list(reader)
    except ValueError as error:
        raise BadCommand(f"a quotation mark has no end ({error})") from None
    while words and not words[-1].strip():
        words.pop()
    for word in words:
        if word and not word.strip(";|&<>()\n"):
            raise BadCommand(
                f"behind {word.strip() or 'a line'} another command follows; put the address in quotation marks"
            )
    if not words or words[0] != "curl":
        raise BadCommand("this is no curl command")
    return words[1:]


def _unescaped(text: str) -> str:
    kinds = {"n": "\n", "t": "\t", "r": "\r"}
    return re.sub(
        r"\\(u[0-9a-fA-F]{4}|x[0-9a-fA-F]{2}|.)",
        lambda found: chr(int(found[1][1:], 16)) if len(found[1]) > 1 else kinds.get(found[1], found[1]),
        text,
        flags=re.DOTALL,
    )


def _options(words: list[str]) -> _Said:
    said, left = _Said(), iter(words)

    def value(word: str) -> str:
        if word.startswith("--"):
            _, is_there, given = word.partition("=")
            return given if is_there else needed(word)
        return word[2:] if len(word) > 2 else needed(word)

    def needed(word: str) -> str:
        found = next(left, None)
        if found is None:
            raise BadCommand(f"{word[:40]} wants a value")
        return found

    for word in left:
        name = word.partition("=")[0] if word.startswith("--") else word[:2]
        if not word.startswith("-") or word == "-":
            said.url = said.url or word
        elif word in _ALONE or re.fullmatch(r"-[sSLivgfGIN#]+", word):
            short = "" if word.startswith("--") else word
            said.as_query |= "G" in short or word == "--get"
            said.follows |= "L" in short or word == "--location"
            said.method = "HEAD" if "I" in short or word == "--head" else said.method
        elif word in ("-k", "--insecure"):
            said.notes.append("its certificate is checked here")
        elif name in ("-X", "--request"):
            said.method = value(word).upper()
        elif name == "--url":
            said.url = value(word)
        elif name in ("-u", "--user"):
            said.user = value(word)
        elif name in ("-A", "--user-agent"):
            said.headers["User-Agent"] = value(word)
        elif name in ("-b", "--cookie"):
            said.headers["Cookie"] = value(word)
        elif name in ("-H", "--header"):
            key, is_there, given = value(word).partition(":")
            if is_there:
                said.headers[key.strip()] = given.strip()
        elif name in _DATA:
            _data(said, name, value(word))
        elif name in ("-F", "--form", "--form-string"):
            key, _, given = value(word).partition("=")
            if name != "--form-string" and given[:1] in ("@", "<"):
                raise BadCommand("it sends a file; give the step one under multipart")
            said.parts[key] = given
        elif name in _IGNORED:
            value(word)
        else:
            raise BadCommand(f"what {word[:40]} means is not known here")
    return said


def _data(said: _Said, name: str, given: str) -> None:
    if given.startswith("@") and name != "--data-raw":
        raise BadCommand("it sends a file; give the step one under file")
    if name == "--json":
        for key in ("Content-Type", "Accept"):
            said.headers.setdefault(key, "application/json")
    said.data.append(given)


def _address(said: _Said) -> tuple[str, dict[str, str], str]:
    """The address without query and user, the query, and the user."""
    text = said.url if re.match(r"[a-z]+://", said.url, re.IGNORECASE) else f"http://{said.url}"
    try:
        parts = urlsplit(text)
        host = f"[{parts.hostname}]" if parts.hostname and ":" in parts.hostname else parts.hostname or ""
        place = f"{host}:{parts.port}" if parts.port else host
    except ValueError as error:
        raise BadCommand(f"{said.url[:80]} is no address: {error}") from None
    url = urlunsplit((parts.scheme, place, parts.path or "/", "", ""))
    if fault := wire.address_fault(url):
        raise BadCommand(f"{url[:80]} is no address: {fault}")
    user = f"{unquote(parts.username)}:{unquote(parts.password or '')}" if parts.username else ""
    return url, dict(parse_qsl(parts.query, keep_blank_values=True)), said.user or user


def _body(said: _Said) -> dict[str, Any]:
    """The body as JSON or a form."""
    text = "&".join(said.data)
    key = next((name for name in said.headers if name.lower() == "content-type"), None)
    kind = said.headers[key].lower() if key else ""
    if not kind or "json" in kind:
        try:
            found = loads(text)
        except NotJson:
            found = None
        if found is not None:
            if key and kind.startswith("application/json"):
                del said.headers[key]
            return {"json": found}
    if not kind or "x-www-form-urlencoded" in kind:
        if key:
            del said.headers[key]
        return {"form": dict(parse_qsl(text, keep_blank_values=True))}
    raise BadCommand(f"it sends {kind[:60]} that cannot be read; a step sends JSON, forms and files")


class _Proofs:
    """What proves who asks; what is found of it is taken out of headers, query and body."""

    def __init__(self, headers: dict[str, str], query: dict[str, str], body: object, user: str) -> None:
        self._secrets: dict[str, str] = {}
        self._headers: dict[str, str] = {}
        self._query: dict[str, str] = {}
        self._body: dict[str, str] = {}
        self._user = user
        self._bearer = ""
        for name in [one for one in headers if _PROVES.search(one)]:
            self._header(name, headers.pop(name))
        for place, into in ((query, self._query), (body if isinstance(body, dict) else {}, self._body)):
            for name in [
                one for one in place if _PROVES_FIELD.search(one) and isinstance(place[one], str) and place[one]
            ]:
                into[name] = self._kept(name, str(place.pop(name)))

    def _header(self, name: str, value: str) -> None:
        way, _, rest = value.partition(" ")
        if name.lower() == "authorization" and way.lower() == "basic" and rest:
            try:
                self._user = base64.b64decode(rest.strip(), validate=True).decode()
                return
            except ValueError:
                pass
        if name.lower() == "authorization" and way.lower() == "bearer" and rest:
            self._bearer = rest.strip()
            return
        self._headers[name] = self._kept(name, value)

    def _kept(self, name: str, value: str) -> str:
        """The template that stands for a secret."""
        key = re.sub(r"[^A-Za-z0-9_]", "_", name)[:36]
        key = key if key[:1].isalpha() else f"s{key}"
        while key in self._secrets:
            key += "_"
        self._secrets[key] = value
        return f"{{{key}}}"

    def credential(self, url: str) -> dict[str, Any] | None:
        """The fields of a credential that goes to this place alone."""
        parts = urlsplit(url)
        hosts = {"hosts": [f"http://{parts.netloc}" if parts.scheme == "http" else parts.netloc]}
        name, _, password = self._user.partition(":")
        several = len(self._secrets) + bool(self._bearer) + bool(name) > 1 or bool(self._body)
        if not several and self._bearer:
            return {"kind": "bearer", "secret": self._bearer, **hosts}
        if not several and name:
            return {"kind": "basic", "user": name, "secret": password, **hosts}
        if not several and self._headers:
            return {
                "kind": "header",
                "header": next(iter(self._headers)),
                "secret": next(iter(self._secrets.values())),
                **hosts,
            }
        if not several and self._query:
            return {
                "kind": "query",
                "parameter": next(iter(self._query)),
                "secret": next(iter(self._secrets.values())),
                **hosts,
            }
        if not several:
            return None
        if self._bearer:
            self._headers["Authorization"] = f"Bearer {self._kept('token', self._bearer)}"
        if name:
            pair = base64.b64encode(self._user.encode()).decode()
            self._headers["Authorization"] = f"Basic {self._kept('pair', pair)}"
        told: Mapping[str, object] = {"headers": self._headers, "query": self._query, "body": self._body}
        return {"kind": "fields", "secrets": self._secrets, **{k: v for k, v in told.items() if v}, **hosts}
