"""Doing foreign work in the sandbox: what goes in, what comes back, and whoever takes too long is ended."""

import asyncio
import os
import signal
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

import structlog
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from oak_relay.document.errors import ErrorKind, StepFailed
from oak_relay.jsontext import NotJson, dumps, loads
from oak_relay.sandbox import calls
from oak_relay.sandbox.room import INSIDE, SPACE, NoRoom, Room, found

log = structlog.get_logger()
V = TypeVar("V")
MEMORY = 512_000_000
GIVEN, ANSWER, PRINTED, FILES, LONGEST = 60_000_000, 4_000_000, 20_000, 50, 300.0
"""Bytes that go in, letters of an answer, of what is printed, files that come back, seconds at most."""
_AT_ONCE = 4
_NAMES = 20_000
"""Files and folders that may be there at once; they take memory that no other limit counts."""
_LOOKS, _GIVING = 0.05, 120.0
_HEAD = 8


class Line(BaseModel):
    """A line of a source, from 1, and the function it stands in."""

    line: int
    within: str = Field("", max_length=1_000)
    text: str = Field("", max_length=1_000)


class _Fault(BaseModel):
    kind: str
    message: str = Field(max_length=10_000)
    lines: list[Line] = Field(default_factory=list, max_length=50)


class _Left(BaseModel):
    name: str = Field(max_length=1_000)
    size: int = Field(ge=0, le=SPACE)


class _Answer(BaseModel):
    """What the process says, which is not believed further than its shape."""

    model_config = ConfigDict(strict=True)
    value: Any = None
    printed: str = Field("", max_length=PRINTED)
    cut: bool = False
    fault: _Fault | None = None
    files: list[_Left] = Field(default_factory=list, max_length=FILES)


@dataclass(frozen=True, slots=True)
class Put:
    """A file that is given, under a key; its pieces are as many bytes as `size` says."""

    key: str
    name: str
    size: int
    pieces: Callable[[], AsyncIterator[bytes]]


@dataclass(frozen=True, slots=True)
class Work:
    """A source that defines `run`, what that is given, and how many seconds it may take."""

    source: str
    given: object = None
    files: Sequence[Put] = ()
    seconds: float = 30.0


@dataclass(frozen=True, slots=True)
class Done(Generic[V]):
    """What a function gave, what it printed (and whether that was cut), and what became of the files it left."""

    value: object
    printed: str
    cut: bool
    files: Sequence[V] = ()


@dataclass(frozen=True, slots=True)
class There:
    """Whether there is a sandbox on this machine: the Python in it, or why there is none."""

    room: Room | None
    reason: str = ""


Keep = Callable[[str, int, AsyncIterator[bytes]], Awaitable[V]]
"""What is done with a file that comes back: its name, its size, its bytes."""


@dataclass
class Sandbox:
    """Does foreign work, a few pieces at a time. One per process; `wanted` is what the settings say."""

    wanted: bool = True
    _there: There | None = None
    _turn: asyncio.Semaphore = field(default_factory=lambda: asyncio.Semaphore(_AT_ONCE))
    _looking: asyncio.Lock = field(default_factory=asyncio.Lock)

    async def there(self) -> There:
        """Whether there is a sandbox: it is built once, and what is in it tries to get out."""
        if self._there is None:
            async with self._looking:
                if self._there is None:
                    self._there = await self._looked()
        return self._there

    async def _looked(self) -> There:
        if not self.wanted:
            return There(None, "it is turned off by the settings (OAK_RELAY_CODE)")
        try:
            room = await asyncio.to_thread(found)
            await asyncio.to_thread(calls.program)
        except NoRoom as error:
            return There(None, str(error))
        except (OSError, ImportError) as error:
            log.info("no libseccomp", error=str(error))
            return There(None, "libseccomp is not installed (Debian: apt-get install libseccomp2)")
        try:
            done = await _carried_out(room, Work(_PROBE, os.getpid(), (), 20.0), _no_file)
        except StepFailed as failed:
            return There(None, f"it cannot be built here: {failed.message}")
        if done.value:
            return There(None, f"what was in it got out: {', '.join(map(str, done.value))}"[:400])  # type: ignore[call-overload]
        return There(room)

    async def do(self, work: Work, keep: Keep[V]) -> Done[V]:
        """Carry out a function; each file that it leaves goes to `keep`. Raises `StepFailed`: `denied` without a sandbox,
        `invalid` for a source that is none, `timeout`, `too_long`, `wrong_shape`, and `failed` with the line."""
        there = await self.there()
        if there.room is None:
            raise StepFailed("denied", f"functions cannot be carried out on this machine: {there.reason}", fix=_FIX)
        size = sum(file.size for file in work.files)
        if size > GIVEN:
            raise StepFailed("too_long", f"the files have {size:,} bytes; {GIVEN:,} at most go in", fix="give fewer")
        async with self._turn:
            return await _carried_out(there.room, work, keep)


_FIX = "install what is missing where the workers run; docs/code.md tells of it"


async def _no_file(_: str, __: int, pieces: AsyncIterator[bytes]) -> None:
    async for _piece in pieces:
        pass


async def _carried_out(room: Room, work: Work, keep: Keep[V]) -> Done[V]:
    seconds = min(work.seconds, LONGEST)
    told, telling = os.pipe()
    handed = [_held(calls.program()), _held(INSIDE.read_bytes()), telling]
    try:
        process = await asyncio.create_subprocess_exec(
            *room.command(*handed),
            stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.PIPE,
            pass_fds=handed, env={}, cwd="/", limit=1 << 20,
        )  # fmt: skip
    except OSError as error:
        os.close(told)
        raise StepFailed("unavailable", f"no process could be started: {error.strerror}", fix="try again") from None
    finally:
        for one in handed:
            os.close(one)
    end = _end_of(process)
    giving = asyncio.create_task(_give(process, work, seconds))
    over = asyncio.create_task(_watched(process, told, end))
    try:
        async with asyncio.timeout(_GIVING) as clock:
            giving.add_done_callback(lambda _: _within(clock, seconds + 1))
            answer = await _answer(process)
            clock.reschedule(asyncio.get_running_loop().time() + _GIVING)
            if answer is None:
                raise await _died(process, over)
            return await _taken(process, answer, keep)
    except TimeoutError:
        raise StepFailed("timeout", f"it took more than {seconds:g} s", fix=_LONGER, reached="yes") from None
    finally:
        giving.cancel()
        over.cancel()
        end()
        await asyncio.gather(giving, over, return_exceptions=True)
        await process.communicate()
        os.close(told)


_LONGER = "let it do less, or give the step a longer timeout"


def _held(data: bytes) -> int:
    """An open file that holds this, and has no place."""
    held = os.memfd_create("handed")
    with open(held, "wb", closefd=False) as into:
        into.write(data)
    os.lseek(held, 0, os.SEEK_SET)
    return held


def _end_of(process: asyncio.subprocess.Process) -> Callable[[], None]:
    """How a process is ended: it, and never another that has got its number meanwhile."""
    try:
        handle = os.pidfd_open(process.pid)
    except ProcessLookupError:
        return lambda: None
    ended = False

    def end() -> None:
        nonlocal ended
        if not ended:
            ended = True
            with suppress(ProcessLookupError):
                signal.pidfd_send_signal(handle, signal.SIGKILL)
            os.close(handle)

    return end


def _within(clock: asyncio.Timeout, seconds: float) -> None:
    """What was given is there: from now on the time counts."""
    with suppress(RuntimeError):  # it is over already
        clock.reschedule(asyncio.get_running_loop().time() + seconds)


async def _give(process: asyncio.subprocess.Process, work: Work, seconds: float) -> None:
    """Say what is to be done. A function that ends early is no fault of ours."""
    assert process.stdin is not None
    limits = {"memory": MEMORY, "space": SPACE, "seconds": int(seconds) + 1, "printed": PRINTED, "files": FILES}
    limits["answer"] = ANSWER
    named = [{"key": file.key, "name": file.name, "size": file.size} for file in work.files]
    text = dumps({"source": work.source, "given": work.given, "files": named, "limits": limits}).encode()
    try:
        process.stdin.write(len(text).to_bytes(_HEAD, "big") + text)
        await process.stdin.drain()
        for file in work.files:
            async for piece in file.pieces():
                process.stdin.write(piece)
                await process.stdin.drain()
    except ConnectionError:
        pass
    finally:
        process.stdin.close()


async def _watched(process: asyncio.subprocess.Process, told: int, end: Callable[[], None]) -> str:
    """Look after the number of files in it, and end it when there are too many; then say why."""
    inner = b""
    while b"}" not in inner:
        if not (piece := await asyncio.to_thread(os.read, told, 4096)):
            return ""  # it never began, which is seen elsewhere
        inner += piece
    root = f"/proc/{loads(inner)['child-pid']}/root/work"
    while process.returncode is None:
        try:
            held = os.statvfs(root)
        except (FileNotFoundError, NotADirectoryError, ProcessLookupError):
            await asyncio.sleep(_LOOKS)
            continue
        except OSError as error:
            end()
            return f"it cannot be looked after ({error.strerror})"
        if held.f_blocks * held.f_frsize != SPACE:
            pass  # it is not built yet
        elif held.f_files - held.f_ffree > _NAMES:
            end()
            return f"it made more than {_NAMES:,} files"
        await asyncio.sleep(_LOOKS)
    return ""


async def _answer(process: asyncio.subprocess.Process) -> _Answer | None:
    """What it says; None when it ended without a word. Raises `StepFailed` for what is too long."""
    assert process.stdout is not None
    try:
        size = int.from_bytes(await process.stdout.readexactly(_HEAD), "big")
        if size > 4 * ANSWER + 8 * PRINTED:
            raise StepFailed(
                "too_long", f"it said {size:,} bytes", fix="give less, or write it into a file", reached="yes"
            )
        text = await process.stdout.readexactly(size)
    except asyncio.IncompleteReadError:
        return None
    try:
        return await asyncio.to_thread(lambda: _Answer.model_validate(loads(text)))
    except (NotJson, ValidationError) as error:
        log.info("a function said what nobody understands", error=str(error)[:300])
        raise StepFailed("wrong_shape", f"what it gave cannot be kept: {_first(error)}", reached="yes") from None


def _first(error: Exception) -> str:
    return str(error)[:200] if isinstance(error, NotJson) else "it wrote over its own answer"


async def _taken(process: asyncio.subprocess.Process, answer: _Answer, keep: Keep[V]) -> Done[V]:
    """The answer and its files. Raises `StepFailed` for a fault that it tells of."""
    if (fault := answer.fault) is not None:
        detail = {"lines": [line.model_dump() for line in fault.lines], "printed": answer.printed}
        place = f"line {fault.lines[-1].line}: " if fault.lines else ""
        kinds: dict[str, ErrorKind] = {"invalid": "invalid", "wrong_shape": "wrong_shape", "too_long": "too_long"}
        kind = kinds.get(fault.kind, "failed")
        raise StepFailed(kind, f"{place}{fault.message}", fix="correct the function", detail=detail, reached="yes")
    if sum(file.size for file in answer.files) > SPACE:
        raise StepFailed("too_long", f"it left more than {SPACE:,} bytes", fix="leave less", reached="yes")
    kept = [await keep(file.name, file.size, _pieces(process, file.size)) for file in answer.files]
    return Done(answer.value, answer.printed, answer.cut, kept)


async def _pieces(process: asyncio.subprocess.Process, size: int) -> AsyncIterator[bytes]:
    assert process.stdout is not None
    while size:
        piece = await process.stdout.read(min(size, 1 << 18))
        if not piece:
            raise StepFailed("failed", "a file that it left did not come whole", reached="yes")
        size -= len(piece)
        yield piece


async def _died(process: asyncio.subprocess.Process, over: "asyncio.Task[str]") -> StepFailed:
    """Why it ended without a word."""
    assert process.stderr is not None
    said = (await process.stderr.read(2_000)).decode(errors="replace").strip()
    code = await process.wait()
    with suppress(TimeoutError):
        async with asyncio.timeout(1):
            if why := await asyncio.shield(over):
                return StepFailed("failed", why, fix="let it make fewer", reached="yes")
    if said.startswith("bwrap:"):
        return StepFailed("unavailable", said.splitlines()[0][:300], fix=_FIX)
    signal = -code if code < 0 else code - 128
    if signal in (9, 24):
        return StepFailed(
            "timeout", "it took more time or memory than it may, and was ended", fix=_LONGER, reached="yes"
        )
    how = f"signal {signal}" if signal > 0 else f"code {code}"
    return StepFailed("failed", f"it ended its process ({how}) in the place of returning", reached="yes")


_PROBE = """
import os, socket, subprocess, threading
from pathlib import Path

def run(outside):
    got = []
    def out(what, way):
        try:
            if way() is not None: got.append(what)
        except Exception: pass
    out("another process", lambda: os.fork() or os._exit(0))
    out("another program", lambda: subprocess.run(["/bin/true"]))
    out("a socket", lambda: socket.socket())
    out("a file of this machine", lambda: Path("/etc/passwd").read_text())
    out("its own code", lambda: Path("/inside.py").write_text(""))
    out("the ground", lambda: Path("/here").write_text(""))
    out("processes", lambda: Path("/proc/self/status").read_text())
    out("a signal to the service", lambda: os.kill(outside, 0) or True)
    out("the environment", lambda: [name for name in os.environ if name not in ("HOME", "LANG", "PWD", "TMPDIR")] or None)
    out("more memory", lambda: bytearray(1_000_000_000))
    threading.Thread(target=lambda: None).start()
    return got
"""
