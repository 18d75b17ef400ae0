"""What a statement may do, before it is sent: parsed, looked at, and written anew of what was understood.

The database has the last word all the same (`postgres`, `sqlite`): what escapes this module changes nothing and reads nothing more.
"""

import fnmatch
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError
from sqlglot.optimizer.scope import Scope, traverse_scope

from oak_relay.document.errors import StepFailed

LONGEST = 20_000
_DEEPEST, _NODES = 150, 5_000
_NEVER = (
    exp.DML,
    exp.DDL,
    exp.Into,
    exp.Lock,
    exp.Command,
    exp.Create,
    exp.Drop,
    exp.Copy,
    exp.Set,
    exp.Pragma,
    exp.Attach,
    exp.Hint,
)
_FILES = (exp.ReadCSV, exp.ReadParquet)
FUNCTIONS = frozenset(
    [
        "abs",
        "age",
        "array_agg",
        "array_append",
        "array_length",
        "array_position",
        "array_remove",
        "array_to_string",
        "ascii",
        "bit_length",
        "btrim",
        "cardinality",
        "char_length",
        "chr",
        "clock_timestamp",
        "concat",
        "concat_ws",
        "corr",
        "cos",
        "cume_dist",
        "date",
        "date_bin",
        "date_part",
        "datetime",
        "degrees",
        "dense_rank",
        "every",
        "exp",
        "first_value",
        "floor",
        "format",
        "glob",
        "group_concat",
        "hex",
        "iif",
        "ifnull",
        "initcap",
        "instr",
        "isfinite",
        "json_agg",
        "json_array",
        "json_array_elements",
        "json_array_elements_text",
        "json_array_length",
        "json_build_array",
        "json_build_object",
        "json_each",
        "json_each_text",
        "json_extract",
        "json_extract_path",
        "json_extract_path_text",
        "json_object",
        "json_object_agg",
        "json_object_keys",
        "json_typeof",
        "jsonb_agg",
        "jsonb_array_elements",
        "jsonb_array_elements_text",
        "jsonb_array_length",
        "jsonb_build_array",
        "jsonb_build_object",
        "jsonb_each",
        "jsonb_each_text",
        "jsonb_extract_path",
        "jsonb_extract_path_text",
        "jsonb_object_agg",
        "jsonb_object_keys",
        "jsonb_path_exists",
        "jsonb_path_query",
        "jsonb_typeof",
        "julianday",
        "justify_days",
        "justify_hours",
        "justify_interval",
        "lag",
        "last_value",
        "lead",
        "left",
        "length",
        "likelihood",
        "likely",
        "ln",
        "log",
        "lpad",
        "ltrim",
        "make_date",
        "make_interval",
        "make_time",
        "make_timestamp",
        "make_timestamptz",
        "max",
        "md5",
        "min",
        "mod",
        "mode",
        "nth_value",
        "ntile",
        "nullif",
        "num_nonnulls",
        "num_nulls",
        "octet_length",
        "overlay",
        "percent_rank",
        "percentile_cont",
        "percentile_disc",
        "pi",
        "position",
        "power",
        "printf",
        "quote_literal",
        "radians",
        "random",
        "rank",
        "regexp_count",
        "regexp_instr",
        "regexp_like",
        "regexp_match",
        "regexp_matches",
        "regexp_replace",
        "regexp_split_to_array",
        "regexp_split_to_table",
        "regexp_substr",
        "regr_avgx",
        "regr_avgy",
        "regr_count",
        "regr_intercept",
        "regr_r2",
        "regr_slope",
        "repeat",
        "replace",
        "reverse",
        "right",
        "round",
        "row_number",
        "row_to_json",
        "rpad",
        "rtrim",
        "scale",
        "sign",
        "sin",
        "split_part",
        "sqrt",
        "starts_with",
        "statement_timestamp",
        "stddev_pop",
        "stddev_samp",
        "strftime",
        "string_to_array",
        "string_to_table",
        "strpos",
        "substr",
        "substring",
        "tan",
        "timeofday",
        "timezone",
        "to_char",
        "to_date",
        "to_hex",
        "to_json",
        "to_jsonb",
        "to_number",
        "to_timestamp",
        "total",
        "transaction_timestamp",
        "translate",
        "trim",
        "trim_array",
        "trunc",
        "typeof",
        "unicode",
        "unixepoch",
        "unlikely",
        "unnest",
        "upper",
        "var_pop",
        "var_samp",
        "variance",
        "width_bucket",
    ]
)
"""Functions that compute and nothing else; those that the parser knows by name need not stand here."""


@dataclass(frozen=True, slots=True)
class Allowed:
    """Tables that may be named: patterns as `bookings`, `stock.*`, `nights_*`; without a schema they mean the first of `schemas`."""

    schemas: tuple[str, ...]
    tables: tuple[str, ...] = ()

    def holds(self, schema: str, name: str) -> bool:
        """Whether a table may be named."""
        if not self.tables:
            return schema in self.schemas
        return any(self._fits(pattern, schema, name) for pattern in self.tables)

    def _fits(self, pattern: str, schema: str, name: str) -> bool:
        there, is_there, wanted = pattern.rpartition(".")
        where = there if is_there else self.schemas[0]
        return where == schema and fnmatch.fnmatchcase(name, wanted)

    def __str__(self) -> str:
        return ", ".join(self.tables) if self.tables else f"what is in {', '.join(self.schemas)}"


@dataclass(frozen=True, slots=True)
class Guarded:
    """A statement as it is sent, and the names of its parameters in their order."""

    sql: str
    parameters: tuple[str, ...] = ()


def reading(text: str, dialect: str, allowed: Allowed) -> Guarded:
    """One statement that reads. Raises `StepFailed`: `invalid` for what is none, `denied` for what it may not do."""
    root = _parsed(text, dialect)
    if not isinstance(root, exp.Query) or not list(root.find_all(exp.Select)):
        raise _denied(f"it is no SELECT but {_kind(root)}")
    return _looked_at(root, dialect, allowed)


def changing(text: str, dialect: str, allowed: Allowed) -> Guarded:
    """One statement that adds, changes or removes rows, its values given as parameters. Raises `StepFailed`."""
    root = _parsed(text, dialect)
    if not isinstance(root, exp.Insert | exp.Update | exp.Delete):
        raise _denied(f"it is no INSERT, UPDATE or DELETE but {_kind(root)}")
    if not allowed.tables:
        raise StepFailed("invalid", "sql.change wants tables: which may be changed", fix="name them under tables:")
    if isinstance(root, exp.Update | exp.Delete) and root.args.get("where") is None:
        raise _denied("it would change every row: it has no WHERE")
    literal = next((one for one in root.find_all(exp.Literal)), None)
    if literal is not None:
        raise _denied(f"{str(literal)[:60]} stands in it: give values as parameters, as :name, under params")
    return _looked_at(root, dialect, allowed, changes=root)


def _parsed(text: str, dialect: str) -> exp.Expr:
    if len(text) > LONGEST:
        raise StepFailed("invalid", f"a statement has at most {LONGEST:,} letters", fix="shorten it")
    if "\0" in text or _depth(text) > _DEEPEST:
        raise StepFailed("invalid", "the statement is nested too deep, or holds what no text does", fix="shorten it")
    try:
        found = [one for one in sqlglot.parse(text, dialect=dialect) if one is not None]
    except SqlglotError as error:
        said = str(error).splitlines()[0][:200] if str(error) else "it cannot be read"
        raise StepFailed("invalid", f"this is no SQL of {dialect}: {said}", fix="correct the statement") from None
    except (RecursionError, ValueError, TypeError, AttributeError, IndexError, KeyError):
        raise StepFailed("invalid", f"this is no SQL of {dialect}", fix="correct the statement") from None
    if len(found) != 1:
        raise _denied(f"it is {len(found)} statements, not one")
    return found[0]


def _depth(text: str) -> int:
    depth = most = 0
    for letter in text:
        depth += (letter in "([") - (letter in ")]")
        most = max(most, depth)
    return most


def _looked_at(root: exp.Expr, dialect: str, allowed: Allowed, changes: exp.Expr | None = None) -> Guarded:
    """Raises `StepFailed` (`denied`) for what may not be done."""
    for count, node in enumerate(root.walk()):
        if count > _NODES:
            raise StepFailed("invalid", "the statement has too many parts", fix="shorten it")
        if isinstance(node, _NEVER) and node is not changes:
            raise _denied(f"{_kind(node)} stands in it")
        if isinstance(node, _FILES) or (isinstance(node, exp.Anonymous) and node.name.lower() not in FUNCTIONS):
            raise _denied(f"the function {(node.name or _kind(node))[:60]} is not called here")
        if isinstance(node, exp.DataType) and node.sql(dialect).lower().lstrip('"').startswith("reg"):
            raise _denied(f"nothing is cast to {node.sql(dialect)[:40]} here")
        if isinstance(node, exp.Parameter | exp.SessionParameter):
            raise _denied("a parameter is written as :name")
    for schema, name in _tables(root, changes):
        if not allowed.holds(schema or allowed.schemas[0], name):
            where = f"{schema}.{name}" if schema else name
            raise _denied(f"the table {where[:100]} may not be named here; {allowed} may")
    return _written(root, dialect)


def _tables(root: exp.Expr, changes: exp.Expr | None) -> Iterator[tuple[str, str]]:
    """Schema and name of each table that is named, those of a `WITH` not. Raises `StepFailed` for one that cannot be told."""
    found: dict[int, tuple[str, str] | None] = {}
    for query in [root] if changes is None else _queries(root):
        for scope in _scopes(query):
            inner = set(scope.cte_sources)
            for table in scope.tables:
                is_inner = not table.db and not table.catalog and table.name in inner
                found[id(table)] = None if is_inner else _named(table)
    for table in root.find_all(exp.Table):
        if id(table) not in found:
            found[id(table)] = _named(table)
    yield from (one for one in found.values() if one is not None)


def _queries(root: exp.Expr) -> Iterable[exp.Expr]:
    """The queries of a statement that changes rows, the outermost ones."""
    return [one for one in root.find_all(exp.Query) if one.find_ancestor(exp.Query) is None]


def _scopes(query: exp.Expr) -> Sequence[Scope]:
    try:
        return traverse_scope(query)
    except (SqlglotError, RecursionError, ValueError, TypeError, AttributeError, KeyError):
        raise _denied("it cannot be told which tables it names") from None


def _named(table: exp.Table) -> tuple[str, str] | None:
    """Schema and name; None for a function in the place of a table, which is looked at as one."""
    if table.catalog:
        raise _denied("another database is not named here")
    if not isinstance(table.this, exp.Identifier):
        if isinstance(table.this, exp.Func):
            return None
        raise _denied("it cannot be told which tables it names")
    return table.db, table.name


def _written(root: exp.Expr, dialect: str) -> Guarded:
    names: list[str] = []
    for one in list(root.find_all(exp.Placeholder)):
        if not isinstance(one.this, str) or not one.this.isidentifier():
            raise _denied("a parameter is written as :name")
        if one.this not in names:
            names.append(one.this)
        if dialect == "postgres":
            one.replace(exp.Parameter(this=exp.Literal.number(names.index(one.this) + 1)))
    try:
        return Guarded(root.sql(dialect=dialect, comments=False), tuple(names))
    except (SqlglotError, RecursionError, ValueError):
        raise StepFailed("invalid", "the statement cannot be written", fix="write it in a simpler way") from None


def _kind(node: exp.Expr) -> str:
    return str(node.key).upper()


def _denied(why: str) -> StepFailed:
    return StepFailed("denied", f"this statement is not sent: {why}", fix="write one that does less")
