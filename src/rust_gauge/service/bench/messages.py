"""Caught messages: lists, one message read, waiting for the next one, comparing several, and a template's history."""

import asyncio
import hashlib
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime

import orjson
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.bench import (
    Attachment,
    BenchComparison,
    CaughtMessage,
    Conversation,
    FoundCode,
    ParsedMessage,
)
from rust_gauge.contract.common import Page
from rust_gauge.core.assay import Message, links_of, parse_html
from rust_gauge.core.assay.compare import ADDRESS, Side, compare_sides
from rust_gauge.core.bench import find_codes
from rust_gauge.documents.assays import (
    comparison_document,
    fields_document,
    links_document,
    parts_document,
    side_document,
)
from rust_gauge.service.bench.catching import Arrival, catch
from rust_gauge.service.bench.examining import assay_of, shown
from rust_gauge.service.bench.trays import find_tray
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import caught
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.caught import CaughtQuery, CaughtRow
from rust_gauge.store.trays import TrayRow

_MOST_COMPARED = 6
_MOST_ATTACHMENTS = 100
_MOST_OCTETS = 40 * 2**20  # of an attachment
_LOOKED_THROUGH = 200  # messages whose header is compared when somebody waits for a field
_POLL = 0.2  # seconds between looks for new messages, one for all who wait in this process
_MOST_WAITING = 200  # requests of this process that wait
_NEWS = "messages that are waited for"  # in the memory of the process


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a test waits for. `header` is a name, or a name and the value after a colon."""

    recipient: str = ""
    subject: str = ""
    header_from: str = ""
    header: str = ""
    since: datetime | None = None
    after: int | None = None


def list_messages(
    context: Context, tenant: TenantAccess, name: str, wanted: Wanted, series: str, cursor: str | None, limit: int
) -> Page[CaughtMessage]:
    """Return messages of a tray, newest first."""
    row = find_tray(context, tenant, name)
    position = read_cursor("caught", cursor, int)
    query = replace(_query(row, wanted), before=position[0] if position else None, limit=limit + 1, series=series)
    found = context.store.transaction(lambda c: caught.find_messages(c, query))
    following = write_cursor("caught", found[limit - 1].id) if len(found) > limit else None
    return Page(items=[shown(each) for each in found[:limit]], next=following)


def _query(row: TrayRow, wanted: Wanted) -> CaughtQuery:
    return CaughtQuery(
        row.id, recipient=wanted.recipient, subject=wanted.subject, header_from=wanted.header_from,
        since=None if wanted.since is None else wanted.since.astimezone(UTC).replace(tzinfo=None), after=wanted.after,
    )  # fmt: skip


def find_message(context: Context, tenant: TenantAccess, name: str, id: int) -> tuple[TrayRow, CaughtRow]:
    """Return a message and its tray. ServiceProblem `not-found`."""
    row = find_tray(context, tenant, name)
    found = context.store.transaction(lambda c: caught.get_message(c, row.id, id))
    if found is None:
        raise ServiceProblem("not-found", f"The tray {name} has no message {id}", remedy="It may have been deleted")
    return row, found


def get_message(context: Context, tenant: TenantAccess, name: str, id: int) -> ParsedMessage:
    """Return a message, read."""
    _, found = find_message(context, tenant, name, id)
    return parsed(context, found)


def parsed(context: Context, row: CaughtRow) -> ParsedMessage:
    """Read a message: header, text, HTML, links, attachments, codes."""
    message = Message(context.store.transaction(lambda c: caught.source_of(c, row.id)))
    page = None if message.html is None else parse_html(message.html)
    visible = None if page is None else page.visible_text
    codes = find_codes(message.text or "") or find_codes(visible or "")
    return ParsedMessage(
        **shown(row).model_dump(), fields=fields_document(message), parts=parts_document(message), text=message.text,
        html=message.html, visible_text=visible, links=links_document(links_of(message, page)),
        attachments=_attachments(message), codes=[FoundCode(code=each.code, context=each.context) for each in codes],
    )  # fmt: skip


def _attachments(message: Message) -> list[Attachment]:
    out: list[Attachment] = []
    for part in message.parts:
        if part.is_attachment and len(out) < _MOST_ATTACHMENTS:
            octets = part.entity.octets(_MOST_OCTETS)
            out.append(
                Attachment(
                    number=part.number, file_name=part.file_name, type=part.type, size=len(octets),
                    sha256=hashlib.sha256(octets).hexdigest(),
                )
            )  # fmt: skip
    return out


def attachment(context: Context, tenant: TenantAccess, name: str, id: int, number: str) -> bytes:
    """Return the decoded octets of one part. ServiceProblem `not-found`."""
    message = Message(source(context, tenant, name, id))
    part = next((each for each in message.parts if each.number == number and not each.entity.parts), None)
    if part is None:
        raise ServiceProblem("not-found", f"Message {id} has no part {number[:20]}")
    return part.entity.octets(_MOST_OCTETS)


def source(context: Context, tenant: TenantAccess, name: str, id: int) -> bytes:
    """Return the octets of a message as they came."""
    _, found = find_message(context, tenant, name, id)
    return context.store.transaction(lambda c: caught.source_of(c, found.id))


def conversation(context: Context, tenant: TenantAccess, name: str, id: int) -> Conversation:
    """Return the SMTP conversation in which a message came."""
    _, found = find_message(context, tenant, name, id)
    document = context.store.transaction(lambda c: caught.conversation_of(c, found.id))
    return Conversation.model_validate(orjson.loads(document))


def upload(
    context: Context, tenant: TenantAccess, name: str, raw: bytes, mail_from: str, recipients: Sequence[str]
) -> CaughtMessage:
    """Put a message into a tray. ServiceProblem `too-large`; `invalid-request` for what has no header."""
    row = find_tray(context, tenant, name)
    if not Message(raw).mail.fields:
        raise ServiceProblem(
            "invalid-request", "This is not a message: it has no header", remedy="Send the complete source"
        )
    id = catch(context, row, raw, Arrival("upload", mail_from, tuple(recipients)))
    found = context.store.transaction(lambda c: caught.get_message(c, row.id, id))
    if found is None:
        raise ServiceProblem("not-found", "The message was deleted meanwhile", remedy="Raise keep_messages of the tray")
    return shown(found)


def delete_message(context: Context, tenant: TenantAccess, name: str, id: int) -> None:
    """Delete one message."""
    row, found = find_message(context, tenant, name, id)
    context.store.transaction(lambda c: caught.delete_messages(c, row.id, [found.id]))


# Waiting


def match_now(context: Context, row: TrayRow, wanted: Wanted) -> CaughtRow | None:
    """Return the message that a test waits for: the first after `after` or `since`, without them the newest."""
    first = wanted.after is not None or wanted.since is not None
    limit = _LOOKED_THROUGH if wanted.header else 1
    query = replace(_query(row, wanted), oldest_first=first, limit=limit)
    found = context.store.transaction(lambda c: caught.find_messages(c, query))
    if not wanted.header:
        return found[0] if found else None
    return next((each for each in found if _has_field(context, each, wanted.header)), None)


def _has_field(context: Context, row: CaughtRow, wanted: str) -> bool:
    name, _, value = wanted.partition(":")
    raw = context.store.transaction(lambda c: caught.source_of(c, row.id))
    fields = Message(raw).fields(name.strip())
    return any(value.strip().lower() in field.text.lower() for field in fields)


async def wait(context: Context, tenant: TenantAccess, name: str, wanted: Wanted, seconds: float) -> ParsedMessage:
    """Return the message that a test waits for, as soon as it is there. ServiceProblem `no-message` when it is late."""
    row = await run_in_threadpool(find_tray, context, tenant, name)
    news = news_of(context)
    end = time.monotonic() + seconds
    with news.listening(row.id):
        while True:
            known = news.version
            found = await run_in_threadpool(match_now, context, row, wanted)
            if found is not None:
                return await run_in_threadpool(parsed, context, found)
            while (left := end - time.monotonic()) > 0 and not await news.wait(row.id, known, left):
                pass
            if left <= 0:
                raise ServiceProblem(
                    "no-message", f"No matching message arrived in the tray {name} within {seconds:g} s",
                    remedy="Check the filter, and whether the application sent it; the tray lists what came",
                )  # fmt: skip


class News:
    """Who waits for messages of which tray. While anybody does, one query for all of them asks what is new."""

    def __init__(self, context: Context) -> None:
        self.version = 0
        self._context = context
        self._waiting: dict[int, int] = {}
        self._newest: dict[int, int] = {}
        self._changed: dict[int, int] = {}  # by tray: the version at which it got a message
        self._lock = threading.Lock()
        self._asked = 0.0

    def listening(self, tray_id: int) -> "_Listening":
        """Return a context in which news of a tray are looked for. ServiceProblem `busy` when too many do so."""
        return _Listening(self, tray_id)

    async def wait(self, tray_id: int, known: int, seconds: float) -> bool:
        """Wait for a moment; return whether the tray got a message after version `known`."""
        await asyncio.sleep(min(_POLL, seconds))
        await run_in_threadpool(self._ask)
        return self._changed.get(tray_id, 0) > known

    def _ask(self) -> None:
        with self._lock:
            now = time.monotonic()
            if now - self._asked < _POLL / 2:
                return
            self._asked = now
            trays = list(self._waiting)
            newest = self._context.store.transaction(lambda c: caught.newest_ids(c, trays))
            self.version += 1
            for tray in trays:
                if newest.get(tray, 0) > self._newest.get(tray, -1):
                    self._changed[tray] = self.version
                self._newest[tray] = newest.get(tray, 0)

    def enter(self, tray_id: int) -> None:
        with self._lock:
            if sum(self._waiting.values()) >= _MOST_WAITING:
                raise ServiceProblem("busy", "Too many requests wait for messages", retry_after=2)
            self._waiting[tray_id] = self._waiting.get(tray_id, 0) + 1

    def leave(self, tray_id: int) -> None:
        with self._lock:
            self._waiting[tray_id] -= 1
            if not self._waiting[tray_id]:
                for each in (self._waiting, self._newest, self._changed):
                    each.pop(tray_id, None)


class _Listening:
    def __init__(self, news: News, tray_id: int) -> None:
        self._news, self._tray = news, tray_id

    def __enter__(self) -> None:
        self._news.enter(self._tray)

    def __exit__(self, *_: object) -> None:
        self._news.leave(self._tray)


def news_of(context: Context) -> News:
    """Return the news of this process."""
    found: News = context.memory.setdefault(_NEWS, News(context))
    return found


# Comparing


def compare_messages(context: Context, tenant: TenantAccess, name: str, ids: Sequence[int]) -> BenchComparison:
    """Compare messages of a tray with the first of them. ServiceProblem `invalid-request`, `not-found`."""
    if not 2 <= len(ids) <= _MOST_COMPARED or len({*ids}) != len(ids):
        raise ServiceProblem("invalid-request", f"Name two to {_MOST_COMPARED} different messages")
    rows = [find_message(context, tenant, name, id) for id in ids]
    first, *others = [_side(context, tenant, tray, row) for tray, row in rows]
    names = [str(id) for id in ids]
    return BenchComparison(
        messages=[shown(row) for _, row in rows],
        comparisons=[
            comparison_document(compare_sides(first, each), other, names[0])
            for each, other in zip(others, names[1:], strict=True)
        ],
    )


def _side(context: Context, tenant: TenantAccess, tray: TrayRow, row: CaughtRow) -> Side:
    """Return a message with what was found when it came: since then a list may have dropped the address."""
    assay = assay_of(context, tenant, tray, row)
    message = Message(context.store.transaction(lambda c: caught.source_of(c, row.id)))
    page = None if message.html is None else parse_html(message.html)
    travelled = {
        ADDRESS: row.client_ip, "HELO name": row.helo, "MAIL FROM": row.mail_from, "TLS": row.tls or "none",
        "recipient": ", ".join(row.recipients),
    }  # fmt: skip
    path = {key: value for key, value in travelled.items() if row.via in ("smtp", "address")}
    return side_document(message, page, links_of(message, page), assay, path)
