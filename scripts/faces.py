"""The blocking face of the client, made of the other one: `python scripts/faces.py`. What is changed is changed there."""

import subprocess
import sys
import tempfile
from pathlib import Path

import unasync

CLIENT = Path(__file__).parent.parent / "src" / "oak_relay" / "client"
_WORDS = {
    "AsyncClient": "Client",
    "AsyncRun": "Run",
    "aconnect_sse": "connect_sse",
    "aiter_sse": "iter_sse",
    "aread": "read",
    "aiter_bytes": "iter_bytes",
    "aclose": "close",
    "asyncio": "time",
}


def blocking() -> str:
    """The text of the blocking face."""
    with tempfile.TemporaryDirectory() as folder:
        source, made = Path(folder) / "concurrent", Path(folder) / "blocking"
        source.mkdir()
        (source / "face.py").write_text((CLIENT / "concurrent.py").read_text())
        rule = unasync.Rule(f"{source}/", f"{made}/", additional_replacements=_WORDS)
        unasync.unasync_files([str(source / "face.py")], [rule])
        text = (made / "face.py").read_text().replace('"""The async face of the client."""', _HEAD)
        for name, other in (("AsyncClient", "Client"), ("AsyncRun", "Run")):
            text = text.replace(f'"{name}"', f'"{other}"')
        text = text.replace("Awaitable[Page[T]]", "Page[T]").replace(
            "Iterator, Awaitable, Callable, Iterable", "Callable, Iterable, Iterator"
        )
        text = text.replace("import time\nimport ssl\nimport time\n", "import ssl\nimport time\n")
        done = subprocess.run(
            [sys.executable, "-m", "ruff", "format", "-q", "--stdin-filename", str(CLIENT / "blocking.py"), "-"],
            input=text, capture_output=True, text=True, check=True,
        )  # fmt: skip
    return done.stdout


_HEAD = '"""The blocking face of the client, made of the other one by `make faces`."""'

if __name__ == "__main__":
    (CLIENT / "blocking.py").write_text(blocking())
