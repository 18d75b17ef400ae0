"""SQL in databases that are not ours: what is read and told, and more than a hundred statements that are not sent, by the parser, and
again with the parser taken away: then the databases themselves let nothing be read or changed that is not allowed."""

import asyncio
import contextlib
import os
import socket
import sqlite3
import threading
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from decimal import Decimal
from types import SimpleNamespace
from typing import Any

import asyncpg
import pytest
from sqlalchemy import make_url

from oak_relay.actions.catalogue import offer
from oak_relay.actions.sql import guard, postgres, sqlite
from oak_relay.actions.sql.guard import Allowed, Guarded
from oak_relay.actions.sql.shapes import ColumnTold, TableTold, folded
from oak_relay.client import Client
from oak_relay.document.errors import StepFailed
from oak_relay.vault.database import Database
from tests.conftest import Processes, apart

HUTS = ("kestrel_notch", "upper_tarn", "glasswater", "thistle_col")
SCHEMA = """
CREATE TABLE huts (hut text PRIMARY KEY, height int, open boolean, since date, prices jsonb, tags text[]);
CREATE TABLE stays (id int PRIMARY KEY, hut text, guest text, night date, nights int, paid numeric(10, 2));
CREATE TABLE private_notes (id int PRIMARY KEY, note text);
CREATE VIEW long_stays AS SELECT * FROM stays WHERE nights > 2;
CREATE VIEW leaking AS SELECT * FROM private_notes;
CREATE SCHEMA vaulted;
CREATE TABLE vaulted.keys (key text);
CREATE FUNCTION leak() RETURNS text LANGUAGE sql AS 'SELECT note FROM private_notes LIMIT 1';
CREATE FUNCTION spoil() RETURNS int LANGUAGE plpgsql AS 'BEGIN DELETE FROM stays; RETURN 1; END';
"""
ROWS = """
INSERT INTO huts VALUES ('upper_tarn', 1870, true, '1931-05-01', '{"bunk": 1234567890123456789.5}', '{warm,small}'), ('glasswater', 1750, false, NULL, NULL, NULL);
INSERT INTO stays SELECT n, CASE WHEN n % 2 = 0 THEN 'upper_tarn' ELSE 'glasswater' END, 'guest ' || n, date '2031-07-01' + n, 1 + n % 4, 12.50 * n FROM generate_series(1, 40) n;
INSERT INTO private_notes VALUES (1, 'the larder key is under the third stone');
INSERT INTO vaulted.keys VALUES ('the larder key is under the third stone');
"""
SECRET = "third stone"


def done(work: Callable[[], Awaitable[Any]]) -> Any:
    """What comes of it, in an event loop of its own."""
    found = []

    async def go() -> None:
        found.append(await work())

    apart(go)
    return found[0]


class At:
    """Surroundings of a call."""

    def __init__(self, stored: Database | None = None, file: bytes = b"") -> None:
        self.stored, self._file, self.timeout = stored, file, 10.0

    async def credential(self, name: str) -> Any:
        return self.stored

    async def dial(self, host: str, port: int) -> socket.socket:
        return await asyncio.to_thread(socket.create_connection, (host, port))

    async def file(self, value: object) -> Any:
        return SimpleNamespace(size=len(self._file), name="f", type="x")

    async def pieces(self, file: object) -> AsyncIterator[bytes]:
        yield self._file

    def said(self, text: str, most: int) -> str:
        return text[:most]

    def send_check(self) -> None:
        pass


@pytest.fixture(scope="module")
def ledger(new_database: Callable[[], str]) -> Iterator[tuple[str, Database]]:
    """A database of somebody's, and a credential of a user who may read and change all of it: what holds is here."""
    url = new_database()

    async def make() -> Database:
        plain = make_url(url)
        connection = await asyncpg.connect(host=plain.host, port=plain.port, user=plain.username, password=plain.password, database=plain.database)  # fmt: skip
        tables = "".join(f"CREATE TABLE nights_{hut} (night date, meals int);" for hut in HUTS)
        await connection.execute(SCHEMA + tables + ROWS)
        with contextlib.suppress(asyncpg.DuplicateObjectError):
            await connection.execute("CREATE ROLE ledger_reader LOGIN PASSWORD 'larder-larder'")
        await connection.execute("GRANT ALL ON SCHEMA public, vaulted TO ledger_reader; GRANT ALL ON ALL TABLES IN SCHEMA public, vaulted TO ledger_reader; ANALYZE")  # fmt: skip
        await connection.close()
        return Database(url=f"postgresql://ledger_reader:larder-larder@{plain.host}:{plain.port}/{plain.database}")

    yield url, done(make)


def snapshot(url: str) -> object:
    """All that is in the database."""

    async def look() -> object:
        plain = make_url(url)
        connection = await asyncpg.connect(host=plain.host, port=plain.port, user=plain.username, password=plain.password, database=plain.database)  # fmt: skip
        names = await connection.fetch("SELECT schemaname || '.' || tablename AS name FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema') ORDER BY 1")  # fmt: skip
        found = {row["name"]: [tuple(one) for one in await connection.fetch(f"SELECT * FROM {row['name']}")] for row in names}  # fmt: skip
        roles = await connection.fetch("SELECT rolname, rolsuper FROM pg_roles ORDER BY 1")
        await connection.close()
        return found, [tuple(one) for one in roles]

    return done(look)


async def perform(name: str, at: At, **given: object) -> Any:
    action = offer().catalogue.get(name)
    return (await action.perform(action.read(given), at)).output


ALLOWED = ["stays", "huts", "long_stays", "nights_*"]


def test_rows_are_read_with_parameters_and_exactly(ledger: tuple[str, Database]):
    at = At(ledger[1])

    async def work() -> None:
        async def read(query: str, limit: int = 1000, **params: object) -> Any:
            return await perform("sql.read", at, credential="ledger", query=query, params=params, tables=ALLOWED, limit=limit)  # fmt: skip

        found = await read("SELECT hut, sum(nights) AS n, sum(paid) FROM stays WHERE night > :since AND hut = :hut GROUP BY 1", since="2031-07-20", hut="upper_tarn")  # fmt: skip
        late = range(20, 41, 2)
        assert found["rows"] == [{"hut": "upper_tarn", "n": sum(1 + n % 4 for n in late), "sum": Decimal(sum(12.5 * n for n in late))}]  # fmt: skip
        one = (await read("SELECT * FROM huts WHERE hut = 'upper_tarn'"))["rows"][0]
        assert (one["since"], one["open"], one["tags"]) == ("1931-05-01", True, ["warm", "small"])
        few = await read("SELECT id FROM stays ORDER BY id", limit=3)
        assert (few["count"], few["more"]) == (3, True)
        assert (await read("SELECT count(*) AS n FROM long_stays"))["rows"] == [{"n": 20}]
        assert (await read("SELECT meals FROM nights_glasswater"))["rows"] == []
        assert (await read("WITH a AS (SELECT hut FROM stays) SELECT count(DISTINCT hut) AS n FROM a"))["rows"] == [{"n": 2}]  # fmt: skip
        assert (await read("SELECT :text AS a", text="'; DROP TABLE stays; --"))["rows"] == [{"a": "'; DROP TABLE stays; --"}]  # fmt: skip
        assert (await read("SELECT hut FROM huts WHERE hut = ANY (:some)", some=["upper_tarn"]))["count"] == 1
        for query, said in (("SELECT :lost AS a", "params has no lost"), ("SELECT nothing FROM stays", "does not take it"), ("SELEC 1", "SQL"), ("SELECT id FROM stays WHERE night > :a", "no date")):  # fmt: skip
            with pytest.raises(StepFailed, match=said):
                await read(query, **({"a": "tomorrow"} if ":a" in query else {}))
        slow = At(ledger[1])
        slow.timeout = 0.5
        with pytest.raises(StepFailed) as late:
            await perform("sql.read", slow, credential="l", query="SELECT count(*) FROM stays a, stays b, stays c, stays d, stays e, stays f", tables=ALLOWED)  # fmt: skip
        assert late.value.kind == "timeout"
        with pytest.raises(StepFailed) as large:
            await read("SELECT repeat('x', 100000) FROM stays, stays b")
        assert large.value.kind == "too_long"

    apart(work)


def test_what_a_database_holds_is_told_for_a_prompt(ledger: tuple[str, Database]):
    async def work() -> None:
        told = await perform("sql.describe", At(ledger[1]), credential="ledger", tables=ALLOWED)
        assert "4 tables of one shape, nights_*" in told["text"] and "nights_kestrel_notch" in told["text"]
        assert "table stays, about 40 rows\n  id integer (key)" in told["text"]
        assert "private" not in told["text"] and "vaulted" not in told["text"]
        assert {one["name"] for one in told["tables"]} == {"huts", "stays", "long_stays", "nights_*"}

    apart(work)


def test_tables_of_one_shape_are_told_as_one():
    columns = [ColumnTold("night", "date"), ColumnTold("meals", "integer")]
    days = [TableTold("public", f"day_2031_{n:02}", 10, columns=columns) for n in range(1, 8)]
    others = [
        TableTold("public", "meals", 1, columns=columns),
        TableTold("public", "day_names", 1, columns=columns[:1]),
    ]
    assert [one.pattern for one in folded([*days, *others])] == ["day_2031_0*", "day_names", "meals"]


READS = [
    "SELECT * FROM private_notes", "SELECT * FROM public.private_notes", 'SELECT * FROM "private_notes"', "SELECT * FROM vaulted.keys",
    "SELECT note FROM stays, private_notes", "SELECT (SELECT note FROM private_notes LIMIT 1) FROM stays", "SELECT * FROM stays WHERE guest IN (SELECT note FROM private_notes)",
    "SELECT id FROM stays UNION SELECT id FROM private_notes", "SELECT guest FROM stays UNION ALL SELECT note FROM private_notes", "WITH a AS (SELECT * FROM private_notes) SELECT * FROM a",
    "SELECT * FROM (WITH private_notes AS (SELECT 1) SELECT 1) x, private_notes", "WITH stays AS (SELECT * FROM private_notes) SELECT * FROM stays",
    "WITH RECURSIVE a AS (SELECT note FROM private_notes UNION SELECT note FROM a) SELECT * FROM a", "SELECT * FROM stays JOIN LATERAL (SELECT note FROM private_notes) p ON true",
    "SELECT * FROM leaking", "SELECT leak()", "SELECT * FROM leak()", "SELECT note FROM stays NATURAL JOIN private_notes", "TABLE private_notes", "SELECT private_notes FROM private_notes",
    "SELECT to_jsonb(p) FROM private_notes p", "SELECT * FROM ONLY private_notes", "SELECT * FROM private_notes TABLESAMPLE SYSTEM (100)", "SELECT EXISTS (SELECT FROM private_notes WHERE note LIKE '%stone%')",
    "SELECT ARRAY(SELECT note FROM private_notes)", "SELECT count(*) FILTER (WHERE (SELECT true FROM private_notes LIMIT 1)) FROM stays", "SELECT * FROM stays ORDER BY (SELECT note FROM private_notes)",
    "SELECT * FROM stays LIMIT (SELECT id FROM private_notes)", "SELECT CASE WHEN true THEN (SELECT note FROM private_notes) END", "VALUES ((SELECT note FROM private_notes))",
    "SELECT query_to_xml('SELECT * FROM private_notes', true, false, '')", "SELECT table_to_xml('private_notes', true, false, '')", "SELECT schema_to_xml('public', true, false, '')", "SELECT database_to_xml(true, false, '')",
    "SELECT * FROM pg_authid", "SELECT * FROM pg_catalog.pg_shadow", "SELECT * FROM pg_stats", "SELECT * FROM pg_stat_activity", "SELECT * FROM information_schema.tables", "SELECT * FROM pg_settings",
    "SELECT 'private_notes'::regclass", "SELECT to_regclass('private_notes')", "SELECT pg_relation_size('private_notes')", "SELECT pg_get_viewdef('leaking')", "SELECT obj_description(1)",
    "SELECT pg_read_file('/etc/passwd')", "SELECT pg_catalog.pg_read_file('/etc/passwd')", 'SELECT "pg_read_file"(\'/etc/passwd\')', "SELECT * FROM pg_ls_dir('/')", "SELECT pg_read_binary_file('/etc/passwd')", "SELECT pg_stat_file('/etc')",
    "SELECT lo_import('/etc/passwd')", "SELECT lo_get(1)", "SELECT current_setting('data_directory')", "SELECT inet_server_addr()", "SELECT pg_sleep(100)", "SELECT version(), pg_backend_pid()", "SELECT has_table_privilege('private_notes', 'select')",
    "SHOW data_directory", "EXPLAIN SELECT * FROM private_notes", "EXPLAIN ANALYZE DELETE FROM stays", "COPY stays TO STDOUT", "COPY private_notes TO '/tmp/x'", "COPY (SELECT 1) TO PROGRAM 'id'", "FETCH ALL FROM c",
]  # fmt: skip
CHANGES = [
    "DELETE FROM stays", "UPDATE stays SET nights = 0", "INSERT INTO stays (id) VALUES (99)", "TRUNCATE stays", "DROP TABLE stays", "DROP SCHEMA public CASCADE", "ALTER TABLE stays ADD x int", "CREATE TABLE x (a int)", "CREATE TEMP TABLE x (a int)",
    "MERGE INTO stays s USING huts h ON s.hut = h.hut WHEN MATCHED THEN DELETE", "WITH a AS (DELETE FROM stays RETURNING *) SELECT * FROM a", "WITH a AS (UPDATE stays SET nights = 0 RETURNING *) SELECT * FROM a", "WITH a AS (INSERT INTO stays (id) VALUES (98) RETURNING *) SELECT * FROM a",
    "SELECT * INTO x FROM stays", "SELECT * FROM stays FOR UPDATE", "SELECT * FROM stays FOR SHARE", "SELECT 1; DELETE FROM stays", "SELECT 1; COMMIT; DELETE FROM stays", "SELECT 1;;DROP TABLE stays;--", "SELECT 1 /* ; */ ; DELETE FROM stays",
    "COMMIT", "ROLLBACK", "BEGIN", "SET TRANSACTION READ WRITE", "SET SESSION AUTHORIZATION postgres", "SET ROLE postgres", "RESET ALL", "SET statement_timeout = 0", "SELECT set_config('transaction_read_only', 'off', false)", "SELECT set_config('search_path', 'vaulted', false)",
    "SELECT spoil()", "SELECT * FROM spoil()", "SELECT nextval('x')", "SELECT setval('x', 1)", "SELECT lo_create(0)", "SELECT lo_from_bytea(0, 'x')", "SELECT pg_notify('a', 'b')", "NOTIFY a", "LISTEN a", "SELECT pg_terminate_backend(pg_backend_pid())",
    "SELECT pg_advisory_lock(1)", "LOCK TABLE stays", "VACUUM stays", "ANALYZE stays", "REINDEX TABLE stays", "CLUSTER stays", "CALL spoil()", "DO 'BEGIN DELETE FROM stays; END'", "EXECUTE a", "PREPARE a AS DELETE FROM stays", "DEALLOCATE ALL",
    "CREATE FUNCTION x() RETURNS int LANGUAGE sql AS 'SELECT 1'", "CREATE EXTENSION dblink", "SELECT dblink('', 'DELETE FROM stays')", "GRANT ALL ON stays TO public", "CREATE ROLE x SUPERUSER", "ALTER ROLE ledger_reader SUPERUSER", "COMMENT ON TABLE stays IS 'x'",
    "IMPORT FOREIGN SCHEMA x FROM SERVER y INTO z", "REFRESH MATERIALIZED VIEW x", "SECURITY LABEL ON TABLE stays IS 'x'", "DISCARD ALL", "LOAD 'x'", "CHECKPOINT", "SELECT pg_reload_conf()", "SELECT $1", "SELECT ?", "", "   ", "-- nothing", ";", "SELECT " + "(" * 400 + "1" + ")" * 400, "SELECT 1" + " + 1" * 6000, "SELECT '\0'",
]  # fmt: skip
HOSTILE = READS + CHANGES


@pytest.mark.parametrize("which", ["reads", "changes"])
def test_hostile_statements_are_not_sent(which: str):
    allowed = Allowed(("public",), tuple(ALLOWED))
    through = []
    for text in READS if which == "reads" else CHANGES:
        try:
            through.append((text, guard.reading(text, "postgres", allowed)))
        except StepFailed as refused:
            assert refused.kind in ("denied", "invalid") and refused.message
    assert through == []
    assert len(HOSTILE) >= 100


def test_without_the_parser_the_database_itself_lets_nothing_through(
    ledger: tuple[str, Database], monkeypatch: pytest.MonkeyPatch
):
    """Of a user who may do all of it."""
    monkeypatch.setattr(guard, "reading", lambda text, dialect, allowed: Guarded(text))
    before = snapshot(ledger[0])

    async def work() -> list[str]:
        leaked = []
        for text in HOSTILE:
            at = At(ledger[1])
            at.timeout = 1
            try:
                found = await perform("sql.read", at, credential="ledger", query=text or " ", tables=ALLOWED)
            except StepFailed:
                continue
            if SECRET in str(found["rows"]) or "root:" in str(found["rows"]):
                leaked.append(text)
        return leaked

    assert done(work) == []
    assert snapshot(ledger[0]) == before


CHANGED_WRONGLY = [
    "UPDATE stays SET nights = :n", "DELETE FROM stays", "DELETE FROM stays WHERE id = 1", "UPDATE stays SET guest = 'x' WHERE id = :id", "UPDATE private_notes SET note = :n WHERE id = :id", "DELETE FROM stays WHERE id IN (SELECT id FROM private_notes WHERE id = :id)",
    "INSERT INTO stays (id, guest) SELECT id, note FROM private_notes", "SELECT * FROM stays", "TRUNCATE stays", "DROP TABLE stays", "UPDATE stays SET nights = :n WHERE id = :id; DELETE FROM stays", "WITH a AS (DELETE FROM huts RETURNING *) DELETE FROM stays WHERE id = :id",
    "UPDATE stays SET guest = pg_read_file(:n) WHERE id = :id", "INSERT INTO vaulted.keys (key) VALUES (:n)", "UPDATE stays SET guest = (SELECT note FROM private_notes LIMIT :n) WHERE id = :id", "DELETE FROM stays USING private_notes p WHERE p.id = :id",
    "INSERT INTO stays (id) VALUES (:id) RETURNING (SELECT note FROM private_notes)", "MERGE INTO stays USING huts ON :a WHEN MATCHED THEN DELETE",
]  # fmt: skip


def test_rows_are_changed_by_parameters_alone(ledger: tuple[str, Database]):
    at = At(ledger[1])
    before = snapshot(ledger[0])

    async def work() -> None:
        async def change(statement: str, most: int = 1000, **params: object) -> Any:
            return await perform("sql.change", at, credential="ledger", tables=["stays", "huts"], statement=statement, params=params, most=most)  # fmt: skip

        for statement in CHANGED_WRONGLY:
            with pytest.raises(StepFailed) as refused:
                await change(statement, n=1, id=1, a=True)
            assert refused.value.kind in ("denied", "invalid"), statement
        with pytest.raises(StepFailed) as many:
            await change("UPDATE stays SET nights = :n WHERE id > :id", most=5, n=9, id=0)
        assert many.value.kind == "over_limit"

    apart(work)
    assert snapshot(ledger[0]) == before

    async def really() -> None:
        made = await perform("sql.change", at, credential="l", tables=["stays"], statement="INSERT INTO stays (id, hut, guest, paid) VALUES (:id, :hut, :guest, :paid) RETURNING id, paid", params={"id": 100, "hut": "glasswater", "guest": "Robert'); DROP TABLE stays;--", "paid": "7.10"})  # fmt: skip
        assert made == {"count": 1, "rows": [{"id": 100, "paid": Decimal("7.10")}]}
        changed = await perform("sql.change", at, credential="l", tables=["stays"], statement="UPDATE stays SET nights = :n WHERE id = :id", params={"id": 100, "n": 3})  # fmt: skip
        assert changed["count"] == 1
        gone = await perform("sql.change", at, credential="l", tables=["stays"], statement="DELETE FROM stays WHERE id = :id", params={"id": 100})  # fmt: skip
        assert gone["count"] == 1

    apart(really)
    assert snapshot(ledger[0]) == before


def test_who_may_do_everything_is_refused(ledger: tuple[str, Database]):
    plain = make_url(ledger[0])
    stored = Database(url=f"postgresql://{plain.username}:{plain.password or 'unused-pass'}@{plain.host}:{plain.port}/{plain.database}")  # fmt: skip

    async def work() -> None:
        with pytest.raises(StepFailed, match="may do everything"):
            await perform("sql.read", At(stored), credential="l", query="SELECT 1 AS a")

    apart(work)


@pytest.fixture
def book(tmp_path) -> bytes:
    """A file of SQLite."""
    connection = sqlite3.connect(tmp_path / "book")
    connection.executescript(
        "CREATE TABLE stays (id INTEGER PRIMARY KEY, hut TEXT, nights INT); CREATE TABLE private_notes (note TEXT); CREATE VIEW long_stays AS SELECT * FROM stays WHERE nights > 2;"
        "CREATE TABLE nights_a (n INT); CREATE TABLE nights_b (n INT); CREATE TABLE nights_c (n INT);"
        "INSERT INTO stays VALUES (1, 'Upper Tarn', 2), (2, 'Glasswater', 5); INSERT INTO private_notes VALUES ('the larder key is under the third stone');"
    )
    connection.close()
    return bytes((tmp_path / "book").read_bytes())


LITE = [
    "SELECT * FROM private_notes", "SELECT (SELECT note FROM private_notes)", "SELECT * FROM sqlite_master", "SELECT sql FROM sqlite_schema", "PRAGMA table_info(stays)", "SELECT * FROM pragma_table_info('stays')", "ATTACH '/etc/passwd' AS x", "ATTACH ':memory:' AS x",
    "DELETE FROM stays", "UPDATE stays SET nights = 0", "DROP TABLE stays", "CREATE TABLE x (a)", "CREATE TEMP TABLE x (a)", "VACUUM INTO '/tmp/x'", "VACUUM", "SELECT load_extension('x')", "SELECT readfile('/etc/passwd')", "SELECT writefile('/tmp/x', 'y')", "SELECT edit('x')",
    "SELECT randomblob(1000000000)", "SELECT zeroblob(1000000000)", "SELECT hex(zeroblob(900000000))", "WITH RECURSIVE a(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM a) SELECT count(*) FROM a", "SELECT fts3_tokenizer('x')", "REINDEX", "ANALYZE", "BEGIN", "SELECT 1; DELETE FROM stays",
    "WITH a AS (SELECT * FROM private_notes) SELECT * FROM a", "SELECT id FROM stays UNION SELECT note FROM private_notes", "REPLACE INTO stays VALUES (1, 'x', 1)", "SELECT * FROM stays, private_notes", "EXPLAIN SELECT * FROM private_notes", "SELECT replace(hex(zeroblob(2000)), '00', hex(zeroblob(200000)))",
]  # fmt: skip


def test_a_file_of_sqlite_is_read_and_nothing_else_is(book: bytes, monkeypatch: pytest.MonkeyPatch):
    at = At(file=book)
    at.timeout = 2

    async def work() -> None:
        async def read(query: str, **params: object) -> Any:
            return await perform("sql.read", at, file={"file": "x"}, query=query, params=params, tables=["stays", "long_stays", "nights_*"])  # fmt: skip

        assert (await read("SELECT hut FROM stays WHERE nights > :n", n=3))["rows"] == [{"hut": "Glasswater"}]
        assert (await read("SELECT count(*) AS n FROM long_stays"))["rows"] == [{"n": 1}]
        assert "3 tables of one shape, nights_*" in (await perform("sql.describe", at, file={"file": "x"}))["text"]
        for text in LITE:
            with contextlib.suppress(StepFailed):
                found = await read(text)
                assert "WITH RECURSIVE" not in text and SECRET not in str(found), text
        allowed = Allowed(("main",), ("stays", "long_stays", "nights_*"))
        for text in LITE:  # without the parser
            with contextlib.suppress(StepFailed):
                rows, _ = await sqlite.read({"file": "x"}, at, Guarded(text), {}, allowed, 1000, 2)  # type: ignore[arg-type]
                assert SECRET not in str(rows) and "CREATE" not in str(rows) and "root:" not in str(rows), text
        for broken in (b"", b"SQLite format 3\0" + b"\xff" * 4000, book[:3000], b"not a database"):
            with pytest.raises(StepFailed):
                await perform("sql.read", At(file=broken), file={"file": "x"}, query="SELECT * FROM stays")

    apart(work)
    assert not os.path.exists("/tmp/x")


def test_what_is_asked_wrongly_is_said():
    for given, said in (
        ({"query": "SELECT 1"}, "one of credential and file"),
        ({"query": "SELECT 1", "credential": "a", "file": {"file": "x"}}, "one of credential and file"),
        ({"query": "SELECT 1", "credential": "a", "limit": 0}, "limit"),
        ({"query": "x" * 30_000, "credential": "a"}, "query"),
    ):
        with pytest.raises(StepFailed, match=said):
            offer().catalogue.get("sql.read").read(given)
    assert postgres.plain(b"\x01\xff") == "01ff"


FLOW = """
oak: 1
workflow: ledger-asked
input: {type: object, properties: {hut: {type: string}}, required: [hut]}
steps:
  - step: told
    do: sql.describe
    with: {credential: ledger-db, tables: [stays]}
  - step: found
    do: sql.read
    with:
      credential: ledger-db
      tables: [stays]
      query: SELECT sum(nights) AS nights FROM stays WHERE hut = :hut
      params: {hut: "${ input.hut }"}
result: "${ found.rows[0].nights }"
"""


@contextlib.contextmanager
def elsewhere(port: int) -> Iterator[int]:
    """A port that leads to another: the service's own database may not be called at its own."""

    def copy(one: socket.socket, other: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while piece := one.recv(65_536):
                other.sendall(piece)
        for end in (one, other):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def lead() -> None:
        with contextlib.suppress(OSError):
            while True:
                one, _ = listener.accept()
                other = socket.create_connection(("127.0.0.1", port))
                for ends in ((one, other), (other, one)):
                    threading.Thread(target=copy, args=ends, daemon=True).start()

    listener = socket.create_server(("127.0.0.1", 0))
    threading.Thread(target=lead, daemon=True).start()
    yield listener.getsockname()[1]
    listener.close()


def test_a_run_asks_a_database_and_what_is_not_allowed_fails_it(
    oak: Processes, client: Client, ledger: tuple[str, Database]
):
    plain = ledger[1].parsed
    with elsewhere(plain.port or 5432) as port:
        client.put_credential(
            "ledger-db", kind="database", url=plain.set(port=port).render_as_string(hide_password=False)
        )
        assert client.test_credential("ledger-db").ok
        _asked(client)


def _asked(client: Client) -> None:
    saved = client.save(FLOW)
    assert not saved.findings
    run = client.start(saved.workflow, {"hut": "upper_tarn"})
    assert run.result() == sum(1 + n % 4 for n in range(2, 41, 2))
    assert "larder-larder" not in str(client.trace(run.id))
    client.save(
        FLOW.replace("FROM stays WHERE", "FROM stays, private_notes WHERE").replace("ledger-asked", "ledger-leaks")
    )
    wrong = client.start("ledger-leaks", {"hut": "upper_tarn"}).wait()
    assert wrong.state == "failed" and "private_notes may not be named here" in str(client.run(wrong.id).run.error)
