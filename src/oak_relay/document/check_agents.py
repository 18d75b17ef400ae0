"""What agents name: tools, and what of their input is left to the model."""

import re
from collections.abc import Set as AbstractSet
from typing import Any

from oak_relay.document import habits, shapes
from oak_relay.document.check_base import ActionShape, Scope
from oak_relay.document.check_names import Names
from oak_relay.document.expressions import is_template
from oak_relay.document.models import DoStep, Workflow
from oak_relay.document.text import Path

_ENDLESS = ("turns", "calls", "money", "time", "tokens")


class Agents(Names):
    """Checks the `with` of an agent."""

    def agent(self, path: Path, step: DoStep, scope: Scope, every: AbstractSet[str]) -> None:
        """What stands under an agent's `with`."""
        given, here = step.with_, (*path, "with")
        known = shapes.properties(self.world.actions["agent"].input) if "agent" in self.world.actions else given
        inside = {**scope, "arguments": shapes.ANY}
        for index, tool in enumerate(shapes.listed(given.get("tools"))):
            if isinstance(tool, dict):
                self._tool((*here, "tools", index), tool)
                self.texts((*here, "tools", index), tool, inside, every)
        self._approvals((*here, "approve"), given, inside)
        limits = given.get("limits")
        if (
            given.get("tools")
            and not set(given) - set(known)
            and not (isinstance(limits, dict) and any(limits.get(name) for name in _ENDLESS))
        ):
            fix = "add limits: {turns: 8, money: 0.20}"
            self.add(here, f"{step.step} is an agent with tools and without limits", fix, "warning")

    def memory_order(self, path: Path, step: DoStep, document: Workflow) -> None:
        """Two messages of one conversation are answered in order only when runs of it wait for each other."""
        memory = step.with_.get("memory")
        if memory and document.kind == "workflow" and document.subject is None:
            self.add(
                (*path, "with", "memory"),
                "two messages of one conversation may be answered at once, neither knowing of the other",
                "give subject: the conversation's key, so that its runs wait for each other",
                "warning",
            )

    def _approvals(self, path: Path, given: dict[str, Any], scope: Scope) -> None:
        """What must be approved names something that the agent can call."""
        tools = [tool for tool in given.get("tools") or [] if isinstance(tool, dict)]
        for index, tool in enumerate(tools):
            when = tool.get("approve")
            if isinstance(when, str) and not is_template(when):
                place = (*path[:-1], "tools", index, "approve")
                self.add(place, "this is a text, which always holds", "write true, or an expression as ${ … }")
        approve = given.get("approve")
        if isinstance(approve, str) and is_template(approve):
            self.texts(path, approve, {**scope, "tool": shapes.object_of({"name": shapes.ANY, "action": shapes.ANY})})
        elif isinstance(approve, str | list) and not any(t.get("server") and not t.get("only") for t in tools):
            known = {name for tool in tools for name in _names(tool)}
            for index, name in enumerate([approve] if isinstance(approve, str) else approve):
                if isinstance(name, str) and not is_template(name) and name not in known:
                    fix = habits.instead(name, sorted(known), "name one of", {})
                    place = path if isinstance(approve, str) else (*path, index)
                    self.add(place, f"approve names {name}, which this agent cannot call", fix)

    def _tool(self, path: Path, tool: dict[str, Any]) -> None:
        for key, known, word in (
            ("run", self.world.workflows, "workflow"),
            ("agent", self.world.workflows, "workflow"),
            ("server", self.world.servers, "tool server"),
            ("table", self.world.tables, "table"),
        ):
            if isinstance(tool.get(key), str):
                self.named((*path, key), tool[key], known, word)
        for key in ("columns", "match"):
            self.columns((*path, key), tool.get("table"), tool.get(key))
        if isinstance(tool.get("do"), str):
            self._action(path, str(tool["do"]), tool.get("with"))
        for index, other in enumerate(tool.get("or") or []):
            if isinstance(other, dict) and isinstance(other.get("do"), str):
                self._action((*path, "or", index), other["do"], other.get("with"))

    def _action(self, path: Path, name: str, given: object) -> None:
        action = self.world.actions.get(name)
        if action is None:
            self.no_action((*path, "do"), name)
        elif isinstance(given, dict):
            self._fields(path, name, action, given)

    def _fields(self, path: Path, name: str, action: ActionShape, given: dict[str, object]) -> None:
        properties = shapes.properties(action.input)
        self.faults((*path, "with"), action, given)
        for key, value in given.items():
            if self.written((*path, "with", key), name, key, value):
                continue
            if key == "credential" and key in properties and isinstance(value, str) and not is_template(value):
                self.named((*path, "with", key), value, self.world.credentials, "credential")
                self.credential_kind((*path, "with", key), name, action, value)
            if isinstance(value, dict) and set(value) == {"open"} and not isinstance(value["open"], str):
                fix = f"write {key}: {{open: what belongs there, in a few words}}"
                self.add((*path, "with", key), "open tells the model what belongs there", fix)
        for key in self.fields((*path, "with"), name, action, given):
            fix = f"add {key}: with a value, or {key}: {{open: what belongs there}}"
            self.add((*path, "with"), f"{name} needs {key}", fix)


def _names(tool: dict[str, Any]) -> set[str]:
    """The names under which a tool may be meant, as far as the document tells."""
    found = {str(tool[key]) for key in ("name", "do", "run", "agent", "server", "table") if tool.get(key)}
    found |= {str(other["do"]) for other in tool.get("or") or [] if isinstance(other, dict) and other.get("do")}
    for only in tool.get("only") or []:
        found |= {str(only), f"{tool.get('server')}.{only}"}
    if tool.get("table"):
        called = tool.get("name") or re.sub(r"[^a-zA-Z0-9_]+", "_", str(tool["table"])).strip("_")
        for may in tool.get("may") or ["find"]:
            found |= {f"table.{may}", f"{tool['table']}.{may}", f"{called}_{may}"}
    return found | ({"ask"} if tool.get("ask") else set())
