"""Changes of the suppression list, in order, each once."""

import asyncio

from sqlalchemy import Connection

from rust_gauge.contract.suppression import ListChange, ListChanges
from rust_gauge.core.suppression import Change, State
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.suppression.names import Names
from rust_gauge.store import suppression as store
from rust_gauge.store import suppression_list, suppression_state
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.suppression_list import ChangeRow

_POLL = 0.25  # seconds between looks while somebody waits for changes


def shown_change(row: ChangeRow, names: Names, address: str) -> ListChange:
    where = store.where_of(row)
    return ListChange(
        number=row.number, address=address, address_key=where.key.hex(), reason=str(where.reason),
        scope=str(where.scope), scope_name=names.reached(where.scope, where.scope_id),
        state=str(State.from_number(row.state)), change=str(Change.from_number(row.change)), at=row.changed_at,
        by=row.changed_by, note=row.note, until=row.until,
    )  # fmt: skip


def changes(context: Context, tenant: TenantAccess, after: int, limit: int) -> ListChanges:
    """Changes with numbers above `after`."""

    def write(connection: Connection) -> ListChanges:
        rows = suppression_list.changes_after(connection, tenant.id, after, limit + 1)
        names = Names(connection, tenant.id)
        shown = rows[:limit]
        missing = {bytes(row.address_key) for row in shown if not row.address}
        addresses = suppression_list.addresses_of(connection, tenant.id, missing)
        items = [shown_change(row, names, row.address or addresses.get(bytes(row.address_key), "")) for row in shown]
        return ListChanges(items=items, last=items[-1].number if items else after, more=len(rows) > limit)

    return context.store.transaction(write)


async def await_changes(context: Context, tenant: TenantAccess, after: int, limit: int, seconds: float) -> ListChanges:
    """The same; where there are none yet, wait for one so long. Holds no thread and no connection meanwhile."""
    loop = asyncio.get_running_loop()
    until = loop.time() + seconds
    while True:
        newest = await asyncio.to_thread(
            context.store.transaction, lambda c: suppression_state.last_number(c, tenant.id)
        )
        if newest > after or loop.time() >= until:
            return await asyncio.to_thread(changes, context, tenant, after, limit)
        await asyncio.sleep(min(_POLL, max(0.01, until - loop.time())))
