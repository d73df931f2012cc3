"""Warm-up plans, where each is at each provider, what was decided, and the mail that counts against a plan."""

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from typing import Any, Unpack

from sqlalchemy import Connection, delete, func, insert, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.mailflow import Kind
from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal, run
from rust_gauge.store.columns import Document, Json, WarmupPlanColumns
from rust_gauge.store.counter_rows import CounterRows
from rust_gauge.store.driver import raw_rows
from rust_gauge.store.intake import TAKEN
from rust_gauge.store.placement_days import copies_of
from rust_gauge.store.values import value_of, values_of

_KEYS = 5_000  # in one question
RUNNING, PAUSED = "running", "paused"


@dataclass(frozen=True, slots=True)
class PlanRow:
    """A plan. `settings` has what the contract says of its steps, hours and shares."""

    id: int
    tenant_id: int
    name: str
    domain: str
    stream: str
    relay: str
    sending_ip: str
    move_from: str
    settings: Document
    starts_on: date
    judged_to: date
    state: str
    created_by: str
    created_at: datetime


@dataclass(frozen=True, slots=True)
class TrackRow:
    """Where a plan is at a provider (0: all others): the step, from 0 on, and since when."""

    plan_id: int
    provider_id: int
    share: float
    step: int
    since: date


@dataclass(frozen=True, slots=True)
class DayRow:
    """The step of a day at a provider, and what led to it."""

    plan_id: int
    provider_id: int
    day: date
    step: int
    per_day: int
    per_hour: int
    turn: str
    reasons: Json
    decided_by: str


# Plans


def add_plan(connection: Connection, **values: Unpack[WarmupPlanColumns]) -> int:
    """Add a plan; return its id. IntegrityError for a name that the tenant has."""
    key: Any = connection.execute(insert(t.warmup_plan).values(**values)).inserted_primary_key
    changes.note(connection, values["tenant_id"], "warmup")
    return int(key[0])


def list_plans(connection: Connection, tenant_id: int) -> list[PlanRow]:
    """Return a tenant's plans by name."""
    c = t.warmup_plan.c
    query = select(t.warmup_plan).where(c.tenant_id == tenant_id).order_by(c.name)
    return values_of(PlanRow, connection.execute(query))


def plans_of(connection: Connection, tenant_ids: Collection[int]) -> list[PlanRow]:
    """Return the plans of these tenants, by tenant and name."""
    c = t.warmup_plan.c
    query = select(t.warmup_plan).where(c.tenant_id.in_(list(tenant_ids))).order_by(c.tenant_id, c.name)
    return values_of(PlanRow, connection.execute(query))


def get_plan(connection: Connection, id: int, *, lock: bool = False) -> PlanRow | None:
    """Return a plan; None where there is none. `lock`: nobody else changes it before the transaction ends."""
    query = select(t.warmup_plan).where(t.warmup_plan.c.id == id)
    return value_of(PlanRow, connection.execute(query.with_for_update() if lock else query).first())


def update_plan(connection: Connection, id: int, /, **values: Unpack[WarmupPlanColumns]) -> None:
    """Change columns of a plan."""
    connection.execute(update(t.warmup_plan).where(t.warmup_plan.c.id == id).values(**values))
    changes.note_of(connection, "warmup", id)


def delete_plan(connection: Connection, id: int) -> None:
    """Delete a plan with its days."""
    changes.note_of(connection, "warmup", id)
    connection.execute(delete(t.warmup_plan).where(t.warmup_plan.c.id == id))


def due_plans(connection: Connection, today: date) -> list[int]:
    """Return the ids of plans of all tenants that are not decided for today yet."""
    c = t.warmup_plan.c
    where = (c.state == RUNNING, c.judged_to < today, c.starts_on < today)
    return list(connection.scalars(select(c.id).where(*where).order_by(c.id)))


# Tracks and days


def tracks_of(connection: Connection, plan_ids: Collection[int]) -> dict[int, list[TrackRow]]:
    """Return where plans are, by plan: the largest provider first, all others last."""
    c = t.warmup_track.c
    query = select(t.warmup_track).where(c.plan_id.in_(list(plan_ids)))
    out: dict[int, list[TrackRow]] = defaultdict(list)
    for row in values_of(TrackRow, connection.execute(query)):
        out[row.plan_id].append(row)
    for rows in out.values():
        rows.sort(key=lambda row: (row.provider_id == 0, -row.share, row.provider_id))
    return out


def put_tracks(connection: Connection, tracks: Iterable[TrackRow]) -> None:
    """Write where a plan is, instead of what is there."""
    for track in tracks:
        new = upsert(t.warmup_track).values(
            plan_id=track.plan_id, provider_id=track.provider_id, share=track.share, step=track.step, since=track.since
        )
        same = {name: new.inserted[name] for name in ("share", "step", "since")}
        connection.execute(new.on_duplicate_key_update(**same))


def put_days(connection: Connection, days: Iterable[DayRow]) -> None:
    """Write the steps of days, instead of what is there."""
    plans: set[int] = set()
    for day in days:
        plans.add(day.plan_id)
        values = {name: getattr(day, name) for name in DayRow.__slots__}
        new = upsert(t.warmup_day).values(**values)
        same = {name: new.inserted[name] for name in values if name not in ("plan_id", "provider_id", "day")}
        connection.execute(new.on_duplicate_key_update(**same))
    for plan_id in plans:
        changes.note_of(connection, "warmup", plan_id)


def newest_days(connection: Connection, plan_ids: Collection[int], today: date) -> dict[tuple[int, int], DayRow]:
    """Return by plan and provider the newest day up to today."""
    c = t.warmup_day.c
    newest = (
        select(c.plan_id, c.provider_id, func.max(c.day).label("day"))
        .where(c.plan_id.in_(list(plan_ids)), c.day <= today)
        .group_by(c.plan_id, c.provider_id)
        .subquery()
    )
    n = newest.c
    query = select(t.warmup_day).join(
        newest, (n.plan_id == c.plan_id) & (n.provider_id == c.provider_id) & (n.day == c.day)
    )
    return {(row.plan_id, row.provider_id): row for row in values_of(DayRow, connection.execute(query))}


def days_between(connection: Connection, plan_id: int, first: date, last: date) -> list[DayRow]:
    """Return a plan's days, oldest first."""
    c = t.warmup_day.c
    query = select(t.warmup_day).where(c.plan_id == plan_id, c.day.between(first, last)).order_by(c.day, c.provider_id)
    return values_of(DayRow, connection.execute(query))


@dataclass(frozen=True, slots=True)
class StepRow:
    """The first day of a step (from 0 on) of a plan at a provider (0: all others). `before`: None for the first."""

    plan: str
    domain: str
    provider_id: int
    day: date
    step: int
    before: int | None


def steps_between(connection: Connection, tenant_id: int, first: date, last: date) -> list[StepRow]:
    """Return when the plans of a tenant went to another step, oldest first."""
    c, p = t.warmup_day.c, t.warmup_plan.c
    before = func.lag(c.step).over(partition_by=(c.plan_id, c.provider_id), order_by=c.day)
    days = (
        select(p.name.label("plan"), p.domain, c.provider_id, c.day, c.step, before.label("before"))
        .join(t.warmup_plan, p.id == c.plan_id)
        .where(p.tenant_id == tenant_id, c.day <= last)
        .subquery()
    )
    d = days.c
    changed = d.before.is_(None) | (d.before != d.step)
    query = select(days).where(d.day >= first, changed).order_by(d.day, d.plan, d.provider_id == 0, d.provider_id)
    return values_of(StepRow, connection.execute(query))


@dataclass(frozen=True, slots=True)
class Course:
    """The ceilings of a plan by provider (0: all others) and day. `name`: the subject that the plan names."""

    name: str
    providers: Mapping[int, Mapping[date, int]]

    def line(self, provider_id: int, first: date, length: int, still: timedelta) -> list[int]:
        """Return a ceiling for each of so many days, 0 where none is in force. One holds on for `still` at most."""
        days = sorted(self.providers.get(provider_id, {}).items())
        out = [0] * length
        for at, (day, ceiling) in enumerate(days):
            end = min(days[at + 1][0] if at + 1 < len(days) else date.max, day + still)
            begin = max(0, (day - first).days)
            for number in range(begin, min(length, (end - first).days)):
                out[number] = ceiling
        return out


def foreseen(connection: Connection, tenant_id: int, column: str, since: date) -> list[Course]:
    """Return the ceilings of plans since a day, of those that name a domain, stream, relay or sending_ip (`column`)."""
    c, p = t.warmup_day.c, t.warmup_plan.c
    name = p[column]
    query = (
        select(p.id, name.label("name"), c.provider_id, c.day, c.per_day)
        .join(t.warmup_plan, p.id == c.plan_id)
        .where(p.tenant_id == tenant_id, name != "", c.day >= since)
    )
    found: dict[tuple[int, str], dict[int, dict[date, int]]] = defaultdict(lambda: defaultdict(dict))
    for row in connection.execute(query):
        found[row.id, row.name][row.provider_id][row.day] = row.per_day
    return [Course(name, providers) for (_, name), providers in found.items()]


# Mail


def counters_of(connection: Connection, plan: PlanRow, first: date, last: date) -> CounterRows:
    """Return the counters of a plan's mail in the form of the counters of readings, with test copies beside them.

    The subject is always 0.
    """
    where = _where(connection, plan)
    if where is None:
        return CounterRows.of(())
    table = "flow_label_day" if plan.sending_ip else "flow_day"
    sql = (
        f"SELECT 0, provider_id, DATEDIFF(day, {literal(first)}), kind, cause, permanence, CAST(SUM(n) AS UNSIGNED) "
        f"FROM {table} WHERE {where} AND day BETWEEN {literal(first)} AND {literal(last)} "
        "GROUP BY provider_id, day, kind, cause, permanence"
    )
    rows = CounterRows.of(raw_rows(connection, sql))
    if plan.sending_ip:
        return rows
    names = {"domain": plan.domain, "stream": plan.stream, "relay": plan.relay}
    return rows.and_also(copies_of(connection, plan.tenant_id, names, first, last))


@dataclass(frozen=True, slots=True)
class Sent:
    """What was sent of a plan's mail by provider: today, and in the present hour."""

    today: Mapping[int, int]
    this_hour: Mapping[int, int]


def sent_now(connection: Connection, plan: PlanRow, now: datetime) -> Sent:
    """Return what events say was sent. Of an address plan hours are not counted."""
    where = _where(connection, plan)
    if where is None:
        return Sent({}, {})
    midnight, hour = datetime.combine(now.date(), time()), _naive(now).replace(minute=0, second=0, microsecond=0)
    kinds = f"kind IN ({', '.join(map(str, TAKEN))})"
    if plan.sending_ip:
        sql = (
            f"SELECT provider_id, 0, kind, CAST(SUM(n) AS UNSIGNED) FROM flow_label_day WHERE {where} "
            f"AND day = {literal(now.date())} AND {kinds} GROUP BY provider_id, kind"
        )
    else:
        sql = (
            f"SELECT provider_id, hour = {literal(hour)}, kind, CAST(SUM(n) AS UNSIGNED) FROM flow_hour WHERE {where} "
            f"AND hour >= {literal(midnight)} AND {kinds} GROUP BY 1, 2, 3"
        )
    parts: dict[tuple[int, int], dict[int, int]] = defaultdict(dict)
    for provider_id, is_now, kind, n in raw_rows(connection, sql):
        parts[int(provider_id), int(is_now)][int(kind)] = int(n)
    today: dict[int, int] = defaultdict(int)
    for (provider_id, _), of in parts.items():
        today[provider_id] += taken(of)
    return Sent(today, {provider_id: taken(of) for (provider_id, is_now), of in parts.items() if is_now})


def taken(by_kind: Mapping[int, int]) -> int:
    """Return what was sent, by counts: what its source says it accepted, or what reached a provider if that is more."""
    accepted, delivered, bounced, returned = (by_kind.get(kind, 0) for kind in TAKEN)
    return max(accepted, delivered + bounced - returned)


def mail_by_provider(connection: Connection, plan: PlanRow, first: date, last: date) -> dict[int, int]:
    """Return what was sent by provider in days."""
    rows = counters_of(connection, plan, first, last)
    kinds: dict[int, dict[int, int]] = defaultdict(lambda: defaultdict(int))
    for provider_id, kind, n in zip(rows.provider.tolist(), rows.kind.tolist(), rows.n.tolist(), strict=True):
        kinds[provider_id][kind] += n
    return {provider_id: sent for provider_id, of in kinds.items() if (sent := taken(of))}


def engaged_days(connection: Connection, tenant_id: int, keys: Collection[bytes], since: datetime) -> dict[bytes, date]:
    """Return the day of the newest open or click of recipients, by their key; those without one are missing."""
    out: dict[bytes, date] = {}
    kinds = f"{Kind.OPENED.number}, {Kind.CLICKED.number}"
    wanted = list(keys)
    for start in range(0, len(wanted), _KEYS):
        listed = ",".join([f"(x'{key.hex()}')" for key in wanted[start : start + _KEYS]])
        sql = (
            f"WITH asked (k) AS (VALUES {listed}) SELECT k, MAX(e.occurred_at) AS at "
            "FROM asked STRAIGHT_JOIN event AS e FORCE INDEX (event_recipient) "
            f"ON e.tenant_id = {tenant_id} AND e.recipient_key = k WHERE e.kind IN ({kinds}) "
            f"AND e.occurred_at >= {literal(_naive(since))} GROUP BY k"
        )
        out |= {bytes(row.k): row.at.date() for row in run(connection, sql)}
    return out


def _where(connection: Connection, plan: PlanRow) -> str | None:
    """Return which counters are of a plan's mail; None where no mail of it was ever seen."""
    wanted = {"domain_id": (t.sending_domain, plan.domain), "stream_id": (t.stream, plan.stream),
              "relay_id": (t.relay, plan.relay)}  # fmt: skip
    parts = [f"tenant_id = {plan.tenant_id}"]
    for column, (table, name) in wanted.items():
        if not name:
            continue
        id = connection.scalar(select(table.c.id).where(table.c.tenant_id == plan.tenant_id, table.c.name == name))
        if id is None:
            return None
        parts.append(f"{column} = {id}")
    if plan.sending_ip:
        c = t.label.c
        of = select(c.id).where(c.tenant_id == plan.tenant_id, c.what == 0, c.name == plan.sending_ip)
        id = connection.scalar(of)
        return None if id is None else " AND ".join([*(p for p in parts if "domain" in p or "tenant" in p),
                                                     f"label_id = {id}"])  # fmt: skip
    if not plan.domain:  # the key of the counters begins with the domain
        d = t.sending_domain.c
        domains = connection.scalars(select(d.id).where(d.tenant_id == plan.tenant_id))
        parts.append(f"domain_id IN ({', '.join(map(str, domains)) or '0'})")
    return " AND ".join(parts)


# Clearance


def cleared_now(connection: Connection, plan_ids: Collection[int], now: datetime) -> dict[int, Sent]:
    """Return by plan what clearance let go by provider: today, and in the present hour."""
    listed = ", ".join(map(str, plan_ids)) or "0"
    midnight, hour = datetime.combine(now.date(), time()), _naive(now).replace(minute=0, second=0, microsecond=0)
    rows = raw_rows(
        connection,
        "SELECT plan_id, provider_id, CAST(SUM(n) AS UNSIGNED), "
        f"CAST(SUM(IF(hour = {literal(hour)}, n, 0)) AS UNSIGNED) FROM warmup_cleared "
        f"WHERE plan_id IN ({listed}) AND hour >= {literal(midnight)} GROUP BY 1, 2",
    )
    today: dict[int, dict[int, int]] = defaultdict(dict)
    this_hour: dict[int, dict[int, int]] = defaultdict(dict)
    for plan_id, provider_id, day, of_hour in rows:
        today[int(plan_id)][int(provider_id)] = int(day)
        this_hour[int(plan_id)][int(provider_id)] = int(of_hour)
    return {id: Sent(today.get(id, {}), this_hour.get(id, {})) for id in plan_ids}


def count_cleared(connection: Connection, plan_id: int, hour: datetime, counts: Mapping[int, int]) -> None:
    """Count messages by provider that clearance let go, and forget those of days ago."""
    for provider_id, n in sorted(counts.items()):
        c = t.warmup_cleared.c
        new = upsert(t.warmup_cleared).values(plan_id=plan_id, provider_id=provider_id, hour=_naive(hour), n=n)
        connection.execute(new.on_duplicate_key_update(n=c.n + n))


def forget_cleared(connection: Connection, before: datetime) -> None:
    """Forget what was let go before a time."""
    connection.execute(delete(t.warmup_cleared).where(t.warmup_cleared.c.hour < _naive(before)))


def _naive(at: datetime) -> datetime:
    return at.astimezone(UTC).replace(tzinfo=None)
