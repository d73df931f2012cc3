"""A backup that is restored into an empty database is the same, row by row; anything else is refused."""

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
import zstandard
from sqlalchemy import text

from rust_gauge.client import Client
from rust_gauge.launch.backup import back_up, restore
from rust_gauge.launch.mariadb import LaunchError
from rust_gauge.store.engine import Store, StoreError
from rust_gauge.store.migrate import migrate, newest_revision
from tests.conftest import Office, World
from tests.rows import bounce, ndjson


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
