"""The guarded Jinja environment: allow-listed syntax, keys before methods, fuel, values that may be missing."""

import math
import operator as operators
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from decimal import Decimal
from functools import wraps
from typing import Any, NoReturn, cast

from jinja2 import Undefined, filters, nodes
from jinja2.exceptions import SecurityError, UndefinedError
from jinja2.runtime import Context, LoopContext
from jinja2.sandbox import SandboxedEnvironment
from jinja2.visitor import NodeTransformer

from oak_relay.document.errors import StepFailed
from oak_relay.document.filters import OWN_FILTERS, joined
from oak_relay.document.meter import LONGEST_TEXT, METER, short_text, sound_number
from oak_relay.document.values import text_of

_PLAIN = 2**62
_QUICK = {"+": operators.add, "*": operators.mul, "%": operators.mod, "-": operators.sub}
"""What is computed at once where both sides are whole numbers below `_PLAIN`."""

_NODES: tuple[type[nodes.Node], ...] = (
    nodes.Template,
    nodes.Output,
    nodes.TemplateData,
    nodes.For,
    nodes.If,
    nodes.Assign,
    nodes.Name,
    nodes.Const,
    nodes.Tuple,
    nodes.List,
    nodes.Dict,
    nodes.Pair,
    nodes.Keyword,
    nodes.CondExpr,
    nodes.Filter,
    nodes.Test,
    nodes.Call,
    nodes.Getitem,
    nodes.Getattr,
    nodes.Slice,
    nodes.Concat,
    nodes.Compare,
    nodes.Operand,
    nodes.Add,
    nodes.Sub,
    nodes.Mul,
    nodes.Div,
    nodes.FloorDiv,
    nodes.Mod,
    nodes.Pow,
    nodes.Neg,
    nodes.Pos,
    nodes.And,
    nodes.Or,
    nodes.Not,
)
_JINJA_FILTERS = (
    "abs",
    "capitalize",
    "d",
    "default",
    "dictsort",
    "first",
    "float",
    "groupby",
    "int",
    "items",
    "last",
    "length",
    "count",
    "lower",
    "map",
    "max",
    "min",
    "reject",
    "rejectattr",
    "reverse",
    "select",
    "selectattr",
    "sort",
    "striptags",
    "title",
    "trim",
    "truncate",
    "upper",
    "urlencode",
    "wordcount",
)
_SHALLOW = frozenset(
    [
        "abs",
        "d",
        "default",
        "first",
        "float",
        "int",
        "items",
        "join",
        "jsonpath",
        "last",
        "length",
        "count",
        "list",
        "map",
        "reject",
        "rejectattr",
        "reverse",
        "select",
        "selectattr",
        "sum",
    ]
)
"""Filters that look no deeper than at the items of what they are given, or use fuel themselves."""
_TESTS = (
    "defined",
    "undefined",
    "none",
    "boolean",
    "false",
    "true",
    "integer",
    "float",
    "number",
    "string",
    "mapping",
    "sequence",
    "iterable",
    "odd",
    "even",
    "divisibleby",
    "lower",
    "upper",
    "eq",
    "==",
    "equalto",
    "ne",
    "!=",
    "gt",
    ">",
    "greaterthan",
    "ge",
    ">=",
    "lt",
    "<",
    "lessthan",
    "le",
    "<=",
    "in",
    "sameas",
)
_METHODS: dict[type, tuple[str, ...]] = {
    str: (
        "upper",
        "lower",
        "strip",
        "lstrip",
        "rstrip",
        "split",
        "splitlines",
        "startswith",
        "endswith",
        "title",
        "capitalize",
        "find",
        "count",
        "removeprefix",
        "removesuffix",
    ),
    dict: ("items", "keys", "values", "get"),
    list: ("index", "count"),
}
METHODS = frozenset(name for names in _METHODS.values() for name in names)
"""All methods of values that expressions may call."""
_MOMENT = ("year", "month", "day", "hour", "minute", "second")
_LOOP = ("index", "index0", "revindex", "revindex0", "first", "last", "length", "previtem", "nextitem")


class Missing(Undefined):
    """A value that is not there: may be passed on and defaulted, fails with its name when used."""

    __slots__ = ("known", "note", "path")

    def __init__(
        self,
        hint: str | None = None,
        obj: object = None,
        name: str | None = None,
        exc: type[Exception] = UndefinedError,
        path: str = "",
        known: tuple[str, ...] | None = None,
        note: str = "",
    ) -> None:
        super().__init__(hint, obj, name, UndefinedError)
        self.note = note or ("there are no items" if hint and "sequence was empty" in hint else "")
        self.path = path or str(name or "value")
        self.known = known

    def child(self, key: object) -> "Missing":
        """What is missing inside of what is missing."""
        path = f"{self.path}[{key}]" if isinstance(key, int) else f"{self.path}.{key}"
        return Missing(name=path, path=path, known=self.known, note=self.note)

    def failure(self) -> StepFailed:
        """The error that using this value is."""
        if self.note:
            return StepFailed("missing", self.note, fix="ask for its length first, or say | default(…)")
        have = (
            f"; there is {', '.join(self.known[:20])}"
            if self.known
            else "; there is nothing in it"
            if self.known == ()
            else ""
        )
        return StepFailed("missing", f"{self.path} is not there{have}", fix="correct the name, or say | default(…)")

    def _fail_with_undefined_error(self, *args: object, **kwargs: object) -> NoReturn:
        raise self.failure()

    def __getattr__(self, name: str) -> object:
        if name[:2] == "__":
            raise AttributeError(name)
        return self.child(name)

    __iter__ = __str__ = __len__ = __hash__ = _fail_with_undefined_error
    __eq__ = __ne__ = __bool__ = __contains__ = _fail_with_undefined_error
    __add__ = __radd__ = __sub__ = __rsub__ = __mul__ = __rmul__ = _fail_with_undefined_error
    __truediv__ = __rtruediv__ = __floordiv__ = __mod__ = __lt__ = _fail_with_undefined_error
    __le__ = __gt__ = __ge__ = __neg__ = __pos__ = __call__ = __getitem__ = _fail_with_undefined_error


class Method:
    """A method of a value that expressions may call."""

    __slots__ = ("call", "of")

    def __init__(self, call: Callable[..., object], of: object) -> None:
        self.call, self.of = call, of

    def __call__(self, *args: object, **kwargs: object) -> object:
        meter = METER.get()
        meter.charge(5)
        meter.weigh(self.of)
        for one in args:
            meter.weigh(one)
        result = self.call(*args, **kwargs)
        if isinstance(result, list):
            meter.charge(len(result) // 4)
        return result


class _Keys(NodeTransformer):
    """Makes keys of those attributes that might be taken for methods, where they are not called: `input.items`."""

    def visit_Call(self, node: nodes.Call) -> nodes.Node:
        called = node.node
        if isinstance(called, nodes.Getattr):
            called.node = self.visit(called.node)
        node.args = [self.visit(one) for one in node.args]
        for one in node.kwargs:
            self.visit(one)
        return node

    def visit_Getattr(self, node: nodes.Getattr) -> nodes.Node:
        self.generic_visit(node)
        if node.attr in _METHODS[dict]:
            return nodes.Getitem(node.node, nodes.Const(node.attr, lineno=node.lineno), node.ctx, lineno=node.lineno)
        return node


class Environment(SandboxedEnvironment):
    """Reading and computing only. Delimiters are `${ … }` and lines that begin with `%%`."""

    intercepted_binops = frozenset(["*", "**", "%", "+", "-", "/", "//"])

    def __init__(self) -> None:
        super().__init__(
            block_start_string="\ufdd1%",
            block_end_string="%\ufdd1",
            variable_start_string="${",
            variable_end_string="}",
            comment_start_string="\ufdd1#",
            comment_end_string="#\ufdd1",
            line_statement_prefix="%%",
            undefined=Missing,
            autoescape=False,
            keep_trailing_newline=True,
            finalize=as_text,
            cache_size=0,
            optimized=False,
        )
        self.globals.clear()
        chosen = {name: filters.FILTERS[name] for name in _JINJA_FILTERS}
        self.filters = {n: _metered(f, n not in _SHALLOW) for n, f in {**chosen, **OWN_FILTERS}.items()}
        self.filters |= {"_each": _each, "_joined": _joined, "_weighed": _weighed}
        self.tests = {name: _metered(cast(Callable[..., object], self.tests[name])) for name in _TESTS}

    def guard(self, tree: nodes.Template) -> None:
        """Refuse syntax outside the allow-list; put loops and joins on the meter. Raises `SecurityError`."""
        for node in list(tree.find_all(nodes.Node)):
            if not isinstance(node, _NODES):
                raise SecurityError(f"{type(node).__name__.lower()} is not part of the language")
            if isinstance(node, nodes.Call) and not isinstance(node.node, nodes.Getattr):
                raise SecurityError("only methods of values can be called")
            if isinstance(node, nodes.For):
                if node.recursive:
                    raise SecurityError("loops cannot be recursive")
                node.iter = nodes.Filter(node.iter, "_each", [], [], None, None, lineno=node.lineno)
            if isinstance(node, nodes.Compare):
                node.expr = _on_scales(node.expr)
                for operand in node.ops:
                    operand.expr = _on_scales(operand.expr)
            if isinstance(node, nodes.Filter) and node.name not in self.filters:
                raise SecurityError(f"there is no filter {node.name}")
            if isinstance(node, nodes.Test) and node.name not in self.tests:
                raise SecurityError(f"there is no test {node.name}")
            if isinstance(node, nodes.Name) and node.name.startswith("_"):
                raise SecurityError("names do not begin with _")
        _join_concats(tree)
        _Keys().visit(tree)

    def getattr(self, obj: object, attribute: str) -> object:
        meter = METER.get()
        meter.fuel -= 1
        if meter.fuel < 0:
            meter.charge()
        if isinstance(obj, dict):
            if attribute in obj:
                found = obj[attribute]
                if found is None:
                    meter.empty.append(attribute)
                return found
            known: tuple[str, ...] | None = tuple(str(k) for k in obj)
        elif isinstance(obj, Missing):
            return obj.child(attribute)
        elif (
            (isinstance(obj, datetime) and attribute in _MOMENT)
            or (isinstance(obj, LoopContext) and attribute in _LOOP)
            or (isinstance(obj, tuple) and attribute in getattr(obj, "_fields", ()))
        ):
            return getattr(obj, attribute)
        else:
            known = None
        if attribute in _METHODS.get(type(obj), ()):
            return Method(getattr(obj, attribute), obj)
        meter.empty.append(attribute)
        note = ""
        if isinstance(obj, list):
            note = f"{attribute} is asked of a list of {len(obj)} items" if obj else "there are no items"
        return Missing(name=attribute, path=attribute, known=known, note=note)

    def getitem(self, obj: object, argument: object) -> object:
        if isinstance(obj, (list, str, tuple)) and isinstance(argument, (int, slice)):
            METER.get().charge()
            try:
                return obj[argument]
            except IndexError:
                items = "no items" if not obj else "one item" if len(obj) == 1 else f"{len(obj)} items"
                note = f"there is no item {argument}: there {'is' if len(obj) == 1 else 'are'} {items}"
                return Missing(name=f"item {argument}", path=f"item {argument} of {len(obj)}", note=note)
        if isinstance(obj, Missing):
            return obj.child(argument)
        found = self.getattr(obj, str(argument))
        if isinstance(found, Method):  # what stands in brackets, or is not called, is a key
            METER.get().empty.append(str(argument))
            return Missing(
                name=str(argument),
                path=str(argument),
                known=tuple(str(k) for k in obj) if isinstance(obj, dict) else None,
            )
        return found

    def call(self, _context: object, _obj: object, *args: object, **kwargs: object) -> object:
        if isinstance(_obj, Missing):
            raise _obj.failure()
        if not isinstance(_obj, Method):
            raise SecurityError("only methods of values can be called")
        kwargs.pop("_loop_vars", None)  # what Jinja gives along for functions that want it
        kwargs.pop("_block_vars", None)
        return _obj(*args, **kwargs)

    def call_binop(self, context: Context, operator: str, left: Any, right: Any) -> object:
        meter = METER.get()
        meter.fuel -= 1
        if meter.fuel < 0:
            meter.charge()
        if (
            type(left) is int
            and type(right) is int
            and operator in _QUICK
            and -_PLAIN < left < _PLAIN > right > -_PLAIN
        ):
            return _QUICK[operator](left, right)
        if isinstance(left, Missing):
            raise left.failure()
        if isinstance(right, Missing):
            raise right.failure()
        if operator == "%" and isinstance(left, str):
            raise SecurityError("% works on numbers")
        if isinstance(left, _NUMBERS) and isinstance(right, _NUMBERS):
            return _computed(operator, left, right)
        if operator == "*":
            _repeated(left, right)
        elif operator == "+" and isinstance(left, str) and isinstance(right, str):
            short_text(len(left) + len(right))
        result = super().call_binop(context, operator, left, right)
        if isinstance(result, str | list | tuple):
            meter.charge(len(result) // 100)
        return result


_NUMBERS = (int, float, Decimal)


def _computed(operator: str, left: Any, right: Any) -> object:
    """An operation on numbers, none of which grows beyond what numbers may be. Raises `StepFailed`."""
    if operator == "**":
        if abs(left) > 1e6 or abs(right) > 64:
            raise StepFailed("over_limit", "the power is too large", fix="use smaller numbers")
    elif isinstance(left, int) and isinstance(right, int) and left.bit_length() + right.bit_length() > 20_000:
        raise StepFailed("over_limit", "the number is too large", fix="use smaller numbers")
    result = _OPERATORS[operator](left, right)
    if isinstance(result, float) and not math.isfinite(result):
        raise StepFailed("invalid", f"{operator} gives no finite number", fix="use smaller numbers")
    return result


_OPERATORS: dict[str, Callable[[Any, Any], object]] = {
    "+": operators.add,
    "-": operators.sub,
    "*": operators.mul,
    "/": operators.truediv,
    "//": operators.floordiv,
    "%": operators.mod,
    "**": operators.pow,
}


def _repeated(left: object, right: object) -> None:
    """Raises `StepFailed` for a text or list that would be repeated too often."""
    for many, times in ((left, right), (right, left)):
        if isinstance(many, str | list | tuple) and isinstance(times, int):
            if len(many) * times > LONGEST_TEXT:
                raise StepFailed("over_limit", "the product is too long", fix="repeat it less often")
            METER.get().charge(max(0, len(many) * times) // 20)


def _on_scales(node: nodes.Expr) -> nodes.Expr:
    """What is compared, weighed before; constants and numbers need not be."""
    if isinstance(node, nodes.Const):
        return node
    return nodes.Filter(node, "_weighed", [], [], None, None, lineno=node.lineno)


def _weighed(value: object) -> object:
    METER.get().weigh(value)
    return value


def as_text(value: object) -> str:
    """How a value reads inside a text, weighed before it is written."""
    METER.get().weigh(value)
    return text_of(value)


def _join_concats(tree: nodes.Node) -> None:
    """`a ~ b` joins by our own rule of how values read in text."""
    for field_name, value in tree.iter_fields():
        for index, item in enumerate(value if isinstance(value, list) else [value]):
            if not isinstance(item, nodes.Node):
                continue
            _join_concats(item)
            if isinstance(item, nodes.Concat):
                joined = nodes.Filter(
                    nodes.List(item.nodes, lineno=item.lineno), "_joined", [], [], None, None, lineno=item.lineno
                )
                if isinstance(value, list):
                    value[index] = joined
                else:
                    setattr(tree, field_name, joined)


def _joined(values: list[Any]) -> str:
    for value in values:
        if isinstance(value, Missing):
            raise value.failure()
    return joined([json_value(value) for value in values])


def _each(values: "Iterable[object] | Missing") -> Iterator[object]:
    if isinstance(values, Missing):
        raise values.failure()
    meter = METER.get()
    for value in values:
        meter.charge(5)
        yield value


def _metered(function: Callable[..., object], deep: bool = True) -> Callable[..., object]:
    """A filter or test that uses fuel by the size of what it is given, and is not to give more than may be."""

    @wraps(function)
    def metered(*args: object, **kwargs: object) -> object:
        meter = METER.get()
        meter.charge(2)
        use = meter.weigh if deep else meter.count
        for one in (*args, *kwargs.values()):
            use(one)
        result = function(*args, **kwargs)
        if isinstance(result, str):
            short_text(len(result))
        elif isinstance(result, list):
            meter.charge(len(result) // 4)
        return _each(result) if isinstance(result, Iterator) else result

    return metered


def json_value(value: Any) -> Any:
    """What an expression gives, as plain JSON values of its own, on the meter. Raises `StepFailed` for what is missing, no
    value, or too much."""
    kind = type(value)
    if kind is str:
        if len(value) > 1000:
            METER.get().charge(len(value) // 20)
        return value
    if kind is bool or value is None:
        return value
    if kind is int:
        if not -_PLAIN < value < _PLAIN:
            sound_number(value)
        return value
    if kind is dict:
        METER.get().charge(1 + len(value) // 2)
        return {str(k): json_value(v) for k, v in value.items()}
    if kind is list or kind is tuple:
        METER.get().charge(1 + len(value) // 2)
        return [json_value(v) for v in value]
    return _odd_value(value)


def _odd_value(value: Any) -> Any:
    """The same of what is rarer."""
    if isinstance(value, Missing):
        raise value.failure()
    if isinstance(value, float | Decimal):
        sound_number(value)
        return value
    if isinstance(value, datetime):
        return value.isoformat()
    if isinstance(value, str):
        return json_value(str(value))
    if isinstance(value, Method):
        raise StepFailed("invalid", "a method is not a value", fix="call it with ()")
    if isinstance(value, dict):
        return json_value(dict(value))
    if hasattr(value, "__iter__"):
        return [json_value(v) for v in _each(value)]
    raise StepFailed("invalid", f"{type(value).__name__} is no value", fix="use texts, numbers, lists and mappings")
