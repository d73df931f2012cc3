"""Reading rows into a load: the short way for rows as they mostly are, the contract's model for all others."""

import re
from collections.abc import Iterable
from datetime import UTC, date, datetime, timedelta
from hashlib import blake2b
from typing import Annotated, Any

import msgspec

from rust_gauge.contract.common import ProblemError
from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.event import CLOCK_TOLERANCE, EARLIEST, identity_of
from rust_gauge.core.names import hide_addresses
from rust_gauge.service.intake.names import KnownNames
from rust_gauge.service.intake.rows import Refusal, Rows, read_row
from rust_gauge.store.intake import Load, PathRow

_TIME = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}[Tt ](?:[01][0-9]|2[0-3]):[0-5][0-9]\Z")
_PLAIN = re.compile(r"[A-Za-z0-9_+-]+(?:\.[A-Za-z0-9_+-]+)*\Z")
_UNUSUAL = re.compile(r"[\x00-\x1f\x7f\\]")
_ENHANCED = re.compile(r"[245]\.\d{1,3}\.\d{1,3}\Z")
_SECONDS = {f":{n:02}": f":{n:02}" for n in range(60)}
_UTC = {"Z": "", "+00:00": ""}
_END = re.compile(r"(?:\.([0-9]{1,6}))?(Z|[+-](?:0[0-9]|1[0-4]):[0-5][0-9])\Z")  # of a time: fraction, offset from UTC
# What needs no look at its reply and counts each time.
_QUICK: dict[Any, int] = {
    str(kind): kind.number for kind in (Kind.ACCEPTED, Kind.DELIVERED, Kind.OPENED, Kind.CLICKED, Kind.WITHHELD)
}
_DELIVERED = Kind.DELIVERED.number
_Text = Annotated[str, msgspec.Meta(max_length=255)]


class UsualRow(msgspec.Struct, forbid_unknown_fields=True):
    """A row as rows mostly are. What does not fit is for the contract's `NewEvent`, which knows every case.

    It is read in a fifth of the time that a dictionary and its checks take.
    """

    kind: str
    time: str
    domain: str
    recipient: str
    id: _Text = ""
    stream: str = ""
    relay: str = ""
    message_id: _Text = ""
    reply_code: Annotated[int, msgspec.Meta(ge=200, le=599)] | None = None
    enhanced_code: str | None = None
    diagnostic: Annotated[str, msgspec.Meta(max_length=4000)] = ""
    remote_host: _Text = ""
    sending_ip: str = ""
    campaign: str = ""
    attempt: Annotated[int, msgspec.Meta(ge=0, le=10_000)] | None = None
    seconds_taken: Annotated[float, msgspec.Meta(ge=0, le=10_000_000)] | None = None
    tags: tuple[str, ...] = ()


_read_usual = msgspec.json.Decoder(UsualRow).decode


class Reader:
    """Reads rows into a load.

    A row that is as rows mostly are, and differs from one that was read before only in time, recipient and message,
    takes the short way; it returns the very same row (a test holds the two beside each other). All others are read by
    the contract's model, which also says what is wrong with them.
    """

    def __init__(self, load: Load, known: KnownNames, now: datetime) -> None:
        self.rejected: list[Refusal] = []
        self._load = load
        self._known = known
        self._now = now
        self._paths: dict[tuple[Any, ...], PathRow] = {}
        self._domains = known.short_domains
        self._earliest = max(EARLIEST, known.kept_since)
        self._days: set[str] = set()  # dates that there are
        self._first_minute = f"{self._earliest:%Y-%m-%d %H:%M}"
        self._last_minute = f"{now + CLOCK_TOLERANCE - timedelta(minutes=1):%Y-%m-%d %H:%M}"
        self._minutes: dict[str, str] = {}
        for path, sent in known.short_paths():
            self._paths[path] = load.path(sent)

    def read(self, rows: Rows, start: int, end: int) -> None:
        """Add a piece of the rows to the load; those that are rejected are added to `rejected`."""
        first = start
        if not self._paths:
            first = min(end, start + 1)
            self._long_way(rows, range(start, first))
        self._long_way(rows, self._short_way(rows, first, end))
        self._load.end_piece()

    def _long_way(self, rows: Rows, numbers: Iterable[int]) -> None:
        events, paths = [], []
        for number in numbers:
            item = rows.items[number]
            event, path, errors = read_row(item, rows.are_text, rows.lines[number], self._now, judged=False)
            if event is None:
                self.rejected.append((item, errors))
            elif event.occurred_at < self._earliest:
                self.rejected.append((item, [_too_old(rows.lines[number], event.occurred_at, self._earliest)]))
            else:
                if self._known.hiding is not None:
                    event = event._replace(diagnostic=hide_addresses(event.diagnostic))
                events.append(event)
                paths.append(path)
        for event, path in zip(self._known.learn(events, self._load), paths, strict=True):
            self._load.add(event)
            if path not in self._paths:
                self._paths[path] = self._load.path(event.path)
                self._known.remember_path(path, event.path)
            domain = event.recipient.domain
            if domain not in self._domains:
                self._domains[domain] = (domain, self._known.names.providers[domain][0])

    def _short_way(self, rows: Rows, start: int, end: int) -> list[int]:
        """Reads what can be read this way; returns the numbers of the other rows.

        One loop, since it is what a load's speed hangs on.
        """
        if self._known.hiding is not None:
            return list(range(start, end))
        rest: list[int] = []
        paths, domains, minutes, add_plain = self._paths, self._domains, self._minutes, self._load.add_plain
        read: Any = _read_usual if rows.are_text else _usual_of
        for number in range(start, end):
            try:
                row = read(rows.items[number])
                kind = _QUICK[row.kind]
                path = paths[row.domain, row.stream, row.relay, row.sending_ip, row.campaign, row.tags]
                text = row.time
                second, tail = _SECONDS[text[16:19]], text[19:]
                if tail in _UTC:
                    time = (minutes.get(text[:16]) or self._minute(text[:16])) + second
                else:
                    time = self._other_time(text[:16], second, tail)
                local, _, domain = row.recipient.partition("@")
                domain, provider_id = domains[domain]
                message_id, source_id, host, diagnostic = row.message_id, row.id, row.remote_host, row.diagnostic
                enhanced, attempt, seconds = row.enhanced_code, row.attempt, row.seconds_taken
                if (
                    len(local) > 64
                    or not _PLAIN.match(local)
                    or _UNUSUAL.search(f"{message_id}{source_id}{host}{diagnostic}")
                    or (enhanced is not None and not _ENHANCED.match(enhanced))
                ):
                    raise KeyError
            except (KeyError, msgspec.MsgspecError, ValueError, RecursionError):
                rest.append(number)
                continue
            address = f"{local}@{domain}"
            key = blake2b(address.lower().encode(), digest_size=16).digest()
            identity = identity_of(kind, time, key, source_id, message_id, attempt, path.where)
            add_plain(
                identity, key, time, kind, path, provider_id, address, domain, message_id, host, row.reply_code,
                enhanced, attempt, seconds, diagnostic,
            )  # fmt: skip
        return rest

    def _other_time(self, minute: str, second: str, tail: str) -> str:
        """A time with a fraction, or in another zone, as the store writes it. Errors as for `_minute`."""
        parts = _END.match(tail)
        if parts is None:
            raise KeyError(tail)
        fraction, offset = parts.groups()
        where = offset if offset not in _UTC else ""
        found = self._minutes.get(minute + where) or self._minute(minute, where)
        fraction = (fraction or "").ljust(6, "0")
        return found + second if fraction == "000000" else f"{found}{second}.{fraction}"

    def _minute(self, text: str, offset: str = "") -> str:
        """A minute as the store writes it. ValueError or KeyError for one that has to be looked at closely.

        `offset` from UTC as `+02:00`; none is UTC.
        """
        if not _TIME.match(text):
            raise KeyError(text)
        day = text[:10]
        if day not in self._days:
            date.fromisoformat(day)
            self._days.add(day)
        minute = f"{day} {text[11:]}"
        if offset:
            try:
                there = datetime.fromisoformat(minute + offset).astimezone(UTC)
            except OverflowError:
                raise KeyError(text) from None
            minute = f"{there:%Y-%m-%d %H:%M}"
        if not self._first_minute <= minute <= self._last_minute:
            raise KeyError(text)
        self._minutes[text + offset] = minute
        return minute


def _too_old(line: int, time: datetime, earliest: datetime) -> ProblemError:
    what = f"time {time:%Y-%m-%d} is before the retention period (since {earliest:%Y-%m-%d})"
    remedy = "Events that were deleted would be counted twice. Increase the retention to load older events"
    return ProblemError(line=line, field="time", what=what, remedy=remedy)


def _usual_of(value: Any) -> UsualRow:
    return msgspec.convert(value, UsualRow)
