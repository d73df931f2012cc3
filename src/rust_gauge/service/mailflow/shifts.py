"""Shifts: looked for whenever events came in, kept, told by webhook, and shown with the events behind them."""

from collections import Counter, defaultdict
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.flow import CauseRow, Rate, Shift, ShiftDetails, ShiftPart
from rust_gauge.core.mailflow import rate as core_rate
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.mailflow.shifts import BASE, HOURS_A_YEAR, WINDOW, Hour, find_shifts, threshold_of
from rust_gauge.core.mailflow.shifts import Shift as CoreShift
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.replies.causes import SENDER_CAUSES
from rust_gauge.service.mailflow.events import list_events
from rust_gauge.service.mailflow.retention import get_settings
from rust_gauge.service.providers.providers import Columns, columns_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.webhooks import webhooks
from rust_gauge.store import jobs
from rust_gauge.store import shifts as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.columns import ShiftColumns
from rust_gauge.store.jobs import Job
from rust_gauge.store.shifts import BehindRow, HourLine, ShiftRow
from rust_gauge.store.tables import OTHER_PROVIDERS

log = structlog.get_logger()
_RATES = ("permanent", "transient", "delayed", "unwanted", "complaints")
_AGAIN = timedelta(minutes=10)  # how often shifts that go on are looked at without new events
_TOLD = timedelta(days=1)  # shifts that began longer ago are news to nobody
_NEAR = timedelta(hours=6)  # two findings closer than this are the same shift, seen again with more mail
_WORDS = {
    "permanent": "permanent bounces", "transient": "transient bounces", "delayed": "delays",
    "unwanted": "reputation refusals", "complaints": "complaints",
}  # fmt: skip


def ask_for_open(context: Context) -> None:
    """Shifts that go on are looked at even when nothing comes in: that may be how they end."""
    now = context.clock()

    def write(connection: Connection) -> None:
        for tenant_id in store.tenants_with_open(connection, now - _AGAIN):
            jobs.enqueue(connection, "shifts", tenant_id, 0, now)

    context.store.transaction(write)


_Series = dict[tuple[str, int, str], list[Hour]]


def run_look(context: Context, job: Job) -> None:
    """The job: all series of a tenant, from counters alone."""
    now = context.clock()
    settings = get_settings(context, job.tenant_id)

    def read(connection: Connection) -> tuple[list[HourLine], Columns, int | None]:
        since = (now - BASE - WINDOW - timedelta(days=3)).replace(tzinfo=None)
        lines = store.hour_lines(connection, job.tenant_id, since)
        columns = columns_of(connection, job.tenant_id, now.date())
        return lines, columns, store.nameless_relay(connection, job.tenant_id)

    lines, columns, nameless = context.store.transaction(read)
    series = {
        key: hours for key, hours in _series_of(lines, columns.place, now).items() if key[:2] != ("relay", nameless)
    }
    threshold = threshold_of(settings.false_alarms_a_year, len(series))
    found = {key: find_shifts(hours, now, threshold) for key, hours in series.items()}
    context.store.transaction(lambda c: _keep(c, job.tenant_id, found, columns, now))


def _series_of(lines: list[HourLine], place: Callable[[int], int], now: datetime) -> _Series:
    """Hours by (what, id, rate)."""
    sums: dict[tuple[str, int], dict[datetime, Counter[str]]] = defaultdict(lambda: defaultdict(Counter))
    for line in lines:
        at, n = line.hour.replace(tzinfo=now.tzinfo), int(line.n)
        names = _names(Count.from_number(line.kind), Permanence.from_number(line.permanence), bool(line.ours))
        subjects = [("provider", place(line.provider_id)), ("relay", line.relay_id)]
        for subject in subjects:
            for name in names:
                sums[subject][at][name] += n
    out: _Series = {}
    for (what, id), hours in sums.items():
        if what == "provider" and id == OTHER_PROVIDERS:
            continue  # hundreds of them: what rises there is nobody's news
        ordered = sorted(hours.items())
        for name in _RATES:
            made = _hours(ordered, name)
            if any(hour.count for hour in made):
                out[what, id, name] = made
    return out


def _names(kind: Count, permanence: Permanence, ours: bool) -> list[str]:
    """The series that a counter is added to."""
    refusal = ["unwanted"] if ours else []
    if kind is Count.BOUNCED:
        return ["bounced", "permanent" if permanence is Permanence.PERMANENT else "transient", *refusal]
    if kind is Count.DELAYED:
        return ["delayed", *refusal]
    return [{Count.COMPLAINED: "complaints"}.get(kind, str(kind))]


def _hours(ordered: list[tuple[datetime, Counter[str]]], name: str) -> list[Hour]:
    return [Hour(at, counts[name], max(_total(counts, name), counts[name])) for at, counts in ordered]


def _total(counts: Counter[str], name: str) -> int:
    """Return the base of a rate: messages with a known outcome, and for delays those still waiting. Complaints are
    counted in the hour of the delivery that they are about, and against those that were delivered in it.
    """
    if name == "complaints":
        return counts["delivered"] - counts["returned"]
    known = counts["delivered"] + counts["bounced"] - counts["returned"]
    return known + (counts["delayed"] if name in ("delayed", "unwanted") else 0)


def _keep(
    connection: Connection, tenant_id: int, found: dict[tuple[str, int, str], list[CoreShift]], columns: Columns,
    now: datetime,
) -> None:  # fmt: skip
    """Write what was found beside what was known. One that late events explain away goes."""
    there: dict[tuple[str, int, str], list[ShiftRow]] = defaultdict(list)
    for row in store.list_shifts(connection, tenant_id, (now - WINDOW).replace(tzinfo=None)):
        there[row.what, row.subject_id, row.rate].append(row)
    for key in {*found, *there}:
        rows = list(there[key])
        for shift in found.get(key, ()):
            same = next((row for row in rows if _same(row, shift)), None)
            values: ShiftColumns = {
                "began_at": _plain(shift.began_at), "ended_at": _plain(shift.ended_at) if shift.ended_at else None,
                "usual": shift.usual, "count": shift.count, "total": shift.total, "seen_at": _plain(now),
                "strength": min(shift.strength, 300.0),
            }  # fmt: skip
            if same is None:
                what, subject_id, rate = key
                new: ShiftColumns = {
                    "tenant_id": tenant_id, "what": what, "subject_id": subject_id, "rate": rate,
                    "found_at": _plain(now), **values,
                }  # fmt: skip
                id = store.add_shift(connection, **new)
                if now - shift.began_at < _TOLD:
                    _tell(connection, tenant_id, id, "shift.found", columns, now)
                continue
            rows.remove(same)
            store.change_shift(connection, same.id, **values)
            if shift.ended_at and same.ended_at is None:
                _tell(connection, tenant_id, same.id, "shift.over", columns, now)
        for row in rows:
            if row.ended_at is None and row.began_at < (now - WINDOW).replace(tzinfo=None):
                store.change_shift(connection, row.id, ended_at=_plain(now), seen_at=_plain(now))  # usual by now
            elif row.ended_at is None:
                store.drop_shift(connection, row.id)


def _same(row: ShiftRow, shift: CoreShift) -> bool:
    end = row.ended_at or datetime.max
    ours = _plain(shift.ended_at) if shift.ended_at else datetime.max
    return bool(row.began_at - _NEAR <= ours and _plain(shift.began_at) - _NEAR <= end)


def _plain(time: datetime) -> datetime:
    return time.replace(tzinfo=None)


def _tell(connection: Connection, tenant_id: int, id: int, subject: str, columns: Columns, now: datetime) -> None:
    (row,) = store.list_shifts(connection, tenant_id, id=id)
    webhooks.tell(connection, tenant_id, subject, _show(row, columns).model_dump(mode="json"), now)


# Showing


def list_shifts(context: Context, tenant: TenantAccess, days: int) -> list[Shift]:
    """Return the shifts that continue or ended within the last days, newest first."""
    now = context.clock()

    def read(connection: Connection) -> list[Shift]:
        columns = columns_of(connection, tenant.id, now.date())
        rows = store.list_shifts(connection, tenant.id, _plain(now - timedelta(days=days)))
        return [_show(row, columns) for row in rows]

    return context.store.read(read)


def _show(row: ShiftRow, columns: Columns) -> Shift:
    name = row.provider if row.what == "provider" else row.relay
    label = columns.label(row.subject_id) if row.what == "provider" and row.subject_id in columns.names else name or ""
    seen = core_rate(row.count, row.total)
    assert seen is not None
    return Shift(
        id=row.id, what=row.what, name=name, label=label, rate=row.rate, began_at=row.began_at, found_at=row.found_at,
        ended_at=row.ended_at, usual=row.usual,
        seen=Rate(value=seen.value, low=seen.low, high=seen.high, count=seen.count, total=seen.total),
        chance_years=10 ** min(row.strength, 15.0) / HOURS_A_YEAR,
        summary=_said(row, label, seen.value),
    )  # fmt: skip


def _said(row: ShiftRow, label: str, value: float) -> str:
    where = f"at {label}" if row.what == "provider" else f"through {label}"
    went = f"{_percent(value)}, usually {_percent(row.usual)}"
    when = (
        f"since {row.began_at:%d %b %H:%M}"
        if row.ended_at is None
        else f"from {row.began_at:%d %b %H:%M} to {row.ended_at:%d %b %H:%M}"
    )
    return f"More {_WORDS[row.rate]} {where} {when} UTC: {went}"


def _percent(share: float) -> str:
    return f"{share * 100:.2g} %" if share < 0.1 else f"{share * 100:.0f} %"


def show_shift(context: Context, tenant: TenantAccess, id: int) -> ShiftDetails:
    """A shift with its causes, where it came from, and some of its events."""
    now = context.clock()

    def read(connection: Connection) -> tuple[ShiftRow, Columns, list[BehindRow]]:
        rows = store.list_shifts(connection, tenant.id, id=id)
        if not rows:
            raise ServiceProblem(
                "not-found", f"{tenant.name} has no shift {id}", remedy="List the shifts to find its id"
            )
        row = rows[0]
        lines = store.behind(connection, row, row.began_at, row.ended_at or _plain(now))
        return row, columns_of(connection, tenant.id, now.date()), lines

    row, columns, lines = context.store.transaction(read)
    asked = _events_of(row, now)
    until: str | None = asked.get("until")
    found = list_events(
        context, tenant, recipient=None, message_id=None, domain=None, cursor=None, limit=5,
        kinds=asked["kind"], causes=asked.get("cause", ()), provider=asked.get("provider"), relay=asked.get("relay"),
        since=row.began_at.replace(tzinfo=now.tzinfo), until=datetime.fromisoformat(until) if until else None,
    )  # fmt: skip
    parts, causes = _parts(row, lines, columns)
    return ShiftDetails(shift=_show(row, columns), parts=parts, causes=causes, events=asked, examples=found.items)


_KINDS = {
    "permanent": ["bounced"], "transient": ["bounced"], "delayed": ["delayed"], "unwanted": ["bounced", "delayed"],
    "complaints": ["complained"],
}  # fmt: skip


def _events_of(row: ShiftRow, now: datetime) -> dict[str, Any]:
    """Return the query for the list of events."""
    asked: dict[str, Any] = {
        "kind": _KINDS[row.rate],
        row.what: row.provider if row.what == "provider" else row.relay,
        "since": row.began_at.isoformat() + "Z",
    }
    if row.ended_at and row.rate != "complaints":  # which come later than the mail that they are about
        asked["until"] = row.ended_at.isoformat() + "Z"
    if row.rate == "unwanted":
        asked["cause"] = sorted(str(cause) for cause in SENDER_CAUSES)
    return asked


def _parts(row: ShiftRow, lines: list[BehindRow], columns: Columns) -> tuple[list[ShiftPart], list[CauseRow]]:
    counts: dict[tuple[str, str], Counter[str]] = defaultdict(Counter)
    causes: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    for line in lines:
        cause, permanence = Cause.from_number(line.cause), Permanence.from_number(line.permanence)
        names = _names(Count.from_number(line.kind), permanence, cause in SENDER_CAUSES)
        other = (
            ("relay", line.relay)
            if row.what == "provider"
            else ("provider", columns.label(columns.place(line.provider_id)))
        )
        for part in (("domain", line.domain), ("stream", line.stream), other):
            for name in names:
                counts[part][name] += int(line.n)
        if row.rate in names and cause is not Cause.NONE:
            causes[str(cause)][permanence is Permanence.PERMANENT] += int(line.n)
    parts = [
        ShiftPart(what=what, name=name, count=n[row.rate], total=_total(n, row.rate))
        for (what, name), n in counts.items()
        if n[row.rate] and name
    ]
    parts.sort(key=lambda part: -part.count)
    ordered = sorted(causes.items(), key=lambda item: -sum(item[1]))
    return parts[:30], [CauseRow(cause=cause, transient=n[0], permanent=n[1]) for cause, n in ordered]
