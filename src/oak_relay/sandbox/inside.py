"""What stands in the sandbox and carries out one function. It is run there alone: it knows nothing of the rest, and nobody believes it.

Standard input: eight bytes, the length (big-endian) of what follows as JSON, then the files that it names, one behind the other. Standard
output is written in the same way.
"""

import json
import os
import resource
import stat
import sys
import traceback
from pathlib import Path
from typing import Any, BinaryIO

NAME = "the function"
_MOST_TEXT, _MOST_FRAMES = 2_000, 12


class Printed:
    """What is printed, its first letters."""

    encoding, errors, closed = "utf-8", "replace", False

    def __init__(self, most: int) -> None:
        self._most = most
        self.text = ""
        self.cut = False

    def write(self, text: str) -> int:
        """Take in a text."""
        self.text += str(text)[: self._most - len(self.text)]
        self.cut = self.cut or len(self.text) >= self._most
        return len(text)

    def flush(self) -> None:
        """Nothing is held back."""

    def isatty(self) -> bool:
        """Nobody looks on."""
        return False


class Faulty(Exception):
    """What is wrong with a function, its kind, and the line of the source, 0 where none is known."""

    def __init__(self, kind: str, message: str, line: int = 0) -> None:
        super().__init__(message)
        self.kind, self.line = kind, line


def limit(limits: "dict[str, int]") -> None:
    """Take the limits upon oneself. They cannot be raised again."""
    for what, most in (
        (resource.RLIMIT_AS, limits["memory"]),
        (resource.RLIMIT_FSIZE, limits["space"]),
        (resource.RLIMIT_NOFILE, 64),
        (resource.RLIMIT_NPROC, 64),
        (resource.RLIMIT_MEMLOCK, 0),
        (resource.RLIMIT_CORE, 0),
    ):
        resource.setrlimit(what, (most, most))
    resource.setrlimit(resource.RLIMIT_CPU, (limits["seconds"], limits["seconds"] + 1))


def files(named: "list[dict[str, Any]]", source: BinaryIO) -> "dict[str, Path]":
    """The files that are given, each in a folder of its own so that it is called as it was."""
    found = {}
    for place, one in enumerate(named):
        folder = Path("/work/given") / str(place)
        folder.mkdir(parents=True)
        path = folder / one["name"]
        left = one["size"]
        with path.open("wb") as into:
            while left:
                piece = source.read(min(left, 1 << 20))
                if not piece:
                    raise Faulty("failed", "a file did not come whole")
                into.write(piece)
                left -= len(piece)
        found[one["key"]] = path
    return found


def function(text: str) -> Any:
    """The function `run` of a source. Raises `Faulty`, and whatever the source raises."""
    try:
        code = compile(text, NAME, "exec", dont_inherit=True)
    except SyntaxError as error:
        raise Faulty("invalid", f"{error.msg}", error.lineno or 0) from None
    except (ValueError, RecursionError, MemoryError, OverflowError) as error:
        raise Faulty("invalid", f"the source cannot be read: {str(error) or type(error).__name__}") from None
    names: dict[str, Any] = {"__name__": "function", "__builtins__": __builtins__}
    exec(code, names)
    found = names.get("run")
    if not callable(found):
        raise Faulty("invalid", "it defines no function run; write def run(given): …")
    return found


def called(text: str, given: Any, named: "dict[str, Path]") -> Any:
    """What a function gives; one that takes a second value is given the files too."""
    run = function(text)
    takes = getattr(getattr(run, "__code__", None), "co_argcount", 1)
    value = run(given, named) if takes > 1 else run(given)
    if hasattr(value, "__await__"):
        raise Faulty("wrong_shape", "run is async; write def run, and asyncio.run(…) in it where that is wanted")
    return value


def as_json(value: Any, most: int) -> str:
    """A value as JSON text. Raises `Faulty`."""
    try:
        text = json.dumps(value, allow_nan=False, ensure_ascii=False)
        text.encode()
    except TypeError as error:
        raise Faulty("wrong_shape", f"what run gives is no JSON: {error}; make a text or a number of it") from None
    except (ValueError, RecursionError) as error:
        raise Faulty("wrong_shape", f"what run gives is no JSON: {error}") from None
    if len(text) > most:
        raise Faulty("too_long", f"what run gives has more than {most:,} letters; write it into a file")
    return text


def left(most: int) -> "list[tuple[str, int, int]]":
    """Files that the function left where it began: name, open descriptor, size. Only plain ones count."""
    found = []
    for name in sorted(os.listdir("/work/out"))[:most]:
        try:
            held = os.open(f"/work/out/{name}", os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
        except OSError:
            continue
        about = os.fstat(held)
        if stat.S_ISREG(about.st_mode):
            found.append((name, held, about.st_size))
        else:
            os.close(held)
    return found


def told(error: BaseException, text: str) -> "dict[str, Any]":
    """What went wrong, with the lines of the source that led there."""
    if isinstance(error, Faulty):
        at = text.splitlines()[error.line - 1 : error.line] if error.line else []
        lines = [{"line": error.line, "within": "", "text": at[0].strip()[:200] if at else ""}] if error.line else []
        return {"kind": error.kind, "message": str(error)[:_MOST_TEXT], "lines": lines}
    if isinstance(error, MemoryError):
        message = "it takes more memory than it may"
    elif isinstance(error, SystemExit):
        message = "it ended its process (SystemExit); return instead"
    else:
        message = "".join(traceback.format_exception_only(error)).strip()[:_MOST_TEXT]
    lines = []
    source = text.splitlines()
    for frame in traceback.extract_tb(error.__traceback__):
        if frame.filename == NAME and frame.lineno:
            said = source[frame.lineno - 1].strip()[:200] if frame.lineno <= len(source) else ""
            lines.append({"line": frame.lineno, "within": frame.name, "text": said})
    return {"kind": "failed", "message": message, "lines": lines[-_MOST_FRAMES:]}


def main() -> None:
    """Carry out one function, and say how it went."""
    source = os.fdopen(os.dup(0), "rb")
    answers = os.dup(1)
    nothing = os.open("/dev/null", os.O_RDWR)
    for number in (0, 1, 2):
        os.dup2(nothing, number)
    asked = json.loads(source.read(int.from_bytes(source.read(8), "big")))
    limits = asked["limits"]
    limit(limits)
    printed = Printed(limits["printed"])
    sys.stdout = sys.stderr = printed
    out: list[tuple[str, int, int]] = []
    value = "null"
    answer: dict[str, Any] = {}
    try:
        given = files(asked["files"], source)
        os.mkdir("/work/out")
        os.chdir("/work/out")
        value = as_json(called(asked["source"], asked["given"], given), limits["answer"])
        out = left(limits["files"])
    except BaseException as error:  # whatever it is, it is told
        answer["fault"] = told(error, asked["source"])
    answer |= {"printed": printed.text, "cut": printed.cut, "files": [{"name": n, "size": size} for n, _, size in out]}
    text = json.dumps(answer).encode()[:-1] + b', "value": ' + value.encode() + b"}"
    write(answers, len(text).to_bytes(8, "big") + text)
    for _, held, size in out:
        while size:
            piece = os.read(held, min(size, 1 << 20))
            if not piece:
                break
            write(answers, piece)
            size -= len(piece)
    os._exit(0)


def write(to: int, data: bytes) -> None:
    """All of it."""
    while data:
        data = data[os.write(to, data) :]


if __name__ == "__main__":
    main()
