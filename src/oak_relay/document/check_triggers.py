"""What triggers say: each is read and looked at by its kind."""

from abc import abstractmethod
from collections.abc import Mapping
from collections.abc import Set as AbstractSet
from typing import Any

from pydantic import ValidationError

from oak_relay.document import habits, shapes
from oak_relay.document.check_agents import Agents
from oak_relay.document.check_base import Schema, TriggerShape
from oak_relay.document.models import DoStep, Workflow
from oak_relay.document.text import Path
from oak_relay.document.triggers import Trigger
from oak_relay.document.words import Model


class Triggers(Agents):
    """Checks triggers."""

    def __init__(self, *given: Any) -> None:
        super().__init__(*given)
        self._read: list[tuple[Path, TriggerShape, Model]] = []

    @abstractmethod
    def _do(self, path: Path, step: DoStep, scope: dict[str, Schema], every: AbstractSet[str]) -> Schema:
        """Check the action of a step; returns the shape of what it gives."""

    @abstractmethod
    def _shape_problems(self, error: ValidationError, above: Path = (), model: type[Model] | None = None) -> None:
        """Tell of what has not the form of the language."""

    def trigger_forms(self) -> bool:
        """Read what stands under each trigger's kind; whether all of them have the form of theirs."""
        data = self.source.data
        listed = data.get("triggers") if isinstance(data, dict) else None
        sound = True
        for index, said in enumerate(listed if isinstance(listed, list) else ()):
            if not isinstance(said, dict):
                continue
            names = [key for key in said if key not in Trigger.model_fields]
            if len(names) == 1:
                sound &= self._trigger_form(("triggers", index, names[0]), names[0], said[names[0]])
        return sound

    def _trigger_form(self, path: Path, name: Any, given: object) -> bool:
        kind = self.world.triggers.get(name)
        if kind is None:
            fix = habits.instead(name, self.world.triggers, habits=habits.TRIGGERS)
            self.add(path, f"there is no kind of trigger {name}", fix)
            return False
        try:
            self._read.append((path, kind, kind.model.model_validate(given)))
        except ValidationError as error:
            self._shape_problems(error, path, kind.model)
            return False
        return True

    def _triggers(self, document: Workflow) -> None:
        names: set[str] = set()
        for index, trigger in enumerate(document.triggers):
            if trigger.trigger in names:
                path = ("triggers", index, "trigger")
                self.add(path, f"there are two triggers {trigger.trigger}", "rename one")
            names.add(trigger.trigger)
            about = {"event": shapes.EVENT, "settings": document.settings or shapes.object_of({})}
            self.texts(("triggers", index, "input"), trigger.input, about)
        for where, kind, given in self._read:
            kind.check(given, where, self)

    def action(self, path: Path, name: str, given: Mapping[str, object]) -> Schema:
        """Check an action that stands at a path with its input, like that of a step."""
        step = DoStep.model_validate({"step": "action", "do": name, "with": dict(given)})
        return self._do(path, step, {}, set())
