"""Feeds that fetch: logs, mailboxes, queues, and the listener for mail. One process of an installation runs them.

Each step of a feed stores events and position together, so the runner can be killed at any moment. A feed that does
not get on says why (`trouble`), is tried again with growing pauses, and holds up no other.
"""

import ssl
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import orjson
import structlog

from rust_gauge.contract.feeds import FeedSource
from rust_gauge.core.errors import AddressError, RustGaugeError
from rust_gauge.core.names import parse_address
from rust_gauge.gateways.log_file import read_more
from rust_gauge.gateways.mail_folders import mark_read, read_folder, read_imap, read_maildir, sent_to
from rust_gauge.gateways.mail_in import MailIn
from rust_gauge.gateways.queue_in import QueuePlace, consume
from rust_gauge.service.accounts import ownership
from rust_gauge.service.feeds import receiving
from rust_gauge.service.feeds.feeds import used_by
from rust_gauge.service.feeds.formats import split_mbox
from rust_gauge.service.intake.rows import rows_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.secrets import decrypt
from rust_gauge.service.unsubscribes.unsubscribes import take_mailto
from rust_gauge.store import assignments, leases
from rust_gauge.store import feeds as store_feeds
from rust_gauge.store.assignments import AssignmentRow
from rust_gauge.store.engine import StoreError
from rust_gauge.store.feeds import FeedRow
from rust_gauge.store.leases import Lease, LeaseHeld, LeaseLost

log = structlog.get_logger()
LEASE = "feeds"
_POLL = 0.5  # seconds between looks at logs
_MAILBOX_POLL = 15.0  # seconds; many servers limit how often a client may sign in
_MBOX_QUIET = 10.0  # seconds after which the last message of an mbox is taken to be whole
_LONGEST_PAUSE = 60.0  # seconds between attempts while a source is down
_MAX_MAIL = 25 * 1024 * 1024  # octets; larger mail is set aside
_ADDRESSES_FOR = 5.0  # seconds that the addresses of mail feeds are remembered


@dataclass
class _Turn:
    """When a feed is polled next, and how often it failed in a row."""

    due: float = 0.0
    failures: int = 0
    consumer: threading.Thread | None = None
    stop: threading.Event = field(default_factory=threading.Event)
    since: Any = None


class Runner:
    """Runs all feeds of all tenants."""

    def __init__(self, context: Context) -> None:
        self.lost = threading.Event()  # another process runs feeds by now
        self._context = context
        self._turns: dict[int, _Turn] = {}
        self._mail: MailIn | None = None
        self._addresses: tuple[float, list[FeedRow], list[AssignmentRow]] = (0.0, [], [])

    def start_mail(self) -> int:
        """Listen for mail, if the settings say so. Returns the port, 0 where there is none."""
        settings = self._context.settings
        if not settings.smtp_port:
            return 0
        name = self._context.settings.mail_from.rpartition("@")[2] or "localhost"
        tls = None
        if settings.tls_cert_file:
            tls = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
            tls.load_cert_chain(settings.tls_cert_file, settings.tls_key_file)
        self._mail = MailIn(settings.smtp_host, settings.smtp_port, name, _MAX_MAIL, self._wanted, self._deliver, tls)
        self._mail.start()
        return settings.smtp_port

    def close(self) -> None:
        if self._mail is not None:
            self._mail.stop()
        for turn in self._turns.values():
            turn.stop.set()
        for turn in self._turns.values():
            if turn.consumer is not None:
                turn.consumer.join(10)

    def step(self) -> bool:
        """Poll each feed that is due. True when one has more to read at once."""
        rows = self._context.store.transaction(lambda c: store_feeds.list_feeds(c))
        busy = False
        for row in rows:
            turn = self._turns.setdefault(row.id, _Turn())
            if row.kind == "queue":
                self._tend_queue(row, turn)
            elif row.kind in ("log", "mailbox", "reports") and not row.paused and time.monotonic() >= turn.due:
                busy |= self._take_turn(row, turn)
        for id in self._turns.keys() - {row.id for row in rows}:
            self._turns.pop(id).stop.set()
        return busy

    def _take_turn(self, row: FeedRow, turn: _Turn) -> bool:
        try:
            more = self._read(row)
        except StoreError:
            raise
        except Exception as error:  # whatever it is, the other feeds go on
            if not isinstance(error, RustGaugeError | OSError):
                log.warning("feed_failed", feed=row.name, tenant=row.slug, error=repr(error), exc_info=error)
            turn.failures += 1
            turn.due = time.monotonic() + min(_LONGEST_PAUSE, 2.0**turn.failures)
            self._tell(row, str(error) or type(error).__name__)
            return False
        turn.failures = 0
        pause = 0.0 if more or row.kind == "log" else _MAILBOX_POLL
        turn.due = time.monotonic() + pause
        if row.error:
            self._tell(row, "")
        return more

    def _read(self, row: FeedRow) -> bool:
        """Read what is new; True when there is more at once. What comes by itself is not read here."""
        if row.kind == "log":
            return self._read_log(row)
        if row.kind == "mailbox" or row.source.get("path") or row.source.get("host"):
            return self._read_mailbox(row)
        return False

    def _tell(self, row: FeedRow, error: str) -> None:
        if row.error != error[:500]:
            log.info("feed_trouble", feed=row.name, tenant=row.slug, error=error)
            self._context.store.transaction(lambda c: store_feeds.update_feed(c, row.id, error=error[:500]))

    def _check_path(self, row: FeedRow) -> Path:
        path = str(row.source["path"])
        self._check_owner(row)
        if not self._context.settings.may_read(path):
            raise OSError(f"{path} may not be read: its directory is not in feed_folders of the service settings")
        return Path(path)

    def _check_owner(self, row: FeedRow) -> None:
        """OSError when what a feed reads is not its tenant's any more."""
        rows = self._context.store.transaction(assignments.list_assignments)
        for kind, value in used_by(row.kind, FeedSource.model_validate(row.source)):
            mine = [one.value for one in rows if one.kind == kind and one.tenant_id == row.tenant_id]
            if not any(ownership.covers(kind, owned, ownership.normal(kind, value)) for owned in mine):
                raise OSError(f"{value} is not assigned to this tenant; ask the owner of the installation")

    def _read_log(self, row: FeedRow) -> bool:
        piece = read_more(self._check_path(row), row.position)
        before = {key: value for key, value in row.position.items() if key != "open"}
        if piece.octets:
            receiving.take_log(self._context, row, piece.octets.decode("utf-8", "replace"), piece.position)
        elif piece.position != before:
            position = {**piece.position, "open": row.position.get("open", {})}
            self._context.store.transaction(lambda c: store_feeds.update_feed(c, row.id, position=position))
        return piece.more

    def _read_mailbox(self, row: FeedRow) -> bool:
        source = FeedSource.model_validate(row.source)
        if source.host:
            self._check_owner(row)
            password = decrypt(self._context.settings, row.password) if row.password else ""
            ca_file = str(self._context.settings.tls_ca_file or "")
            batch = read_imap(
                source.host, source.port, source.tls, source.user, password, source.folder, row.position, ca_file
            )
            if batch.messages:
                receiving.take_mail(self._context, row, batch.messages, batch.position)
            return batch.more
        path = self._check_path(row)
        if row.kind == "reports" and path.is_dir() and not (path / "new").is_dir():
            batch = read_folder(path, row.position)
            if batch.messages:
                receiving.take_mail(self._context, row, batch.messages, batch.position)
            return batch.more
        if path.is_dir():
            batch = read_maildir(path)
            if batch.messages:
                receiving.take_mail(self._context, row, batch.messages)
                mark_read(batch.files)
            return batch.more
        return self._read_mbox(row, path)

    def _read_mbox(self, row: FeedRow, path: Path) -> bool:
        """Whole messages of an mbox that grows: the last one is whole when nobody wrote for a while."""
        piece = read_more(path, row.position, _MAX_MAIL)
        raw, position = piece.octets, piece.position
        if position and time.time() - path.stat().st_mtime < _MBOX_QUIET:
            raw = raw[: max(0, raw.rfind(b"\n\nFrom ") + 2)] if b"\n\nFrom " in raw else b""
            position = {**position, "offset": position["offset"] - len(piece.octets) + len(raw)}
        if not raw:
            return False
        receiving.take_mail(self._context, row, [(octets, sent_to(octets)) for octets in split_mbox(raw)], position)
        return piece.more

    # Queues

    def _tend_queue(self, row: FeedRow, turn: _Turn) -> None:
        """Keep a consumer for each enabled queue; a new one when its settings changed."""
        settings = (row.source, row.password, row.paused)
        if turn.consumer is not None and (row.paused or turn.since != settings):
            turn.stop.set()
            if turn.consumer.is_alive():
                return
            turn.consumer = None
        if row.paused or (turn.consumer is not None and turn.consumer.is_alive()) or time.monotonic() < turn.due:
            return
        turn.since = settings
        turn.stop = threading.Event()
        turn.consumer = threading.Thread(target=self._consume, args=(row, turn), daemon=True, name=f"queue {row.name}")
        turn.consumer.start()

    def _consume(self, row: FeedRow, turn: _Turn) -> None:
        source = FeedSource.model_validate(row.source)
        password = decrypt(self._context.settings, row.password) if row.password else ""
        place = QueuePlace(
            source.host, source.port, source.tls, source.virtual_host, source.user, password, source.queue,
            str(self._context.settings.tls_ca_file or ""),
        )  # fmt: skip
        try:
            self._check_owner(row)
            consume(place, lambda bodies: self._take_bodies(row, turn, bodies), turn.stop)
        except Exception as error:  # whatever it was: said, and tried again later
            turn.failures += 1
            turn.due = time.monotonic() + min(_LONGEST_PAUSE, 2.0**turn.failures)
            try:
                self._tell(self._fresh(row), str(error))
            except StoreError as error:
                log.warning("store_unavailable", error=str(error))

    def _fresh(self, row: FeedRow) -> FeedRow:
        rows = self._context.store.transaction(lambda c: store_feeds.list_feeds(c, row.tenant_id, row.name))
        return rows[0] if rows else row

    def _take_bodies(self, row: FeedRow, turn: _Turn, bodies: Sequence[bytes]) -> list[bool]:
        """Store a batch; tells for each body whether it was JSON at all. Others go to the dead letters."""
        used: list[bool] = []
        lines: list[bytes] = []
        documents: list[tuple[int, Any]] = []
        row = self._fresh(row)
        for number, body in enumerate(bodies, 1):
            try:
                value = orjson.loads(body)
            except ValueError:
                used.append(False)
                continue
            used.append(True)
            for one in value if isinstance(value, list) else [value]:
                documents.append((number, one))
                lines.append(orjson.dumps(one))
        if documents and row.mapping is not None:
            receiving.take_documents(self._context, row, documents)
        elif documents:
            receiving.take_rows(self._context, row, rows_of([document for _, document in documents]))
        turn.failures = 0
        if row.error:
            self._tell(row, "")
        return used

    # Mail

    def _feeds_for(self, address: str) -> list[FeedRow]:
        """Mail feeds that take mail for this address: named itself, with a tag behind +, or by its domain."""
        at, rows, owned = self._addresses
        if time.monotonic() - at > _ADDRESSES_FOR:
            found = self._context.store.transaction(lambda c: store_feeds.list_feeds(c))
            rows = [row for row in found if row.kind in ("mail", "reports")]
            owned = self._context.store.transaction(lambda c: assignments.list_assignments(c, ownership.MAIL))
            self._addresses = (time.monotonic(), rows, owned)
        try:
            parsed = parse_address(address)
        except AddressError:
            return []
        local = parsed.local.lower()
        wanted = {f"@{parsed.domain}", f"{local}@{parsed.domain}", f"{local.partition('+')[0]}@{parsed.domain}"}
        mine = {row.tenant_id for row in owned if row.value in wanted}  # whoever it belongs to; nobody else gets it
        return [
            row
            for row in rows
            if not row.paused
            and row.tenant_id in mine
            and wanted & {address.lower() for address in row.source["addresses"]}
        ]

    def _is_unsubscribe(self, address: str) -> bool:
        mailbox = self._context.settings.unsubscribe_mailbox
        return bool(mailbox) and address.lower() == mailbox.lower()

    def _wanted(self, address: str) -> bool:
        if self._is_unsubscribe(address):
            return True
        return bool(self._feeds_for(address))

    def _deliver(self, recipients: list[str], raw: bytes) -> None:
        for recipient in recipients:
            if self._is_unsubscribe(recipient):
                take_mailto(self._context, raw)
                continue
            for row in self._feeds_for(recipient):
                receiving.take_mail(self._context, row, [(raw, recipient)])


def run_feeds(context: Context, stop: threading.Event) -> None:
    """Run feeds until `stop` is set, in one process of the installation at a time; others wait for their turn."""
    waits = False
    while not stop.is_set():
        try:
            lease = context.store.transaction(lambda c: leases.take(c, LEASE, context.clock()))
            waits = False
            _run(context, stop, lease)
        except LeaseHeld as error:
            if not waits:
                log.info("feeds_wait", error=str(error))
            waits = True
            stop.wait(2)
        except StoreError as error:
            log.warning("store_unavailable", error=str(error))
            stop.wait(2)
        except Exception as error:
            log.warning("feeds_stopped", error=repr(error))
            stop.wait(2)


def _run(context: Context, stop: threading.Event, lease: Lease) -> None:
    """Run feeds while the lease is ours. Each transaction checks it: two processes never move the same position."""
    store = context.store
    runner = Runner(replace(context, store=store.guarded(lambda c: leases.check(c, lease))))
    keep = threading.Thread(target=_keep_lease, args=(context, lease, runner.lost), daemon=True)
    try:
        port = runner.start_mail()
        log.info("feeds_run", smtp_port=port)
        keep.start()
        while not stop.is_set() and not runner.lost.is_set():
            if not runner.step():
                stop.wait(_POLL)
    finally:
        runner.lost.set()
        runner.close()
        store.transaction(lambda c: leases.release(c, lease))


def _keep_lease(context: Context, lease: Lease, lost: threading.Event) -> None:
    """Renew the lease while feeds run, however long one of them takes; `lost` is set when another process has it."""
    while not lost.wait(lease.length.total_seconds() / 3):
        try:
            context.store.transaction(lambda c: leases.renew(c, lease, context.clock()))
        except LeaseLost as error:
            log.warning("feeds_lost", error=str(error))
            lost.set()
        except StoreError as error:  # tried again; the checks hold meanwhile
            log.warning("store_unavailable", error=str(error))
