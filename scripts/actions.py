"""What can be done, made of how actions are declared.

python scripts/actions.py > docs/actions.md
"""

import io
import json
from collections.abc import Iterator, Mapping
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.scalarstring import LiteralScalarString

from oak_relay.actions.base import Action
from oak_relay.actions.catalogue import offer
from oak_relay.document import shapes

_HEAD = """# Actions

What a step does with `do`, and what an agent may be given as a tool. This page is made of the declarations (`make actions`); `GET
/api/v1/actions` tells the same with JSON Schemas, and the console beside each field. Actions that are read from an OpenAPI document
stand in the console, see [Connectors](connectors.md).

*Repeating* says what happens when nobody knows whether a call reached the other side: *safe* ones are done again, *keyed* ones too, under
the same `Idempotency-Key`, *checkable* ones are looked up, and of *unsafe* ones a person is asked. See [What is guaranteed](semantics.md).
"""
_REPEATS = {
    "safe": "safe",
    "keyed": "keyed: the other side is sent the same key",
    "checkable": "checkable: it is looked up whether it happened",
    "unsafe": "unsafe: a person is asked",
}
_REACHES = {
    "outside": "reaches outside",
    "read": "reads what is kept here",
    "local": "changes what is kept here, with the step's own record",
}


def page() -> str:
    """The page as Markdown."""
    every = sorted((one for one in offer().catalogue if not one.hidden), key=lambda one: one.name)
    titles = {one.name: one.connector.title for one in offer().connectors if one.connector}
    listed = "\n".join(
        f"- [`{one.name}`](#{one.name.replace('.', '')}): {one.title[:1].lower()}{one.title[1:]}" for one in every
    )
    return "\n".join([_HEAD, listed, "", *(line for one in every for line in told(one, titles))])


def told(action: Action, titles: Mapping[str, str]) -> Iterator[str]:
    """One action."""
    yield f"## {action.name}\n"
    by_input = " (by its input)" if action.repeat_of else ""
    yield f"{action.title}. It {_REACHES[action.reach]}; repeating it is {_REPEATS[action.repeat]}{by_input}. One attempt takes at most {action.timeout:g} s."
    if action.elsewhere is not None:
        yield "On a [linked table](tables.md#linked-tables) it is a call to the outside."
    if action.credentials:
        yield f"Its credential is of the kind {' or '.join(f'`{one}`' for one in action.credentials)}."
    yield f"\n```yaml\n{_step(action)}```\n"
    if action.example_gives is not None:
        yield f"which gave (`…`: another each time)\n\n```json\n{json.dumps(action.example_gives, indent=2, ensure_ascii=False)}\n```\n"
    yield from _table("given", action.shape.input, action.fields_first)
    if action.shape.output:
        yield from _table("gives", dict(action.shape.output), ())


def _step(action: Action) -> str:
    out = io.StringIO()
    yaml = YAML()
    yaml.indent(mapping=2, sequence=4, offset=2)
    yaml.width = 110
    name = action.name.split(".")[-1]
    yaml.dump([{"step": name, "do": action.name, "with": _literal(dict(action.example))}], out)
    return "".join(line.removeprefix("  ") for line in out.getvalue().splitlines(keepends=True))


def _literal(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {name: _literal(one) for name, one in value.items()}
    if isinstance(value, list | tuple):
        return [_literal(one) for one in value]
    return LiteralScalarString(value) if isinstance(value, str) and "\n" in value else value


def _table(head: str, schema: Mapping[str, Any], first: tuple[str, ...]) -> Iterator[str]:
    fields = shapes.properties(schema)
    if not fields:
        return
    needed = shapes.required(schema)
    order = sorted(fields, key=lambda name: (first.index(name) if name in first else 99, name not in needed))
    yield f"| {head} | | |\n|---|---|---|"
    for name in order:
        about = str(fields[name].get("description", "")).replace("|", "\\|").replace("\n", " ")
        mark = " needed" if name in needed and head == "given" else ""
        yield f"| `{name}` | {_kind(fields[name], schema)}{mark} | {about} |"
    yield ""


def _kind(field: Mapping[str, Any], root: Mapping[str, Any]) -> str:
    field = shapes.resolved(field, root)
    if "enum" in field:
        return ", ".join(f"`{one}`" for one in field["enum"])
    ways = [one for one in field.get("anyOf", ()) if one.get("type") != "null"]
    if ways:
        return " or ".join(dict.fromkeys(_kind(one, root) for one in ways))
    names = {"string": "text", "integer": "whole number", "array": "list", "object": "mapping"}
    kind = field.get("type")
    return names.get(str(kind), str(kind)) if kind else "any value"


if __name__ == "__main__":
    print(page(), end="")
