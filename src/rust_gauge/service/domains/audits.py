"""Audits: run, kept as snapshots, compared, repeated by schedule, and what changed between them."""

import hashlib
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import asdict, replace
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from importlib import resources
from pathlib import Path
from typing import Any

import orjson
from sqlalchemy import Connection

from rust_gauge.contract.audits import (
    Audit,
    AuditComparison,
    AuditSettings,
    AuditSummary,
    BulkRule,
    Finding,
    HistoryEntry,
    MessageCheck,
    ReceiverReport,
    RecordChange,
    SpfCheck,
    SpfCheckRequest,
)
from rust_gauge.contract.common import Page
from rust_gauge.core.audit import USUAL_SELECTORS, AuditRequest, Measured, Selector, audit_domain, streams_of
from rust_gauge.core.audit import BulkRule as CoreBulkRule
from rust_gauge.core.errors import IpAddressError
from rust_gauge.core.message import authenticate
from rust_gauge.core.names import parse_ip
from rust_gauge.core.reports import ReportError, TlsReport, read_report
from rust_gauge.core.roles import Role
from rust_gauge.core.sending import Relay as PlanRelay
from rust_gauge.core.spf import check_mail
from rust_gauge.core.transport import DnsList
from rust_gauge.documents.audits import audit_document
from rust_gauge.documents.messages import message_document
from rust_gauge.documents.reports import report_document, tls_document
from rust_gauge.documents.trials import trial_document
from rust_gauge.service.domains.domains import domain_name, find_domain
from rust_gauge.service.domains.relays import plan_relays, sending_paths
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import audits as store_audits
from rust_gauge.store import domains as store_domains
from rust_gauge.store import flow, jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.domains import DomainRow

_SETTING = "audit"
_SEEN = {"message": "selectors-seen", "report": "selectors-reported"}  # the setting for each source
_ONE_CLICK = "one-click-seen"  # by domain: whether the newest message that was examined offered it, and when
_MAX_SEEN = 20  # selectors of one domain that are remembered from messages, and from reports
_MAX_SPF_RECORD = 65_000  # octets, what a TXT record can hold
_KNOWN = ("found", "no_data", "no_name")  # answers that say what is published; others say nothing
_SUMMARY = ("id", "finished_at", "faults", "risks", "notes", "spf_lookups", "cause", "checked_at")
_DOCUMENT = {"records", "findings", "questions", "checks", "spf", "dmarc", "keys", "hosts", "streams", "lists", "bulk"}


# Settings


@lru_cache(maxsize=8)
def bulk_rules(path: Path | None) -> tuple[BulkRule, ...]:
    """Read the rules for bulk mail in a file; those that come with the service without one."""
    text = path.read_text("utf-8") if path else _packaged_rules()
    return tuple(BulkRule.model_validate(rule) for rule in tomllib.loads(text).get("rule", []))


def _packaged_rules() -> str:
    return resources.files("rust_gauge.service.domains").joinpath("bulk_sender_rules.toml").read_text("utf-8")


def get_settings(context: Context, tenant: TenantAccess) -> AuditSettings:
    """Return the tenant's settings; what was never set has its default."""
    return _settings_of(context, tenant.id)


def _settings_of(context: Context, tenant_id: int) -> AuditSettings:
    kept = context.store.transaction(lambda c: store_audits.get_setting(c, tenant_id, _SETTING))
    rules = list(bulk_rules(context.settings.bulk_rules_file))
    if kept is None:
        return AuditSettings(lists=[], usual_selectors=list(USUAL_SELECTORS), bulk_rules=rules)
    return AuditSettings.model_validate(kept)


def lists_of(context: Context, tenant_id: int) -> tuple[DnsList, ...]:
    """Return the blocklists that a tenant follows."""
    return _lists(_settings_of(context, tenant_id))


def _lists(settings: AuditSettings) -> tuple[DnsList, ...]:
    return tuple(DnsList(each.zone, each.kind, each.label, each.codes) for each in settings.lists)


def put_settings(context: Context, tenant: TenantAccess, settings: AuditSettings) -> AuditSettings:
    lists = [dns_list.model_copy(update={"zone": domain_name(dns_list.zone)}) for dns_list in settings.lists]
    kept = settings.model_copy(update={"lists": lists})
    now = context.clock()
    context.store.transaction(lambda c: store_audits.put_setting(c, tenant.id, _SETTING, kept.model_dump(), now))
    return get_settings(context, tenant)


# Running


def run_audit(context: Context, tenant: TenantAccess, text: str, cause: str = "asked") -> Audit:
    """Examine a domain now, with fresh answers, and keep the result.

    By schedule a result that says the same as the newest one is not kept again: the newest is marked as checked.
    """
    row = find_domain(context, tenant, text)
    settings = get_settings(context, tenant)
    now = context.clock()
    counts = context.store.transaction(
        lambda c: store_audits.recent_counts(c, tenant.id, row.id, now - timedelta(days=6))
    )
    first, elsewhere = context.store.transaction(lambda c: store_audits.known_keys(c, tenant.id, row.id))
    seen = {key: int(at.replace(tzinfo=UTC).timestamp()) for key, at in first.items()}
    complaints = context.store.transaction(lambda c: _complaints(c, tenant, row, now))
    tls = context.store.transaction(
        lambda c: store_audits.tls_counts(c, tenant.id, row.id, now.date() - timedelta(days=6))
    )
    newest = context.store.transaction(lambda c: store_audits.get_setting(c, tenant.id, _ONE_CLICK) or {})
    relays = plan_relays(context, tenant)
    seen_selectors = _selectors_seen(context, tenant, row)
    request = audit_request(row, settings, counts, now, seen, elsewhere, seen_selectors, complaints, relays)
    request = replace(request, ask_mailboxes=context.settings.ask_mailboxes)
    if tls[1]:
        request = replace(request, measured=replace(request.measured, tls=tls))
    if seen_message := newest.get(row.name):
        request = replace(
            request,
            measured=replace(request.measured, one_click=seen_message["offered"], one_click_on=seen_message["on"]),
        )
    rules = [CoreBulkRule(r.key, r.text, r.measure, r.since, r.limit, r.above) for r in settings.bulk_rules]
    result = context.resolver.run(audit_domain(request, rules), fresh=True)
    for key in result.whole.keys:
        if key.fingerprint:
            seen.setdefault(key.fingerprint, int(now.timestamp()))
    document = audit_document(result, finished_at=now, cause=cause, key_first_seen=seen, mail=_mail(counts, row))
    return _with_proof(_keep(context, tenant, row, document, cause, now), row)


def _complaints(connection: Connection, tenant: TenantAccess, row: DomainRow, now: datetime) -> tuple[int, int]:
    """Return (complaints, delivered) of the last seven days where complaints are reported."""
    reporting = flow.reporting_providers(connection, now.date() - flow.REPORTS_WITHIN)
    return store_audits.complaint_counts(connection, tenant.id, row.id, now.date() - timedelta(days=6), reporting)


def audit_request(
    row: DomainRow,
    settings: AuditSettings,
    counts: dict[tuple[str, str], int],
    now: datetime,
    seen: dict[str, int],
    elsewhere: dict[str, tuple[str, ...]],
    selectors_seen: Sequence[Selector] = (),
    complaints: tuple[int, int] | None = None,
    relays: Sequence[PlanRelay] = (),
) -> AuditRequest:
    sent = max(sum(n for (_, kind), n in counts.items() if kind == known) for known in ("accepted", "delivered"))
    measured = Measured(messages_a_day=sent / 7 if counts else None, complaints=complaints)
    return AuditRequest(
        row.name,
        (*(Selector(selector, "hand") for selector in row.selectors), *selectors_seen),
        streams=streams_of(sending_paths(row, relays)),
        sends=row.sends,
        lists=_lists(settings),
        usual_selectors=tuple(settings.usual_selectors),
        measured=measured,
        now=int(now.timestamp()),
        key_first_seen=seen,
        key_domains=elsewhere,
        sts_policy=str(row.plan.get("sts_policy", "")),
        sts_id=str(row.plan.get("sts_id", "")),
    )


def _mail(counts: dict[tuple[str, str], int], row: DomainRow) -> dict[str, int]:
    """Messages of the last seven days by a finding's scope."""
    by_stream = {name: n for (name, kind), n in counts.items() if kind == "accepted"}
    mail = {"all": sum(by_stream.values())}
    for stream in row.streams:
        sent = by_stream.get(stream["name"], 0)
        mail[f"stream:{stream['name']}"] = sent
        if stream["selector"]:
            scope = f"selector:{stream['selector']}"
            mail[scope] = mail.get(scope, 0) + sent
    return mail


def _keep(context: Context, tenant: TenantAccess, row: DomainRow, document: Audit, cause: str, now: datetime) -> Audit:
    """Store a snapshot with what changed since the one before."""
    digest = _digest(document)
    before = context.store.transaction(lambda c: store_domains.get_audit(c, row.id))
    if before is not None and before.digest == digest and cause == "schedule":
        context.store.transaction(lambda c: store_audits.mark_checked(c, before.id, now))
        return _show(row.name, before).model_copy(update={"checked_at": now})
    values = {
        "tenant_id": tenant.id,
        "domain_id": row.id,
        "finished_at": now,
        "faults": document.faults,
        "risks": document.risks,
        "notes": document.notes,
        "spf_lookups": document.spf_lookups,
        "cause": cause,
        "digest": digest,
        "checked_at": now,
    }
    body = document.model_dump(mode="json", include=_DOCUMENT)
    changes = _changes(_show(row.name, before), document) if before is not None else []

    def write(connection: Any) -> int:
        id = store_domains.add_audit(connection, **values, document=body)
        keys = [(key.selector, key.fingerprint) for key in document.keys if key.fingerprint]
        store_audits.see_keys(connection, tenant.id, row.id, keys, now)
        common = {"tenant_id": tenant.id, "domain_id": row.id, "audit_id": id, "happened_at": now}
        store_audits.add_history(connection, [{**common, **change} for change in changes])
        jobs.enqueue(connection, "worklist", tenant.id, 0, now)  # its findings are reported at once
        return id

    id = context.store.transaction(write)
    return document.model_copy(update={"id": id, "checked_at": now})


def _digest(document: Audit) -> bytes:
    """The same for audits that say the same; times and TTLs do not count."""
    said = {
        "records": sorted(
            [r.purpose, r.name, r.rdtype, *sorted(r.values)] for r in document.records if r.status in _KNOWN
        ),
        "findings": sorted([f.id, f.level, f.title] for f in document.findings),
        "checks": [[check.key, check.state] for check in document.checks],
    }
    return hashlib.blake2b(orjson.dumps(said), digest_size=16).digest()


def record_changes(before: Audit, after: Audit) -> list[RecordChange]:
    """Names whose published values differ. Where one side got no answer nothing is known, so nothing changed."""
    old = {(r.purpose, r.name, r.rdtype): r for r in before.records if r.status in _KNOWN}
    new = {(r.purpose, r.name, r.rdtype): r for r in after.records if r.status in _KNOWN}
    answered = _answered(before) & _answered(after)
    out = []
    for key in [*old, *(key for key in new if key not in old)]:
        first = sorted(old[key].values) if key in old else []
        second = sorted(new[key].values) if key in new else []
        if first != second and f"{key[1]} {key[2]}" in answered:
            out.append(RecordChange(purpose=key[0], name=key[1], rdtype=key[2], before=first, after=second))
    return out


def _answered(audit: Audit) -> set[str]:
    """Return the questions of an audit that were answered: only about these anything is known."""
    asked = {each.question for each in audit.questions if each.status in _KNOWN}
    silent = {f"{r.name} {r.rdtype}" for r in audit.records if r.status not in _KNOWN}
    return (asked | {f"{r.name} {r.rdtype}" for r in audit.records if r.status in _KNOWN}) - silent


def _gone(finding: Finding, after: Audit) -> bool:
    """Return whether a finding of an earlier audit is gone; not if its requirement could not be judged this time."""
    place = f"{finding.place.name} {finding.place.rdtype}"
    asked = {each.question: each.status for each in after.questions}
    checks = {check.key: check.state for check in after.checks}
    return asked.get(place, "found") in _KNOWN and checks.get(finding.check) != "unmeasured"


def _changes(before: Audit, after: Audit) -> list[dict[str, Any]]:
    rows: list[dict[str, Any]] = []
    for change in record_changes(before, after):
        what = "was published" if not change.before else "is gone" if not change.after else "changed"
        title = f"{change.name} {change.rdtype} {what}"
        rows.append({"kind": "record", "title": title[:500], "document": change.model_dump()})
    old, new = {f.id: f for f in before.findings}, {f.id: f for f in after.findings}
    gone = {id for id in set(old) - set(new) if _gone(old[id], after)}
    for kind, found in (("appeared", set(new) - set(old)), ("gone", gone)):
        for id in sorted(found):
            finding = (new if kind == "appeared" else old)[id]
            rows.append({"kind": kind, "title": finding.title[:500], "document": finding.model_dump()})
    return rows


def audit_by_schedule(context: Context, domain_id: int) -> None:
    """The job: one domain whose time has come."""
    found = context.store.transaction(lambda c: store_audits.get_domain(c, domain_id))
    if found is not None and found.origin == "added":
        run_audit(
            context, TenantAccess(found.tenant_id, found.slug, found.tenant, Role.OPERATOR), found.name, "schedule"
        )


def ask_for_due(context: Context) -> int:
    """Enqueue the audits that are due and return how many."""

    def ask(connection: Any) -> int:
        rows = store_audits.due_domains(connection, context.clock())
        for row in rows:
            jobs.enqueue(connection, "audit", row.tenant_id, row.id, context.clock())
        return len(rows)

    return context.store.transaction(ask)


# Looking at them


def _show(name: str, row: Any) -> Audit:
    values = {key: getattr(row, key) for key in _SUMMARY}
    return Audit.model_validate({**values, "domain": name, **row.document})


def list_audits(
    context: Context, tenant: TenantAccess, text: str, cursor: str | None, limit: int
) -> Page[AuditSummary]:
    row = find_domain(context, tenant, text)
    position = read_cursor("audits", cursor, int)
    rows = context.store.transaction(
        lambda c: store_domains.list_audits(c, row.id, before=position[0] if position else None, limit=limit + 1)
    )
    items = [AuditSummary(domain=row.name, **asdict(audit)) for audit in rows[:limit]]
    return Page(items=items, next=write_cursor("audits", rows[limit - 1].id) if len(rows) > limit else None)


def get_audit(context: Context, tenant: TenantAccess, text: str, audit_id: int | None) -> Audit:
    """One audit; the newest without `audit_id`."""
    row = find_domain(context, tenant, text)
    found = context.store.transaction(lambda c: store_domains.get_audit(c, row.id, audit_id))
    if found is None:
        what = "has not been audited yet" if audit_id is None else f"has no audit {audit_id}"
        raise ServiceProblem("not-found", f"{row.name} {what}", remedy="Run an audit first")
    return _with_proof(_show(row.name, found), row)


def _with_proof(audit: Audit, row: DomainRow) -> Audit:
    """Return the facts about streams, and whether their From domain is verified today."""
    streams = [stream.model_copy(update={"verified": row.verified}) for stream in audit.streams]
    return audit.model_copy(update={"streams": streams})


def compare_audits(
    context: Context, tenant: TenantAccess, text: str, before: int | None, after: int | None
) -> AuditComparison:
    """Two audits beside each other; the newest, and the one before it, where no number is given."""
    last = get_audit(context, tenant, text, after)
    if before is None:
        row = find_domain(context, tenant, text)
        found = context.store.transaction(lambda c: store_domains.list_audits(c, row.id, before=last.id, limit=1))
        if not found:
            raise ServiceProblem(
                "not-found", f"{last.domain} has no audit before {last.id}", remedy="Run another audit first"
            )
        before = found[0].id
    first = get_audit(context, tenant, text, before)
    old, new = {f.id: f for f in first.findings}, {f.id: f for f in last.findings}
    points = {check.key: check for check in first.checks}
    return AuditComparison(
        before=AuditSummary.model_validate(first.model_dump(include=set(AuditSummary.model_fields))),
        after=AuditSummary.model_validate(last.model_dump(include=set(AuditSummary.model_fields))),
        records=record_changes(first, last),
        appeared=[finding for id, finding in new.items() if id not in old],
        gone=[finding for id, finding in old.items() if id not in new and _gone(finding, last)],
        checks=[
            [points[check.key], check]
            for check in last.checks
            if check.key in points and points[check.key].state != check.state
        ],
    )


def list_history(
    context: Context, tenant: TenantAccess, text: str, cursor: str | None, limit: int
) -> Page[HistoryEntry]:
    row = find_domain(context, tenant, text)
    position = read_cursor("history", cursor, int)
    rows = context.store.transaction(
        lambda c: store_audits.list_history(c, row.id, before=position[0] if position else None, limit=limit + 1)
    )
    items = [
        HistoryEntry.model_validate(
            {
                "id": row.id,
                "at": row.happened_at,
                "kind": row.kind,
                "title": row.title,
                "audit": row.audit_id,
                **_what_happened(row.kind, row.document),
            }
        )
        for row in rows[:limit]
    ]
    return Page(items=items, next=write_cursor("history", rows[limit - 1].id) if len(rows) > limit else None)


def _what_happened(kind: str, document: Mapping[str, Any]) -> dict[str, Any]:
    if kind == "record":
        return {"change": document}
    return {"finding": document} if kind in ("appeared", "gone") else {}


# Trials


def check_spf(context: Context, request: SpfCheckRequest) -> SpfCheck:
    """Would this pass? ServiceProblem `invalid-request` when the address is none."""
    ip = _ip(request.ip)
    run = check_mail(ip, request.helo, request.mail_from, record=request.record)
    return trial_document(context.resolver.run(run, fresh=True))


def _ip(text: str) -> str:
    """An address as it is usually written. ServiceProblem `invalid-request`."""
    try:
        return str(parse_ip(text))
    except IpAddressError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None


def check_message(
    context: Context, tenant: TenantAccess, raw: bytes, ip: str, helo: str, mail_from: str
) -> MessageCheck:
    """SPF, DKIM and DMARC of a message. Selectors that sign for a domain of the tenant are remembered, nothing else."""
    if not raw.strip():
        raise ServiceProblem("invalid-request", "The body is empty", remedy="Send the full source of the message")
    now = int(context.clock().timestamp())
    run = authenticate(raw, ip=_ip(ip) if ip else "", helo=helo, mail_from=mail_from, now=now)
    outcome = context.resolver.run(run, fresh=True)
    found = message_document(outcome)
    _remember_one_click(context, tenant, outcome.header_from, outcome.one_click)
    signed = {(signature.domain, signature.selector) for signature in found.signatures if signature.result == "pass"}
    _remember_selectors(context, tenant, "message", signed)
    return found


def read_feedback_report(context: Context, tenant: TenantAccess, octets: bytes) -> ReceiverReport:
    """Read an aggregate report or a report on TLS. Only the selectors that sign for a domain of the tenant are stored.
    ServiceProblem `not-a-report` if it is neither.
    """
    try:
        report = read_report(octets)
    except ReportError as error:
        raise ServiceProblem("not-a-report", str(error), remedy=error.remedy) from None
    if isinstance(report, TlsReport):
        return tls_document(report)
    signed = {
        (signature.domain, signature.selector)
        for row in report.rows
        for signature in row.signatures
        if signature.result == "pass" and signature.selector
    }
    return report_document(report, _remember_selectors(context, tenant, "report", signed))


def _remember_one_click(context: Context, tenant: TenantAccess, domain: str, offered: bool | None) -> None:
    """Remember what the newest message of a domain offered, for the bulk-sender rules."""

    def write(connection: Connection) -> None:
        if domain and offered is not None and store_domains.list_domains(connection, tenant.id, name=domain):
            kept = store_audits.get_setting(connection, tenant.id, _ONE_CLICK) or {}
            now = context.clock()
            kept = {**kept, domain: {"offered": offered, "on": now.date().isoformat()}}
            store_audits.put_setting(connection, tenant.id, _ONE_CLICK, kept, now)

    context.store.transaction(write)


def _selectors_seen(context: Context, tenant: TenantAccess, row: DomainRow) -> list[Selector]:
    """Selectors from messages, from reports, and of keys that were made here."""
    planned = [Selector(name, "plan") for name in row.plan.get("keys", {})]

    def read(connection: Any) -> list[Selector]:
        kept = {source: store_audits.get_setting(connection, tenant.id, key) or {} for source, key in _SEEN.items()}
        return [Selector(name, source) for source, names in kept.items() for name in names.get(row.name, [])]

    return context.store.transaction(read) + planned


def _remember_selectors(
    context: Context, tenant: TenantAccess, source: str, seen: set[tuple[str, str]]
) -> list[tuple[str, str]]:
    """Selectors cannot be listed from DNS (RFC 6376 §3.1): those of signatures that hold are worth knowing.

    Gives those that were not known from this source, as (domain, selector).
    """

    def write(connection: Any) -> list[tuple[str, str]]:
        new = []
        kept = dict(store_audits.get_setting(connection, tenant.id, _SEEN[source]) or {})
        for domain, selector in sorted(seen):
            here = kept.get(domain, [])
            if selector not in here and store_domains.list_domains(connection, tenant.id, name=domain):
                kept[domain] = [*here, selector][-_MAX_SEEN:]
                new.append((domain, selector))
        if new:
            store_audits.put_setting(connection, tenant.id, _SEEN[source], kept, context.clock())
        return new

    return context.store.transaction(write) if seen else []
