"""The counters that readings are computed from, as arrays; nothing here is a rate yet."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from sqlalchemy import Connection, func, select

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.suppression import Scope, State
from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal, run
from rust_gauge.store.counter_rows import CounterRows, StreamRows
from rust_gauge.store.driver import raw_rows
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class NewAddress:
    """A sending address and the day of its first mail."""

    name: str
    day: date


@dataclass(frozen=True, slots=True)
class AuditFaults:
    """How many faults an audit found."""

    finished_at: datetime
    faults: int


_SUBJECT = {1: "domain_id", 2: "stream_id", 3: "relay_id", 4: "label_id"}


def counters(
    connection: Connection, tenant_id: int, kind: int, since: date, subject_ids: Sequence[int] = ()
) -> CounterRows:
    """Return counters of subjects since a day, of all subjects if none are named."""
    column, table = _SUBJECT[kind], "flow_label_day" if kind == 4 else "flow_day"
    where = f"tenant_id = {tenant_id} AND day >= {literal(since)}"
    if subject_ids:
        where += f" AND {column} IN ({', '.join(map(str, subject_ids))})"
    if kind != 4 and not (kind == 1 and subject_ids):
        where += f" AND {_of_domains(connection, tenant_id)}"
    if kind == 4:
        where += f" AND label_id IN (SELECT id FROM event_label WHERE tenant_id = {tenant_id} AND what = 0)"
    keys = f"{column}, provider_id, kind, cause, permanence"
    sql = (
        f"SELECT {keys}, GROUP_CONCAT(DATEDIFF(day, {literal(since)}), ',', n) FROM (SELECT {keys}, day, SUM(n) AS n "
        f"FROM {table} WHERE {where} GROUP BY {keys}, day) AS days GROUP BY {keys}"
    )
    return CounterRows.of_series(raw_rows(connection, sql))


HELD = 99  # stands for a kind of counter: mail to addresses that were held


def held_counters(
    connection: Connection, tenant_id: int, kind: int, since: date, subject_ids: Sequence[int] = ()
) -> CounterRows:
    """Mail to held addresses in the form of `counters`, with HELD as its kind. None by sending address."""
    if kind == 4:
        return CounterRows.of(())
    column = _SUBJECT[kind]
    where = f"tenant_id = {tenant_id} AND day >= {literal(since)}"
    if subject_ids:
        where += f" AND {column} IN ({', '.join(map(str, subject_ids))})"
    sql = (
        f"SELECT {column}, provider_id, DATEDIFF(day, {literal(since)}), {HELD}, 0, 0, CAST(SUM(n) AS UNSIGNED) "
        f"FROM held_mailed_day WHERE {where} GROUP BY {column}, provider_id, day"
    )
    return CounterRows.of(raw_rows(connection, sql))


def find_held_mailed(connection: Connection, tenant_id: int, first: date, last: date) -> int:
    """Count again, for these days, messages delivered or bounced that went to an address while it was held.

    An hour is allowed for, as what is under way cannot be called back. By the keys of events, so only for tenants that
    compare addresses in the usual way and in clear. Returns how many there were.
    """
    days = f"BETWEEN {literal(first)} AND {literal(last)}"
    before = run(connection, f"DELETE FROM held_mailed_day WHERE tenant_id = {tenant_id} AND day {days}").rowcount
    done = run(
        connection,
        "INSERT INTO held_mailed_day "
        "SELECT e.tenant_id, DATE(e.occurred_at), e.domain_id, e.provider_id, e.stream_id, e.relay_id, "
        "COUNT(DISTINCT e.message_key, e.recipient_key) FROM event AS e "
        "STRAIGHT_JOIN suppression_entry AS s FORCE INDEX (PRIMARY) "
        f"ON s.tenant_id = {tenant_id} AND s.address_key = e.recipient_key "
        f"AND s.state = {State.HELD.number} AND s.scope = {Scope.TENANT.number} "
        f"AND s.made_at < e.occurred_at - INTERVAL 1 HOUR WHERE e.tenant_id = {tenant_id} "
        f"AND e.kind IN ({Kind.DELIVERED.number}, {Kind.BOUNCED.number}) "
        f"AND e.occurred_at >= {literal(first)} AND e.occurred_at < {literal(last + timedelta(days=1))} "
        "GROUP BY 1, 2, 3, 4, 5, 6",
    )
    if before or done.rowcount:
        changes.note(connection, tenant_id, "events")
    return int(done.rowcount)


def stream_counters(connection: Connection, tenant_id: int, domain_id: int, first: date, last: date) -> CounterRows:
    """Return a domain's counters of some days by stream, in the form of `counters`; providers are left together."""
    sql = (
        f"SELECT stream_id, 0, DATEDIFF(day, {literal(first)}), kind, cause, permanence, CAST(SUM(n) AS UNSIGNED) "
        f"FROM flow_day WHERE tenant_id = {tenant_id} AND domain_id = {domain_id} "
        f"AND day BETWEEN {literal(first)} AND {literal(last)} GROUP BY stream_id, day, kind, cause, permanence"
    )
    return CounterRows.of(raw_rows(connection, sql))


def week_by_stream(
    connection: Connection, tenant_id: int, domain_ids: Sequence[int], first: date, last: date
) -> StreamRows:
    """Return sums of some days of these domains by stream."""
    listed = ", ".join(map(str, domain_ids)) or "0"
    sql = (
        f"SELECT domain_id, stream_id, IF(provider_id = {t.NO_MAIL_PROVIDER}, provider_id, 0) AS p, kind, cause, "
        "permanence, CAST(SUM(n) AS UNSIGNED) "
        f"FROM flow_day WHERE tenant_id = {tenant_id} AND domain_id IN ({listed}) "
        f"AND day BETWEEN {literal(first)} AND {literal(last)} "
        "GROUP BY domain_id, stream_id, p, kind, cause, permanence"
    )
    return StreamRows.of(raw_rows(connection, sql))


REPORTING = 1  # stands for a provider that sends complaint reports


def stream_sums(
    connection: Connection, tenant_id: int, relay_id: int, since: date, reporting: Sequence[int]
) -> CounterRows:
    """Return a relay's mail by stream, in the form of `counters`, with REPORTING for providers that report (else 0)."""
    listed = ", ".join(map(str, reporting)) or "0"
    sql = (
        f"SELECT stream_id, IF(provider_id IN ({listed}), {REPORTING}, 0) AS p, DATEDIFF(day, {literal(since)}), kind, "
        f"0, 0, CAST(SUM(n) AS UNSIGNED) FROM flow_day WHERE {_of_domains(connection, tenant_id)} "
        f"AND day >= {literal(since)} AND relay_id = {relay_id} GROUP BY stream_id, p, day, kind"
    )
    return CounterRows.of(raw_rows(connection, sql))


_TAKEN = f"({Count.DELIVERED.number}, {Count.BOUNCED.number}, {Count.RETURNED.number})"


def mail_sums(
    connection: Connection, tenant_id: int, kind: int, since: date, today: date, ids: Sequence[int] | None = None
) -> CounterRows:
    """Sum what was delivered, bounced and returned by subject, in the form of `counters` (kind 5: by provider). With
    ids, of these subjects.
    """
    days = f"day >= {literal(since)}"
    if ids is not None:  # the key has the day before the subject: of each day a range of subjects is read
        listed = ", ".join(literal(since + timedelta(days=n)) for n in range((today - since).days + 1))
        days = f"day IN ({listed}) AND part_id BETWEEN {min(ids, default=0)} AND {max(ids, default=0)}"
    sql = (
        f"SELECT part_id, 0, kind, 0, 0, GROUP_CONCAT(DATEDIFF(day, {literal(since)}), ',', n) FROM flow_sum_day "
        f"WHERE tenant_id = {tenant_id} AND what = {kind} AND {days} AND kind IN {_TAKEN} "
        "GROUP BY part_id, kind"
    )
    return CounterRows.of_series(raw_rows(connection, sql))


def heard_sums(
    connection: Connection, tenant_id: int, kind: int, since: date, reporting: Sequence[int],
    domain_ids: Sequence[int] | None = None,
) -> CounterRows:  # fmt: skip
    """Sum what was delivered and complained at these providers by subject, in the form of `counters`. With ids, of the
    mail of these domains.
    """
    column = {**_SUBJECT, t.SUM_PROVIDER: "provider_id"}[kind]
    if not reporting:
        return CounterRows.of(())
    kinds = f"({Count.DELIVERED.number}, {Count.RETURNED.number}, {Count.COMPLAINED.number})"
    whose = _of_domains(connection, tenant_id, domain_ids)
    sql = (
        f"SELECT {column}, {REPORTING}, kind, 0, 0, GROUP_CONCAT(DATEDIFF(day, {literal(since)}), ',', n) "
        f"FROM (SELECT {column}, kind, day, SUM(n) AS n FROM flow_day WHERE {whose} "
        f"AND day >= {literal(since)} AND provider_id IN ({', '.join(map(str, reporting))}) AND kind IN {kinds} "
        f"GROUP BY {column}, kind, day) AS days GROUP BY {column}, kind"
    )
    return CounterRows.of_series(raw_rows(connection, sql))


def _of_domains(connection: Connection, tenant_id: int, domain_ids: Sequence[int] | None = None) -> str:
    """All counters of a tenant, or those of some domains, as a condition. Their key begins with the domain: with all of
    them named, only the days that are asked for are read.
    """
    ids = domain_ids
    if ids is None:
        ids = connection.exec_driver_sql(f"SELECT id FROM sending_domain WHERE tenant_id = {tenant_id}").scalars().all()
    return f"tenant_id = {tenant_id} AND domain_id IN ({', '.join(map(str, ids)) or '0'})"


def lately(connection: Connection, tenant_id: int, domain_ids: Sequence[int], since: datetime) -> CounterRows:
    """Return these domains' counters by the hour in the form of `counters`, days as hours since `since`."""
    at = since.astimezone(UTC).replace(tzinfo=None)
    listed = ", ".join(map(str, domain_ids)) or "0"
    sql = (
        f"SELECT 0, provider_id, TIMESTAMPDIFF(HOUR, {literal(at)}, hour), kind, cause, permanence, "
        f"CAST(SUM(n) AS UNSIGNED) FROM flow_hour WHERE tenant_id = {tenant_id} AND domain_id IN ({listed}) "
        f"AND hour >= {literal(at)} GROUP BY provider_id, hour, kind, cause, permanence"
    )
    return CounterRows.of(raw_rows(connection, sql))


def new_addresses(connection: Connection, tenant_id: int, first: date, last: date) -> list[NewAddress]:
    """name, day of sending addresses whose first mail was in these days, and not the first of all that are known."""
    c, d = t.label.c, t.flow_label_day.c
    began = (
        select(d.label_id, func.min(d.day).label("day")).where(d.tenant_id == tenant_id).group_by(d.label_id).subquery()
    )
    ever = select(func.min(d.day)).where(d.tenant_id == tenant_id).scalar_subquery()
    query = (
        select(c.name, began.c.day)
        .join(began, began.c.label_id == c.id)
        .where(c.tenant_id == tenant_id, c.what == 0, began.c.day.between(first, last), began.c.day > ever)
    )
    return values_of(NewAddress, connection.execute(query.order_by(began.c.day, c.name)))


def faults_of(connection: Connection, tenant_id: int, domain_id: int) -> list[AuditFaults]:
    """Return the faults of a domain's audits, oldest first."""
    c = t.audit.c
    query = select(c.finished_at, c.faults).where(c.tenant_id == tenant_id, c.domain_id == domain_id)
    return values_of(AuditFaults, connection.execute(query.order_by(c.finished_at)))
