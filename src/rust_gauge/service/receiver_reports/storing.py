"""Taking in reports of receivers: each is stored once with its rows, or set aside with the reason.

A report about a domain that is nobody's here is stored without rows: when the domain is added, it is filed.
"""

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from ipaddress import ip_address
from typing import Any, Literal, TypedDict

import orjson
from sqlalchemy import Connection

from rust_gauge.contract.receiver_reports import ReportedRecord, StoredReport
from rust_gauge.core.names import registered_domain
from rust_gauge.core.reports import (
    AggregateReport,
    FailureReport,
    ReportError,
    ReportRow,
    TlsReport,
    is_document,
    is_packed,
    open_document,
    stream_report,
)
from rust_gauge.core.reports.archives import further_reports
from rust_gauge.core.reports.outcomes import Outcome, outcome_of
from rust_gauge.service.receiver_reports.authenticity import Authenticity, judge_mail
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.poison import unexpected
from rust_gauge.store import receiver_reports as store
from rust_gauge.store.engine import StoreError
from rust_gauge.store.jobs import ClaimLost

Way = Literal["mail", "post", "upload", "api"]
_AT_ONCE = 20_000  # rows that are held before they are stored; larger reports are read a second time
_KEPT_REJECTED = 8 * 1024 * 1024  # octets; larger ones are set aside with their reason only
_EARLIEST = datetime(2012, 1, 1)
_KINDS = {AggregateReport: "aggregate", FailureReport: "failure", TlsReport: "tls"}
_WORDS = {**_KINDS, TlsReport: "TLS"}
_UNFINISHED = "It is still being stored; some of its rows are missing"
JUDGE = "report_sources"  # the job that judges sources

AnyReport = AggregateReport | FailureReport | TlsReport


@dataclass(slots=True)
class _Batch:
    """Rows of a report that are stored together."""

    rows: list[store.NewRow] = field(default_factory=list)
    results: dict[bytes, store.NewResult] = field(default_factory=dict)
    names: dict[tuple[int, str], tuple[int, int]] = field(default_factory=dict)

    def put(self, connection: Connection, tenant_id: int, filed: store.Filed) -> None:
        """Store them as rows of a report."""
        store.put_rows(connection, tenant_id, [(filed, self.rows)], self.results)
        store.put_names(connection, filed.day, self.names)


class _Sums(TypedDict):
    messages: int
    passed: int


@dataclass(slots=True)
class _Totals:
    messages: int = 0
    passed: int = 0

    def columns(self) -> _Sums:
        """Return them as columns of a report."""
        return {"messages": min(self.messages, 2**63), "passed": min(self.passed, 2**63)}

    def put(self, connection: Connection, id: int, records: int) -> None:
        """Store them with a report."""
        store.update_report(connection, id, records=records, **self.columns())


@dataclass(frozen=True, slots=True)
class _Read:
    """A report that was read. `rows` is None for one with too many to hold."""

    report: AnyReport
    rows: list[ReportRow] | None
    octets: bytes
    authenticity: Authenticity


def store_report(context: Context, tenant_id: int, octets: bytes, way: Way, feed_id: int | None = None) -> StoredReport:
    """Store a report as it came, and those with it in the same file. One that is not read, or is damaged, is set aside;
    nothing is raised for it."""
    first, *further = store_reports(context, tenant_id, [octets], way, feed_id)
    if not further:
        return first
    rejected = sum(each.state == "rejected" for each in further)
    text = f"The file holds further reports: {len(further) - rejected} were stored, {rejected} set aside"
    return first.model_copy(update={"oddities": [*first.oddities, text]})


def store_reports(
    context: Context, tenant_id: int, reports: Sequence[bytes], way: Way, feed_id: int | None = None,
    only: type[AnyReport] | None = None,
) -> list[StoredReport]:  # fmt: skip
    """Store many reports, in one transaction as far as they are read; return what became of each, in their order.
    Where a file or message holds several, the further ones follow at the end. `only`: those of another kind are set
    aside."""
    given, reports = len(reports), [*reports]
    out: dict[int, StoredReport] = {}
    read: dict[int, _Read] = {}
    incomplete: list[StoredReport] = []
    carried: dict[int, Authenticity] = {}  # by the mail that a further report came in
    for number, octets in enumerate(reports):  # it grows by those that are found within others
        found = _read(context, tenant_id, octets, carried.get(number))
        if number < given and isinstance(found, _Read) and not isinstance(found.report, FailureReport):
            try:
                for part in further_reports(octets):
                    carried[len(reports)] = found.authenticity
                    reports.append(part)
            except ReportError as error:  # those before it count
                reason = (error.what, error.why, error.remedy)
                incomplete.append(_set_aside(context, tenant_id, octets, way, feed_id, reason))
        if isinstance(found, _Read) and only is not None and not isinstance(found.report, only):
            found = (f"Only {_WORDS[only]} reports are taken here", "", "Send others by mail, or upload them")
        if isinstance(found, _Read):
            read[number] = found
        else:
            out[number] = _set_aside(context, tenant_id, octets, way, feed_id, found)
    now = context.clock()

    def write(connection: Connection) -> dict[int, StoredReport]:
        writer = _Writer(connection, tenant_id, store.known_domains(connection, tenant_id), way, feed_id, now)
        stored = {number: writer.add(each) for number, each in read.items()}
        writer.flush()
        return stored

    if read:
        try:
            out |= context.store.transaction(write)
        except (StoreError, ClaimLost):  # of the database, or of the worker: no report is to blame
            raise
        except Exception as error:  # whatever it is, it spoils the report alone that it is about
            if len(read) == 1:
                (number,) = read
                what = unexpected("report", error, tenant=tenant_id)
                reason = (what, "", "Report this with the original")
                out[number] = _set_aside(context, tenant_id, reports[number], way, feed_id, reason)
            else:
                for number in read:
                    out[number] = store_reports(context, tenant_id, [reports[number]], way, feed_id, only)[0]
    further = [each for number in range(given, len(reports)) if (each := out[number]).state != "duplicate"]
    return [*(out[number] for number in range(given)), *further, *incomplete]


def store_in_parts(context: Context, tenant_id: int, octets: bytes, told: Callable[[float], None]) -> StoredReport:
    """Store one report that was uploaded. The rows of a large one are stored in transactions of their own, and `told`
    is called with the share that is done. What it raises ends the work, and nothing of the report stays.
    """
    found = _read(context, tenant_id, octets)
    if not isinstance(found, _Read) or found.rows is not None or not isinstance(found.report, AggregateReport):
        return store_report(context, tenant_id, octets, "upload")
    report, now = found.report, context.clock()

    def begin(connection: Connection) -> tuple[StoredReport, Mapping[str, int], int]:
        writer = _Writer(connection, tenant_id, store.known_domains(connection, tenant_id), "upload", None, now)
        stored = writer.add(found, in_parts=True)
        writer.flush()
        return stored, writer.known, writer.receiver(report)

    stored, known, receiver_id = context.store.transaction(begin)
    if stored.state == "duplicate" or stored.id is None:
        return stored
    id, document = stored.id, {**_document(report), "oddities": stored.oddities}
    filed = store.Filed(id, receiver_id, _day(*_period(report, now)[:2]))
    done = 0

    def put(batch: _Batch) -> None:
        nonlocal done
        context.store.transaction(lambda c: batch.put(c, tenant_id, filed))
        done += len(batch.rows)
        told(min(1.0, done / max(1, report.records)))

    def finish(connection: Connection) -> None:
        totals.put(connection, id, report.records)
        store.update_report(connection, id, document=document)

    try:
        totals = _take_rows(report, octets, known, put)
        context.store.transaction(finish)
    except BaseException:
        context.store.transaction(lambda c: store.delete_reports(c, [id]))
        raise
    return stored


def _read(
    context: Context, tenant_id: int, octets: bytes, authenticity: Authenticity | None = None
) -> _Read | tuple[str, str, str]:
    """Read a report; where it cannot be, return what is wrong, why, and what to do. `authenticity`: of the mail that it
    was taken out of."""
    held: list[ReportRow] = []

    def hold(row: ReportRow) -> None:
        if len(held) <= _AT_ONCE:
            held.append(row)

    try:
        report = stream_report(octets, hold)
    except ReportError as error:
        return error.what, error.why, error.remedy
    except Exception as error:  # whatever it is, the next report is read
        return unexpected("report", error, tenant=tenant_id), "", "Report this with the original"
    if authenticity is None:
        authenticity = judge_mail(context, octets) if _is_mail(octets) else Authenticity("not_mail", "")
    return _Read(report, held if len(held) <= _AT_ONCE else None, octets, authenticity)


def _is_mail(octets: bytes) -> bool:
    return not is_packed(octets) and not is_document(octets)


class _Writer:
    """Stores reports in one transaction. Rows and originals of several are written together, at the latest by `flush`:
    most of the time goes into statements, and each report alone needs eleven.
    """

    def __init__(
        self, connection: Connection, tenant_id: int, known: Mapping[str, int], way: Way, feed_id: int | None,
        now: datetime,
    ) -> None:  # fmt: skip
        self.known = known
        self._connection, self._tenant_id, self._way, self._feed_id, self._now = (
            connection, tenant_id, way, feed_id, now
        )  # fmt: skip
        self._receivers: dict[str, int] = {}
        self._filed: list[tuple[store.Filed, list[store.NewRow]]] = []
        self._results: dict[bytes, store.NewResult] = {}
        self._originals: list[tuple[int, bytes]] = []

    def receiver(self, report: AnyReport) -> int:
        """Return the id of a report's receiver."""
        name = _receiver(report)
        if name not in self._receivers:
            self._receivers[name] = store.put_receiver(self._connection, self._tenant_id, name, _label(report))
        return self._receivers[name]

    def add(self, read: _Read, *, in_parts: bool = False) -> StoredReport:
        """Store a report with its rows; `in_parts`: without them, which follow. One that was left so is begun again."""
        report, authenticity, connection = read.report, read.authenticity, self._connection
        domain = report.policies[0].domain if isinstance(report, TlsReport) and report.policies else _domain_of(report)
        begins_at, ends_at, oddities = _period(report, self._now)
        kind, receiver = _KINDS[type(report)], _receiver(report)
        identity = (kind, receiver, report.report_id or _content(read.octets), domain, str(begins_at), str(ends_at))
        digest = hashlib.blake2b("\0".join(identity).encode(), digest_size=16).digest()
        receiver_id = self.receiver(report)
        if in_parts:
            there = store.find_by_digest(connection, self._tenant_id, digest)
            if there is not None and _UNFINISHED in there.document.get("oddities", ()):
                store.delete_reports(connection, [there.id])
        held = isinstance(report, AggregateReport) and read.rows is not None and not in_parts
        batch, totals = _Batch(), _Totals()
        if held:
            for row in read.rows or ():
                _add(row, _domain_of(report), self.known, batch, totals)
        id = store.add_report(
            connection, tenant_id=self._tenant_id, kind=kind, digest=digest, receiver_id=receiver_id,
            report_id=report.report_id, domain=domain, domain_id=domain_of(domain, self.known), begins_at=begins_at,
            ends_at=ends_at, arrived_at=self._now, arrived_by=self._way, feed_id=self._feed_id,
            authentic=authenticity.state, authentic_domain=authenticity.domain,
            records=getattr(report, "records", 0) if held else 0, left_out=getattr(report, "left_out", 0),
            **totals.columns(),
            document={**_document(report), "oddities": [*oddities, *([_UNFINISHED] if in_parts else [])]},
        )  # fmt: skip
        if id is None:
            there = store.find_by_digest(connection, self._tenant_id, digest)
            return StoredReport(
                state="duplicate", id=there.id if there else None, kind=kind, domain=domain, receiver=receiver
            )
        self._originals.append((id, read.octets))
        filed = store.Filed(id, receiver_id, _day(begins_at, ends_at))
        if held:
            self._take(filed, batch)
        elif not in_parts:
            _file(connection, self._tenant_id, filed, report, read.octets, self.known)
        ours = domain_of(domain, self.known) is not None
        return StoredReport(
            state="stored" if ours else "not_ours", id=id, kind=kind, domain=domain, receiver=receiver,
            records=getattr(report, "records", 0), left_out=getattr(report, "left_out", 0), oddities=oddities,
        )  # fmt: skip

    def _take(self, filed: store.Filed, batch: _Batch) -> None:
        self._filed.append((filed, batch.rows))
        self._results |= batch.results
        store.put_names(self._connection, filed.day, batch.names)
        if sum(len(rows) for _, rows in self._filed) >= _AT_ONCE:
            self.flush()

    def flush(self) -> None:
        """Write what is held."""
        if self._filed:
            store.put_rows(self._connection, self._tenant_id, self._filed, self._results)
        store.put_originals(self._connection, self._originals)
        self._filed, self._results, self._originals = [], {}, []


def _day(begins_at: datetime, ends_at: datetime) -> date:
    return (begins_at + (ends_at - begins_at) / 2).date()


def file_later(context: Context, tenant_id: int) -> int:
    """File reports whose domain was added since they came; return how many."""
    done = 0
    for id in context.store.transaction(lambda c: store.reports_to_file(c, tenant_id)):
        done += context.store.transaction(lambda c, id=id: _file_one(c, tenant_id, id))  # type: ignore[misc]
    return done


def _file_one(connection: Connection, tenant_id: int, id: int) -> bool:
    row = store.get_report(connection, tenant_id, id)
    octets = store.get_original(connection, id)
    known = store.known_domains(connection, tenant_id)
    if row is None or row.domain_id is not None or not octets:
        return False
    report = stream_report(octets, lambda each: None)
    store.update_report(connection, id, domain_id=domain_of(row.domain, known))
    filed = store.Filed(id, row.receiver_id, _day(row.begins_at, row.ends_at))
    _file(connection, tenant_id, filed, report, octets, known)
    return True


def _file(
    connection: Connection, tenant_id: int, filed: store.Filed, report: AnyReport, octets: bytes,
    known: Mapping[str, int],
) -> None:  # fmt: skip
    """Store what a report tells of domains of the tenant."""
    if isinstance(report, TlsReport):
        _file_tls(connection, filed.report_id, report, known, filed.day)
    elif isinstance(report, FailureReport):
        store.update_report(connection, filed.report_id, records=1, messages=report.incidents)
    else:
        totals = _take_rows(report, octets, known, lambda batch: batch.put(connection, tenant_id, filed))
        totals.put(connection, filed.report_id, report.records)


def _take_rows(
    report: AggregateReport, octets: bytes, known: Mapping[str, int], put: Callable[[_Batch], None]
) -> _Totals:  # fmt: skip
    """Read a report and pass its rows on in batches."""
    batch, totals = _Batch(), _Totals()

    def take(row: ReportRow) -> None:
        nonlocal batch
        _add(row, report.domain, known, batch, totals)
        if len(batch.rows) >= _AT_ONCE:
            put(batch)
            batch = _Batch()

    stream_report(octets, take)
    if batch.rows:
        put(batch)
    return totals


def _add(row: ReportRow, policy_domain: str, known: Mapping[str, int], batch: _Batch, totals: _Totals) -> None:
    outcome = outcome_of(row, policy_domain)
    totals.messages += row.count
    totals.passed += row.count if outcome.aligned else 0
    governed = domain_of(policy_domain, known)
    if governed is None:
        return
    domain_id = domain_of(row.header_from, known) or governed
    result = _result(row, outcome)
    batch.results[result.digest] = result
    ip = ip_address(row.source_ip).packed
    batch.rows.append(store.NewRow(domain_id, ip, result.digest, int(outcome), row.count))
    if row.header_from not in known:
        n, passed = batch.names.get((domain_id, row.header_from), (0, 0))
        batch.names[domain_id, row.header_from] = (n + row.count, passed + (row.count if outcome.aligned else 0))


def _result(row: ReportRow, outcome: Outcome) -> store.NewResult:
    signatures = orjson.dumps([[each.domain, each.selector, each.result] for each in row.signatures]).decode()
    reasons = orjson.dumps([[each.kind, each.comment] for each in row.reasons]).decode()
    parts = (
        row.header_from, row.envelope_from, row.spf_domain, row.spf_result, row.helo_domain, row.helo_result,
        signatures, reasons,
    )  # fmt: skip
    identity = "\0".join((*parts, str(int(outcome))))
    digest = hashlib.blake2b(identity.encode("utf-8", "replace"), digest_size=16).digest()
    return store.NewResult(digest, *parts, int(outcome))


def domain_of(name: str, known: Mapping[str, int]) -> int | None:
    """Return the domain of the tenant that a name belongs to: itself, or the nearest above it in its organisation."""
    top = registered_domain(name) if name else ""
    while name:
        if name in known:
            return known[name]
        if name == top:
            return None
        name = name.partition(".")[2]
    return None


def _file_tls(connection: Connection, id: int, report: TlsReport, known: Mapping[str, int], day: date) -> None:
    rows: list[store.NewTlsRow] = []
    sessions = successful = 0
    for policy in report.policies:
        sessions += policy.successful + policy.failed
        successful += policy.successful
        domain_id = domain_of(policy.domain, known)
        if domain_id is None:
            continue
        told = sum(failure.sessions for failure in policy.failures)
        if policy.successful:
            rows.append(store.NewTlsRow(domain_id, policy.kind, "", "", "", "", "", policy.successful))
        rows += [
            store.NewTlsRow(
                domain_id, policy.kind, failure.result, failure.receiving_mx, failure.sending_ip, failure.receiving_ip,
                failure.reason, failure.sessions,
            )
            for failure in policy.failures
        ]  # fmt: skip
        if policy.failed > told:  # failures of which the report gives no details
            rows.append(store.NewTlsRow(domain_id, policy.kind, "not-told", "", "", "", "", policy.failed - told))
    store.put_tls_rows(connection, id, day, rows)
    store.update_report(connection, id, records=len(rows), messages=sessions, passed=successful)


def _set_aside(
    context: Context, tenant_id: int, octets: bytes, way: Way, feed_id: int | None, reason: tuple[str, str, str]
) -> StoredReport:
    """Set aside what is not read as a report, with (what, why, what to do)."""
    what, why, remedy = reason
    digest = hashlib.blake2b(octets, digest_size=16).digest()
    write: Callable[[Connection], None] = lambda c: store.reject(  # noqa: E731
        c, tenant_id=tenant_id, feed_id=feed_id, digest=digest, arrived_at=context.clock(), arrived_by=way,
        what=what[:500], why=why[:500], remedy=remedy[:500], size=len(octets),
        octets=octets if len(octets) <= _KEPT_REJECTED else None,
    )  # fmt: skip
    context.store.transaction(write)
    return StoredReport(state="rejected", problem=what, why=why, remedy=remedy)


def _domain_of(report: AnyReport) -> str:
    return "" if isinstance(report, TlsReport) else report.domain


def _receiver(report: AnyReport) -> str:
    """Return the name that a receiver is compared by: the domain of its address for reports, else its own name."""
    contact = getattr(report, "contact", "").strip("<>").rpartition("@")[2].lower()
    if "." in contact:
        return registered_domain(contact)[:200]
    name = report.reporter.lower()
    return (registered_domain(name) if "." in name and " " not in name else name)[:200]


def _label(report: AnyReport) -> str:
    return (report.reporter or _receiver(report))[:200]


def _content(octets: bytes) -> str:
    """Return what tells a report without an id from others: its document, however it is packed."""
    digest = hashlib.blake2b(digest_size=16)
    try:
        for piece in open_document(octets):
            digest.update(piece)
    except ReportError:  # mail without a document, as failure reports are
        digest.update(octets)
    return digest.hexdigest()


def _period(report: AnyReport, now: datetime) -> tuple[datetime, datetime, list[str]]:
    """Return begin and end, and what is odd about the report. One without a usable period is filed under the day before
    it came."""
    oddities = list(getattr(report, "oddities", ()))
    now = now.replace(tzinfo=None)
    if isinstance(report, FailureReport):
        at = _time(report.at)
        usable = at is not None and at <= now + timedelta(days=1)
        begins_at = ends_at = at if usable and at else now
        return begins_at, ends_at, oddities
    begin, end = _time(report.begin), _time(report.end)
    if begin is not None and end is not None and begin <= now + timedelta(days=1):
        if end - begin > timedelta(days=8):
            oddities.append("Its period is longer than a week; its messages are filed under the middle of it")
        return begin, max(begin, end), oddities
    yesterday = datetime.combine(now.date() - timedelta(days=1), datetime.min.time())
    oddities.append(f"Its period is not usable; it is filed under {yesterday.date()}, the day before it came")
    return yesterday, yesterday + timedelta(days=1, seconds=-1), oddities


def _time(seconds: int) -> datetime | None:
    try:
        time = datetime.fromtimestamp(seconds, UTC).replace(tzinfo=None)
    except (ValueError, OverflowError, OSError):
        return None
    return time if time >= _EARLIEST else None


def _document(report: AnyReport) -> dict[str, Any]:
    if isinstance(report, AggregateReport):
        policy = report.policy
        return {
            "contact": report.contact,
            "policy": {name: getattr(policy, name) for name in ReportedRecord.model_fields},
        }
    if isinstance(report, TlsReport):
        policies = [
            {"kind": each.kind, "domain": each.domain, "text": list(each.text), "mx": list(each.mx),
             "successful": each.successful, "failed": each.failed}
            for each in report.policies[:50]
        ]  # fmt: skip
        return {"contact": report.contact, "tls": policies}
    names = (
        "failure", "aligned", "delivery", "source_ip", "mail_from", "header_from", "dkim_domain", "selector",
        "dkim_identity", "spf_record", "results", "message_id", "subject", "redacted",
    )  # fmt: skip
    return {"failure": {name: getattr(report, name) for name in names}}
