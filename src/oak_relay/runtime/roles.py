"""Roles of a process: a worker, a clock; and `up`, which starts and watches the others."""

import asyncio
import contextlib
import gc
import os
import signal
import sys
import threading
from collections.abc import Callable

import structlog

from oak_relay.runtime.boot import base, database_url
from oak_relay.runtime.clock import Clock
from oak_relay.runtime.cluster import Cluster
from oak_relay.runtime.settings import Settings
from oak_relay.runtime.worker import Worker

log = structlog.get_logger()
_PARENT = "OAK_RELAY_PARENT_PIPE"
_LOOK = 0.5
"""Seconds after which the own server is looked at again."""


def _spare_the_collector() -> None:
    """What is loaded stays; what walks make is mostly freed by counting, so it is looked through less often."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 20)


async def work(settings: Settings) -> None:
    """Be a worker until SIGTERM or SIGINT; what is under way is finished or handed back."""
    await _be(settings, Worker)


async def tick(settings: Settings) -> None:
    """Be a clock until SIGTERM or SIGINT."""
    await _be(settings, Clock)


async def _be(settings: Settings, role: type[Worker] | type[Clock]) -> None:
    async with base(settings) as ground:
        being = role(settings, ground.database, ground.registry, ground.hints)
        on_stop(being.stop)
        hinting = asyncio.create_task(ground.hints.run())
        _spare_the_collector()
        try:
            await being.run()
        finally:
            hinting.cancel()
            await asyncio.gather(hinting, return_exceptions=True)


def on_stop(callback: Callable[[], None]) -> None:
    """Call back at SIGTERM, SIGINT, or when the process that started this one is gone."""
    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, callback)
    watch_parent(lambda: _quietly(loop, callback))


def _quietly(loop: asyncio.AbstractEventLoop, callback: Callable[[], None]) -> None:
    if not loop.is_closed():
        loop.call_soon_threadsafe(callback)


def watch_parent(gone: Callable[[], None]) -> None:
    """Children hold the reading end of a pipe; it ends when `up` does, however that ends."""
    given = os.environ.pop(_PARENT, None)
    if given is None:
        return

    def wait() -> None:
        os.read(int(given), 1)
        gone()

    threading.Thread(target=wait, name="parent", daemon=True).start()


async def up(settings: Settings, workers: int) -> int:
    """All in one: the database, the service and workers as processes of their own, started again when they die."""
    url = await asyncio.to_thread(database_url, settings)
    environment = {**os.environ, **settings.environment(), "OAK_RELAY_DATABASE_URL": url}
    stopping = asyncio.Event()
    on_stop(stopping.set)
    reading, writing = os.pipe()
    os.set_inheritable(reading, True)
    environment[_PARENT] = str(reading)
    roles = [("serve",), ("tick",), *[("work",)] * workers]
    async with asyncio.TaskGroup() as group:
        for role in roles:
            group.create_task(_keep(role, environment, reading, stopping))
        if settings.database_url is None:
            group.create_task(_keep_database(Cluster(settings.data_dir, settings.database_port), stopping))
        await stopping.wait()
    os.close(writing)
    if settings.database_url is None:
        await asyncio.to_thread(Cluster(settings.data_dir).stop)
    return 0


async def _keep_database(cluster: Cluster, stopping: asyncio.Event) -> None:
    """Start the own server again when it is gone: killed, or given up because its disk was full."""
    pause, said = _LOOK, ""
    while not stopping.is_set():
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(pause):
                await stopping.wait()
        if stopping.is_set() or await asyncio.to_thread(cluster.runs):
            pause, said = _LOOK, ""
            continue
        try:
            await asyncio.to_thread(cluster.start, True)
            log.warning("PostgreSQL was gone and runs again")
        except Exception as error:  # of whatever kind: nobody else looks after it
            pause = min(pause * 2, 5.0)
            if str(error) != said:
                said = str(error)
                log.error("PostgreSQL is gone and does not start yet", reason=said)


async def _keep(role: tuple[str, ...], environment: dict[str, str], pipe: int, stopping: asyncio.Event) -> None:
    """Run one role as a process and start it again when it dies before its time."""
    pause = 0.2
    while not stopping.is_set():
        began = asyncio.get_running_loop().time()
        process = await asyncio.create_subprocess_exec(
            sys.executable, "-m", "oak_relay.cli", *role, env=environment, pass_fds=(pipe,), start_new_session=True
        )
        ended = asyncio.create_task(process.wait())
        asked = asyncio.create_task(stopping.wait())
        await asyncio.wait({ended, asked}, return_when=asyncio.FIRST_COMPLETED)
        asked.cancel()
        if not ended.done():
            process.terminate()
            done, _ = await asyncio.wait({ended}, timeout=20)
            if not done:
                process.kill()
                await ended
            return
        lived = asyncio.get_running_loop().time() - began
        pause = 0.2 if lived > 10 else min(pause * 2, 5)
        log.warning("process died; starting it again", role=role[0], code=process.returncode, pause=pause)
        await asyncio.wait({asyncio.create_task(stopping.wait())}, timeout=pause)
