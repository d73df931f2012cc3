"""The status of an address for one reason and scope, and how it changes: pure transitions from one value to the next.

Whoever asks (an event, an import, a person) gives a wish; what stands decides what becomes of it. So whichever comes
first of several at the same moment, what is left follows from these rules alone.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from rust_gauge.core.suppression.reasons import Change, State

NO_END = None


@dataclass(frozen=True, slots=True)
class Status:
    """What stands. `until` None: no end. `ended_at` is set while it does not stand: events before it are old news."""

    state: State
    change: Change
    since: datetime
    until: datetime | None = NO_END
    ended_at: datetime | None = None
    times: int = 1
    returns: int = 0


@dataclass(frozen=True, slots=True)
class Wish:
    """That an address be held (or proposed, or let rest). `at`: the event that asks; `since`: the first of its kind.

    `length` returns the duration for a number of returns; None from it means without end. `until` states an end.
    """

    at: datetime
    since: datetime
    state: State = State.HELD
    times: int = 1
    length: Callable[[int], timedelta | None] | None = None
    until: datetime | None = None

    def end(self, returns: int) -> datetime | None:
        """Return until when mail is to be held after so many returns; None for no end."""
        if self.length is None:
            return self.until
        length = self.length(returns)
        return None if length is None else self.at + length


def is_over(status: Status, now: datetime) -> bool:
    """Return whether it stood and its time is over, whether somebody wrote that down yet or not."""
    return status.state is not State.ENDED and status.until is not None and status.until <= now


def ask(status: Status | None, wish: Wish, now: datetime) -> Status:
    """Return the status after a request to suppress. Equal to `status` where nothing but the count of times changes."""
    if status is None:
        return _stood(Status(wish.state, Change.MADE, wish.since, wish.end(0), None, wish.times), wish, now)
    if is_over(status, now):
        status = replace(status, state=State.ENDED, change=Change.ENDED, ended_at=status.until)
    counted = replace(status, times=status.times + wish.times)
    if status.state is State.ENDED:
        if status.ended_at is not None and wish.at <= status.ended_at:
            return replace(counted, since=min(status.since, wish.since))
        if wish.state is State.PROPOSED:
            # Said no once, or lifted: it is not proposed again.
            return counted if status.change in (Change.DISMISSED, Change.LIFTED) else _proposed(counted, wish)
        # A rest that passed is no return: the next refusal only begins another one.
        comes_back = wish.state is State.HELD and status.change is not Change.WITHDRAWN
        returns = status.returns + comes_back
        change = Change.CAME_BACK if comes_back else Change.MADE
        back = Status(wish.state, change, wish.since, wish.end(returns), None, counted.times, returns)
        return _stood(back, wish, now)
    since = min(status.since, wish.since)
    if status.state is State.PROPOSED or status.state is State.RESTING:
        if wish.state is State.HELD and status.state is State.PROPOSED:
            return replace(counted, state=State.HELD, change=Change.CONFIRMED, since=since, until=wish.end(0))
        if wish.state is State.PROPOSED:
            return replace(counted, since=since)
    until = _later(status.until, wish.end(status.returns))
    if until != status.until:
        return replace(counted, since=since, until=until, change=Change.PROLONGED)
    return replace(counted, since=since)


def _proposed(counted: Status, wish: Wish) -> Status:
    return replace(counted, state=State.PROPOSED, change=Change.PROPOSED, since=wish.since, until=None, ended_at=None)


def _stood(status: Status, wish: Wish, now: datetime) -> Status:
    """Return an entry as ended whose end lies in the past already (history that is loaded late)."""
    if wish.state is State.PROPOSED:
        return replace(status, change=Change.PROPOSED)
    if is_over(status, now):
        return replace(status, state=State.ENDED, change=Change.ENDED, ended_at=status.until)
    return status


def end(status: Status, change: Change, at: datetime, now: datetime) -> Status:
    """Return what stands after it was lifted, delivered to, withdrawn, dismissed, or its time was over.

    `at`: what ended it happened then. Mail that was delivered before it was made ends nothing.
    """
    if status.state is State.ENDED:
        return status
    if is_over(status, now) and change is not Change.WITHDRAWN:
        return replace(status, state=State.ENDED, change=Change.ENDED, ended_at=status.until)
    return replace(status, state=State.ENDED, change=change, ended_at=at)


def confirm(status: Status) -> Status:
    """Return a proposal as somebody agreed to it."""
    if status.state is not State.PROPOSED:
        return status
    return replace(status, state=State.HELD, change=Change.CONFIRMED)


def _later(one: datetime | None, other: datetime | None) -> datetime | None:
    return None if one is None or other is None else max(one, other)
