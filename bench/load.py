"""A small load maker: so many connections, kept open, one request at a time on each (HTTP/1.1)."""

import asyncio
import time
from collections.abc import Iterator
from dataclasses import dataclass


@dataclass(frozen=True)
class Report:
    """Requests a second, and their times in milliseconds, sorted."""

    rate: float
    times: list[float]

    def p(self, percent: float) -> float:
        return self.times[min(len(self.times) - 1, int(len(self.times) * percent / 100))]


class Load:
    """Posts bodies to a path; every answer must be 2xx."""

    def __init__(self, host: str, port: int, connections: int) -> None:
        self._host, self._port, self._connections = host, port, connections

    async def post(self, path: str, bodies: list[bytes], headers: dict[str, str]) -> Report:
        left = iter(bodies)
        times: list[float] = []
        began = time.monotonic()
        await asyncio.gather(
            *(self._connection(path, left, headers, times) for _ in range(min(self._connections, len(bodies))))
        )
        return Report(len(bodies) / (time.monotonic() - began), sorted(times))

    async def _connection(self, path: str, left: Iterator[bytes], headers: dict[str, str], times: list[float]) -> None:
        reader, writer = await asyncio.open_connection(self._host, self._port)
        more = "".join(f"{name}: {value}\r\n" for name, value in headers.items())
        head = f"POST {path} HTTP/1.1\r\nHost: {self._host}:{self._port}\r\nContent-Type: application/json\r\n{more}Content-Length: "
        try:
            for body in left:
                began = time.monotonic()
                writer.write(f"{head}{len(body)}\r\n\r\n".encode() + body)
                answer = await reader.readuntil(b"\r\n\r\n")
                length = int(answer.lower().split(b"content-length:")[1].split(b"\r\n")[0])
                said = await reader.readexactly(length)
                if answer[9:10] != b"2":
                    raise RuntimeError(f"{answer[:60]!r} {said[:200]!r}")
                times.append((time.monotonic() - began) * 1000)
        finally:
            writer.close()
