"""Sending domains and what a tenant says of them."""

from sqlalchemy import Connection

from rust_gauge.contract.audits import AuditSummary
from rust_gauge.contract.common import Page
from rust_gauge.contract.domains import Domain, DomainChange, NewDomain, StreamPath
from rust_gauge.core.errors import DomainNameError, IpAddressError
from rust_gauge.core.names import in_unicode, normalise_domain, parse_ip
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.store import domains as store_domains
from rust_gauge.store import readings as store_readings
from rust_gauge.store import report_sources
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
        known = context.store.transaction(lambda c: store_readings.names_of(c, tenant.id, 1)).values()
        raise unknown_name(tenant.name, "domain", name, known, remedy="Add the domain first")
    return rows[0]


def add_domain(context: Context, tenant: TenantAccess, new: NewDomain) -> Domain:
    name, now = domain_name(new.name), context.clock()
    selectors = list(dict.fromkeys(selector.lower() for selector in new.selectors))
    if not context.store.transaction(lambda c: store_domains.add_domain(c, tenant.id, name, selectors, now)):
        raise ServiceProblem("already-there", f"{name} has already been added", remedy="Update its settings instead")
    return show_domain(tenant, find_domain(context, tenant, name))


def update_domain(context: Context, tenant: TenantAccess, text: str, change: DomainChange) -> Domain:
    """Set what is named; the rest stays."""
    row = find_domain(context, tenant, text)
    values: dict[str, object] = {}
    if change.selectors is not None:
        values["selectors"] = list(dict.fromkeys(selector.lower() for selector in change.selectors))
    if change.streams is not None:
        values["streams"] = [_stream(row.name, stream).model_dump() for stream in change.streams]
    if change.sends is not None:
        values["sends"] = change.sends
    if change.audit_every_hours is not None:
        values |= {"audit_every_hours": change.audit_every_hours, "next_audit_at": None}

    def write(connection: Connection) -> None:
        store_domains.update_domain(connection, row.id, **values)
        if change.streams is not None or change.selectors is not None:
            report_sources.judge_again(connection, tenant.id, row.id)

    if values:
        context.store.transaction(write)
    return show_domain(tenant, find_domain(context, tenant, text))


def _stream(domain: str, stream: StreamPath) -> StreamPath:
    """A stream as it is kept: names in A-labels. ServiceProblem `not-a-domain`, `invalid-request`."""
    names = {
        field: domain_name(value)
        for field in ("header_from", "envelope", "dkim_domain", "helo")
        if (value := getattr(stream, field))
    }
    for ip in stream.ips:
        try:
            parse_ip(ip)
        except IpAddressError as error:
            raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
    return stream.model_copy(update={"header_from": domain, **names})


def delete_domain(context: Context, tenant: TenantAccess, text: str) -> None:
    """Stop watching a domain. Its events, audits and readings stay, and it comes back whole when it is added again."""
    row = find_domain(context, tenant, text)
    context.store.transaction(lambda c: store_domains.update_domain(c, row.id, origin="seen"))


def list_domains(
    context: Context, tenant: TenantAccess, cursor: str | None, limit: int, search: str = ""
) -> Page[Domain]:
    position = read_cursor("domains", cursor, str)
    after, wanted = position[0] if position else "", search.strip().lower()
    rows = context.store.transaction(
        lambda c: store_domains.list_domains(c, tenant.id, after=after, limit=limit + 1, search=wanted)
    )
    items = [show_domain(tenant, row) for row in rows[:limit]]
    return Page(items=items, next=write_cursor("domains", rows[limit - 1].name) if len(rows) > limit else None)


def show_domain(tenant: TenantAccess, row: DomainRow) -> Domain:
    summary = None
    if row.audit is not None:
        a = row.audit
        summary = AuditSummary(
            id=a.id,
            domain=row.name,
            finished_at=a.finished_at,
            faults=a.faults,
            risks=a.risks,
            notes=a.notes,
            spf_lookups=a.spf_lookups,
            cause=a.cause,
            checked_at=a.checked_at,
        )
    return Domain(
        name=row.name,
        tenant=tenant.slug,
        origin="added" if row.origin == "added" else "seen",
        selectors=row.selectors,
        added_at=row.added_at,
        streams=[StreamPath.model_validate(stream) for stream in row.streams],
        sends=row.sends,
        audit_every_hours=row.audit_every_hours,
        verified=row.verified,
        unicode_name=in_unicode(row.name),
        last_audit=summary,
    )
