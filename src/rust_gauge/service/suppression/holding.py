"""What events make of the suppression list, in the transaction that stores them.

So an entry is in force for the next question after the event was acknowledged, and a load that is taken back takes its
entries along.
"""

from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any

import orjson

from rust_gauge.core.mailflow import Event, Kind
from rust_gauge.core.names import Address, address_key, parse_address
from rust_gauge.core.suppression import (
    FROM_BOUNCES,
    Asked,
    Change,
    Matching,
    Policy,
    Reason,
    Scope,
    Seen,
    State,
    Status,
    ask,
    asked_by,
    end,
    standing_wishes,
)
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression.policy import matchings_of, policy_of
from rust_gauge.service.webhooks import webhooks
from rust_gauge.store import holding as store_holding
from rust_gauge.store import suppression as store
from rust_gauge.store import suppression_state
from rust_gauge.store.holding import Recipient
from rust_gauge.store.suppression import Ask, Done, Target, Where

_TOLD_AT_ONCE = 200  # changes in one call of a webhook
_NOTE = 200  # characters of a reply that go to the note of an entry


@dataclass(frozen=True, slots=True)
class Place:
    """What decisions about one tenant's recipients need."""

    unit: UnitOfWork
    policy: Policy
    matching: Matching
    domains: dict[str, int]
    streams: dict[str, int]

    def scope_id(self, scope: Scope, name: str) -> int:
        if scope is Scope.TENANT:
            return 0
        return (self.streams if scope is Scope.STREAM else self.domains)[name]


def place_of(unit: UnitOfWork) -> Place:
    """Takes the list's lock, so that policy and matching stay as they are until the transaction ends."""
    suppression_state.lock(unit.connection, unit.tenant_id)
    domains, streams = store_holding.ids_of(unit.connection, unit.tenant_id)
    return Place(unit, policy_of(unit), matchings_of(unit)[0], domains, streams)


def follow(
    unit: UnitOfWork, told: Sequence[tuple[Event, tuple[int, str]]], delivered: set[bytes],
    delivered_domains: dict[str, str], by: str, origin: str = "event",
) -> list[Done]:  # fmt: skip
    """Hold and let go what these new events ask for.

    `told`: delays, bounces, complaints, unsubscriptions, each with its (provider id, provider). `delivered`: keys of
    recipients with mail delivered that had trouble before; `delivered_domains`: all recipient domains of deliveries,
    and when mail was last delivered there (as the store writes times).
    """
    if not told and not delivered and not delivered_domains:
        return []
    if not told and not delivered and not _any_domain_held(unit, set(delivered_domains)):
        return []
    place = place_of(unit)
    asks: list[Ask] = []
    undecided: set[bytes] = set()
    for event, (provider_id, provider) in told:
        seen = _seen(event, provider)
        rule = place.policy.rule_for(event.kind, event.cause, event.permanence, event.stream, provider)
        if rule is None:
            continue
        if not rule.at_once:
            undecided.add(address_key(event.recipient))
            continue
        asked = asked_by(seen, rule, (seen,))
        if asked is not None:
            asks.append(_ask_of(place, asked, event.recipient, provider_id, origin))
    if undecided or delivered:
        asks += _from_histories(place, sorted(undecided), sorted(delivered))
    done = store.change(unit.connection, unit.tenant_id, asks, by, unit.now)
    # Looked at when the bounces of the same load stand: only a delivery after the last of them ends it.
    revived = _revived_domains(place, delivered_domains)
    done += store.change(unit.connection, unit.tenant_id, revived, by, unit.now)
    tell(unit, done)
    return done


def _seen(event: Event, provider: str) -> Seen:
    return Seen(
        event.occurred_at, event.kind, event.cause, event.permanence, event.domain, event.stream, event.message_id,
        event.diagnostic[:500], provider,
    )  # fmt: skip


def _any_domain_held(unit: UnitOfWork, domains: set[str]) -> bool:
    keys = sorted(Matching().domain_key(domain) for domain in domains)
    return any(rows for rows in store.standing(unit.connection, unit.tenant_id, store.in_pieces(keys)))


def _from_histories(place: Place, undecided: Sequence[bytes], delivered: Sequence[bytes]) -> list[Ask]:
    """Decide what depends on more than one event: repeated bounces, and what a delivery ends."""
    keys = sorted({*undecided, *delivered})
    since = place.unit.now - place.policy.looks_back - timedelta(days=30)
    found = store_holding.histories(place.unit.connection, place.unit.tenant_id, keys, since)
    asks: list[Ask] = []
    slow = {rule.name for rule in place.policy.rules if not rule.at_once}
    recipients: dict[bytes, tuple[Address, Recipient, list[Asked]]] = {}
    for key, recipient in found.items():
        address = parse_address(recipient.address)
        wishes = standing_wishes(recipient.events, place.policy)
        recipients[key] = (address, recipient, wishes)
        if key in undecided:
            asks += [
                _ask_of(place, asked, address, recipient.provider_id, "event") for asked in wishes if asked.rule in slow
            ]
    asks += _ended_by_delivery(place, list(recipients.values()))
    return asks


def _ended_by_delivery(place: Place, recipients: list[tuple[Address, Recipient, list[Asked]]]) -> list[Ask]:
    by_key = {place.matching.key(address, _provider(recipient)): (recipient, wishes)
              for address, recipient, wishes in recipients}  # fmt: skip
    asks = []
    rows = store.rows_of(place.unit.connection, place.unit.tenant_id, by_key)
    for where, row in rows.items():
        if where.reason not in place.policy.ended_by_delivery or row.state == State.ENDED.number:
            continue
        recipient, wishes = by_key[where.key]
        newest = max((seen.at for seen in recipient.events if seen.kind is Kind.DELIVERED), default=None)
        if newest is None or any(asked.reason is where.reason for asked in wishes):
            continue
        decide = partial(_let_go, at=newest, now=place.unit.now, by_events=row.origin == "event")
        asks.append(Ask(where, Target(row.address), decide, newest, note="mail was delivered", origin=row.origin))
    return asks


def _let_go(status: Status | None, at: datetime, now: datetime, by_events: bool) -> Status | None:
    # What was made otherwise than by events knows nothing of deliveries before it.
    if status is None or (not by_events and at <= status.since):
        return status
    return end(status, Change.DELIVERED, at, now)


def _revived_domains(place: Place, domains: dict[str, str]) -> list[Ask]:
    """A domain that took mail after the last bounce that called it gone is not gone."""
    if not domains or Reason.DOMAIN_INVALID not in place.policy.ended_by_delivery:
        return []
    keys = {place.matching.domain_key(domain): datetime.fromisoformat(at) for domain, at in domains.items()}
    asks = []
    for where, row in store.rows_of(place.unit.connection, place.unit.tenant_id, keys).items():
        if where.reason is not Reason.DOMAIN_INVALID or row.state != State.HELD.number:
            continue
        at = keys[where.key].replace(tzinfo=UTC)
        bounced = [datetime.fromisoformat(load["time"]) for load in orjson.loads(row.evidence)]
        if at > max(bounced, default=row.since.replace(tzinfo=UTC)):
            decide = partial(_let_go, at=at, now=place.unit.now, by_events=True)
            asks.append(Ask(where, Target(row.address), decide, at, note="mail to this domain was delivered"))
    return asks


def _ask_of(place: Place, asked: Asked, recipient: Address, provider_id: int, origin: str) -> Ask:
    if asked.whole_domain:
        key = place.matching.domain_key(recipient.domain)
        target = Target(f"@{recipient.domain}", recipient.domain, provider_id)
    else:
        provider = asked.evidence[-1].provider if asked.evidence else ""
        key = place.matching.key(recipient, provider)
        target = target_of(place.matching, recipient, provider_id)
    last = asked.evidence[-1]
    hidden = bool(place.matching.secret) and not asked.whole_domain
    return Ask(
        Where(key, asked.reason, asked.scope, place.scope_id(asked.scope, asked.scope_name)), target,
        partial(ask, wish=asked.wish, now=place.unit.now), asked.wish.at,
        [evidence_of(seen, hidden=hidden) for seen in asked.evidence], "" if hidden else last.diagnostic[:_NOTE],
        origin, place.streams.get(last.stream, 0),
    )  # fmt: skip


def target_of(matching: Matching, address: Address, provider_id: int) -> Target:
    """Return what is stored of an address."""
    if matching.secret:
        return Target("", "", provider_id)
    return Target(str(address), address.domain, provider_id)


def evidence_of(seen: Seen, *, hidden: bool = False) -> dict[str, Any]:
    """An event as an entry keeps it; `hidden`: without what may name the recipient."""
    return {
        "kind": str(seen.kind), "time": seen.at.isoformat(), "cause": str(seen.cause), "domain": seen.domain,
        "stream": seen.stream, "message_id": "" if hidden else seen.message_id,
        "diagnostic": "" if hidden else seen.diagnostic,
    }  # fmt: skip


def _provider(recipient: Recipient) -> str:
    return recipient.events[0].provider if recipient.events else ""


def settle(unit: UnitOfWork, keys: Sequence[bytes], kept_since: datetime) -> tuple[int, int]:
    """Events of these recipients were read again: make the entries that they ask for, withdraw those that none does.

    Entries whose events may have been dropped since stay. Returns how many were made and withdrawn.
    """
    if not keys:
        return 0, 0
    place, connection, tenant_id, now = place_of(unit), unit.connection, unit.tenant_id, unit.now
    since = kept_since
    found = store_holding.histories(connection, tenant_id, keys, since)
    asks: list[Ask] = []
    wanted: dict[bytes, set[Reason]] = defaultdict(set)
    for recipient in found.values():
        address = parse_address(recipient.address)
        own = place.matching.key(address, _provider(recipient))
        wishes = standing_wishes(recipient.events, place.policy)
        wanted[own] |= {asked.reason for asked in wishes}
        asks += [_ask_of(place, asked, address, recipient.provider_id, "event") for asked in wishes]
    rows = store.rows_of(connection, tenant_id, wanted)
    speaking = _speaking(place, found)
    # What stands already was asked for by these very events: it is not asked for once more.
    standing = {where for where, row in rows.items() if row.state != State.ENDED.number}
    asks = [ask for ask in asks if ask.where not in standing]
    for where, row in rows.items():
        unfounded = where.reason in FROM_BOUNCES and where.reason not in wanted[where.key]
        if unfounded and where in standing and row.origin == "event" and store.aware(row.since) >= since:  # type: ignore[operator]
            decide = partial(_withdraw, now=now)
            note = "its events have been re-classified"
            asks.append(Ask(where, Target(row.address), decide, now, note=note, origin="event"))
        elif where in standing and row.origin == "event" and (times := speaking.get((where.key, where.reason), 0)):
            asks.append(Ask(where, Target(row.address), partial(_counted, times=times), now, origin="event"))
    done = store.change(connection, tenant_id, asks, "rules", now)
    tell(unit, done)
    made = sum(outcome.status.state is State.HELD for outcome in done)
    return made, sum(outcome.status.change is Change.WITHDRAWN for outcome in done)


def _speaking(place: Place, found: dict[bytes, Recipient]) -> Counter[tuple[bytes, Reason]]:
    """Return how many events ask at once for an entry, by its key and reason."""
    out: Counter[tuple[bytes, Reason]] = Counter()
    for recipient in found.values():
        key = place.matching.key(parse_address(recipient.address), _provider(recipient))
        for seen in recipient.events:
            rule = place.policy.rule_for(seen.kind, seen.cause, seen.permanence, seen.stream, seen.provider)
            if rule is not None and rule.at_once and not rule.whole_domain:
                out[key, rule.reason] += 1
    return out


def _counted(status: Status | None, times: int) -> Status | None:
    return None if status is None else replace(status, times=times)


def _withdraw(status: Status | None, now: datetime) -> Status | None:
    # Nothing was wrong with the address ever since, so events of that time may speak against it again.
    return None if status is None else end(status, Change.WITHDRAWN, status.since - timedelta(microseconds=1), now)


# Telling


def change_document(
    number: int, address: str, where: Where, status: Status, scope_name: str, at: datetime, by: str, note: str
) -> dict[str, Any]:
    """A change as webhooks and the feed of changes tell it."""
    return {
        "number": number, "address": address, "address_key": where.key.hex(), "reason": str(where.reason),
        "scope": str(where.scope), "scope_name": scope_name, "state": str(status.state), "change": str(status.change),
        "at": at.isoformat().replace("+00:00", "Z"), "by": by, "note": note,
        "until": status.until.isoformat().replace("+00:00", "Z") if status.until else None,
    }  # fmt: skip


def tell(unit: UnitOfWork, done: Iterable[Done], by: str = "") -> None:
    """Enqueue webhook calls for changes; many in one call."""
    connection, tenant_id, now = unit.connection, unit.tenant_id, unit.now
    heard = list(done)
    if not heard or not webhooks.is_wanted(connection, tenant_id, "suppression.changed"):
        return
    domains, streams = store_holding.ids_of(connection, tenant_id)
    names = {Scope.DOMAIN: {id: name for name, id in domains.items()},
             Scope.STREAM: {id: name for name, id in streams.items()}}  # fmt: skip
    for start in range(0, len(heard), _TOLD_AT_ONCE):
        changes = [
            change_document(
                outcome.number,
                outcome.address,
                outcome.ask.where,
                outcome.status,
                names.get(outcome.ask.where.scope, {}).get(outcome.ask.where.scope_id, ""),
                now,
                by or outcome.ask.origin,
                outcome.ask.note,
            )
            for outcome in heard[start : start + _TOLD_AT_ONCE]
        ]
        webhooks.tell(connection, tenant_id, "suppression.changed", {"changes": changes}, now)
