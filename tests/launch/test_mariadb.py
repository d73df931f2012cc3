"""The private MariaDB: nobody else's, on loopback, joined or restarted, and the data stays."""

import os
import signal
from pathlib import Path

import pymysql
import pytest

from rust_gauge.launch.mariadb import LaunchError, PrivateMariaDb, free_port, held_ports, require_port
from tests.conftest import World


def query(database: PrivateMariaDb, sql: str) -> list[tuple[object, ...]]:
    connection = pymysql.connect(
        host="127.0.0.1", port=database.port, user="rust_gauge", password=database.password, database="rust_gauge"
    )
    with connection, connection.cursor() as cursor:
        cursor.execute(sql)
        rows = list(cursor.fetchall())
        connection.commit()
        return rows


@pytest.fixture
def own(tmp_path_factory: pytest.TempPathFactory, world: World):  # type: ignore[no-untyped-def]
    directory = Path(world.database.directory.parent) / "second"
    made = PrivateMariaDb(directory, memory="64M", durable=False)
    made.start()
    yield made
    made.stop()


def test_it_listens_on_loopback_only_with_passwords(own: PrivateMariaDb) -> None:
    assert query(own, "SELECT @@bind_address, @@port") == [("127.0.0.1", own.port)]
    for user in ("root", "rust_gauge", ""):
        with pytest.raises(pymysql.MySQLError):
            pymysql.connect(host="127.0.0.1", port=own.port, user=user, password="")
    assert (own.directory / "access").stat().st_mode & 0o077 == 0
    assert (own.directory / "init.sql").stat().st_mode & 0o077 == 0


def test_two_instances_do_not_touch_each_other(own: PrivateMariaDb, world: World) -> None:
    assert own.port != world.database.port
    query(own, "CREATE TABLE mine (a INT)")
    assert ("mine",) not in query(world.database, "SHOW TABLES")


def test_data_survives_a_stop_and_a_kill(own: PrivateMariaDb) -> None:
    query(own, "CREATE TABLE kept (a INT)")
    query(own, "INSERT INTO kept VALUES (7)")
    own.stop()
    own.start()
    assert query(own, "SELECT a FROM kept") == [(7,)]
    assert own.process is not None
    os.kill(own.process.pid, signal.SIGKILL)
    own.process.wait()
    own.process = None
    again = PrivateMariaDb(own.directory, memory="64M")
    again.start()
    assert query(again, "SELECT a FROM kept") == [(7,)]
    own.process, own.port = again.process, again.port


def test_an_instance_that_still_runs_is_joined(own: PrivateMariaDb) -> None:
    second = PrivateMariaDb(own.directory)
    second.start()
    assert second.process is None
    assert second.port == own.port
    assert "joined" in second.messages[0]


def test_a_directory_that_cannot_be_made_is_a_clear_error(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("shutil.which", lambda *_, **__: None)
    with pytest.raises(LaunchError, match="apt-get install mariadb-server-core"):
        PrivateMariaDb(tmp_path / "x").start()


def test_a_port_that_is_taken_is_not_given_again(world: World) -> None:
    assert free_port(world.database.port) != world.database.port


def test_a_port_that_is_taken_is_said_before_anything_is_started(world: World) -> None:
    with pytest.raises(LaunchError, match=rf"RUSTGAUGE_PORT={world.database.port + 1}"):
        require_port("127.0.0.1", world.database.port)
    require_port("127.0.0.1", free_port())


def test_held_ports_are_nobody_elses_until_they_are_let_go_of() -> None:
    with held_ports((0, 0)) as (ports, let_go):
        assert len(set(ports)) == 2
        assert all(free_port(port) != port for port in ports)
        let_go()
        assert [free_port(port) for port in ports] == ports
