"""What warm-up plans let through now, for whoever asks before sending.

Plans are read again after a few seconds, and so is what events say was sent; what clearance let go is counted exactly.
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
_CLEARED_KNOWN_FOR = timedelta(seconds=1)
_PLANS, _CLEARED = "warm-up plans", "warm-up cleared"


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
    """Read plans again at the next question of this process: one was changed."""
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


class Held:
    """What a plan lets through of one question, provider by provider and message by message."""

    def __init__(self, known: _Known, cleared: Sent, now: datetime, let_go: Mapping[int, int]) -> None:
        self._known, self._now, self._cleared = known, now, cleared
        self._before = by_track(let_go, known.tracks.keys())
        self._today, self._this_hour = (
            by_track(of, known.tracks.keys()) for of in (known.sent.today, known.sent.this_hour)
        )
        self._rooms: dict[int, Room] = {}

    def room_of(self, provider_id: int) -> "Room":
        """Return the room that mail to a provider shares."""
        track = provider_id if provider_id in self._known.tracks else OTHERS
        if track not in self._rooms:
            self._rooms[track] = self._room(track)
        return self._rooms[track]

    def _room(self, id: int) -> "Room":
        known, track, before = self._known, self._known.tracks[id], self._before.get(id, 0)
        today = max(self._today.get(id, 0), self._cleared.today.get(id, 0)) + before
        this_hour = max(self._this_hour.get(id, 0), self._cleared.this_hour.get(id, 0)) + before
        step_on = known.ladder.from_now_on(track, self._now.date())
        found = openings(known.ladder.window, step_on, self._now, today, this_hour)
        return Room(found, self._now, _why(known, track))

    def count(self, unit: UnitOfWork, let_go: Mapping[int, int]) -> None:
        """Count messages by provider that were let go against the plan."""
        hour = unit.now.replace(minute=0, second=0, microsecond=0)
        counts = by_track(let_go, self._known.tracks.keys())
        store.count_cleared(unit.connection, self._known.plan.id, hour, counts)
        unit.memory.pop((_CLEARED, self._known.plan.id), None)


class Room:
    """Openings of one provider: `left` messages may go at `at`, None for now; `following` goes on to the next opening.

    Taken by the hundred thousand, so that whoever takes counts `left` down by himself.
    """

    __slots__ = ("_now", "_openings", "at", "left", "why")

    def __init__(self, found: Iterator[Opening], now: datetime, why: str) -> None:
        self.why = why
        self._openings, self._now = found, now
        self.left = 0
        self.at: datetime | None = None
        self.following()

    def following(self) -> None:
        """Go on to the next hour that takes messages; without one within a year, to the end of that."""
        opening = next(self._openings, None)
        if opening is None:
            self.left, self.at = 2**62, self._now + timedelta(days=366)
        else:
            self.left, self.at = opening.room, opening.at if opening.at > self._now else None


def plans_for(
    unit: UnitOfWork, mail: Mail, *, let_go: Mapping[str, int] = MappingProxyType({}), lock: bool = False
) -> list[Held]:
    """Return the plans that hold this mail back. `let_go`: what of the same mail was cleared before, by provider.
    `lock`: nobody else counts against them before the transaction ends.
    """
    known = [each for each in _known(unit) if each.is_about(mail)]
    if not known:
        return []
    cleared = _cleared(unit, sorted(each.plan.id for each in known), lock=lock)
    before: dict[int, int] = {}
    if let_go:
        there = providers.known_ids(unit.connection, let_go)
        for name, n in let_go.items():
            before[there.get(name, OTHERS)] = before.get(there.get(name, OTHERS), 0) + n
    return [Held(each, cleared[each.plan.id], unit.now, before) for each in known]


def _cleared(unit: UnitOfWork, ids: list[int], *, lock: bool) -> dict[int, Sent]:
    """Return by plan what clearance let go. Questions that count nothing may see what was so a second ago."""
    if lock:
        for id in ids:
            leases.lock(unit.connection, f"warm-up {id}")
        return store.cleared_now(unit.connection, ids, unit.now)
    out: dict[int, Sent] = {}
    for id in ids:
        found: tuple[datetime, Sent] | None = unit.memory.get((_CLEARED, id))
        if found is None or not timedelta(0) <= unit.now - found[0] < _CLEARED_KNOWN_FOR:
            found = unit.memory[_CLEARED, id] = (unit.now, store.cleared_now(unit.connection, [id], unit.now)[id])
        out[id] = found[1]
    return out


def _why(known: _Known, track: TrackRow) -> str:
    step = known.ladder.ceiling(track.step, track.share)
    elsewhere = f"; until then it may go by {known.plan.move_from}" if known.plan.move_from else ""
    label = known.labels.get(track.provider_id, "")
    return (
        f"warm-up {known.plan.name}: {label} gets {step.per_day:,} messages a day and {step.per_hour:,} an hour "
        f"at step {track.step + 1}{elsewhere}"
    )
