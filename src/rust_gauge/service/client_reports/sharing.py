"""Links that open one report without an account. The report is stored with its link: it stays as it was when it was
shared, whatever is counted later. The address of a link is shown once; only its digest is stored.
"""

import hashlib
import secrets
import zlib
from datetime import timedelta

from sqlalchemy import Connection

from rust_gauge.contract.client_reports import MadeReportShare, NewReportShare, ReportShare
from rust_gauge.service.client_reports.report import get_report
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import report_shares as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.report_shares import ReportShareRow

_MOST = 200  # links of a tenant
PATH = "/shared-report"


def add_share(context: Context, tenant: TenantAccess, new: NewReportShare, by: str) -> MadeReportShare:
    """Make a link to the report of a period. ServiceProblem `too-large` where there are too many."""
    report = get_report(context, tenant, new.days, new.last)
    link = secrets.token_urlsafe(32)
    now = context.clock()

    def write(connection: Connection) -> int:
        store.drop_expired(connection, tenant.id, now)
        if len(store.list_shares(connection, tenant.id)) >= _MOST:
            raise ServiceProblem("too-large", f"{_MOST} report links exist, the limit", remedy="Delete some")
        return store.add_share(
            connection, tenant_id=tenant.id, token_digest=_digest(link), title=report.title, note=new.note.strip(),
            page=zlib.compress(report.html.encode()), created_by=by, created_at=now,
            expires_at=now + timedelta(days=new.valid_days), opened=0, opened_at=None,
        )  # fmt: skip

    id = context.store.transaction(write)
    made = next(each for each in list_shares(context, tenant) if each.id == id)
    return MadeReportShare(**made.model_dump(), url=f"{context.settings.base_url}{PATH}/{link}")


def list_shares(context: Context, tenant: TenantAccess) -> list[ReportShare]:
    """Return the links that have not expired, newest first."""
    now = context.clock().replace(tzinfo=None)
    rows = context.store.transaction(lambda c: store.list_shares(c, tenant.id))
    return [_shown(row) for row in rows if row.expires_at > now]


def delete_share(context: Context, tenant: TenantAccess, id: int) -> None:
    """Revoke a link. ServiceProblem `not-found`."""
    if not context.store.transaction(lambda c: store.delete_share(c, tenant.id, id)):
        raise ServiceProblem("not-found", f"{tenant.name} has no report link {id}", remedy="List the links")


def shared_page(context: Context, link: str) -> str | None:
    """Return the page of a link; None for a link that has expired, was revoked or never was one."""
    found = context.store.transaction(lambda c: store.open_share(c, _digest(link), context.clock()))
    return None if found is None else zlib.decompress(found).decode()


def _shown(row: ReportShareRow) -> ReportShare:
    return ReportShare(
        id=row.id, title=row.title, note=row.note, created_by=row.created_by, created_at=row.created_at,
        expires_at=row.expires_at, opened=row.opened, opened_at=row.opened_at,
    )  # fmt: skip


def _digest(link: str) -> bytes:
    return hashlib.sha256(link.encode()).digest()
