"""Many rows as parameters of one statement: a column is one parameter, however many rows there are.

Texts go as an array of texts. Everything else goes as one text that the server reads as an array (PostgreSQL, "Array Input and
Output Syntax"): a driver that looks at each value by itself takes many times as long.
"""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import cast

_AS_LISTED = frozenset({"int", "bigint", "float8", "bool"})
"""Types whose values a list of Python writes as the server reads them."""
Columns = Mapping[str, str]
"""Names of columns with their types, such as `{"run_id": "uuid", "body": "text"}`."""


def rows(columns: Columns, first: int) -> str:
    """Rows `u` out of columns, the first of them the so many-th parameter of a statement. They are limited to as many as there
    are, for then a plan expects few, and looks each up by its key however large a table grows."""
    arrays = [_array(first + place, kind) for place, kind in enumerate(columns.values())]
    return f"(SELECT * FROM unnest({', '.join(arrays)}) AS u({', '.join(columns)}) LIMIT cardinality({arrays[0]})) AS u"


def given(columns: Columns, values: Iterable[Sequence[object]]) -> list[object]:
    """The parameters for `rows`: `values` has a column for each of the columns."""
    pairs = zip(columns.values(), values, strict=True)
    return [list(column) if kind == "text" else _literal(kind, column) for kind, column in pairs]


def _array(place: int, kind: str) -> str:
    return f"${place}::text[]" if kind == "text" else f"${place}::text::{kind}[]"


def _literal(kind: str, column: Sequence[object]) -> str:
    """Values none of which holds a quote, a comma, a brace or a space: numbers, ids, moments, true and false."""
    if kind in _AS_LISTED:
        return f"{{{str(list(column))[1:-1].replace('None', 'NULL')}}}"
    if kind == "timestamptz":
        return f"{{{','.join(['NULL' if one is None else cast(datetime, one).isoformat() for one in column])}}}"
    return f"{{{','.join(['NULL' if one is None else str(one) for one in column])}}}"
