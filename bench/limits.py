"""Clearance by a relay with limits that hold mail back, against the same without: 100,000 addresses, and one."""

from collections.abc import Iterator
from functools import partial

from bench.clearance import by_turns
from bench.world import NOW, Bench, Figure
from rust_gauge.contract.relays import RelayDescription, RelayLimit
from rust_gauge.contract.suppression import Sending
from rust_gauge.service.clearance.answers import Question
from rust_gauge.service.clearance.clearance import clear
from rust_gauge.service.domains.relays import set_relay
from rust_gauge.store import providers
from rust_gauge.store import tables as t
from rust_gauge.store.events import intern

DOMAINS, STREAMS, HOURS = 500, 5, 48


def run(bench: Bench) -> Iterator[Figure]:
    fill(bench)
    texts = [f"someone{n}@r{n % 40}.example" for n in range(100_000)]
    for name, asked, times in (("100,000 addresses", texts, 5), ("one address", texts[:1], 51)):
        for purpose in (None, Sending(domain="d1.example")):

            def ask(relay: str, asked: list[str] = asked, purpose: Sending | None = purpose) -> object:
                return clear(bench.context, bench.tenant, asked, Question("s1", None, relay), purpose)

            taken = by_turns(times, {relay: partial(ask, relay) for relay in ("limited", "free")})
            ours, floor = taken["limited"], taken["free"]
            counted = "counted for sending, " if purpose else ""
            yield Figure(
                f"clearance of {name}, {counted}two limits of a relay of {DOMAINS} domains", f"{ours * 1000:.1f} ms",
                f"{floor * 1000:.1f} ms without limits", ours / floor, "1.5",
            )  # fmt: skip


def fill(bench: Bench) -> None:
    """Counters of two days: a relay that many domains send by."""
    tenant = bench.tenant.id
    limits = [RelayLimit(per_hour=10_000_000, per_day=100_000_000, hold_back=True)]
    for name, those in (("limited", limits), ("free", [])):
        set_relay(bench.context, bench.tenant, name, RelayDescription(limits=those))
    with bench.context.store.engine.begin() as connection:
        values = {"origin": "added", "selectors": [], "created_at": NOW}
        names = {f"d{n}.example" for n in range(DOMAINS)}
        domains = intern(connection, t.sending_domain, tenant, names, **values).values()
        streams = intern(connection, t.stream, tenant, {f"s{n}" for n in range(STREAMS)}).values()
        relays = intern(connection, t.relay, tenant, {"limited", "free"})
        ids = providers.provider_ids(connection, {f"p{n}.example" for n in range(6)}).values()
        listed = {
            "d": domains, "s": streams, "r": relays.values(), "p": ids, "k": (1, 3),
        }  # fmt: skip
        joined = ", ".join(
            f"({' UNION ALL '.join(f'SELECT {id} AS {name}' for id in those)}) AS t{name}"
            for name, those in listed.items()
        )
        connection.exec_driver_sql(
            "INSERT INTO flow_hour (tenant_id, domain_id, hour, provider_id, stream_id, relay_id, kind, cause, "
            f"permanence, n) SELECT {tenant}, d, DATE_SUB('{NOW:%Y-%m-%d %H:00:00}', INTERVAL seq HOUR), p, s, r, k, "
            f"IF(k = 3, 1, 0), IF(k = 3, 2, 0), 20 FROM seq_0_to_{HOURS - 1}, {joined}"
        )
