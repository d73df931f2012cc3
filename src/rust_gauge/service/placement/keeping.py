"""Retention of placement runs: once a day, what is older than a tenant keeps."""

from datetime import timedelta

import structlog

from rust_gauge.service.mailflow.retention import get_settings
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import placement

log = structlog.get_logger()
_CHECKED = "placement retention"  # in the memory of the process
_PIECE = 200  # runs of one transaction
_SHORTEST = timedelta(days=7)  # that anybody keeps


def forget_old(context: Context) -> None:
    """Delete old runs of all tenants, once a day."""
    now = context.clock()
    if context.memory.get(_CHECKED) == now.date():
        return
    for tenant_id in context.store.transaction(lambda c: placement.tenants_with_older(c, now - _SHORTEST)):
        before = now - timedelta(days=get_settings(context, tenant_id).keep_placement_days)
        deleted, piece = 0, _PIECE
        while piece == _PIECE:
            piece = context.store.transaction(lambda c: placement.delete_old(c, tenant_id, before, _PIECE))  # noqa: B023
            deleted += piece
        if deleted:
            log.info("placement_runs_dropped", tenant=tenant_id, runs=deleted)
    context.memory[_CHECKED] = now.date()
