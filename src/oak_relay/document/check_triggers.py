"""What triggers name."""

from abc import abstractmethod
from collections.abc import Mapping
from collections.abc import Set as AbstractSet
from typing import Any

from oak_relay.document import shapes
from oak_relay.document.check_agents import Agents
from oak_relay.document.models import DoStep, Workflow
from oak_relay.document.text import Path
from oak_relay.document.triggers import Trigger


class Triggers(Agents):
    """Checks triggers; a poll's action like that of a step."""

    @abstractmethod
    def _do(
        self, path: Path, step: DoStep, scope: dict[str, Mapping[str, Any]], every: AbstractSet[str]
    ) -> Mapping[str, Any]:
        """Check the action of a step; returns the shape of what it gives."""

    def _triggers(self, document: Workflow) -> None:
        names: set[str] = set()
        for index, trigger in enumerate(document.triggers):
            path: Path = ("triggers", index)
            if trigger.trigger in names:
                self.add((*path, "trigger"), f"there are two triggers {trigger.trigger}", "rename one")
            names.add(trigger.trigger)
            getattr(self, f"_{trigger.kind}_trigger", self._plain_trigger)((*path, trigger.kind), trigger)

    def _plain_trigger(self, path: Path, trigger: Trigger) -> None:
        given = getattr(trigger, trigger.kind)
        self._texts((*path, "where"), getattr(given, "where", None), {"arrived": shapes.ANY})

    def _webhook_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.webhook is not None
        for part in ("verify", "handshake"):
            given = getattr(trigger.webhook, part)
            if given is not None and given.credential:
                self._named((*path, part, "credential"), given.credential, self.world.credentials, "credential")

    def _schedule_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.schedule is not None
        self._texts((*path, "data"), trigger.schedule.data, {"event": shapes.EVENT})

    def _table_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.table is not None
        self._named((*path, "table"), trigger.table.table, self.world.tables, "table")
        self._plain_trigger(path, trigger)

    def _poll_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.poll is not None
        step = DoStep.model_validate({"step": "poll", "do": trigger.poll.do, "with": trigger.poll.with_})
        shape = self._do(path, step, {}, set())
        self._texts((*path, "items"), trigger.poll.items, {"arrived": shape})
        self._texts((*path, "key"), trigger.poll.key, {"arrived": shapes.ANY})

    def _after_trigger(self, path: Path, trigger: Trigger) -> None:
        assert trigger.after is not None
        self._named((*path, "workflow"), trigger.after.workflow, self.world.workflows, "workflow")
