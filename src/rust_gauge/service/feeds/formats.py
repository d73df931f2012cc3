"""Feeds that are not JSON: bounce messages and reports, log lines, CSV. Each becomes rows of events' fields."""

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.mtalog import LogReader
from rust_gauge.core.notices import Notice, NoticeError, NoticeKind, read_notice
from rust_gauge.service.runtime.poison import unexpected

_ACTIONS = {"failed": "bounced", "delayed": "delayed", "delivered": "delivered", "reported": "complained"}
_STREAM = "x-rust-gauge-stream"  # fields by which a message can say of itself what its notices should be counted under
_CAMPAIGN = "x-rust-gauge-campaign"
_COLUMNS = 100  # more is not a list of events


class FormError(RustGaugeError):
    """The body cannot be read in this format."""


@dataclass(slots=True)
class Rows:
    """Rows, and what was set aside: items with the reason."""

    values: list[dict[str, Any]] = field(default_factory=list)
    aside: list[tuple[str, str]] = field(default_factory=list)
    quiet: int = 0  # auto-replies and other mail that counts for nothing


def rows_of_notice(raw: bytes, sent_to: str, arrived: datetime, domain: str = "") -> Rows:
    """Rows of a message that came back. One that looks like a notice and is not understood is set aside.

    `domain` is the sending domain where the notice does not tell it; without it the domain that it came to.
    """
    try:
        notice = read_notice(raw, sent_to)
    except NoticeError as error:
        return Rows(aside=[(raw[:2000].decode("utf-8", "replace"), f"{error.what}. {error.remedy}")])
    if notice.problem:
        return Rows(aside=[(raw[:20_000].decode("utf-8", "replace"), notice.problem)])
    if notice.kind not in (NoticeKind.DELIVERY, NoticeKind.COMPLAINT):
        return Rows(quiet=1)
    more = f"{notice.more:,} more recipients than are read of one notice" if notice.more else ""
    return Rows(
        values=[
            row
            for one in notice.recipients
            if (row := _row(notice, one, domain or sent_to.rpartition("@")[2], arrived))
        ],
        aside=[(raw[:20_000].decode("utf-8", "replace"), more)] if more else [],
    )


def _row(notice: Notice, one: Any, domain: str, arrived: datetime) -> dict[str, Any] | None:
    kind = _ACTIONS.get(one.action)
    if kind is None:
        return None  # relayed or expanded: other reports say what happened to it
    row: dict[str, Any] = {
        "kind": kind,
        "time": min(one.at or notice.at or arrived, arrived).isoformat(),
        "recipient": one.recipient,
        "message_id": notice.of_message_id,
        "remote_host": one.remote_host,
    }
    if notice.notice_id:
        row["id"] = f"notice {notice.notice_id}"[:255]
    known = (notice.of_from or notice.of_mail_from).rpartition("@")[2] or domain
    if known:
        row["domain"] = known
    if kind in ("bounced", "delayed"):
        row |= {"diagnostic": one.diagnostic, **({"enhanced_code": one.status} if one.status else {})}
    if notice.source_ip:
        row["sending_ip"] = notice.source_ip
    for name, key in (("stream", _STREAM), ("campaign", _CAMPAIGN)):
        if notice.of_fields.get(key):
            row[name] = notice.of_fields[key][:60]
    return row


def rows_of_log(text: str, reader: LogReader, now: datetime) -> Rows:
    """Rows of a piece of a log; `reader` remembers what is open."""
    made = Rows()
    for line in text.split("\n"):
        try:
            made.values += reader.read(line, now)
        except Exception as error:  # whatever it is, the next line is read
            made.aside.append((line[:20_000], unexpected("line", error)))
    return made


def split_mbox(raw: bytes) -> Iterator[bytes]:
    """The messages of an mbox (RFC 4155): each begins with a line `From `, and quotes such lines of its own."""
    start = 0
    while start < len(raw):
        end = raw.find(b"\n\nFrom ", start)
        end = raw.find(b"\n\r\nFrom ", start) if end < 0 else end
        message = raw[start : end + 1] if end >= 0 else raw[start:]
        if message.startswith(b"From "):
            message = message.partition(b"\n")[2]
        if message.strip():
            yield message.replace(b"\n>From ", b"\nFrom ")
        if end < 0:
            return
        start = raw.find(b"From ", end + 1)


def rows_of_csv(text: str) -> Iterator[tuple[int, dict[str, Any]]]:
    """(line, row) of CSV with a head of column names. FormError when there is none."""
    sample = text[:20_000]
    try:
        dialect: Any = csv.Sniffer().sniff(sample, delimiters=",;\t|")
    except csv.Error:
        dialect = csv.excel
    reader = csv.reader(io.StringIO(text), dialect)
    try:
        head = [name.strip().removeprefix("\ufeff") for name in next(reader)]
    except (StopIteration, csv.Error):
        raise FormError("The file is empty") from None
    if not 1 <= len(head) <= _COLUMNS or not all(head) or len(set(head)) < len(head):
        remedy = "Give each column a unique name"
        raise FormError("The first line is not a header with column names", remedy=remedy)
    while True:
        try:
            values = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            raise FormError(f"Line {reader.line_num} is not valid CSV", why=str(error)) from None
        if any(value.strip() for value in values):
            row = {name: value.strip() for name, value in zip(head, values, strict=False) if value.strip()}
            if "tags" in row:
                row["tags"] = [tag.strip() for tag in row["tags"].split(",") if tag.strip()]  # type: ignore[assignment]
            yield reader.line_num, row
