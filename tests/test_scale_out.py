"""Behind a pooler in transaction mode, and across a failover to a standby, with real servers."""

import os
import pwd
import subprocess
import tempfile
from pathlib import Path

import httpx
import pytest
from sqlalchemy import make_url

from oak_relay.runtime.cluster import Cluster, _bin
from tests.conftest import Processes, free_port, seed, until
from tests.test_durability import WORK, start_runs

HELLO = "oak: 1\nworkflow: hello\nsteps:\n  - {step: a, do: table.upsert, with: {table: requests, match: [guest], row: {guest: x}}}\n  - {step: nap, wait: 50ms}\nresult: ${ a.row.guest }\n"


def as_postgres(*command: str) -> list[str]:
    return ["runuser", "-u", "postgres", "--", *command] if os.geteuid() == 0 else list(command)


def pgbouncer(home: Path, url: str) -> tuple[subprocess.Popen[bytes], str]:
    """A pooler with few server connections, so that statements of one client meet different ones."""
    given, port = make_url(url), free_port()
    (home / "users.txt").write_text(f'"{given.username}" "{given.password}"\n')
    (home / "pgbouncer.ini").write_text(
        f"[databases]\n{given.database} = host={given.host} port={given.port}\n[pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = {port}\n"
        f"auth_type = plain\nauth_file = {home}/users.txt\npool_mode = transaction\ndefault_pool_size = 8\nmax_client_conn = 300\n"
        f"logfile = {home}/pgbouncer.log\npidfile = {home}/pgbouncer.pid\nunix_socket_dir =\n"
    )  # fmt: skip
    if os.geteuid() == 0:
        owner = pwd.getpwnam("postgres")
        for path in (home, home / "users.txt", home / "pgbouncer.ini"):
            os.chown(path, owner.pw_uid, owner.pw_gid)
    process = subprocess.Popen(as_postgres("/usr/sbin/pgbouncer", "-q", str(home / "pgbouncer.ini")))
    return process, str(given.set(host="127.0.0.1", port=port).render_as_string(hide_password=False))


@pytest.fixture
def open_home(tmp_path: Path) -> Path:
    """A folder that the database's user can reach."""
    home = Path(tempfile.mkdtemp(prefix="oak-scale-"))
    home.chmod(0o755)
    return home


@pytest.mark.timeout(120)
@pytest.mark.parametrize("direct", [pytest.param(True, marks=pytest.mark.long), False])
def test_all_roles_work_behind_a_pooler_in_transaction_mode(new_database, tmp_path, open_home, direct):
    """Rule 13: no session state anywhere; notifications on a direct connection where one is given, else polling."""
    url = new_database()
    pooler, pooled = pgbouncer(open_home, url)
    processes = Processes(tmp_path, url)
    processes.environment |= {"OAK_RELAY_DATABASE_URL": pooled, "OAK_RELAY_DATABASE_POOLED": "true"}
    if direct:
        processes.environment["OAK_RELAY_DATABASE_DIRECT_URL"] = url
    try:
        processes.start_all()
        for _ in range(2):
            processes.start_worker()
        processes.start("tick")
        client = processes.client()
        client.create_table("requests", {"guest": "text"})
        client.on(client.save(HELLO).workflow)
        runs = [client.start("hello") for _ in range(60)]
        assert {run.result(60) for run in runs} == {"x"}
        text = "oak: 1\nworkflow: beat\ntriggers:\n  - {trigger: t, schedule: {every: 1s}}\nsteps:\n  - {step: a, set: {v: 1}}\nresult: ${ a.v }\n"
        client.on(client.save(text).workflow)
        until(lambda: len(client.runs(workflow="beat", state="succeeded")) >= 2)
    finally:
        processes.stop()
        pooler.terminate()
        pooler.wait(20)


def standby_of(primary: Cluster, home: Path) -> tuple[Path, int]:
    """A standby by streaming replication, which commits of the primary wait for."""
    port = free_port()
    password = (primary.home / "postgres.password").read_text().strip()
    source = f"host=127.0.0.1 port={primary._port()} user=oak_relay password={password} application_name=standby"
    data = home / "standby"
    if os.geteuid() == 0:
        owner = pwd.getpwnam("postgres")
        os.chown(home, owner.pw_uid, owner.pw_gid)
    subprocess.run(
        as_postgres(str(_bin() / "pg_basebackup"), "-d", source, "-D", str(data), "-R", "-X", "stream", "-c", "fast"),
        check=True,
        cwd="/",
    )
    boot = ["-D", str(data), "-w", "-l", str(home / "standby.log"), "-o", f"-p {port} -k ''", "start"]
    subprocess.run(as_postgres(str(_bin() / "pg_ctl"), *boot), check=True, cwd="/", stdout=subprocess.DEVNULL)
    return data, port


@pytest.mark.timeout(200)
def test_a_failover_to_the_standby_costs_a_pause_not_a_run(tmp_path, open_home):
    """Rule 19: with synchronous replication the promises hold; the address names both servers."""
    home = open_home / "primary"
    home.mkdir(mode=0o711)
    primary = Cluster(home)
    url = primary.start()
    data, port = standby_of(primary, open_home)
    processes = Processes(tmp_path, url)

    def replicated(name: str) -> None:
        """Which standby commits wait for."""
        processes.sql(f"ALTER SYSTEM SET synchronous_standby_names = '{name}'")
        processes.sql("SELECT pg_reload_conf()")

    try:
        replicated("standby")
        until(lambda: processes.sql("SELECT count(*) FROM pg_stat_replication WHERE sync_state = 'sync'"))
        given = make_url(url)
        both = url.replace(f":{given.port}/", f":{given.port},127.0.0.1:{port}/")
        processes.environment["OAK_RELAY_DATABASE_URL"] = both
        processes.start_all()
        client = processes.client()
        seed(processes)
        client.on(client.save(WORK).workflow)
        processes.start_worker()
        ids = start_runs(processes, "killed-often", 60)
        until(lambda: sum(processes.worked().values()) >= 20)
        primary.stop("immediate")
        subprocess.run(
            as_postgres(str(_bin() / "pg_ctl"), "-D", str(data), "-w", "promote"),
            check=True,
            cwd="/",
            stdout=subprocess.DEVNULL,
        )
        processes.questions.url = str(given.set(port=port).render_as_string(hide_password=False))
        assert processes.sql("SELECT pg_is_in_recovery()") is False
        replicated("")  # it is alone now
        until(lambda: processes.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == len(ids) == 60, 90)
        assert not processes.rows(
            "SELECT 1 FROM entry WHERE kind = 'ended' AND body LIKE '{\"output\"%' GROUP BY run_id, path HAVING count(*) > 1"
        )
        assert httpx.get(f"{processes.url}/health/ready").is_success
        # Whichever connection noticed first: what was walked on the old timeline was dropped, and begun anew.
        assert processes.log.read_text().count("worker ready") >= 2
    finally:
        processes.stop()
        primary.stop("immediate")
        subprocess.run(
            as_postgres(str(_bin() / "pg_ctl"), "-D", str(data), "-m", "immediate", "stop"),
            check=False,
            cwd="/",
            stdout=subprocess.DEVNULL,
        )
