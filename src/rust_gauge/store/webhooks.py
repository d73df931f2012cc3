"""Webhooks and the calls that they are due."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Unpack

from sqlalchemy import Connection, case, delete, func, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.columns import WebhookCallColumns, WebhookColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class WebhookRow:
    """A webhook, with how many of its calls wait and were given up."""

    id: int
    tenant_id: int
    name: str
    url: str
    subjects: list[Any]
    secret: str
    paused: bool
    created_at: datetime
    last_at: datetime | None
    last_response: str
    previous_until: datetime | None
    waiting: int | None
    dead: int | None


@dataclass(frozen=True, slots=True)
class ActiveWebhook:
    """A webhook that is called."""

    id: int
    tenant_id: int
    name: str
    url: str
    subjects: list[Any]
    secret: str
    paused: bool
    created_at: datetime
    last_at: datetime | None
    last_response: str


@dataclass(frozen=True, slots=True)
class CallRow:
    """A call of a webhook."""

    id: int
    tenant_id: int
    webhook_id: int
    message_id: str
    subject: str
    body: str
    state: str
    attempts: int
    response: str
    created_at: datetime
    next_at: datetime | None
    finished_at: datetime | None


@dataclass(frozen=True, slots=True)
class CallToMake(CallRow):
    """A call with its webhook's address and secret."""

    url: str
    secret: str
    paused: bool
    previous_secret: str
    previous_until: datetime | None


def add_webhook(connection: Connection, **values: Unpack[WebhookColumns]) -> int:
    """Add a webhook; return its id."""
    return int(connection.execute(insert(t.webhook).values(**values)).inserted_primary_key[0])  # type: ignore[index]


def list_webhooks(connection: Connection, tenant_id: int, webhook_id: int | None = None) -> list[WebhookRow]:
    """Return webhooks with how many calls wait and how many were given up."""
    w, c = t.webhook.c, t.webhook_call.c
    counts = (
        select(
            c.webhook_id,
            func.sum(case((c.state == "waiting", 1), else_=0)).label("waiting"),
            func.sum(case((c.state == "dead", 1), else_=0)).label("dead"),
        )
        .where(c.tenant_id == tenant_id, c.state.in_(("waiting", "dead")))
        .group_by(c.webhook_id)
        .subquery()
    )
    query = select(t.webhook, counts.c.waiting, counts.c.dead).outerjoin(counts, counts.c.webhook_id == w.id)
    query = query.where(w.tenant_id == tenant_id).order_by(w.id)
    return values_of(WebhookRow, connection.execute(query if webhook_id is None else query.where(w.id == webhook_id)))


def active_webhooks(connection: Connection, tenant_id: int) -> list[ActiveWebhook]:
    """Return the enabled webhooks."""
    c = t.webhook.c
    return values_of(
        ActiveWebhook, connection.execute(select(t.webhook).where(c.tenant_id == tenant_id, c.paused.is_(False)))
    )


def update_webhook(connection: Connection, webhook_id: int, /, **values: Unpack[WebhookColumns]) -> None:
    """Change columns of a webhook."""
    connection.execute(update(t.webhook).where(t.webhook.c.id == webhook_id).values(**values))


def rotate_secret(connection: Connection, webhook_id: int, secret: str, until: datetime) -> None:
    """Give a webhook a new secret; the one before signs as well until then."""
    c = t.webhook.c
    # The old secret is read before the new one is written: MariaDB assigns from left to right.
    values = ((c.previous_secret, c.secret), (c.previous_until, until), (c.secret, secret))
    connection.execute(update(t.webhook).where(c.id == webhook_id).ordered_values(*values))


def delete_webhook(connection: Connection, webhook_id: int) -> None:
    """Delete a webhook."""
    connection.execute(delete(t.webhook).where(t.webhook.c.id == webhook_id))


def add_call(connection: Connection, **values: Unpack[WebhookCallColumns]) -> int:
    """Add a call that waits to be made; return its id."""
    statement = insert(t.webhook_call).values(state="waiting", attempts=0, response="", **values)
    return int(connection.execute(statement).inserted_primary_key[0])  # type: ignore[index]


def get_call(connection: Connection, call_id: int) -> CallToMake | None:
    """Return a call with its webhook's address and secret."""
    w = t.webhook.c
    query = select(t.webhook_call, w.url, w.secret, w.paused, w.previous_secret, w.previous_until).join(t.webhook)
    return value_of(CallToMake, connection.execute(query.where(t.webhook_call.c.id == call_id)).first())


def list_calls(
    connection: Connection, webhook_id: int, state: str | None, before: int | None, limit: int
) -> list[CallRow]:
    """Newest first."""
    c = t.webhook_call.c
    query = select(t.webhook_call).where(c.webhook_id == webhook_id).order_by(c.id.desc()).limit(limit)
    if state is not None:
        query = query.where(c.state == state)
    return values_of(CallRow, connection.execute(query if before is None else query.where(c.id < before)))


def calls_in_state(connection: Connection, webhook_id: int, state: str, message_id: str | None = None) -> list[int]:
    """Return ids of a webhook's calls in a state, oldest first; those of one message if it is named."""
    c = t.webhook_call.c
    query = select(c.id).where(c.webhook_id == webhook_id, c.state == state).order_by(c.id)
    if message_id is not None:
        query = query.where(c.message_id == message_id)
    return [int(row.id) for row in connection.execute(query.limit(10_000))]


def change_call(connection: Connection, call_id: int, /, **values: Unpack[WebhookCallColumns]) -> None:
    """Change columns of a call."""
    connection.execute(update(t.webhook_call).where(t.webhook_call.c.id == call_id).values(**values))


def drop_old_calls(connection: Connection, before: datetime) -> None:
    """Delete calls that were delivered long ago."""
    c = t.webhook_call.c
    connection.execute(delete(t.webhook_call).where(c.state == "delivered", c.finished_at < before))
