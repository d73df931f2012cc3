"""One event: something that happened to one message for one recipient. Every source is turned into this shape.

Three times are kept apart: `occurred_at` (the source's), arrival and processing; only the first is
part of the event and of its identity. The identity is a digest of what makes an event the same one when it arrives
again: its kind, time and recipient with the source's own id, or where the source has none, with message id, domain
and attempt.
"""

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from functools import lru_cache
from hashlib import blake2b
from ipaddress import ip_address
from typing import NamedTuple

from rust_gauge.core.errors import AddressError, DomainNameError, EventError
from rust_gauge.core.names import Address, address_key, normalise_domain, parse_address
from rust_gauge.core.replies import Cause, Classified, Permanence, classify, cut_reply

CLOCK_TOLERANCE = timedelta(minutes=10)  # how far ahead of ours a source's clock may run
EARLIEST = datetime(2000, 1, 1, tzinfo=UTC)


class Kind(StrEnum):
    """What happened. Appending is safe; the order is the number that the store keeps."""

    ACCEPTED = "accepted"  # taken from us for delivery
    DELIVERED = "delivered"  # the provider took it; nobody need have seen it
    DELAYED = "delayed"
    BOUNCED = "bounced"
    COMPLAINED = "complained"
    UNSUBSCRIBED = "unsubscribed"
    OPENED = "opened"
    CLICKED = "clicked"
    WITHHELD = "withheld"  # not sent because suppressed; never counts as a bounce

    @property
    def number(self) -> int:
        """The number that the store writes for this kind."""
        return _KIND_NUMBERS[self]

    @classmethod
    def from_number(cls, number: int) -> "Kind":
        """Return the kind that the store wrote as `number`."""
        return _KINDS[number]


_KINDS = tuple(Kind)
_KIND_NUMBERS = {kind: index for index, kind in enumerate(_KINDS)}


class Path(NamedTuple):
    """How a message was sent. Events share these by the thousand, so they are checked once and kept."""

    domain: str  # sending domain
    stream: str = ""
    relay: str = ""
    sending_ip: str = ""
    campaign: str = ""
    tags: tuple[str, ...] = ()  # free words, for comparing variants; sorted, each once

    @property
    def where(self) -> str:
        """What of it is part of an event's identity."""
        return f"{self.domain}\x1f{self.stream}\x1f{self.relay}\x1f{self.campaign}"


class Event(NamedTuple):
    """Checked and normalised. `identity` is 16 octets; `cause_rule` names what decided the cause.

    A tuple, not a dataclass: millions are made, and a tuple is made in a third of the time.
    """

    identity: bytes
    occurred_at: datetime  # aware, UTC
    kind: Kind
    path: Path
    recipient: Address
    message_id: str = ""
    cause: Cause = Cause.NONE
    permanence: Permanence = Permanence.NONE
    cause_rule: str = ""
    reply_code: int | None = None
    enhanced_code: str | None = None
    diagnostic: str = ""
    remote_host: str = ""
    attempt: int | None = None
    seconds_taken: float | None = None

    @property
    def domain(self) -> str:
        """The sending domain."""
        return self.path.domain

    @property
    def stream(self) -> str:
        """The stream; empty if the source names none."""
        return self.path.stream

    @property
    def relay(self) -> str:
        """The relay; empty if the source names none."""
        return self.path.relay

    @property
    def sending_ip(self) -> str:
        """The address that the mail was sent from; empty if the source names none."""
        return self.path.sending_ip

    @property
    def campaign(self) -> str:
        """The campaign; empty if the source names none."""
        return self.path.campaign

    @property
    def tags(self) -> tuple[str, ...]:
        """The tags."""
        return self.path.tags


def time_text(time: datetime) -> str:
    """Format a time in UTC as identities and the store write it: `2026-11-20 08:00:00`, fractions with six digits."""
    return str(time.replace(tzinfo=None))


def identity_of(
    kind: int, time: str, recipient_key: bytes, source_id: str, message_id: str, attempt: int | None, where: str
) -> bytes:
    """Digest what makes an event the same one when it arrives again, as 16 octets.

    `kind` is its number, `time` a `time_text`, `where` the path's `where`.
    """
    told = source_id or f"\x1f{message_id}\x1f{attempt or ''}\x1f{where}"
    text = f"{kind}\x1f{time}\x1f{told}"
    return blake2b(recipient_key + text.encode("utf-8", "surrogatepass"), digest_size=16).digest()


@lru_cache(maxsize=10_000)
def _canonical_ip(text: str) -> str:
    return str(ip_address(text))


REFUSALS = (Kind.BOUNCED, Kind.DELAYED)  # events with a cause
STATED = "stated"  # in place of a rule: the source named the cause
PERMANENCE_STATED = ", permanence stated"  # behind a rule


def judge(event: Event, found: Classified) -> Event:
    """Return a refusal with its cause and permanence: what the source stated, else what was found."""
    if event.cause is not Cause.NONE:
        permanence = found.permanence if event.permanence is Permanence.NONE else event.permanence
        return event._replace(cause_rule=STATED, permanence=permanence_of(event.kind, permanence))
    if event.permanence is not Permanence.NONE:
        permanence, rule = event.permanence, found.rule + PERMANENCE_STATED
    else:
        permanence, rule = found.permanence, found.rule
    return event._replace(cause=found.cause, permanence=permanence_of(event.kind, permanence), cause_rule=rule)


def judge_again(
    kind: Kind, permanence: Permanence, rule: str, found: Classified
) -> tuple[Cause, Permanence, str] | None:
    """Cause, permanence and rule of a refusal that `rule` judged before; None when its source named the cause."""
    if rule == STATED:
        return None
    if rule.endswith(PERMANENCE_STATED):
        return found.cause, permanence, found.rule + PERMANENCE_STATED
    return found.cause, permanence_of(kind, found.permanence), found.rule


def permanence_of(kind: Kind, found: Permanence) -> Permanence:
    """Return what a code's permanence means for an event of this kind."""
    if kind is Kind.DELAYED:
        return Permanence.TRANSIENT  # it is delayed, whatever the code was
    if found is Permanence.NONE:
        return Permanence.TRANSIENT  # nothing says that it is final, so no address is judged by it
    return found


def make_event(
    *,
    now: datetime,
    kind: Kind,
    time: datetime,
    domain: str,
    recipient: str,
    id: str = "",
    stream: str = "",
    relay: str = "",
    message_id: str = "",
    reply_code: int | None = None,
    enhanced_code: str | None = None,
    diagnostic: str = "",
    cause: Cause | None = None,
    permanence: Permanence | None = None,
    remote_host: str = "",
    sending_ip: str = "",
    campaign: str = "",
    tags: Iterable[str] = (),
    attempt: int | None = None,
    seconds_taken: float | None = None,
    judged: bool = True,
) -> Event:
    """Make an event from what a source says. EventError names the field that cannot be right.

    `now` is our clock. A cause or a permanence that the source states is kept; otherwise the reply is classified by
    the built-in rules. Without `judged` a refusal is left as it was stated: `judge` is for who knows other rules.
    """
    if time.tzinfo is None:
        raise EventError("time has no UTC offset", why="", remedy="Write it as 2026-11-20T08:00:00Z", field="time")
    time = time.astimezone(UTC)
    if time > now + CLOCK_TOLERANCE:
        raise EventError(
            f"time {time:%Y-%m-%dT%H:%M:%SZ} is in the future",
            why=f"it is now {now:%Y-%m-%dT%H:%M:%SZ}",
            remedy="Check the clock and time zone of the source",
            field="time",
        )
    if time < EARLIEST:
        raise EventError(f"time {time:%Y-%m-%d} is before 2000", remedy="Check its unit and time zone", field="time")
    try:
        sender = normalise_domain(domain)
    except DomainNameError as error:
        raise EventError(error.what, why=error.why, remedy=error.remedy, field="domain") from None
    try:
        address = parse_address(recipient)
    except AddressError as error:
        raise EventError(error.what, why=error.why, remedy=error.remedy, field="recipient") from None
    if sending_ip:
        try:
            sending_ip = _canonical_ip(sending_ip)
        except ValueError:
            raise EventError(f"{sending_ip[:60]!r} is not an IP address", field="sending_ip") from None
    if kind not in REFUSALS:
        cause = permanence = None
    diagnostic = cut_reply(diagnostic)
    path = Path(sender, stream, relay, sending_ip, campaign, tuple(sorted(set(tags))))
    key = address_key(address)
    identity = identity_of(kind.number, time_text(time), key, id, message_id, attempt, path.where)
    event = Event(
        identity, time, kind, path, address, message_id, cause or Cause.NONE, permanence or Permanence.NONE, "",
        reply_code, enhanced_code, diagnostic, remote_host, attempt, seconds_taken,
    )  # fmt: skip
    if not judged or kind not in REFUSALS:
        return event
    return judge(event, classify(diagnostic, reply_code, enhanced_code))
