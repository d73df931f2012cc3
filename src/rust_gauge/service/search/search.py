"""One search over all that has a name: what fits, and where the console shows it.

Names are found by a part of them, recipients and messages by the whole of theirs: there are too many to look through,
and their keys are indexed. Nothing is offered that is not there.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from urllib.parse import quote, urlencode

from sqlalchemy import Connection

from rust_gauge.contract.search import Found, FoundKind, SearchResult
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import address_key, parse_address
from rust_gauge.core.suppression import State
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import events as store_events
from rust_gauge.store import search as store
from rust_gauge.store import suppression as store_suppression
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.events import EventQuery

_LEAST = 2  # characters
_TENANTS = 50  # in which recipients and messages are looked up: each costs a look at an index


@dataclass(frozen=True, slots=True)
class _Wanted:
    """What is searched, and where. `each`: how many of a kind are listed."""

    text: str
    tenants: dict[int, TenantAccess]
    each: int


def search(context: Context, tenants: tuple[TenantAccess, ...], text: str, each: int) -> SearchResult:
    """Return what fits a text, the best of each kind. Nothing for less than two characters."""
    wanted = _Wanted(text.strip().strip("<>"), {tenant.id: tenant for tenant in tenants}, each)
    if len(wanted.text) < _LEAST or not tenants:
        return SearchResult(items=[], more=[])

    def read(connection: Connection) -> SearchResult:
        items: list[Found] = []
        more: list[FoundKind] = []
        for found in _kinds(connection, wanted):
            items += found[:each]
            if len(found) > each:
                more.append(found[0].kind)
        return SearchResult(items=items, more=more)

    return context.store.read(read)


def _kinds(connection: Connection, wanted: _Wanted) -> Iterator[list[Found]]:
    """Yield what fits, a kind after the other; of each one more than is listed, if there is."""
    if "@" in wanted.text:
        yield from _mail(connection, wanted)
    yield _tenants(wanted)
    for kind, table in store.NAMED.items():
        rows = store.names_with(connection, list(wanted.tenants), table, wanted.text, wanted.each + 1)
        yield [_named(wanted, kind, row.tenant_id, row.name) for row in rows]  # type: ignore[arg-type]
    providers = store.providers_with(connection, list(wanted.tenants), wanted.text, wanted.each + 1)
    yield [
        _found(wanted, "provider", row.tenant_id, row.label or row.name, row.name, "/flow", view="trails",
               provider=row.name)
        for row in providers
    ]  # fmt: skip
    yield [
        _found(wanted, "item", row.tenant_id, row.title, f"{row.level}, {row.state}",
               f"/worklist/{wanted.tenants[row.tenant_id].slug}/{row.id}")
        for row in store.items_with(connection, list(wanted.tenants), wanted.text, wanted.each + 1)
    ]  # fmt: skip
    yield _replies(connection, wanted)


def _found(wanted: _Wanted, kind: FoundKind, tenant_id: int, name: str, text: str, path: str, **query: str) -> Found:
    tenant = wanted.tenants[tenant_id]
    if query:
        path += "?" + urlencode({"tenant": tenant.slug, **query})
    return Found(kind=kind, tenant=tenant.slug, tenant_name=tenant.name, name=name, text=text, path=path)


def _named(wanted: _Wanted, kind: FoundKind, tenant_id: int, name: str) -> Found:
    slug = wanted.tenants[tenant_id].slug
    subject = {"sending_ip": "ip"}.get(kind, kind)
    path = f"/domains/{slug}/{name}" if kind == "domain" else f"/readings/{slug}/{subject}/{quote(name, safe='')}"
    return _found(wanted, kind, tenant_id, name, "", path)


def _tenants(wanted: _Wanted) -> list[Found]:
    text = wanted.text.lower()
    fits = [each for each in wanted.tenants.values() if text in each.name.lower() or text in each.slug]
    fits.sort(key=lambda each: (not each.name.lower().startswith(text), each.name))
    return [_found(wanted, "tenant", each.id, each.name, each.slug, f"/?tenant={each.slug}") for each in fits]


def _mail(connection: Connection, wanted: _Wanted) -> Iterator[list[Found]]:
    """Yield a recipient, an entry of a suppression list, a message: those that are there."""
    try:
        address = parse_address(wanted.text)
    except AddressError:
        address = None
    tenants = list(wanted.tenants)[:_TENANTS]
    recipients, held, messages = [], [], []
    for id in tenants:
        if address is not None:
            newest = store_events.find_events(connection, EventQuery(id, recipient=address, limit=1))
            for row in newest:
                text = f"newest event {row.occurred_at:%Y-%m-%d %H:%M} UTC"
                recipients.append(
                    _found(wanted, "recipient", id, wanted.text, text, "/flow", view="trails", find=wanted.text)
                )
            entries = store_suppression.rows_of(connection, id, [address_key(address)]).values()
            since = [entry.since for entry in entries if entry.state == State.HELD.number]
            if since:
                text = f"held since {min(since):%Y-%m-%d}"
                held.append(_found(wanted, "suppressed", id, wanted.text, text, "/suppression", address=wanted.text))
        for row in store_events.find_events(connection, EventQuery(id, message_id=wanted.text, limit=1)):
            text = f"to {row.recipient}, newest event {row.occurred_at:%Y-%m-%d %H:%M} UTC"
            find = f"<{wanted.text}>"
            messages.append(_found(wanted, "message", id, wanted.text, text, "/flow", view="trails", find=find))
    yield from (recipients, held, messages)


def _replies(connection: Connection, wanted: _Wanted) -> list[Found]:
    words = store_events.search_words(wanted.text)
    if not words:
        return []
    rows = store.replies_with(connection, list(wanted.tenants)[:_TENANTS], words, wanted.each + 1)
    return [
        _found(wanted, "reply", row.tenant_id, row.example[:200], "", "/flow", view="trails", find=wanted.text)
        for row in rows
    ]
