"""Placement by day: sums of copies by provider and outcome, for charts and readings."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from sqlalchemy import Connection, func, select

from rust_gauge.core.placement import JUDGED, Outcome
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal
from rust_gauge.store.counter_rows import CounterRows
from rust_gauge.store.driver import raw_rows

COPIES, ASIDE = 97, 98
"""Stand for kinds of counter: copies whose fate is known, and those of them in spam or lost."""
_SUBJECT = {1: ("sending_domain", "domain"), 2: ("stream", "stream"), 3: ("relay", "relay")}
_JUDGED = ", ".join(f"'{outcome}'" for outcome in sorted(JUDGED))
_ASIDE = ", ".join(f"'{outcome}'" for outcome in (Outcome.SPAM, Outcome.MISSING, Outcome.REFUSED))


@dataclass(frozen=True, slots=True)
class DayRow:
    """Copies to one provider that came to one outcome, of the runs of a day."""

    day: date
    provider: str
    outcome: str
    copies: int


def days_between(connection: Connection, tenant_id: int, first: date, last: date, outlet: str) -> list[DayRow]:
    """Return the sums of days, oldest first, through one outlet or (empty) all."""
    p = t.placement_path.c
    query = select(p.id).where(p.tenant_id == tenant_id)
    ids = connection.scalars(query.where(p.outlet == outlet) if outlet else query)
    rows = raw_rows(  # thousands, of which the driver need not make dates
        connection,
        f"SELECT DATEDIFF(day, {literal(first)}) AS d, provider, outcome, CAST(SUM(copies) AS SIGNED) "
        f"FROM placement_day WHERE path_id IN ({', '.join(map(str, ids)) or '0'}) AND day >= {literal(first)} "
        f"AND day <= {literal(last)} GROUP BY d, provider, outcome ORDER BY d",
    )
    return [
        DayRow(first + timedelta(days=int(day)), provider, outcome, int(copies))
        for day, provider, outcome, copies in rows
    ]


def counters(
    connection: Connection, tenant_id: int, kind: int, since: date, subject_ids: Sequence[int] = ()
) -> CounterRows:
    """Return copies in the form of the counters of readings, with COPIES and ASIDE as kinds. None by sending IP.

    Only providers that mail went to are known there; others have no reading either.
    """
    if kind not in _SUBJECT:
        return CounterRows.of(())
    table, column = _SUBJECT[kind]
    where = f"p.tenant_id = {tenant_id} AND d.day >= {literal(since)}"
    if subject_ids:
        where += f" AND s.id IN ({', '.join(map(str, subject_ids))})"
    parts = [
        f"SELECT s.id, m.id, DATEDIFF(d.day, {literal(since)}), {code}, 0, 0, CAST(SUM(d.copies) AS UNSIGNED) AS n "
        f"FROM placement_path AS p JOIN placement_day AS d ON d.path_id = p.id "
        f"JOIN {table} AS s ON s.tenant_id = p.tenant_id AND s.name = p.{column} "
        f"JOIN mailbox_provider AS m ON m.name = d.provider WHERE {where} AND d.outcome IN ({outcomes}) "
        "GROUP BY s.id, m.id, d.day HAVING n > 0"
        for code, outcomes in ((COPIES, _JUDGED), (ASIDE, _ASIDE))
    ]
    return CounterRows.of(raw_rows(connection, " UNION ALL ".join(parts)))


def copies_of(connection: Connection, tenant_id: int, names: Mapping[str, str], first: date, last: date) -> CounterRows:
    """Return copies of one path or several in the same form, its subject 0. `names`: domain, stream and relay of the
    outlet; an empty one is not asked of."""
    p, d, m = t.placement_path.c, t.placement_day.c, t.mailbox_provider.c
    rows: list[tuple[int, ...]] = []
    for code, outcomes in ((COPIES, sorted(JUDGED)), (ASIDE, [Outcome.SPAM, Outcome.MISSING, Outcome.REFUSED])):
        query = (
            select(m.id, func.datediff(d.day, first), func.sum(d.copies))
            .select_from(t.placement_path.join(t.placement_day, d.path_id == p.id))
            .join(t.mailbox_provider, m.name == d.provider)
            .where(p.tenant_id == tenant_id, d.day.between(first, last), d.outcome.in_([str(o) for o in outcomes]))
            .where(*(p[column] == name for column, name in names.items() if name))
            .group_by(m.id, d.day)
        )
        rows += [(0, id, day, code, 0, 0, int(n)) for id, day, n in connection.execute(query) if n > 0]
    return CounterRows.of(rows)
