"""A year of placement: 10,000 runs with 200 seeds each, listed, charted, read, counted and deleted."""

import os
from collections.abc import Iterator
from datetime import timedelta

from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.service.placement import history, runs
from rust_gauge.store import placement, placement_days
from rust_gauge.store import tables as t
from rust_gauge.store.events import intern
from rust_gauge.store.providers import provider_ids
from rust_gauge.store.seeds import add_outlet

MEMORY = "4G"
RUNS, SEEDS, PROVIDERS, DAYS = int(os.environ.get("BENCH_RUNS", "10000")), 200, 10, 365


def run(bench: Bench) -> Iterator[Figure]:
    context, tenant = bench.context, bench.tenant
    _fill(bench)
    newest = runs.list_runs(context, tenant, None, 1).items[0].id
    today = NOW.date()
    copies = f"{RUNS:,} runs × {SEEDS} seeds"
    for name, wish, work in (
        (f"a page of 15 of {copies}", "50 ms", lambda: runs.list_runs(context, tenant, None, 15)),
        ("the same, of 100", "100 ms", lambda: runs.list_runs(context, tenant, None, 100)),
        (f"one run with its {SEEDS} copies", "100 ms", lambda: runs.get_run(context, tenant, newest)),
        ("charted: 14 days, by run", "500 ms", lambda: history.placement_history(context, tenant, today, 14, "")),
        ("charted: 90 days, by day", "500 ms", lambda: history.placement_history(context, tenant, today, 90, "")),
        ("charted: 365 days, by day", "500 ms", lambda: history.placement_history(context, tenant, today, 365, "")),
        ("charted: 365 days, one outlet", "500 ms",
         lambda: history.placement_history(context, tenant, today, 365, "driftline")),
    ):  # fmt: skip
        yield Figure(name, f"{middle_of(5, work) * 1000:.0f} ms", "-", None, wish)
    since = today - timedelta(days=400)
    seconds = middle_of(5, lambda: context.store.transaction(lambda c: placement_days.counters(c, tenant.id, 1, since)))
    yield Figure("what readings count of it", f"{seconds * 1000:.0f} ms", "-", None, "100 ms")
    before = NOW - timedelta(days=DAYS - 30)
    seconds = middle_of(1, lambda: context.store.transaction(lambda c: placement.delete_old(c, tenant.id, before, 200)))
    yield Figure("200 runs deleted with their copies", f"{seconds:.1f} s", "-", None, "5 s")


def _fill(bench: Bench) -> None:
    """Write rows as runs leave them."""
    tenant = bench.tenant.id
    values = {
        "tenant_id": tenant, "from_name": "", "from_address": "", "mail_from": "b@d.example", "relay": "", "stream": "",
        "extra": [], "host": "h", "security": "none", "login_user": "", "password": "", "checked_at": None,
        "problem": "", "problem_text": "", "problem_remedy": "", "created_at": NOW,
    }  # fmt: skip
    with bench.context.store.engine.begin() as connection:
        domain = {"origin": "added", "selectors": [], "created_at": NOW}
        intern(connection, t.sending_domain, tenant, {"d.example"}, **domain)
        provider_ids(connection, {f"p{n}.example" for n in range(PROVIDERS)})
        for name in ("driftline", "cobble"):
            add_outlet(connection, name=name, port=587, **values)  # type: ignore[arg-type]
        paths = [placement.path_id(connection, tenant, name, "d.example", "", "") for name in ("driftline", "cobble")]
        at = f"DATE_SUB('{NOW:%Y-%m-%d %H:%M:%S}', INTERVAL ({RUNS} - seq) * {DAYS * 1440 // RUNS} MINUTE)"
        connection.exec_driver_sql(
            "INSERT INTO placement_run (tenant_id, outlet_id, outlet_name, title, address_key, state, keep_custom, "
            "plan, wait_minutes, subject, series, header_from, size, mark, error, created_by, created_at, started_at, "
            "ended_at, path_id, schedule_id, why) "
            f"SELECT {tenant}, NULL, IF(seq MOD 2, 'driftline', 'cobble'), '', CONCAT('k', seq), 'done', 1, '{{}}', "
            f"60, 'This week', 'This week', 'a@d.example', 20000, 88, '', 'bench', {at}, {at}, {at}, "
            f"IF(seq MOD 2, {paths[0]}, {paths[1]}), NULL, 'on time' FROM seq_1_to_{RUNS}"
        )
    outcome = f"IF((r.id * 7919 + s.seq * 104729) MOD 100 < IF(s.seq MOD {PROVIDERS} = 3, 60, 90), 'inbox', 'spam')"
    for start in range(0, RUNS, 500):
        with bench.context.store.engine.begin() as connection:
            connection.exec_driver_sql(
                "INSERT INTO placement_copy (tenant_id, run_id, address, provider, mark, outcome, folder, reply, "
                "problem, sent_at, arrived_at, looked_at, arrival) "
                f"SELECT {tenant}, r.id, CONCAT('s', s.seq, '@p', s.seq MOD {PROVIDERS}, '.example'), "
                f"CONCAT('p', s.seq MOD {PROVIDERS}, '.example'), CONCAT(LPAD(r.id, 10, '0'), LPAD(s.seq, 10, '0')), "
                f"{outcome}, 'INBOX', '250 2.0.0 Queued', '', r.started_at, r.started_at, r.started_at, "
                '\'{"hops": [], "verified": [], "changes": []}\' '
                f"FROM placement_run AS r JOIN seq_1_to_{SEEDS} AS s WHERE r.id > {start} AND r.id <= {start + 500}"
            )
    with bench.context.store.engine.begin() as connection:
        connection.exec_driver_sql(
            "INSERT INTO placement_count (run_id, provider, outcome, copies) "
            "SELECT run_id, provider, outcome, COUNT(*) FROM placement_copy GROUP BY run_id, provider, outcome"
        )
        connection.exec_driver_sql(
            "INSERT INTO placement_day (path_id, day, provider, outcome, copies) "
            "SELECT r.path_id, DATE(r.started_at), c.provider, c.outcome, SUM(c.copies) FROM placement_run AS r "
            "JOIN placement_count AS c ON c.run_id = r.id GROUP BY 1, 2, 3, 4"
        )
