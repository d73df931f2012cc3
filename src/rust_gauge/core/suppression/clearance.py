"""Clearance: each address is `clear` or `held`, and why."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from rust_gauge.core.errors import AddressError
from rust_gauge.core.suppression.reasons import Reason, Scope, State


@dataclass(frozen=True, slots=True)
class Entry:
    """A line of the suppression list, as far as the answer needs it. `until` None: no end."""

    reason: Reason
    since: datetime
    until: datetime | None = None
    state: State = State.HELD
    scope: Scope = Scope.TENANT
    scope_id: int = 0
    note: str = ""


@dataclass(frozen=True, slots=True)
class Asking:
    """Which mail is meant: ids of the sending domain and the stream, None where nothing was said."""

    domain_id: int | None = None
    stream_id: int | None = None

    def is_reached_by(self, entry: Entry) -> bool:
        """Return whether an entry holds this mail: all mail, or that of its stream or domain."""
        if entry.scope is Scope.TENANT:
            return True
        return entry.scope_id == (self.stream_id if entry.scope is Scope.STREAM else self.domain_id)


@dataclass(frozen=True, slots=True)
class Clearance:
    """The answer for one address. `elsewhere`: entries that hold other mail than was asked about."""

    held: bool
    reason: str = ""  # a Reason, or `no_address` where the text is none
    why: str = ""
    since: datetime | None = None
    until: datetime | None = None
    not_before: datetime | None = None
    elsewhere: tuple[Entry, ...] = ()


CLEAR = Clearance(held=False)


def judge(entries: Iterable[Entry], asking: Asking, now: datetime) -> Clearance:
    """`held` while an entry is in force that reaches this mail, by the one that came first."""
    live = [entry for entry in entries if entry.until is None or entry.until > now]
    holding = [entry for entry in live if entry.state is State.HELD]
    reaching = [entry for entry in holding if asking.is_reached_by(entry)]
    elsewhere = tuple(entry for entry in holding if not asking.is_reached_by(entry))
    if reaching:
        entry = min(reaching, key=lambda held: held.since)
        why = entry.reason.meaning + (f" ({entry.note})" if entry.note else "")
        return Clearance(True, entry.reason, why, entry.since, entry.until, None, elsewhere)
    rests = [entry.until for entry in live if entry.state is State.RESTING and entry.until]
    if rests:
        return Clearance(False, not_before=max(rests), why=Reason.TRY_LATER.meaning, elsewhere=elsewhere)
    return Clearance(False, elsewhere=elsewhere) if elsewhere else CLEAR


def no_address(error: AddressError) -> Clearance:
    """Answer for what cannot be an address and so cannot be mailed."""
    return Clearance(True, "no_address", error.why)
