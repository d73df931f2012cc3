"""Links to one run that need no account. The address of a link is shown once; only its digest is stored."""

import hashlib
import secrets
from collections import Counter
from datetime import timedelta

from sqlalchemy import Connection

from rust_gauge.contract.placement import MadeShare, NewShare, Share, SharedCopy, SharedRun
from rust_gauge.service.placement.runs import find_run, get_run
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import accounts
from rust_gauge.store import placement_schedules as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.placement_schedules import ShareRow

_MOST = 50  # links to a run
PATH = "/shared"


def add_share(context: Context, tenant: TenantAccess, run_id: int, new: NewShare, by: str) -> MadeShare:
    """Make a link to a run. ServiceProblem `not-found`."""
    find_run(context, tenant, run_id)
    link = secrets.token_urlsafe(32)
    now = context.clock()

    def write(connection: Connection) -> int:
        if len(store.list_shares(connection, run_id)) >= _MOST:
            raise ServiceProblem("too-large", f"{_MOST} links to this run exist, the limit", remedy="Delete some")
        return store.add_share(
            connection, tenant_id=tenant.id, run_id=run_id, token_digest=_digest(link), note=new.note.strip(),
            created_by=by, created_at=now, expires_at=now + timedelta(days=new.days), opened=0, opened_at=None,
        )  # fmt: skip

    id = context.store.transaction(write)
    made = next(each for each in list_shares(context, tenant, run_id) if each.id == id)
    return MadeShare(**made.model_dump(), url=f"{context.settings.base_url}{PATH}/{link}")


def list_shares(context: Context, tenant: TenantAccess, run_id: int) -> list[Share]:
    """Return the links to a run, newest first. ServiceProblem `not-found`."""
    find_run(context, tenant, run_id)
    return [_shown(row) for row in context.store.transaction(lambda c: store.list_shares(c, run_id))]


def delete_share(context: Context, tenant: TenantAccess, run_id: int, id: int) -> None:
    """Revoke a link. ServiceProblem `not-found`."""
    find_run(context, tenant, run_id)
    if not context.store.transaction(lambda c: store.delete_share(c, run_id, id)):
        raise ServiceProblem("not-found", f"Run {run_id} has no link {id}", remedy="List its links")


def shared_run(context: Context, link: str) -> SharedRun | None:
    """Return the run of a link; None for a link that has expired, was revoked or never was one."""
    now = context.clock()
    row = context.store.transaction(lambda c: store.open_share(c, _digest(link), now))
    tenant = None if row is None else context.store.transaction(lambda c: accounts.tenant_of(c, row.tenant_id))
    if row is None or tenant is None:
        return None
    run = get_run(context, tenant, row.run_id)
    numbers: Counter[str] = Counter()
    copies = []
    for copy in run.results:
        numbers[copy.provider] += 1
        copies.append(
            SharedCopy(
                number=numbers[copy.provider], provider=copy.provider, outcome=copy.outcome,
                folder=copy.label or copy.folder, reply=copy.reply.replace(copy.address, "(seed)"),
                seconds=copy.seconds, verified=[each for each in copy.verified if copy.address not in each.properties],
                changed=list(dict.fromkeys(change.where for change in copy.changes)),
            )
        )  # fmt: skip
    return SharedRun(
        tenant=tenant.name, title=run.title, state=run.state, subject=run.subject, header_from=run.header_from,
        mark=run.mark, started_at=run.started_at, ended_at=run.ended_at, expires_at=row.expires_at,
        providers=run.providers, copies=copies,
    )  # fmt: skip


def _shown(row: ShareRow) -> Share:
    return Share(
        id=row.id, note=row.note, created_by=row.created_by, created_at=row.created_at, expires_at=row.expires_at,
        opened=row.opened, opened_at=row.opened_at,
    )  # fmt: skip


def _digest(link: str) -> bytes:
    return hashlib.sha256(link.encode()).digest()
