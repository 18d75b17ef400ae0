"""What is wrong with a text that is no YAML, in plain words, and what to do."""

import re

from ruamel.yaml.error import MarkedYAMLError

from oak_relay.document.errors import Finding

_KEY = re.compile(r"^(?P<indent> *)(?P<dash>(?:- +)*)(?P<key>[\w.\"'-]+) *:(?: +(?P<value>.*))?$")
_BLOCK = re.compile(r":\s*[|>][-+\d]*\s*$")


def finding(error: MarkedYAMLError, text: str) -> Finding:
    """Where a text stops being YAML, and what is probably meant."""
    mark = error.problem_mark or error.context_mark
    line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
    problem = (error.problem or "it cannot be read").replace("\n", " ")
    lines = text.splitlines()
    shown = lines[line - 1] if line <= len(lines) else ""
    first = error.context_mark.line + 1 if error.context_mark else line
    if "duplicate key" in problem:
        name = re.search(r'duplicate key "([^"]*)"', problem)
        key = name[1] if name else "them"
        return Finding(line, column, f"the key {key} stands here twice", f"keep one {key}: of the two")
    if "\t" in shown[: len(shown) - len(shown.lstrip())] or "'\\t'" in problem:
        return Finding(line, column, "this line begins with a tab", "indent with spaces, not tabs")
    if "?" in shown and "${" in shown and " : " in shown:
        fix = 'write "${ A if CONDITION else B }", in quotes'
        return Finding(line, column, "? is not part of the language", fix)
    if quoted := _open_quote(lines, line):
        return Finding(quoted, 1, "a quote is not closed on this line", 'add the missing " at its end')
    if "could not find expected ':'" in problem:
        return Finding(first, 1, "this line is neither a key nor a list's item", f"write {_with_colon(lines, first)}")
    around = "\n".join(lines[first - 1 : line])
    flow = "flow" in str(error.context or "")
    if ("${" in shown or (flow and "${" in around)) and ("{" in around.replace("${", "") or "[" in around):
        return Finding(line, column, "an expression within { } or [ ] stands in quotes", 'put it in quotes: "${ … }"')
    if found := _indent(lines, line):
        return found
    key = _KEY.match(shown)
    if "mapping values" in problem and key and ": " in (key["value"] or "") + " ":
        fix = f'put the text in quotes: {key["key"]}: "{key["value"]}"'
        return Finding(line, column, f"there is a second colon in {key['key']}", fix)
    if problem.startswith(("expected ',' or", "expected the node content", "while parsing a flow")) or first < line:
        for opening, closing in ("[]", "{}"):
            if around.count(opening) > around.count(closing):
                return Finding(first, 1, f"{opening} is not closed", f"add {closing} at the end")
    if "found character" in problem and "cannot start any token" in problem:
        odd = shown[column - 1 : column]
        return Finding(line, column, f"a text cannot begin with {odd}", "put it in quotes")
    return Finding(
        line, column, "this is not YAML", "look at the indentation, colons and quotes of this line and the one above"
    )


def _open_quote(lines: list[str], until: int) -> int | None:
    """The first line with a quote that is not closed on it, outside of blocks of text."""
    block: int | None = None
    for number, line in enumerate(lines[:until], 1):
        indent = len(line) - len(line.lstrip())
        if block is not None and (indent > block or not line.strip()):
            continue
        block = indent if _BLOCK.search(line) else None
        if re.sub(r"\\.", "", re.sub(r"'[^']*'", "", line)).count('"') % 2:
            return number
    return None


def _with_colon(lines: list[str], number: int) -> str:
    words = lines[number - 1].split() if number <= len(lines) else []
    dash = "- " if words[:1] == ["-"] else ""
    rest = words[1:] if dash else words
    return f"{dash}{rest[0].rstrip(':')}: {' '.join(rest[1:])[:60]}".rstrip() if rest else "a key, a colon and a space"


def _indent(lines: list[str], number: int) -> Finding | None:
    """Whether a line, or the one above, stands too far left or right."""
    here = _KEY.match(lines[number - 1]) if number <= len(lines) else None
    if here is None:
        return None
    before = [(n, _KEY.match(lines[n - 1])) for n in range(number - 1, 0, -1) if lines[n - 1].strip()]
    place, above = before[0] if before else (0, None)
    if above is None:
        return None
    column = _column(here)
    if column > _column(above) and above["value"]:
        owner = before[1][1] if len(before) > 1 else None
        if owner is not None and not owner["value"] and _column(owner) == _column(above):
            fix = f"indent {above['key']}: deeper than {owner['key']}:"
            return Finding(
                place, _column(above) + 1, f"{owner['key']}: holds nothing: what belongs to it is indented", fix
            )
        fix = f"indent {here['key']}: like {above['key']}: above it"
        return Finding(number, column + 1, f"{here['key']}: stands deeper than the line above, which has a value", fix)
    levels = {_column(key) for _, key in before if key is not None}
    if column < _column(above) and column not in levels:
        near = min((level for level in levels if level > column), default=column)
        keys = [key["key"] for _, key in before if key is not None and _column(key) == near]
        return Finding(
            number, column + 1, f"{here['key']}: stands at no level of the lines above", f"indent it like {keys[0]}:"
        )
    return None


def _column(key: re.Match[str]) -> int:
    return len(key["indent"]) + len(key["dash"])
