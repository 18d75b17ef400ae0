"""What people read: every label, message and help text of console, command line and errors, in one list.

    python scripts/words.py > docs/words.txt

Texts are taken from the sources: of Python those that are given to what people read (problems, failures, findings, help,
descriptions of fields, what a command prints), of the console the texts, labels and hints of its templates, and texts in its
scripts. `{…}` stands for what is put in.
"""

import ast
import html
import re
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
_TOLD = frozenset(
    [
        "Problem",
        "StepFailed",
        "Refused",
        "NoLink",
        "said",
        "missing",
        "OakRelayError",
        "Busy",
        "Fault",
        "Told",
        "Finding",
        "add",
        "note",
        "TestOut",
        "add_parser",
        "add_argument",
        "print",
        "table",
        "working",
        "Field",
        "ValueError",
        "BadExpression",
        "Misfit",
        "fault",
        "_bad",
        "_misfit",
        "say_plainly",
        "announce",
        "Room",
        "NotJson",
        "Conflict",
        "KeyProblem",
        "_problem",
        "faulty",
        "unfinished",
        "_fail",
        "named",
        "advice",
        "_named",
        "_group",
        "doubtful",
    ]
)
"""Functions whose texts somebody reads."""
_SAID = frozenset(("help", "description", "epilog", "fix", "title", "detail", "sentence", "message", "text", "reason"))
"""Names of arguments, and of variables, that hold such texts."""
_LEFT_OUT = frozenset(("standins", "web", "migrations", "habits.py", "headers.py"))
_SQL = re.compile(
    r"^(SELECT|INSERT|UPDATE|DELETE|WITH|FROM|AND|WHERE|JOIN|UNION|RETURNING|ORDER BY|ON CONFLICT|CASE|THEN|DO) |\bAS (\(|MATERIALIZED)|_id, |^[a-z_]+ AS |\$1"
)
_WORDY = re.compile(r"[A-Za-z]{2,}.* .*[A-Za-z]")


def texts(root: Path = ROOT) -> dict[str, list[str]]:
    """The texts of each file, in their order."""
    found: dict[str, list[str]] = {}
    for file in sorted((root / "src" / "oak_relay").rglob("*.py")):
        if not _LEFT_OUT & set(file.relative_to(root).parts):
            found[str(file.relative_to(root))] = list(dict.fromkeys(_python(file.read_text())))
    for file in sorted((root / "console" / "src").rglob("*")):
        if file.suffix in (".vue", ".ts") and file.name != "schema.d.ts":
            found[str(file.relative_to(root))] = list(dict.fromkeys(_console(file.read_text(), file.suffix)))
    return {name: said for name, said in found.items() if said}


def listing(root: Path = ROOT) -> str:
    """All of them, as the list that is read."""
    parts = [f"{name}\n" + "".join(f"    {one}\n" for one in said) for name, said in texts(root).items()]
    return "\n".join(parts)


def _python(source: str) -> Iterator[str]:
    tree = ast.parse(source)
    for node in _in_order(tree):
        if isinstance(node, ast.Call) and _name(node.func) in _TOLD:
            for given in (*node.args, *(k.value for k in node.keywords)):
                yield from _told(given)
        elif isinstance(node, ast.keyword) and node.arg in _SAID:
            yield from _told(node.value)
        elif isinstance(node, ast.Assign | ast.AnnAssign | ast.Return | ast.Yield):
            value = node.value
            if value is not None and not isinstance(value, ast.Call):
                yield from (one for one in _told(value) if _sentence(one))
        elif isinstance(node, ast.Dict):
            for value in node.values:
                yield from (one for one in _told(value) if _sentence(one))


def _in_order(node: ast.AST) -> Iterator[ast.AST]:
    yield node
    for child in ast.iter_child_nodes(node):
        yield from _in_order(child)


def _name(function: ast.expr) -> str:
    return (
        function.attr if isinstance(function, ast.Attribute) else function.id if isinstance(function, ast.Name) else ""
    )


def _told(node: ast.expr) -> Iterator[str]:
    """The texts that an expression may come to."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        yield from _lines(node.value)
    elif isinstance(node, ast.JoinedStr):
        pieces = (str(v.value) if isinstance(v, ast.Constant) else _put_in(v) for v in node.values)
        yield from _lines("".join(pieces))
    elif isinstance(node, ast.IfExp):
        yield from _told(node.body)
        yield from _told(node.orelse)
    elif isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        yield from _told(node.left)
        yield from _told(node.right)
    elif isinstance(node, ast.Tuple | ast.List):
        for one in node.elts:
            yield from _told(one)


def _put_in(node: ast.expr) -> str:
    if isinstance(node, ast.FormattedValue) and isinstance(node.value, ast.IfExp):
        sides = [s.value for s in (node.value.body, node.value.orelse) if isinstance(s, ast.Constant)]
        if len(sides) == 2 and all(isinstance(s, str) and len(s) < 20 for s in sides):
            return f"{{{sides[0] or '–'}|{sides[1] or '–'}}}"
    return "{…}"


def _lines(text: str) -> Iterator[str]:
    for line in text.split("\n"):
        plain = re.sub(r"\[/?[a-z ]*\]", "", line).strip()
        if _WORDY.search(plain) and not plain.startswith(("http", "^", "curl ", "od ")) and not _SQL.search(plain):
            yield " ".join(plain.split())


def _sentence(text: str) -> bool:
    """Whether a text that is only kept in a variable is one that people read."""
    return (
        bool(re.match(r"^[A-Za-z“][A-Za-z’' ,:;…{}|-]{8,}", text))
        and " = " not in text
        and "$1" not in text
        and not text.isupper()
    )


def _console(source: str, suffix: str) -> Iterator[str]:
    source = re.sub(r"<style.*?</style>", "", source, flags=re.DOTALL)
    script, _, template = source.partition("</script>") if suffix == ".vue" else (source, "", "")
    yield from (one for one in _strings(script) if _sentence(one) and "/" not in one.split(" ")[0])
    template = re.sub(r"<!--.*?-->", "", template, flags=re.DOTALL)
    for quoted in re.findall(r'(?:aria-label|placeholder|title|label|ok-title|cancel-title)="([^"]+)"', template):
        yield from ([quoted] if re.search("[a-z]{2}", quoted) and not quoted.startswith(("one.", "`")) else [])
    for expression in re.findall(r'"([^"]*)"|\{\{(.*?)\}\}', template, flags=re.DOTALL):
        yield from (one for one in _strings("".join(expression)) if " " in one and re.search("[a-z]{2}", one))
    bare = re.sub(r"\{\{.*?\}\}", "{…}", template, flags=re.DOTALL)
    for text in re.split(
        r"</?(?:p|div|h1|h2|h3|li|ul|td|th|tr|label|summary|BButton|details|section|form|template|table|button|option|pre|BModal|thead|tbody)\b(?:\"[^\"]*\"|[^>\"])*>",
        bare,
    ):
        plain = html.unescape(" ".join(re.sub(r"<(?:\"[^\"]*\"|[^>\"])*>", "", text).split()))
        if re.search("[A-Za-z]{2}", plain.replace("{…}", "")) and "=>" not in plain:
            yield plain


def _strings(script: str) -> Iterator[str]:
    for single, double, template in re.findall(
        r"'((?:[^'\\\n]|\\.)*)'|\"((?:[^\"\\\n]|\\.)*)\"|`((?:[^`\\]|\\.)*)`", script
    ):
        text = re.sub(r"\$\{.*?\}", "{…}", single or double or template)
        if " " in text:
            yield " ".join(text.split())


if __name__ == "__main__":
    sys.stdout.write(listing())
