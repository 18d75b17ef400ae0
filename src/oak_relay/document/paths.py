"""JSONPath (RFC 9535) on the meter: each place that is looked at costs, so no path runs away."""

from collections.abc import Iterable, Sequence

from jsonpath import JSONPath, JSONPathEnvironment, JSONPathError, JSONPathMatch
from jsonpath.function_extensions import ExpressionType, FilterFunction
from jsonpath.parse import Parser
from jsonpath.segments import JSONPathChildSegment, JSONPathSegment
from jsonpath.selectors import NameSelector
from jsonpath.stream import TokenStream

from oak_relay.document import patterns
from oak_relay.document.errors import StepFailed
from oak_relay.document.meter import METER, Meter

_LONGEST = 1_000
_FUEL = 200_000


class _Match(JSONPathMatch):
    """A place that is looked at."""

    __slots__ = ()

    def new_child(self, obj: object, key: int | str) -> JSONPathMatch:
        METER.get().charge(8 + len(self.path) // 20)
        return super().new_child(obj, key)

    def add_child(self, *children: JSONPathMatch) -> None:
        """Nobody asks a place for those below it."""


class _Begin(NameSelector):
    """Where a query begins: from here on places are on the meter."""

    __slots__ = ()

    def resolve(self, node: JSONPathMatch) -> Iterable[JSONPathMatch]:
        yield _Match(
            filter_context=node.filter_context(),
            obj=node.obj,
            parent=node.parent,
            parts=node.parts,
            path=node.path,
            root=node.root,
        )


class _Parser(Parser):
    """Puts every query on the meter, those inside of filters too."""

    def parse_query(self, stream: TokenStream) -> Iterable[JSONPathSegment]:
        token = stream.current()
        begin = _Begin(env=self.env, token=token, name="")
        yield JSONPathChildSegment(env=self.env, token=token, selectors=(begin,))
        yield from super().parse_query(stream)


class _Pattern(FilterFunction):
    """`match` and `search`, in linear time."""

    arg_types = [ExpressionType.VALUE, ExpressionType.VALUE]
    return_type = ExpressionType.LOGICAL

    def __init__(self, whole: bool) -> None:
        self._holds = patterns.matches if whole else patterns.found_in

    def __call__(self, value: object, pattern: object) -> bool:
        if not isinstance(value, str) or not isinstance(pattern, str):
            return False
        METER.get().charge(5 + len(value) // 20)
        return self._holds(pattern, value)


class _Environment(JSONPathEnvironment):
    parser_class = _Parser
    max_recursion_depth = 250

    def __init__(self) -> None:
        super().__init__(strict=True)
        self.function_extensions |= {"match": _Pattern(True), "search": _Pattern(False)}

    def compare(self, left: object, operator: str, right: object) -> bool:
        meter = METER.get()
        meter.charge(2)
        meter.weigh(getattr(left, "obj", left))
        meter.weigh(getattr(right, "obj", right))
        return super().compare(left, operator, right)


_ENVIRONMENT = _Environment()


def told(path: str, value: object) -> object:
    """What a path names: the value itself where it can name one alone (a singular query; None where there is none), else
    the list of all. Raises `StepFailed` as `find` does."""
    found = find(path, value)
    try:
        compiled = _ENVIRONMENT.compile(path)
        single = isinstance(compiled, JSONPath) and compiled.singular_query()
    except (JSONPathError, RecursionError, ValueError):
        single = False
    return (found[0] if found else None) if single else list(found)


def find(path: str, value: object) -> Sequence[object]:
    """All that a path finds, on the meter of the evaluation under way, or one of its own. Raises `StepFailed`: `invalid`
    for what is no JSONPath, `over_limit` for one that looks at too much."""
    if len(path) > _LONGEST:
        raise StepFailed("invalid", f"a JSONPath has at most {_LONGEST:,} letters", fix="shorten it")
    token = None if METER.get(None) is not None else METER.set(Meter(_FUEL))
    try:
        METER.get().charge(len(path))
        return _ENVIRONMENT.findall(path, value) if isinstance(value, dict | list) else []
    except (JSONPathError, RecursionError, ValueError, ArithmeticError) as error:  # a number in it may be none
        reason = str(error.args[0]) if error.args else "it is nested too deeply"  # its text may fail to say where
        raise StepFailed("invalid", f"{path[:100]!r} is no JSONPath: {reason[:200]}", fix="see RFC 9535") from None
    finally:
        if token is not None:
            METER.reset(token)
