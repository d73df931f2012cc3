"""What whoever watches the installation asks for: how much waits, how late things are, what failed."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection, func, select

from rust_gauge.core.suppression import State
from rust_gauge.store import tables as t
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class Waiting:
    """How many are in a state, and since when the oldest could have been done."""

    kind: str
    state: str
    n: int
    oldest: datetime | None


@dataclass(frozen=True, slots=True)
class FeedState:
    """How a feed goes. `arrived` and `newest` are of its newest load with anything new."""

    tenant: str
    name: str
    failing: bool
    paused: bool
    arrived: datetime | None
    newest: datetime | None


def jobs(connection: Connection) -> list[Waiting]:
    """Return jobs by kind and state; those that wait with when the oldest was due."""
    c = t.job.c
    query = select(c.kind, c.state, func.count().label("n"), func.min(c.run_after).label("oldest"))
    return values_of(Waiting, connection.execute(query.group_by(c.kind, c.state)))


def webhook_calls(connection: Connection) -> list[Waiting]:
    """Return calls of webhooks that were not delivered, by state."""
    c = t.webhook_call.c
    query = select(c.state.label("kind"), c.state, func.count().label("n"), func.min(c.created_at).label("oldest"))
    return values_of(Waiting, connection.execute(query.where(c.state != "delivered").group_by(c.state)))


def notifications(connection: Connection) -> list[Waiting]:
    """Return notifications by state."""
    c = t.notification.c
    query = select(c.state.label("kind"), c.state, func.count().label("n"), func.min(c.made_at).label("oldest"))
    return values_of(Waiting, connection.execute(query.group_by(c.state)))


def feeds(connection: Connection) -> list[FeedState]:
    """Return how all feeds go."""
    f, load = t.feed.c, t.load.c
    last = (
        select(load.feed_id, func.max(load.arrived_at).label("arrived"), func.max(load.newest).label("newest"))
        .where(load.stored > 0, load.feed_id > 0)
        .group_by(load.feed_id)
        .subquery()
    )
    query = (
        select(
            t.tenant.c.slug.label("tenant"), f.name, (f.error != "").label("failing"), f.paused, last.c.arrived,
            last.c.newest,
        )
        .join(t.tenant, t.tenant.c.id == f.tenant_id)
        .outerjoin(last, last.c.feed_id == f.id)
    )  # fmt: skip
    return values_of(FeedState, connection.execute(query))


def rejected_rows(connection: Connection) -> int:
    """Count rows of feeds that were set aside."""
    return int(connection.scalar(select(func.count()).select_from(t.rejected_row)) or 0)


def held_addresses(connection: Connection) -> int:
    """Count entries of suppression lists that hold an address."""
    c = t.suppression_entry.c
    return int(connection.scalar(select(func.count()).where(c.state == State.HELD.number)) or 0)
