"""Events through the whole intake over HTTP against a bare LOAD DATA LOCAL INFILE of the same rows into the same table.

The service runs as a process of its own, as in real use, and is sent NDJSON by a few connections at a time.
BENCH_BUSY is how many other processes use a processor all the while (0).
"""

import json
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from datetime import timedelta
from email import message_from_bytes, policy
from pathlib import Path

import httpx
import orjson
import pymysql

from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.contract.tokens import NewToken
from rust_gauge.core.notices import read_notice
from rust_gauge.core.replies import built_in_rules, classify
from rust_gauge.core.roles import Role
from rust_gauge.launch.mariadb import free_port
from rust_gauge.service.accounts import tokens
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import providers

_BATCH = 10_000
_SENDERS = 3
_ROWS = int(os.environ.get("BENCH_ROWS", "1000000"))
_PIECE = 200_000  # rows of one measurement
_BUSY = int(os.environ.get("BENCH_BUSY", "0"))


def _line(number: int) -> bytes:
    at = NOW - timedelta(days=89) + timedelta(seconds=number * (88 * 86_400) / _ROWS)
    row = {
        "kind": "bounced" if number % 50 == 0 else "delivered",
        "time": at.replace(microsecond=0).isoformat(),
        "domain": "news.d.example",
        "recipient": f"person{number}@r{number % 40}.example",
        "message_id": f"{number}@news.d.example",
        "stream": "newsletter",
        "relay": "office-1",
        "sending_ip": "192.0.2.41",
        "diagnostic": f"550 5.1.1 <person{number}@r.example>: no such mailbox"
        if number % 50 == 0
        else "250 2.0.0 taken",
    }
    return json.dumps(row).encode()


def run(bench: Bench) -> list[Figure]:
    """Return the figures, measured beside as many busy processes as wanted."""
    busy = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(_BUSY)]
    try:
        return _measured(bench)
    finally:
        for process in busy:
            process.kill()
            process.wait()


def _measured(bench: Bench) -> list[Figure]:
    store = bench.context.store
    domains = {f"r{n}.example": f"provider{n % 6}.example" for n in range(40)}
    later = dict.fromkeys(domains, NOW + timedelta(days=900))
    store.transaction(lambda c: providers.remember_domains(c, domains, NOW, later))
    token = token_of(bench)
    figures: list[Figure] = []
    rates: list[tuple[int, float]] = []
    with (running := service(bench)) as url:
        parts = {"service": running.pid, "database": _database(bench), "senders": os.getpid()}
        before = {name: _processor(pid) for name, pid in parts.items()}
        for start in range(0, _ROWS, _PIECE):
            bodies = [
                b"\n".join(_line(number) for number in range(at, min(at + _BATCH, _ROWS)))
                for at in range(start, min(start + _PIECE, _ROWS), _BATCH)
            ]
            rates.append((start, _send(url, token, bodies)))
            print(f"  {start + _PIECE:,} rows: {rates[-1][1]:,.0f} rows/s", file=sys.stderr, flush=True)
        used = {name: _processor(pid) - before[name] for name, pid in parts.items()}
        again = bodies[0]
        sender = _sender(url, token)
        began = time.perf_counter()
        _post(sender, again)
        repeated = _BATCH / (time.perf_counter() - began)
    first = _over_all([rate for start, rate in rates if start < 1_000_000])
    floor = _load_data(bench, min(_ROWS, 1_000_000))
    figures.append(
        Figure("events stored by HTTP, rows/s", f"{first:,.0f}", f"{floor:,.0f} LOAD DATA", first / floor, "0.6")
    )
    each = ", ".join(f"{name} {seconds / _ROWS * 1e6:.0f}" for name, seconds in used.items())
    figures.append(Figure("processor time, µs a row (senders make their rows too)", each, "-", None, "-"))
    if _ROWS > 2_000_000:
        last = _over_all([rate for start, rate in rates if start >= _ROWS - 1_000_000])
        name = f"rate at {_ROWS // 1_000_000} million rows, rows/s"
        figures.append(Figure(name, f"{last:,.0f}", f"{first:,.0f} at 1 million", last / first, "0.8"))
    figures.append(
        Figure("events repeated, rows/s", f"{repeated:,.0f}", f"{floor:,.0f} LOAD DATA", repeated / floor, "-")
    )
    return [*figures, *_views(bench), *_parsers()]


def _processor(pid: int) -> float:
    """Seconds of processor time that a process has used."""
    values = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(values[11]) + int(values[12])) / os.sysconf("SC_CLK_TCK")


def _database(bench: Bench) -> int:
    with bench.context.store.engine.connect() as connection:
        place = connection.exec_driver_sql("SELECT @@pid_file").scalar()
    return int(Path(str(place)).read_text())


def _over_all(rates: list[float]) -> float:
    """The rate of pieces of the same size, one after the other."""
    return len(rates) / sum(1 / rate for rate in rates)


def token_of(bench: Bench, email: str = "bench@d.example") -> str:
    """Return a token of an administrator of the tenant."""
    store = bench.context.store
    account = store.transaction(lambda c: store_accounts.add_account(c, email, "Bench", "x", NOW))
    store.transaction(lambda c: store_accounts.grant(c, account, bench.tenant.id, Role.ADMIN))
    principal = store.transaction(lambda c: store_accounts.principal_of_email(c, email))
    assert principal is not None
    return tokens.add_token(bench.context, principal, NewToken(name="bench")).secret


class service:
    """The service as a process; gives its address. `module` is what is run."""

    def __init__(self, bench: Bench, module: tuple[str, ...] = ("rust_gauge.launch.process", "service")) -> None:
        self._bench, self._module = bench, module

    @property
    def pid(self) -> int:
        """Of the process."""
        return self._processes[0].pid

    def __enter__(self) -> str:
        port = free_port()
        database = self._bench.context.settings.database_url
        assert database is not None
        environment = {
            **os.environ, "RUSTGAUGE_DATABASE_URL": database.get_secret_value(), "RUSTGAUGE_PORT": str(port),
            "RUSTGAUGE_LOG_LEVEL": "error", "RUSTGAUGE_DNS_SERVERS": '["127.0.0.1:9"]', "RUSTGAUGE_DNS_TIMEOUT": "0.05",
        }  # fmt: skip
        command = [sys.executable, "-m", *self._module]
        self._processes = [subprocess.Popen(command, env=environment) for _ in range(1)]
        url = f"http://127.0.0.1:{port}"
        end = time.monotonic() + 30
        while time.monotonic() < end:
            try:
                if httpx.get(f"{url}/readyz").status_code == 200:
                    return url
            except httpx.TransportError:
                time.sleep(0.05)
        raise RuntimeError("the service did not start")

    def __exit__(self, *_: object) -> None:
        for process in self._processes:
            process.terminate()
            process.wait(20)


def _sender(url: str, token: str) -> httpx.Client:
    headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/x-ndjson"}
    return httpx.Client(base_url=url, headers=headers, timeout=120)


def _post(sender: httpx.Client, body: bytes) -> None:
    answer = sender.post("/api/v1/tenants/bench/events", content=body)
    if answer.status_code != 200 or answer.json()["rejected"]:
        raise RuntimeError(answer.text[:500])


def _send(url: str, token: str, bodies: list[bytes]) -> float:
    """Rows a second over a few connections."""
    waiting: Iterator[bytes] = iter(bodies)
    lock = threading.Lock()

    def work() -> None:
        with _sender(url, token) as sender:
            while True:
                with lock:
                    body = next(waiting, None)
                if body is None:
                    return
                _post(sender, body)

    threads = [threading.Thread(target=work) for _ in range(_SENDERS)]
    began = time.perf_counter()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return sum(body.count(b"\n") + 1 for body in bodies) / (time.perf_counter() - began)


def _load_data(bench: Bench, rows: int) -> float:
    """Rows a second of the same rows, taken from the table, into an empty copy of it, in pieces as big as ours.

    Both tables grow to the same size, so that each piece finds what its counterpart found.
    """
    engine = bench.context.store.engine
    url = engine.url
    taken = 0.0
    with tempfile.TemporaryDirectory() as folder, engine.connect() as source:
        path = Path(folder) / "rows.tsv"
        connection = pymysql.connect(
            host=url.host, port=url.port or 3306, user=url.username or "", password=url.password or "",
            database=url.database or "", local_infile=True, charset="utf8mb4",
        )  # fmt: skip
        found = source.execution_options(stream_results=True).exec_driver_sql(f"SELECT * FROM event LIMIT {rows}")
        with connection, connection.cursor() as cursor:
            cursor.execute("CREATE TABLE event_floor LIKE event")
            for _ in range(0, rows, _PIECE):
                with path.open("wb") as file:
                    for row in found.fetchmany(_PIECE):
                        file.write(b"\t".join(_field(value) for value in row) + b"\n")
                began = time.perf_counter()
                cursor.execute(f"LOAD DATA LOCAL INFILE '{path}' INTO TABLE event_floor CHARACTER SET binary")
                connection.commit()
                taken += time.perf_counter() - began
            found.close()
            cursor.execute("SELECT COUNT(*) FROM event_floor")
            loaded = cursor.fetchone()[0]
            cursor.execute("DROP TABLE event_floor")
            if loaded != rows:
                raise RuntimeError(f"the floor loaded {loaded} of {rows} rows")
    return rows / taken


def _field(value: object) -> bytes:
    if value is None:
        return b"\\N"
    raw = value if isinstance(value, bytes) else str(value).encode()
    return raw.replace(b"\\", b"\\\\").replace(b"\t", b"\\t").replace(b"\n", b"\\n").replace(b"\0", b"\\0")


def _views(bench: Bench) -> list[Figure]:
    """A view of ninety days and trails, against a SELECT by primary key over the same connection."""
    from rust_gauge.service.mailflow import events, flow
    from rust_gauge.service.mailflow.flow import FlowQuery

    context, tenant = bench.context, bench.tenant
    engine = context.store.engine
    with engine.connect() as connection:
        at, identity = connection.exec_driver_sql("SELECT occurred_at, identity FROM event LIMIT 1 OFFSET 5000").one()
        where = f"tenant_id = {tenant.id} AND occurred_at = '{at}' AND identity = x'{identity.hex()}'"
        sql = f"SELECT * FROM event WHERE {where}"

        def by_key() -> None:
            connection.exec_driver_sql(sql).one()

        floor = middle_of(200, by_key)
    query = FlowQuery(first=(NOW - timedelta(days=89)).date(), last=NOW.date())
    view = middle_of(15, lambda: flow.get_flow(context, tenant, query))
    shared = {"domain": None, "kinds": (), "since": None, "until": None, "cursor": None, "limit": 100}

    def trail(**who: str | None) -> float:
        return middle_of(30, lambda: events.list_events(context, tenant, **{**shared, **who}))  # type: ignore[arg-type]

    person = trail(recipient="person5000@r0.example", message_id=None)
    message = trail(recipient=None, message_id="5000@news.d.example")
    base = f"{floor * 1000:.2f} ms by key"
    return [
        Figure("per-provider view of 90 days", f"{view * 1000:.1f} ms", base, view / floor, "40"),
        Figure("trail of a recipient", f"{person * 1000:.2f} ms", base, person / floor, "10"),
        Figure("trail of a message", f"{message * 1000:.2f} ms", base, message / floor, "10"),
    ]


def _parsers() -> list[Figure]:
    """A DSN against the standard library's parser; a diagnostic against parsing its line of JSON."""
    from tests.vectors import notices

    raw = notices.DSN
    ours = middle_of(200, lambda: read_notice(raw))
    theirs = middle_of(200, lambda: message_from_bytes(raw, policy=policy.default))
    replies = [f"{text} (id {n})" for n in range(40) for rule in built_in_rules().rules for text in rule.fits]
    lines = [
        orjson.dumps({"kind": "bounced", "time": "2026-11-20T08:00:04Z", "domain": "news.glasswort.example",
                      "recipient": f"someone{n}@tidepost.example", "stream": "newsletter", "relay": "driftline",
                      "message_id": f"a{n}@news.glasswort.example", "diagnostic": text})
        for n, text in enumerate(replies)
    ]  # fmt: skip
    parse = middle_of(9, lambda: [orjson.loads(line) for line in lines]) / len(lines)
    judge = middle_of(9, lambda: [classify(text) for text in replies]) / len(lines)
    return [
        Figure("a DSN read", f"{ours * 1e6:.0f} us", f"{theirs * 1e6:.0f} us message_from_bytes", ours / theirs, "1.5"),
        Figure("a diagnostic classified", f"{judge * 1e6:.1f} us", f"{parse * 1e6:.1f} us orjson", judge / parse, "5"),
    ]
