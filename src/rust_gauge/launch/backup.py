"""Backup and restore: one consistent dump of the database, compressed, with a list of what is in it.

`mariadb-dump` reads in one transaction, so the service may go on running. Rows are counted and hashed by table while
they pass, and again after a restore: what comes back is what was saved. The key that decrypts stored credentials is not
in it: whoever finds a backup must not find the key beside it.
"""

import hashlib
import json
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from tempfile import NamedTemporaryFile
from typing import IO, Any

import zstandard
from sqlalchemy import make_url, text

from rust_gauge import __version__
from rust_gauge.launch.mariadb import LaunchError
from rust_gauge.store.engine import Store
from rust_gauge.store.migrate import newest_revision, revision_of

_DUMP, _CONTENTS = "database.sql.zst", "contents.json"
_INSERT = b"INSERT INTO `"
_OPTIONS = (
    "--single-transaction", "--quick", "--hex-blob", "--default-character-set=utf8mb4", "--skip-extended-insert",
    "--order-by-primary", "--skip-comments", "--no-tablespaces", "--skip-lock-tables", "--tz-utc",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class TableContents:
    """Rows of a table, and a hash over them in the order of their key."""

    rows: int
    hash: str


def back_up(url: str, directory: Path) -> dict[str, TableContents]:
    """Write a backup into a new directory, readable by its owner only. LaunchError when it cannot be made."""
    if directory.exists() and any(directory.iterdir()):
        raise LaunchError(f"{directory} is not empty. Name a new directory for each backup")
    directory.mkdir(parents=True, exist_ok=True)
    directory.chmod(0o700)
    store = Store(url)
    try:
        revision = revision_of(store)
    finally:
        store.close()
    unfinished = directory / (_DUMP + ".unfinished")
    with unfinished.open("wb") as file, zstandard.ZstdCompressor(level=6).stream_writer(file) as packed:
        tables = _dump(url, packed)
    unfinished.replace(directory / _DUMP)
    shown = {name: {"rows": table.rows, "hash": table.hash} for name, table in sorted(tables.items())}
    document = {
        "version": __version__, "schema": revision, "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
        "tables": shown,
    }  # fmt: skip
    (directory / _CONTENTS).write_text(json.dumps(document, indent=1) + "\n")
    return tables


def restore(url: str, directory: Path) -> dict[str, TableContents]:
    """Load a backup into an empty database and compare it with what was saved. LaunchError when it is not the same."""
    try:
        document = json.loads((directory / _CONTENTS).read_text())
    except (OSError, ValueError) as error:
        raise LaunchError(f"{directory} holds no backup that is complete: {error}") from None
    store = Store(url)
    try:
        with store.engine.connect() as connection:
            there = connection.execute(text("SHOW TABLES")).scalars().all()
        if there:
            raise LaunchError(f"The database is not empty: it has {len(there)} tables. Restore into an empty one")
        if str(document["schema"]) > newest_revision():
            raise LaunchError(
                f"The backup has schema {document['schema']}, this version knows {newest_revision()}. "
                f"Install version {document['version']} or newer"
            )
    finally:
        store.close()
    with (directory / _DUMP).open("rb") as file, _login(url) as (login, database):
        client = subprocess.Popen([_program("mariadb"), login, database], stdin=subprocess.PIPE, stderr=subprocess.PIPE)
        assert client.stdin is not None
        try:
            zstandard.ZstdDecompressor().copy_stream(file, client.stdin)
            client.stdin.close()
        except BrokenPipeError:
            pass  # the client says why
        error_text = client.stderr.read().decode("utf-8", "replace") if client.stderr else ""
        if client.wait() != 0:
            raise LaunchError(f"The backup could not be loaded: {error_text.strip()[:500]}")
    found = _dump(url, _Nowhere())
    for name, saved in document["tables"].items():
        if found.get(name, TableContents(0, "")) != TableContents(saved["rows"], saved["hash"]):
            raise LaunchError(f"The table {name} is not what was saved. Do not use this database")
    return found


def _dump(url: str, into: Any) -> dict[str, TableContents]:
    """Dump the database into a file; return what is in it by table."""
    counts: dict[str, int] = {}
    hashes: dict[str, Any] = {}
    with _login(url) as (login, database):
        command = [_program("mariadb-dump"), login, *_OPTIONS, database]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        assert process.stdout is not None
        for line in process.stdout:
            into.write(line)
            if line.startswith(_INSERT):
                name = line[len(_INSERT) : line.index(b"`", len(_INSERT))].decode()
                counts[name] = counts.get(name, 0) + 1
                hashes.setdefault(name, hashlib.sha256()).update(line)
        error = process.stderr.read().decode("utf-8", "replace") if process.stderr else ""
        if process.wait() != 0:
            raise LaunchError(f"mariadb-dump failed: {error.strip()[:500]}")
    return {name: TableContents(n, hashes[name].hexdigest()) for name, n in counts.items()}


class _Nowhere:
    def write(self, _: bytes) -> None: ...


@contextmanager
def _login(url: str) -> Iterator[tuple[str, str]]:
    """Give a file of options with the password, which so is in no list of processes, and the database's name."""
    parts = make_url(url)
    with NamedTemporaryFile("w", prefix="rust-gauge-", suffix=".cnf") as file:  # readable by its owner only
        _write_login(file, parts)
        yield f"--defaults-extra-file={file.name}", str(parts.database)


def _write_login(file: IO[str], parts: Any) -> None:
    password = str(parts.password or "").replace("\\", "\\\\").replace('"', '\\"')
    file.write(f"[client]\nhost={parts.host}\nport={parts.port or 3306}\nuser={parts.username}\n")
    file.write(f'password="{password}"\n')
    file.flush()


def _program(name: str) -> str:
    found = shutil.which(name)
    if found is None:
        raise LaunchError(f"{name} is not installed: apt-get install mariadb-client")
    return found
