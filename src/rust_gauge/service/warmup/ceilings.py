"""What warm-up plans let through now, for whoever asks before sending.

Plans are read anew after a few seconds, and so is what events say was sent; what clearance let go is counted exactly.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from types import MappingProxyType
from typing import Any

from sqlalchemy import Connection

from rust_gauge.core.warmup import Opening, openings
from rust_gauge.service.providers.providers import OTHERS_LABEL
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.warmup.steps import OTHERS, Ladder, by_track, ladder_of
from rust_gauge.store import leases, providers
from rust_gauge.store import warmup as store
from rust_gauge.store.warmup import PlanRow, Sent, TrackRow

_KNOWN_FOR = timedelta(seconds=5)
_PLANS = "warm-up plans"


@dataclass(frozen=True, slots=True)
class Mail:
    """Which mail is asked about; None or empty is not known."""

    domain: str | None = None
    stream: str | None = None
    relay: str | None = None
    sending_ip: str | None = None


@dataclass(frozen=True, slots=True)
class _Known:
    """A plan that holds mail back, as it was read a moment ago."""

    plan: PlanRow
    ladder: Ladder
    tracks: Mapping[int, TrackRow]
    labels: Mapping[int, str]
    sent: Sent

    def is_about(self, mail: Mail) -> bool:
        plan = self.plan
        domain = (mail.domain or "").lower().rstrip(".")
        pairs = ((plan.domain, domain), (plan.stream, mail.stream), (plan.relay, mail.relay),
                 (plan.sending_ip, mail.sending_ip))  # fmt: skip
        return all(not named or named == asked for named, asked in pairs)


def forget_plans(memory: dict[Any, Any], tenant_id: int) -> None:
    """Read plans anew at the next question of this process: one was changed."""
    memory.pop((_PLANS, tenant_id), None)


def _known(unit: UnitOfWork) -> list[_Known]:
    found: tuple[datetime, list[_Known]] | None = unit.memory.get((_PLANS, unit.tenant_id))
    if found is None or not timedelta(0) <= unit.now - found[0] < _KNOWN_FOR:
        found = unit.memory[_PLANS, unit.tenant_id] = (unit.now, _read(unit.connection, unit.tenant_id, unit.now))
    return found[1]


def _read(connection: Connection, tenant_id: int, now: datetime) -> list[_Known]:
    plans = [
        plan
        for plan in store.list_plans(connection, tenant_id)
        if plan.settings["hold_back"] and plan.state in (store.RUNNING, store.PAUSED) and plan.starts_on <= now.date()
    ]
    if not plans:
        return []
    tracks = store.tracks_of(connection, [plan.id for plan in plans])
    ids = [track.provider_id for of in tracks.values() for track in of]
    labels = {**providers.names(connection, ids), **providers.labels(connection, tenant_id), OTHERS: OTHERS_LABEL}
    return [
        _Known(
            plan, ladder_of(plan), {track.provider_id: track for track in tracks[plan.id]}, labels,
            store.sent_now(connection, plan, now),
        )
        for plan in plans
    ]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Held:
    """What a plan lets through of one question, provider by provider and message by message."""

    plan_id: int
    rooms: Mapping[int, "_Room"]

    def at(self, provider_id: int) -> tuple[datetime | None, str]:
        """Return when the next message to a provider may go, and why not before: None and empty where it may now."""
        room = self.rooms[provider_id if provider_id in self.rooms else OTHERS]
        at = room.take()
        return at, "" if at is None else room.why

    def count(self, unit: UnitOfWork, let_go: Mapping[int, int]) -> None:
        """Count messages by provider that were let go against the plan."""
        hour = unit.now.replace(minute=0, second=0, microsecond=0)
        store.count_cleared(unit.connection, self.plan_id, hour, by_track(let_go, self.rooms.keys()))


class _Room:
    """Openings of one provider, taken message by message."""

    def __init__(self, found: Iterator[Opening], now: datetime, why: str) -> None:
        self.why = why
        self._openings, self._now = found, now
        self._left, self._at = 0, now

    def take(self) -> datetime | None:
        """Return when one more message may go; None for now."""
        while self._left == 0:
            opening = next(self._openings, None)
            if opening is None:  # not within a year
                self._left = -1
                self._at += timedelta(days=366)
                break
            self._left, self._at = opening.room, opening.at
        self._left -= 1
        return None if self._at <= self._now else self._at


def plans_for(
    unit: UnitOfWork, mail: Mail, *, let_go: Mapping[str, int] = MappingProxyType({}), lock: bool = False
) -> list[Held]:
    """Return the plans that hold this mail back. `let_go`: what of the same mail was cleared before, by provider.
    `lock`: nobody else counts against them before the transaction ends.
    """
    known = [each for each in _known(unit) if each.is_about(mail)]
    if not known:
        return []
    ids = sorted(each.plan.id for each in known)
    if lock:
        for id in ids:
            leases.lock(unit.connection, f"warm-up {id}")
    cleared = store.cleared_now(unit.connection, ids, unit.now)
    before = {}
    if let_go:
        there = providers.known_ids(unit.connection, let_go)
        before = {there.get(name, OTHERS): 0 for name in let_go}
        for name, n in let_go.items():
            before[there.get(name, OTHERS)] += n
    return [_held(each, cleared[each.plan.id], unit.now, before) for each in known]


def _held(known: _Known, cleared: Sent, now: datetime, let_go: Mapping[int, int]) -> Held:
    ids = known.tracks.keys()
    before = by_track(let_go, ids)
    events, of_hour = (by_track(counts, ids) for counts in (known.sent.today, known.sent.this_hour))
    rooms = {}
    for id, track in known.tracks.items():
        today = max(events.get(id, 0), cleared.today.get(id, 0)) + before.get(id, 0)
        this_hour = max(of_hour.get(id, 0), cleared.this_hour.get(id, 0)) + before.get(id, 0)
        found = openings(known.ladder.window, known.ladder.from_now_on(track, now.date()), now, today, this_hour)
        rooms[id] = _Room(found, now, _why(known, track))
    return Held(known.plan.id, rooms)


def _why(known: _Known, track: TrackRow) -> str:
    step = known.ladder.ceiling(track.step, track.share)
    elsewhere = f"; until then it may go by {known.plan.move_from}" if known.plan.move_from else ""
    label = known.labels.get(track.provider_id, "")
    return (
        f"warm-up {known.plan.name}: {label} gets {step.per_day:,} messages a day and {step.per_hour:,} an hour "
        f"at step {track.step + 1}{elsewhere}"
    )
