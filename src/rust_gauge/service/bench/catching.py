"""Catching: a message is stored in a tray with the conversation in which it came. It goes nowhere else."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

import orjson

from rust_gauge.contract.bench import Conversation
from rust_gauge.core.assay import Message
from rust_gauge.core.bench import series_of
from rust_gauge.core.mime import mailboxes
from rust_gauge.service.bench.trays import trim
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.poison import unexpected
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import caught
from rust_gauge.store.trays import TrayRow

_MOST_RECIPIENTS = 100
_LONGEST_FIELD = 100_000  # characters
_TRIM_EVERY = 50  # messages of one tray that a process catches
_COUNTS = "messages caught since trays were trimmed"  # in the memory of the process


@dataclass(frozen=True, slots=True)
class Arrival:
    """How a message came to a tray."""

    via: str
    mail_from: str = ""
    recipients: tuple[str, ...] = ()
    conversation: Conversation = field(default_factory=Conversation)
    at: datetime | None = None  # now, unless the demo says otherwise


@dataclass(frozen=True, slots=True)
class Envelope:
    """What lists show of a message; empty where it cannot be read."""

    subject: str = ""
    header_from: str = ""
    message_id: str = ""
    series: str = ""
    recipients: tuple[str, ...] = ()


def catch(context: Context, row: TrayRow, raw: bytes, arrival: Arrival) -> int:
    """Store a message in a tray; return its id. ServiceProblem `too-large`."""
    if len(raw) > row.max_bytes:
        raise ServiceProblem(
            "too-large", f"The message has {len(raw):,} octets; the tray {row.name} takes {row.max_bytes:,}",
            remedy="Raise max_bytes of the tray",
        )  # fmt: skip
    told, now = arrival.conversation, arrival.at or context.clock()
    read = _read(row, raw)
    recipients = arrival.recipients or read.recipients
    id = context.store.transaction(
        lambda c: caught.add_message(
            c, raw, orjson.dumps(told.model_dump()), [_cut(each.lower(), 320) for each in recipients],
            tenant_id=row.tenant_id, tray_id=row.id, arrived_at=now, via=arrival.via,
            mail_from=_cut(arrival.mail_from, 320), helo=_cut(told.helo, 255), client_ip=_cut(told.client_ip, 45),
            tls=_cut(told.tls, 20), recipients=[_cut(each, 320) for each in recipients],
            subject=_cut(read.subject, 500), header_from=_cut(read.header_from, 320),
            message_id=_cut(read.message_id, 500), series=_cut(read.series, 200), size=len(raw), state="waiting",
            attempts=0, claimed_at=None, mark=None, worst=None, points=None,
        )
    )  # fmt: skip
    counts: dict[int, int] = context.memory.setdefault(_COUNTS, {})
    counts[row.id] = counts.get(row.id, 0) + 1
    if counts[row.id] >= _TRIM_EVERY:
        counts[row.id] = 0
        trim(context, row)
    return id


def _read(row: TrayRow, raw: bytes) -> Envelope:
    """Return what lists show. Whatever goes wrong, the message is caught all the same."""
    try:
        message = Message(raw)
        subject = message.value("Subject")
        sender = next((address for _, address in mailboxes(message.value("From"))), "")
        stated = message.value(row.series_header) if row.series_header else ""
        return Envelope(
            subject, sender or message.value("From"), message.value("Message-ID").strip(),
            series_of(subject, stated), named_recipients(message),
        )  # fmt: skip
    except Exception as error:
        unexpected("message", error, tray=row.name)
        return Envelope()


def named_recipients(message: Message) -> tuple[str, ...]:
    """Return the addresses in To and Cc, for messages that came without an envelope."""
    found: dict[str, None] = {}
    for name in ("To", "Cc"):
        for header in message.fields(name):
            for _, address in mailboxes(header.text[:_LONGEST_FIELD]):
                found.setdefault(address)
    return tuple(each for each in found if each)[:_MOST_RECIPIENTS]


def _cut(text: str, most: int) -> str:
    """Return what fits into a column: no surrogates, which MariaDB does not store."""
    return text.encode("utf-8", "replace").decode("utf-8")[:most]


def catch_feed(context: Context, row: TrayRow, messages: Sequence[tuple[bytes, str]]) -> list[tuple[bytes, str]]:
    """Catch messages that a feed read, each with the recipient it came to. Returns those that cannot be caught."""
    aside: list[tuple[bytes, str]] = []
    for raw, sent_to in messages:
        try:
            catch(context, row, raw, Arrival("feed", recipients=(sent_to,) if sent_to else ()))
        except ServiceProblem as problem:
            aside.append((raw, str(problem)))
    return aside
