"""Readings of a thousand domains at twenty providers over 400 days, against reading the same counters; the wall."""

import os
import time
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import httpx
import numpy as np
import pymysql

from bench.clearance import by_turns
from bench.intake import service, token_of
from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.service.readings.computation import compute, compute_readings, first_day
from rust_gauge.service.worklist.items import detect
from rust_gauge.store import providers, reading_counters
from rust_gauge.store import readings as store
from rust_gauge.store import tables as t
from rust_gauge.store.events import intern

MEMORY = "4G"
_DOMAINS = int(os.environ.get("BENCH_DOMAINS", "1000"))
_WALL = 500
_PROVIDERS, _DAYS = 20, int(os.environ.get("BENCH_DAYS", "400"))


def run(bench: Bench) -> Iterator[Figure]:
    _fill(bench)
    today = NOW.date()
    began = time.perf_counter()
    rows = _read(bench)
    floor = time.perf_counter() - began
    began = time.perf_counter()
    compute(bench.context, bench.tenant.id, 1)
    ours = time.perf_counter() - began
    yield Figure(
        f"readings of {_DOMAINS:,} domains × {_PROVIDERS} providers × {_DAYS} days, computed and stored",
        f"{ours:.0f} s", f"{floor:.0f} s reading the counters ({rows:,} rows)", ours / floor, "5",
    )  # fmt: skip
    names = bench.context.store.transaction(lambda c: store.names_of(c, bench.tenant.id, 1))
    one = sorted(names)[7]
    single = middle_of(5, lambda: compute_readings(bench.context, bench.tenant.id, one))
    part = middle_of(5, lambda: _counters(bench, [one]))
    yield Figure(
        f"one domain again, {_PROVIDERS} providers, {today:%Y-%m-%d}", f"{single * 1000:.0f} ms",
        f"{part * 1000:.0f} ms reading its counters", single / part, "-",
    )  # fmt: skip
    detect(bench.context, bench.tenant)
    seconds = middle_of(3, lambda: detect(bench.context, bench.tenant))
    yield Figure(
        f"a look for what is wrong over {_DOMAINS:,} domains, nearly all of which bounce too much",
        f"{seconds:.1f} s", "-", None, "-",
    )  # fmt: skip
    yield _wall(bench, sorted(names))


def _fill(bench: Bench) -> None:
    """Counters as a sender with some bounces, complaints and openings has them."""
    tenant, today = bench.tenant.id, NOW.date()

    def names(connection: Any) -> tuple[list[int], list[int], int, int]:
        values = {"origin": "added", "selectors": [], "created_at": NOW}
        wanted = {f"d{n}.example" for n in range(_DOMAINS)}
        domains = intern(connection, t.sending_domain, tenant, wanted, **values)
        stream = intern(connection, t.stream, tenant, {"s"})["s"]
        relay = intern(connection, t.relay, tenant, {"r"})["r"]
        ids = providers.provider_ids(connection, {f"p{n}.example" for n in range(_PROVIDERS)})
        for n, id in enumerate(ids.values()):
            providers.set_label(connection, tenant, id, f"P{n}")
        return sorted(domains.values()), sorted(ids.values()), stream, relay

    domains, ids, stream, relay = bench.context.store.transaction(names)
    listed = " UNION ALL ".join(f"SELECT {id} AS p" for id in ids)
    first = today - timedelta(days=_DAYS - 1)
    kinds = "SELECT 1 AS k, 0 AS c, 0 AS q, 900 AS n UNION ALL SELECT 3, 1, 2, 7 UNION ALL SELECT 6, 0, 0, 200"
    for domain in domains:
        with bench.context.store.engine.begin() as connection:
            connection.exec_driver_sql(
                f"INSERT INTO flow_day SELECT {tenant}, {domain}, DATE_ADD('{first}', INTERVAL seq DAY), p, {stream}, "
                f"{relay}, k, c, q, n + (seq * 7 + p * 13 + {domain}) MOD 31 "
                f"FROM seq_0_to_{_DAYS - 1}, ({listed}) AS a, ({kinds}) AS b"
            )

    with bench.context.store.engine.begin() as connection:
        for what, column in ((1, "domain_id"), (2, "stream_id"), (3, "relay_id"), (5, "provider_id")):
            connection.exec_driver_sql(
                f"INSERT INTO flow_sum_day SELECT tenant_id, {what}, day, {column}, kind, SUM(n) FROM flow_day "
                f"GROUP BY tenant_id, day, {column}, kind"
            )


def _counters(bench: Bench, ids: list[int]) -> Any:
    since = first_day(NOW.date())
    return bench.context.store.transaction(lambda c: reading_counters.counters(c, bench.tenant.id, 1, since, ids))


def _read(bench: Bench) -> int:
    """The same counters by the bare driver, into numpy, as many domains at a time as we take."""
    connection: Any = pymysql.connect(**_place(bench))
    domains = sorted(bench.context.store.transaction(lambda c: store.names_of(c, bench.tenant.id, 1)))
    count = 0
    for start in range(0, len(domains), 20):
        ids = ", ".join(map(str, domains[start : start + 20]))
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT domain_id, provider_id, DATEDIFF(day, '2025-01-01'), kind, cause, permanence, n FROM flow_day "
                f"WHERE tenant_id = {bench.tenant.id} AND domain_id IN ({ids})"
            )
            count += len(np.array(cursor.fetchall(), dtype=np.int64))
    connection.close()
    return count


def _place(bench: Bench) -> dict[str, Any]:
    url = bench.context.store.engine.url
    return {"host": url.host, "port": url.port, "user": url.username, "password": url.password,
            "database": url.database, "charset": "utf8mb4"}  # fmt: skip


def _wall(bench: Bench, domains: list[int]) -> Figure:
    """The wall over HTTP against the driver fetching the same rows."""
    rest = ", ".join(map(str, domains[_WALL:])) or "0"
    with bench.context.store.engine.begin() as connection:
        connection.exec_driver_sql(f"DELETE FROM reading_series WHERE subject_id IN ({rest})")
        connection.exec_driver_sql(f"DELETE FROM flow_sum_day WHERE what = 1 AND part_id IN ({rest})")
        connection.exec_driver_sql(f"DELETE FROM sending_domain WHERE id IN ({rest})")
    token = token_of(bench)
    sql = (
        "SELECT subject_id, provider_id, last_day, tenths, margin, mail, pulls, measures, RIGHT(trend, 14) "
        f"FROM reading_series WHERE tenant_id = {bench.tenant.id} AND kind = 1 AND provider_id > 2"
    )
    driver: Any = pymysql.connect(**_place(bench))

    def fetch() -> None:
        with driver.cursor() as cursor:
            cursor.execute(sql)
            if len(cursor.fetchall()) != min(_WALL, _DOMAINS) * _PROVIDERS:
                raise RuntimeError("the wrong rows were fetched")

    with (
        service(bench, ("bench.serve", "service")) as url,
        httpx.Client(base_url=url, headers={"Authorization": f"Bearer {token}"}, timeout=60) as client,
    ):

        def served() -> None:
            if len(client.get("/api/v1/wall?days=7").json()["rows"]) != min(_WALL, _DOMAINS):
                raise RuntimeError("the wall is not whole")

        times = by_turns(7, {"ours": served, "floor": fetch})
    driver.close()
    return Figure(
        f"the wall, {min(_WALL, _DOMAINS)} domains × {_PROVIDERS} providers, served and read",
        f"{times['ours'] * 1000:.0f} ms",
        f"{times['floor'] * 1000:.0f} ms the driver alone", times["ours"] / times["floor"], "3",
    )  # fmt: skip
