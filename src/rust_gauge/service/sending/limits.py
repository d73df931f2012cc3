"""How far a relay's limits are used, when they were hit and by which replies, and what is not proven there."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.relays import LimitHit, LimitState, LimitUse, RelayLimit, RelayUsage, UnprovenReply
from rust_gauge.core.names import registered_domain
from rust_gauge.core.replies.limits import StatedLimit, Unproven, stated_limit, unproven
from rust_gauge.core.sending.limits import Hours, Period, Use, use_of, used_in, with_cleared
from rust_gauge.service.domains.relays import described
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import unknown_name
from rust_gauge.store import providers
from rust_gauge.store import sending_limits as store
from rust_gauge.store.accounts import TenantAccess

_COUNTED = timedelta(hours=26)  # a day, and the hour before it that lies partly inside
_PEAK = timedelta(minutes=10)  # in which the busiest second is looked for
_HOUR = timedelta(hours=1)


@dataclass(frozen=True, slots=True)
class Counted:
    """What counts against limits of a relay: by stream and hour."""

    by_stream: Mapping[int, Hours]
    streams: Mapping[str, int]

    def of(self, limit: RelayLimit) -> dict[datetime, int]:
        """Return by hour the mail that counts against a limit."""
        ids = {self.streams.get(name) for name in limit.streams}
        total: dict[datetime, int] = defaultdict(int)
        for stream_id, hours in self.by_stream.items():
            if not limit.streams or stream_id in ids:
                for hour, n in hours.items():
                    total[hour] += n
        return total


def relay_usage(context: Context, tenant: TenantAccess, relay: str, days: int) -> RelayUsage:
    """Return the use of a relay's limits now, and of so many days what hit them. ServiceProblem `not-found`."""
    now = context.clock()

    def read(connection: Connection) -> RelayUsage:
        ids = store.relay_ids(connection, tenant.id)
        if relay not in ids:
            raise unknown_name(tenant.name, "relay", relay, sorted(ids))
        described_as = described(connection, tenant.id, relay)
        counted = count(connection, tenant.id, ids[relay], described_as.limits, now)
        since = (now - timedelta(days=days)).replace(minute=0, second=0, microsecond=0)
        return RelayUsage(
            relay=relay, at=now, days=days,
            limits=[_state(connection, tenant.id, ids[relay], limit, counted, now) for limit in described_as.limits],
            hits=_hits(connection, tenant.id, ids[relay], described_as.include, since, now),
            unproven=_unproven(connection, tenant.id, ids[relay], since),
        )  # fmt: skip

    return context.store.transaction(read)


def count(
    connection: Connection, tenant_id: int, relay_id: int, limits: Sequence[RelayLimit], now: datetime
) -> Counted:
    """Return what counts against a relay's limits now: what was sent, or what clearance let go before that is known."""
    since = (now - _COUNTED).replace(minute=0, second=0, microsecond=0)
    taken = store.taken_by_hour(connection, tenant_id, relay_id, since)
    by_stream = {id: with_cleared(sent, taken.cleared[id], now) for id, sent in taken.sent.items()}
    names = {name for limit in limits for name in limit.streams}
    return Counted(by_stream, store.stream_ids(connection, tenant_id, names) if names else {})


def uses_of(limit: RelayLimit, counted: Counted, now: datetime) -> list[tuple[Period, Use]]:
    """Return the use of each limit per hour and day that a region has."""
    hours = counted.of(limit)
    pace = used_in(hours, now, _HOUR)
    return [(per, use_of(hours, now, per, most, pace)) for per, most in periods_of(limit)]


def periods_of(limit: RelayLimit) -> list[tuple[Period, int]]:
    """Return the limits per hour and day that a region has."""
    found = [(Period.HOUR, limit.per_hour), (Period.DAY, limit.per_day)]
    return [(per, most) for per, most in found if most is not None]


def _state(
    connection: Connection, tenant_id: int, relay_id: int, limit: RelayLimit, counted: Counted, now: datetime
) -> LimitState:
    uses = [_shown(per, use) for per, use in uses_of(limit, counted, now)]
    if limit.per_second is not None:
        most = store.most_per_second(connection, tenant_id, relay_id, now - _PEAK)
        left = max(0, limit.per_second - most)
        second = LimitUse(
            per="second", limit=limit.per_second, used=most, remaining=left, reached_at=None, free_at=None
        )
        uses.insert(0, second)
    return LimitState(
        region=limit.region, streams=limit.streams, restricted=limit.restricted, hold_back=limit.hold_back,
        pace=round(used_in(counted.of(limit), now, _HOUR)), uses=uses,
    )  # fmt: skip


def _shown(per: Period, use: Use) -> LimitUse:
    return LimitUse(
        per=per.value, limit=use.limit, used=use.used, remaining=use.remaining, reached_at=use.reached_at,
        free_at=None if use.remaining else use.free_at,
    )  # fmt: skip


def _hits(
    connection: Connection, tenant_id: int, relay_id: int, include: str, since: datetime, now: datetime
) -> list[LimitHit]:
    """Return by provider what named too much mail, the most often first."""
    rows: dict[int, list[store.HitRow]] = defaultdict(list)
    for row in store.hits(connection, tenant_id, relay_id, since):
        rows[row.provider_id].append(row)
    names, labels = providers.names(connection, rows), providers.labels(connection, tenant_id)
    out = []
    for provider_id, those in rows.items():
        newest = store.newest_hit(connection, tenant_id, relay_id, provider_id, those[-1].hour)
        stated = stated_limit(newest.diagnostic) if newest is not None else None
        mail = store.mail_by_hour(connection, tenant_id, relay_id, provider_id, since)
        hit = {row.hour for row in those}
        name = names.get(provider_id, "")
        out.append(
            LimitHit(
                provider=name, label=labels.get(provider_id, name), replies=sum(row.n for row in those),
                by_relay=newest is not None and _is_of(newest.remote_host, include),
                first_at=those[0].hour.replace(tzinfo=UTC), last_at=those[-1].hour.replace(tzinfo=UTC),
                reply=newest.diagnostic[:1000] if newest is not None else "", **_stated(stated),
                use=_use_of_stated(stated, mail, now),
                mail_then=mail.get(those[0].hour, 0),
                most_without=max((n for hour, n in mail.items() if hour not in hit), default=0),
            )
        )  # fmt: skip
    return sorted(out, key=lambda each: (-each.replies, each.provider))


def _stated(found: StatedLimit | None) -> dict[str, object]:
    return {"stated": found.messages if found else None, "stated_per": found.per.value if found else None}


def _use_of_stated(found: StatedLimit | None, mail: Hours, now: datetime) -> LimitUse | None:
    """Return how far a provider's limit is used, as far as mail by this relay goes; per second nothing is counted."""
    if found is None or found.per is Period.SECOND:
        return None
    hours = {hour.replace(tzinfo=UTC): n for hour, n in mail.items()}
    return _shown(found.per, use_of(hours, now, found.per, found.messages, used_in(hours, now, _HOUR)))


def _is_of(host: str, include: str) -> bool:
    """Return whether a server belongs to the relay, by the name that its SPF include has."""
    return bool(host and include) and registered_domain(host.lower().rstrip(".")) == registered_domain(include)


def _unproven(connection: Connection, tenant_id: int, relay_id: int, since: datetime) -> list[UnprovenReply]:
    out = []
    for row in store.sender_replies(connection, tenant_id, relay_id, since.date()):
        found = unproven(row.example)
        if found is not None:
            out.append(
                UnprovenReply(
                    reply=row.example[:1000], replies=row.n, last_day=row.last_day, address=found.address,
                    domain=found.domain, region=found.region, remedy=remedy_for(found),
                )
            )  # fmt: skip
    return out


def remedy_for(found: Unproven) -> str:
    """Return what to prove, where."""
    what = found.address or found.domain
    where = f" in its region {found.region}" if found.region else ""
    if not what:
        return f"Prove the From address or its domain at the relay{where}; the reply does not name it."
    domain = found.domain or found.address.rpartition("@")[2]
    return (
        f"Prove {what} at the relay{where}, or its whole domain {domain} by a record; until then it refuses such mail."
    )
