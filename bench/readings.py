"""Readings of a domain with 20 providers over 400 days, against reading the same counters from MariaDB."""

from datetime import timedelta

from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.service.readings import compute_readings
from rust_gauge.store import flow, providers
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows
from rust_gauge.store.events import intern


def run(bench: Bench) -> list[Figure]:
    store, today = bench.context.store, NOW.date()

    def fill(connection) -> int:  # type: ignore[no-untyped-def]
        values = {"origin": "added", "selectors": [], "created_at": NOW}
        domain = intern(connection, t.sending_domain, bench.tenant.id, {"wide.example"}, **values)["wide.example"]
        stream = intern(connection, t.stream, bench.tenant.id, {""})[""]
        relay = intern(connection, t.relay, bench.tenant.id, {""})[""]
        ids = providers.provider_ids(connection, {f"p{n}.example" for n in range(20)})
        for n, id in enumerate(ids.values()):
            providers.set_label(connection, bench.tenant.id, id, f"P{n}")
            rows = []
            for back in range(400):
                day = today - timedelta(days=back)
                head = (bench.tenant.id, domain, day, id, stream, relay)
                rows += [(*head, 1, 0, 0, 900), (*head, 3, 1, 2, 7), (*head, 4, 0, 0, 1)]
            insert_rows(connection, "INSERT INTO flow_day VALUES", rows)
        return domain

    domain = store.transaction(fill)
    floor = middle_of(
        5, lambda: store.transaction(lambda c: flow.day_lines(c, bench.tenant.id, domain, today - timedelta(days=400)))
    )
    ours = middle_of(3, lambda: compute_readings(bench.context, bench.tenant.id, domain))
    return [
        Figure(
            "readings, 1 domain × 20 providers × 400 days, computed and stored",
            f"{ours * 1000:.0f} ms",
            f"{floor * 1000:.0f} ms reading the counters",
            ours / floor,
            "5",
        )
    ]
