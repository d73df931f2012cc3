"""Backup and restore: one consistent dump of the database, compressed, with a list of what is in it.

`mariadb-dump` reads in one transaction, so the service may go on running. Rows are counted and hashed by table while
they pass, and again after a restore: what comes back is what was saved. The key that decrypts stored credentials is not
in it: whoever finds a backup must not find the key beside it.
"""

import hashlib
import json
import os
import re
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
_POSITION = re.compile(rb"^-- CHANGE MASTER TO MASTER_LOG_FILE='([^']+)', MASTER_LOG_POS=(\d+)")
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
        with store.engine.connect() as connection:
            logs = bool(connection.scalar(text("SELECT @@log_bin")))
    finally:
        store.close()
    unfinished = directory / (_DUMP + ".unfinished")
    with unfinished.open("wb") as file, zstandard.ZstdCompressor(level=6).stream_writer(file) as packed:
        tables, position = _dump(url, packed, position=logs)
    unfinished.replace(directory / _DUMP)
    shown = {name: {"rows": table.rows, "hash": table.hash} for name, table in sorted(tables.items())}
    document = {
        "version": __version__, "schema": revision, "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
        "database": str(make_url(url).database), "binary_log": position, "tables": shown,
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
    found, _ = _dump(url, _Nowhere())
    for name, saved in document["tables"].items():
        if found.get(name, TableContents(0, "")) != TableContents(saved["rows"], saved["hash"]):
            raise LaunchError(f"The table {name} is not what was saved. Do not use this database")
    return found


def replay(url: str, directory: Path, logs: Path, until: datetime | None = None) -> int:
    """Apply what was written after a backup, up to a time, to a database into which it was just restored.

    `logs` is the directory of the binary logs. Return how many files there were. LaunchError when one is missing.
    """
    document = json.loads((directory / _CONTENTS).read_text())
    position = document.get("binary_log")
    if not position:
        raise LaunchError(f"{directory} was made without a binary log: set binary_log, or log_bin of your MariaDB")
    if until is not None and until.tzinfo is None:
        raise LaunchError("--until needs a UTC offset, for example 2026-11-30T14:00:00Z")
    stem, _, number = position["file"].rpartition(".")
    files = sorted(
        path for path in logs.glob(f"{stem}.[0-9]*") if path.suffix[1:].isdigit() and path.suffix[1:] >= number
    )
    numbers = [int(path.suffix[1:]) for path in files]
    if not files or numbers != list(range(int(number), int(number) + len(files))):
        raise LaunchError(
            f"{logs} lacks a binary log from {position['file']} on; found {[path.name for path in files]}"
        )
    source = document["database"]
    with _login(url) as (login, database):
        # Positions say where to begin; the order of GTIDs means nothing once a log holds an earlier restore as well.
        command = [
            _program("mariadb-binlog"), "--skip-gtid-strict-mode", f"--start-position={position['position']}",
            f"--database={source}", f"--rewrite-db={source}->{database}", *map(str, files),
        ]  # fmt: skip
        if until is not None:
            command.insert(1, f"--stop-datetime={until.astimezone(UTC):%Y-%m-%d %H:%M:%S}")
        reader = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, env={**os.environ, "TZ": "UTC"}
        )
        client = subprocess.run([_program("mariadb"), login, database], stdin=reader.stdout, capture_output=True)
        said = reader.stderr.read() if reader.stderr else b""
        if reader.wait() != 0 or client.returncode != 0:
            error = (client.stderr or said).decode("utf-8", "replace")
            raise LaunchError(f"The binary logs could not be applied: {error.strip()[:500]}. Restore again")
    return len(files)


def _dump(url: str, into: Any, *, position: bool = False) -> tuple[dict[str, TableContents], dict[str, Any] | None]:
    """Dump the database into a file; return what is in it by table, and (if asked) where the binary log was then."""
    counts: dict[str, int] = {}
    hashes: dict[str, Any] = {}
    at: dict[str, Any] | None = None
    with _login(url) as (login, database):
        more = ["--master-data=2"] if position else []
        command = [_program("mariadb-dump"), login, *_OPTIONS, *more, database]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        assert process.stdout is not None
        for line in process.stdout:
            into.write(line)
            if position and at is None and (found := _POSITION.search(line)):
                at = {"file": found[1].decode(), "position": int(found[2])}
            if line.startswith(_INSERT):
                name = line[len(_INSERT) : line.index(b"`", len(_INSERT))].decode()
                counts[name] = counts.get(name, 0) + 1
                hashes.setdefault(name, hashlib.sha256()).update(line)
        error = process.stderr.read().decode("utf-8", "replace") if process.stderr else ""
        if process.wait() != 0:
            raise LaunchError(f"mariadb-dump failed: {error.strip()[:500]}")
    return {name: TableContents(n, hashes[name].hexdigest()) for name, n in counts.items()}, at


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
