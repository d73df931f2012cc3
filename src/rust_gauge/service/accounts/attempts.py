"""Attempts to sign in: counted before anything is checked, by account and source together.

Whoever guesses waits longer and longer, and whoever signs in from elsewhere does not notice.
"""

from datetime import UTC, datetime, timedelta

from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import sign_in as store
from rust_gauge.store.sign_in import Attempts

WINDOW = timedelta(minutes=15)
FREE = 5  # attempts without waiting
_FROM_SOURCE = 200  # attempts of one source, whoever they name
_LONGEST = 900.0  # seconds to wait between two attempts


def count_attempt(context: Context, email: str, address: str) -> None:
    """Count an attempt. ServiceProblem `too-many-attempts` when it comes too early."""
    now = context.clock()
    attempts = context.store.transaction(lambda c: store.add_attempt(c, email, address, now, WINDOW))
    wait = waiting_time(attempts, now)
    if wait > 0:
        raise ServiceProblem(
            "too-many-attempts", f"Too many attempts; the next one is possible in {_said(wait)}", retry_after=wait
        )


def forget_attempts(context: Context, email: str, address: str) -> None:
    """Delete the attempts of an account from a source: the right person is there."""
    context.store.transaction(lambda c: store.forget_attempts(c, email, address))


def waiting_time(attempts: Attempts, now: datetime) -> float:
    """Seconds until another attempt is accepted: none for the first, then twice as long each time."""
    if attempts.from_source >= _FROM_SOURCE:
        return _LONGEST
    if attempts.count < FREE or attempts.newest is None:
        return 0.0
    pause = min(_LONGEST, 2.0 ** (attempts.count - FREE + 1))
    return max(0.0, pause - (now - attempts.newest.replace(tzinfo=UTC)).total_seconds())


def _said(seconds: float) -> str:
    return f"{max(1, round(seconds))} s" if seconds < 90 else f"{round(seconds / 60)} min"
