"""The bench's listeners at work: who signs in, where mail goes, how a difficult receiver answers, and catching."""

import hashlib
import hmac
import threading
from dataclasses import dataclass
from datetime import UTC, timedelta

import structlog

from rust_gauge.core.bench import Answer, answer_for
from rust_gauge.core.bench.receiver import Does
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address
from rust_gauge.core.placement.copies import MAX_COPIED
from rust_gauge.gateways.bench_in import BenchIn, Delivery, Place
from rust_gauge.service.bench.catching import Arrival, catch
from rust_gauge.service.bench.certificate import tls_context
from rust_gauge.service.bench.conversations import conversation_of
from rust_gauge.service.bench.reports import LOCAL_PART, MAX_REPORTED, Limits, answer
from rust_gauge.service.bench.trays import digest_of, rules_of
from rust_gauge.service.placement import schedules, starting
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import trays
from rust_gauge.store.engine import StoreError
from rust_gauge.store.placement import RunRow
from rust_gauge.store.placement_schedules import ScheduleRow
from rust_gauge.store.trays import TrayRow

log = structlog.get_logger()
_RETRY = 5.0  # seconds until a port that is taken is tried again


class Desk:
    """What the listeners ask (`gateways.bench_in.Bench`)."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._limits = Limits()

    def sign_in(self, user: str, password: str) -> Place | None:
        """Return the tray of a user; None when user and password do not match."""
        row = self._context.store.transaction(lambda c: trays.tray_by_user(c, user[:60]))
        known = bytes(32) if row is None else bytes(row.password_digest)
        matches = hmac.compare_digest(known, digest_of(password))
        return _place(row) if row is not None and matches else None

    def place_of(self, address: str) -> Place | None:
        """Return the tray whose address this is (a tag behind + is ignored), or the address for reports."""
        try:
            parsed = parse_address(address)
        except AddressError:
            return None
        if str(parsed.domain) != self._context.settings.bench_domain:
            return None
        key, _, tag = parsed.local.lower().partition("+")
        if key == LOCAL_PART and not tag:
            return Place(ReportKey(None), MAX_REPORTED)
        run = starting.run_for(self._context, key)
        if run is not None:
            return Place(RunKey(run), MAX_COPIED)
        schedule = schedules.schedule_for(self._context, key)
        if schedule is not None:
            return Place(ScheduleKey(schedule), MAX_COPIED)
        wanted = tag if key == LOCAL_PART else key  # report+KEY is answered, and caught in the tray as well
        row = self._context.store.transaction(lambda c: trays.tray_by_key(c, wanted[:60]))
        if row is None:
            return None
        return Place(ReportKey(row), min(row.max_bytes, MAX_REPORTED)) if key == LOCAL_PART else _place(row)

    def answer(self, place: Place, client_ip: str, mail_from: str, recipient: str) -> Answer:
        """Return what the tray's rules say about a recipient. A greylisted one is accepted when its time has come."""
        row = place.key
        if not isinstance(row, TrayKey):
            return Answer(Does.ACCEPT)
        answer = answer_for(rules_of(row.row), recipient)
        if answer.does is not Does.GREYLIST:
            return answer
        now = self._context.clock()
        attempt = "\n".join((client_ip, mail_from.lower(), recipient.lower())).encode("utf-8", "replace")
        digest = hashlib.blake2b(attempt, digest_size=16).digest()
        first = self._context.store.transaction(lambda c: trays.first_attempt(c, row.row.id, digest, now))
        waited = now - first.replace(tzinfo=UTC)
        return Answer(Does.ACCEPT) if waited >= timedelta(seconds=answer.seconds) else answer

    def take(self, delivery: Delivery) -> str:
        """Catch a message; return the reply."""
        key = delivery.place.key
        if isinstance(key, ReportKey):
            return answer(self._context, delivery, key.row, self._limits)
        if isinstance(key, RunKey):
            return _begin(self._context, key.row, delivery.raw)
        if isinstance(key, ScheduleKey):
            return _replace(self._context, key.row, delivery.raw)
        if not isinstance(key, TrayKey):
            return "550 5.1.1 Nobody takes this message"
        via = "smtp" if delivery.authenticated else "address"
        reply = f"250 2.0.0 Caught in {key.row.name}"
        arrival = Arrival(via, delivery.mail_from, delivery.recipients, conversation_of(delivery, reply))
        try:
            catch(self._context, key.row, delivery.raw, arrival)
        except ServiceProblem as problem:
            return f"552 5.3.4 {problem}".encode("ascii", "replace").decode()
        return reply


@dataclass(frozen=True)
class ReportKey:
    """The address for reports as a place; with a tray that also catches what is answered."""

    row: TrayRow | None

    def __hash__(self) -> int:
        return hash(self.row.id if self.row else 0)


@dataclass(frozen=True)
class RunKey:
    """The one-time address of a placement run as a place."""

    row: RunRow

    def __hash__(self) -> int:
        return hash(("run", self.row.id))


@dataclass(frozen=True)
class ScheduleKey:
    """The address of a placement schedule as a place."""

    row: ScheduleRow

    def __hash__(self) -> int:
        return hash(("schedule", self.row.id))


class TrayKey:
    """A tray as a place where mail goes; two are the same when their trays are."""

    def __init__(self, row: TrayRow) -> None:
        self.row = row

    def __hash__(self) -> int:
        return hash(self.row.id)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, TrayKey) and other.row.id == self.row.id


def _begin(context: Context, run: RunRow, raw: bytes) -> str:
    try:
        starting.take_message(context, run, raw)
    except ServiceProblem as problem:
        return f"554 5.6.0 {problem}".encode("ascii", "replace").decode()
    return f"250 2.0.0 Copies of run {run.id} are being sent"


def _replace(context: Context, schedule: ScheduleRow, raw: bytes) -> str:
    try:
        schedules.take_message(context, schedule, raw)
    except ServiceProblem as problem:
        return f"554 5.6.0 {problem}".encode("ascii", "replace").decode()
    return f"250 2.0.0 The schedule {schedule.name} copies this message from now on"


def _place(row: TrayRow) -> Place:
    return Place(TrayKey(row), row.max_bytes)


def run_bench(context: Context, stop: threading.Event) -> None:
    """Listen until `stop` is set. A port that is taken and a database that is away are waited for."""
    settings = context.settings
    while not stop.is_set():
        try:
            tls = tls_context(context)
            listeners = BenchIn(
                settings.bench_host,
                settings.bench_port,
                settings.bench_tls_port,
                settings.bench_name,
                Desk(context),
                tls,
            )
            listeners.start()
        except (OSError, StoreError) as error:
            log.warning("bench_not_listening", error=str(error))
            stop.wait(_RETRY)
            continue
        log.info("bench_listens", port=settings.bench_port, tls_port=settings.bench_tls_port)
        stop.wait()
        listeners.stop()
