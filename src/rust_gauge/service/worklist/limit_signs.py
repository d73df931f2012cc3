"""Sending limits that are used up or nearly so, and senders that a relay says are not proven."""

from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.relays import RelayDescription, RelayLimit
from rust_gauge.core.replies.limits import unproven
from rust_gauge.core.sending.limits import Period, Use
from rust_gauge.core.worklist import Incident, Level
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.sending.limits import count, remedy_for, uses_of
from rust_gauge.service.worklist.place import Place
from rust_gauge.store import relays, sending_limits

_NEAR = 0.8  # of a limit
_SOON = timedelta(hours=3)
_UNPROVEN_FOR = timedelta(days=2)  # how long a reply is news


def limit_problems(unit: UnitOfWork, place: Place) -> list[Incident]:
    """What is wrong with the limits of a tenant's relays now."""
    connection = unit.connection
    ids = sending_limits.relay_ids(connection, place.tenant.id)
    out = []
    for name, said in relays.list_relays(connection, place.tenant.id):
        limits = RelayDescription.model_validate(said or {}).limits
        if limits and name in ids:
            counted = count(connection, place.tenant.id, ids[name], limits, unit.now)
            for limit in limits:
                found = [_limit(name, limit, per, use, unit.now) for per, use in uses_of(limit, counted, unit.now)]
                out += [incident for incident in found if incident is not None]
        if name in ids:
            out += _unproven(connection, place, name, ids[name], unit.now)
    return out


def _limit(relay: str, limit: RelayLimit, per: Period, use: Use, now: datetime) -> Incident | None:
    full = use.remaining == 0 and use.used > 0
    soon = use.reached_at is not None and use.reached_at <= now + _SOON
    if not full and not (use.used >= _NEAR * use.limit and use.used > 0) and not (soon and use.used > use.limit / 2):
        return None
    where = f"{relay}, region {limit.region}" if limit.region else relay
    left = f"{use.remaining:,} messages remain."
    when = f" At the present pace it is reached at {use.reached_at:%H:%M} UTC." if use.reached_at and not full else ""
    again = f" There is room again from {use.free_at:%Y-%m-%d %H:%M} UTC on." if full else ""
    return Incident(
        f"limit:{relay}:{limit.region}:{per.value}", "limit", "relay", relay,
        f"{where} has used up its limit of {use.limit:,} {per.with_article}" if full
        else f"{where} is near its limit of {use.limit:,} {per.with_article}",
        f"{use.used:,} messages in the last {'hour' if per is Period.HOUR else '24 hours'}; {left}{when}{again}",
        Level.FIX if full else Level.INVESTIGATE, now, use.used,
        "Send less, or over another relay, until then; ask the relay's operator for more. Where the limit "
        "is set to hold mail back, clearance does so by itself.", recheck="readings", topic="limit",
    )  # fmt: skip


def _unproven(connection: Connection, place: Place, relay: str, relay_id: int, now: datetime) -> list[Incident]:
    out: dict[str, Incident] = {}
    for row in sending_limits.sender_replies(connection, place.tenant.id, relay_id, (now - _UNPROVEN_FOR).date()):
        found = unproven(row.example)
        if found is None:
            continue
        what = found.address or found.domain or "a sender"
        key = f"unproven:{relay}:{what}:{found.region}"
        where = f" in its region {found.region}" if found.region else ""
        out.setdefault(
            key,
            Incident(
                key, "unproven", "relay", relay, f"{relay} says that {what} is not proven{where}",
                f"{row.n:,} replies since {(now - _UNPROVEN_FOR):%Y-%m-%d}; such mail is refused.", Level.FIX,
                datetime.combine(row.last_day, datetime.min.time(), UTC), row.n, remedy_for(found),
                evidence=(row.example[:500],), recheck="readings", topic="unproven",
            ),
        )  # fmt: skip
    return list(out.values())
