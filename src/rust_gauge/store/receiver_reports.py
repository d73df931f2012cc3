"""Reports of receivers: each once, with its rows and the sums that views are drawn from, in one transaction.

Rows have no foreign keys, so that tens of millions of them load fast; `delete_reports` takes them back, sums included.
"""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, Unpack

from sqlalchemy import Connection, delete, func, insert, literal_column, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, run
from rust_gauge.store.columns import ReceiverReportColumns, RejectedReportColumns
from rust_gauge.store.values import value_of, values_of

_PIECE = 1 << 20  # octets
_AT_ONCE = 2000  # rows in one statement
_MAX_NAMES = 1000  # subdomains of a domain that are remembered; a forger can make up any number


@dataclass(frozen=True, slots=True)
class ReportRow:
    """A report without its rows. `receiver` is the name by which its sender is compared, `label` its own."""

    id: int
    tenant_id: int
    kind: str
    receiver_id: int
    receiver: str
    label: str
    report_id: str
    domain: str
    domain_id: int | None
    begins_at: datetime
    ends_at: datetime
    arrived_at: datetime
    arrived_by: str
    authentic: str
    authentic_domain: str
    records: int
    left_out: int
    messages: int
    passed: int
    document: Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class RejectedReportRow:
    """Octets that were not read as a report, with the reason."""

    id: int
    feed_id: int | None
    arrived_at: datetime
    arrived_by: str
    what: str
    why: str
    remedy: str
    size: int


@dataclass(frozen=True, slots=True)
class ResultRow:
    """Identifiers and results that rows have in common."""

    id: int
    header_from: str
    envelope_from: str
    spf_domain: str
    spf_result: str
    helo_domain: str
    helo_result: str
    signatures: Sequence[Sequence[str]]
    reasons: Sequence[Sequence[str]]
    outcome: int


@dataclass(frozen=True, slots=True)
class RecordRow:
    """A row of one report: messages of a source that fared alike."""

    ip: bytes
    source_id: int
    result_id: int
    n: int


@dataclass(frozen=True, slots=True)
class NewResult:
    """The same, to be stored once. `signatures` are (d=, selector, result), `reasons` (kind, comment)."""

    digest: bytes
    header_from: str
    envelope_from: str
    spf_domain: str
    spf_result: str
    helo_domain: str
    helo_result: str
    signatures: str
    reasons: str
    outcome: int


@dataclass(frozen=True, slots=True)
class Filed:
    """A report whose rows are stored, with the day that they count for."""

    report_id: int
    receiver_id: int
    day: date


@dataclass(frozen=True, slots=True)
class NewRow:
    """A row to be stored; the domain is one of the tenant's."""

    domain_id: int
    ip: bytes
    result: bytes
    outcome: int
    n: int


@dataclass(frozen=True, slots=True)
class NewTlsRow:
    """Sessions to be stored. `result` is empty for those that succeeded."""

    domain_id: int
    policy: str
    result: str
    mx: str
    sending_ip: str
    receiving_ip: str
    reason: str
    sessions: int


_REPORT = (
    select(
        t.receiver_report, t.report_receiver.c.name.label("receiver"), t.report_receiver.c.label.label("label"),
    ).join(t.report_receiver, t.report_receiver.c.id == t.receiver_report.c.receiver_id)
)  # fmt: skip


def known_domains(connection: Connection, tenant_id: int) -> dict[str, int]:
    """Return the tenant's sending domains, those only seen in mail too, with their ids."""
    c = t.sending_domain.c
    return {row.name: row.id for row in connection.execute(select(c.name, c.id).where(c.tenant_id == tenant_id))}


def put_receiver(connection: Connection, tenant_id: int, name: str, label: str) -> int:
    """Return the id of a receiver, which is added when it is new."""
    c = t.report_receiver.c
    query = select(c.id).where(c.tenant_id == tenant_id, c.name == name)
    found = connection.scalar(query)
    if found is None:
        connection.execute(
            insert(t.report_receiver).prefix_with("IGNORE").values(tenant_id=tenant_id, name=name, label=label)
        )
        found = connection.scalar(query.with_for_update())
    return int(found or 0)


def add_report(connection: Connection, **values: Unpack[ReceiverReportColumns]) -> int | None:
    """Add a report; return its id, None where the tenant has it already."""
    done = connection.execute(insert(t.receiver_report).prefix_with("IGNORE").values(**values))
    return int(done.lastrowid) if done.rowcount else None


def find_by_digest(connection: Connection, tenant_id: int, digest: bytes) -> ReportRow | None:
    """Return the report that has this digest of receiver, id, domain and period."""
    c = t.receiver_report.c
    return value_of(ReportRow, connection.execute(_REPORT.where(c.tenant_id == tenant_id, c.digest == digest)).first())


def put_originals(connection: Connection, originals: Sequence[tuple[int, bytes]]) -> None:
    """Store reports, by id, as they came."""
    pieces = [
        {"id": id, "number": number, "octets": octets[at : at + _PIECE]}
        for id, octets in originals
        for number, at in enumerate(range(0, len(octets), _PIECE))
    ]
    if pieces:
        connection.execute(insert(t.receiver_report_piece), pieces)


def get_original(connection: Connection, id: int) -> bytes:
    """Return a report as it came; empty where that is not kept any more."""
    c = t.receiver_report_piece.c
    return b"".join(connection.scalars(select(c.octets).where(c.id == id).order_by(c.number)))


def put_rows(
    connection: Connection, tenant_id: int, reports: Sequence[tuple[Filed, Sequence[NewRow]]],
    results: Mapping[bytes, NewResult],
) -> None:  # fmt: skip
    """Store rows of reports with their sources, results and sums."""
    ids = _put_results(connection, tenant_id, results)
    days: dict[tuple[int, bytes], tuple[date, date]] = {}
    for filed, rows in reports:
        for key in {(row.domain_id, row.ip) for row in rows}:
            first, last = days.get(key, (filed.day, filed.day))
            days[key] = (min(first, filed.day), max(last, filed.day))
    sources = _put_sources(connection, tenant_id, days)
    by_row: Counter[tuple[int, int, date, int, int]] = Counter()
    by_source: Counter[tuple[int, int, date, int]] = Counter()
    by_receiver: Counter[tuple[int, date, int, str, int]] = Counter()
    for filed, rows in reports:
        for row in rows:
            source_id, verdict = sources[row.domain_id, row.ip]
            by_row[row.domain_id, source_id, filed.day, filed.report_id, ids[row.result]] += row.n
            by_source[row.domain_id, source_id, filed.day, row.outcome] += row.n
            by_receiver[row.domain_id, filed.day, filed.receiver_id, verdict, row.outcome] += row.n
    add = "ON DUPLICATE KEY UPDATE n = n + VALUES(n)"
    tables: Sequence[tuple[str, str, Counter[Any]]] = (
        ("report_row", "domain_id, source_id, day, report_id, result_id, n", by_row),
        ("report_source_day", "domain_id, source_id, day, outcome, n", by_source),
        ("report_receiver_day", "domain_id, day, receiver_id, verdict, outcome, n", by_receiver),
    )
    for table, columns, sums in tables:
        for part in _parts([(*key, n) for key, n in sorted(sums.items())]):
            insert_rows(connection, f"INSERT INTO {table} ({columns}) VALUES", part, add)
    changes.note(connection, tenant_id, "reports")


def put_names(connection: Connection, day: date, names: Mapping[tuple[int, str], tuple[int, int]]) -> None:
    """Count From domains below a domain that nobody added: (messages, of them passed) by (domain id, name)."""
    if not names:
        return
    c = t.report_name.c
    ids = {id for id, _ in names}
    query = select(c.domain_id, func.count()).where(c.domain_id.in_(ids)).group_by(c.domain_id)
    counts = {id: int(n) for id, n in connection.execute(query)}
    there = {
        (row.domain_id, row.name)
        for row in connection.execute(select(c.domain_id, c.name).where(c.domain_id.in_(ids)))
    }  # fmt: skip
    rows = []
    for (domain_id, name), (n, passed) in sorted(names.items()):
        if (domain_id, name) not in there:
            counts[domain_id] = counts.get(domain_id, 0) + 1
            if counts[domain_id] > _MAX_NAMES:
                continue
        rows.append((domain_id, name, day, day, n, passed))
    for part in _parts(rows):
        insert_rows(
            connection, "INSERT INTO report_name (domain_id, name, first_day, last_day, n, passed) VALUES", part,
            "ON DUPLICATE KEY UPDATE first_day = LEAST(first_day, VALUES(first_day)), last_day = "
            "GREATEST(last_day, VALUES(last_day)), n = n + VALUES(n), passed = passed + VALUES(passed)",
        )  # fmt: skip


def put_tls_rows(connection: Connection, report_id: int, day: date, rows: Sequence[NewTlsRow]) -> None:
    """Store the sessions of a TLS report."""
    values = [
        (row.domain_id, day, report_id, number, row.policy, row.result, row.mx, row.sending_ip, row.receiving_ip,
         row.reason, row.sessions)
        for number, row in enumerate(rows)
    ]  # fmt: skip
    head = (
        "INSERT INTO tls_row (domain_id, day, report_id, number, policy, result, mx, sending_ip, receiving_ip, "
        "reason, sessions) VALUES"
    )
    for part in _parts(values):
        insert_rows(connection, head, part)


def _parts(rows: Sequence[Sequence[object]]) -> Iterable[Sequence[Sequence[object]]]:
    return (rows[at : at + _AT_ONCE] for at in range(0, len(rows), _AT_ONCE))


def _put_results(connection: Connection, tenant_id: int, results: Mapping[bytes, NewResult]) -> dict[bytes, int]:
    """Return the ids of results by digest; new ones are added."""
    found = _result_ids(connection, tenant_id, list(results))
    new = [results[digest] for digest in sorted(results.keys() - found.keys())]
    if new:
        head = (
            "INSERT IGNORE INTO report_result (tenant_id, digest, header_from, envelope_from, spf_domain, spf_result, "
            "helo_domain, helo_result, signatures, reasons, outcome) VALUES"
        )
        rows = [
            (tenant_id, each.digest, each.header_from, each.envelope_from, each.spf_domain, each.spf_result,
             each.helo_domain, each.helo_result, each.signatures, each.reasons, each.outcome)
            for each in new
        ]  # fmt: skip
        for part in _parts(rows):
            insert_rows(connection, head, part)
        found |= _result_ids(connection, tenant_id, [each.digest for each in new], lock=True)
    return found


def _result_ids(
    connection: Connection, tenant_id: int, digests: Sequence[bytes], *, lock: bool = False
) -> dict[bytes, int]:
    """Return ids by digest. `lock` reads what others committed since this transaction began."""
    c = t.report_result.c
    out: dict[bytes, int] = {}
    for at in range(0, len(digests), _AT_ONCE):
        query = select(c.digest, c.id).where(c.tenant_id == tenant_id, c.digest.in_(digests[at : at + _AT_ONCE]))
        rows = connection.execute(query.with_for_update(read=True) if lock else query)
        out |= {bytes(digest): int(id) for digest, id in rows}
    return out


def _put_sources(
    connection: Connection, tenant_id: int, days: Mapping[tuple[int, bytes], tuple[date, date]]
) -> dict[tuple[int, bytes], tuple[int, str]]:
    """Return (id, verdict) by (domain id, address), of those that sent on days, the first and the last; new sources are
    unknown until somebody judges them."""
    head = (
        "INSERT INTO report_source (tenant_id, domain_id, ip, verdict, group_name, certainty, evidence, first_day, "
        "last_day) VALUES"
    )
    tail = (
        "ON DUPLICATE KEY UPDATE first_day = LEAST(first_day, VALUES(first_day)), "
        "last_day = GREATEST(last_day, VALUES(last_day)), judged_at = NULL, changes = changes + 1"
    )
    out: dict[tuple[int, bytes], tuple[int, str]] = {}
    c = t.report_source.c
    keys = sorted(days)  # locked in one order
    for at in range(0, len(keys), _AT_ONCE):
        part = keys[at : at + _AT_ONCE]
        rows = [(tenant_id, *key, "unknown", "", 0.0, "[]", *days[key]) for key in part]
        insert_rows(connection, head, rows, tail)
        by_domain: dict[int, list[bytes]] = {}
        for domain_id, ip in part:
            by_domain.setdefault(domain_id, []).append(ip)
        for domain_id, ips in by_domain.items():
            query = select(c.ip, c.id, c.verdict).where(c.domain_id == domain_id, c.ip.in_(ips)).with_for_update()
            out |= {(domain_id, bytes(ip)): (int(id), verdict) for ip, id, verdict in connection.execute(query)}
    return out


def reject(connection: Connection, **values: Unpack[RejectedReportColumns]) -> None:
    """Set octets aside that are not read as a report; the same ones once, with the newest reason."""
    statement = upsert(t.rejected_report).values(**values)
    connection.execute(
        statement.on_duplicate_key_update(
            arrived_at=statement.inserted.arrived_at, what=statement.inserted.what, why=statement.inserted.why,
            remedy=statement.inserted.remedy,
        )
    )  # fmt: skip


def list_rejected(connection: Connection, tenant_id: int, before: int | None, limit: int) -> list[RejectedReportRow]:
    """Return rejected reports, newest first, from below id `before`."""
    c = t.rejected_report.c
    query = select(t.rejected_report).where(c.tenant_id == tenant_id).order_by(c.id.desc()).limit(limit)
    return values_of(RejectedReportRow, connection.execute(query if before is None else query.where(c.id < before)))


def rejected_octets(connection: Connection, tenant_id: int, id: int) -> bytes | None:
    """Return what was rejected; None where it is not there, or was too large to be kept."""
    c = t.rejected_report.c
    found = connection.scalar(select(c.octets).where(c.tenant_id == tenant_id, c.id == id))
    return bytes(found) if found is not None else None


def delete_rejected(connection: Connection, tenant_id: int, id: int) -> bool:
    """Delete a rejected report; False where there is none."""
    c = t.rejected_report.c
    return bool(connection.execute(delete(t.rejected_report).where(c.tenant_id == tenant_id, c.id == id)).rowcount)


def list_reports(
    connection: Connection, tenant_id: int, *, before: int | None = None, limit: int = 100, domain: str = "",
    kind: str = "", receiver: str = "", ours: bool | None = None,
) -> list[ReportRow]:  # fmt: skip
    """Return reports, the newest first, from below id `before`; `ours`: about domains of the tenant or of others."""
    c = t.receiver_report.c
    query = _REPORT.where(c.tenant_id == tenant_id).order_by(c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(c.id < before)
    if domain:
        query = query.where(c.domain == domain)
    if kind:
        query = query.where(c.kind == kind)
    if receiver:
        query = query.where(t.report_receiver.c.name == receiver)
    if ours is not None:
        query = query.where(c.domain_id.is_not(None) if ours else c.domain_id.is_(None))
    return values_of(ReportRow, connection.execute(query))


def get_report(connection: Connection, tenant_id: int, id: int) -> ReportRow | None:
    """Return a report of the tenant."""
    c = t.receiver_report.c
    return value_of(ReportRow, connection.execute(_REPORT.where(c.tenant_id == tenant_id, c.id == id)).first())


def overlapping(connection: Connection, row: ReportRow) -> list[int]:
    """Return other reports of the same receiver, domain and kind whose period overlaps this one, by id."""
    c = t.receiver_report.c
    if row.kind == "failure" or row.begins_at == row.ends_at:
        return []
    query = select(c.id).where(
        c.receiver_id == row.receiver_id, c.ends_at > row.begins_at, c.begins_at < row.ends_at, c.domain == row.domain,
        c.kind == row.kind, c.id != row.id,
    )  # fmt: skip
    return [int(id) for id in connection.scalars(query.order_by(c.id).limit(20))]


def records_of(connection: Connection, report_id: int, limit: int) -> list[RecordRow]:
    """Return rows of a report, those with most messages first."""
    r, s = t.report_row.c, t.report_source.c
    query = (
        select(s.ip, r.source_id, r.result_id, r.n)
        .join(t.report_source, s.id == r.source_id)
        .where(r.report_id == report_id)
        .order_by(r.n.desc(), s.ip, r.result_id)
        .limit(limit)
    )
    return values_of(RecordRow, connection.execute(query))


def results_of(connection: Connection, ids: Iterable[int]) -> dict[int, ResultRow]:
    """Return results by id."""
    wanted = sorted(set(ids))
    out: dict[int, ResultRow] = {}
    for at in range(0, len(wanted), _AT_ONCE):
        query = select(t.report_result).where(t.report_result.c.id.in_(wanted[at : at + _AT_ONCE]))
        out |= {row.id: row for row in values_of(ResultRow, connection.execute(query))}
    return out


def reports_to_file(connection: Connection, tenant_id: int, limit: int = 200) -> list[int]:
    """Return reports that were about nobody's domain and whose domain, or one above it, is the tenant's by now."""
    rows = run(
        connection,
        "SELECT r.id FROM receiver_report AS r JOIN sending_domain AS d ON d.tenant_id = r.tenant_id "
        "AND (r.domain = d.name OR RIGHT(r.domain, LENGTH(d.name) + 1) = CONCAT('.', d.name)) "
        f"WHERE r.tenant_id = {tenant_id} AND r.domain_id IS NULL AND r.kind <> 'failure' "
        f"ORDER BY r.id LIMIT {limit}",
    )  # fmt: skip
    return [int(id) for (id,) in rows]


def delete_reports(connection: Connection, ids: Sequence[int]) -> int:
    """Delete reports with their rows; take them out of the sums. Return how many rows were removed."""
    listed = ", ".join(map(str, ids)) or "0"
    tenants = set(connection.scalars(select(t.receiver_report.c.tenant_id).where(t.receiver_report.c.id.in_(ids))))
    run(
        connection,
        "UPDATE report_source_day AS s JOIN (SELECT r.domain_id, r.source_id, r.day, e.outcome, SUM(r.n) AS n "
        f"FROM report_row AS r JOIN report_result AS e ON e.id = r.result_id WHERE r.report_id IN ({listed}) "
        "GROUP BY r.domain_id, r.source_id, r.day, e.outcome) AS gone USING (domain_id, source_id, day, outcome) "
        "SET s.n = IF(s.n > gone.n, s.n - gone.n, 0)",
    )
    run(
        connection,
        "UPDATE report_receiver_day AS s JOIN (SELECT r.domain_id, r.day, p.receiver_id, o.verdict, e.outcome, "
        "SUM(r.n) AS n FROM report_row AS r JOIN report_result AS e ON e.id = r.result_id "
        "JOIN receiver_report AS p ON p.id = r.report_id JOIN report_source AS o ON o.id = r.source_id "
        f"WHERE r.report_id IN ({listed}) GROUP BY r.domain_id, r.day, p.receiver_id, o.verdict, e.outcome) AS gone "
        "USING (domain_id, day, receiver_id, verdict, outcome) SET s.n = IF(s.n > gone.n, s.n - gone.n, 0)",
    )
    removed = run(connection, f"DELETE FROM report_row WHERE report_id IN ({listed})").rowcount
    removed += run(connection, f"DELETE FROM tls_row WHERE report_id IN ({listed})").rowcount
    run(connection, f"DELETE FROM receiver_report WHERE id IN ({listed})")
    for tenant_id in tenants:
        changes.note(connection, tenant_id, "reports")
    return int(removed)


def failures_from(
    connection: Connection, domain_id: int, ips: Sequence[str], since: datetime, until: datetime, limit: int
) -> tuple[int, list[ReportRow]]:
    """Return how many failure reports there are about a domain's mail from some addresses, and the newest."""
    c = t.receiver_report.c
    source: Any = func.json_value(c.document, "$.failure.source_ip")
    which = (c.domain_id == domain_id, c.kind == "failure", c.ends_at >= since, c.ends_at < until,
             source.in_(ips or [""]))  # fmt: skip
    number = connection.scalar(select(func.count()).select_from(t.receiver_report).where(*which))
    rows = connection.execute(_REPORT.where(*which).order_by(c.ends_at.desc(), c.id.desc()).limit(limit))
    return int(number or 0), values_of(ReportRow, rows)


def failures_about(connection: Connection, tenant_id: int, address: str) -> list[int]:
    """Return failure reports whose message or envelope names an address, by id: they may hold the message itself."""
    c, p = t.receiver_report.c, t.receiver_report_piece.c
    octets: Any = literal_column("CONVERT(receiver_report_piece.octets USING latin1)")  # compared in any case
    named = select(p.id).where(p.id == c.id, func.locate(address, octets) > 0).exists()
    query = select(c.id).where(
        c.tenant_id == tenant_id, c.kind == "failure",
        named | (func.lower(func.json_value(c.document, "$.failure.mail_from")) == address.lower()),
    )  # fmt: skip
    return [int(id) for id in connection.scalars(query)]


def of_feed(connection: Connection, feed_id: int, since: datetime) -> tuple[datetime | None, int, int]:
    """Return when the newest report of a feed came, how many came since a time, and how many are set aside."""
    c, r = t.receiver_report.c, t.rejected_report.c
    newest, stored = connection.execute(
        select(func.max(c.arrived_at), func.coalesce(func.sum(func.if_(c.arrived_at >= since, 1, 0)), 0)).where(
            c.feed_id == feed_id
        )
    ).one()
    return newest, int(stored), int(connection.scalar(select(func.count()).where(r.feed_id == feed_id)) or 0)


def reports_before(connection: Connection, tenant_id: int, before: datetime, limit: int) -> list[int]:
    """Return reports whose period ended before a time, oldest first, by id."""
    c = t.receiver_report.c
    query = select(c.id).where(c.tenant_id == tenant_id, c.ends_at < before).order_by(c.ends_at).limit(limit)
    return [int(id) for id in connection.scalars(query)]


def forget_originals(connection: Connection, tenant_id: int, before: datetime, limit: int) -> int:
    """Delete the originals of reports that arrived before a time, a limited number; return how many pieces went."""
    c = t.receiver_report.c
    with_original = select(t.receiver_report_piece.c.id).where(t.receiver_report_piece.c.id == c.id).exists()
    query = select(c.id).where(c.tenant_id == tenant_id, c.arrived_at < before, with_original).limit(limit)
    ids = list(connection.scalars(query))
    if not ids:
        return 0
    return int(
        connection.execute(delete(t.receiver_report_piece).where(t.receiver_report_piece.c.id.in_(ids))).rowcount
    )


def forget_rejected(connection: Connection, tenant_id: int, before: datetime) -> None:
    """Delete reports that were set aside before a time."""
    c = t.rejected_report.c
    connection.execute(delete(t.rejected_report).where(c.tenant_id == tenant_id, c.arrived_at < before))


def update_report(connection: Connection, report: int, /, **values: Unpack[ReceiverReportColumns]) -> None:
    """Change columns of a report."""
    connection.execute(update(t.receiver_report).where(t.receiver_report.c.id == report).values(**values))
