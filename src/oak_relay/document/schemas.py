"""JSON Schema (2020-12): checked before it is used, references within itself alone, and never long to evaluate.

Validation itself is done by jsonschema-rs: numbers exactly, patterns in linear time. What a schema may cost is bounded before:
how often one value may be looked at, however schemas refer to each other.
"""

from collections import defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal
from functools import lru_cache
from heapq import heapify, heappop, heappush

import jsonschema_rs

from oak_relay.document.errors import Fault
from oak_relay.document.misfits import of_a_schema, sentence, shown
from oak_relay.document.numbers import whole
from oak_relay.jsontext import NotJson, deeper, dumps, loads

Schema = Mapping[str, object]
Pointer = tuple[str | int, ...]
Name = tuple[str, str | int]
_LARGEST, _NODES, _DEEPEST = 400_000, 5_000, 64
"""Letters of a schema, schemas in it, and how deep they lie in each other."""
_LOOKS = 256
"""How often one value may be looked at."""
_WAYS = 20_000
"""How many different ways to look at a value are followed."""
_LEVELS = 100
"""How deep values are followed when it is worked out how often they are looked at: as deep as bodies may be."""
_STEP = 30
_DIVIDED, _SHORT_NUMBER = 20_000, 10**30
"""Numbers that are divided in one value; each of more digits counts as a hundred."""
_SHOWN = 300
_PATTERNS = jsonschema_rs.RegexOptions(size_limit=1_000_000, dfa_size_limit=4_000_000)
_SAME = ("not", "if", "then", "else")
_SAME_LISTS = ("allOf", "anyOf", "oneOf")
_ANY_PROPERTY = ("additionalProperties", "unevaluatedProperties", "propertyNames")
_ANY_ITEM = ("items", "additionalItems", "contains", "unevaluatedItems")
_ONE = frozenset((*_SAME, *_ANY_PROPERTY, *_ANY_ITEM))
_LISTS = frozenset((*_SAME_LISTS, "prefixItems", "items"))
_NAMED = ("properties", "patternProperties", "dependentSchemas", "$defs", "definitions")


class BadSchema(Fault, ValueError):
    """Something is no JSON Schema, or one that may not be used here. `path` says where in it."""

    kind = "invalid"

    def __init__(self, message: str, path: Pointer = (), fix: str = "see JSON Schema 2020-12") -> None:
        super().__init__(message)
        self.path = path
        self.fix = fix


@dataclass(frozen=True, slots=True)
class Misfit:
    """What is wrong with a value, and where in it."""

    path: Pointer
    message: str
    fix: str = "give a value of the right type"

    def __str__(self) -> str:
        where = "".join(f"[{part}]" if isinstance(part, int) else f".{part}" for part in self.path)
        return f"${where}: {self.message}"


class Validator:
    """A schema ready to be used. Raises `BadSchema`."""

    def __init__(self, schema: Schema) -> None:
        _bounded(schema)
        self._schema = schema
        try:
            self._rules = jsonschema_rs.validator_for(
                dict(schema), offline=True, pattern_options=_PATTERNS, validate_formats=False
            )
        except jsonschema_rs.ValidationError as error:
            path = tuple(error.instance_path)
            if path[-1:] == ("pattern",) or '"regex"' in error.message:
                fix = "write an ECMA 262 pattern without looking ahead or referring back"
                raise BadSchema(f"this pattern cannot be used: {shown(error.instance)}", path, fix) from None
            raise BadSchema(*_with_path(of_a_schema(error), path)) from None
        except (jsonschema_rs.ReferencingError, ValueError) as error:
            raise BadSchema(f"this is not JSON Schema: {str(error)[:_SHOWN]}") from None

        self._divides = '"multipleOf"' in dumps(schema)

    def misfits(self, value: object) -> Iterator[Misfit]:
        """What is wrong with a value, one after the other."""
        if self._divides and _hard_to_divide(value):
            yield Misfit((), f"it holds more numbers than can be divided: {_DIVIDED:,} short ones, or fewer long ones")
            return
        if deeper(value, _LEVELS):
            yield Misfit((), f"it is nested more than {_LEVELS} deep")
            return
        try:
            for error in self._rules.iter_errors(value):
                path = tuple(error.instance_path)
                if error.kind.name == "additionalProperties":
                    path = (*path, str(error.kind.as_dict()["unexpected"][0]))
                yield Misfit(path, *sentence(error, self._schema))
        except ValueError:
            yield Misfit((), "it is nested too deep")

    def fault(self, value: object) -> str:
        """The first thing that is wrong with a value; empty when nothing is."""
        found = next(self.misfits(value), None)
        return str(found) if found else ""


def _with_path(said: tuple[str, str], path: Pointer) -> tuple[str, Pointer, str]:
    return said[0], path, said[1]


def _hard_step(step: object) -> bool:
    """Whether dividing by a step exactly would take long."""
    if isinstance(step, Decimal):
        return not (-_STEP <= step.adjusted() <= _STEP and len(step.as_tuple().digits) <= _STEP)
    return isinstance(step, int | float) and not 1 / _SHORT_NUMBER <= abs(step) <= _SHORT_NUMBER


def _hard_to_divide(value: object) -> bool:
    """Whether exact division, as `multipleOf` asks for, of all numbers in a value would take long."""
    cost, waiting = 0, [value]
    while waiting and cost <= _DIVIDED:
        one = waiting.pop()
        if isinstance(one, dict):
            waiting += one.values()
        elif isinstance(one, list):
            waiting += one
        elif isinstance(one, int):
            cost += 1 if -_SHORT_NUMBER < one < _SHORT_NUMBER else 100
        elif isinstance(one, float):
            cost += 1
        elif isinstance(one, Decimal):
            cost += 100
    return cost > _DIVIDED


def validator(schema: Schema) -> Validator:
    """The validator of a schema; of equal ones it is made once. Raises `BadSchema`."""
    try:
        text = dumps(schema)
    except NotJson as error:
        raise BadSchema(f"this is not JSON: {error}") from None
    if len(text) > _LARGEST:
        raise BadSchema(f"the schema has more than {_LARGEST:,} letters", fix="split it")
    return _of(text)


@lru_cache(maxsize=512)
def _of(text: str) -> Validator:
    try:
        schema = loads(text)
    except NotJson as error:
        raise BadSchema(f"this is not JSON that can be kept: {error}") from None
    if not isinstance(schema, dict):
        raise BadSchema("a schema is a mapping here")
    return Validator(schema)


def _bounded(schema: Schema) -> None:
    """Raises `BadSchema` for a schema that is too large, refers to something outside of it or to itself in a circle, or
    looks at one value too often."""
    nodes = _nodes(schema)
    for place, node in nodes.items():
        if "multipleOf" in node and _hard_step(node["multipleOf"]):
            raise BadSchema("multipleOf is between 1e-30 and 1e30 here", (*place, "multipleOf"), "write a simpler step")
    same, named, anything = _edges(schema, nodes)
    order = {node: place for place, node in enumerate(_order(same))}
    beginning = _looks({(): 1}, order, same)
    seen, waiting = {frozenset(beginning.items())}, [(beginning, 0)]
    while waiting:
        looks, depth = waiting.pop()
        if sum(looks.values()) > _LOOKS or len(seen) > _WAYS:
            raise BadSchema(
                f"one value may be looked at more than {_LOOKS} times", fix="let fewer schemas refer to each other"
            )
        for below in _below(looks, named, anything) if depth < _LEVELS else ():
            inner = _looks(below, order, same)
            key = frozenset(inner.items())
            if key not in seen:
                seen.add(key)
                waiting.append((inner, depth + 1))


Looks = dict[Pointer, int]
"""How often each schema looks at one value."""


def _looks(begun: Looks, order: Mapping[Pointer, int], same: Mapping[Pointer, list[Pointer]]) -> Looks:
    """All that look at a value, when these do; each is met once all that lead to it were."""
    looks: Looks = dict(begun)
    waiting = [(order[node], node) for node in begun if same.get(node)]
    heapify(waiting)
    while waiting:
        _, node = heappop(waiting)
        for other in same[node]:
            if other not in looks:
                looks[other] = 0
                if same.get(other):
                    heappush(waiting, (order[other], other))
            looks[other] = min(looks[other] + looks[node], _LOOKS + 1)
    return looks


def _below(
    looks: Looks, named: Mapping[Pointer, list[tuple[Name, Pointer]]], anything: Mapping[Pointer, list[Pointer]]
) -> Iterator[Looks]:
    """What looks at each property and item of a value: those with a name, and the others."""
    others: Looks = defaultdict(int)
    by_name: dict[Name, Looks] = defaultdict(lambda: defaultdict(int))
    for node, times in looks.items():
        for other in anything.get(node, ()):
            others[other] += times
        for name, other in named.get(node, ()):
            by_name[name][other] += times
    if others:
        yield others
    for counts in by_name.values():
        for other, times in others.items():
            counts[other] += times
        yield counts


def _nodes(schema: Schema) -> dict[Pointer, Schema]:
    """All schemas inside a schema, by their place."""
    found: dict[Pointer, Schema] = {}
    waiting: list[tuple[Pointer, object, int]] = [((), schema, 0)]
    while waiting:
        path, here, depth = waiting.pop()
        if not isinstance(here, dict):
            continue
        if len(found) >= _NODES or depth > _DEEPEST:
            raise BadSchema(f"a schema has at most {_NODES} others inside, {_DEEPEST} deep", path, "split it")
        found[path] = here
        for key, inner in here.items():
            if isinstance(inner, dict):
                if key in _ONE:
                    waiting.append(((*path, key), inner, depth + 1))
                elif key in _NAMED:
                    waiting += [((*path, key, name), one, depth + 1) for name, one in inner.items()]
            elif isinstance(inner, list) and key in _LISTS:
                waiting += [((*path, key, index), one, depth + 1) for index, one in enumerate(inner)]
    return found


Edges = tuple[
    Mapping[Pointer, list[Pointer]], Mapping[Pointer, list[tuple[Name, Pointer]]], Mapping[Pointer, list[Pointer]]
]


def _edges(root: Schema, nodes: Mapping[Pointer, Schema]) -> Edges:
    """Which schemas each one looks at with: the same value; one property or item of it, by its name; any of them."""
    same: dict[Pointer, list[Pointer]] = defaultdict(list)
    named: dict[Pointer, list[tuple[Name, Pointer]]] = defaultdict(list)
    anything: dict[Pointer, list[Pointer]] = defaultdict(list)
    anchors = {str(one["$anchor"]): path for path, one in nodes.items() if "$anchor" in one}
    for path, here in nodes.items():
        for key in ("$dynamicRef", "$recursiveRef"):
            if key in here:
                raise BadSchema(f"{key} is not taken here", (*path, key), "write $ref")
        if "$id" in here and path:
            raise BadSchema("a schema inside another has no $id here", (*path, "$id"), "leave it out")
        if "$ref" in here:
            same[path].append(_target(here["$ref"], nodes, anchors, (*path, "$ref")))
        for other in _inside(path, nodes, here):
            key = str(other[len(path)])
            if key in (*_SAME, *_SAME_LISTS, "dependentSchemas"):
                same[path].append(other)
            elif key in ("properties", "prefixItems") or (key == "items" and len(other) > len(path) + 1):
                named[path].append(((key, other[-1]), other))
            elif key not in ("$defs", "definitions"):
                anything[path].append(other)
    return same, named, anything


def _inside(path: Pointer, nodes: Mapping[Pointer, Schema], here: Schema) -> Iterator[Pointer]:
    """The places of the schemas directly inside one."""
    for key, inner in here.items():
        if (*path, key) in nodes and key not in _NAMED:
            yield (*path, key)
        elif isinstance(inner, list):
            yield from ((*path, key, index) for index in range(len(inner)) if (*path, key, index) in nodes)
        elif isinstance(inner, Mapping) and key in _NAMED:
            yield from ((*path, key, name) for name in inner if (*path, key, name) in nodes)


def _target(ref: object, nodes: Mapping[Pointer, Schema], anchors: Mapping[str, Pointer], place: Pointer) -> Pointer:
    """The place that a reference means: a JSON Pointer (RFC 6901) in a fragment, or an anchor."""
    if not isinstance(ref, str) or not ref.startswith("#"):
        raise BadSchema(f"{str(ref)[:100]} is outside of this schema", place, "refer to #/$defs/NAME")
    if ref[1:] in anchors:
        return anchors[ref[1:]]
    parts = [part.replace("~1", "/").replace("~0", "~") for part in ref[2:].split("/")] if len(ref) > 2 else []
    for path in (tuple(parts), tuple(part if (n := whole(part)) is None else n for part in parts)):
        if path in nodes:
            return path
    raise BadSchema(f"there is no {ref[:100]} in this schema", place, "refer to #/$defs/NAME")


def _order(same: Mapping[Pointer, list[Pointer]]) -> list[Pointer]:
    """Schemas in such an order that each stands before those it looks with at the same value. Raises `BadSchema` where
    they refer to each other in a circle, which no value could ever be done with."""
    done: dict[Pointer, bool] = {}
    order: list[Pointer] = []
    for start in list(same):
        waiting = [(start, False)]
        while waiting:
            node, left = waiting.pop()
            if left:
                done[node] = True
                order.append(node)
            elif node not in done:
                done[node] = False
                waiting.append((node, True))
                for other in same.get(node, ()):
                    if done.get(other) is False:
                        raise BadSchema(
                            "schemas refer to each other in a circle", node, "go a property or an item deeper each time"
                        )
                    waiting.append((other, False))
    return order[::-1]
