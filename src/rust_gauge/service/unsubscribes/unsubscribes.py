"""One-click unsubscribe: links for messages, what comes back through them, and how long it took."""

import contextlib
from collections import Counter
from datetime import UTC, date, datetime, timedelta
from statistics import median
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.checks import MailLinks, MailLinksRequest, UnsubscribeLine, Unsubscribes
from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.mailflow import Kind, make_event
from rust_gauge.core.mime import MAX_HEADER, parse_fields, words
from rust_gauge.core.names import address_key, normalise_domain, parse_address
from rust_gauge.core.suppression import Reason, State
from rust_gauge.core.suppression.unsubscribe import (
    POST_FIELD,
    Link,
    LinkError,
    list_unsubscribe,
    seal,
    token_in_subject,
    unseal,
)
from rust_gauge.service.clearance.answers import Question
from rust_gauge.service.clearance.clearance import Desk
from rust_gauge.service.intake.intake import store_all
from rust_gauge.service.providers.lookup import ProviderLookup, with_lookups
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.periods import midnight, period_of
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import service_key, service_keys
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store import holding as store_holding
from rust_gauge.store import suppression_list
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.suppression_list import Filter

log = structlog.get_logger()
ALLOWED = timedelta(days=2)  # large mailbox providers require an unsubscription to take effect within two days
_SHOWN = 200  # the newest are listed with whether they were mailed again; the counts cover all
_WAYS = ("post", "page", "mailto", "event")


def links(context: Context, tenant: TenantAccess, request: MailLinksRequest) -> list[MailLinks]:
    """Values of List-Unsubscribe and List-Unsubscribe-Post, one pair for each recipient."""
    base = context.settings.base_url
    secret = service_key(context.settings)
    try:
        domain = normalise_domain(request.domain)
    except DomainNameError as error:
        raise ServiceProblem("not-a-domain", str(error), remedy=error.remedy) from None
    out = []
    for number, text in enumerate(request.recipients):
        try:
            recipient = str(parse_address(text))
        except AddressError as error:
            raise ServiceProblem("not-an-address", f"recipients.{number}: {error}", remedy=error.remedy) from None
        token = seal(secret, Link(tenant.id, request.stream, domain, recipient))
        value = list_unsubscribe(base, context.settings.unsubscribe_mailbox, token)
        out.append(MailLinks(recipient=recipient, list_unsubscribe=value, list_unsubscribe_post=POST_FIELD))
    return out


def open_link(context: Context, token: str) -> Link | None:
    """Return what a link is about; None for one that is not ours."""
    for key in service_keys(context.settings):  # links of mail that was sent before the key changed work on
        with contextlib.suppress(LinkError):
            return unseal(key, token)
    return None


def unsubscribe(context: Context, token: str, way: str) -> Link | None:
    """Do what a link says; it has taken effect when this returns. None for one that is not ours. Repeating does no
    harm.
    """
    link = open_link(context, token)
    if link is None:
        return None
    now = context.clock()
    if _stands(context, link):
        return link
    event = make_event(
        now=now, kind=Kind.UNSUBSCRIBED, time=now, domain=link.domain, recipient=link.recipient, stream=link.stream,
        id=f"{way}:{token[-40:]}", diagnostic="",
    )  # fmt: skip
    store_all(context, link.tenant_id, [event], now, origin=way)
    return link


def _stands(context: Context, link: Link) -> bool:
    """Return whether it is in force already: told again, it is no second unsubscription."""
    question = Question(stream=link.stream or None, domain=link.domain)

    def read(unit: UnitOfWork, lookup: ProviderLookup) -> bool:
        (answer,) = Desk(unit, lookup, question).answer([link.recipient])
        return answer.verdict == "held" and answer.reason == Reason.UNSUBSCRIBED

    return with_lookups(context, lambda lookup: context.unit(link.tenant_id, lambda unit: read(unit, lookup)))


def take_mailto(context: Context, raw: bytes) -> bool:
    """A message to the unsubscribe mailbox: its subject holds the link. What has none is taken and forgotten."""
    head = raw.partition(b"\r\n\r\n")[0] if b"\r\n\r\n" in raw else raw.partition(b"\n\n")[0]
    token = token_in_subject(words(next(iter(parse_fields(head[:MAX_HEADER]).get("subject", [])), "")))
    done = unsubscribe(context, token, "mailto") if token else None
    log.info("unsubscribe_mail", done=done is not None)
    return done is not None


def overview(context: Context, tenant: TenantAccess, days: int, last: date | None = None) -> Unsubscribes:
    """Return how unsubscribe requests of a period of days were handled."""
    first, end = period_of(context, days, last)

    def write(connection: Connection) -> list[tuple[Any, datetime | None]]:
        filter = Filter(
            reasons=(Reason.UNSUBSCRIBED,), states=tuple(State), made_since=midnight(first),
            made_before=midnight(end + timedelta(days=1)),
        )  # fmt: skip
        rows = suppression_list.list_entries(connection, tenant.id, filter, None, 5000)
        out: list[tuple[Any, datetime | None]] = []
        for number, row in enumerate(rows):
            mailed = None
            if number < _SHOWN and row.address:
                key = address_key(parse_address(row.address))
                after = row.since.replace(tzinfo=UTC) + ALLOWED
                mailed = store_holding.mailed_after(connection, tenant.id, key, row.scope_id, after)
            out.append((row, mailed))
        return out

    rows = context.store.transaction(write)
    ways = Counter(row.origin if row.origin in _WAYS else "event" for row, _ in rows)
    # What a feed tells of was done elsewhere: its age says how late the feed is, not how long it took.
    own = [(row.made_at - row.since).total_seconds() for row, _ in rows if row.origin in ("post", "page", "mailto")]
    lines = [
        UnsubscribeLine(
            address=row.address, stream=row.stream or "", way=row.origin if row.origin in _WAYS else "event",
            asked_at=row.since, in_force_at=row.made_at,
            seconds=max(0.0, (row.made_at - row.since).total_seconds()), mailed_after=mailed,
        )
        for row, mailed in rows[:_SHOWN]
    ]  # fmt: skip
    return Unsubscribes(
        days=days, asked=len(rows), by_method=dict(ways), slowest_seconds=max(own, default=None),
        median_seconds=median(own) if own else None, late=sum(seconds > ALLOWED.total_seconds() for seconds in own),
        mailed_after=sum(mailed is not None for _, mailed in rows), lines=lines,
    )  # fmt: skip
