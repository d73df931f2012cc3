"""A tenant with 50,000 domains at 200 providers, and an installation of 5,000 tenants. Run on demand.

Readings of a new day, detection, the wall and search of the one; sign-in, lists and jobs of the other. Memory is the
most that this process had beyond what it had before. BENCH_DOMAINS, BENCH_TENANTS.
"""

import os
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import timedelta
from pathlib import Path
from typing import Any

import httpx

from bench.intake import service, token_of
from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.core.roles import Role
from rust_gauge.service.accounts.passwords import hash_password
from rust_gauge.service.readings.computation import compute, look_at_providers
from rust_gauge.service.worker import work_once
from rust_gauge.service.worklist import items
from rust_gauge.service.worklist.items import detect
from rust_gauge.store import accounts, providers
from rust_gauge.store import tables as t
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.events import intern

MEMORY = "4G"
_DOMAINS = int(os.environ.get("BENCH_DOMAINS", "50000"))
_TENANTS = int(os.environ.get("BENCH_TENANTS", "5000"))
_PROVIDERS, _EACH, _DAYS = 200, 8, 45  # providers, of which a domain mails to some, and days
_AT_ONCE = 40
_PASSWORD = "a long password of the bench"


def run(bench: Bench) -> Iterator[Figure]:
    """Yield figures of the large tenant, then of many tenants."""
    yield from _large_tenant(bench)
    yield from _many_tenants(bench)


def _large_tenant(bench: Bench) -> Iterator[Figure]:
    context, tenant = bench.context, bench.tenant
    domains = fill(bench, tenant, _DOMAINS)
    yield _timed("providers looked up, of all senders together", lambda: look_at_providers(context))
    sample = domains[: min(len(domains), 50 * _AT_ONCE)]
    rest = domains[len(sample) :]
    name = f"readings of {len(domains):,} domains × {_EACH} of {_PROVIDERS} providers × {_DAYS} days"
    yield _timed(name, lambda: compute_all(bench, tenant, [*sample, *rest]))
    yield _timed("detection, the first: all problems are new", lambda: detect(context, tenant))
    found = context.store.transaction(
        lambda c: c.exec_driver_sql("SELECT COUNT(*) FROM work_item WHERE state <> 'resolved'").scalar()
    )
    yield _timed(f"detection again, {found:,} problems", lambda: detect(context, tenant))
    token = token_of(bench)
    with (
        service(bench) as url,
        httpx.Client(base_url=url, headers={"Authorization": f"Bearer {token}"}, timeout=120) as client,
    ):
        for words in ("", "order=worst", "search=d4999", "condition=seized", "order=worst&limit=50"):
            yield _asked(client, f"the wall, first page, {words or 'by name'}", f"/api/v1/wall?tenant=bench&{words}")
        base = "/api/v1/tenants/bench"
        yield _asked(client, "domains, a page of 100", f"{base}/domains")
        yield _asked(client, "domains, search", f"{base}/domains?search=d4999")
        yield _asked(client, "a domain's readings of 30 days", f"{base}/readings?name=d77.example&pulls=heaviest")
        yield _asked(client, "the worklist", "/api/v1/worklist?tenant=bench")


def fill(bench: Bench, to: TenantAccess, number: int) -> list[int]:
    """Counters of all domains: one in fifty bounces a tenth of its mail. Larger providers have more of the domains."""
    tenant, today = to.id, NOW.date()

    def names(connection: Any) -> tuple[list[int], list[int], int, int]:
        values = {"origin": "added", "selectors": [], "created_at": NOW}
        ids: dict[str, int] = {}
        for start in range(0, number, 5000):
            part = {f"d{n}.example" for n in range(start, min(start + 5000, number))}
            ids |= intern(connection, t.sending_domain, tenant, part, **values)
        stream = intern(connection, t.stream, tenant, {"s"})["s"]
        relay = intern(connection, t.relay, tenant, {"r"})["r"]
        found = providers.provider_ids(connection, {f"p{n}.example" for n in range(_PROVIDERS)})
        return sorted(ids.values()), sorted(found.values()), stream, relay

    domains, found, stream, relay = bench.context.store.transaction(names)
    first, lowest = today - timedelta(days=_DAYS - 1), found[0]
    began = time.perf_counter()
    for start in range(0, len(domains), 500):
        part = ", ".join(map(str, domains[start : start + 500]))
        # The k-th provider of a domain: the first ones are those of everybody, the last ones any.
        place = f"{lowest} + IF(k.seq < 5, k.seq, MOD(d.id * 7 + k.seq * k.seq * 31, {_PROVIDERS}))"
        with bench.context.store.engine.begin() as connection:
            connection.exec_driver_sql(
                f"INSERT INTO flow_day (tenant_id, domain_id, day, provider_id, stream_id, relay_id, kind, cause, "
                f"permanence, n) SELECT {tenant}, d.id, DATE_ADD('{first}', INTERVAL y.seq DAY), {place} AS p, "
                f"{stream}, {relay}, w.kind, w.cause, w.permanence, "
                "SUM(IF(w.kind = 1, 40 + (y.seq * 7 + d.id) MOD 23, IF(d.id MOD 50 = 0, 6, d.id MOD 3 = 0))) AS m "
                f"FROM sending_domain d JOIN seq_0_to_{_DAYS - 1} y JOIN seq_0_to_{_EACH - 1} k "
                "JOIN (SELECT 1 AS kind, 0 AS cause, 0 AS permanence UNION ALL SELECT 3, 1, 2) w "
                f"WHERE d.id IN ({part}) GROUP BY d.id, y.seq, p, w.kind, w.cause, w.permanence HAVING m > 0"
            )
        print(f"  {start + 500:,} domains, {time.perf_counter() - began:.0f} s", file=sys.stderr, flush=True)
    with bench.context.store.engine.begin() as connection:
        for what, column in ((1, "domain_id"), (2, "stream_id"), (3, "relay_id"), (5, "provider_id")):
            connection.exec_driver_sql(
                f"INSERT INTO flow_sum_day SELECT tenant_id, {what}, day, {column}, kind, SUM(n) FROM flow_day "
                f"WHERE tenant_id = {tenant} GROUP BY tenant_id, day, {column}, kind"
            )
    return domains


def compute_all(bench: Bench, tenant: TenantAccess, domains: list[int]) -> None:
    """Compute the readings of all domains, as the jobs of a new day do."""
    for start in range(0, len(domains), _AT_ONCE):
        compute(bench.context, tenant.id, 1, domains[start : start + _AT_ONCE])


def _many_tenants(bench: Bench) -> Iterator[Figure]:
    context = bench.context

    def add(connection: Any) -> int:
        account = accounts.add_account(connection, "m@d.example", "M", hash_password(_PASSWORD), NOW)
        for number in range(_TENANTS):
            id = accounts.add_tenant(connection, f"t{number}", f"Tenant {number}", NOW)
            accounts.grant(connection, account, id, Role.ADMIN)
        return account

    context.store.transaction(add)
    with context.store.engine.begin() as connection:
        connection.exec_driver_sql(
            "INSERT INTO sending_domain (tenant_id, name, origin, selectors, created_at) "
            f"SELECT id, CONCAT('mail.', slug, '.example'), 'added', '[]', '{NOW:%Y-%m-%d}' FROM tenant "
            "WHERE slug LIKE 't%%'"
        )
        connection.exec_driver_sql(
            "INSERT INTO flow_day (tenant_id, domain_id, day, provider_id, stream_id, relay_id, kind, cause, "
            "permanence, n) SELECT d.tenant_id, d.id, "
            f"DATE_SUB('{NOW.date()}', INTERVAL y.seq DAY), p.id, 1, 1, 1, 0, 0, 200 "
            "FROM sending_domain d JOIN tenant t ON t.id = d.tenant_id JOIN seq_0_to_29 y "
            "JOIN (SELECT id FROM mailbox_provider ORDER BY id DESC LIMIT 6) p WHERE t.slug LIKE 't%%'"
        )
        for what, column in ((1, "domain_id"), (5, "provider_id")):
            connection.exec_driver_sql(
                f"INSERT INTO flow_sum_day SELECT f.tenant_id, {what}, day, {column}, kind, SUM(n) FROM flow_day f "
                "JOIN tenant t ON t.id = f.tenant_id WHERE t.slug LIKE 't%%' GROUP BY f.tenant_id, day, "
                f"{column}, kind"
            )
    with service(bench) as url, httpx.Client(base_url=url, timeout=120) as client:

        def sign_in() -> None:
            client.post("/api/v1/session", json={"email": "m@d.example", "password": _PASSWORD}).raise_for_status()

        yield Figure(f"sign-in to {_TENANTS:,} tenants", _ms(middle_of(5, sign_in)), "-", None, "-")
        yield _asked(client, "who am I", "/api/v1/session")
        yield _asked(client, "the wall of all tenants, first page", "/api/v1/wall")
        yield _asked(client, "the wall of all tenants, lowest 50", "/api/v1/wall?order=worst&limit=50")
        yield _asked(client, "the worklist of all tenants", "/api/v1/worklist")
        yield _asked(client, "a tenant's domains", "/api/v1/tenants/t7/domains")
    context.memory.clear()

    def enqueue() -> None:
        items.ask_for_looks(context)

    yield _timed(f"detection of {_TENANTS:,} tenants enqueued", enqueue)
    waiting = context.store.transaction(lambda c: len(_jobs_waiting(c)))
    began = time.perf_counter()
    while work_once(context) and time.perf_counter() - began < 600:
        pass
    taken = time.perf_counter() - began
    left = context.store.transaction(lambda c: len(_jobs_waiting(c)))
    yield Figure(
        "jobs of detection done by one worker", f"{(waiting - left) / taken:,.0f}/s, {waiting - left:,} of {waiting:,} "
        f"in {taken:.0f} s", "-", None, "-"
    )  # fmt: skip


def _jobs_waiting(connection: Any) -> list[int]:
    """Return the ids of jobs of detection that wait."""
    return list(
        connection.exec_driver_sql("SELECT id FROM job WHERE kind = 'worklist' AND state = 'waiting'").scalars()
    )


def _asked(client: httpx.Client, name: str, path: str) -> Figure:
    size = len(client.get(path).raise_for_status().content)
    seconds = middle_of(5, lambda: client.get(path).raise_for_status())
    return Figure(name, f"{_ms(seconds)}, {size:,} octets", "-", None, "-")


def _ms(seconds: float) -> str:
    return f"{seconds * 1000:,.0f} ms"


def _timed(name: str, work: Callable[[], object]) -> Figure:
    began = time.perf_counter()
    with _memory() as most:
        work()
    return Figure(name, f"{time.perf_counter() - began:,.1f} s, {most():,.0f} MB more", "-", None, "-")


@contextmanager
def _memory() -> Iterator[Callable[[], float]]:
    """Give a function that returns the most memory of this process beyond that at the beginning, in MB."""
    over, peak, before = threading.Event(), [0.0], _resident()

    def watch() -> None:
        while not over.wait(0.05):
            peak[0] = max(peak[0], _resident() - before)

    thread = threading.Thread(target=watch)
    thread.start()
    try:
        yield lambda: peak[0]
    finally:
        over.set()
        thread.join()


def _resident() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4096 / 1e6
