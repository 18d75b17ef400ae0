"""What is written from habit where an expression is meant, recognised, with what to write instead."""

import re
from collections.abc import Iterable, Mapping

from jinja2 import nodes

from oak_relay.document import shapes
from oak_relay.document.habits import nearest
from oak_relay.document.shapes import Schema

_OTHER_MARKS = re.compile(
    r"\{\{-?\s*(?P<a>[^{}]+?)\s*-?\}\}|(?:#|%|@)\{\s*(?P<b>[^{}]+?)\s*\}|<%=?\s*(?P<c>[^%]+?)\s*%>|\$\(\s*(?P<d>[^()]+?)\s*\)|\$(?P<e>[A-Za-z_][\w.]*\w)|\[\[\s*(?P<f>[^\[\]]+?)\s*\]\]"
)
_FIRST_NAME = re.compile(r"[\s(]*\$?(?:\.)?([A-Za-z_]\w*)")
_QUOTED = re.compile(r"'(?:[^'\\]|\\.)*'|\"(?:[^\"\\]|\\.)*\"")
_FUNCTIONS = {
    "len": "length",
    "size": "length",
    "count": "length",
    "str": "string",
    "string": "string",
    "int": "int",
    "parseint": "int",
    "number": "float",
    "float": "float",
    "parsefloat": "float",
    "round": "round",
    "sum": "sum",
    "min": "min",
    "max": "max",
    "abs": "abs",
    "sorted": "sort",
    "sort": "sort",
    "list": "list",
    "join": "join(', ')",
    "lower": "lower",
    "upper": "upper",
    "tojson": "json",
    "to_json": "json",
    "json": "json",
    "fromjson": "from_json",
    "default": "default('…')",
    "coalesce": "default('…')",
    "first": "first",
    "last": "last",
    "reversed": "reverse",
    "trim": "trim",
    "unique": "unique",
    "slug": "slug",
    "date": "date('%d %B %Y')",
}
"""Functions of other languages, and the filter that is meant."""
METHODS = {
    "toUpperCase": "upper()",
    "toLowerCase": "lower()",
    "trim": "strip()",
    "includes": "… in …",
    "contains": "… in …",
    "startsWith": "startswith('…')",
    "starts_with": "startswith('…')",
    "endsWith": "endswith('…')",
    "ends_with": "endswith('…')",
    "indexOf": "find('…')",
    "toString": "| string",
    "join": "| join(', ')",
    "map": "| map(attribute='…')",
    "filter": "| selectattr('…')",
    "replace": "| replace('…', '…')",
    "format": "| date('…') for moments, ~ to put texts together",
    "toFixed": "| round(2)",
    "length": "| length",
    "size": "| length",
    "slice": "[0:3]",
    "substring": "[0:3]",
    "push": "+ […]",
    "append": "+ […]",
    "sort": "| sort",
    "reverse": "| reverse",
    "json": "| from_json",
    "strftime": "| date('%d %B %Y')",
    "isoformat": "| string",
    "first": "| first",
    "last": "| last",
}
"""Methods of other languages, and what is meant."""
_NULLS = ("null", "nil", "undefined", "None", "NULL", "Null")
_WRAPPERS = (
    "steps",
    "step",
    "outputs",
    "nodes",
    "tasks",
    "results",
    "vars",
    "variables",
    "context",
    "ctx",
    "state",
    "jobs",
)
_INPUTS = (
    "body",
    "payload",
    "data",
    "params",
    "args",
    "arguments",
    "inputs",
    "parameters",
    "request",
    "trigger",
    "json",
    "form",
    "message",
    "query",
)
_SECRETS = ("secrets", "secret", "env", "environment", "credentials", "vault", "ENV")
_OUTPUTS = ("output", "outputs", "result", "results", "value", "body", "data", "response", "json", "content")
_NOW = ("today", "date", "datetime", "timestamp", "time")


def other_marks(text: str, names: Iterable[str]) -> tuple[str, str] | None:
    """An expression between the marks of another language, in a text that would stay as it is written."""
    known = {*names, *_WRAPPERS}
    for found in _OTHER_MARKS.finditer(text):
        inside = next(part for part in found.groups() if part is not None)
        first = _FIRST_NAME.match(inside)
        if first and (first[1] in known or nearest(first[1], known, {})):
            return f"{_cut(found[0])} stays as it is written", f"write ${{ {_cut(inside.strip().lstrip('$.'))} }}"
    return None


def condition(text: str) -> tuple[str, str]:
    """A text that stands where something is asked."""
    fix = f"write ${{ {_cut(text.strip())} }}" if text.strip() else "write ${ … }"
    return "this is a text, which always holds", fix


_FROM_ELSEWHERE = (
    (r"&&", "and", "&& is written and"),
    (r"\|\|", "or", "|| is written or"),
    (r"===?=", "==", "=== is written =="),
    (r"!==", "!=", "!== is written !="),
    (r"<>", "!=", "<> is written !="),
    (r"\?\?", "| default('…')", "?? is written | default(…)"),
    (r"\?\.", ". and | default('…') behind it", "?. is not needed"),
    (r"=>", "map(attribute='…') or selectattr('…')", "functions are not part of the language"),
    (r"\bAND\b|\bOR\b|\bNOT\b", "and, or or not", "these words are written small"),
    (r"`", "'…' ~ name", "texts stand in ' or \""),
    (r"\+\+|--", "+ 1", "nothing is changed in an expression"),
    (r"\bnew\s|\bfunction\b|\breturn\b|\blambda\b", "an expression alone", "only expressions are part of the language"),
)
"""What people write who know another language, what is written here, and how that is told."""


def unfinished(text: str, message: str) -> tuple[str, str]:
    """Why a text with expressions cannot be compiled: what the compiler said, or what is recognised."""
    if "${{" in text.replace(" ", ""):
        inside = re.search(r"\$\{\s*\{(.*?)\}\s*\}", text, re.S)
        shown = f" {_cut(inside[1].strip())} " if inside else " … "
        return "an expression stands between ${ and }, with one brace", f"write ${{{shown}}}"
    start = text.find("${")
    inner = _inner(text, start)
    code = _QUOTED.sub("''", inner if inner is not None else text[start + 2 :])
    for wrong, right, message_of in _FROM_ELSEWHERE:
        if re.search(wrong, code):
            return message_of, f"write {right}"
    if re.search(r"!(?!=)", code):
        return "! is written not", "write not"
    if "?" in code:
        return "? is not part of the language", "write A if CONDITION else B"
    if re.search(r"\bif\b.*\bthen\b", code, re.S) or re.match(r"\s*if\b", code):
        return "a choice is written A if CONDITION else B", "write A if CONDITION else B"
    if re.search(r"(?<![=!<>])=(?!=)", code) and not re.search(r"\(.*=.*\)", code, re.S):
        return "= does not compare", "write =="
    if inner is None:
        return "the expression is not closed", "add } behind it"
    if re.search(r"[-+*/~%<>=]\s*$|\b(?:and|or|not|in|is)\s*$", code):
        return "something is missing before }", "complete the expression before }, or leave its last sign out"
    for left, right in ("()", "[]"):
        if code.count(left) != code.count(right):
            more = right if code.count(left) > code.count(right) else left
            return f"{left} and {right} do not match", f"add {more}" if more == right else f"take one {right} away"
    if code.strip() == "":
        return "the expression is empty", "write a name, as ${ input.name }"
    if inner.count("'") % 2 or inner.count('"') % 2:
        return "a text in the expression is not closed", "add the missing quote"
    called = re.search(r"(?<![\w.])([A-Za-z_]\w*)\s*\(", code)
    if called and "only methods" in message:
        name = called[1]
        near = _FUNCTIONS.get(name.lower())
        if name in ("now", "today", "date"):
            return f"{name} is no function", "write now | date('%d %B %Y')"
        inside = re.search(rf"\b{name}\s*\(([^()]*)\)", inner)
        operand = inside[1].strip() if inside and inside[1].strip() and "," not in inside[1] else "…"
        return (
            f"{name} is no function of the language",
            f"write {_cut(operand)} | {near}" if near else "use a filter, as … | length",
        )
    return _plainly(message), "correct the expression"


def _plainly(message: str) -> str:
    """What the compiler says of an expression, without its own words."""
    message = message.replace("end of print statement", "}")
    for pattern, words in (
        (r"(?i)no filter (?:named )?'?(\w+)'?", r"there is no filter \1"),
        (r"(?i)no test (?:named )?'?(\w+)'?", r"there is no test \1"),
        (r"expected token '\}', got '([^']*)'", r"\1 cannot stand here: an operator is missing before it"),
        (r"unexpected char '(.)'.*", r"\1 cannot stand here"),
        (r"unexpected '(\})'", "something is missing before }"),
        (r"unexpected '([^']*)'", r"\1 cannot stand here"),
        (r"expected token '([^']*)', got '([^']*)'", r"\2 cannot stand here; \1 is expected"),
        (r"unexpected end of template.*", "the expression is not closed"),
        (r"[Ee]ncountered unknown tag '(\w+)'.*", r"%% \1 is no statement of the language; for, if and set are"),
        (r"[Uu]nknown .*tag '(\w+)'.*", r"%% \1 is no statement of the language; for, if and set are"),
    ):
        found = re.search(pattern, message)
        if found:
            return found.expand(words)
    return message


def filter_fix(message: str, filters: Iterable[str], tests: Iterable[str]) -> str | None:
    """The filter or test that is meant by one that is not there."""
    found = re.search(r"(?i)no test (?:named )?'?(\w+)", message)
    if found:
        known = [one for one in tests if one.isalpha()]
        meant = "none" if found[1] in _NULLS else nearest(found[1], known, {})
        return (
            f"write is {meant}"
            if meant
            else f"use one of {', '.join(sorted(known))}; == '' and | length ask for what is empty"
        )
    found = re.search(r"(?i)no filter (?:named )?'?(\w+)", message)
    if found is None:
        return None
    name = found[1]
    near = _FUNCTIONS.get(name.lower()) or nearest(name, filters, {})
    return f"write | {near}" if near else f"use one of {', '.join(sorted(f for f in filters if not f.startswith('_')))}"


def unknown_name(name: str, keys: tuple[str, ...], scope: Mapping[str, Schema]) -> tuple[str, str]:
    """What is said of a name that is not in scope, and what is meant by it."""
    message = f"there is no {name}"
    if name in _NULLS:
        return f"{name} is written none", "write none, and compare by is none or is not none"
    if name in ("True", "False", "TRUE", "FALSE", "yes", "no"):
        return message, f"write {'true' if name.lower() in ('true', 'yes') else 'false'}"
    if name in _SECRETS:
        return (
            f"{message}: secrets are never part of a document",
            "store it as a credential and name that under credential:, or take settings for what is adjusted",
        )
    if name in _WRAPPERS and keys and keys[0] in scope:
        rest = [key for index, key in enumerate(keys) if index != 1 or key not in _OUTPUTS]
        return f"{message}: a step stands for what it gave by its name alone", f"write {'.'.join(rest)}"
    holders = [owner for owner, shape in scope.items() if name in shapes.properties(shape)]
    if holders:
        return message, f"write {'.'.join((holders[0], name, *keys))}"
    if name in _INPUTS and "input" in scope:
        return message, f"write {'.'.join(('input', *keys))}"
    if name in _NOW and "now" in scope:
        return message, "write now"
    near = nearest(name, scope, {})
    return message, f"write {near}" if near else f"use {', '.join(scope)}"


def absent_key(bad: shapes.Misfit, near: str | None) -> str:
    """What to write instead of a key that a value cannot have."""
    if bad.key in METHODS and bad.kind in ("string", "array", "number", "integer"):
        return _method(bad.owner, bad.key)
    if bad.key in _OUTPUTS and bad.behind and (not bad.known or bad.behind[0] in bad.known):
        return f"write {'.'.join((bad.owner, *bad.behind))}"
    if near:
        return f"write {near}"
    return f"it has {', '.join(bad.known)}" if bad.known else f"leave .{bad.key} out: {bad.owner} is no mapping"


def unknown_method(node: nodes.Call, allowed: Iterable[str]) -> tuple[str, str] | None:
    """A method that values do not have."""
    if not isinstance(node.node, nodes.Getattr) or node.node.attr in allowed:
        return None
    name = node.node.attr
    if name in METHODS:
        return f"there is no method {name}", _method("…", name)
    near = nearest(name, allowed, {})
    return f"there is no method {name}", f"write {near}()" if near else f"use {', '.join(sorted(allowed))}, or a filter"


def _method(owner: str, name: str) -> str:
    meant = METHODS[name]
    return (
        f"write {owner}.{meant}"
        if meant[0].isalpha()
        else f"write {owner} {meant}"
        if meant[0] != "…"
        else "write 'part' in …"
    )


def mapping_compared(node: nodes.Compare, scope: Mapping[str, Schema]) -> tuple[str, str] | None:
    """A step's whole result that is compared with a text."""
    for left, right in ((node.expr, node.ops[0].expr), (node.ops[0].expr, node.expr)):
        if not isinstance(left, nodes.Name) or not isinstance(right, nodes.Const) or right.value is None:
            continue
        fields = shapes.properties(scope.get(left.name, {}))
        if scope.get(left.name, {}).get("type") == "object" and fields:
            kind = "string" if isinstance(right.value, str) else "number"
            texts = [name for name, shape in fields.items() if shape.get("type") == kind] or list(fields)
            return f"{left.name} is a mapping, not a value to compare", f"write {left.name}.{texts[0]}"
    return None


def _inner(text: str, start: int) -> str | None:
    """What stands between `${` and its `}`; None where it is not closed."""
    depth, quote = 0, ""
    for index in range(start + 2, len(text)):
        letter = text[index]
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"":
            quote = letter
        elif letter in "{[(":
            depth += 1
        elif letter == "}" and depth <= 0:
            return text[start + 2 : index]
        elif letter in "}])":
            depth -= 1
    found = re.match(r"[^\n]*?\}", text[start + 2 :])
    return found[0][:-1] if found else None


def _cut(text: str) -> str:
    line = " ".join(text.split())
    return line if len(line) <= 80 else line[:79] + "…"
