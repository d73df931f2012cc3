"""Readings as they are kept: a row for a subject at one mailbox provider, with its whole history packed; and the
counters that they are made from, as arrays.
"""

import zlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, fields
from datetime import UTC, date, datetime, timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Column, Connection, func, select

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.suppression import Reach, State
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, literal, run
from rust_gauge.store.counter_rows import CounterRows, SenderRows, StreamRows
from rust_gauge.store.driver import raw_rows
from rust_gauge.store.values import values_of

TREND = 190  # days that lie beside the newest reading
_CHUNK = 200
KINDS = ("domain", "stream", "relay", "ip")  # of subjects; the number of a kind is its place, counted from 1

_COLUMNS = (
    "tenant_id", "kind", "subject_id", "provider_id", "first_day", "last_day", "tenths", "margin", "mail", "pulls",
    "measures", "trend", "history", "computed_at",
)  # fmt: skip
_PUT = f"INSERT INTO reading_series ({', '.join(_COLUMNS)}) VALUES"
_ANEW = "ON DUPLICATE KEY UPDATE " + ", ".join(f"{name} = VALUES({name})" for name in _COLUMNS[4:])


@dataclass(frozen=True, slots=True)
class NewAddress:
    """A sending address and the day of its first mail."""

    name: str
    day: date


@dataclass(frozen=True, slots=True)
class ProviderDay:
    """What a provider did to everybody on a day."""

    provider_id: int
    day: date
    senders: int
    common: float
    outage: float


@dataclass(frozen=True, slots=True)
class AuditFaults:
    """How many faults and risks an audit found."""

    finished_at: datetime
    faults: int
    risks: int


@dataclass(frozen=True, slots=True)
class MarkRow:
    """A note on the time axis."""

    id: int
    tenant_id: int
    domain: str
    day: date
    text: str
    made_at: datetime
    made_by: str
    kind: str


@dataclass(frozen=True, slots=True)
class PackedSeries:
    """A series of readings as it is kept, for `unpack`."""

    subject_id: int
    provider_id: int
    first_day: date
    last_day: date
    measures: bytes
    history: bytes


@dataclass(frozen=True, slots=True)
class Series:
    """One subject at one provider. Tenths are int16, (days,); pulls (factors, days); measures (3, factors), of the last
    day: value, low, high.
    """

    subject_id: int
    provider_id: int
    first: date
    tenths: NDArray[np.int16]
    margin: NDArray[np.int16]
    pulls: NDArray[np.int16]
    mail: NDArray[np.float32]
    measures: NDArray[np.float32]

    @property
    def last(self) -> date:
        """The last day of the series."""
        return self.first + timedelta(days=len(self.tenths) - 1)


def pack(series: Series) -> bytes:
    """Pack a history as it is kept: tenths, margins and pulls as int16, then mail as float32, day by day, deflated."""
    whole = np.concatenate([series.tenths[None], series.margin[None], series.pulls]).astype("<i2")
    return zlib.compress(whole.tobytes() + series.mail.astype("<f4").tobytes(), 1)


def _packed() -> list[Column[Any]]:
    return [t.reading_series.c[field.name] for field in fields(PackedSeries)]


def unpack(row: PackedSeries) -> Series:
    """Return the series of a row with its history."""
    octets = zlib.decompress(row.history)
    days = (row.last_day - row.first_day).days + 1
    whole = np.frombuffer(octets[: -4 * days], "<i2").reshape(-1, days)
    mail = np.frombuffer(octets[-4 * days :], "<f4")
    measures = np.frombuffer(row.measures, "<f4").reshape(3, -1)
    return Series(row.subject_id, row.provider_id, row.first_day, whole[0], whole[1], whole[2:], mail, measures)


def put_series(connection: Connection, tenant_id: int, kind: int, found: Iterable[Series], now: datetime) -> int:
    """Put these in place of what is there; gives how many."""
    at = now.astimezone(UTC).replace(tzinfo=None)
    rows = [
        (
            tenant_id, kind, each.subject_id, each.provider_id, each.first, each.last, int(each.tenths[-1]),
            int(each.margin[-1]), float(each.mail[-1]), each.pulls[:, -1].astype("<i2").tobytes(),
            each.measures.astype("<f4").tobytes(), each.tenths[-TREND:].astype("<i2").tobytes(), pack(each), at,
        )
        for each in found
    ]  # fmt: skip
    for start in range(0, len(rows), _CHUNK):
        insert_rows(connection, _PUT, rows[start : start + _CHUNK], _ANEW)
    return len(rows)


def drop_others(connection: Connection, tenant_id: int, kind: int, subject_id: int, kept: Iterable[int]) -> None:
    """Drop a subject's series at providers that are not shown on their own any more."""
    listed = ", ".join(map(str, sorted(kept))) or "0"
    run(
        connection,
        f"DELETE FROM reading_series WHERE tenant_id = {tenant_id} AND kind = {kind} AND subject_id = {subject_id} "
        f"AND provider_id NOT IN ({listed})",
    )


@dataclass(frozen=True, slots=True)
class Newest:
    """The newest readings of series, a row each, with the ends of their trends.

    `tenths` is int16, (series, days), the last day is the one asked for, -1 where there is no value; `pulls` int16,
    (series, factors), in tenths of a point, and `mail` float, are of the series' own last day; `late` says by how many
    days that lies before the one asked for.
    """

    subject_id: NDArray[np.int64]
    provider_id: NDArray[np.int64]
    late: NDArray[np.int64]
    margin: NDArray[np.int64]
    mail: NDArray[np.float64]
    tenths: NDArray[np.int16]
    pulls: NDArray[np.int16]


def newest(connection: Connection, tenant_ids: Sequence[int], kind: int, today: date, days: int) -> Newest:
    """Return the newest reading of each series of these tenants with its trend up to today, at most TREND days."""
    days = min(days, TREND)
    listed = ", ".join(map(str, tenant_ids)) or "0"
    # Few columns, and none that the driver would have to make a date of: a wall has ten thousand rows.
    rows = raw_rows(
        connection,
        f"SELECT subject_id, provider_id, DATEDIFF({literal(today)}, last_day), margin, mail, "
        f"CONCAT(LPAD(RIGHT(trend, {2 * days}), {2 * days}, x'FF'), pulls) FROM reading_series "
        f"WHERE tenant_id IN ({listed}) AND kind = {kind}",
    )
    subjects, providers, late, margin, mail, packed = zip(*rows, strict=True) if rows else ((),) * 6
    values = np.frombuffer(b"".join(packed), "<i2").reshape(len(rows), -1) if rows else np.zeros((0, days), "<i2")
    tenths = values[:, :days].copy()
    for behind in {each for each in late if each > 0}:
        at = np.array(late) == behind
        tenths[at] = np.hstack([tenths[at], np.full((int(at.sum()), behind), -1, "<i2")])[:, -days:]
    ids, provider_ids, lates, margins = np.array([subjects, providers, late, margin], dtype=np.int64)
    mails = np.array(mail, dtype=np.float64)
    return Newest(ids, provider_ids, lates, margins, mails, tenths, values[:, days:])


def as_of(connection: Connection, tenant_ids: Sequence[int], kind: int, day: date, days: int) -> Newest:
    """Return what `newest` gave on an earlier day, as it is known today. Reads whole histories."""
    c = t.reading_series.c
    query = select(*_packed())
    query = query.where(c.tenant_id.in_(tenant_ids), c.kind == kind, c.first_day <= day, c.last_day >= day)
    ends, keys, margins, mails, pulls = [], [], [], [], []
    for row in values_of(PackedSeries, connection.execute(query)):
        series = unpack(row)
        at = (day - series.first).days
        end = series.tenths[max(0, at - days + 1) : at + 1]
        ends.append(np.concatenate([np.full(days - len(end), -1, "<i2"), end]))
        keys.append((series.subject_id, series.provider_id))
        margins.append(int(series.margin[at]))
        mails.append(float(series.mail[at]))
        pulls.append(series.pulls[:, at])
    ids = np.array(keys, dtype=np.int64).reshape(-1, 2)
    count = len(ends)
    return Newest(
        ids[:, 0], ids[:, 1], np.zeros(count, dtype=np.int64), np.array(margins, dtype=np.int64), np.array(mails),
        np.stack(ends) if count else np.zeros((0, days), "<i2"),
        np.stack(pulls) if count else np.zeros((0, 1), "<i2"),
    )  # fmt: skip


def newest_overall(connection: Connection, tenant_id: int, kind: int) -> dict[int, int]:
    """By subject id: tenths of the newest reading over all providers, of whatever day it is."""
    c = t.reading_series.c
    where = (c.tenant_id == tenant_id, c.kind == kind, c.provider_id == t.ALL_PROVIDERS)
    return {row.subject_id: row.tenths for row in connection.execute(select(c.subject_id, c.tenths).where(*where))}


def measures_of(
    connection: Connection, tenant_ids: Sequence[int], kind: int, series: Iterable[tuple[int, int]]
) -> dict[tuple[int, int], NDArray[np.float32]]:
    """By (subject id, provider id): what was measured on the last day, (3, factors): value, low, high."""
    wanted = ", ".join(f"({subject}, {provider})" for subject, provider in series)
    if not wanted:
        return {}
    rows = raw_rows(
        connection,
        f"SELECT subject_id, provider_id, measures FROM reading_series WHERE tenant_id IN "
        f"({', '.join(map(str, tenant_ids))}) AND kind = {kind} AND (subject_id, provider_id) IN ({wanted})",
    )
    return {(row[0], row[1]): np.frombuffer(row[2], "<f4").reshape(3, -1) for row in rows}


def histories(
    connection: Connection, tenant_id: int, kind: int, subject_ids: Sequence[int] = (), provider_id: int | None = None
) -> list[PackedSeries]:
    """Whole rows, for `unpack`: of these subjects (all if none are named), at one provider or all."""
    c = t.reading_series.c
    query = select(*_packed()).where(c.tenant_id == tenant_id, c.kind == kind)
    if subject_ids:
        query = query.where(c.subject_id.in_(subject_ids))
    if provider_id is not None:
        query = query.where(c.provider_id == provider_id)
    return values_of(PackedSeries, connection.execute(query))


def stale_domains(connection: Connection, today: date) -> list[tuple[int, int]]:
    """(tenant id, domain id) of domains whose readings end before `today`."""
    c = t.reading_series.c
    query = select(c.tenant_id, c.subject_id).where(c.kind == 1, c.last_day < today).distinct()
    return [(row.tenant_id, row.subject_id) for row in connection.execute(query)]


# Counters

_SUBJECT = {1: "domain_id", 2: "stream_id", 3: "relay_id", 4: "label_id"}


def counters(
    connection: Connection, tenant_id: int, kind: int, since: date, subject_ids: Sequence[int] = (),
    last: date | None = None,
) -> CounterRows:  # fmt: skip
    """Return counters of subjects since a day (up to another), of all subjects if none are named."""
    column, table = _SUBJECT[kind], "flow_label_day" if kind == 4 else "flow_day"
    where = f"tenant_id = {tenant_id} AND day >= {literal(since)}"
    if last is not None:
        where += f" AND day <= {literal(last)}"
    if subject_ids:
        where += f" AND {column} IN ({', '.join(map(str, subject_ids))})"
    if kind != 4 and not (kind == 1 and subject_ids):
        where += f" AND {_of_domains(connection, tenant_id)}"
    if kind == 4:
        where += f" AND label_id IN (SELECT id FROM event_label WHERE tenant_id = {tenant_id} AND what = 0)"
    keys = f"{column}, provider_id, day, kind, cause, permanence"
    sql = (
        f"SELECT {column}, provider_id, DATEDIFF(day, {literal(since)}), kind, cause, permanence, "
        f"CAST(SUM(n) AS UNSIGNED) FROM {table} WHERE {where} GROUP BY {keys}"
    )
    return CounterRows.of(raw_rows(connection, sql))


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
    """Count anew, for these days, messages delivered or bounced that went to an address while it was held.

    An hour is allowed for, as what is under way cannot be called back. By the keys of events, so only for tenants that
    compare addresses in the usual way and in clear. Gives how many there were.
    """
    days = f"BETWEEN {literal(first)} AND {literal(last)}"
    run(connection, f"DELETE FROM held_mailed_day WHERE tenant_id = {tenant_id} AND day {days}")
    done = run(
        connection,
        "INSERT INTO held_mailed_day "
        "SELECT e.tenant_id, DATE(e.occurred_at), e.domain_id, e.provider_id, e.stream_id, e.relay_id, "
        "COUNT(DISTINCT e.message_key, e.recipient_key) FROM event AS e "
        "STRAIGHT_JOIN suppression_entry AS s FORCE INDEX (PRIMARY) "
        f"ON s.tenant_id = {tenant_id} AND s.address_key = e.recipient_key "
        f"AND s.state = {State.HELD.number} AND s.reach = {Reach.TENANT.number} "
        f"AND s.made_at < e.occurred_at - INTERVAL 1 HOUR WHERE e.tenant_id = {tenant_id} "
        f"AND e.kind IN ({Kind.DELIVERED.number}, {Kind.BOUNCED.number}) "
        f"AND e.occurred_at >= {literal(first)} AND e.occurred_at < {literal(last + timedelta(days=1))} "
        "GROUP BY 1, 2, 3, 4, 5, 6",
    )
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


def mail_sums(connection: Connection, tenant_id: int, kind: int, since: date) -> CounterRows:
    """Sum what was delivered, bounced and returned by subject, in the form of `counters` (kind 5: by provider)."""
    sql = (
        f"SELECT part_id, 0, DATEDIFF(day, {literal(since)}), kind, 0, 0, n FROM flow_sum_day "
        f"WHERE tenant_id = {tenant_id} AND what = {kind} AND day >= {literal(since)} AND kind IN {_TAKEN}"
    )
    return CounterRows.of(raw_rows(connection, sql))


def heard_sums(connection: Connection, tenant_id: int, kind: int, since: date, reporting: Sequence[int]) -> CounterRows:
    """Sum what was delivered and complained at these providers by subject, in the form of `counters`."""
    column = {**_SUBJECT, t.SUM_PROVIDER: "provider_id"}[kind]
    if not reporting:
        return CounterRows.of(())
    kinds = f"({Count.DELIVERED.number}, {Count.RETURNED.number}, {Count.COMPLAINED.number})"
    sql = (
        f"SELECT {column}, {REPORTING}, DATEDIFF(day, {literal(since)}), kind, 0, 0, CAST(SUM(n) AS UNSIGNED) "
        f"FROM flow_day WHERE {_of_domains(connection, tenant_id)} AND day >= {literal(since)} "
        f"AND provider_id IN ({', '.join(map(str, reporting))}) AND kind IN {kinds} GROUP BY {column}, day, kind"
    )
    return CounterRows.of(raw_rows(connection, sql))


def _of_domains(connection: Connection, tenant_id: int) -> str:
    """All counters of a tenant, as a condition. Their key begins with the domain: with all of them named, only the days
    that are asked for are read.
    """
    ids = connection.exec_driver_sql(f"SELECT id FROM sending_domain WHERE tenant_id = {tenant_id}").scalars()
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


def names_of(connection: Connection, tenant_id: int, kind: int) -> dict[int, str]:
    """Subjects of a kind by id; those without a name are none."""
    if kind == 4:
        c = t.label.c
        query = select(c.id, c.name).where(c.tenant_id == tenant_id, c.what == 0)
    else:
        table = {1: t.sending_domain, 2: t.stream, 3: t.relay}[kind]
        query = select(table.c.id, table.c.name).where(table.c.tenant_id == tenant_id)
    return {row.id: row.name for row in connection.execute(query) if row.name}


# Providers


_SENT = ", ".join(str(count.number) for count in (Count.DELIVERED, Count.DELAYED, Count.BOUNCED, Count.RETURNED))


def sender_days(connection: Connection, since: date) -> SenderRows:
    """Return all tenants' deliveries, delays and bounces by provider, domain and day, with the causes of delays."""
    sql = (
        f"SELECT provider_id, domain_id, DATEDIFF(day, {literal(since)}), kind, "
        f"IF(kind = {Count.DELAYED.number}, cause, 0) AS c, 0, "
        f"CAST(SUM(n) AS UNSIGNED) FROM flow_day WHERE day >= {literal(since)} AND kind IN ({_SENT}) "
        "GROUP BY provider_id, domain_id, day, kind, c"
    )
    return SenderRows.of(raw_rows(connection, sql))


def sender_sums(connection: Connection, first: date, last: date) -> SenderRows:
    """Return all tenants' sums of a period by provider and domain."""
    sql = (
        "SELECT provider_id, domain_id, 0, kind, cause, permanence, CAST(SUM(n) AS UNSIGNED) FROM flow_day "
        f"WHERE day BETWEEN {literal(first)} AND {literal(last)} "
        "GROUP BY provider_id, domain_id, kind, cause, permanence"
    )
    return SenderRows.of(raw_rows(connection, sql))


def put_provider_days(connection: Connection, rows: Sequence[tuple[int, date, int, float, float]]) -> None:
    """Store (provider id, day, senders, common, outage) in place of what is there."""
    for start in range(0, len(rows), 1000):
        insert_rows(
            connection,
            "INSERT INTO provider_day (provider_id, day, senders, common, outage) VALUES",
            rows[start : start + 1000],
            "ON DUPLICATE KEY UPDATE senders = VALUES(senders), common = VALUES(common), outage = VALUES(outage)",
        )


def provider_days(connection: Connection, since: date, provider_ids: Iterable[int] = ()) -> list[ProviderDay]:
    """Return what senders had in common at providers, day by day; at all of them unless some are named."""
    c = t.provider_day.c
    query = select(t.provider_day).where(c.day >= since)
    ids = list(provider_ids)
    return values_of(ProviderDay, connection.execute(query.where(c.provider_id.in_(ids)) if ids else query))


def put_usual(connection: Connection, provider_id: int, since: date, document: dict[str, Any]) -> None:
    """Store what is usual at a provider since a day."""
    statement = t.provider_usual.delete().where(t.provider_usual.c.provider_id == provider_id)
    connection.execute(statement)
    connection.execute(t.provider_usual.insert().values(provider_id=provider_id, since=since, document=document))


def usual(connection: Connection) -> dict[int, tuple[date, dict[str, float]]]:
    """By provider: since when, and the rates by factor."""
    return {row.provider_id: (row.since, row.document) for row in connection.execute(select(t.provider_usual))}


def faults_of(connection: Connection, tenant_id: int, domain_id: int) -> list[AuditFaults]:
    """finished_at, faults, risks of a domain's audits, oldest first."""
    c = t.audit.c
    query = select(c.finished_at, c.faults, c.risks).where(c.tenant_id == tenant_id, c.domain_id == domain_id)
    return values_of(AuditFaults, connection.execute(query.order_by(c.finished_at)))


# Notes on the time axis


def add_mark(connection: Connection, **values: Any) -> int:
    """Add a note; return its id."""
    key: Any = connection.execute(t.mark.insert().values(**values)).inserted_primary_key
    return int(key[0])


def marks(connection: Connection, tenant_id: int, first: date, last: date, domain: str | None) -> list[MarkRow]:
    """Return notes of some days, both included; of a domain those that name it or none."""
    c = t.mark.c
    query = select(t.mark).where(c.tenant_id == tenant_id, c.day.between(first, last))
    if domain is not None:
        query = query.where(c.domain.in_(("", domain)))
    return values_of(MarkRow, connection.execute(query.order_by(c.day, c.id)))


def drop_mark(connection: Connection, tenant_id: int, id: int) -> bool:
    """Delete a note that a person wrote; return whether there was one."""
    c = t.mark.c
    where = (c.tenant_id == tenant_id, c.id == id, c.kind == "note")
    return bool(connection.execute(t.mark.delete().where(*where)).rowcount)


def mark_policy(connection: Connection, tenant_id: int, now: datetime, by: str, text: str) -> None:
    """Put a changed policy on the time axis."""
    at = now.astimezone(UTC).replace(tzinfo=None)
    add_mark(
        connection, tenant_id=tenant_id, domain="", day=at.date(), text=text, made_at=at, made_by=by, kind="policy"
    )


def tenants_of_domains(connection: Connection, domain_ids: Iterable[int]) -> dict[int, int]:
    """Tenant id by domain id."""
    c = t.sending_domain.c
    ids = list(domain_ids)
    if not ids:
        return {}
    return {row.id: row.tenant_id for row in connection.execute(select(c.id, c.tenant_id).where(c.id.in_(ids)))}
