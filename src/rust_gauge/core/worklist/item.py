"""An item of the worklist and how it goes on: pure transitions by what was measured and what people do.

An item is one incident. It waits a while before it is told, so that a flicker tells nobody; it is told again while
nobody minds it; it closes by itself when it is measured well for long enough, and says so when it comes back.
"""

import math
from dataclasses import dataclass, replace
from datetime import datetime, time, timedelta
from enum import StrEnum

from rust_gauge.core.worklist.incident import Incident, Level


class State(StrEnum):
    """Where an item stands. `waiting`: found, not told yet. `acknowledged`: somebody said that they look after it."""

    WAITING = "waiting"
    OPEN = "open"
    ACKNOWLEDGED = "acknowledged"
    SNOOZED = "snoozed"
    RESOLVED = "resolved"


class Tell(StrEnum):
    """What has to be told of it now."""

    NOTHING = ""
    OPENED = "opened"
    AGAIN = "again"
    WORSE = "worse"
    RESOLVED = "resolved"


@dataclass(frozen=True, slots=True)
class Patience:
    """How long is waited. `wait`: before it is told; `repeat`: before it is told again, none: never; `well`: how long
    it has to be measured well before it closes; `back`: within which a closed one that returns is the same incident.
    """

    wait: timedelta = timedelta(minutes=15)
    repeat: timedelta | None = timedelta(hours=24)
    well: timedelta = timedelta(hours=2)
    back: timedelta = timedelta(days=30)


@dataclass(frozen=True, slots=True)
class Item:
    """What is stored about an incident. `well_since`: since when it has been measured well."""

    incident: Incident
    state: State
    found_at: datetime
    seen_at: datetime
    notified_at: datetime | None = None
    well_since: datetime | None = None
    resolved_at: datetime | None = None
    until: datetime | None = None  # of one that is put off
    returns: int = 0


def follow(item: Item | None, incident: Incident | None, patience: Patience, now: datetime) -> tuple[Item | None, Tell]:
    """Return what becomes of an item by what is measured now (None: nothing is wrong), and what has to be told."""
    if incident is None:
        return _well(item, patience, now)
    if item is None or (item.state is State.RESOLVED and item.resolved_at and now - item.resolved_at > patience.back):
        returns = 0 if item is None else item.returns + 1
        item = Item(incident, State.WAITING, now, now, returns=returns)
    elif item.state is State.RESOLVED:
        # It came back: whoever closed it thought that it was mended.
        item = Item(incident, State.WAITING, now, now, returns=item.returns + 1)
    worse = incident.level.urgency > item.incident.level.urgency
    since = min(item.incident.since, incident.since)
    item = replace(item, incident=replace(incident, since=since), seen_at=now, well_since=None)
    if item.state is State.WAITING:
        if now - item.found_at < patience.wait:
            return item, Tell.NOTHING
        return replace(item, state=State.OPEN, notified_at=now), Tell.OPENED
    if item.state is State.SNOOZED:
        if item.until is not None and now < item.until and not (worse and incident.level is Level.STOP):
            return item, Tell.NOTHING
        return replace(item, state=State.OPEN, until=None, notified_at=now), Tell.WORSE if worse else Tell.AGAIN
    if worse:
        return replace(item, state=State.OPEN, notified_at=now), Tell.WORSE
    due = item.notified_at is None or (patience.repeat is not None and now - item.notified_at >= patience.repeat)
    if item.state is State.OPEN and due and incident.level is not Level.INFO:
        return replace(item, notified_at=now), Tell.AGAIN
    return item, Tell.NOTHING


def _well(item: Item | None, patience: Patience, now: datetime) -> tuple[Item | None, Tell]:
    if item is None or item.state is State.RESOLVED:
        return item, Tell.NOTHING
    if item.state is State.WAITING:  # it passed before anybody was told: it never was
        return None, Tell.NOTHING
    well_since = item.well_since or now
    if now - well_since < patience.well:
        return replace(item, well_since=well_since), Tell.NOTHING
    return resolve(item, now), Tell.RESOLVED


def resolve(item: Item, now: datetime) -> Item:
    """Mended: measured well, or measured anew by somebody who mended it."""
    return replace(item, state=State.RESOLVED, resolved_at=now, until=None, well_since=None)


def acknowledge(item: Item) -> Item:
    """Somebody looks after it: it is not told again unless it gets worse."""
    return replace(item, state=State.ACKNOWLEDGED, until=None) if item.state is not State.RESOLVED else item


def snooze(item: Item, until: datetime) -> Item:
    """Return an item put aside until a time; a closed one stays as it is."""
    return replace(item, state=State.SNOOZED, until=until) if item.state is not State.RESOLVED else item


def rank(item: Item, now: datetime) -> float:
    """Return what comes first: how much mail, how bad, how soon. Doubled mail counts less than a worse level."""
    mail = math.log10(10 + item.incident.mail)
    fresh = 1.0 + 0.5 * math.exp(-max(0.0, (now - item.found_at).total_seconds()) / 86_400)
    acknowledged = 0.6 if item.state is State.ACKNOWLEDGED else 1.0
    return item.incident.level.urgency * mail * fresh * acknowledged


def in_quiet_hours(at: time, first: time, last: time) -> bool:
    """Whether a time of day lies in the quiet hours, which may go over midnight. Equal ends: there are none."""
    if first == last:
        return False
    return first <= at < last if first < last else at >= first or at < last
