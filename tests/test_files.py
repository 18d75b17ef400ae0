"""Files: piece by piece, whole or not at all, once for the same bytes, for as long as something refers to them."""

import asyncio
import base64
import hashlib
import hmac
import json
import random
import signal
import socket
import threading
from collections.abc import AsyncIterator, Callable, Iterator
from datetime import UTC, datetime, timedelta
from email.parser import BytesParser
from email.policy import HTTP
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from types import SimpleNamespace
from typing import Any, ClassVar
from uuid import UUID

import asyncpg
import httpx
import pytest
import uuid_utils.compat as uuids
from hypothesis import given, settings
from hypothesis import strategies as st
from playwright.sync_api import Browser, expect

from oak_relay.client.errors import NotFound, Problem
from oak_relay.runtime import links
from oak_relay.service import uploads
from oak_relay.standins.media import picture
from oak_relay.store import files
from oak_relay.store.database import Database
from oak_relay.store.files import PIECE, Arriving, Bounds, Gone, NoRoom, TooLarge
from oak_relay.store.keyring import Keyring
from oak_relay.vault.sealing import master_key
from tests.browsing import browser, faults, sign_in
from tests.conftest import Processes, apart, until

__all__ = ["browser"]

BOUNDS = Bounds(50_000_000, 60_000_000)
HOLDS = """
oak: 1
workflow: holds-a-file
input: {type: object}
steps:
  - {step: kept, set: {again: "${ input.picture }"}}
result: "${ kept.again.name }"
"""


def noise(size: int, seed: int = 1) -> bytes:
    return random.Random(seed).randbytes(size)


@pytest.fixture(scope="module")
def house(new_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Processes]:
    made = Processes(tmp_path_factory.mktemp("files"), new_database())
    made.environment |= {"OAK_RELAY_FILE_LIMIT": "80000000", "OAK_RELAY_FILES_LIMIT": "100000000"}
    made.start_all()
    made.start_worker()
    yield made
    made.stop()


@pytest.fixture
def base(new_database: Callable[[], str]) -> str:
    return new_database()


def on(url: str, work: Callable[[Database], Any]) -> None:
    """Carry something out against a database of its own."""

    async def run() -> None:
        database = Database(url)
        try:
            await work(database)
        finally:
            await database.close()

    apart(run)


async def keep(database: Database, data: bytes, name: str = "hut.bin", bounds: Bounds = BOUNDS) -> files.Stored:
    arriving = Arriving(database, 1, bounds)
    await arriving.begin(len(data))
    for at in range(0, len(data), 100_000):
        await arriving.take(data[at : at + 100_000])
    return await arriving.keep(name, "application/octet-stream")


async def read(database: Database, file: files.Stored, first: int = 0) -> bytes:
    return b"".join([piece async for piece in files.pieces(database, 1, file.id, file.size, first)])


async def room(database: Database) -> int:
    async with database.reading() as connection:
        return await files.used(connection, 1)


def test_a_file_is_the_same_on_its_way_out_and_kept_once(house: Processes, tmp_path: Path):
    client, data = house.client(), noise(3 * PIECE + 77)
    before = house.sql("SELECT bytes FROM file_room") or 0
    (tmp_path / "hut.png").write_bytes(data)
    kept = client.add_file(tmp_path / "hut.png")
    assert (kept.name, kept.type, kept.size) == ("hut.png", "image/png", len(data))
    again = client.add_file(data, "other name.png")
    assert (again.file, again.name) == (kept.file, "other name.png")
    assert b"".join(client.read_file(kept.file)) == data
    assert house.sql("SELECT bytes FROM file_room") - before == len(data)
    assert house.sql("SELECT count(*) FROM file_piece WHERE file_id = $1", kept.file) == 4
    detail = client.file(kept.file)
    assert (detail.digest, detail.runs) == (hashlib.sha256(data).hexdigest(), [])
    empty = client.add_file(b"", "nothing.txt")
    assert (empty.size, b"".join(client.read_file(empty.file))) == (0, b"")
    assert [one.file for one in client.files(limit=2)] == [empty.file, kept.file]


def test_what_a_run_holds_says_so(house: Processes):
    client = house.client()
    kept = client.add_file(noise(1000, 5), "guest.jpg")
    client.save(HOLDS, over=True)
    run = client.start("holds-a-file", {"picture": kept.value, "stranger": {"file": str(UUID(int=7)), "name": "x"}})
    assert run.result() == "guest.jpg"
    assert client.file(kept.file).runs == [run.id]
    assert house.sql("SELECT count(*) FROM file_reference WHERE file_id = $1", UUID(int=7)) == 0


def test_a_run_holds_what_its_steps_gave(house: Processes):
    client = house.client()
    kept = client.add_file(noise(1000, 6), "kept.jpg")
    text = HOLDS.replace("holds-a-file", "gives-a-file").replace('"${ input.picture }"', f'{{file: "{kept.file}"}}')
    client.save(text.replace('"${ kept.again.name }"', "done"))
    run = client.start("gives-a-file")
    assert run.result() == "done"
    assert client.file(kept.file).runs == [run.id]


def test_too_much_is_refused_before_it_is_kept(house: Processes):
    client = house.client()
    before = house.rows("SELECT count(*), sum(room) FROM file")[0]
    headers = {"Authorization": f"Bearer {house.token}"}
    announced = {**headers, "Content-Length": str(10**9)}
    with socket.create_connection(("127.0.0.1", house.port), 10) as raw:
        lines = "".join(f"{name}: {value}\r\n" for name, value in announced.items())
        raw.sendall(f"POST /api/v1/files?name=big HTTP/1.1\r\nHost: x\r\n{lines}\r\n".encode())
        assert b" 413 " in raw.recv(1000)

    def endless() -> Iterator[bytes]:
        for n in range(400):
            yield noise(PIECE, n)

    with pytest.raises((Problem, httpx.TransportError)):
        client.add_file(endless(), "endless")
    with pytest.raises(Problem) as full:
        for n in range(3):
            client.add_file(noise(45_000_000, n), f"{n}")
    assert (full.value.status, "no room" in str(full.value)) == (413, True)
    until(lambda: house.sql("SELECT count(*) FROM file WHERE whole_at IS NULL") == 0)
    after = house.rows("SELECT count(*), sum(room) FROM file")[0]
    assert after[0] == before[0] + 2
    assert house.sql("SELECT bytes FROM file_room") == after[1]


def test_what_breaks_off_leaves_nothing(house: Processes):
    before = house.sql("SELECT count(*) FROM file")
    with socket.create_connection(("127.0.0.1", house.port), 10) as raw:
        raw.sendall(
            f"POST /api/v1/files?name=half HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {house.token}\r\n"
            f"Content-Length: {3 * PIECE}\r\n\r\n".encode()
            + noise(2 * PIECE)
        )
        until(lambda: house.sql("SELECT count(*) FROM file WHERE whole_at IS NULL") == 1)
    until(lambda: house.sql("SELECT count(*) FROM file") == before)


def test_nothing_that_a_browser_would_carry_out_is_shown_by_it(house: Processes):
    client = house.client()
    for type, name, shown in (
        ("text/html", "../../door.html", False),
        ("image/svg+xml", "x\u202egnp.svg", False),
        ("image/png", "C:\\huts\\Höhe.png", True),
    ):
        kept = client.add_file(noise(50, 77), name, type)
        headers, own = {"Authorization": f"Bearer {house.token}"}, {"name": kept.name, "type": type}
        found = httpx.get(f"{house.url}/api/v1/files/{kept.file}/content", params=own, headers=headers)
        assert found.headers["content-type"] == (type if shown else "application/octet-stream")
        assert found.headers["content-disposition"].startswith("inline" if shown else "attachment")
        assert found.headers["x-content-type-options"] == "nosniff"
        assert "sandbox" in found.headers["content-security-policy"]
        assert not {"/", "\\", "\u202e"} & set(kept.name)
    with pytest.raises(NotFound):
        client.file(UUID(int=3))
    with pytest.raises(NotFound):
        list(client.read_file(UUID(int=3)))
    assert httpx.get(f"{house.url}/api/v1/files/{kept.file}/content").status_code == 401


@pytest.mark.parametrize("sent", [0, 1, 2, 3])
def test_killed_behind_any_piece_nothing_is_there(lone: Processes, sent: int):
    """The service dies while a file of three pieces comes; what came is swept, and its room is free again."""
    service = next(one for one in lone.running if "serve" in str(getattr(one, "args", "serve")))
    with socket.create_connection(("127.0.0.1", lone.port), 10) as raw:
        size = 3 * PIECE
        raw.sendall(
            f"POST /api/v1/files?name=half HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {lone.token}\r\n"
            f"Content-Length: {size + 1}\r\n\r\n".encode()
            + noise(sent * PIECE)
        )
        until(lambda: lone.sql("SELECT count(*) FROM file") == 1)
        until(lambda: lone.sql("SELECT count(*) FROM file_piece") == sent)
        lone.kill(service, signal.SIGKILL)
    assert lone.sql("SELECT count(*) FROM file WHERE whole_at IS NOT NULL") == 0

    async def swept(database: Database) -> None:
        async with database.reading() as connection:
            assert await files.sweep(connection, 1, never=0) == 1
            assert await files.used(connection, 1) == 0
            assert await connection.fetchval("SELECT count(*) FROM file_piece") == 0

    on(lone.environment["OAK_RELAY_DATABASE_URL"], swept)


def test_limits_and_room(base: str):
    async def work(database: Database) -> None:
        small = Bounds(1_000_000, 1_500_000)
        with pytest.raises(TooLarge):
            await keep(database, noise(1_000_001), bounds=small)
        assert await room(database) == 0
        await keep(database, noise(1_000_000), bounds=small)
        with pytest.raises(NoRoom):
            await keep(database, noise(600_000, 2), bounds=small)
        unannounced = Arriving(database, 1, small)
        await unannounced.begin()
        with pytest.raises(NoRoom):
            await unannounced.take(noise(600_000, 3))
        await unannounced.leave()
        assert await room(database) == 1_000_000
        given_up = Arriving(database, 1, small)
        await given_up.begin()
        async with database.reading() as connection:
            assert await files.sweep(connection, 1, never=0) == 1
        with pytest.raises(Gone):
            await given_up.take(noise(PIECE))

    on(base, work)


def test_the_same_bytes_at_once_are_one_file(base: str):
    async def work(database: Database) -> None:
        found = await asyncio.gather(*(keep(database, noise(700_000), f"{n}") for n in range(12)))
        assert len({one.id for one in found}) == 1
        assert await read(database, found[0]) == noise(700_000)
        assert await read(database, found[0], 300_000) == noise(700_000)[300_000:]
        assert await room(database) == 700_000
        async with database.reading() as connection:
            assert await connection.fetchval("SELECT count(*) FROM file_piece") == 3

    on(base, work)


def test_what_is_alone_goes_with_the_second_sweep(base: str):
    async def work(database: Database) -> None:
        held, alone, back = [await keep(database, noise(300_000, n)) for n in range(3)]
        owner = uuids.uuid7()
        async with database.reading() as connection:
            async with connection.transaction():
                await files.refer(connection, 1, [(owner, held.id), (owner, UUID(int=9))])
            assert await files.sweep(connection, 1) == 0  # alone for the first time
            assert await files.sweep(connection, 1) == 0  # and not for a day yet
            again = await keep(database, noise(300_000, 2))
            assert again.id == back.id
            assert await files.sweep(connection, 1, day=0) == 1
            assert await files.about(connection, 1, alone.id) is None
            assert await files.about(connection, 1, back.id) is not None
            assert await files.owners(connection, 1, held.id, 5) == [owner]
        with pytest.raises(Gone):
            await read(database, alone)
        assert await read(database, held) == noise(300_000, 0)
        assert await room(database) == 600_000

    on(base, work)


def test_sweeping_beside_referring_loses_nothing(base: str):
    """Runs refer to files that are alone just while they are swept, in any interleaving: what is referred to is there."""
    delays = st.lists(st.integers(0, 12), min_size=4, max_size=4)

    async def one(database: Database, pauses: list[int], seed: int) -> None:
        kept = [await keep(database, noise(PIECE + 10, seed * 10 + n)) for n in range(3)]
        async with database.reading() as connection:
            await files.sweep(connection, 1, day=0)

        async def refers(pause: int, file: files.Stored, owner: UUID) -> None:
            await asyncio.sleep(pause / 2000)
            async with database.reading() as connection, connection.transaction():
                await files.refer(connection, 1, [(owner, file.id)])
                await asyncio.sleep(pauses[3] / 4000)

        async def sweeps() -> None:
            await asyncio.sleep(pauses[3] / 2000)
            async with database.reading() as connection:
                await files.sweep(connection, 1, day=0)

        owners = [uuids.uuid7() for _ in kept]
        await asyncio.gather(
            sweeps(), sweeps(), *(refers(p, f, o) for p, f, o in zip(pauses[:3], kept, owners, strict=True))
        )
        async with database.reading() as connection:
            referred = await connection.fetch(
                "SELECT file_id FROM file_reference WHERE owner = ANY($1::uuid[])", owners
            )
            used = await connection.fetchval("SELECT coalesce(sum(room), 0) FROM file")
        for row in referred:
            [file] = [one for one in kept if one.id == row["file_id"]]
            assert await read(database, file)
        assert await room(database) == used

    async def work(database: Database) -> None:
        for n in range(3):  # once, so that what is measured is the interleaving and not the connection
            await one(database, [0, 0, 0, n], 900 + n)

    on(base, work)
    seeds = iter(range(1, 1000))

    @settings(max_examples=40)
    @given(delays)
    def any_way(pauses: list[int]) -> None:
        seed = next(seeds)
        on(base, lambda database: one(database, pauses, seed))

    any_way()


def test_a_month_goes_with_its_references_and_open_runs_keep_theirs(base: str):
    async def work(database: Database) -> None:
        from datetime import UTC, datetime

        from oak_relay.store import history

        kept = await keep(database, noise(1000))
        connection = await asyncpg.connect(database.dsn)
        old = history.first_id(datetime(2024, 2, 3, tzinfo=UTC))
        await history.ensure(connection, datetime(2024, 2, 3, tzinfo=UTC))
        async with connection.transaction():
            await files.refer(connection, 1, [(old, kept.id)])
        await history.drop_before(connection, datetime(2024, 4, 1, tzinfo=UTC))
        assert await files.owners(connection, 1, kept.id, 5) == []
        await connection.close()

    on(base, work)


TAKES = """
oak: 1
workflow: takes-{name}
input: {{type: object}}
triggers:
  - trigger: sent
    webhook: {{path: {name}, files: true, verify: {verify}}}
    input: {{got: "${{ event.data }}"}}
steps:
{steps}
result: "${{ {result} }}"
"""


def on_with(
    house: Processes, name: str, verify: str = "{scheme: none}", steps: str = "", result: str = "input.got"
) -> str:
    """Switch a workflow on that takes files; the address of its webhook."""
    client = house.client()
    kept = "  - {step: seen, set: {it: 1}}"
    client.save(TAKES.format(name=name, verify=verify, steps=steps or kept, result=result), over=True)
    client.on(f"takes-{name}")
    return f"{house.url}/hooks/{name}"


def gave(house: Processes, answer: httpx.Response) -> Any:
    assert answer.status_code == 202, answer.text
    run = house.client().run(answer.json()["run"]).run
    found = until(lambda: (one := house.client().run(run.id)) and one.run.over and one)
    assert found.run.state == "succeeded", found.run.error
    return found.result


def test_a_form_with_files_comes_by_webhook(house: Processes):
    hook, picture, note = on_with(house, "form"), noise(2 * PIECE + 5, 21), b"two nights"
    answer = httpx.post(
        hook,
        data={"guest": "Ada Fenn", "night": ["1", "2"]},
        files=[
            ("picture", ("../hut.png", picture, "image/png")),
            ("notes", ("a.txt", note)),
            ("notes", ("b.txt", b"")),
        ],
    )
    got = gave(house, answer)
    assert (got["guest"], got["night"]) == ("Ada Fenn", ["1", "2"])
    assert (got["picture"]["name"], got["picture"]["type"], got["picture"]["size"]) == (
        "hut.png",
        "image/png",
        len(picture),
    )
    assert [one["name"] for one in got["notes"]] == ["a.txt", "b.txt"]
    client = house.client()
    assert b"".join(client.read_file(got["picture"]["file"])) == picture
    assert client.file(got["picture"]["file"]).runs == [UUID(answer.json()["run"])]


def test_a_file_comes_as_the_whole_body_and_json_as_ever(house: Processes):
    hook, picture = on_with(house, "binary"), noise(1000, 22)
    got = gave(house, httpx.post(hook, content=picture, headers={"Content-Type": "image/png"}))
    assert (got["file"]["type"], got["file"]["size"]) == ("image/png", 1000)
    assert gave(house, httpx.post(hook, json={"guest": "Bo Hale"})) == {"guest": "Bo Hale"}
    assert gave(house, httpx.post(hook, data={"guest": "Bo Hale"})) == {"guest": "Bo Hale"}


def test_what_is_signed_wrongly_leaves_nothing(house: Processes):
    client, secret = house.client(), "a-secret-of-the-sender"
    client.put_credential("sender", kind="signing", secret=secret)
    hook = on_with(house, "signed-file", "{scheme: hmac, credential: sender, signed: '{body}'}")
    body = noise(3 * PIECE, 23)
    made = hmac.digest(secret.encode(), body, "sha256").hex()
    headers = {"Content-Type": "application/pdf"}
    before = house.rows("SELECT count(*), coalesce(sum(room), 0) FROM file")[0]
    for wrong in ("", made[:-1] + ("0" if made[-1] != "0" else "1")):
        assert httpx.post(hook, content=body, headers={**headers, "X-Signature": wrong}).status_code == 401
    assert tuple(house.rows("SELECT count(*), coalesce(sum(room), 0) FROM file")[0]) == tuple(before)
    got = gave(house, httpx.post(hook, content=body, headers={**headers, "X-Signature": made}))
    assert got["file"]["size"] == len(body)
    locked = on_with(house, "locked-file", "{scheme: bearer, credential: sender}")
    refused = httpx.post(locked, content=body, headers=headers)
    assert refused.status_code == 401


@pytest.mark.parametrize(
    ("kind", "body", "status"),
    [
        ("multipart/form-data", b"--x\r\n", 400),
        ("multipart/form-data; boundary=x", b"no form at all", 400),
        ("multipart/form-data; boundary=x", b'--x\r\nContent-Disposition: form-data; name="a"; filename="b"\r\n\r\nhalf', 400),
        ("multipart/form-data; boundary=x", b"--x\r\nX: " + b"y" * 20_000 + b"\r\n\r\n\r\n--x--\r\n", 400),
        ("multipart/form-data; boundary=x", b'--x\r\nContent-Disposition: form-data; name="a"\r\n\r\n\r\n' * 1_200 + b"--x--\r\n", 413),
        ("multipart/form-data; boundary=x", b'--x\r\nContent-Disposition: form-data; name="a"\r\n\r\n' + b"y" * 1_100_000 + b"\r\n--x--\r\n", 413),
        ("multipart/form-data; boundary=x", b'--x\r\nContent-Disposition: form-data; name="a"; filename="b"\r\n\r\n\r\n' * 120 + b"--x--\r\n", 413),
    ],
)  # fmt: skip
def test_a_form_made_to_hurt_is_refused_and_leaves_nothing(house: Processes, kind: str, body: bytes, status: int):
    hook = on_with(house, "hostile")
    before = house.sql("SELECT count(*) FROM file")
    assert httpx.post(hook, content=body, headers={"Content-Type": kind}).status_code == status
    assert house.sql("SELECT count(*) FROM file") == before


class Place(BaseHTTPRequestHandler):
    """A service that takes files and gives them."""

    taken: ClassVar[dict[str, tuple[dict[str, str], bytes]]] = {}
    gives: ClassVar[bytes] = b""

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"]))
        self.taken[self.path] = ({k.lower(): v for k, v in self.headers.items()}, body)
        self._answer(b'{"ok": true}', "application/json")

    def do_GET(self) -> None:
        if self.path == "/cut":
            self.send_response(200)
            self.send_header("Content-Length", str(len(self.gives) + 1))
            self.end_headers()
            self.wfile.write(self.gives)
            return
        self._answer(self.gives, "image/png", 'attachment; filename="../map of huts.png"')

    def _answer(self, body: bytes, kind: str, named: str = "") -> None:
        self.send_response(200)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        if named:
            self.send_header("Content-Disposition", named)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def place() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Place)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    Place.taken.clear()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    server.server_close()


CARRIES = """
oak: 1
workflow: carries
input: {type: object}
steps:
  - {step: fetched, do: http.request, with: {url: "${ input.place }/map", response: file}}
  - {step: sent, do: http.request, with: {method: POST, url: "${ input.place }/whole", file: "${ fetched.body }"}}
  - step: formed
    do: http.request
    with:
      method: POST
      url: "${ input.place }/form"
      multipart: {guest: Ada "Fenn", nights: 2, picture: "${ fetched.body }", more: ["${ fetched.body }", last]}
result: "${ fetched.body }"
"""


def test_files_are_fetched_and_sent_on(house: Processes, place: str):
    client = house.client()
    Place.gives = noise(5 * PIECE + 3, 31)
    client.save(CARRIES, over=True)
    run = client.start("carries", {"place": place})
    got = run.result()
    assert (got["name"], got["type"], got["size"]) == ("map of huts.png", "image/png", len(Place.gives))
    headers, body = Place.taken["/whole"]
    assert body == Place.gives
    assert (headers["content-type"], headers["content-length"]) == ("image/png", str(len(body)))
    headers, body = Place.taken["/form"]
    form = BytesParser(policy=HTTP).parsebytes(
        b"Content-Type: " + headers["content-type"].encode() + b"\r\n\r\n" + body
    )
    parts = [
        (p.get_param("name", header="content-disposition"), p.get_filename(), p.get_payload(decode=True))
        for p in form.iter_parts()
    ]
    assert parts == [
        ("guest", None, b'Ada "Fenn"'), ("nights", None, b"2"), ("picture", "map of huts.png", Place.gives),
        ("more", "map of huts.png", Place.gives), ("more", None, b"last"),
    ]  # fmt: skip
    trace = run.trace().model_dump_json()
    assert got["file"] in trace
    assert len(trace) < 20_000
    assert client.file(got["file"]).runs == [run.id]


def test_what_is_no_file_or_is_cut_off_fails_its_step_alone(house: Processes, place: str):
    client = house.client()
    Place.gives = noise(2 * PIECE, 32)
    before = house.sql("SELECT count(*) FROM file")
    for n, (fields, kind) in enumerate(
        [
            ({"url": f"{place}/cut", "response": "file", "retry": {"tries": 1}}, "unavailable"),
            ({"method": "POST", "url": f"{place}/x", "file": {"file": str(UUID(int=9))}}, "missing"),
            ({"method": "POST", "url": f"{place}/x", "file": "hut.png"}, "invalid"),
            ({"method": "POST", "url": f"{place}/x", "multipart": {"a": {"file": "../door"}}}, "invalid"),
        ]
    ):
        retry = fields.pop("retry", None)
        step = {"step": "carried", "do": "http.request", "with": fields, **({"retry": retry} if retry else {})}
        client.save(json.dumps({"oak": 1, "workflow": f"carries-wrongly-{n}", "steps": [step]}), over=True)
        ended = client.start(f"carries-wrongly-{n}").wait()
        assert (ended.state, ended.error.kind if ended.error else "") == ("failed", kind)
    assert house.sql("SELECT count(*) FROM file") == before


DOT = base64.b64decode(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="
)


def test_a_run_shows_the_pictures_it_was_given(house: Processes, browser: Browser):
    hook = on_with(house, "seen")
    files_ = {
        "picture": ("hut <b>at dawn.png", DOT, "image/png"),
        "page": ("door.html", b"<script>alert(1)</script>", "text/html"),
    }
    answer = httpx.post(hook, data={"guest": "Ada Fenn"}, files=files_)
    gave(house, answer)
    page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
    sign_in(page, house)
    page.goto(f"{house.url}/runs/{answer.json()['run']}")
    held = page.get_by_role("list", name="Files in it").first
    picture = held.get_by_role("link", name="hut <b>at dawn.png").locator("img")
    expect(picture).to_be_visible()
    expect(held).to_contain_text("text/html, 25 bytes")
    until(lambda: picture.evaluate("one => one.naturalWidth") == 1)
    assert faults(page) == []
    with page.expect_download() as taken:
        held.get_by_role("link", name="door.html").click()
    assert taken.value.suggested_filename == "door.html"
    page.context.close()


def test_rows_and_samples_hold_files(house: Processes):
    client = house.client()
    rows, sample, upserted = (client.add_file(noise(500, 50 + n), f"{n}.png") for n in range(3))
    client.create_table("albums", {"name": "text", "picture": "any"})
    client.add_rows("albums", [{"name": "dawn", "picture": rows.value}])
    steps = """steps:
  - {step: kept, do: table.upsert, with: {table: albums, match: [name], row: {name: noon, picture: "${ input.picture }"}}}
  - {step: added, do: table.add, with: {table: albums, row: {name: dusk, picture: "${ input.picture }"}}}
"""
    client.save(f"oak: 1\nworkflow: albums\ninput: {{type: object}}\n{steps}", over=True)
    client.start("albums", {"picture": upserted.value}).wait(60)
    client.add_sample("albums", "dawn", {"picture": sample.value})

    def holders(table: str, file: UUID) -> int:
        return int(house.sql(f"SELECT count(*) FROM {table} WHERE file_id = $1", file))

    assert holders("file_of_row", rows.file) == 1
    assert holders("file_of_row", upserted.file) == 2
    assert holders("file_of_sample", sample.file) == 1
    [dawn] = [row for row in client.rows("albums") if row.row["name"] == "dawn"]
    client.update_row("albums", dawn.id, {"picture": upserted.value})
    assert (holders("file_of_row", rows.file), holders("file_of_row", upserted.file)) == (0, 3)
    client.update_row("albums", dawn.id, {"picture": None})
    assert holders("file_of_row", upserted.file) == 2
    client.update_row("albums", dawn.id, {"picture": upserted.value})
    client.remove_row("albums", dawn.id)
    assert holders("file_of_row", upserted.file) == 2
    client.drop_table("albums")
    assert holders("file_of_row", upserted.file) == 0
    [kept] = client.samples("albums")
    client.remove_sample("albums", kept.id)
    assert holders("file_of_sample", sample.file) == 0


def test_who_sends_a_byte_now_and_then_is_sent_away(monkeypatch: pytest.MonkeyPatch):
    clock = iter(range(0, 100_000, 20))
    monkeypatch.setattr(uploads, "time", SimpleNamespace(monotonic=lambda: next(clock)))

    async def trickle(size: int) -> AsyncIterator[bytes]:
        for _ in range(10):
            yield b"x" * size

    async def came(size: int) -> int:
        request: Any = SimpleNamespace(stream=lambda: trickle(size))
        return sum([len(piece) async for piece in uploads._pieces(request, uploads.NoProof())])

    async def both() -> None:
        with pytest.raises(TimeoutError):
            await came(1)
        assert await came(200_000) == 2_000_000

    apart(both)


# Parts, addresses, and the page


@pytest.mark.parametrize(
    ("asked", "status", "first", "end"),
    [
        ("bytes=0-9", 206, 0, 10),
        ("bytes=5-", 206, 5, 600_000),
        ("bytes=-7", 206, 599_993, 600_000),
        ("bytes=262140-262150", 206, 262_140, 262_151),
        ("bytes=599999-700000", 206, 599_999, 600_000),
        ("bytes=600000-", 416, 0, 0),
        ("bytes=-0", 416, 0, 0),
        ("bytes=9-5", 200, 0, 600_000),
        ("bytes=0-1,5-6", 200, 0, 600_000),
        ("lines=1-2", 200, 0, 600_000),
        ("bytes=--1", 200, 0, 600_000),
        ("bytes=99999999999999999999-", 200, 0, 600_000),
    ],
)
def test_a_part_of_a_file_is_given(house: Processes, asked: str, status: int, first: int, end: int):
    """RFC 9110, section 14: one part; several at once are the whole."""
    body = noise(600_000, 77)
    kept = house.client().add_file(body, "long.bin")
    url, headers = f"{house.url}/api/v1/files/{kept.file}/content", {"Authorization": f"Bearer {house.token}"}
    answer = httpx.get(url, headers={**headers, "Range": asked})
    assert answer.status_code == status
    if status == 416:
        assert answer.headers["content-range"] == "bytes */600000"
        return
    assert answer.content == body[first:end] and answer.headers["accept-ranges"] == "bytes"
    if status == 206:
        assert answer.headers["content-range"] == f"bytes {first}-{end - 1}/600000"
        other = httpx.get(url, headers={**headers, "Range": asked, "If-Range": '"another"'})
        assert other.status_code == 200 and other.content == body
    known = httpx.get(url, headers={**headers, "If-None-Match": answer.headers["etag"]})
    assert known.status_code == 304 and not known.content


def test_an_address_gives_one_file_under_one_name_until_it_is_over(house: Processes):
    client = house.client()
    kept, other = client.add_file(b"a letter", "letter.txt", "text/plain"), client.add_file(b"another", "b.txt")
    made = client.file_address(kept.file, 5)
    answer = httpx.get(made.url)
    assert (answer.text, answer.headers["content-type"]) == ("a letter", "text/plain; charset=utf-8")
    assert "sandbox" in answer.headers["content-security-policy"]
    assert httpx.get(made.url, headers={"Range": "bytes=2-7"}).text == "letter"
    for wrong in (
        made.url.replace(str(kept.file), str(other.file)),
        made.url.replace("letter.txt", "letter.html"),
        made.url.replace("text%2Fplain", "text%2Fhtml"),
        made.url.replace(f"{kept.file}.", f"{kept.file}.9"),
        f"{house.url}/api/v1/files/by-link/nothing",
        f"{house.url}/api/v1/files/by-link/{kept.file}.99999999999.AAAA",
    ):
        assert httpx.get(wrong).status_code == 404, wrong
    with pytest.raises(Problem):
        client.file_address(kept.file, 0)
    with pytest.raises(NotFound):
        client.file_address(uuids.uuid7())
    past = links.file_link(
        _vault(house), SimpleNamespace(own_url=house.url), kept.file, datetime.now(UTC) - timedelta(seconds=2), "a", "b"
    )  # type: ignore[arg-type]
    assert httpx.get(past).status_code == 410


def _vault(house: Processes) -> Any:
    """What signs, as the service's does."""
    made: list[Keyring] = []

    async def open_() -> None:
        database = Database(house.environment["OAK_RELAY_DATABASE_URL"])
        made.append(await Keyring.open(database, 1, lambda: master_key(house.home / "master.key")))
        await database.close()

    apart(open_)
    return made[0]


def test_files_are_looked_at_as_what_they_are(house: Processes, browser: Browser):
    client = house.client()
    client.add_file(picture("the hut"), "spring.png", "image/png")
    client.add_file(("hut,bunks\n" + "\n".join(f'"Col, {n}",{n}' for n in range(80))).encode(), "bunks.csv", "text/csv")
    client.add_file(b"Dear guest,\n<b>not bold</b>", "note.txt", "text/plain")
    client.add_file(
        b"%PDF-1.4\n1 0 obj<</Type/Catalog/Pages 2 0 R>>endobj\ntrailer<</Root 1 0 R>>", "plan.pdf", "application/pdf"
    )
    held = client.add_file(b"\x00\x01\x02", "odd.bin")
    client.save(HOLDS, over=True)
    client.on("holds-a-file")
    client.start("holds-a-file", {"picture": held.value}).wait()
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    told: list[str] = []
    page.on("console", lambda message: told.append(message.text) if message.type == "error" else None)
    sign_in(page, house)
    told.clear()
    page.goto(f"{house.url}/files")

    def look(name: str) -> None:
        page.get_by_role("button", name=name, exact=True).click()

    look("spring.png")
    expect(page.get_by_role("img", name="spring.png")).to_be_visible()
    assert page.get_by_role("img", name="spring.png").evaluate("one => one.decode().then(() => one.naturalWidth)") > 10
    look("bunks.csv")
    expect(page.get_by_role("cell", name="Col, 7", exact=True)).to_be_visible()
    expect(page.get_by_text("Its first rows.")).to_be_visible()
    assert not faults(page)
    look("note.txt")
    expect(page.get_by_label("note.txt")).to_contain_text("<b>not bold</b>")
    page.get_by_role("button", name="An address for an hour").click()
    shared = page.get_by_role("status").locator("code")
    expect(shared).to_contain_text("/files/by-link/")
    assert httpx.get(shared.inner_text()).text.startswith("Dear guest")
    with page.expect_response(lambda answer: "/content?name=plan.pdf" in answer.url) as answered:
        look("plan.pdf")
    assert answered.value.headers["content-security-policy"] == "frame-ancestors 'self'"
    expect(page.get_by_title("plan.pdf")).to_be_visible()
    look("odd.bin")
    expect(page.get_by_text("It cannot be looked at here.")).to_be_visible()
    expect(page.get_by_role("definition").filter(has=page.get_by_role("link"))).to_be_visible()
    page.locator("input[type=file]").set_input_files(
        {"name": "new one.txt", "mimeType": "text/plain", "buffer": b"brought"}
    )
    expect(page.get_by_role("button", name="new one.txt")).to_be_visible()
    assert b"".join(client.read_file(client.files()[0].file)) == b"brought"
    assert not told, told
    page.set_viewport_size({"width": 400, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    page.close()
