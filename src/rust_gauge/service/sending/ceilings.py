"""What a relay's limits let through now, for whoever asks before sending."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection

from rust_gauge.contract.relays import RelayLimit
from rust_gauge.core.sending.limits import Period
from rust_gauge.service.domains.relays import described
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.sending.limits import count, uses_of
from rust_gauge.store import leases
from rust_gauge.store import sending_limits as store

_OF = {Period.HOUR: "an hour", Period.DAY: "a day"}


@dataclass(frozen=True, slots=True)
class Ceiling:
    """How many messages may still go by a relay, and when to ask again for those that may not."""

    relay_id: int
    remaining: int
    not_before: datetime
    why: str


def ceiling_for(
    connection: Connection, tenant_id: int, relay: str, stream: str | None, now: datetime, *, lock: bool = False
) -> Ceiling | None:
    """Return the narrowest limit that holds this mail back; None where no limit does. `lock`: nobody else counts
    against it before the transaction ends."""
    limits = [
        limit for limit in described(connection, tenant_id, relay).limits
        if limit.hold_back and (not limit.streams or stream in limit.streams)
    ]  # fmt: skip
    relay_id = store.relay_ids(connection, tenant_id).get(relay) if limits else None
    if relay_id is None:
        return None
    if lock:
        leases.lock(connection, f"ceiling {tenant_id} {relay_id}")
    counted = count(connection, tenant_id, relay_id, limits, now)
    found = []
    for limit in limits:
        for per, use in uses_of(limit, counted, now):
            again = now + per.length if use.remaining else use.free_at
            found.append(Ceiling(relay_id, use.remaining, again, _why(relay, limit, per)))
    return min(found, key=lambda ceiling: (ceiling.remaining, -ceiling.not_before.timestamp()), default=None)


def count_cleared(unit: UnitOfWork, ceiling: Ceiling, stream: str | None, n: int) -> None:
    """Count messages that were let go against the limits of a relay."""
    if not n:
        return
    hour = unit.now.replace(minute=0, second=0, microsecond=0)
    store.count_cleared(unit.connection, unit.tenant_id, ceiling.relay_id, hour, stream or "", n)


def _why(relay: str, limit: RelayLimit, per: Period) -> str:
    where = f", region {limit.region}" if limit.region else ""
    most = limit.per_hour if per is Period.HOUR else limit.per_day
    return f"{relay}{where} takes {most:,} messages {_OF[per]}, and so many went out or were cleared"
