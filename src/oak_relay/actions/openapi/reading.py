"""An OpenAPI document (3.0, 3.1) as operations in our own form."""

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin, urlsplit

from oak_relay.actions.openapi import naming
from oak_relay.actions.openapi.paging import paging
from oak_relay.actions.openapi.schemas import FILE, Conversion, Document, is_file
from oak_relay.actions.openapi.security import Needed, needed
from oak_relay.actions.openapi.shapes import (
    BODY,
    CREDENTIAL,
    KEY,
    PAGES,
    Body,
    Description,
    Offered,
    Operation,
    Parameter,
    Schema,
)
from oak_relay.actions.openapi.text import BadDescription, data_of

MOST = 5_000
"""Operations that are looked at."""
TAKEN = 400
"""Operations that one connector has at most."""
_METHODS = ("get", "head", "options", "post", "put", "patch", "delete")
_SAFE = ("get", "head", "options", "put", "delete")
_STYLES = {"path": "simple", "query": "form", "header": "simple", "cookie": "form"}
_IGNORED = ("accept", "content-type", "authorization")
"""Headers that are said elsewhere in a document (section 4.8.12.2)."""
_PARAMETERS = 200
PAGES_FIELD: Schema = {
    "type": "integer",
    "minimum": 1,
    "maximum": 1000,
    "default": 1,
    "description": "How many pages are asked for at most; their items are put together.",
}


def described(raw: bytes, keys: Collection[str] | None, place: str = "") -> Description:
    """What a document says; those operations in full whose keys are asked for. `place` is the address it was read from, to
    which that of its service may be relative. Raises `BadDescription`."""
    data = data_of(raw)
    version = data.get("openapi")
    if not isinstance(version, str) or not version.startswith(("3.0", "3.1")):
        said = f"OpenAPI {version}" if isinstance(version, str) else "no OpenAPI document"
        if "swagger" in data:
            said = f"an OpenAPI document of version {str(data['swagger'])[:20]}"
        raise BadDescription(f"this is {said}", "give one of version 3.0 or 3.1; there are converters for older ones")
    info = data.get("info")
    about = info if isinstance(info, Mapping) else {}
    document = Document(data)
    every = list(_every(document, _Ways(Conversion(document, "in"), Conversion(document, "out"))))
    if not every:
        raise BadDescription("the document has no operation", "it has them under `paths`")
    wanted = None if keys is None else set(keys)
    return Description(
        title=str(about.get("title") or "A service")[:120],
        version=str(about.get("version") or "")[:60],
        about=naming.sentence(about.get("description"), 300),
        addresses=tuple(_addresses(data.get("servers"), place)),
        offered=tuple(one.offered() for one in every),
        operations=tuple(one.whole() for one in every if wanted is not None and one.key in wanted),
        notes=tuple(_notes(document, len(every))),
    )


def _notes(document: Document, count: int) -> Iterator[str]:
    if document.elsewhere:
        yield f"it refers to other documents, which are not fetched: {', '.join(sorted(document.elsewhere)[:5])}"
    if count >= MOST:
        yield f"only its first {MOST:,} operations were looked at"


def _addresses(servers: object, place: str) -> Iterator[str]:
    """Where a service is: absolute addresses, variables as their defaults."""
    some = servers if isinstance(servers, list) and servers else [{"url": "/"}]
    for one in some[:20]:
        if not isinstance(one, Mapping) or not isinstance(one.get("url"), str):
            continue
        url = one["url"][:2_000]
        known = one.get("variables")
        for name, told in known.items() if isinstance(known, Mapping) else ():
            if isinstance(told, Mapping):
                url = url.replace(f"{{{name}}}", str(told.get("default", "")))
        found = urljoin(place, url) if place else url
        try:
            parts = urlsplit(found)
        except ValueError:
            continue
        if parts.scheme in ("http", "https") and parts.hostname:
            yield found.rstrip("/")


@dataclass(frozen=True, slots=True)
class _Ways:
    """Schemas of what operations take and give."""

    taken: Conversion
    given: Conversion


def _every(document: Document, ways: _Ways) -> Iterator["_Read"]:
    paths, taken, count = document.data.get("paths"), set[str](), 0
    for path, item in paths.items() if isinstance(paths, Mapping) else ():
        told = document.target(item)
        if not isinstance(told, Mapping) or not str(path).startswith("/"):
            continue
        for method in _METHODS:
            operation = told.get(method)
            if isinstance(operation, Mapping):
                yield _Read(document, ways, method, str(path)[:1_000], told, operation, taken)
                count += 1
                if count >= MOST:
                    return


class _Read:
    """One operation of a document."""

    def __init__(
        self,
        document: Document,
        ways: _Ways,
        method: str,
        path: str,
        item: Mapping[str, Any],
        operation: Mapping[str, Any],
        taken: set[str],
    ) -> None:
        self._document, self._ways, self._method, self._path = document, ways, method, path
        self._item, self._operation = item, operation
        self.key = f"{method.upper()} {path}"
        self.name = naming.free(naming.of_operation(method, path, operation.get("operationId")), taken)
        self._said: list[tuple[Parameter, Mapping[str, Any]]] = []
        self._keyed_by = ""
        self._parameters()
        self._needs: Needed = needed(document, operation)
        self._carries = self._body()
        self._answers = self._answer()
        self._pages = (
            paging(
                document, tuple(one for one, _ in self._said), self._answers.get("schema"), self._answers.get("headers")
            )
            if method == "get"
            else None
        )

    @property
    def title(self) -> str:
        """What it does, in a sentence."""
        said = self._operation
        summary, about = naming.sentence(said.get("summary")), naming.sentence(said.get("description"))
        if about and naming.slug(summary) == self.name:  # made of the operation's name by a program
            return about
        return summary or about or self.key

    @property
    def group(self) -> str:
        """The first of its tags."""
        tags = self._operation.get("tags")
        return str(tags[0])[:60] if isinstance(tags, list) and tags else ""

    @property
    def repeat(self) -> str:
        """What repeating it means: by its method (RFC 9110), or a key that it takes."""
        return "safe" if self._method in _SAFE else "keyed" if self._keyed_by else "unsafe"

    def offered(self) -> Offered:
        """In short."""
        return Offered(
            key=self.key,
            name=self.name,
            title=self.title,
            group=self.group,
            repeat=self.repeat,
            fields=tuple([one.field for one, _ in self._said][:30] + ([BODY] if self._carries else [])),
            credentials=self._needs.kinds,
            pages=self._pages is not None,
            fault=self._fault(),
        )

    def whole(self) -> Operation:
        """As it is kept. Raises `BadDescription` for one that cannot be carried out."""
        if fault := self._fault():
            raise BadDescription(f"{self.key}: {fault}", "leave it out")
        notes: list[str] = []
        given, note = self._ways.taken.alone(self._input())
        notes += [f"Of what it takes, {note}."] if note else []
        gives, answer = self._gives()
        told, note = self._ways.given.alone(answer)
        notes += [f"Of what it gives, {note}."] if note else []
        notes += ["It is going out of use, its document says."] if self._operation.get("deprecated") is True else []
        return Operation(
            key=self.key,
            name=self.name,
            title=self.title,
            about=naming.sentence(self._operation.get("description"), 400),
            group=self.group,
            method=self._method.upper(),
            path=self._path,
            parameters=tuple(one for one, _ in self._said),
            body=self._carries[0] if self._carries else None,
            input=given,
            output=told,
            gives=gives,
            repeat=self.repeat,
            credentials=self._needs.kinds,
            scopes=self._needs.scopes,
            sent_as=self._needs.ways,
            paging=self._pages,
            notes=tuple(notes),
        )

    def _fault(self) -> str:
        """Why it cannot be carried out; empty when it can."""
        if len(self._said) > _PARAMETERS:
            return f"it has more than {_PARAMETERS} parameters"
        named = {one.name for one, _ in self._said if one.where == "path"}
        for part in self._path.split("{")[1:]:
            if part.split("}")[0] not in named:
                return f"its path names {part.split('}')[0][:60]}, which is no parameter of it"
        return ""

    def _parameters(self) -> None:
        """The parameters of the path and of the operation, the latter's first."""
        every: dict[tuple[str, str], Mapping[str, Any]] = {}
        for some in (self._item.get("parameters"), self._operation.get("parameters")):
            for one in some if isinstance(some, list) else ():
                told = self._document.target(one)
                if isinstance(told, Mapping) and isinstance(told.get("name"), str) and str(told.get("in")) in _STYLES:
                    every[str(told["in"]), told["name"][:200]] = told
        taken = {BODY, CREDENTIAL, PAGES}
        for (where, name), told in every.items():
            if where == "header" and name.lower() in _IGNORED:
                continue
            if where == "header" and name.lower() == KEY.lower():
                self._keyed_by = name
                continue
            inner = told.get("content")
            style = "json" if isinstance(inner, Mapping) and inner else str(told.get("style") or _STYLES[where])
            if style not in (
                "simple",
                "form",
                "spaceDelimited",
                "pipeDelimited",
                "deepObject",
                "label",
                "matrix",
                "json",
            ):
                style = _STYLES[where]
            wished = name if naming.slug(name) == name.lower().replace("-", "_") else naming.slug(name)
            field = naming.free(wished if wished not in taken else f"{wished}_{where}", taken)
            explode = told.get("explode")
            self._said.append(
                (
                    Parameter(
                        field=field,
                        name=name,
                        where=where,
                        style=style,
                        explode=explode if isinstance(explode, bool) else style == "form",
                        reserved=told.get("allowReserved") is True,
                    ),
                    told,
                )
            )

    def _body(self) -> tuple[Body, object, bool] | None:
        """What is sent, the schema of it, and whether it must be; None when nothing is."""
        told = self._document.target(self._operation.get("requestBody"))
        content = told.get("content") if isinstance(told, Mapping) else None
        if not isinstance(content, Mapping) or not content:
            return None
        media, form = min(((str(media), _form(str(media))) for media in content), key=lambda one: _ORDER[one[1]])
        inner = content.get(media)
        schema = inner.get("schema", {}) if isinstance(inner, Mapping) else {}
        if form == "file" and not is_file(self._document.target(schema)):
            schema = FILE
        kind = _media(media) if "*" not in media else "application/octet-stream"
        return Body(media=kind, form=form), schema, told.get("required") is True

    def _input(self) -> Schema:
        """The schema of all that is given, still with the document's references."""
        fields: dict[str, Any] = {}
        must: list[str] = []
        for one, told in self._said:
            content = told.get("content")
            inner = next(iter(content.values()), {}) if isinstance(content, Mapping) else told
            schema = inner.get("schema") if isinstance(inner, Mapping) else None
            said = {"description": told["description"]} if isinstance(told.get("description"), str) else {}
            shown = {"example": told["example"]} if "example" in told else {}
            fields[one.field] = {**(schema if isinstance(schema, Mapping) else {}), **said, **shown}
            if told.get("required") is True or one.where == "path":
                must.append(one.field)
        if self._carries:
            fields[BODY] = self._carries[1]
            must += [BODY] if self._carries[2] else []
        if self._needs.ways:
            ways = " or ".join(self._needs.ways)
            fields[CREDENTIAL] = {"type": "string", "description": f"Name of a stored credential: {ways}."}
            must += [CREDENTIAL] if self._needs.always else []
        if self._pages is not None:
            fields[PAGES] = PAGES_FIELD
        return {"type": "object", "properties": fields, "required": must, "additionalProperties": False}

    def _answer(self) -> Mapping[str, Any]:
        """Schema, media type and headers of what it answers when all goes well."""
        told = self._operation.get("responses")
        some = {str(code).upper(): one for code, one in told.items()} if isinstance(told, Mapping) else {}
        fine = sorted(code for code in some if code.startswith("2") and len(code) == 3)
        chosen: Mapping[str, Any] = {}
        for code in [*fine, "DEFAULT"] if fine else ["DEFAULT"]:
            one = self._document.target(some.get(code))
            if not isinstance(one, Mapping):
                continue
            content = one.get("content")
            if isinstance(content, Mapping) and content:
                media = min((str(name) for name in content), key=lambda name: _ORDER[_form(name)])
                inner = content.get(media)
                schema = inner.get("schema", {}) if isinstance(inner, Mapping) else {}
                return {"media": media, "schema": schema, "headers": one.get("headers")}
            chosen = chosen or {"headers": one.get("headers")}
        return chosen

    def _gives(self) -> tuple[Any, Schema]:
        media, schema = self._answers.get("media"), self._answers.get("schema")
        if media is None:
            return "nothing", {}
        form = _form(str(media))
        if form == "json":
            return "data", dict(schema) if isinstance(schema, Mapping) else {}
        if form == "text" and not is_file(self._document.target(schema)):
            return "text", {"type": "string"}
        return "file", FILE


_ORDER = {"json": 0, "fields": 1, "multipart": 2, "text": 3, "file": 4}


def _media(media: str) -> str:
    return media.split(";")[0].strip().lower()[:120]


def _form(media: str) -> str:
    """How something of a media type is written and read."""
    kind = _media(media)
    if kind in ("application/json", "*/*") or kind.endswith("+json"):
        return "json"
    if kind == "application/x-www-form-urlencoded":
        return "fields"
    if kind == "multipart/form-data":
        return "multipart"
    return "text" if kind.startswith("text/") else "file"
