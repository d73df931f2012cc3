"""The suppression list as people and programs read it: pages, counts, what is over, what happened."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, Select, and_, func, literal_column, or_, select

from rust_gauge.core.suppression import Reason, Scope, State
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal, run
from rust_gauge.store.suppression import CHUNK, EntryRow, RowOfEntry, Where, naive
from rust_gauge.store.values import values_of

_SEEN = "number, address_key, reason, scope, scope_id, state, `change`, changed_at, changed_by, note, until, address"


@dataclass(frozen=True, slots=True)
class ListedEntry(EntryRow):
    """An entry with the name of its stream, if it came from one."""

    stream: str | None


@dataclass(frozen=True, slots=True)
class OverdueEntry(RowOfEntry):
    """An entry whose time is over."""

    tenant_id: int


@dataclass(frozen=True, slots=True)
class ChangeRow(RowOfEntry):
    """A change of the list."""

    number: int
    state: int
    change: int
    changed_at: datetime
    changed_by: str
    note: str
    until: datetime | None
    address: str


@dataclass(frozen=True, slots=True)
class Filter:
    """A filter of entries. Empty means all; `text` is the beginning of an address, or of a domain after @."""

    text: str = ""
    keys: tuple[bytes, ...] = ()
    states: tuple[State, ...] = ()
    reasons: tuple[Reason, ...] = ()
    provider_ids: tuple[int, ...] | None = None
    stream_id: int | None = None
    scope: Scope | None = None
    origin: str = ""
    ends_before: datetime | None = None
    came_back: bool = False
    made_since: datetime | None = None
    made_before: datetime | None = None


def _where(filter: Filter, tenant_id: int, query: Select[Any]) -> Select[Any]:
    c = t.suppression_entry.c
    query = query.where(c.tenant_id == tenant_id)
    if filter.keys:
        query = query.where(c.address_key.in_(filter.keys))
    text = filter.text
    if text.startswith("@"):
        like = _begins(text[1:].lower())
        query = query.where(or_(c.mail_domain.like(like), c.address.like(_begins(text))))
    elif text:
        query = query.where(c.address.like(_begins(text)))
    if filter.states:
        query = query.where(c.state.in_([state.number for state in filter.states]))
    if filter.reasons:
        query = query.where(c.reason.in_([reason.number for reason in filter.reasons]))
    if filter.provider_ids is not None:
        query = query.where(c.provider_id.in_(filter.provider_ids))
    if filter.stream_id is not None:
        query = query.where(c.stream_id == filter.stream_id)
    if filter.scope is not None:
        query = query.where(c.scope == filter.scope.number)
    if filter.origin:
        query = query.where(c.origin == filter.origin)
    if filter.ends_before is not None:
        query = query.where(c.until < naive(filter.ends_before))
    if filter.came_back:
        query = query.where(c.returns > 0)
    if filter.made_since is not None:
        query = query.where(c.made_at >= naive(filter.made_since))
    if filter.made_before is not None:
        query = query.where(c.made_at < naive(filter.made_before))
    return query


def _begins(text: str) -> str:
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"


def list_entries(
    connection: Connection, tenant_id: int, filter: Filter, before: int | None, limit: int
) -> list[ListedEntry]:
    """Entries, the one that changed last first."""
    e = t.suppression_entry
    query = _where(filter, tenant_id, select(e, t.stream.c.name.label("stream")))
    query = query.outerjoin(t.stream, t.stream.c.id == e.c.stream_id)
    if before is not None:
        query = query.where(e.c.number < before)
    return values_of(ListedEntry, connection.execute(query.order_by(e.c.number.desc()).limit(limit)))


def pages_by_key(
    connection: Connection, tenant_id: int, filter: Filter, after: Where | None, limit: int
) -> list[ListedEntry]:
    """Return a page of all entries in the order of their keys, for whoever reads the whole list."""
    e = t.suppression_entry
    c = e.c
    query = _where(filter, tenant_id, select(e, t.stream.c.name.label("stream")))
    query = query.outerjoin(t.stream, t.stream.c.id == c.stream_id)
    if after is not None:
        rest = (after.reason.number, after.scope.number, after.scope_id)
        reason, scope, scope_id = rest
        query = query.where(
            c.address_key >= after.key,
            or_(
                c.address_key > after.key,
                c.reason > reason,
                and_(c.reason == reason, c.scope > scope),
                and_(c.reason == reason, c.scope == scope, c.scope_id > scope_id),
            ),
        )
    return values_of(
        ListedEntry, connection.execute(query.order_by(c.address_key, c.reason, c.scope, c.scope_id).limit(limit))
    )


def count_entries(connection: Connection, tenant_id: int, filter: Filter, most: int) -> int:
    """Return how many there are, counted up to `most`."""
    inner = _where(filter, tenant_id, select(literal_column("1"))).limit(most).subquery()
    return int(connection.scalar(select(func.count()).select_from(inner)) or 0)


def overdue(connection: Connection, now: datetime, limit: int) -> list[OverdueEntry]:
    """Entries of any tenant whose time is over, and that nobody ended yet."""
    return values_of(
        OverdueEntry,
        run(
            connection,
            "SELECT s.tenant_id, e.address_key, e.reason, e.scope, e.scope_id FROM suppression_state AS s "
            "STRAIGHT_JOIN suppression_entry AS e FORCE INDEX (suppression_entry_until) "
            f"ON e.tenant_id = s.tenant_id AND e.until <= {literal(naive(now))} "
            f"AND e.state <> {State.ENDED.number} LIMIT {limit}",
        ),
    )


def changes_after(connection: Connection, tenant_id: int, after: int, limit: int) -> list[ChangeRow]:
    """Return changes of a tenant's list with numbers above `after`, in their order."""
    parts = [
        f"(SELECT {_SEEN} FROM {table} WHERE tenant_id = {literal(tenant_id)} AND number > {literal(after)} "
        f"ORDER BY number LIMIT {limit})"
        for table in ("suppression_change", "suppression_entry")
    ]
    return values_of(ChangeRow, run(connection, f"{' UNION ALL '.join(parts)} ORDER BY number LIMIT {limit}"))


def history_of(connection: Connection, tenant_id: int, keys: Sequence[bytes]) -> list[ChangeRow]:
    """Everything that happened to the status of an address, in its order."""
    listed = ", ".join(map(literal, keys))
    parts = [
        f"(SELECT {_SEEN} FROM {table} WHERE tenant_id = {literal(tenant_id)} AND address_key IN ({listed}))"
        for table in ("suppression_change", "suppression_entry")
    ]
    return values_of(ChangeRow, run(connection, f"{' UNION ALL '.join(parts)} ORDER BY number"))


def addresses_of(connection: Connection, tenant_id: int, keys: Iterable[bytes]) -> dict[bytes, str]:
    """Return the addresses that stand with entries of these keys."""
    found: dict[bytes, str] = {}
    ordered = sorted(keys)
    for start in range(0, len(ordered), CHUNK):
        listed = ", ".join(map(literal, ordered[start : start + CHUNK]))
        sql = (
            f"SELECT address_key, address FROM suppression_entry FORCE INDEX (PRIMARY) "
            f"WHERE tenant_id = {literal(tenant_id)} AND address_key IN ({listed})"
        )
        found |= {bytes(row.address_key): row.address for row in run(connection, sql)}
    return found
