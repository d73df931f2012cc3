"""The demo that goes on: every event once, at its time, over the end of a day, and what was not taken is sent again."""

from datetime import UTC, date, datetime, timedelta

from rust_gauge.demo.generator import day_rows
from rust_gauge.demo.traffic import Traffic

ANCHOR = date(2026, 11, 20)


def keys(rows: list[dict[str, object]]) -> list[tuple[object, ...]]:
    return [(row["message_id"], row["kind"], row["time"], row.get("attempt")) for row in rows]


def test_what_happens_while_it_runs_is_what_a_later_start_would_load() -> None:
    since, until = datetime(2026, 11, 20, 20, tzinfo=UTC), datetime(2026, 11, 21, 7, tzinfo=UTC)
    traffic, sent = Traffic(ANCHOR, since), []
    now = since
    while now < until:
        now += timedelta(hours=1)
        for tenant, rows in traffic.due(now):
            if tenant == "halyard":
                sent += keys(rows)
            traffic.done(tenant, len(rows))
        assert all(datetime.fromisoformat(str(key[2])) <= now for key in sent)
    days = [ANCHOR + timedelta(days=n) for n in range(-3, 2)]
    every = [row for day in days for row in day_rows(day, ANCHOR, "halyard")]
    wanted = [row for row in every if since < datetime.fromisoformat(row["time"]) <= until]
    assert len(wanted) > 20
    assert sorted(map(str, sent)) == sorted(map(str, keys(wanted)))


def test_what_was_not_taken_is_due_again() -> None:
    since = datetime(2026, 11, 20, 8, tzinfo=UTC)
    traffic = Traffic(ANCHOR, since)
    now = since + timedelta(hours=2)
    first = {tenant: keys(rows) for tenant, rows in traffic.due(now)}
    again = {tenant: keys(rows) for tenant, rows in traffic.due(now)}
    assert first
    assert first == again
    traffic.done("marram", len(first["marram"]))
    assert "marram" not in dict(traffic.due(now))
