"""Addresses that send as a domain by what receivers reported, and the sums of their mail."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, Unpack

from sqlalchemy import Connection, delete, func, select, text, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, literal, run
from rust_gauge.store.columns import SourceDecisionColumns
from rust_gauge.store.values import values_of

_AT_ONCE = 1000


@dataclass(frozen=True, slots=True)
class SourceRow:
    """An address that sent as a domain."""

    id: int
    domain_id: int
    ip: bytes
    verdict: str
    group_name: str
    certainty: float
    evidence: Sequence[Mapping[str, Any]]
    first_day: date
    last_day: date
    judged_at: datetime | None
    changes: int  # how often something new was known of it


@dataclass(frozen=True, slots=True)
class SourceSum:
    """Messages of a source with one outcome."""

    source_id: int
    outcome: int
    n: int
    first_day: date
    last_day: date


@dataclass(frozen=True, slots=True)
class GroupSum:
    """Messages of a group of sources with one outcome."""

    verdict: str
    group_name: str
    outcome: int
    n: int
    first_day: date
    last_day: date


@dataclass(frozen=True, slots=True)
class GroupHead:
    """How many addresses a group of sources has, and the one with most messages."""

    verdict: str
    group_name: str
    addresses: int
    source_id: int
    certainty: float


@dataclass(frozen=True, slots=True)
class VerdictSum:
    """Messages of a day at a receiver, by verdict and outcome."""

    day: date
    receiver_id: int
    verdict: str
    outcome: int
    n: int


@dataclass(frozen=True, slots=True)
class IdentitySum:
    """Messages of a source that showed the same identifiers and results, at one receiver."""

    source_id: int
    result_id: int
    receiver_id: int
    n: int
    last_day: date


@dataclass(frozen=True, slots=True)
class NamedMail:
    """Messages of a day from some From domains, of a source at a receiver, with one outcome."""

    day: date
    receiver_id: int
    verdict: str
    group_name: str
    outcome: int
    n: int


@dataclass(frozen=True, slots=True)
class OwnMail:
    """Messages of a day, of one of our sources, that showed the same at one receiver."""

    day: date
    group_name: str
    result_id: int
    receiver_id: int
    n: int


@dataclass(frozen=True, slots=True)
class DecisionRow:
    """What somebody decided about a group of sources."""

    domain_id: int
    group_name: str
    verdict: str
    relay: str
    note: str
    decided_by: str
    decided_at: datetime


@dataclass(frozen=True, slots=True)
class HostRow:
    """The name of an address by reverse DNS, empty where it has none; `answered`: DNS said so."""

    ip: bytes
    host: str
    answered: bool
    looked_up_at: datetime


@dataclass(frozen=True, slots=True)
class HeloRow:
    """Whether a HELO name has the address of its host by DNS; None where DNS did not answer."""

    ip: bytes
    name: str
    has_address: bool | None
    looked_up_at: datetime


@dataclass(frozen=True, slots=True)
class NameRow:
    """A From domain below a domain that nobody added."""

    name: str
    first_day: date
    last_day: date
    n: int
    passed: int


def waiting_tenants(connection: Connection) -> list[int]:
    """Return tenants with sources that nobody judged since new mail of them was reported."""
    c = t.report_source.c
    return [int(id) for id in connection.scalars(select(c.tenant_id).where(c.judged_at.is_(None)).distinct())]


def domains_to_judge(connection: Connection, tenant_id: int) -> list[tuple[int, str]]:
    """Return the domains with such sources: (id, name)."""
    c, d = t.report_source.c, t.sending_domain.c
    query = (
        select(d.id, d.name)
        .where(d.id.in_(select(c.domain_id).where(c.tenant_id == tenant_id, c.judged_at.is_(None))))
        .order_by(d.name)
    )
    return [(int(id), name) for id, name in connection.execute(query)]


def oldest_waiting(connection: Connection, domain_id: int) -> date | None:
    """Return the earliest last day of sources of a domain that wait to be judged; None where none waits."""
    c = t.report_source.c
    found: date | None = connection.scalar(
        select(func.min(c.last_day)).where(c.domain_id == domain_id, c.judged_at.is_(None))
    )
    return found


def count_waiting(connection: Connection, domain_id: int) -> int:
    """Return how many sources of a domain wait to be judged."""
    c = t.report_source.c
    return int(connection.scalar(select(func.count()).where(c.domain_id == domain_id, c.judged_at.is_(None))) or 0)


def list_sources(connection: Connection, domain_id: int, since: date, until: date) -> list[SourceRow]:
    """Return sources of a domain that sent in a period."""
    c = t.report_source.c
    query = select(t.report_source).where(c.domain_id == domain_id, c.last_day >= since, c.first_day <= until)
    return values_of(SourceRow, connection.execute(query.order_by(c.id)))


def hosts_of(connection: Connection, ips: Collection[bytes]) -> dict[bytes, HostRow]:
    """Return what is known of the names of addresses."""
    wanted = sorted(ips)
    out: dict[bytes, HostRow] = {}
    for at in range(0, len(wanted), _AT_ONCE):
        query = select(t.address_host).where(t.address_host.c.ip.in_(wanted[at : at + _AT_ONCE]))
        out |= {bytes(row.ip): row for row in values_of(HostRow, connection.execute(query))}
    return out


def put_hosts(connection: Connection, rows: Sequence[tuple[bytes, str, bool, datetime]]) -> None:
    """Store names of addresses: (address, name, answered, looked up at)."""
    for at in range(0, len(rows), _AT_ONCE):
        insert_rows(
            connection, "INSERT INTO address_host (ip, host, answered, looked_up_at) VALUES",
            [(ip, host, int(answered), time) for ip, host, answered, time in sorted(rows[at : at + _AT_ONCE])],
            "ON DUPLICATE KEY UPDATE host = VALUES(host), answered = VALUES(answered), "
            "looked_up_at = VALUES(looked_up_at)",
        )  # fmt: skip


def helo_hosts_of(connection: Connection, ips: Collection[bytes]) -> dict[tuple[bytes, str], HeloRow]:
    """Return what is known of the HELO names of addresses, by address and name."""
    wanted = sorted(ips)
    out: dict[tuple[bytes, str], HeloRow] = {}
    for at in range(0, len(wanted), _AT_ONCE):
        query = select(t.helo_host).where(t.helo_host.c.ip.in_(wanted[at : at + _AT_ONCE]))
        out |= {(bytes(row.ip), row.name): row for row in values_of(HeloRow, connection.execute(query))}
    return out


def put_helo_hosts(connection: Connection, rows: Sequence[HeloRow]) -> None:
    """Store whether HELO names have the addresses of their hosts."""
    for at in range(0, len(rows), _AT_ONCE):
        part = sorted(rows[at : at + _AT_ONCE], key=lambda row: (row.ip, row.name))
        insert_rows(
            connection, "INSERT INTO helo_host (ip, name, has_address, looked_up_at) VALUES",
            [
                (row.ip, row.name, None if row.has_address is None else int(row.has_address), row.looked_up_at)
                for row in part
            ],
            "ON DUPLICATE KEY UPDATE has_address = VALUES(has_address), looked_up_at = VALUES(looked_up_at)",
        )  # fmt: skip


def forget_names(connection: Connection, before: datetime, limit: int) -> None:
    """Delete names of addresses that were looked up before a time, some of them; those still reported come back."""
    for table in (t.address_host, t.helo_host):
        connection.execute(text(f"DELETE FROM {table} WHERE looked_up_at < :before LIMIT {limit}"), {"before": before})


def sums_by_source(
    connection: Connection, domain_id: int, since: date, until: date, source_ids: Sequence[int] = ()
) -> list[SourceSum]:
    """Return messages of a period by source and outcome; of all sources of the domain, or of those named."""
    c = t.report_source_day.c
    query = (
        select(
            c.source_id, c.outcome, func.sum(c.n).label("n"), func.min(c.day).label("first_day"),
            func.max(c.day).label("last_day"),
        )
        .where(c.domain_id == domain_id, c.day >= since, c.day <= until, c.n > 0)
        .group_by(c.source_id, c.outcome)
    )  # fmt: skip
    if source_ids:
        query = query.where(c.source_id.in_(source_ids))
    return values_of(SourceSum, connection.execute(query))


def sums_by_group(connection: Connection, domain_id: int, since: date, until: date) -> list[GroupSum]:
    """Return messages of a period by verdict, group and outcome."""
    d, s = t.report_source_day.c, t.report_source.c
    query = (
        select(
            s.verdict, s.group_name, d.outcome, func.sum(d.n).label("n"), func.min(d.day).label("first_day"),
            func.max(d.day).label("last_day"),
        )
        .join(t.report_source, s.id == d.source_id)
        .where(d.domain_id == domain_id, d.day >= since, d.day <= until, d.n > 0)
        .group_by(s.verdict, s.group_name, d.outcome)
    )  # fmt: skip
    return values_of(GroupSum, connection.execute(query))


def heads_of_groups(connection: Connection, domain_id: int, since: date, until: date) -> list[GroupHead]:
    """Return for each verdict and group how many addresses sent in a period, and the one with most messages."""
    period = f"day >= {literal(since)} AND day <= {literal(until)} AND n > 0"
    rows: Any = run(
        connection,
        "SELECT verdict, group_name, addresses, source_id, certainty FROM (SELECT s.verdict, s.group_name, "
        "s.id AS source_id, s.certainty, COUNT(*) OVER of AS addresses, "
        "ROW_NUMBER() OVER (of ORDER BY d.n DESC, s.id) AS place FROM (SELECT source_id, SUM(n) AS n "
        f"FROM report_source_day WHERE domain_id = {domain_id} AND {period} GROUP BY source_id) AS d "
        "JOIN report_source AS s ON s.id = d.source_id "
        "WINDOW of AS (PARTITION BY s.verdict, s.group_name)) AS ranked WHERE place = 1",
    )
    return [GroupHead(verdict, group, int(n), int(id), float(certainty)) for verdict, group, n, id, certainty in rows]


def sources_by_id(connection: Connection, ids: Collection[int]) -> dict[int, SourceRow]:
    """Return sources by id."""
    rows = connection.execute(select(t.report_source).where(t.report_source.c.id.in_(sorted(ids))))
    return {row.id: row for row in values_of(SourceRow, rows)}


def sources_of_group(
    connection: Connection, domain_id: int, group: str, since: date, until: date, limit: int
) -> list[SourceRow]:
    """Return the addresses of a group that sent in a period, a limited number."""
    c = t.report_source.c
    query = select(t.report_source).where(
        c.domain_id == domain_id, c.group_name == group, c.last_day >= since, c.first_day <= until
    )
    return values_of(SourceRow, connection.execute(query.order_by(c.last_day.desc(), c.id).limit(limit)))


def days_of_sources(
    connection: Connection, domain_id: int, source_ids: Sequence[int], since: date, until: date
) -> list[tuple[date, int, int]]:
    """Return (day, outcome, messages) of sources, oldest first."""
    c = t.report_source_day.c
    query = (
        select(c.day, c.outcome, func.sum(c.n))
        .where(c.domain_id == domain_id, c.source_id.in_(source_ids), c.day >= since, c.day <= until, c.n > 0)
        .group_by(c.day, c.outcome)
        .order_by(c.day)
    )
    return [(day, int(outcome), int(n)) for day, outcome, n in connection.execute(query)]


def sums_by_verdict(connection: Connection, domain_id: int, since: date, until: date) -> list[VerdictSum]:
    """Return messages of a period by day, receiver, verdict and outcome, oldest first."""
    c = t.report_receiver_day.c
    query = (
        select(t.report_receiver_day)
        .where(c.domain_id == domain_id, c.day >= since, c.day <= until, c.n > 0)
        .order_by(c.day)
    )
    return values_of(VerdictSum, connection.execute(query))


def identities_of(
    connection: Connection, domain_id: int, source_ids: Sequence[int], since: date, until: date, limit: int = 0
) -> list[IdentitySum]:
    """Return messages of sources by what they showed and at which receiver, the most first; `limit` 0: all."""
    r, p = t.report_row.c, t.receiver_report.c
    query = (
        select(
            r.source_id, r.result_id, p.receiver_id, func.sum(r.n).label("n"), func.max(r.day).label("last_day")
        )
        .join(t.receiver_report, p.id == r.report_id)
        .where(r.domain_id == domain_id, r.source_id.in_(source_ids), r.day >= since, r.day <= until)
        .group_by(r.source_id, r.result_id, p.receiver_id)
        .order_by(func.sum(r.n).desc())
    )  # fmt: skip
    return values_of(IdentitySum, connection.execute(query.limit(limit) if limit else query))


def mail_from_names(
    connection: Connection, domain_id: int, names: Collection[str], since: date, until: date
) -> list[NamedMail]:
    """Return mail filed under a domain whose From is one of these names."""
    r, p, s, e = t.report_row.c, t.receiver_report.c, t.report_source.c, t.report_result.c
    keys = (r.day, p.receiver_id, s.verdict, s.group_name, e.outcome)
    query = (
        select(*keys, func.sum(r.n))
        .join(t.receiver_report, p.id == r.report_id)
        .join(t.report_source, s.id == r.source_id)
        .join(t.report_result, e.id == r.result_id)
        .where(r.domain_id == domain_id, r.day >= since, r.day <= until, e.header_from.in_(names or [""]))
        .group_by(*keys)
    )
    return [
        NamedMail(day, receiver, verdict, group, outcome, int(n))
        for day, receiver, verdict, group, outcome, n in connection.execute(query)
    ]


def own_mail(connection: Connection, domain_id: int, since: date, until: date) -> list[OwnMail]:
    """Return mail of a domain's own sources by day, source, what it showed, and receiver; oldest first."""
    r, p, s = t.report_row.c, t.receiver_report.c, t.report_source.c
    keys = (r.day, s.group_name, r.result_id, p.receiver_id)
    query = (
        select(*keys, func.sum(r.n).label("n"))
        .join(t.receiver_report, p.id == r.report_id)
        .join(t.report_source, s.id == r.source_id)
        .where(r.domain_id == domain_id, r.day >= since, r.day <= until, s.verdict == "ours")
        .group_by(*keys)
        .order_by(*keys)
    )
    return [
        OwnMail(day, name, int(result), int(receiver), int(n))
        for day, name, result, receiver, n in connection.execute(query)
    ]


def receiver_names(connection: Connection, tenant_id: int) -> dict[int, tuple[str, str]]:
    """Return (name, label) of receivers by id."""
    c = t.report_receiver.c
    query = select(c.id, c.name, c.label).where(c.tenant_id == tenant_id)
    return {int(id): (name, label) for id, name, label in connection.execute(query)}


def put_judgement(
    connection: Connection, row: SourceRow, verdict: str, group: str, certainty: float,
    evidence: Sequence[Mapping[str, Any]], now: datetime | None,
) -> None:  # fmt: skip
    """Store what a source is; without `now` it is to be judged again. Where the verdict changes, its mail moves in the
    sums by receiver."""
    if verdict != row.verdict:
        of_source = (
            "FROM report_row AS r JOIN report_result AS e ON e.id = r.result_id "
            "JOIN receiver_report AS p ON p.id = r.report_id "
            f"WHERE r.domain_id = {row.domain_id} AND r.source_id = {row.id} "
            "GROUP BY r.domain_id, r.day, p.receiver_id, e.outcome"
        )
        run(
            connection,
            "UPDATE report_receiver_day AS s JOIN (SELECT r.domain_id, r.day, p.receiver_id, e.outcome, SUM(r.n) AS n "
            f"{of_source}) AS gone USING (domain_id, day, receiver_id, outcome) "
            f"SET s.n = IF(s.n > gone.n, s.n - gone.n, 0) WHERE s.verdict = {literal(row.verdict)}",
        )
        run(
            connection,
            "INSERT INTO report_receiver_day (domain_id, day, receiver_id, verdict, outcome, n) "
            f"SELECT r.domain_id, r.day, p.receiver_id, {literal(verdict)}, e.outcome, SUM(r.n) AS added {of_source} "
            "ON DUPLICATE KEY UPDATE n = n + VALUES(n)",
        )
    connection.execute(
        update(t.report_source)
        .where(t.report_source.c.id == row.id)
        .values(
            verdict=verdict, group_name=group[:255], certainty=certainty, evidence=list(evidence), judged_at=now
        )
    )  # fmt: skip
    if verdict != row.verdict:
        changes.note_of(connection, "reports", row.domain_id)


def lock_sources(connection: Connection, ids: Sequence[int]) -> list[SourceRow]:
    """Return sources as they are now; no report adds to them before the transaction ends."""
    c = t.report_source.c
    query = select(t.report_source).where(c.id.in_(ids)).order_by(c.id).with_for_update()
    return values_of(SourceRow, connection.execute(query))


def judge_again(connection: Connection, tenant_id: int, domain_id: int | None = None) -> None:
    """Have the sources of a tenant, or of one domain, judged again: what is known of them changed."""
    c = t.report_source.c
    query = update(t.report_source).where(c.tenant_id == tenant_id).values(judged_at=None, changes=c.changes + 1)
    connection.execute(query if domain_id is None else query.where(c.domain_id == domain_id))


def list_decisions(connection: Connection, domain_id: int) -> dict[str, DecisionRow]:
    """Return what was decided about a domain's sources, by group."""
    c = t.source_decision.c
    rows = connection.execute(select(t.source_decision).where(c.domain_id == domain_id))
    return {row.group_name: row for row in values_of(DecisionRow, rows)}


def put_decision(connection: Connection, **values: Unpack[SourceDecisionColumns]) -> None:
    """Store a decision about a group, in place of the one before."""
    statement = upsert(t.source_decision).values(**values)
    names = ("verdict", "relay", "note", "decided_by", "decided_at")
    connection.execute(statement.on_duplicate_key_update({name: getattr(statement.inserted, name) for name in names}))


def delete_decision(connection: Connection, domain_id: int, group: str) -> bool:
    """Take a decision back; False where there is none."""
    c = t.source_decision.c
    found = connection.execute(delete(t.source_decision).where(c.domain_id == domain_id, c.group_name == group))
    return bool(found.rowcount)


def names_below(connection: Connection, domain_id: int, since: date, until: date) -> list[NameRow]:
    """Return From domains below a domain that nobody added, those with most messages first."""
    c, d, other = t.report_name.c, t.sending_domain.c, t.sending_domain.alias()
    added = select(other.c.id).where(other.c.tenant_id == d.tenant_id, other.c.name == c.name).exists()
    query = (
        select(c.name, c.first_day, c.last_day, c.n, c.passed)
        .join(t.sending_domain, d.id == c.domain_id)
        .where(c.domain_id == domain_id, c.last_day >= since, c.first_day <= until, ~added)
    )
    return values_of(NameRow, connection.execute(query.order_by(c.n.desc(), c.name).limit(200)))


def count_reports(connection: Connection, domain_id: int, since: datetime, until: datetime) -> tuple[int, int]:
    """Return how many aggregate reports about a domain there are in a period, and of how many receivers."""
    c = t.receiver_report.c
    query = select(func.count(), func.count(c.receiver_id.distinct())).where(
        c.domain_id == domain_id, c.kind == "aggregate", c.ends_at >= since, c.begins_at < until
    )
    reports, receivers = connection.execute(query).one()
    return int(reports), int(receivers)


def newest_day(connection: Connection, domain_id: int) -> date | None:
    """Return the newest day of a domain that reports tell of."""
    c = t.report_source.c
    found: date | None = connection.scalar(select(func.max(c.last_day)).where(c.domain_id == domain_id))
    return found


def domains_with_reports(connection: Connection, tenant_id: int) -> list[tuple[int, str]]:
    """Return (id, name) of domains that sources send as, by name."""
    d = t.sending_domain.c
    query = (
        select(d.id, d.name)
        .where(d.tenant_id == tenant_id, d.id.in_(select(t.report_source.c.domain_id).distinct()))
        .order_by(d.name)
    )
    return [(int(id), name) for id, name in connection.execute(query)]
