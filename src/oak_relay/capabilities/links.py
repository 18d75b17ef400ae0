"""Where the rows of a linked table live, as it is stored and asked for."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from oak_relay.document.wire import WebAddress

Name = Annotated[str, Field(min_length=1, max_length=120)]


class _Link(BaseModel):
    model_config = ConfigDict(extra="forbid", populate_by_name=True, frozen=True)
    key: tuple[Name, ...] = Field((), max_length=5, description="Columns that tell one row from all others.")


class DatabaseLink(_Link):
    """A table of a database."""

    kind: Literal["database"] = "database"
    credential: str = Field(max_length=60, description="A stored credential of the kind database.")
    schema_: Name = Field("public", alias="schema")
    table: Name = Field(description="The table in that database.")


class FileLink(_Link):
    """A sheet that lies on a server as a file (CSV or a workbook), and is written back whole (WebDAV, RFC 4918)."""

    kind: Literal["file"] = "file"
    url: WebAddress = Field(description="Where the file is.")
    credential: str | None = Field(None, max_length=60, description="A stored credential to read and write it with.")
    sheet: str = Field("", max_length=200, description="The sheet of a workbook; the first when left out.")


class Operation(BaseModel):
    """An action that is done for a row. In `with`, `${ row.column }` is a column of the row, `${ row }` all of it; of a row that
    is changed or removed `${ old }` is what was found."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True, frozen=True)
    do: str = Field(max_length=130, description="Name of an action.")
    with_: dict[str, object] = Field(default_factory=dict, alias="with", description="What it is given.")


class ListOperation(Operation):
    rows: str = Field("$", max_length=300, description="Where its answer has the list of rows (JSONPath).")


class OperationsLink(_Link):
    """Rows behind the operations of a connector."""

    kind: Literal["operations"] = "operations"
    credential: str | None = Field(
        None, max_length=60, description="Given to each operation that takes one and has none."
    )
    list: ListOperation
    add: Operation | None = None
    change: Operation | None = None
    remove: Operation | None = None


Link = Annotated[DatabaseLink | FileLink | OperationsLink, Field(discriminator="kind")]
_READS: TypeAdapter[Link] = TypeAdapter(Link)


def link_of(stored: object) -> Link:
    """A link as it is stored. Raises pydantic's `ValidationError`."""
    return _READS.validate_python(stored)
