"""Sending domains and their audits."""

from rust_gauge.contract.audits import Audit, AuditSummary
from rust_gauge.contract.common import Page
from rust_gauge.contract.domains import Domain, NewDomain
from rust_gauge.core.audit import AuditRequest, DomainAudit, Finding, Level, audit_domain
from rust_gauge.core.errors import DomainNameError
from rust_gauge.core.names import normalise_domain
from rust_gauge.service.context import Context
from rust_gauge.service.cursors import read_cursor, write_cursor
from rust_gauge.service.problems import ServiceProblem
from rust_gauge.store import domains as store_domains
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.domains import DomainRow


def domain_name(text: str) -> str:
    """A domain name as it is kept. ServiceProblem `not-a-domain`."""
    try:
        return normalise_domain(text)
    except DomainNameError as error:
        raise ServiceProblem("not-a-domain", str(error), remedy=error.remedy) from None


def find_domain(context: Context, tenant: TenantAccess, text: str) -> DomainRow:
    """A tenant's domain. ServiceProblem `not-found` when it has none of this name."""
    name = domain_name(text)
    rows = context.store.transaction(lambda c: store_domains.list_domains(c, tenant.id, name=name))
    if not rows:
        raise ServiceProblem(
            "not-found", f"{tenant.name} has no domain {name}", remedy="Add it first, or check its spelling"
        )
    return rows[0]


def add_domain(context: Context, tenant: TenantAccess, new: NewDomain) -> Domain:
    name, now = domain_name(new.name), context.clock()
    selectors = list(dict.fromkeys(selector.lower() for selector in new.selectors))
    if not context.store.transaction(lambda c: store_domains.add_domain(c, tenant.id, name, selectors, now)):
        raise ServiceProblem("already-there", f"{name} is watched already", remedy="Change its settings instead")
    return show_domain(tenant, find_domain(context, tenant, name))


def change_domain(context: Context, tenant: TenantAccess, text: str, selectors: list[str]) -> Domain:
    row = find_domain(context, tenant, text)
    chosen = list(dict.fromkeys(selector.lower() for selector in selectors))
    context.store.transaction(lambda c: store_domains.change_domain(c, row.id, selectors=chosen))
    return show_domain(tenant, find_domain(context, tenant, text))


def forget_domain(context: Context, tenant: TenantAccess, text: str) -> None:
    """Stop watching a domain. Its events, audits and readings stay, and it comes back whole when it is added again."""
    row = find_domain(context, tenant, text)
    context.store.transaction(lambda c: store_domains.change_domain(c, row.id, origin="seen"))


def list_domains(context: Context, tenant: TenantAccess, cursor: str | None, limit: int) -> Page[Domain]:
    position = read_cursor(cursor, str)
    rows = context.store.transaction(
        lambda c: store_domains.list_domains(c, tenant.id, after=position[0] if position else "", limit=limit + 1)
    )
    items = [show_domain(tenant, row) for row in rows[:limit]]
    return Page(items=items, next=write_cursor(rows[limit - 1].name) if len(rows) > limit else None)


def show_domain(tenant: TenantAccess, row: DomainRow) -> Domain:
    summary = None
    if row.audit is not None:
        a = row.audit
        summary = AuditSummary(
            id=a.audit_id,
            domain=row.name,
            finished_at=a.audit_finished_at,
            faults=a.audit_faults,
            risks=a.audit_risks,
            notes=a.audit_notes,
            spf_lookups=a.audit_spf_lookups,
        )
    return Domain(
        name=row.name,
        tenant=tenant.slug,
        origin="added" if row.origin == "added" else "seen",
        selectors=row.selectors,
        added_at=row.added_at,
        last_audit=summary,
    )


def run_audit(context: Context, tenant: TenantAccess, text: str) -> Audit:
    """Examine a domain now, with fresh answers, and keep the result."""
    row = find_domain(context, tenant, text)
    result = context.resolver.run(audit_domain(AuditRequest(row.name, tuple(row.selectors))), fresh=True)
    document = _document(result)
    now = context.clock()
    values = {
        "tenant_id": tenant.id,
        "domain_id": row.id,
        "finished_at": now,
        "faults": result.count(Level.FAULT),
        "risks": result.count(Level.RISK),
        "notes": result.count(Level.NOTE),
        "spf_lookups": result.spf_lookups,
    }
    id = context.store.transaction(lambda c: store_domains.add_audit(c, **values, document=document))
    shown = {key: values[key] for key in ("finished_at", "faults", "risks", "notes", "spf_lookups")}
    return Audit.model_validate({"id": id, "domain": row.name, **shown, **document})


def _document(result: DomainAudit) -> dict[str, object]:
    """What is kept of an audit beside its counts: the same shape as in the contract."""
    return {
        "records": [
            {
                "purpose": record.purpose,
                "name": record.name,
                "rdtype": record.rdtype,
                "status": record.status,
                "values": list(record.values),
                "ttl": record.ttl,
            }
            for record in result.records
        ],
        "findings": [_finding(finding) for finding in result.findings],
        "questions": [{"question": question, "status": status} for question, status in result.questions],
    }


def _finding(finding: Finding) -> dict[str, object]:
    place = finding.place
    return {
        "id": finding.id,
        "rule": finding.rule,
        "level": str(finding.level),
        "title": finding.title,
        "place": {
            "name": place.name,
            "rdtype": place.rdtype,
            "record": place.record,
            "column": place.column,
            "length": place.length,
        },
        "evidence": list(finding.evidence),
        "reason": finding.reason,
        "remedy": finding.remedy,
        "record": finding.record,
        "reference": finding.reference,
    }


def list_audits(
    context: Context, tenant: TenantAccess, text: str, cursor: str | None, limit: int
) -> Page[AuditSummary]:
    row = find_domain(context, tenant, text)
    position = read_cursor(cursor, int)
    rows = context.store.transaction(
        lambda c: store_domains.list_audits(c, row.id, before=position[0] if position else None, limit=limit + 1)
    )
    items = [AuditSummary(domain=row.name, **audit._mapping) for audit in rows[:limit]]
    return Page(items=items, next=write_cursor(rows[limit - 1].id) if len(rows) > limit else None)


def get_audit(context: Context, tenant: TenantAccess, text: str, audit_id: int | None) -> Audit:
    """One audit; the newest without `audit_id`."""
    row = find_domain(context, tenant, text)
    found = context.store.transaction(lambda c: store_domains.get_audit(c, row.id, audit_id))
    if found is None:
        what = "was never audited" if audit_id is None else f"has no audit {audit_id}"
        raise ServiceProblem("not-found", f"{row.name} {what}", remedy="Start one: POST to its audits")
    shown = ("id", "finished_at", "faults", "risks", "notes", "spf_lookups")
    values = {key: getattr(found, key) for key in shown}
    return Audit.model_validate({**values, "domain": row.name, **found.document})
