"""A hundred million events of a quarter, fifty million suppression entries. Run on demand.

Intake, views, trails, search, clearance, the wall, retention. The first million comes through HTTP. The rest are copies
of those with other recipients and messages, a day at a time, by INSERT ... SELECT: intake of a hundred million would
take an hour, and is measured at both ends.

BENCH_MILLIONS is how many there are at the end (100; each takes some 400 MB of disk), BENCH_ENTRIES how many
addresses are suppressed (set it to 50000000). BENCH_HOLD=1 keeps the database until a line is read from standard input.
"""

import os
import sys
import threading
import time
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta

import httpx
import orjson

from bench import clearance, intake
from bench.clearance import settle
from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.service.mailflow import events
from rust_gauge.store import providers
from rust_gauge.store.partitions import partition_ends
from rust_gauge.store.retention import drop_partitions

MEMORY = "6G"
_MILLIONS = int(os.environ.get("BENCH_MILLIONS", "100"))
_BATCH, PIECE = 10_000, 200_000
_FIRST = 1_000_000
_DAYS = 88  # over which `intake` spreads its rows
_SHARED = {"domain": None, "kinds": (), "since": None, "until": None, "cursor": None, "limit": 100}


def run(bench: Bench) -> Iterator[Figure]:
    known = {f"r{n}.example": f"provider{n % 6}.example" for n in range(40)}
    later = dict.fromkeys(known, NOW + timedelta(days=900))
    bench.context.store.transaction(lambda c: providers.remember_domains(c, known, NOW, later))
    token = intake.token_of(bench)
    with intake.service(bench) as url:
        rates = [_sent(url, token, at) for at in range(0, _FIRST, PIECE)]
        first = len(rates) / sum(1 / rate for rate in rates)
        yield Figure("events stored by HTTP, the first million, rows/s", f"{first:,.0f}", "-", None, "-")
        yield from intake._views(bench)
        yield from _searches(bench, "1 million")
        _fill(bench)
        yield from measured(bench, url, token, first)
        if os.environ.get("BENCH_HOLD"):
            print(
                f"  {url} {token} {bench.context.store.engine.url.render_as_string(False)}", file=sys.stderr, flush=True
            )
            sys.stdin.readline()


def measured(bench: Bench, url: str, token: str, first: float) -> Iterator[Figure]:
    """Measure the full database; `first` is the rate of the first million."""
    for name, line in (("today's", today), ("late, of the last two days", _late)):
        rates = [_sent(url, token, at, line) for at in range(_FIRST, 2 * _FIRST, PIECE)]
        last = len(rates) / sum(1 / rate for rate in rates)
        name = f"the same at {_MILLIONS} million, events {name}"
        yield Figure(name, f"{last:,.0f}", f"{first:,.0f} at 1 million", last / first, "0.8")
    yield from intake._views(bench)
    yield from _searches(bench, f"{_MILLIONS} million")
    yield _size(bench, (_MILLIONS + 2) * _FIRST)
    yield from _retention(bench, url, token)
    yield from _clearance(bench, url, token)


def _clearance(bench: Bench, url: str, token: str) -> Iterator[Figure]:
    held = clearance.fill(bench)
    headers = {"Authorization": f"Bearer {token}"}
    with httpx.Client(base_url=url, headers=headers) as client:
        for share in (0.03, 0.5):
            yield from clearance._many(bench, client, held, share)
        wall = middle_of(15, lambda: client.get("/api/v1/wall?days=7").raise_for_status())
    yield Figure("the wall over HTTP, one domain", f"{wall * 1000:.1f} ms", "-", None, "-")


def today(number: int) -> bytes:
    """Return an event of the last day, in the order of their times, as a running sender reports them."""
    return _new(number, NOW - timedelta(hours=24) + timedelta(microseconds=number * 40_000))


def _late(number: int) -> bytes:
    """Return an event between those that are stored already."""
    return _new(number + 10 * _FIRST, NOW - timedelta(days=4) + timedelta(seconds=number % 170_000))


def _new(number: int, at: datetime) -> bytes:
    row = orjson.loads(intake._line(number % _FIRST))
    row["time"] = at.isoformat()
    row["recipient"], row["message_id"] = f"new{number}.{row['recipient']}", f"new{number}.{row['message_id']}"
    return orjson.dumps(row)


def _sent(url: str, token: str, start: int, line: Callable[[int], bytes] = intake._line) -> float:
    return send(url, token, start, start + PIECE, line)


def send(url: str, token: str, start: int, end: int, line: Callable[[int], bytes]) -> float:
    """Send the events of these numbers over a few connections; return the rate, rows a second."""
    bodies = [
        b"\n".join(line(number) for number in range(at, min(at + _BATCH, end))) for at in range(start, end, _BATCH)
    ]
    rate = intake._send(url, token, bodies)
    print(f"  {end:,}: {rate:,.0f} rows/s", file=sys.stderr, flush=True)
    return rate


def _fill(bench: Bench) -> None:
    """Copy what is there until there are as many as wanted."""
    connection = bench.context.store.engine.raw_connection()
    cursor = connection.cursor()
    cursor.execute("SHOW COLUMNS FROM event")
    names = [row[0] for row in cursor.fetchall()]
    other = {
        "occurred_at": "e.occurred_at + INTERVAL s.seq MICROSECOND",
        "identity": "UNHEX(MD5(CONCAT(e.identity, s.seq)))",
        "recipient": "CONCAT(s.seq, e.recipient)",
        "recipient_key": "UNHEX(MD5(CONCAT(e.recipient_key, s.seq)))",
        "message_id": "CONCAT(s.seq, e.message_id)",
        "message_key": "LEFT(UNHEX(MD5(CONCAT(e.message_key, s.seq))), 8)",
    }
    values = ", ".join(other.get(name, f"e.{name}") for name in names)
    cursor.execute("SET unique_checks = 0")
    cursor.execute("CREATE TABLE event_copied AS SELECT * FROM event")
    cursor.execute("ALTER TABLE event_copied ADD INDEX (occurred_at)")
    first = (NOW - timedelta(days=89)).replace(tzinfo=None)
    began, stored = time.perf_counter(), _FIRST
    for day in range(_DAYS + 1):
        start = (first + timedelta(days=day)).replace(hour=0, minute=0, second=0)
        cursor.execute(
            f"INSERT INTO event SELECT {values} FROM event_copied e JOIN seq_1_to_{_MILLIONS - 1} s "
            f"WHERE e.occurred_at >= '{start}' AND e.occurred_at < '{start + timedelta(days=1)}' "
            f"ORDER BY e.occurred_at, s.seq"
        )
        stored += cursor.rowcount
        connection.commit()
        rate = (stored - _FIRST) / (time.perf_counter() - began)
        print(f"  {start:%Y-%m-%d}: {stored:,} events, {rate:,.0f} rows/s", file=sys.stderr, flush=True)
    cursor.execute("DROP TABLE event_copied")
    settle(cursor)
    connection.close()


def _searches(bench: Bench, size: str) -> Iterator[Figure]:
    """Words of a reply that two million events have, and of one that four have, months ago."""
    context, tenant = bench.context, bench.tenant

    def search(reply: str) -> float:
        return middle_of(
            5, lambda: events.list_events(context, tenant, recipient=None, message_id=None, reply=reply, **_SHARED)  # type: ignore[arg-type]
        )  # fmt: skip

    frequent = search("no such mailbox")
    rare = search("harbour closed")
    yield Figure(f"a frequent reply found, first page, {size}", f"{frequent * 1000:.1f} ms", "-", None, "-")
    yield Figure(f"a reply that nobody gave, {size}", f"{rare * 1000:.1f} ms", "-", None, "-")


def _size(bench: Bench, rows: int) -> Figure:
    with bench.context.store.engine.connect() as connection:
        data, index = connection.exec_driver_sql(
            "SELECT data_length, index_length FROM information_schema.tables "
            "WHERE table_schema = DATABASE() AND table_name = 'event'"
        ).one()
    text = f"{(data + index) / 2**30:.1f} GiB, {(data + index) / rows:.0f} octets an event"
    return Figure("size of the event table", text, "-", None, "-")


def _retention(bench: Bench, url: str, token: str) -> Iterator[Figure]:
    """Drop the oldest week while events come in."""
    slowest: list[float] = []
    over = threading.Event()

    def send() -> None:
        sender = intake._sender(url, token)
        number = 3 * _FIRST
        while not over.is_set():
            body = b"\n".join(_late(n) for n in range(number, number + 1000))
            began = time.perf_counter()
            intake._post(sender, body)
            slowest.append(time.perf_counter() - began)
            number += 1000

    with bench.context.store.engine.connect() as connection:
        ends = [end for _, end in partition_ends(connection) if end > (NOW - timedelta(days=89)).date()]
    thread = threading.Thread(target=send)
    thread.start()
    time.sleep(3)
    before = max(slowest, default=0.0)
    began = time.perf_counter()
    dropped = drop_partitions(bench.context.store, ends[1], NOW)
    taken = time.perf_counter() - began
    time.sleep(2)
    over.set()
    thread.join()
    yield Figure(f"retention drops {dropped} partitions", f"{taken:.2f} s", "-", None, "10 s")
    text = f"{max(slowest, default=0.0):.2f} s, {before:.2f} s before"
    yield Figure("the slowest batch of 1,000 events meanwhile", text, "-", None, "-")
