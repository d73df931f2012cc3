"""What has a name: found by a part of it, those that begin with the text first."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy import ColumnElement, Connection, Table, func, select, text

from rust_gauge.store import tables as t
from rust_gauge.store.values import values_of

NAMED: Mapping[str, Table] = {
    "domain": t.sending_domain, "stream": t.stream, "relay": t.relay, "sending_ip": t.label,
}  # fmt: skip
"""Tables by the kind of what they name."""


@dataclass(frozen=True, slots=True)
class NameRow:
    """Something that a tenant has."""

    tenant_id: int
    name: str


@dataclass(frozen=True, slots=True)
class ProviderRow:
    """A mailbox provider that a tenant's mail goes to, with the tenant's name for it, if it has one."""

    tenant_id: int
    name: str
    label: str


@dataclass(frozen=True, slots=True)
class ItemRow:
    """An item of a worklist that is not resolved."""

    tenant_id: int
    id: int
    title: str
    level: str
    state: str


@dataclass(frozen=True, slots=True)
class ReplyRow:
    """A reply pattern by one of its replies."""

    tenant_id: int
    example: str


def names_with(
    connection: Connection, tenant_ids: Sequence[int], table: Table, wanted: str, limit: int
) -> list[NameRow]:
    """Return names in one of the tables of NAMED."""
    c = table.c
    query = select(c.tenant_id, c.name).where(c.tenant_id.in_(tenant_ids), _has(c.name, wanted))
    if table is t.label:
        query = query.where(t.label.c.what == 0)  # sending addresses
    return values_of(NameRow, connection.execute(query.order_by(*_begins(c.name, wanted)).limit(limit)))


def providers_with(connection: Connection, tenant_ids: Sequence[int], wanted: str, limit: int) -> list[ProviderRow]:
    """Return providers that mail of these tenants went to, by their registered domain or by a tenant's name."""
    f, p, n = t.flow_sum_day.c, t.mailbox_provider.c, t.provider_label.c
    label = func.coalesce(n.label, "")
    query = (
        select(f.tenant_id, p.name, label.label("label"))
        .join(t.mailbox_provider, p.id == f.part_id)
        .outerjoin(t.provider_label, (n.provider_id == p.id) & (n.tenant_id == f.tenant_id))
        .where(f.tenant_id.in_(tenant_ids), f.what == t.SUM_PROVIDER, _has(p.name, wanted) | _has(label, wanted))
        .where(~p.name.startswith("("))
        .distinct()
        .order_by(*_begins(p.name, wanted))
        .limit(limit)
    )
    return values_of(ProviderRow, connection.execute(query))


def items_with(connection: Connection, tenant_ids: Sequence[int], wanted: str, limit: int) -> list[ItemRow]:
    """Return open items by a part of their title, the newest first."""
    c = t.work_item.c
    title = func.json_value(c.incident, "$.title")
    query = (
        select(c.tenant_id, c.id, title.label("title"), c.level, c.state)
        .where(c.tenant_id.in_(tenant_ids), c.state != "resolved", _has(title, wanted))
        .order_by(c.id.desc())
        .limit(limit)
    )
    return values_of(ItemRow, connection.execute(query))


def replies_with(connection: Connection, tenant_ids: Sequence[int], words: Sequence[str], limit: int) -> list[ReplyRow]:
    """Return reply patterns with all these words, each from its beginning; the newest first."""
    listed = ", ".join(map(str, tenant_ids)) or "0"
    query = text(
        f"SELECT tenant_id, example FROM reply_pattern WHERE tenant_id IN ({listed}) AND MATCH(reply_pattern) AGAINST "
        "(:words IN BOOLEAN MODE) ORDER BY first_seen_at DESC LIMIT :limit"
    )
    values = {"words": " ".join(f"+{word}*" for word in words), "limit": limit}
    return values_of(ReplyRow, connection.execute(query, values))


def _has(column: ColumnElement[str], wanted: str) -> ColumnElement[bool]:
    return func.lower(column).contains(wanted.lower(), autoescape=True)


def _begins(column: ColumnElement[str], wanted: str) -> tuple[ColumnElement[bool], ColumnElement[str]]:
    return ~func.lower(column).startswith(wanted.lower(), autoescape=True), column
