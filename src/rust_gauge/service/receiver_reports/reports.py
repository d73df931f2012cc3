"""Stored reports as people see them: lists, one with its rows, originals, rejected ones, receivers, retention."""

from collections.abc import Mapping
from datetime import datetime, timedelta
from ipaddress import ip_address
from itertools import pairwise
from statistics import median
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.common import Page
from rust_gauge.contract.receiver_reports import (
    FailureDetails,
    Receiver,
    RejectedReport,
    ReportDetails,
    ReportedRecord,
    ReportReason,
    ReportRecord,
    ReportReplay,
    ReportRetention,
    ReportSignature,
    ReportSummary,
    TlsPolicySeen,
)
from rust_gauge.core.reports.outcomes import Outcome
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.receiver_reports.storing import file_later, store_report
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import audits as store_audits
from rust_gauge.store import receiver_reports as store
from rust_gauge.store import report_receivers
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.receiver_reports import ReportRow, ResultRow

_LISTED = 500  # rows of one report
_AGAIN = 200  # rejected reports that are read again at a time
_SILENT = 3  # usual pauses without a report
_SHORTEST = timedelta(days=3)  # before a receiver counts as silent
RETENTION = "report_retention"


def list_reports(
    context: Context, tenant: TenantAccess, cursor: str | None, limit: int, *, domain: str, kind: str, receiver: str,
    ours: bool | None,
) -> Page[ReportSummary]:  # fmt: skip
    """Return reports, the newest arrival first."""
    position = read_cursor("receiver reports", cursor, int)
    rows = context.store.transaction(
        lambda c: store.list_reports(
            c, tenant.id, before=position[0] if position else None, limit=limit + 1, domain=domain, kind=kind,
            receiver=receiver, ours=ours,
        )
    )  # fmt: skip
    more = write_cursor("receiver reports", rows[limit - 1].id) if len(rows) > limit else None
    return Page(items=[ReportSummary.model_validate(_summary(row)) for row in rows[:limit]], next=more)


def get_report(context: Context, tenant: TenantAccess, id: int) -> ReportDetails:
    """Return a report with its rows. ServiceProblem `not-found`."""
    return context.store.transaction(lambda c: _details(c, _find(c, tenant, id)))


def get_original(context: Context, tenant: TenantAccess, id: int) -> bytes:
    """Return a report as it came. ServiceProblem `not-found` where it is not kept any more."""

    def read(connection: Connection) -> bytes:
        return store.get_original(connection, _find(connection, tenant, id).id)

    octets = context.store.transaction(read)
    if not octets:
        raise ServiceProblem("not-found", f"The original of report {id} is not kept any more")
    return octets


def _find(connection: Connection, tenant: TenantAccess, id: int) -> ReportRow:
    found = store.get_report(connection, tenant.id, id)
    if found is None:
        raise ServiceProblem("not-found", f"{tenant.name} has no receiver report {id}")
    return found


def delete_report(context: Context, tenant: TenantAccess, id: int) -> None:
    """Delete a report, its rows and what they count in sums. ServiceProblem `not-found`."""
    context.store.transaction(lambda c: store.delete_reports(c, [_find(c, tenant, id).id]))


def _summary(row: ReportRow) -> dict[str, Any]:
    return {
        "id": row.id, "kind": row.kind, "receiver": row.receiver, "label": row.label, "report_id": row.report_id,
        "domain": row.domain, "ours": row.domain_id is not None, "begins_at": row.begins_at, "ends_at": row.ends_at,
        "arrived_at": row.arrived_at, "arrived_by": row.arrived_by, "authentic": row.authentic,
        "authentic_domain": row.authentic_domain, "records": row.records, "left_out": row.left_out,
        "messages": row.messages, "passed": row.passed, "oddities": list(row.document.get("oddities", ())),
    }  # fmt: skip


def _details(connection: Connection, row: ReportRow) -> ReportDetails:
    records = store.records_of(connection, row.id, _LISTED + 1)
    results = store.results_of(connection, (record.result_id for record in records[:_LISTED]))
    document: Mapping[str, Any] = row.document
    return ReportDetails(
        **_summary(row),
        policy=ReportedRecord.model_validate(document["policy"]) if "policy" in document else None,
        rows=[shown_record(ip, results[result], n) for ip, result, n in
              ((record.ip, record.result_id, record.n) for record in records[:_LISTED])],
        more_rows=max(0, row.records - row.left_out - _LISTED) if len(records) > _LISTED else 0,
        failure=FailureDetails.model_validate(document["failure"]) if "failure" in document else None,
        tls=[TlsPolicySeen.model_validate(each) for each in document.get("tls", ())],
        overlaps=store.overlapping(connection, row),
        has_original=bool(store.get_original(connection, row.id)),
    )  # fmt: skip


def shown_record(ip: bytes, result: ResultRow, n: int) -> ReportRecord:
    """Return a row as the contract has it."""
    outcome = Outcome(result.outcome)
    return ReportRecord(
        source_ip=str(ip_address(ip)), count=n, header_from=result.header_from, envelope_from=result.envelope_from,
        spf_domain=result.spf_domain, spf_result=result.spf_result, signatures=signatures_of(result),
        spf_aligned=bool(outcome & Outcome.SPF), dkim_aligned=bool(outcome & Outcome.DKIM),
        disposition="reject" if outcome & Outcome.REJECTED
        else "quarantine" if outcome & Outcome.QUARANTINED else "none",
        reasons=reasons_of(result),
    )  # fmt: skip


def signatures_of(result: ResultRow) -> list[ReportSignature]:
    """Return the signatures of a result as the contract has them."""
    return [
        ReportSignature(domain=domain, selector=selector, result=word) for domain, selector, word in result.signatures
    ]


def reasons_of(result: ResultRow) -> list[ReportReason]:
    """Return why receivers did not apply the policy, as the contract has it."""
    return [ReportReason(kind=kind, comment=comment) for kind, comment in result.reasons]


def list_rejected(context: Context, tenant: TenantAccess, cursor: str | None, limit: int) -> Page[RejectedReport]:
    """Return reports that were set aside, newest first."""
    position = read_cursor("rejected reports", cursor, int)
    rows = context.store.transaction(
        lambda c: store.list_rejected(c, tenant.id, position[0] if position else None, limit + 1)
    )
    items = [
        RejectedReport.model_validate(
            {"id": row.id, "arrived_at": row.arrived_at, "arrived_by": row.arrived_by, "problem": row.what,
             "why": row.why, "remedy": row.remedy, "size": row.size}
        )
        for row in rows[:limit]
    ]  # fmt: skip
    return Page(items=items, next=write_cursor("rejected reports", rows[limit - 1].id) if len(rows) > limit else None)


def replay(context: Context, tenant: TenantAccess, id: int | None) -> ReportReplay:
    """Read rejected reports again, one or the newest 200. ServiceProblem `not-found`."""
    rows = context.store.transaction(lambda c: store.list_rejected(c, tenant.id, id + 1 if id else None, _AGAIN))
    rows = [row for row in rows if id is None or row.id == id]
    if id is not None and not rows:
        raise ServiceProblem("not-found", f"{tenant.name} has no rejected report {id}")
    counts = {"stored": 0, "duplicate": 0, "rejected": 0}
    for row in rows:
        octets = context.store.transaction(lambda c, id=row.id: store.rejected_octets(c, tenant.id, id))  # type: ignore[misc]
        if octets is None:
            counts["rejected"] += 1
            continue
        state = store_report(context, tenant.id, octets, row.arrived_by, row.feed_id).state  # type: ignore[arg-type]
        if state != "rejected":
            context.store.transaction(lambda c, id=row.id: store.delete_rejected(c, tenant.id, id))  # type: ignore[misc]
        counts["stored" if state == "not_ours" else state] += 1
    file_later(context, tenant.id)
    return ReportReplay(
        tried=len(rows), stored=counts["stored"], duplicates=counts["duplicate"], rejected=counts["rejected"]
    )


def delete_rejected(context: Context, tenant: TenantAccess, id: int) -> None:
    """Delete a rejected report. ServiceProblem `not-found`."""
    if not context.store.transaction(lambda c: store.delete_rejected(c, tenant.id, id)):
        raise ServiceProblem("not-found", f"{tenant.name} has no rejected report {id}")


def list_receivers(context: Context, tenant: TenantAccess, days: int) -> list[Receiver]:
    """Return the receivers that reported within a period or the year before it, and whether one stopped."""
    now = context.clock()
    return context.store.transaction(lambda c: receivers_of(c, tenant.id, now, days))


def receivers_of(connection: Connection, tenant_id: int, now: datetime, days: int) -> list[Receiver]:
    """The same, within a transaction."""
    now = now.replace(tzinfo=None)
    out = []
    for row in report_receivers.activity(connection, tenant_id, now - timedelta(days=days)):
        ends = report_receivers.newest_ends(connection, row.id)
        if not ends:
            continue
        pauses = [(later - earlier) / timedelta(days=1) for later, earlier in pairwise(ends)]
        usual = median(pauses) if len(pauses) >= 4 else None
        patience = max(_SHORTEST, timedelta(days=_SILENT * usual)) if usual is not None else None
        silent = patience is not None and now - ends[0] > patience
        out.append(
            Receiver.model_validate(
                {"receiver": row.name, "label": row.label, "kinds": sorted(row.kinds), "reports": row.reports,
                 "messages": row.messages, "newest_end": ends[0],
                 "usual_days": round(usual, 2) if usual is not None else None,
                 "silent_since": ends[0] if silent else None}
            )
        )  # fmt: skip
    return out


def get_retention(context: Context, tenant: TenantAccess) -> ReportRetention:
    """Return how long reports are kept."""
    return context.store.transaction(lambda c: retention_of(c, tenant.id))


def retention_of(connection: Connection, tenant_id: int) -> ReportRetention:
    """The same, within a transaction."""
    return ReportRetention.model_validate(store_audits.get_setting(connection, tenant_id, RETENTION) or {})


def put_retention(context: Context, tenant: TenantAccess, settings: ReportRetention) -> ReportRetention:
    """Store how long reports are kept; what is older goes within the hour."""
    now = context.clock()
    context.store.transaction(lambda c: store_audits.put_setting(c, tenant.id, RETENTION, settings.model_dump(), now))
    return settings
