"""What is kept of an OpenAPI document: its chosen operations, each with JSON Schemas of what it takes and gives."""

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

Where = Literal["path", "query", "header", "cookie"]
Style = Literal["simple", "form", "spaceDelimited", "pipeDelimited", "deepObject", "label", "matrix", "json"]
Schema = dict[str, Any]
KEY, CREDENTIAL, PAGES, BODY = "Idempotency-Key", "credential", "pages", "body"
"""The header of keyed requests, and the fields of every action that are no parameters of its operation."""


class Said(BaseModel):
    """Base of what is kept."""

    model_config = ConfigDict(extra="ignore", frozen=True)


class Parameter(Said):
    """One value outside of the body: the field it is given as, and how it is sent (OpenAPI 3.1, section 4.8.12)."""

    field: str
    name: str
    where: Where
    style: Style
    explode: bool = False
    reserved: bool = False
    """Whether what addresses reserve is sent as it is."""


class Body(Said):
    """What a request carries: its media type, and how it is written."""

    media: str
    form: Literal["json", "fields", "multipart", "file", "text"]


class Paging(Said):
    """How the next page is asked for: by an address in the answer (`next`) or its `Link` header (RFC 8288), by a mark in the
    answer that is sent as the parameter, by the number of items that were had, or by the number of the page."""

    how: Literal["link", "cursor", "offset", "page"]
    field: str = ""
    """The field that is set for the next page."""
    next: tuple[str, ...] = ()
    """Where in the answer the mark or address of the next page stands."""
    items: tuple[str, ...] = ()
    """Where in the answer the items stand; empty where it is a list itself."""


class Operation(Said):
    """An operation as an action: what documents call it, what it takes and gives, and how it is sent."""

    key: str
    """Method and path as the document has them: what it is known by from one import to the next."""
    name: str
    title: str
    about: str = ""
    group: str = ""
    method: str
    path: str
    parameters: tuple[Parameter, ...] = ()
    body: Body | None = None
    input: Schema = Field(default_factory=dict)
    output: Schema = Field(default_factory=dict)
    gives: Literal["data", "text", "file", "nothing"] = "data"
    repeat: Literal["safe", "keyed", "unsafe"] = "unsafe"
    credentials: tuple[str, ...] = ()
    scopes: tuple[str, ...] = ()
    sent_as: tuple[str, ...] = ()
    """Where its credential goes, in words, one for each way there is."""
    paging: Paging | None = None
    notes: tuple[str, ...] = ()


class Offered(Said):
    """An operation that a document offers, in short."""

    key: str
    name: str
    title: str
    group: str = ""
    repeat: Literal["safe", "keyed", "unsafe"] = "unsafe"
    fields: tuple[str, ...] = ()
    credentials: tuple[str, ...] = ()
    pages: bool = False
    fault: str = ""
    """Why it cannot be taken."""


class Description(Said):
    """What a document says: of itself, where its service is, and what it offers; the operations that were asked for in full."""

    title: str
    version: str
    about: str = ""
    addresses: tuple[str, ...] = ()
    offered: tuple[Offered, ...] = ()
    operations: tuple[Operation, ...] = ()
    notes: tuple[str, ...] = ()


class Described(Said):
    """A connector as it is kept: what it is called, where its service is, what it was read from, and its operations."""

    title: str
    address: str
    source: str = ""
    """The address or name of the document."""
    version: str = ""
    """As the document calls its version."""
    operations: tuple[Operation, ...] = ()
