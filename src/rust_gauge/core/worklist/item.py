"""An item of the worklist: pure transitions from what was measured and what people do.

An item is one incident. It waits before people are notified, so that a short problem notifies nobody; they are
notified again until somebody acknowledges it; it is resolved after some time without the problem, and it can return.
"""

from dataclasses import dataclass, replace
from datetime import datetime, time, timedelta
from enum import StrEnum

from rust_gauge.core.worklist.incident import Incident, Level


class State(StrEnum):
    """The state of an item. `waiting`: detected, nobody is notified yet. `acknowledged`: somebody has taken it."""

    WAITING = "waiting"
    OPEN = "open"
    ACKNOWLEDGED = "acknowledged"
    SNOOZED = "snoozed"
    RESOLVED = "resolved"


class Tell(StrEnum):
    """What people have to be notified of now."""

    NOTHING = ""
    OPENED = "opened"
    AGAIN = "again"
    WORSE = "worse"
    RESOLVED = "resolved"


@dataclass(frozen=True, slots=True)
class Patience:
    """Delays. `wait`: before the notification; `repeat`: before a reminder, none: never; `well`: how long
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
    until: datetime | None = None  # of one that is deferred
    returns: int = 0


def follow(item: Item | None, incident: Incident | None, patience: Patience, now: datetime) -> tuple[Item | None, Tell]:
    """Return the next item after a measurement (None: nothing is wrong), and what to notify people of."""
    if incident is None:
        return _well(item, patience, now)
    if item is None or (item.state is State.RESOLVED and item.resolved_at and now - item.resolved_at > patience.back):
        returns = 0 if item is None else item.returns + 1
        item = Item(incident, State.WAITING, now, now, returns=returns)
    elif item.state is State.RESOLVED:
        # It came back: whoever closed it thought that it was fixed.
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
    if item.state is State.WAITING:  # it passed before anybody was notified: no item
        return None, Tell.NOTHING
    well_since = item.well_since or now
    if now - well_since < patience.well:
        return replace(item, well_since=well_since), Tell.NOTHING
    return resolve(item, now), Tell.RESOLVED


def resolve(item: Item, now: datetime) -> Item:
    """Resolve an item that was measured well, or measured again after a fix."""
    return replace(item, state=State.RESOLVED, resolved_at=now, until=None, well_since=None)


def acknowledge(item: Item) -> Item:
    """Somebody has taken it: no more notifications unless it gets worse."""
    return replace(item, state=State.ACKNOWLEDGED, until=None) if item.state is not State.RESOLVED else item


def snooze(item: Item, until: datetime) -> Item:
    """Return an item put aside until a time; a closed one stays as it is."""
    return replace(item, state=State.SNOOZED, until=until) if item.state is not State.RESOLVED else item


def reopen(item: Item) -> Item:
    """Return an item that nobody has taken and that is not put aside; a closed one stays as it is."""
    if item.state not in (State.ACKNOWLEDGED, State.SNOOZED):
        return item
    return replace(item, state=State.OPEN, until=None)


def restore(item: Item, state: State, until: datetime | None) -> Item:
    """Return an item as it was before a person's action; one that was closed since, or opened for the first time by
    detection, stays as it is.
    """
    if item.state not in (State.OPEN, State.ACKNOWLEDGED, State.SNOOZED):
        return item
    return replace(item, state=state, until=until)


def sort_key(item: Item) -> tuple[float, bool, int, datetime]:
    """Return what items are sorted by: the worst level first; of a level what nobody has acknowledged, then what
    affects the most mail, then what was found first.
    """
    acknowledged = item.state is State.ACKNOWLEDGED
    return -item.incident.level.urgency, acknowledged, -item.incident.mail, item.found_at


def explain_order(item: Item) -> str:
    """Return in words what an item is sorted by."""
    mail = item.incident.mail
    counted = f"{mail:,} message{'' if mail == 1 else 's'} a week" if mail else "no mail"
    return f"{item.incident.level}, {counted}{', acknowledged' if item.state is State.ACKNOWLEDGED else ''}"


def in_quiet_hours(at: time, first: time, last: time) -> bool:
    """Return whether a time of day lies in the quiet hours, which may go over midnight. Equal ends: there are none."""
    if first == last:
        return False
    return first <= at < last if first < last else at >= first or at < last
