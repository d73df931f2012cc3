"""Rows that a feed could not use: listed with the reason, tried again, forgotten."""

from rust_gauge.contract.common import Page, ProblemError
from rust_gauge.contract.feeds import RejectedRow, ReplayResult
from rust_gauge.service.feeds.feeds import find_feed
from rust_gauge.service.feeds.receiving import BrokenDocument, parsed, take_documents, take_rows
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.intake.rows import rows_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import feeds as store_feeds
from rust_gauge.store.accounts import TenantAccess


def list_rejected_rows(
    context: Context, tenant: TenantAccess, name: str, cursor: str | None, limit: int
) -> Page[RejectedRow]:
    """Newest first."""
    row = find_feed(context, tenant, name)
    position = read_cursor("rejected rows", cursor, int)
    rows = context.store.transaction(
        lambda c: store_feeds.list_rejected_rows(c, row.id, position[0] if position else None, limit + 1)
    )
    items = [
        RejectedRow(
            id=row.id, arrived_at=row.arrived_at, item=row.item,
            problems=[ProblemError.model_validate(problem) for problem in row.problems],
        )
        for row in rows[:limit]
    ]  # fmt: skip
    return Page(items=items, next=write_cursor("rejected rows", rows[limit - 1].id) if len(rows) > limit else None)


def replay(context: Context, tenant: TenantAccess, name: str, id: int | None) -> ReplayResult:
    """Retry rejected rows with the present mapping. Those that are rejected again are stored again."""
    row = find_feed(context, tenant, name)
    taken = context.store.transaction(lambda c: store_feeds.list_rejected_rows(c, row.id, None, store_feeds.MAX_KEPT))
    taken = [row for row in reversed(taken) if id is None or row.id == id]
    if id is not None and not taken:
        raise ServiceProblem("not-found", f"The feed {name} has no rejected row {id}")
    totals = {"tried": len(taken), "stored": 0, "duplicates": 0, "rejected": 0}
    for form in ("document", "row"):
        some = [row for row in taken if row.form == form]
        if not some:
            continue
        values = [
            (number, parsed(row.item.encode("utf-8", "surrogatepass"), True)) for number, row in enumerate(some, 1)
        ]
        if form == "document" and row.mapping is not None:
            result = take_documents(context, row, values)
        else:
            items = [str(value) if isinstance(value, BrokenDocument) else value for _, value in values]
            result = take_rows(context, row, rows_of(items))
        for key in ("stored", "duplicates", "rejected"):
            totals[key] += getattr(result, key)
    ids = [row.id for row in taken]  # only now: what was cut off in between is still there, and tried once more
    context.store.transaction(lambda c: store_feeds.take_rejected_rows(c, row.id, ids, len(ids) + 1))
    return ReplayResult(**totals)


def delete_rejected_rows(context: Context, tenant: TenantAccess, name: str) -> int:
    """Delete rejected rows and return how many they were."""
    row = find_feed(context, tenant, name)
    return context.store.transaction(lambda c: store_feeds.delete_rejected_rows(c, row.id))
