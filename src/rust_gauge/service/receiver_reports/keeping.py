"""How long reports are kept: originals and rows of reports go when a tenant's settings say so."""

from datetime import timedelta

from sqlalchemy import Connection

from rust_gauge.service.receiver_reports.reports import retention_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import accounts, jobs, report_sources
from rust_gauge.store import receiver_reports as store
from rust_gauge.store.jobs import Job

KIND = "report_retention"
_EVERY = timedelta(hours=1)
_AT_ONCE = 50  # reports in one transaction
_NAMES_HELD = timedelta(days=90)  # names of addresses; those still reported are looked up again
_NAMES_AT_ONCE = 10_000
_MEMORY = "receiver reports forgotten"


def ask_for_due(context: Context) -> None:
    """Ask once an hour for what is to be deleted."""
    now = context.clock()
    last = context.memory.get(_MEMORY)
    if last is not None and timedelta(0) <= now - last < _EVERY:
        return
    context.memory[_MEMORY] = now

    def write(connection: Connection) -> None:
        report_sources.forget_names(connection, now.replace(tzinfo=None) - _NAMES_HELD, _NAMES_AT_ONCE)
        for tenant_id in accounts.tenant_ids(connection):
            jobs.enqueue(connection, KIND, tenant_id, 0, now)

    context.store.transaction(write)


def run_forgetting(context: Context, job: Job) -> None:
    """Delete what a tenant does not want kept any longer, a few reports at a time."""
    now = context.clock().replace(tzinfo=None)
    retention = context.store.transaction(lambda c: retention_of(c, job.tenant_id))
    rows_before = now - timedelta(days=retention.row_days)
    originals_before = now - timedelta(days=retention.original_days)

    def forget(connection: Connection) -> int:
        ids = store.reports_before(connection, job.tenant_id, rows_before, _AT_ONCE)
        if ids:
            store.delete_reports(connection, ids)
        return len(ids)

    while context.store.transaction(forget) == _AT_ONCE:
        pass
    while context.store.transaction(lambda c: store.forget_originals(c, job.tenant_id, originals_before, _AT_ONCE)):
        pass
    context.store.transaction(lambda c: store.forget_rejected(c, job.tenant_id, originals_before))
