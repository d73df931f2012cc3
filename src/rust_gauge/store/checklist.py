"""What a tenant has: facts for its checklist, each from an index."""

from dataclasses import dataclass

from sqlalchemy import Connection, func, select

from rust_gauge.store import tables as t


@dataclass(frozen=True, slots=True)
class SetUp:
    """Counts of what is set up."""

    domains: int
    audited: int
    relays: int
    loads: int
    people: int


def set_up(connection: Connection, tenant_id: int) -> SetUp:
    """Return what a tenant has set up. Relays are those that somebody described; people, members and invitations."""
    d, a, r, e, m, i = t.sending_domain.c, t.audit.c, t.relay.c, t.load.c, t.membership.c, t.invitation.c

    def count(query: object) -> int:
        return int(connection.scalar(query) or 0)  # type: ignore[call-overload]

    one = select(func.count()).select_from(select(a.id).where(a.tenant_id == tenant_id).limit(1).subquery())
    load = select(e.id).where(e.tenant_id == tenant_id, e.stored > 0).limit(1).subquery()
    return SetUp(
        count(select(func.count()).where(d.tenant_id == tenant_id, d.origin == "added")),
        count(one),
        count(select(func.count()).where(r.tenant_id == tenant_id, r.description.is_not(None))),
        count(select(func.count()).select_from(load)),
        count(select(func.count()).where(m.tenant_id == tenant_id))
        + count(select(func.count()).where(i.tenant_id == tenant_id)),
    )
