"""Webhooks: telling other programs what happened. Written down with the thing itself, sent by the worker.

A call is tried again with growing pauses for about two days, then set aside as dead, from where it can be replayed.
"""

import json
import secrets
from datetime import UTC, datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.common import Page
from rust_gauge.contract.webhooks import (
    MadeWebhook,
    NewWebhook,
    Webhook,
    WebhookCall,
    WebhookChange,
    WebhookRotation,
)
from rust_gauge.core.webhooks import headers_of, pause_after, secret_text
from rust_gauge.gateways.webhook import HookAddressError, HookCaller
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt, encrypt
from rust_gauge.store import jobs
from rust_gauge.store import webhooks as store_webhooks
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.webhooks import ActiveWebhook, CallRow, CallToMake, WebhookRow

log = structlog.get_logger()
_MAX_WEBHOOKS = 50  # of a tenant: every event of the list is sent to each
_LONGEST_WAIT = 24 * 3600  # seconds that a receiver may ask us to stay away
_KEEP_DELIVERED = timedelta(days=30)  # for looking up what a receiver got; it can be replayed
_GONE = 410  # the receiver wants no more calls (Standard Webhooks)


def is_wanted(connection: Connection, tenant_id: int, subject: str) -> bool:
    """Return whether a webhook has this subject."""
    rows = store_webhooks.active_webhooks(connection, tenant_id)
    return any(not row.subjects or subject in row.subjects for row in rows)


def tell(connection: Connection, tenant_id: int, subject: str, data: dict[str, Any], now: datetime) -> None:
    """Enqueue calls of all webhooks with this subject, in the transaction of the change itself."""
    for row in store_webhooks.active_webhooks(connection, tenant_id):
        if not row.subjects or subject in row.subjects:
            call = _add_call(connection, row, subject, data, now)
            jobs.enqueue(connection, "webhook", tenant_id, call, now)


def _add_call(
    connection: Connection, row: ActiveWebhook | WebhookRow, subject: str, data: dict[str, Any], now: datetime
) -> int:
    message_id = f"msg_{secrets.token_urlsafe(18)}"
    # The body is fixed here, so that every try sends the same octets.
    body = {"type": subject, "timestamp": now.isoformat().replace("+00:00", "Z"), "data": data}
    return store_webhooks.add_call(
        connection, tenant_id=row.tenant_id, webhook_id=row.id, message_id=message_id, subject=subject,
        body=json.dumps(body, ensure_ascii=False, sort_keys=True), created_at=now, next_at=now,
    )  # fmt: skip


def run_call(context: Context, id: int) -> None:
    """Make a call once; the worker does this."""
    row = context.store.transaction(lambda c: store_webhooks.get_call(c, id))
    if row is None or row.state != "waiting" or row.paused:
        return
    body, now = row.body.encode(), context.clock()
    signing = [row.secret]
    if row.previous_secret and row.previous_until and row.previous_until.replace(tzinfo=UTC) > now:
        signing.append(row.previous_secret)
    opened = [decrypt(context.settings, secret) for secret in signing]
    headers = headers_of(opened, row.message_id, int(now.timestamp()), body)
    answer = _caller(context).post(row.url, headers, body, context.resolver.answer_all)
    now, attempts = context.clock(), row.attempts + 1
    values: dict[str, Any] = {"attempts": attempts, "response": answer.summary or "no response"}
    pause = None if answer.status == _GONE else pause_after(attempts)
    if answer.taken:
        values |= {"state": "delivered", "finished_at": now, "next_at": None}
    elif pause is None:
        values |= {"state": "dead", "finished_at": now, "next_at": None}
    else:
        asked = timedelta(seconds=min(answer.retry_after or 0, _LONGEST_WAIT))
        values |= {"next_at": now + max(pause, asked)}

    def write(connection: Connection) -> None:
        store_webhooks.change_call(connection, id, **values)
        store_webhooks.update_webhook(connection, row.webhook_id, last_at=now, last_response=values["response"])
        if answer.status == _GONE:  # the receiver wants no more calls
            store_webhooks.update_webhook(connection, row.webhook_id, paused=True)
        if values["next_at"] is not None:
            jobs.enqueue(connection, "webhook", row.tenant_id, id, now, at=values["next_at"])

    context.store.transaction(write)
    log.info("webhook_called", webhook=row.webhook_id, message=row.message_id, status=answer.status, attempts=attempts)


def forget_old(context: Context) -> None:
    before = context.clock() - _KEEP_DELIVERED
    context.store.transaction(lambda c: store_webhooks.drop_old_calls(c, before))


def _caller(context: Context) -> HookCaller:
    settings = context.settings
    return HookCaller(frozenset(settings.webhook_hosts), context.resolver.reach, str(settings.tls_ca_file or ""))


def add_webhook(context: Context, tenant: TenantAccess, new: NewWebhook) -> MadeWebhook:
    """Add a webhook. Its secret is in this answer only."""
    _check(context, new.url)
    secret, now = secret_text(secrets.token_bytes(32)), context.clock()

    def write(connection: Connection) -> int:
        if len(store_webhooks.list_webhooks(connection, tenant.id)) >= _MAX_WEBHOOKS:
            raise ServiceProblem("too-large", f"{_MAX_WEBHOOKS} webhooks exist, the limit", remedy="Delete some")
        return store_webhooks.add_webhook(
            connection, tenant_id=tenant.id, name=new.name, url=new.url, subjects=list(dict.fromkeys(new.subjects)),
            secret=encrypt(context.settings, secret), paused=False, created_at=now, last_response="",
        )  # fmt: skip

    shown = _shown(_row(context, tenant, context.store.transaction(write)))
    return MadeWebhook(secret=secret, **shown.model_dump())


def _check(context: Context, url: str) -> None:
    try:
        _caller(context).check(url)
    except HookAddressError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None


def list_webhooks(context: Context, tenant: TenantAccess) -> list[Webhook]:
    return [_shown(row) for row in context.store.transaction(lambda c: store_webhooks.list_webhooks(c, tenant.id))]


def update_webhook(context: Context, tenant: TenantAccess, id: int, change: WebhookChange) -> Webhook:
    """New settings. What waited while it was paused is sent when it goes on."""
    before = _row(context, tenant, id)
    values = {name: value for name, value in change.model_dump(exclude_unset=True).items() if value is not None}
    if "url" in values:
        _check(context, values["url"])

    def write(connection: Connection) -> None:
        if values:
            store_webhooks.update_webhook(connection, id, **values)
        if before.paused and values.get("paused") is False:
            for call in store_webhooks.calls_in_state(connection, id, "waiting"):
                jobs.enqueue(connection, "webhook", tenant.id, call, context.clock())

    context.store.transaction(write)
    return _shown(_row(context, tenant, id))


def rotate_secret(context: Context, tenant: TenantAccess, id: int, rotation: WebhookRotation) -> MadeWebhook:
    """Give a webhook a new secret. Calls are signed with the one before as well, for a while."""
    _row(context, tenant, id)
    secret = secret_text(secrets.token_bytes(32))
    sealed, until = encrypt(context.settings, secret), context.clock() + timedelta(hours=rotation.overlap_hours)
    context.store.transaction(lambda c: store_webhooks.rotate_secret(c, id, sealed, until))
    return MadeWebhook(secret=secret, **_shown(_row(context, tenant, id)).model_dump())


def delete_webhook(context: Context, tenant: TenantAccess, id: int) -> None:
    """Delete a webhook and its calls."""
    _row(context, tenant, id)
    context.store.transaction(lambda c: store_webhooks.delete_webhook(c, id))


def test_webhook(context: Context, tenant: TenantAccess, id: int) -> WebhookCall:
    """Send a message that says nothing, now, and tell what came back."""
    row = _row(context, tenant, id)
    if row.paused:
        raise ServiceProblem("invalid-request", f"{row.name} is paused", remedy="Resume it first")
    now = context.clock()
    call_id = context.store.transaction(lambda c: _add_call(c, row, "test", {"tenant": tenant.slug}, now))
    run_call(context, call_id)
    done = context.store.transaction(lambda c: store_webhooks.get_call(c, call_id))
    assert done is not None
    return _shown_call(done)


def list_calls(
    context: Context, tenant: TenantAccess, id: int, state: str | None, cursor: str | None, limit: int
) -> Page[WebhookCall]:
    """Newest first."""
    _row(context, tenant, id)
    position = read_cursor("calls", cursor, int)
    before = position[0] if position else None
    rows = context.store.transaction(lambda c: store_webhooks.list_calls(c, id, state, before, limit + 1))
    following = write_cursor("calls", rows[limit - 1].id) if len(rows) > limit else None
    return Page(items=[_shown_call(row) for row in rows[:limit]], next=following)


def replay(context: Context, tenant: TenantAccess, id: int, message_id: str | None = None) -> int:
    """Retry dead calls, one or all, and return how many."""
    _row(context, tenant, id)
    now = context.clock()

    def write(connection: Connection) -> int:
        calls = store_webhooks.calls_in_state(connection, id, "dead", message_id)
        for call in calls:
            store_webhooks.change_call(connection, call, state="waiting", attempts=0, next_at=now, finished_at=None)
            jobs.enqueue(connection, "webhook", tenant.id, call, now)
        return len(calls)

    count = context.store.transaction(write)
    if message_id is not None and not count:
        raise ServiceProblem("not-found", f"No failed call {message_id[:60]}", remedy="List the calls of the webhook")
    return count


def _row(context: Context, tenant: TenantAccess, id: int) -> WebhookRow:
    rows = context.store.transaction(lambda c: store_webhooks.list_webhooks(c, tenant.id, id))
    if not rows:
        raise ServiceProblem(
            "not-found", f"{tenant.name} has no webhook {id}", remedy="List the webhooks to find its id"
        )
    return rows[0]


def _shown(row: WebhookRow) -> Webhook:
    return Webhook(
        id=row.id, name=row.name, url=row.url, subjects=row.subjects, paused=row.paused, waiting=int(row.waiting or 0),
        dead=int(row.dead or 0), created_at=row.created_at, last_at=row.last_at, last_response=row.last_response,
        previous_until=row.previous_until,
    )  # fmt: skip


def _shown_call(row: CallRow | CallToMake) -> WebhookCall:
    return WebhookCall(
        id=row.message_id, subject=row.subject, state=row.state, attempts=row.attempts, response=row.response,
        body=json.loads(row.body), created_at=row.created_at.replace(tzinfo=UTC), next_at=row.next_at,
        finished_at=row.finished_at,
    )  # fmt: skip
