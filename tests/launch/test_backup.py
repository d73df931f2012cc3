"""A backup that is restored into an empty database is the same, row by row; anything else is refused."""

import json
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
import zstandard
from sqlalchemy import text

from rust_gauge.client import Client
from rust_gauge.launch.backup import back_up, replay, restore
from rust_gauge.launch.main import prepare
from rust_gauge.launch.mariadb import LaunchError, PrivateMariaDb
from rust_gauge.store.accounts import add_tenant, list_tenants
from rust_gauge.store.engine import Store, StoreError
from rust_gauge.store.migrate import migrate, newest_revision
from tests.conftest import Office, World
from tests.rows import bounce, ndjson
from tests.waiting import until


@contextmanager
def empty_database(world: World, name: str) -> Iterator[str]:
    """Yield the URL of a database of its own."""
    with world.context.store.engine.begin() as connection:
        connection.execute(text(f"CREATE DATABASE {name} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"))
    try:
        yield world.database.url.replace("/rust_gauge?", f"/{name}?")
    finally:
        with world.context.store.engine.begin() as connection:
            connection.execute(text(f"DROP DATABASE {name}"))


def test_what_is_restored_is_what_was_saved(office: Office, client: Client, tmp_path: Path) -> None:
    world = office.world
    client.events.load(
        office.slug, ndjson(*(bounce(n, diagnostic=f"550 line one\nline 'two' \\ ü {n}") for n in range(50)))
    )
    world.work()
    saved = back_up(world.database.url, tmp_path / "one")
    assert saved["event"].rows >= 50
    assert ((tmp_path / "one").stat().st_mode & 0o777) == 0o700
    with empty_database(world, "rust_gauge_restored") as url:
        assert restore(url, tmp_path / "one") == saved
        store = Store(url)
        try:
            migrate(store)
            with store.engine.connect() as connection:
                found = connection.execute(
                    text("SELECT diagnostic FROM event WHERE diagnostic LIKE '%line one%'")
                ).scalars()
                assert {line.count("\n") for line in found} == {1}
        finally:
            store.close()
        with pytest.raises(LaunchError, match="not empty"):
            restore(url, tmp_path / "one")


def test_a_backup_that_was_touched_is_found_out(office: Office, client: Client, tmp_path: Path) -> None:
    client.events.load(office.slug, ndjson(bounce(1)))
    back_up(office.world.database.url, tmp_path / "one")
    path = tmp_path / "one" / "database.sql.zst"
    sql = zstandard.ZstdDecompressor().stream_reader(path.read_bytes()).read()
    assert b"INSERT INTO `tenant`" in sql
    lines = sql.splitlines(keepends=True)
    at = next(n for n, line in enumerate(lines) if line.startswith(b"INSERT INTO `tenant`"))
    path.write_bytes(zstandard.compress(b"".join(lines[:at] + lines[at + 1 :])))
    with (
        empty_database(office.world, "rust_gauge_touched") as url,
        pytest.raises(LaunchError, match=r"not what was saved|could not"),
    ):
        restore(url, tmp_path / "one")


def test_what_is_missing_or_newer_is_refused(office: Office, tmp_path: Path) -> None:
    world = office.world
    with empty_database(world, "rust_gauge_none") as url:
        with pytest.raises(LaunchError, match="no backup that is complete"):
            restore(url, tmp_path)
        back_up(world.database.url, tmp_path / "one")
        with pytest.raises(LaunchError, match="not empty"):
            back_up(world.database.url, tmp_path / "one")
        contents = tmp_path / "one" / "contents.json"
        document = json.loads(contents.read_text())
        contents.write_text(json.dumps(document | {"schema": "9999"}))
        with pytest.raises(LaunchError, match=f"9999.*{newest_revision()}"):
            restore(url, tmp_path / "one")


def test_a_schema_of_a_newer_version_is_left_alone(world: World) -> None:
    with empty_database(world, "rust_gauge_newer") as url:
        store = Store(url)
        try:
            migrate(store)
            with store.engine.begin() as connection:
                connection.execute(text("UPDATE alembic_version SET version_num = '9999'"))
            with pytest.raises(StoreError, match="newer than this version") as caught:
                migrate(store)
            assert "Install the version" in caught.value.remedy
        finally:
            store.close()


@pytest.fixture(scope="module")
def logged() -> Iterator[PrivateMariaDb]:
    """A MariaDB of its own that writes a binary log."""
    home = Path(tempfile.mkdtemp(prefix="rust-gauge-logged-"))
    home.chmod(0o711)
    made = PrivateMariaDb(home / "mariadb", memory="64M", durable=False, binary_log=True)
    try:
        made.start()
        yield made
    finally:
        made.stop()
        shutil.rmtree(home, ignore_errors=True)


def put(url: str, *slugs: str) -> None:
    """Write tenants, each in a second of its own: that is how exact a time in the binary log is."""
    store = Store(url)
    try:
        for slug in slugs:
            before = int(time.time())
            until(lambda before=before: int(time.time()) > before)
            store.transaction(lambda c, slug=slug: add_tenant(c, slug, slug.title(), datetime.now(UTC)))
    finally:
        store.close()


def slugs_of(url: str) -> set[str]:
    store = Store(url)
    try:
        return {row.slug for row in store.transaction(list_tenants)}
    finally:
        store.close()


def test_a_restore_goes_on_to_a_point_in_time(logged: PrivateMariaDb, tmp_path: Path) -> None:
    prepare(logged.url)
    put(logged.url, "before")
    back_up(logged.url, tmp_path / "one")
    put(logged.url, "after")
    point = datetime.now(UTC) + timedelta(seconds=1)
    put(logged.url, "later", "too-late")
    with Store(logged.url).engine.begin() as connection:
        for name in ("rust_gauge_point", "rust_gauge_all"):
            connection.execute(text(f"CREATE DATABASE {name} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"))
    some, every = (logged.url.replace("/rust_gauge?", f"/{name}?") for name in ("rust_gauge_point", "rust_gauge_all"))
    restore(some, tmp_path / "one")
    assert slugs_of(some) == {"before"}
    assert replay(some, tmp_path / "one", logged.binary_logs, point) == 1
    assert slugs_of(some) == {"before", "after"}
    restore(every, tmp_path / "one")
    replay(every, tmp_path / "one", logged.binary_logs)
    assert slugs_of(every) == {"before", "after", "later", "too-late"}
    with pytest.raises(LaunchError, match="lacks a binary log"):
        replay(every, tmp_path / "one", tmp_path)
    with pytest.raises(LaunchError, match="UTC offset"):
        replay(every, tmp_path / "one", logged.binary_logs, datetime(2026, 11, 30))


def test_a_backup_without_a_binary_log_has_no_point_to_go_on_from(office: Office, tmp_path: Path) -> None:
    back_up(office.world.database.url, tmp_path / "one")
    with pytest.raises(LaunchError, match="without a binary log"):
        replay(office.world.database.url, tmp_path / "one", tmp_path)
