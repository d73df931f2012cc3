"""Reading the audit log, and checking that it is whole. It is written by `runtime.audit_log`."""

from dataclasses import dataclass
from datetime import datetime

import orjson
from sqlalchemy import Connection

from rust_gauge.contract.common import Page
from rust_gauge.contract.people import AuditEntry, ChainCheck
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.runtime.audit_log import digest_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import accounts
from rust_gauge.store import audit_log as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.audit_log import AuditEntryRow, AuditQuery


@dataclass(frozen=True, slots=True)
class Asked:
    """A filter. `text` is looked for in what was done and its states; an address also by its digest."""

    account: str = ""
    action: str = ""
    text: str = ""
    since: datetime | None = None
    until: datetime | None = None


def list_entries(
    context: Context, tenant: TenantAccess | None, asked: Asked, cursor: str | None, limit: int
) -> Page[AuditEntry]:
    """Return entries of a tenant, or (without one) of the whole installation, the newest first."""
    position = read_cursor("audit log", cursor, int)
    text = digest_of(asked.text) if "@" in asked.text and not asked.account and tenant else asked.text
    query = AuditQuery(
        tenant_id=tenant.id if tenant else None, everything=tenant is None, account=asked.account.strip().lower(),
        action=asked.action.strip(), text=text, since=asked.since, until=asked.until,
        before=position[0] if position else None, limit=limit + 1,
    )  # fmt: skip

    def read(connection: Connection) -> tuple[list[AuditEntryRow], dict[int, str]]:
        return store.list_entries(connection, query), {row.id: row.slug for row in accounts.list_tenants(connection)}

    rows, slugs = context.store.transaction(read)
    items = [_shown(row, slugs) for row in rows[:limit]]
    return Page(items=items, next=write_cursor("audit log", rows[limit - 1].id) if len(rows) > limit else None)


def _shown(row: AuditEntryRow, slugs: dict[int, str]) -> AuditEntry:
    return AuditEntry(
        id=row.id, at=row.at, tenant=slugs.get(row.tenant_id or 0, ""), account=row.account, token=row.token,
        address=row.address, request_id=row.request_id, action=row.action, subject=row.subject,
        before=orjson.loads(row.before_state) if row.before_state else None,
        after=orjson.loads(row.after_state) if row.after_state else None, hash=bytes(row.hash).hex(),
    )  # fmt: skip


def check(context: Context) -> ChainCheck:
    """Go through the whole chain."""
    entries, problem = context.store.transaction(store.check_chain)
    return ChainCheck(entries=entries, intact=not problem, problem=problem)
