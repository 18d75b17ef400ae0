"""What texts and expressions of a document name: whether it is there, fits, and holds no secret in clear."""

import re
from collections.abc import Collection, Iterator, Mapping
from collections.abc import Set as AbstractSet

from jinja2 import nodes

from oak_relay.document import expression_faults, habits, shapes
from oak_relay.document.check_base import ActionShape, Base, Scope
from oak_relay.document.expressions import (
    BadExpression,
    Expression,
    compile_text,
    holds_template,
    is_template,
    reference_of,
)
from oak_relay.document.habits import nearest
from oak_relay.document.sandbox import METHODS
from oak_relay.document.schemas import BadSchema, Schema, validator
from oak_relay.document.text import Path

_SECRET = re.compile(r"(?i)^(bearer|basic) +[A-Za-z0-9._~+/=-]{12,}$|^(sk|pk|key|tok|whsec|oak)[-_][A-Za-z0-9_-]{16,}$")
_SECRET_KEY = re.compile(r"(?i)(api[-_]?key|secret|password|token|authorization)$")


_HOW = {
    "credential": " (on the page Credentials, or oak-relay credential add)",
    "model alias": " (on the page Models, or oak-relay model connect)",
    "tool server": " (on the page Models, or oak-relay server add)",
    "table": " (oak-relay table create, or oak-relay table import --create for a CSV file)",
}
"""Where what is missing is added."""


class Names(Base):
    """Checks texts against what is in scope."""

    def _schema(self, path: Path, schema: dict[str, object]) -> None:
        try:
            validator(schema)
        except BadSchema as error:
            self.add((*path, *error.path), error.message, error.fix)

    def _required(self, path: Path, schema: Schema) -> None:
        """What must be given is also described."""
        declared = schema.get("properties")
        known = list(declared) if isinstance(declared, Mapping) else []
        for index, name in enumerate(shapes.required(schema)):
            if known and name not in known:
                near = nearest(name, known, {})
                fix = f"write {near}" if near else f"describe {name} under properties, or leave it out"
                self.add((*path, "required", index), f"{name} is required and not described", fix, "warning")

    def named(self, path: Path, name: str, known: Collection[str] | None, word: str) -> None:
        """Tell of a name that is not among those known; a template is not known before the run."""
        if known is None or is_template(name) or name in known or (word == "workflow" and name == self.own_name):
            return
        near = nearest(name, known, {})
        some = f"write one of {', '.join(sorted(known))}" if 0 < len(known) <= 8 else ""
        fix = (
            f"write {near}"
            if near
            else some
            if not name
            else f"add the {word} {name} first" + _HOW.get(word, "") + (f", or {some}" if some else "")
        )
        # Workflows may name each other, so the first of them to be saved names one that is not there yet.
        message = f"there is no {word} {name}" if name else f"a {word} is named here"
        self.add(path, message, fix, "warning" if word == "workflow" else "error")

    def columns(self, path: Path, table: object, given: object) -> None:
        """Tell of names, keys or items, that are no columns of a table."""
        known = (self.world.tables or {}).get(table) if isinstance(table, str) else None
        if known is None or not isinstance(given, dict | list):
            return
        for key, name in enumerate(given) if isinstance(given, list) else ((key, key) for key in given):
            if isinstance(name, str) and not is_template(name) and name not in known:
                near = nearest(name, known, {})
                fix = f"write {near}" if near else f"add the column to the table, or use one of {', '.join(known)}"
                self.add((*path, key), f"the table {table} has no column {name}", fix)

    def no_action(self, path: Path, name: str) -> None:
        """Tell of an action that is not there."""
        known = sorted(self.world.actions)
        room, _, last = name.rpartition(".")
        near_rooms = {one.rpartition(".")[0] for one in known}
        rooms = [one for one in near_rooms if not room or nearest(room, [one], {})]
        among = [one for one in known if one.rpartition(".")[0] in rooms]
        meant = [one for one in among if last.lower() in habits.ACTIONS.get(one.rpartition(".")[2], "").split()]
        alike = meant or [one for one in among if nearest(last, [one.rpartition(".")[2]], {})]
        near = alike[0] if alike else nearest(name, known, {})
        self.add(path, f"there is no action {name}", f"write {near}" if near else f"use one of {', '.join(known)}")

    def fields(self, path: Path, name: str, action: ActionShape, given: Mapping[str, object]) -> list[str]:
        """Tell of fields that an action does not have; those that it needs and that are missing, but for such as a field
        with another name is meant to be."""
        properties = shapes.properties(action.input)
        lacking = [key for key in shapes.required(action.input) if key not in given]
        for key in given:
            if key not in properties:
                near = habits.meant(key, lacking)[:1] or habits.meant(
                    key, [one for one in properties if one not in given]
                )
                if near and near[0] in lacking:
                    lacking.remove(near[0])
                fix = f"write {' or '.join(near)}" if near else f"use {', '.join(properties)}"
                self.add((*path, key), f"{name} has no field {key}", fix)
        return lacking

    def written(self, path: Path, name: str, key: str, value: object) -> bool:
        """Whether a field of an action is one that stands in the document as it is; told of where it does not."""
        action = self.world.actions.get(name)
        if action is None or not shapes.properties(action.input).get(key, {}).get("written"):
            return False
        if holds_template(value):
            fix = "give values in the field beside it, and write no ${ within it"
            self.add(path, f"{key} stands here as it is, and is never computed", fix)
        elif isinstance(value, dict) and "open" in value:
            self.add(path, f"{key} is never left to a model", "write it here, and leave open what it is given")
        return True

    def faults(self, path: Path, action: ActionShape, given: Mapping[str, object]) -> None:
        """Tell of what is wrong with an input beyond its schema."""
        for fault in action.faults(given):
            text = given.get(fault.field)
            line = fault.line if isinstance(text, str) and "\n" in text else 0
            self.add((*path, fault.field), fault.message, fault.fix, line=line)

    def credential_kind(self, path: Path, action: str, shape: ActionShape, name: object) -> None:
        """A credential of a kind that the action takes."""
        kind = (self.world.credentials or {}).get(name) if isinstance(name, str) else None
        if kind is None:
            return
        if shape.credentials and kind not in shape.credentials:
            fix = f"name one of kind {' or '.join(shape.credentials)}"
            self.add(path, f"{name} is of kind {kind}, which {action} does not take", fix)
        elif not shape.credentials and kind in self.world.unsent:
            fix = "name one that is sent"
            self.add(path, f"{name} is of kind {kind}, which is not sent with requests", fix)
        self._connected(path, action, shape, str(name))

    def _connected(self, path: Path, action: str, shape: ActionShape, name: str) -> None:
        """Whether a credential may be used here, and may do what an action needs."""
        only = self.world.limited.get(name)
        if only is not None and self.own_name not in only:
            self.add(path, f"{name} is only for {', '.join(only)}", "name another one, or let it be used here too")
        if name not in self.world.consents:
            return
        given = self.world.consents[name]
        if given is None:
            fix = f"connect it on the page Credentials, or by oak-relay credential connect {name}"
            self.add(path, f"{name} is not connected yet, so runs would wait for it", fix, "warning")
        elif missing := [scope for scope in shape.scopes if scope not in given]:
            fix = f"connect it again; it is asked for then (oak-relay credential connect {name})"
            self.add(path, f"{name} has not the scope {', '.join(missing)}, which {action} needs", fix, "warning")

    def texts(self, path: Path, value: object, scope: Scope, every: AbstractSet[str] = frozenset()) -> None:
        """Check every expression in a value, and find secrets in clear."""
        if isinstance(value, dict):
            for key, item in value.items():
                if (
                    isinstance(item, str)
                    and _SECRET_KEY.search(key)
                    and key != "credential"
                    and not is_template(item)
                    and len(item) >= 8
                ):
                    self._secret((*path, key))
                else:
                    self.texts((*path, key), item, scope, every)
        elif isinstance(value, list):
            for index, item in enumerate(value):
                self.texts((*path, index), item, scope, every)
        elif isinstance(value, str):
            if _SECRET.match(value):
                self._secret(path)
            if is_template(value):
                self._expression(path, value, scope, every)
            marks = expression_faults.other_marks(value, scope) if scope else None
            if marks:
                self.add(path, *marks, "warning")

    def _secret(self, path: Path) -> None:
        self.add(path, "a secret stands here in clear", "store it as a credential and name that")

    def _expression(self, path: Path, text: str, scope: Scope, every: AbstractSet[str]) -> None:
        try:
            expression: Expression = compile_text(text)
        except BadExpression as error:
            self.add(path, str(error), error.fix, line=error.line)
            return
        wrong: set[str] = set()
        references = sorted(expression.references())
        for name in sorted(expression.names):
            self.used.add(name)
            if name not in scope:
                wrong.add(name)
                if name in every:
                    self.add(
                        path,
                        f"{name} is not known here: it is a later step, or inside another one",
                        "move this step behind it, or use the outer step's name",
                    )
                else:
                    behind = next((one[1:] for one in references if one[0] == name), ())
                    self.add(path, *expression_faults.unknown_name(name, behind, scope))
        for name, *keys in references:
            if name in wrong or not keys:
                continue
            bad = shapes.misfit(scope[name], tuple(keys), name)
            if bad:
                near = nearest(bad.key, bad.known, {})
                fix = expression_faults.absent_key(bad, near)
                self.add(path, f"{bad.owner} has no {bad.key}", fix)
        self._optional(path, expression, scope)
        for call in expression.tree.find_all(nodes.Call):
            unknown = expression_faults.unknown_method(call, METHODS)
            if unknown:
                self.add(path, *unknown)
        for compare in expression.tree.find_all(nodes.Compare):
            mapping = expression_faults.mapping_compared(compare, scope)
            if mapping:
                self.add(path, *mapping, "warning")

    def condition(self, path: Path, value: object, scope: Scope, every: AbstractSet[str] = frozenset()) -> None:
        """Check something that is asked: an expression, or true or false."""
        if isinstance(value, str) and not is_template(value):
            self.add(path, *expression_faults.condition(value))
            return
        self.texts(path, value, scope, every)
        if isinstance(value, str):
            try:
                self._free_text(path, compile_text(value).tree, scope)
            except BadExpression:
                return  # told already

    def _free_text(self, path: Path, tree: nodes.Template, scope: Scope) -> None:
        """A condition that looks into what a model wrote freely."""
        tests = [
            *tree.find_all(nodes.Compare),
            *(c for c in tree.find_all(nodes.Call) if isinstance(c.node, nodes.Getattr)),
        ]
        for part in {part for test in tests for part in test.find_all(nodes.Getattr) if part.attr == "text"}:
            if isinstance(part.node, nodes.Name) and scope.get(part.node.name, {}).get("x-free-text"):
                self.add(
                    path,
                    f"this tests the model's free text {part.node.name}.text, which is never twice the same",
                    "use model.label, which gives one label of a closed set, or gives: with an enum",
                    "warning",
                )

    def _optional(self, path: Path, expression: Expression, scope: Scope) -> None:
        """What may not be given, and is used without one for its place."""
        guarded = {*self.guards, *_guarded(expression.tree)}
        for reference in sorted(expression.references()):
            if reference[0] not in ("input", "settings") or any(
                g[: len(reference)] == reference or reference[: len(g)] == g for g in guarded
            ):
                continue
            here: Mapping[str, object] = scope.get(reference[0], {})
            for index, key in enumerate(reference[1:], 2):
                known = shapes.properties(here)
                if key not in known:
                    break
                if key not in shapes.required(here) and "default" not in known[key] and not here.get("$ref"):
                    name = ".".join(reference[:index])
                    fix = f"add {key} to required, give it a default, or write {name} | default('…')"
                    self.add(path, f"{name} is optional, and a run may come without it", fix, "warning")
                    break
                here = known[key]


def _guarded(tree: nodes.Template) -> Iterator[tuple[str, ...]]:
    """References that an expression gives something else for, or asks whether they are there."""
    for node in tree.find_all((nodes.Filter, nodes.Test)):
        asks = isinstance(node, nodes.Test) and node.name in ("defined", "undefined", "none")
        if (asks or (isinstance(node, nodes.Filter) and node.name in ("default", "d"))) and node.node is not None:
            found = reference_of(node.node)
            if found is not None:
                yield found


def guards_of(value: object) -> list[tuple[str, ...]]:
    """References whose presence a condition asks for."""
    if not isinstance(value, str) or not is_template(value):
        return []
    try:
        return list(_guarded(compile_text(value).tree))
    except BadExpression:
        return []
