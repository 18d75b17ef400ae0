"""Rows that were read from elsewhere: those that are meant, their order, and their totals, as tables kept here have them."""

from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal, InvalidOperation

from oak_relay.capabilities.given import Filter, Where
from oak_relay.document import values

Row = dict[str, object]
_RANKS = {str: 1, bool: 3, list: 4, dict: 5}


def same(one: object, other: object) -> bool:
    """Whether two values are the same in JSON: true is not 1, and 7 is 7.0."""
    return (isinstance(one, bool) == isinstance(other, bool)) and one == other


def fits(row: Mapping[str, object], where: Where) -> bool:
    """Whether a row is meant."""
    return all(same(row.get(column), value) for column, value in where.match.items()) and all(
        _stands(row.get(one.column), one) for one in where.filters
    )


def _stands(value: object, one: Filter) -> bool:
    how, wanted = one.how, one.value
    if how == "empty":
        return (value is None) == wanted
    if how == "not":
        return not same(value, wanted)
    if how == "in":
        return isinstance(wanted, list) and any(same(value, each) for each in wanted)
    if how in ("contains", "begins_with"):
        text, part = values.text_of(value), str(wanted)
        return value is not None and (part.lower() in text.lower() if how == "contains" else text.startswith(part))
    if _rank(value) != _rank(wanted) or value is None:
        return False
    left, right = _placed(value), _placed(wanted)
    return {"above": left > right, "at_least": left >= right, "below": left < right, "at_most": left <= right}[how]


def _rank(value: object) -> int:
    return 0 if value is None else _RANKS.get(type(value), 2)


def _placed(value: object) -> tuple[int, object]:
    return _rank(value), values.dumps(value) if isinstance(value, list | dict) else value


def ordered(rows: Iterable[Row], order: Sequence[tuple[str, bool]]) -> list[Row]:
    """Rows in the order of some columns (True: from the greatest down); those without a value last."""
    found = list(rows)
    for column, falling in reversed(order):
        there = [row for row in found if row.get(column) is not None]
        there.sort(key=lambda row, column=column: _placed(row[column]), reverse=falling)  # type: ignore[misc]
        found = [*there, *(row for row in found if row.get(column) is None)]
    return found


def _number(value: object) -> Decimal | None:
    if isinstance(value, bool) or not isinstance(value, int | float | Decimal):
        return None
    try:
        return Decimal(str(value))
    except InvalidOperation:
        return None


def _plain(number: Decimal) -> object:
    rounded = round(number, 12)
    text = f"{rounded:f}"
    return values.loads(text.rstrip("0").rstrip(".") if "." in text else text)


def totals(
    rows: Iterable[Row], by: Sequence[str], measures: Mapping[str, Sequence[str]], limit: int
) -> list[dict[str, object]]:
    """Groups with equal values in the columns `by`, the largest first: these values, the `count`, and each measure."""
    groups: dict[str, tuple[list[object], list[Row]]] = {}
    for row in rows:
        key = [row.get(name) for name in by]
        groups.setdefault(values.dumps(key), (key, []))[1].append(row)
    if not by and not groups:
        groups["[]"] = ([], [])
    found = []
    for key, some in sorted(groups.values(), key=lambda one: (-len(one[1]), values.dumps(one[0])))[:limit]:
        made: dict[str, object] = dict(zip(by, key, strict=True))
        made["count"] = len(some)
        for measure, names in measures.items():
            if names:
                made[measure] = {name: _measured(measure, [row.get(name) for row in some]) for name in names}
        found.append(made)
    return found


def _measured(measure: str, given: Iterable[object]) -> object:
    numbers = [number for value in given if (number := _number(value)) is not None]
    if not numbers:
        return None
    if measure == "least":
        return _plain(min(numbers))
    if measure == "most":
        return _plain(max(numbers))
    total = sum(numbers, Decimal(0))
    return _plain(total / len(numbers) if measure == "average" else total)
