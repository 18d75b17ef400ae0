"""Texts with `${ … }`: compiled once, evaluated typed when the whole text is one expression."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, cast

from jinja2 import TemplateSyntaxError, meta, nodes
from jinja2.environment import Template as JinjaTemplate
from jinja2.exceptions import SecurityError, TemplateError
from jinja2.nodes import EvalContext
from jinja2.runtime import Context

from oak_relay.document import expression_faults
from oak_relay.document.errors import Fault, StepFailed
from oak_relay.document.meter import METER, Meter, short_text
from oak_relay.document.sandbox import Environment, Missing, json_value

_DOLLAR = "\ufdd0"
_LONGEST = 50_000
"""Letters of a text with expressions: compiling takes time too."""
_SHORT_TEXT, _SMALL, _FEW = 1_000, 2**53, 20
ENVIRONMENT = Environment()
Reference = tuple[str, ...]


class _Names(Context):
    """What one evaluation sees: as Jinja's own context, without what is the same for all."""

    _EVALUATION = EvalContext(ENVIRONMENT)
    _NONE: set[str] = set()

    def __init__(self, scope: dict[str, object]) -> None:
        self.parent = scope
        self.vars = {}
        self.environment = ENVIRONMENT
        self.eval_ctx = self._EVALUATION
        self.exported_vars = set()
        self.name = None
        self.globals_keys = self._NONE
        self.blocks = {}


class BadExpression(Fault, ValueError):
    """The text does not compile; `line` counts from 0 inside the text."""

    kind = "invalid"

    def __init__(self, message: str, line: int = 0, fix: str = "correct the expression") -> None:
        super().__init__(message)
        self.line = line
        self.fix = fix


@dataclass(frozen=True, slots=True, eq=False)
class Expression:
    """A compiled text. `whole`: it is one expression and keeps its type. `names`: what it refers to."""

    text: str
    whole: bool
    template: JinjaTemplate
    names: frozenset[str]
    tree: nodes.Template
    path: Reference | None = None
    parts: tuple[str | Reference, ...] = ()
    """Of a text between whose words stand nothing but plain references: both, in their order."""

    def value(self, scope: Mapping[str, object], empty: list[str] | None = None) -> object:
        """Evaluate, on the meter of what it is a part of, or one of its own. `empty` collects references that came out
        empty. Raises `StepFailed`."""
        if self.path is not None:
            found = _plain(self.path, scope)
            if found is not None:
                return found
        elif self.parts:
            text = self._joined(scope)
            if text is not None:
                return text
        outer = METER.get(None)
        if outer is not None:
            return self._value(scope, empty, outer)
        meter = Meter()
        token = METER.set(meter)
        try:
            return self._value(scope, empty, meter)
        finally:
            METER.reset(token)

    def _joined(self, scope: Mapping[str, object]) -> str | None:
        """The text with what it refers to, where all of that is short texts and small numbers; else None."""
        pieces: list[str] = []
        for part in self.parts:
            if type(part) is str:
                pieces.append(part)
                continue
            found = _plain(cast(Reference, part), scope)
            if type(found) is str:
                pieces.append(found)
            elif type(found) is int:
                pieces.append(str(found))
            else:
                return None
        return "".join(pieces)

    def _value(self, scope: Mapping[str, object], empty: list[str] | None, meter: Meter) -> object:
        before = len(meter.empty)
        try:
            if self.path is not None:  # a plain reference such as ${ input.guest.email }
                here: object = scope
                for key in self.path:
                    if (here is not scope and type(here) is not dict) or key not in here:
                        break
                    here = here[key]
                else:
                    if here is not None:
                        return json_value(here)
            return self._computed(scope)
        except StepFailed as failed:
            absent = next(iter(self._absent(scope)), "") if failed.kind == "missing" else ""
            raise StepFailed(
                failed.kind, f"in {_short(self.text)}: {absent or failed.message}", fix=failed.fix
            ) from None
        except Exception as error:  # of whatever kind: what a document computes is never our own fault
            raise StepFailed(
                "invalid",
                f"in {_short(self.text)}: {str(error)[:300] or type(error).__name__}",
                fix="check the types of its values",
            ) from None
        finally:
            if empty is not None and (len(meter.empty) > before or not self.names <= scope.keys()):
                empty.extend(line.split(" is ")[0] for line in self._absent(scope, nulls=True))

    def _computed(self, scope: Mapping[str, object]) -> object:
        context = _Names(scope if isinstance(scope, dict) else dict(scope))
        if self.whole:
            for _ in self.template.root_render_func(context):
                pass
            return json_value(context.vars["result"])
        pieces: list[str] = []
        length = 0
        for piece in self.template.root_render_func(context):
            length += len(piece)
            short_text(length)
            pieces.append(piece)
        return "".join(pieces)

    def references(self) -> set[Reference]:
        """Paths such as `("kind", "label")` that the text reads, each as long as it is constant."""
        found: set[Reference] = set()
        _collect(self.tree, found)
        return {path for path in found if path[0] in self.names}

    def _absent(self, scope: Mapping[str, object], nulls: bool = False) -> Iterator[str]:
        """A sentence for each reference that is not there (with `nulls`, or holds null), and what is."""
        for path in sorted(self.references()):
            here: object = scope
            for index, key in enumerate(path):
                if not isinstance(here, Mapping) or key not in here or (nulls and here[key] is None):
                    if isinstance(here, dict) and key not in here and hasattr(here, key):
                        break
                    name = ".".join(path if nulls else path[: index + 1])
                    have = ", ".join(str(k) for k in list(here)[:20]) if isinstance(here, Mapping) else ""
                    yield f"{name} is not there" + (f"; there is {have}" if have else "")
                    break
                here = here[key]


def _plain(path: Reference, scope: Mapping[str, object]) -> object:
    """What a plain reference such as `${ input.guest.email }` refers to, where that is a short text, a small number or a
    truth, which cost nothing; None for anything else."""
    here: Any = scope
    for key in path:
        if (here is not scope and type(here) is not dict) or key not in here:
            return None
        here = here[key]
    kind = type(here)
    if (kind is str and len(here) <= _SHORT_TEXT) or (kind is int and -_SMALL < here < _SMALL) or kind is bool:
        return cast(object, here)
    return None


def _parts(tree: nodes.Template) -> tuple[str | Reference, ...]:
    """The words of a text and the plain references between them, few enough to be joined at no cost; none when there is
    anything else in it."""
    found: list[str | Reference] = []
    for output in tree.body:
        for node in output.nodes if isinstance(output, nodes.Output) else [output]:
            part = node.data if isinstance(node, nodes.TemplateData) else reference_of(node)
            if part is None or len(found) == _FEW:
                return ()
            found.append(part)
    return tuple(found)


def is_template(text: str) -> bool:
    """Whether a text holds expressions, statement lines or an escape."""
    return "${" in text or "%%" in text


def holds_template(value: object) -> bool:
    """Whether a text anywhere in a value is one."""
    if isinstance(value, dict):
        return any(holds_template(v) for v in value.values())
    if isinstance(value, list):
        return any(holds_template(v) for v in value)
    return isinstance(value, str) and is_template(value)


@lru_cache(maxsize=4096)
def compile_text(text: str) -> Expression:
    """Compile a text. Raises `BadExpression`."""
    if _DOLLAR in text:
        raise BadExpression("the character U+FDD0 cannot be used")
    if len(text) > _LONGEST:
        raise BadExpression(f"a text with expressions has at most {_LONGEST:,} letters")
    escaped = text.replace("\\${", _DOLLAR)
    try:
        tree = _parsed(escaped)
        names = frozenset(meta.find_undeclared_variables(tree))
        outputs = [node for output in tree.body if isinstance(output, nodes.Output) for node in output.nodes]
        whole = len(tree.body) == 1 and len(outputs) == 1 and not isinstance(outputs[0], nodes.TemplateData)
        original = _parsed(escaped)
        ENVIRONMENT.guard(tree)
        expression: nodes.Node = tree
        if whole:
            expression = next(iter(tree.find_all(nodes.Output))).nodes[0]
            target = nodes.Name("result", "store", lineno=1)
            body: list[nodes.Node] = [nodes.Assign(target, expression, lineno=1)]
            tree = nodes.Template(body, lineno=1)
            tree.set_environment(ENVIRONMENT)
        code = ENVIRONMENT.compile(tree)
        template = JinjaTemplate.from_code(ENVIRONMENT, code, {})
    except TemplateSyntaxError as error:
        raise _bad(text, error.message or "it cannot be read", max(0, error.lineno - 1)) from None
    except (SecurityError, TemplateError) as error:
        raise _bad(text, str(error)) from None
    except (RecursionError, MemoryError, SyntaxError):
        raise BadExpression("nested too deeply") from None
    path = reference_of(expression) if whole else None
    parts = () if whole else _parts(original)
    return Expression(text, whole, template, names, original, path, parts)


def _parsed(escaped: str) -> nodes.Template:
    """A text as a tree, what was escaped in it as it is meant: what a document says, and never what data hold."""
    tree = ENVIRONMENT.parse(escaped)
    for words in tree.find_all(nodes.TemplateData):
        words.data = words.data.replace(_DOLLAR, "${")
    for constant in tree.find_all(nodes.Const):
        if isinstance(constant.value, str):
            constant.value = constant.value.replace(_DOLLAR, "${")
    return tree


class Template:
    """A value of a document whose texts may hold expressions; compiled once, rendered often."""

    __slots__ = ("_render", "constant", "expressions", "names", "raw")

    def __init__(self, raw: Any) -> None:
        self.raw = raw
        self.expressions: list[Expression] = []
        self._render = self._build(raw)
        self.constant = not self.expressions
        self.names = frozenset().union(*(e.names for e in self.expressions))

    def render(self, scope: Mapping[str, object], empty: list[str] | None = None) -> Any:
        """The value with every expression evaluated, all on one meter. Raises `StepFailed`."""
        if self.constant:
            return self.raw
        if METER.get(None) is not None:
            return self._render(scope, empty)
        token = METER.set(Meter())
        try:
            return self._render(scope, empty)
        finally:
            METER.reset(token)

    def _build(self, raw: object) -> Any:
        if isinstance(raw, str) and is_template(raw):
            expression = compile_text(raw)
            self.expressions.append(expression)
            return expression.value
        if isinstance(raw, dict):
            parts = [(key, self._build(value)) for key, value in raw.items()]
            return lambda scope, empty: {key: part(scope, empty) for key, part in parts}
        if isinstance(raw, list):
            items = [self._build(value) for value in raw]
            return lambda scope, empty: [part(scope, empty) for part in items]
        return lambda scope, empty: raw


def _collect(node: nodes.Node, found: set[Reference]) -> None:
    chain = reference_of(node)
    if chain is not None:
        found.add(chain)
        return
    for child in node.iter_child_nodes():
        if isinstance(node, nodes.Call) and child is node.node and isinstance(child, nodes.Getattr):
            child = child.node
        _collect(child, found)


def reference_of(node: nodes.Node) -> Reference | None:
    """The path that a node reads, such as `input.guest.email`; None for anything else."""
    keys: list[str] = []
    while isinstance(node, nodes.Getattr | nodes.Getitem):
        if isinstance(node, nodes.Getattr):
            keys.append(node.attr)
        elif isinstance(node.arg, nodes.Const) and isinstance(node.arg.value, str):
            keys.append(node.arg.value)
        else:
            return None
        node = node.node
    if isinstance(node, nodes.Name) and node.ctx == "load":
        return (node.name, *reversed(keys))
    return None


def _bad(text: str, message: str, line: int = 0) -> BadExpression:
    plain, fix = expression_faults.unfinished(text, message.rstrip("."))
    return BadExpression(
        plain, line, expression_faults.filter_fix(message, ENVIRONMENT.filters, ENVIRONMENT.tests) or fix
    )


def _short(text: str) -> str:
    line = " ".join(text.split())
    return line if len(line) <= 60 else line[:57] + "…"


__all__ = ["BadExpression", "Expression", "Missing", "Template", "compile_text", "is_template"]
