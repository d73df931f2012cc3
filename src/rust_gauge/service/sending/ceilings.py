"""What a relay's limits let through now, for whoever asks before sending."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection

from rust_gauge.contract.relays import RelayLimit
from rust_gauge.core.sending.limits import Hours, Period, free_at, used_in
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.sending.limits import count, periods_of
from rust_gauge.store import leases
from rust_gauge.store import sending_limits as store


@dataclass(frozen=True, slots=True)
class Ceiling:
    """How many messages may still go by a relay, and why no more."""

    relay_id: int
    remaining: int
    why: str
    per: Period
    most: int
    hours: Hours
    now: datetime

    def not_before(self) -> datetime:
        """Return when to ask again for those that may not go, if all go now that may."""
        hour = self.now.replace(minute=0, second=0, microsecond=0)
        full = {**self.hours, hour: self.hours.get(hour, 0) + self.remaining}
        return free_at(full, self.now, self.per, self.most)


def ceiling_for(
    connection: Connection, tenant_id: int, relay: str, stream: str | None, now: datetime, *, lock: bool = False
) -> Ceiling | None:
    """Return the narrowest limit that holds this mail back; None where no limit does. `lock`: nobody else counts
    against it before the transaction ends."""
    found = store.described_relay(connection, tenant_id, relay)
    raw = [limit for limit in (found[1] if found else {}).get("limits", ()) if limit.get("hold_back")]
    limits = [limit for limit in map(RelayLimit.model_validate, raw) if not limit.streams or stream in limit.streams]
    if found is None or not limits:
        return None
    relay_id = found[0]
    if lock:
        leases.lock(connection, f"ceiling {tenant_id} {relay_id}")
    counted = count(connection, tenant_id, relay_id, limits, now)
    found_for = [
        _ceiling(relay, relay_id, limit, per, most, counted.of(limit), now)
        for limit in limits for per, most in periods_of(limit)
    ]  # fmt: skip
    return min(found_for, key=lambda ceiling: (ceiling.remaining, -ceiling.per.length), default=None)


def _ceiling(
    relay: str, relay_id: int, limit: RelayLimit, per: Period, most: int, hours: Hours, now: datetime
) -> Ceiling:
    remaining = max(0, most - round(used_in(hours, now, per.length)))
    return Ceiling(relay_id, remaining, _why(relay, limit, per), per, most, hours, now)


def count_cleared(unit: UnitOfWork, ceiling: Ceiling, stream: str | None, n: int) -> None:
    """Count messages that were let go against the limits of a relay."""
    if not n:
        return
    hour = unit.now.replace(minute=0, second=0, microsecond=0)
    store.count_cleared(unit.connection, unit.tenant_id, ceiling.relay_id, hour, stream or "", n)


def _why(relay: str, limit: RelayLimit, per: Period) -> str:
    where = f", region {limit.region}" if limit.region else ""
    most = limit.per_hour if per is Period.HOUR else limit.per_day
    return f"{relay}{where} takes {most:,} messages {per.with_article}, and that many went out or were cleared"
