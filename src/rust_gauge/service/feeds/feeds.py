"""Feeds: configured sources of events, how they go, and their settings."""

import hashlib
import secrets
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from statistics import median
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.feeds import Feed, FeedChange, FeedDefaults, FeedMapping, FeedSource, MadeFeed, NewFeed
from rust_gauge.core.mailflow.mapping import MappingError
from rust_gauge.core.webhooks import secret_text
from rust_gauge.service.accounts import ownership
from rust_gauge.service.bench.trays import find_tray
from rust_gauge.service.feeds.mapping import make_mapping
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.runtime.secrets import encrypt
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store import feeds as store_feeds
from rust_gauge.store import receiver_reports
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.feeds import FeedRow, LoadRow

TOKEN_PREFIX = "rgf_"  # noqa: S105 - what tokens of feeds begin with


_MAX_FEEDS = 200  # for each tenant; each is polled


_KEEP_LOADS = timedelta(days=40)  # the history that a feed shows, and some days


def add_feed(context: Context, tenant: TenantAccess, new: NewFeed) -> MadeFeed:
    """Add a feed. Its token and key are in this answer only."""
    _check(context, tenant, new.kind, new.source, new.mapping, new.defaults)
    token, secret = TOKEN_PREFIX + secrets.token_urlsafe(30), secret_text(secrets.token_bytes(32))
    now = context.clock()

    def write(connection: Connection) -> None:
        _require_own(connection, tenant, new.kind, new.source, now)
        if len(store_feeds.list_feeds(connection, tenant.id)) >= _MAX_FEEDS:
            raise ServiceProblem("too-large", f"{_MAX_FEEDS} feeds exist, the limit", remedy="Delete some")
        store_feeds.add_feed(
            connection, tenant_id=tenant.id, name=new.name, kind=new.kind, feed_key=secrets.token_hex(12),
            token_digest=hashlib.sha256(token.encode()).digest(), secret=encrypt(context.settings, secret),
            password=encrypt(context.settings, new.password) if new.password else "", source=new.source.model_dump(),
            mapping=new.mapping.model_dump() if new.mapping else None, defaults=new.defaults.model_dump(), position={},
            paused=False, error="", created_at=now,
        )  # fmt: skip

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem(
            "already-there", f"The feed {new.name} already exists", remedy="Choose another name"
        ) from None
    return MadeFeed(token=token, secret=secret, **get_feed(context, tenant, new.name).model_dump())


def _check(
    context: Context, tenant: TenantAccess, kind: str, source: FeedSource, mapping: FeedMapping | None,
    defaults: FeedDefaults,
) -> None:  # fmt: skip
    """ServiceProblem `invalid-request` for settings that cannot work."""
    try:
        if mapping is not None:
            make_mapping(mapping)
    except MappingError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
    missing = {
        "mail": not source.addresses,
        "mailbox": not (source.path or (source.host and source.user)),
        "log": not source.path,
        "queue": not (source.host and source.queue),
    }.get(kind, False)
    if missing:
        needed = {
            "mail": "addresses",
            "mailbox": "a path, or host and user",
            "log": "a path",
            "queue": "host and queue",
        }
        raise ServiceProblem("invalid-request", f"A feed of kind {kind} needs {needed[kind]}")
    if defaults.tray:
        find_tray(context, tenant, defaults.tray)
        if kind not in ("mail", "mailbox"):
            raise ServiceProblem("invalid-request", f"A feed of kind {kind} brings no messages for a tray")
    if kind in ("mailbox", "log", "reports") and source.path and not context.settings.may_read(source.path):
        remedy = "The directory must be listed in feed_folders of the service settings"
        raise ServiceProblem("invalid-request", f"{source.path[:200]} may not be read", remedy=remedy)
    if kind in ("mailbox", "queue", "reports") and source.host and not _may_reach(context, source):
        where = f"{source.host}:{source.port}" if source.port else source.host
        remedy = "The host must be listed in feed_hosts of the service settings"
        raise ServiceProblem("invalid-request", f"{where[:200]} may not be contacted", remedy=remedy)


def _require_own(connection: Connection, tenant: TenantAccess, kind: str, source: FeedSource, now: datetime) -> None:
    """ServiceProblem where something that a feed reads is another tenant's, or nobody's yet (`accounts.ownership`)."""
    for what, value in used_by(kind, source):
        ownership.require_own(connection, tenant.id, what, value, now, f"feed of {tenant.slug}")


def used_by(kind: str, source: FeedSource) -> list[tuple[str, str]]:
    """Return what a feed reads: (kind of assignment, value)."""
    if kind in ("mail", "reports") and source.addresses:
        return [(ownership.MAIL, address) for address in source.addresses]
    if kind in ("mailbox", "log", "reports") and source.path:
        return [(ownership.FOLDER, source.path)]
    if kind in ("mailbox", "queue", "reports") and source.host:
        return [(ownership.HOST, f"{source.host}:{source.port}" if source.port else source.host)]
    return []


def _may_reach(context: Context, source: FeedSource) -> bool:
    """Mailboxes and queues are inside as a rule, so each has to be named: a tenant must not look around with them."""
    names = {source.host.lower(), f"{source.host.lower()}:{source.port}"}
    return bool(names & set(context.settings.feed_hosts))


def list_feeds(context: Context, tenant: TenantAccess) -> list[Feed]:
    return context.unit(tenant.id, lambda unit: feeds_of(unit, tenant))


def feeds_of(unit: UnitOfWork, tenant: TenantAccess) -> list[Feed]:
    """The same, inside a transaction."""
    return _shown(unit, tenant, store_feeds.list_feeds(unit.connection, tenant.id))


def get_feed(context: Context, tenant: TenantAccess, name: str) -> Feed:
    row = find_feed(context, tenant, name)
    return context.unit(tenant.id, lambda unit: _shown(unit, tenant, [row]))[0]


def find_feed(context: Context, tenant: TenantAccess, name: str) -> FeedRow:
    rows = context.store.transaction(lambda c: store_feeds.list_feeds(c, tenant.id))
    found = next((row for row in rows if row.name == name), None)
    if found is None:
        raise unknown_name(tenant.name, "feed", name, [row.name for row in rows], remedy="Add the feed first")
    return found


def update_feed(context: Context, tenant: TenantAccess, name: str, change: FeedChange) -> Feed:
    """New settings; what is left out stays."""
    row = find_feed(context, tenant, name)
    source = change.source or FeedSource.model_validate(row.source)
    given = change.model_dump(exclude_unset=True)
    values: dict[str, Any] = {key: given[key] for key in ("source", "defaults", "paused") if given.get(key) is not None}
    if "mapping" in given:
        values["mapping"] = given["mapping"]
    if change.source is not None or change.mapping is not None or change.defaults is not None:
        defaults = change.defaults or FeedDefaults.model_validate(row.defaults)
        _check(context, tenant, row.kind, source, change.mapping, defaults)
    if change.password is not None:
        values["password"] = encrypt(context.settings, change.password) if change.password else ""
    if values:

        def write(connection: Connection) -> None:
            if change.source is not None:
                _require_own(connection, tenant, row.kind, source, context.clock())
            store_feeds.update_feed(connection, row.id, **{**values, "error": ""})

        context.store.transaction(write)
    return get_feed(context, tenant, name)


def delete_feed(context: Context, tenant: TenantAccess, name: str) -> None:
    """Remove a feed. Its events stay."""
    row = find_feed(context, tenant, name)
    context.store.transaction(lambda c: store_feeds.delete_feed(c, row.id))


def _shown(unit: UnitOfWork, tenant: TenantAccess, rows: Sequence[FeedRow]) -> list[Feed]:
    connection, now = unit.connection, unit.now
    today = now.replace(hour=0, minute=0, second=0, microsecond=0)
    rejected = store_feeds.count_rejected_rows(connection, [row.id for row in rows])
    stored = store_feeds.stored_since(connection, tenant.id, today)
    out = []
    for row in rows:
        loads = store_feeds.recent_loads(connection, tenant.id, row.id)
        if row.kind == "reports":
            out.append(_of_reports(connection, row, today, now))
            continue
        lags = [(load.arrived_at - load.newest).total_seconds() for load in loads if load.newest]
        last = loads[0] if loads else None
        out.append(
            Feed(
                name=row.name, kind=row.kind, source=FeedSource.model_validate(row.source),
                mapping=FeedMapping.model_validate(row.mapping) if row.mapping else None,
                defaults=FeedDefaults.model_validate(row.defaults), paused=row.paused, key=row.feed_key,
                position=_position(row.position), created_at=row.created_at,
                last_arrival_at=last.arrived_at if last else None, last_event_at=last.newest if last else None,
                usual_lag=median(lags) if lags else None, lag=lags[0] if lags else None,
                stored_today=stored.get(row.id, 0), rejected=rejected.get(row.id, 0), error=row.error,
                summary=_said(row, last, lags, now),
            )
        )  # fmt: skip
    return out


def _of_reports(connection: Connection, row: FeedRow, today: datetime, now: datetime) -> Feed:
    """Return a feed that brings reports of receivers, which are no events."""
    newest, stored, rejected = receiver_reports.of_feed(connection, row.id, today.replace(tzinfo=None))
    summary = "paused" if row.paused else row.error
    if not summary and newest is None:
        summary = "no reports yet"
    if not summary and newest is not None:
        summary = f"last report {_time((now.replace(tzinfo=None) - newest).total_seconds())} ago"
    return Feed(
        name=row.name, kind=row.kind, source=FeedSource.model_validate(row.source), mapping=None,
        defaults=FeedDefaults.model_validate(row.defaults), paused=row.paused, key=row.feed_key,
        position=_position(row.position), created_at=row.created_at, last_arrival_at=newest, stored_today=stored,
        rejected=rejected, error=row.error, summary=summary,
    )  # fmt: skip


def _position(position: Mapping[str, Any]) -> str:
    if "offset" in position:
        return f"octet {position['offset']:,}"
    if "uid" in position:
        return f"message {position['uid']}"
    return ""


def _said(row: FeedRow, last: LoadRow | None, lags: list[float], now: datetime) -> str:
    if row.paused:
        return "paused"
    if row.error:
        return str(row.error)
    if last is None:
        return "no events yet"
    age = (now - last.arrived_at.replace(tzinfo=UTC)).total_seconds()
    return f"last event {_time(age)} ago, usually {_time(median(lags))} late" if lags else f"last {_time(age)} ago"


def _time(seconds: float) -> str:
    if seconds < 90:
        return f"{max(0, round(seconds))} s"
    if seconds < 5400:
        return f"{round(seconds / 60)} min"
    return f"{round(seconds / 3600)} h" if seconds < 172_800 else f"{round(seconds / 86400)} days"


def forget_old(context: Context) -> None:
    """Do what is due for feeds: the worker calls this from time to time."""
    before = context.clock() - _KEEP_LOADS
    context.store.transaction(lambda c: store_feeds.drop_old(c, before))
