"""YAML 1.2 (or JSON) in and out: comments and order survive, and every value knows its line."""

import io
from dataclasses import dataclass, field
from decimal import Decimal

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap, CommentedSeq
from ruamel.yaml.error import MarkedYAMLError, YAMLError

from oak_relay.document.errors import Fault, Finding, StepFailed
from oak_relay.document.meter import sound_number

LARGEST = 512 * 1024
_DEEPEST = 60
Path = tuple[str | int, ...]


class Unreadable(Fault, ValueError):
    """The text is not a document; `finding` says where and why."""

    def __init__(self, finding: Finding) -> None:
        super().__init__(finding.message)
        self.finding = finding


@dataclass(frozen=True)
class Source:
    """A parsed document: plain `data`, and where each key or item stands (line, column from 1)."""

    text: str
    data: object
    places: dict[Path, tuple[int, int]] = field(default_factory=dict)
    tree: object = None

    def place(self, path: Path) -> tuple[int, int]:
        """The line and column of a path, or of the nearest one above it."""
        while path and path not in self.places:
            path = path[:-1]
        return self.places.get(path, (1, 1))


def read(text: str) -> Source:
    """Parse a document. Raises `Unreadable`."""
    if len(text) > LARGEST:
        raise Unreadable(Finding(1, 1, f"the document is longer than {LARGEST} characters", "split it in two"))
    try:
        tree = _yaml().load(text)
    except MarkedYAMLError as error:
        raise Unreadable(_from_yaml(error, text)) from None
    except (YAMLError, ValueError, RecursionError) as error:
        reason = str(error).splitlines()[0] if str(error) else "it is nested too deeply"
        raise Unreadable(Finding(1, 1, f"this is not YAML: {reason}", "correct the text")) from None
    places: dict[Path, tuple[int, int]] = {(): (1, 1)}
    data = _plain(tree, (), places, 0)
    if not isinstance(data, dict):
        raise Unreadable(Finding(1, 1, "a document is a mapping that begins with `oak: 1`", "begin with `oak: 1`"))
    return Source(text, data, places, tree)


def write(tree: object) -> str:
    """YAML text of a tree read by `read` (comments kept) or of plain data."""
    out = io.StringIO()
    _yaml().dump(tree, out)
    return out.getvalue()


def _yaml() -> YAML:
    yaml = YAML(typ="rt", pure=True)
    yaml.version = None
    yaml.preserve_quotes = True
    yaml.width = 110
    yaml.indent(mapping=2, sequence=4, offset=2)
    return yaml


def _plain(node: object, path: Path, places: dict[Path, tuple[int, int]], depth: int) -> object:
    if depth > _DEEPEST:
        line, column = places.get(path[:-1], (1, 1))
        raise Unreadable(Finding(line, column, f"nested deeper than {_DEEPEST} levels", "flatten the document"))
    if isinstance(node, CommentedMap):
        plain: dict[str, object] = {}
        for key, value in node.items():
            name = key if isinstance(key, str) else ("null" if key is None else str(key).lower())
            here = (*path, name)
            line, column = node.lc.key(key) if key in (node.lc.data or {}) else (node.lc.line, node.lc.col)
            places[here] = (line + 1, column + 1)
            plain[name] = _plain(value, here, places, depth + 1)
        return plain
    if isinstance(node, CommentedSeq):
        items = []
        for index, value in enumerate(node):
            here = (*path, index)
            line, column = node.lc.item(index) if index in (node.lc.data or {}) else (node.lc.line, node.lc.col)
            places[here] = (line + 1, column + 1)
            items.append(_plain(value, here, places, depth + 1))
        return items
    if node is None or isinstance(node, bool):
        return node
    if isinstance(node, str):
        return str(node)
    if isinstance(node, int | float | Decimal):
        return _number(node, path, places)
    if hasattr(node, "isoformat"):
        return node.isoformat()
    if hasattr(node, "value"):
        return bool(node)
    return str(node)


def _number(node: int | float | Decimal, path: Path, places: dict[Path, tuple[int, int]]) -> int | float | Decimal:
    value = int(node) if isinstance(node, int) else float(node) if isinstance(node, float) else node
    try:
        sound_number(value)
    except StepFailed as failed:
        line, column = places.get(path, (1, 1))
        raise Unreadable(Finding(line, column, "this is no number that can be kept", failed.fix)) from None
    return value


def _from_yaml(error: MarkedYAMLError, text: str) -> Finding:
    mark = error.problem_mark or error.context_mark
    line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
    problem = (error.problem or "it cannot be read").replace("\n", " ")
    lines = text.splitlines()
    shown = lines[line - 1] if line <= len(lines) else ""
    first = error.context_mark.line + 1 if error.context_mark else line
    around = "\n".join(lines[first - 1 : line])
    fix = "correct the YAML here"
    if "duplicate key" in problem:
        problem, fix = problem.split(" with value")[0], "keep one of the two"
    elif "${" in around and ("{" in around.replace("${", "") or "[" in around or ": ${" not in around):
        fix = 'put the expression in quotes: "${ … }"'
    elif "\t" in shown[: len(shown) - len(shown.lstrip())] or "'\\t'" in problem:
        fix = "indent with spaces, not tabs"
    return Finding(line, column, f"this is not YAML: {problem}", fix)
