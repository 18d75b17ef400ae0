"""The sandbox: what is done in it, what it may not, and what becomes of what goes wrong in it."""

import asyncio
import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import AsyncIterator
from pathlib import Path

import pytest

from oak_relay.document.errors import StepFailed
from oak_relay.sandbox import room
from oak_relay.sandbox.doing import SPACE, Done, Put, Sandbox, Work
from tests.conftest import ROOT, apart

OUTSIDE = "import ctypes, os, resource, signal, socket, subprocess, sys, threading, time\nfrom pathlib import Path\nC = ctypes.CDLL(None, use_errno=True)\n"
ATTEMPTS = {
    # files
    "a file of the machine": "Path('/etc/passwd').read_text()",
    "its folder of users": "os.listdir('/root') or True",
    "what is installed": "os.listdir('/usr/bin') != ['python3.11'] and os.listdir('/usr/bin')",
    "processes": "os.listdir('/proc')",
    "the kernel": "os.listdir('/sys')",
    "devices": "os.listdir('/dev') != ['null']",
    "a disk": "os.open('/dev/sda', os.O_RDONLY)",
    "shared memory": "open('/dev/shm/x', 'w')",
    "the ground": "open('/x', 'w')",
    "what carries it out": "open('/inside.py', 'a')",
    "the library": "open(os.__file__, 'a')",
    "a link out": "(os.symlink('/etc/passwd', '/work/l'), open('/work/l').read())",
    "a step up": "open('/work/../../etc/passwd').read()",
    "a hard link": "os.link('/usr/bin/python3.11', '/work/p')",
    "an owner": "os.chown('/work', 0, 0) or True",
    "a device of its own": "os.mknod('/work/d', 0o60000 | 0o600, os.makedev(8, 0)) or True",
    "a program for root": "(open('/work/s', 'w').close(), os.chmod('/work/s', 0o4777), os.chown('/work/s', 0, 0))",
    # processes
    "a process": "os.fork() or os._exit(0)",
    "a program": "subprocess.run(['/usr/bin/python3.11', '-c', '0'])",
    "a shell": "os.popen('id').read() or None",
    "a spawned one": "os.posix_spawn('/usr/bin/python3.11', ['python3.11', '-c', '0'], {})",
    "fork by number": "C.syscall(57) >= 0 or None",
    "vfork by number": "C.syscall(58) >= 0 or None",
    "clone by number": "C.syscall(56, 17, 0, 0, 0, 0) >= 0 or None",
    "clone3 by number": "C.syscall(435, 0, 0) >= 0 or None",
    "another": "__import__('multiprocessing').Process(target=print).start() or True",
    "who began it": "os.getppid() if os.getppid() != 1 else None",
    "the service": "os.kill(OUTSIDE_PID, 0) or True",
    "everybody": "os.kill(-1, 0) or True",
    "a trace of another": "C.ptrace(16, 1, 0, 0) == 0 or None",
    "memory of another": "C.syscall(310, 1, 0, 0, 0, 0, 0) == 0 or None",
    "a handle of another": "os.pidfd_open(1)",
    # networks
    "a socket": "socket.socket()",
    "a datagram": "socket.socket(socket.AF_INET, socket.SOCK_DGRAM)",
    "the sixth version": "socket.socket(socket.AF_INET6)",
    "a socket of the machine": "socket.socket(socket.AF_UNIX)",
    "raw frames": "socket.socket(socket.AF_PACKET, socket.SOCK_RAW)",
    "the kernel's own": "socket.socket(socket.AF_NETLINK, socket.SOCK_RAW)",
    "a socket of virtual machines": "socket.socket(40)",
    "the service by its port": "socket.create_connection(('127.0.0.1', PORT), 1)",
    "a name": "socket.getaddrinfo('office.example', 80)",
    "a page": "__import__('urllib.request').request.urlopen('http://127.0.0.1:PORT/').status",
    "a server": "__import__('socketserver').TCPServer(('127.0.0.1', 0), None)",
    # namespaces and rights
    "a namespace": "C.unshare(0x10000000) == 0 or None",
    "a namespace of files": "C.unshare(0x00020000) == 0 or None",
    "another's namespace": "C.setns(0, 0) == 0 or None",
    "a mount": "C.mount(b'none', b'/work', b'tmpfs', 0, 0) == 0 or None",
    "an end of a mount": "C.umount2(b'/work', 0) == 0 or None",
    "another ground": "C.chroot(b'/work') == 0 or None",
    "a turned ground": "C.syscall(155, b'/work', b'/work') == 0 or None",
    "root": "C.setuid(0) == 0 or None",
    "rights": "(lambda s: s and s)(int(C.prctl(23, 21, 0, 0, 0) == 1)) or None",
    "a name of the machine": "C.sethostname(b'x', 1) == 0 or None",
    "the clock": "time.clock_settime(time.CLOCK_REALTIME, 0) or True",
    "a module of the kernel": "C.syscall(175, 0, 0, b'') == 0 or None",
    "a program of the kernel": "C.syscall(321, 0, 0, 0) >= 0 or None",
    "keys": "C.syscall(250, 0, -3, 0, 0, 0) >= 0 or None",
    "a ring": "C.syscall(425, 8, ctypes.create_string_buffer(256)) >= 0 or None",
    "faults": "C.syscall(323, 0) >= 0 or None",
    "a handle of a file": "C.syscall(304, -100, 0, 0) >= 0 or None",
    "another kind of numbers": "C.syscall(0x40000000 + 57) >= 0 or None",
    # limits
    "more memory": "len(bytearray(1_000_000_000))",
    "a higher limit": "resource.setrlimit(resource.RLIMIT_AS, (-1, -1)) or True",
    "longer time": "resource.setrlimit(resource.RLIMIT_CPU, (9999, 9999)) or True",
    "memory that nobody counts": "os.memfd_create('x')",
    "segments": "C.shmget(0, 100_000_000, 0o1600) >= 0 or None",
    "messages": "C.msgget(0, 0o1600) >= 0 or None",
    "a large file": "open('/work/f', 'wb').write(bytes(129_000_000))",
    "many threads": "[threading.Thread(target=time.sleep, args=(1,), daemon=True).start() for _ in range(100)]",
    "many files open": "[open('/dev/null') for _ in range(100)]",
    # what it could find out
    "the environment": "[n for n in os.environ if n not in ('HOME', 'LANG', 'PWD', 'TMPDIR', 'LC_CTYPE')] or None",
    "arguments": "[a for a in sys.argv if a != '/inside.py'] or None",
    "other packages": "__import__('oak_relay')",
    "packages of the machine": "__import__('pip')",
    "the machine's name": "os.uname().nodename != 'hut' or None",
    "open files": "[n for n in range(3, 64) if os.path.exists(f'/proc/self/fd/{n}')] or None",
}


async def kept(name: str, size: int, pieces: AsyncIterator[bytes]) -> tuple[str, bytes]:
    return name, b"".join([piece async for piece in pieces])


def done(
    source: str, given: object = None, *, seconds: float = 10, files: dict[str, bytes] | None = None
) -> Done[tuple[str, bytes]]:
    """What a function gives, in a sandbox of its own."""
    found: list[Done[tuple[str, bytes]]] = []
    put = [Put(key, f"{key}.txt", len(data), lambda data=data: _one(data)) for key, data in (files or {}).items()]

    async def go() -> None:
        found.append(await Sandbox().do(Work(source, given, put, seconds), kept))

    apart(go)
    return found[0]


async def _one(data: bytes) -> AsyncIterator[bytes]:
    for start in range(0, len(data), 100_000):
        yield data[start : start + 100_000]


def fails(source: str, given: object = None, seconds: float = 10) -> StepFailed:
    with pytest.raises(StepFailed) as failed:
        done(source, given, seconds=seconds)
    return failed.value


def test_nothing_gets_out():
    with socket.create_server(("127.0.0.1", 0)) as listening:
        port = str(listening.getsockname()[1])
        escaped: dict[str, object] = {}

        async def go() -> None:
            sandbox = Sandbox()

            async def attempt(name: str, way: str) -> None:
                way = way.replace("PORT", port).replace("OUTSIDE_PID", str(os.getpid()))
                source = f"{OUTSIDE}def run(given):\n    try:\n        got = {way}\n    except (Exception, SystemExit) as error:\n        return None\n    return repr(got)\n"
                try:
                    got = (await sandbox.do(Work(source, None, (), 10), kept)).value
                except StepFailed as failed:
                    assert failed.kind == "failed" and "ended its process" in failed.message, (name, failed.message)
                    got = None  # the kernel ended it
                if got not in (None, "None", "False"):
                    escaped[name] = got

            for name, way in ATTEMPTS.items():
                await attempt(name, way)

        apart(go)
        assert len(ATTEMPTS) >= 60 and escaped == {}
        listening.settimeout(0.1)
        with pytest.raises(TimeoutError):
            listening.accept()
    assert not Path("/work/x").exists() and Path("/etc/passwd").exists()


def test_the_attempts_get_out_where_there_is_no_sandbox(tmp_path):
    """Each kind of attempt is one that would be seen: in a plain process a dozen of them succeed."""
    ways = ("a file of the machine", "processes", "a process", "a program", "a socket", "the service", "memory that nobody counts", "more memory", "the machine's name", "open files")  # fmt: skip
    got = 0
    for name in ways:
        if way := ATTEMPTS.get(name):
            way = way.replace("OUTSIDE_PID", str(os.getpid()))
            ended = subprocess.run(
                [sys.executable, "-c", f"{OUTSIDE}\ngot = {way}\nprint('got' if got else '')"],
                capture_output=True,
                text=True,
            )
            got += "got" in ended.stdout
    assert got >= 9


def test_a_function_is_given_values_and_files_and_gives_them():
    source = """
import csv, sqlite3, zipfile, decimal, datetime, re, json, asyncio, statistics
from pathlib import Path

def run(given, files):
    print("nights of", given["hut"])
    rows = list(csv.DictReader(files["stays"].open()))
    with open("report.csv", "w") as out:
        csv.writer(out).writerows([["guest", "nights"], *[[r["guest"], r["nights"]] for r in rows]])
    with zipfile.ZipFile("all.zip", "w") as packed:
        packed.write("report.csv")
    Path("folder").mkdir()
    Path("not-a-file").symlink_to("/etc/passwd")
    db = sqlite3.connect("/work/own.db")
    db.execute("create table n (x)")
    async def later(): return sum(int(r["nights"]) for r in rows)
    return {"name": files["stays"].name, "sum": asyncio.run(later()), "mean": statistics.mean([1, 2]), "snow": "\\u2603"}
"""
    gave = done(
        source, {"hut": "Larkspur"}, files={"stays": b"guest,nights\nIda,2\nOle,3\n", "other": bytes(3_000_000)}
    )
    assert gave.value == {"name": "stays.txt", "sum": 5, "mean": 1.5, "snow": "\u2603"}
    assert (gave.printed, gave.cut) == ("nights of Larkspur\n", False)
    assert [name for name, _ in gave.files] == ["all.zip", "report.csv"]
    assert gave.files[1][1] == b"guest,nights\r\nIda,2\r\nOle,3\r\n"


@pytest.mark.parametrize(
    ("source", "kind", "told", "line"),
    [
        ("def run(given:\n    pass\n", "invalid", "'(' was never closed", 1),
        ("def walk(given):\n    pass\n", "invalid", "it defines no function run", 0),
        ("def run(given):\n    hut = {}\n    return hut['bunk']\n", "failed", "line 3: KeyError: 'bunk'", 3),
        ("import nothing_of_the_kind\ndef run(given): return 1\n", "failed", "line 1: ModuleNotFoundError", 1),
        ("def help(x):\n    return 1 / x\n\ndef run(given):\n    return help(0)\n", "failed", "line 2: ZeroDivisionError", 2),
        ("def run(given):\n    return object()\n", "wrong_shape", "Object of type object", 0),
        ("def run(given):\n    return float('nan')\n", "wrong_shape", "Out of range float values", 0),
        ("def run(given):\n    return '\\ud800'\n", "wrong_shape", "surrogates not allowed", 0),
        ("def run(given):\n    a = []\n    a.append(a)\n    return a\n", "wrong_shape", "Circular reference", 0),
        ("def run(given):\n    a = 1\n    for _ in range(300): a = [a]\n    return a\n", "wrong_shape", "nested", 0),
        ("async def run(given):\n    return 1\n", "wrong_shape", "run is async", 0),
        ("def run(given):\n    return 'x' * 5_000_000\n", "too_long", "more than 4,000,000 letters", 0),
        ("import sys\ndef run(given):\n    sys.exit(3)\n", "failed", "it ended its process (SystemExit)", 3),
        ("import os\ndef run(given):\n    os._exit(3)\n", "failed", "it ended its process (code 3)", 0),
        ("import os\ndef run(given):\n    os.kill(os.getpid(), 11)\n", "failed", "it ended its process (signal 11)", 0),
        ("import ctypes\ndef run(given):\n    ctypes.string_at(0)\n", "failed", "it ended its process (signal 11)", 0),
        ("def run(given):\n    return run(given)\n", "failed", "RecursionError", 2),
        ("def run(given):\n    return bytearray(10**9)\n", "failed", "line 2: it takes more memory than it may", 2),
        ("def run(given):\n    raise ValueError('no bunk ' + 'x' * 9000)\n", "failed", "line 2: ValueError: no bunk", 2),
        ("def run(given):\n    for i in range(10**7): open(f'/work/{i}', 'w').close()\n", "failed", "more than 20,000 files", 0),
        ("from pathlib import Path\ndef run(given): Path('a').write_bytes(bytes(129_000_000))\n", "failed", "File too large", 2),
    ],
)  # fmt: skip
def test_what_goes_wrong_is_told_with_its_line(source: str, kind: str, told: str, line: int):
    failed = fails(source)
    assert failed.kind == kind and told in failed.message, failed.message
    lines = failed.detail.get("lines")
    assert (lines[-1]["line"] if lines else 0) == line
    assert len(failed.message) < 2_100


def test_a_process_that_answers_for_itself_is_not_believed():
    written = "import os, json\ndef say(text):\n    for fd in range(3, 12):\n        try: os.write(fd, len(text).to_bytes(8, 'big') + text)\n        except OSError: pass\n"
    assert "it said 35,747,322,042,253,312 bytes" in fails(f"{written}def run(given):\n    for fd in range(3, 12):\n        try: os.write(fd, b'\\x00\\x7f' + bytes(6))\n        except OSError: pass\n    os._exit(0)\n").message  # fmt: skip
    for text in (
        "{}x",
        '{"files": [{"name": "a", "size": -1}]}',
        '{"printed": 3}',
        '{"files": [{"name": "a", "size": 999999999999}]}',
    ):
        failed = fails(f"{written}def run(given):\n    say({text.encode()!r})\n    os._exit(0)\n")
        assert failed.kind == "wrong_shape"
    # It says that it leaves a file, and does not.
    failed = fails(
        f'{written}def run(given):\n    say(b\'{{"files": [{{"name": "a", "size": 9}}]}}\')\n    os._exit(0)\n'
    )
    assert (failed.kind, failed.message) == ("failed", "a file that it left did not come whole")
    # It tells a fault of another kind than there are.
    failed = fails(
        f'{written}def run(given):\n    say(b\'{{"fault": {{"kind": "out_of_credit", "message": "pay"}}}}\')\n    os._exit(0)\n'
    )
    assert failed.kind == "failed"


@pytest.mark.parametrize(
    "way",
    [
        "while True: pass",
        "import time; time.sleep(99)",
        "open('/dev/null').read(0); import threading; threading.Event().wait()",
    ],
)
def test_who_takes_too_long_is_ended_and_nothing_is_left(way: str):
    began = time.monotonic()
    failed = fails(f"def run(given):\n    {way}\n", seconds=1)
    assert failed.kind == "timeout" and time.monotonic() - began < 8
    assert (
        "inside.py"
        not in subprocess.run(["ps", "-o", "args", "--ppid", str(os.getpid())], capture_output=True, text=True).stdout
    )


def test_whoever_is_no_longer_waited_for_is_ended():
    async def go() -> None:
        doing = asyncio.create_task(Sandbox().do(Work("def run(given):\n    while True: pass\n", None, (), 60), kept))
        while not (found := await _bubbles()):
            assert not doing.done()
            await asyncio.sleep(0.02)
        doing.cancel()
        with pytest.raises(asyncio.CancelledError):
            await doing
        assert not set(await _bubbles()) & set(found)

    apart(go)


async def _bubbles() -> list[str]:
    """Processes of sandboxes that this process has begun and that are at work."""
    listed = await asyncio.to_thread(subprocess.run, ["ps", "-eo", "pid,ppid,args"], capture_output=True, text=True)
    return [
        line.split()[0]
        for line in listed.stdout.splitlines()
        if "bwrap" in line and line.split()[1] == str(os.getpid())
    ]


def test_many_at_once_each_have_their_own():
    answers: list[object] = []

    async def go() -> None:
        sandbox = Sandbox()
        source = "from pathlib import Path\ndef run(given):\n    Path('/work/mine').write_text(str(given))\n    return [Path('/work/mine').read_text(), sorted(p.name for p in Path('/work').iterdir())]\n"
        found = await asyncio.gather(*(sandbox.do(Work(source, number, (), 20), kept) for number in range(20)))
        answers.extend(one.value for one in found)

    apart(go)
    assert answers == [[str(number), ["mine", "out"]] for number in range(20)]


def test_more_than_may_go_in_is_refused_before_anything_is_read():
    async def never() -> AsyncIterator[bytes]:
        raise AssertionError("it was read")
        yield b""

    async def go() -> None:
        with pytest.raises(StepFailed, match="60,000,000 at most go in"):
            await Sandbox().do(Work("def run(g): 0", None, [Put("a", "a", SPACE, never)]), kept)

    apart(go)


@pytest.mark.parametrize("lacking", ["bubblewrap", "setpriv", "a Python", "the settings", "libseccomp", "namespaces"])
def test_where_something_is_missing_it_is_off_and_says_why(lacking: str, monkeypatch, tmp_path):
    told = {
        "bubblewrap": "bubblewrap is not installed",
        "setpriv": "setpriv is not installed",
        "a Python": "no Python 3.11 or newer",
        "the settings": "turned off by the settings",
        "libseccomp": "libseccomp is not installed",
        "namespaces": "it cannot be built here: bwrap: No permissions to create new namespace",
    }[lacking]
    which = room.shutil.which
    if lacking == "libseccomp":
        from oak_relay.sandbox import calls

        monkeypatch.setattr(calls, "program", lambda: (_ for _ in ()).throw(ImportError("libseccomp.so.2")))
    elif lacking == "namespaces":
        refuses = tmp_path / "bwrap"
        refuses.write_text("#!/bin/sh\necho 'bwrap: No permissions to create new namespace' >&2\nexit 1\n")
        tmp_path.chmod(0o755)
        refuses.chmod(0o755)
        for folder in tmp_path.parents:
            if folder.owner() == "root" and folder != Path("/") and folder.is_relative_to("/tmp/pytest-of-root"):
                folder.chmod(0o755)
        monkeypatch.setattr(
            room.shutil, "which", lambda name, path=None: str(refuses) if name == "bwrap" else which(name, path=path)
        )
    else:
        gone = {"bubblewrap": "bwrap", "setpriv": "setpriv", "a Python": "python3"}.get(lacking)
        monkeypatch.setattr(
            room.shutil, "which", lambda name, path=None: None if name == gone else which(name, path=path)
        )
    if lacking == "a Python":
        monkeypatch.setattr(room.sys, "executable", str(tmp_path / "python"))
    monkeypatch.setattr(room.os, "geteuid", lambda: 0)

    async def go() -> None:
        sandbox = Sandbox(lacking != "the settings")
        there = await sandbox.there()
        assert there.room is None and told in there.reason, there
        with pytest.raises(StepFailed, match="cannot be carried out on this machine") as failed:
            await sandbox.do(Work("def run(given): return 1"), kept)
        assert failed.value.kind == "denied" and told in failed.value.message

    apart(go)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root has somebody else to be")
def test_an_ordinary_user_has_it_too():
    packages = next(p for p in sys.path if p.endswith("site-packages"))
    source = "import asyncio\nfrom oak_relay.sandbox.doing import Sandbox\nprint(asyncio.run(Sandbox().there()))\n"
    ended = subprocess.run(
        ["runuser", "-u", "postgres", "--", "env", f"PYTHONPATH={ROOT / 'src'}:{packages}", "/usr/bin/python3", "-c", source],
        capture_output=True, text=True, cwd="/",
    )  # fmt: skip
    assert "reason=''" in ended.stdout, ended


def test_the_event_loop_goes_on_meanwhile():
    longest = 0.0

    async def go() -> None:
        nonlocal longest
        sandbox = Sandbox()
        await sandbox.there()
        doing = asyncio.create_task(
            sandbox.do(Work("def run(given):\n    return 'x' * 3_900_000\n", ["y" * 900_000], (), 20), kept)
        )
        last = time.monotonic()
        while not doing.done():
            await asyncio.sleep(0.001)
            longest, last = max(longest, time.monotonic() - last), time.monotonic()
        await doing

    apart(go)
    assert longest < 0.25 and threading.active_count() < 50
