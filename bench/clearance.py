"""The suppression list with ten million entries: clearance, a gate for MTAs, an import, each against its bare floor."""

import asyncio
import json
import os
import random
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import timedelta
from hashlib import blake2b
from pathlib import Path
from typing import Any

import httpx
import pymysql

from bench.intake import service, token_of
from bench.world import NOW, Bench, Figure
from rust_gauge.contract.checks import NewGate
from rust_gauge.contract.domains import NewDomain
from rust_gauge.contract.jobs import ImportRequest
from rust_gauge.launch.process import tune
from rust_gauge.service.clearance import clearance, gates
from rust_gauge.service.clearance.answers import Question
from rust_gauge.service.domains import domains
from rust_gauge.service.jobs import jobs
from rust_gauge.service.suppression import imports
from rust_gauge.service.worker import work_once
from rust_gauge.store import providers, suppression_load
from rust_gauge.store.bulk_load import LINE, escape, load_rows

MEMORY = "6G"  # the list lies in memory, as it does where it is asked all day
_ENTRIES = int(os.environ.get("BENCH_ENTRIES", "10000000"))
_ASKED = 100_000
_IMPORTED = int(os.environ.get("BENCH_IMPORTED", "1000000"))
_CONNECTIONS = 50
_EACH = 100  # questions of a connection


def run(bench: Bench) -> Iterator[Figure]:
    known = {f"r{n}.example": f"provider{n % 6}.example" for n in range(40)}
    later = dict.fromkeys(known, NOW + timedelta(days=900))
    bench.context.store.transaction(lambda c: providers.remember_domains(c, known, NOW, later))
    yield _import(bench)
    held = fill(bench)
    token = token_of(bench)
    with (
        service(bench, ("bench.serve", "service")) as url,
        httpx.Client(base_url=url, headers={"Authorization": f"Bearer {token}"}) as client,
    ):
        for share in (0.03, 0.5):
            yield from _many(bench, client, held, share)
        yield _single(client, held)
    yield _gate(bench, held)


def fill(bench: Bench) -> list[str]:
    """Ten million entries. Keys of all but a hundred thousand are drawn, as nobody asks for their addresses."""
    connection = bench.context.store.engine.raw_connection()
    cursor = connection.cursor()
    size = 1_000_000
    for start in range(0, _ENTRIES - _ASKED - _IMPORTED, size):
        end = min(start + size, _ENTRIES - _ASKED - _IMPORTED)
        cursor.execute(
            "INSERT INTO suppression_entry SELECT %s, UNHEX(LEFT(SHA1(CONCAT('x', seq)), 32)), 1, 1, 0, seq + 9000000, "
            "1, CONCAT('someone', seq, '@r', seq %% 40, '.example'), CONCAT('r', seq %% 40, '.example'), 5, 0, "
            "%s, NULL, NULL, 1, 0, %s, 1, %s, 'event', '550 5.1.1 no such mailbox', 'event', '[]' "
            f"FROM seq_{start + 1}_to_{end} ORDER BY 2",
            (bench.tenant.id, NOW.replace(tzinfo=None), NOW.replace(tzinfo=None), NOW.replace(tzinfo=None)),
        )
        connection.commit()
    held = [f"held{n}@r{n % 40}.example" for n in range(_ASKED)]
    rows = [
        (bench.tenant.id, blake2b(a.encode(), digest_size=16).digest(), n + 50_000_000, a, a.partition("@")[2])
        for n, a in enumerate(held)
    ]
    cursor.executemany(
        "INSERT INTO suppression_entry VALUES (%s, %s, 1, 1, 0, %s, 1, %s, %s, 5, 0, NOW(), NULL, NULL, 1, 0, "
        "NOW(), 1, NOW(), 'event', '550 5.1.1 no such mailbox', 'event', '[]')",
        rows,
    )
    cursor.execute("UPDATE suppression_state SET last_number = 60000000")
    connection.commit()
    settle(cursor)
    connection.close()
    return held


def settle(cursor: Any) -> None:
    """Wait while the pages of the filling are written: until then MariaDB uses a processor for that."""
    before = None
    for _ in range(40):
        cursor.execute("SHOW GLOBAL STATUS LIKE 'Innodb_buffer_pool_pages_flushed'")
        flushed = int(cursor.fetchall()[0][1])
        if before is not None and flushed - before < 200:
            return
        before = flushed
        time.sleep(3)


def _many(bench: Bench, client: httpx.Client, held: list[str], share: float) -> Iterator[Figure]:
    dice = random.Random(7)
    some = dice.sample(held, int(share * _ASKED))
    asked = some + [f"clear{n}@r{n % 40}.example" for n in range(_ASKED - len(some))]
    dice.shuffle(asked)
    body = json.dumps({"addresses": asked}).encode()
    path = f"/api/v1/tenants/{bench.tenant.slug}/clearance"

    def over_http() -> None:
        answer = client.post(path, content=body, headers={"Content-Type": "application/json"}, timeout=120)
        if json.loads(answer.content)["held"] != len(some):
            raise RuntimeError("the wrong addresses are held")

    def within() -> None:
        clearance.encode(clearance.clear(bench.context, bench.tenant, asked, Question()))

    tune()
    connection: Any = pymysql.connect(**_place(bench))
    forms = _forms(bench, asked)
    works: dict[str, Callable[[], object]] = {"in the service": within, "over HTTP, sent and read": over_http}
    works |= {form: lambda queries=queries: _fetch(connection, queries) for form, queries in forms.items()}  # type: ignore[misc]
    times = by_turns(9, works)
    connection.close()
    best = min(forms, key=lambda form: times[form])
    for name in ("in the service", "over HTTP, sent and read"):
        yield Figure(
            f"clearance of {_ASKED:,}, {share:.0%} held, {_ENTRIES:,} entries, {name}", f"{times[name] * 1000:.0f} ms",
            f"{times[best] * 1000:.0f} ms bare SQL ({best})", times[name] / times[best], "1.5",
        )  # fmt: skip


def by_turns(times: int, works: dict[str, Callable[[], object]]) -> dict[str, float]:
    """Seconds of the middle run of each; one after the other, so that all meet the same machine."""
    taken: dict[str, list[float]] = {name: [] for name in works}
    for _ in range(times):
        for name, work in works.items():
            began = time.perf_counter()
            work()
            taken[name].append(time.perf_counter() - began)
    return {name: sorted(found)[times // 2] for name, found in taken.items()}


def _forms(bench: Bench, asked: list[str]) -> dict[str, list[str]]:
    """Bare statements that look the same keys up; keys and texts are ready made."""
    keys = [blake2b(text.encode(), digest_size=16).digest() for text in asked]
    columns = "address_key, reason, scope, scope_id, state, since, until, note"

    def listed(part: list[bytes]) -> str:
        literals = ",".join([f"x'{key.hex()}'" for key in part])
        return (
            f"SELECT {columns} FROM suppression_entry FORCE INDEX (PRIMARY) WHERE tenant_id = {bench.tenant.id} "
            f"AND address_key IN ({literals}) AND state <> 0"
        )

    ordered = sorted(keys)
    values = ",".join([f"(x'{key.hex()}')" for key in ordered])
    joined = (
        f"WITH a (k) AS (VALUES {values}) SELECT {columns} FROM a "
        "STRAIGHT_JOIN suppression_entry FORCE INDEX (PRIMARY) "
        f"ON tenant_id = {bench.tenant.id} AND address_key = k WHERE state <> 0"
    )
    return {
        "one list": [listed(keys)],
        "one list, sorted": [listed(ordered)],
        "lists of 5,000, sorted": [listed(ordered[n : n + 5000]) for n in range(0, len(ordered), 5000)],
        "join with values": [joined],
    }


def _fetch(connection: Any, queries: list[str]) -> int:
    count = 0
    for query in queries:
        with connection.cursor() as cursor:
            cursor.execute(query)
            count += len(cursor.fetchall())
    return count


def _place(bench: Bench) -> dict[str, Any]:
    url = bench.context.store.engine.url
    return {
        "host": url.host, "port": url.port, "user": url.username, "password": url.password, "database": url.database,
        "charset": "utf8mb4",
    }  # fmt: skip


def _single(client: httpx.Client, held: list[str]) -> Figure:
    """One address against an authorised endpoint that does one SELECT by primary key."""
    body = json.dumps({"addresses": [held[7]]}).encode()
    headers = {"Content-Type": "application/json"}

    def ours() -> None:
        for _ in range(200):
            client.post("/api/v1/tenants/bench/clearance", content=body, headers=headers)

    def floor() -> None:
        for _ in range(200):
            client.get("/api/v1/tenants/bench/bench-floor")

    times = by_turns(9, {"ours": ours, "floor": floor})
    mine, bare = times["ours"] / 200, times["floor"] / 200
    return Figure(
        "a single clearance over HTTP", f"{mine * 1000:.2f} ms", f"{bare * 1000:.2f} ms, one SELECT by primary key",
        mine / bare, "2",
    )  # fmt: skip


# The gate


@contextmanager
def _process(*arguments: str, **environment: str) -> Iterator[int]:
    """A process that prints its port and then serves."""
    with subprocess.Popen(
        [sys.executable, "-m", "bench.serve", *arguments], env={**os.environ, **environment}, stdout=subprocess.PIPE
    ) as process:
        try:
            assert process.stdout is not None
            yield int(process.stdout.readline())
        finally:
            process.terminate()


def _gate(bench: Bench, held: list[str]) -> Figure:
    domains.add_domain(bench.context, bench.tenant, NewDomain(name="d.example"))  # as of any MTA that is used
    made = gates.add_gate(bench.context, bench.tenant, NewGate(name="mta1"))
    dice = random.Random(3)
    asked = [
        dice.choice(held) if dice.random() < 0.03 else f"clear{n}@r{n % 40}.example"
        for n in range(_CONNECTIONS * _EACH)
    ]
    requests = [
        (
            "request=smtpd_access_policy\nprotocol_state=RCPT\nprotocol_name=ESMTP\nclient_address=192.0.2.41\n"
            "client_name=app1.skerry.example\nreverse_client_name=app1.skerry.example\nhelo_name=app1.skerry.example\n"
            f"sender=news@d.example\nrecipient={address}\nrecipient_count=0\nqueue_id=\ninstance=7b.{n}\nsize=4096\n"
            f"policy_context={made.key}\n\n"
        ).encode()
        for n, address in enumerate(asked)
    ]
    url = bench.context.store.engine.url.render_as_string(hide_password=False)
    secret = str(Path(bench.context.settings.var_dir).resolve())
    with _process("gate", RUSTGAUGE_DATABASE_URL=url, RUSTGAUGE_VAR_DIR=secret) as port:
        rates = sorted(asyncio.run(_rate(port, requests, b"\n\n")) for _ in range(5))
    with _process("echo") as port:
        lines = [b"recipient=" + address.encode() + b"\n" for address in asked]
        floors = sorted(asyncio.run(_rate(port, lines, b"\n")) for _ in range(5))
    return Figure(
        f"questions of MTAs at a gate, {_CONNECTIONS} connections", f"{rates[2]:,.0f}/s",
        f"{floors[2]:,.0f}/s asyncio line echo", rates[2] / floors[2], "0.2 or more",
    )  # fmt: skip


async def _rate(port: int, requests: list[bytes], end: bytes) -> float:
    """Questions a second, each connection with one at a time, as an MTA asks."""

    async def one(number: int) -> None:
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        for request in requests[number::_CONNECTIONS]:
            writer.write(request)
            await reader.readuntil(end)
        writer.close()

    began = time.perf_counter()
    await asyncio.gather(*map(one, range(_CONNECTIONS)))
    return len(requests) / (time.perf_counter() - began)


# Import


def _import(bench: Bench) -> Figure:
    """A million rows as a CSV file through the whole job against LOAD DATA of the same rows, ready made."""
    lines = [f"reader{n}@r{n % 40}.example,2026-0{n % 9 + 1}-11\n" for n in range(_IMPORTED)]
    octets = ("email,since\n" + "".join(lines)).encode()
    job = imports.start(bench.context, bench.tenant, ImportRequest(name="bench", reason="invalid_address"), "bench")
    size = 4 * 1024 * 1024
    for number, start in enumerate(range(0, len(octets), size)):
        jobs.put_piece(bench.context, bench.tenant, job.id, number, octets[start : start + size])
    jobs.run(bench.context, bench.tenant, job.id, dry=False)
    began = time.perf_counter()
    while work_once(bench.context):
        pass
    ours = time.perf_counter() - began
    done = jobs.get(bench.context, bench.tenant, job.id)
    if done.result.get("counts") != {"rows": _IMPORTED, "new": _IMPORTED, "rejected": 0, "duplicates": 0}:
        raise RuntimeError(f"it went wrong: {done.state} {done.error} {done.result}")
    packets, packet = [], []
    for n, line in enumerate(lines):
        address, _, since = line.strip().partition(",")
        key = escape(blake2b(address.encode(), digest_size=16).digest())
        text = f"1\x1f1\x1f0\x1f{n}\x1f{address}\x1fr{n % 40}.example\x1f5\x1f0\x1f{since} 00:00:00\x1f\\N\x1f"
        packet.append(b"%b\x1f%b" % (key, text.encode()))
        if len(packet) == 5000:
            packets.append(LINE.join(packet) + LINE)
            packet = []
    packets.append(LINE.join(packet) + LINE if packet else b"")
    shared = (
        "tenant_id = 1, state = 1, ended_at = NULL, times = 1, returns = 0, made_at = NOW(), `change` = 1, "
        "changed_at = NOW(), changed_by = 'import 1', origin = 'import', evidence = '[]'"
    )
    with bench.context.store.engine.begin() as connection:
        connection.exec_driver_sql("CREATE TABLE entry_copy LIKE suppression_entry")
        began = time.perf_counter()
        load_rows(connection, "entry_copy", suppression_load.COLUMNS, shared, packets)
        connection.commit()
        floor = time.perf_counter() - began
    with bench.context.store.engine.begin() as connection:
        connection.exec_driver_sql("DROP TABLE entry_copy")
    return Figure(
        f"import of {_IMPORTED:,} rows of CSV", f"{_IMPORTED / ours:,.0f} rows/s",
        f"{_IMPORTED / floor:,.0f} rows/s LOAD DATA", floor / ours, "0.5 or more",
    )  # fmt: skip
