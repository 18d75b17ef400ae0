"""What texts and expressions of a document name: whether it is there, fits, and holds no secret in clear."""

import re
from collections.abc import Collection, Mapping
from collections.abc import Set as AbstractSet
from difflib import get_close_matches

from jinja2 import nodes

from oak_relay.document import shapes
from oak_relay.document.check_base import ActionShape, Base, Scope
from oak_relay.document.expressions import BadExpression, Expression, compile_text, is_template
from oak_relay.document.schemas import BadSchema, validator
from oak_relay.document.text import Path

_SECRET = re.compile(r"(?i)^(bearer|basic) +[A-Za-z0-9._~+/=-]{12,}$|^(sk|pk|key|tok|whsec|oak)[-_][A-Za-z0-9_-]{16,}$")
_SECRET_KEY = re.compile(r"(?i)(api[-_]?key|secret|password|token|authorization)$")


class Names(Base):
    """Checks texts against what is in scope."""

    def _schema(self, path: Path, schema: dict[str, object]) -> None:
        try:
            validator(schema)
        except BadSchema as error:
            self.add((*path, *error.path), error.message, error.fix)

    def named(self, path: Path, name: str, known: Collection[str] | None, word: str) -> None:
        """Tell of a name that is not among those known; a template is not known before the run."""
        if known is None or is_template(name) or name in known or (word == "workflow" and name == self.own_name):
            return
        near = get_close_matches(name, list(known), 1)
        fix = f"write {near[0]}" if near else f"add the {word} {name} first"
        # Workflows may name each other, so the first of them to be saved names one that is not there yet.
        self.add(path, f"there is no {word} {name}", fix, "warning" if word == "workflow" else "error")

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
            self.add(path, f"{name} is of kind {kind}, which proves who sends to us and is not sent", fix)

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

    def _secret(self, path: Path) -> None:
        self.add(path, "a secret stands here in clear", "store it as a credential and name that")

    def _expression(self, path: Path, text: str, scope: Scope, every: AbstractSet[str]) -> None:
        try:
            expression: Expression = compile_text(text)
        except BadExpression as error:
            self.add(path, str(error), "correct the expression", line=error.line)
            return
        wrong: set[str] = set()
        references = sorted(expression.references())
        for name in sorted(expression.names):
            self.used.add(name)
            if name not in scope:
                wrong.add(name)
                near = get_close_matches(name, list(scope), 1)
                if name in every:
                    self.add(
                        path,
                        f"{name} is not known here: it is a later step, or inside another one",
                        "move this step behind it, or use the outer step's name",
                    )
                else:
                    self.add(path, f"there is no {name}", f"write {near[0]}" if near else f"use {', '.join(scope)}")
        for name, *keys in references:
            if name in wrong or not keys:
                continue
            bad = shapes.misfit(scope[name], tuple(keys), name)
            if bad:
                fix = (
                    f"write {bad.near}"
                    if bad.near
                    else (f"it has {', '.join(bad.known)}" if bad.known else "it is no mapping")
                )
                owner, _, key = bad.path.rpartition(".")
                self.add(path, f"{owner} has no {key}", fix)

    def _free_text(self, path: Path, text: str, scope: dict[str, Mapping[str, object]]) -> None:
        try:
            expression = compile_text(text)
        except BadExpression:
            return
        for compare in expression.tree.find_all(nodes.Compare):
            if any(op.op in ("in", "notin") for op in compare.ops):
                for part in compare.find_all(nodes.Getattr):
                    if (
                        part.attr == "text"
                        and isinstance(part.node, nodes.Name)
                        and (scope.get(part.node.name, {}).get("x-free-text"))
                    ):
                        self.add(
                            path,
                            f"this tests a part of the model's free text {part.node.name}.text",
                            "use model.label, which gives one label of a closed set",
                            "warning",
                        )
