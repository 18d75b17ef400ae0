"""What model servers can do, as this process knows it: kept with the aliases that name them, and found out as they are used."""

import structlog
from sqlalchemy import func, select, update

from oak_relay.capabilities.alias import Alias, Can
from oak_relay.document import values
from oak_relay.store.database import LOST, Database
from oak_relay.store.tables import model_alias

log = structlog.get_logger()
_MOST = 1_000


class Abilities:
    """Of a workspace's servers and models, by their address and name."""

    def __init__(self, database: Database, workspace: int) -> None:
        self._database, self._workspace = database, workspace
        self._found: dict[tuple[str, str], Can] = {}

    def of(self, alias: Alias) -> Can:
        """What is known of an alias's server: what was found out here goes before what its alias says."""
        return self._found.get((alias.url, alias.model), alias.can)

    async def learn(self, alias: Alias, can: Can) -> None:
        """Keep what was found out, here and with every alias of that server and model, unless another call found it out
        just as well."""
        before = self.of(alias)
        can = before.model_copy(update={name: one for name, one in can if one is not None})
        if can == before:
            return
        if len(self._found) >= _MOST:
            self._found.clear()
        self._found[alias.url, alias.model] = can
        try:
            await self._keep(alias, can)
        except LOST:
            log.info("not kept for want of the database: what a model server can do", model=alias.model)

    async def _keep(self, alias: Alias, can: Can) -> None:
        mine = model_alias.c.workspace_id == self._workspace
        async with self._database.begin() as connection:
            rows = await connection.execute(
                select(model_alias.c.name, model_alias.c.config).where(mine).with_for_update()
            )
            for row in rows.all():
                config = values.loads(row.config)
                if (config.get("url"), config.get("model")) == (alias.url, alias.model):
                    # What others found out meanwhile stays.
                    known = Can.model_validate(config.get("can") or {})
                    can = known.model_copy(update={name: one for name, one in can if one is not None})
                    text = values.dumps({**config, "can": can.model_dump(mode="json")})
                    changed = update(model_alias).where(mine, model_alias.c.name == row.name)
                    await connection.execute(changed.values(config=text, updated_at=func.clock_timestamp()))

    def forget(self, alias: Alias) -> None:
        """Find out anew what an alias's server can do."""
        self._found.pop((alias.url, alias.model), None)
