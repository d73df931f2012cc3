"""Numbers that grow with each change of a kind in a tenant.

They are written in the transaction of the change itself, so that whoever sees a new number sees what changed.
"""

from collections.abc import Collection
from typing import Literal

from sqlalchemy import Connection, text

from rust_gauge.store.driver import raw_rows

What = Literal[
    "events", "readings", "worklist", "domains", "jobs",
    "suppression", "watches", "placement", "reports", "warmup", "settings",
]  # fmt: skip
_NOTE = text(
    "INSERT INTO tenant_change (tenant_id, what, number) VALUES (:tenant, :what, 1) "
    "ON DUPLICATE KEY UPDATE number = number + 1"
)


def note(connection: Connection, tenant_id: int | None, what: What) -> None:
    """Note that something changed. Late in a transaction: others of the tenant that note the same wait for its end."""
    if tenant_id:
        connection.execute(_NOTE, {"tenant": tenant_id, "what": what})


_NOTE_ITEM = text(
    "INSERT INTO tenant_change (tenant_id, what, number) "
    "SELECT tenant_id, 'worklist', 1 FROM work_item WHERE id = :item ON DUPLICATE KEY UPDATE number = number + 1"
)


def note_item(connection: Connection, item_id: int) -> None:
    """Note that an item of a worklist changed."""
    connection.execute(_NOTE_ITEM, {"item": item_id})


# Whose change it is, where the caller knows only what changed.
_OWNERS = {"placement": "placement_run", "warmup": "warmup_plan", "reports": "sending_domain"}


def note_of(connection: Connection, what: What, id: int) -> None:
    """Note a change of a placement run, of a warm-up plan, or of the reports about a domain, by its id."""
    connection.execute(
        text(
            f"INSERT INTO tenant_change (tenant_id, what, number) SELECT tenant_id, :what, 1 FROM {_OWNERS[what]} "
            "WHERE id = :id ON DUPLICATE KEY UPDATE number = number + 1"
        ),
        {"what": what, "id": id},
    )


def numbers(connection: Connection, tenant_ids: Collection[int]) -> dict[tuple[int, str], int]:
    """Return by tenant and kind: the number of changes so far."""
    listed = ", ".join(map(str, tenant_ids)) or "0"
    rows = raw_rows(connection, f"SELECT tenant_id, what, number FROM tenant_change WHERE tenant_id IN ({listed})")
    return {(tenant_id, str(what)): number for tenant_id, what, number in rows}
