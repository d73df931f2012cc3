"""Cost as work grows: intake, detection, readings, clearance and audit at 1, 10 and 100 times. Run on demand.

Each is done with a hundred times as much in the end, and given per unit: what stays level grows with its work. The
curves are drawn as docs/figures/growth.svg. BENCH_CHART is another place for it.
"""

import os
import sys
import time
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path

import httpx

from bench import audit, clearance, intake, large, scale
from bench.chart import Curve, draw
from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.core.roles import Role
from rust_gauge.service.worklist.items import detect
from rust_gauge.store import accounts, providers
from rust_gauge.store.accounts import TenantAccess

MEMORY = "4G"
TIMES = (1, 10, 100)
_EVENTS, _DOMAINS, _ADDRESSES, _AUDITS = 20_000, 100, 1_000, 10  # what each begins with
_CHART = Path(os.environ.get("BENCH_CHART", "docs/figures/growth.svg"))


def run(bench: Bench) -> Iterator[Figure]:
    """Yield each cost per unit at 1, 10 and 100 times; draw the curves at the end."""
    curves: list[Curve] = []
    for name, unit, first, measure in (
        ("audit", "ms a domain", _AUDITS, _audits),
        ("readings of a new day", "ms a domain", _DOMAINS, _readings),
        ("detection", "ms a domain", _DOMAINS, _detection),
        ("intake", "µs an event", _EVENTS, _intake),
        ("clearance of a list", "µs an address", _ADDRESSES, _clearance),
    ):
        costs = []
        for times, seconds in zip(TIMES, measure(bench), strict=True):
            number = first * times
            cost = seconds / number * (1000 if unit.startswith("ms") else 1e6)
            costs.append(cost)
            figure = f"{cost:,.1f} {unit}, {seconds:,.2f} s"
            yield Figure(
                f"{name}, {number:,}", figure, f"{costs[0]:,.1f} at {first:,}", cost / costs[0], "1 is in proportion"
            )
        curves.append(Curve(f"{name}, from {first:,} on, {unit}", costs))
    _CHART.parent.mkdir(exist_ok=True)
    _CHART.write_text(draw("Cost of a unit as work grows", [f"{times}×" for times in TIMES], curves))


def _audits(_: Bench) -> Iterator[float]:
    with audit.zones_served() as (names, port):
        for times in TIMES:
            yield middle_of(3, lambda n=_AUDITS * times: audit._audit_all(names[:n], port))  # type: ignore[misc]


_tenants: dict[int, tuple[TenantAccess, list[int]]] = {}  # those of readings, for detection


def _readings(bench: Bench) -> Iterator[float]:
    for times in TIMES:
        id = bench.context.store.transaction(
            lambda c, times=times: accounts.add_tenant(c, f"grown{times}", f"Grown {times}", NOW)  # type: ignore[misc]
        )
        tenant = TenantAccess(id, f"grown{times}", f"Grown {times}", Role.ADMIN)
        domains = large.fill(bench, tenant, _DOMAINS * times)
        _tenants[times] = tenant, domains
        yield _seconds(lambda: large.compute_all(bench, tenant, domains))  # noqa: B023 - called at once


def _detection(bench: Bench) -> Iterator[float]:
    for times in TIMES:
        tenant, _ = _tenants[times]
        detect(bench.context, tenant)  # the first opens the items; those after it are what happens all day
        yield middle_of(3, lambda: detect(bench.context, tenant))  # noqa: B023 - called at once


def _intake(bench: Bench) -> Iterator[float]:
    known = {f"r{n}.example": f"provider{n % 6}.example" for n in range(40)}
    later = dict.fromkeys(known, NOW + timedelta(days=900))
    bench.context.store.transaction(lambda c: providers.remember_domains(c, known, NOW, later))
    token = intake.token_of(bench)
    with intake.service(bench) as url:
        scale.send(url, token, 9_000_000, 9_000_000 + scale.PIECE, scale.today)  # nothing is slow for being the first
        sent, seconds = 0, 0.0
        for times in TIMES:
            end = _EVENTS * times
            for start in range(sent, end, scale.PIECE):
                rows = min(scale.PIECE, end - start)
                seconds += rows / scale.send(url, token, start, start + rows, scale.today)
            sent = end
            yield seconds


def _clearance(bench: Bench) -> Iterator[float]:
    clearance.fill(bench)
    token = intake.token_of(bench, "clear@d.example")
    headers = {"Authorization": f"Bearer {token}"}
    with intake.service(bench) as url, httpx.Client(base_url=url, headers=headers, timeout=120) as client:
        path = "/api/v1/tenants/bench/clearance"

        def ask(number: int) -> None:
            addresses = [f"held{n}@r{n % 40}.example" for n in range(number // 30)]
            addresses += [f"clear{n}@r{n % 40}.example" for n in range(number - len(addresses))]
            client.post(path, json={"addresses": addresses}).raise_for_status()

        for times in TIMES:
            yield middle_of(5, lambda n=_ADDRESSES * times: ask(n))  # type: ignore[misc]


def _seconds(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    print(f"  {time.perf_counter() - began:.1f} s", file=sys.stderr, flush=True)
    return time.perf_counter() - began
