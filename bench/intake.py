"""Events through the whole intake against a bare LOAD DATA LOCAL INFILE of the same rows into the same table."""

import json
import tempfile
import time
from datetime import timedelta
from pathlib import Path

import pymysql

from bench.world import NOW, Bench, Figure
from rust_gauge.service import intake
from rust_gauge.store import providers

_ROWS = 40_000
_BATCH = 5_000


def _lines(start: int) -> list[bytes]:
    rows = []
    for number in range(start, start + _ROWS):
        at = NOW - timedelta(seconds=number % 400_000)
        row = {
            "kind": "bounced" if number % 50 == 0 else "delivered",
            "time": at.isoformat(),
            "domain": "news.d.example",
            "recipient": f"person{number}@r{number % 40}.example",
            "message_id": f"{number}@news.d.example",
            "stream": "newsletter",
            "relay": "office-1",
            "sending_ip": "192.0.2.41",
            "diagnostic": "550 5.1.1 no such mailbox" if number % 50 == 0 else "250 2.0.0 taken",
        }
        rows.append(json.dumps(row).encode())
    return rows


def run(bench: Bench) -> list[Figure]:
    store = bench.context.store
    domains = {f"r{n}.example": "tidepost.example" for n in range(40)}
    later = dict.fromkeys(domains, NOW + timedelta(days=9))
    store.transaction(lambda c: providers.remember_domains(c, domains, NOW, later))
    lines = _lines(0)
    began = time.perf_counter()
    for start in range(0, _ROWS, _BATCH):
        body = b"\n".join(lines[start : start + _BATCH])
        rows = intake.split_body(body, "application/x-ndjson", 50_000)
        intake.take_in(bench.context, bench.tenant, rows)
    ours = _ROWS / (time.perf_counter() - began)
    floor = _ROWS / _load_data(bench)
    again = b"\n".join(lines[:_BATCH])
    began = time.perf_counter()
    intake.take_in(bench.context, bench.tenant, intake.split_body(again, "application/x-ndjson", 50_000))
    repeated = _BATCH / (time.perf_counter() - began)
    return [
        Figure("events stored, rows/s", f"{ours:,.0f}", f"{floor:,.0f} LOAD DATA", ours / floor, "0.6"),
        Figure("events repeated, rows/s", f"{repeated:,.0f}", f"{floor:,.0f} LOAD DATA", repeated / floor, "-"),
    ]


def _load_data(bench: Bench) -> float:
    """Seconds to load the same rows, taken from the table, into an empty copy of it."""
    engine = bench.context.store.engine
    url = engine.url
    with tempfile.TemporaryDirectory() as folder, engine.connect() as source:
        path = Path(folder) / "rows.tsv"
        with path.open("wb") as file:
            for row in source.exec_driver_sql("SELECT * FROM event"):
                file.write(b"\t".join(_field(value) for value in row) + b"\n")
        connection = pymysql.connect(
            host=url.host,
            port=url.port or 3306,
            user=url.username or "",
            password=url.password or "",
            database=url.database or "",
            local_infile=True,
            charset="utf8mb4",
        )
        with connection, connection.cursor() as cursor:
            cursor.execute("CREATE TABLE event_floor LIKE event")
            began = time.perf_counter()
            cursor.execute(f"LOAD DATA LOCAL INFILE '{path}' INTO TABLE event_floor CHARACTER SET binary")
            connection.commit()
            taken = time.perf_counter() - began
            cursor.execute("SELECT COUNT(*) FROM event_floor")
            loaded = cursor.fetchone()[0]
            cursor.execute("DROP TABLE event_floor")
        if loaded != _ROWS:
            raise RuntimeError(f"the floor loaded {loaded} of {_ROWS} rows")
        return taken


def _field(value: object) -> bytes:
    if value is None:
        return b"\\N"
    raw = value if isinstance(value, bytes) else str(value).encode()
    return raw.replace(b"\\", b"\\\\").replace(b"\t", b"\\t").replace(b"\n", b"\\n").replace(b"\0", b"\\0")
