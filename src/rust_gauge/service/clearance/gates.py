"""Gates: an MTA asks about each recipient before it takes a message, and refuses those that are held.

Questions of many connections are looked up together: while one look-up is under way the others wait for the next.
What was refused is counted as withheld, a moment later and in one go.
"""

import hashlib
import secrets
import threading
import time
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

import structlog
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError, IntegrityError

from rust_gauge.contract.checks import Gate, MadeGate, NewGate
from rust_gauge.core.suppression.delegation import NOTHING, defer, refusal
from rust_gauge.core.suppression.delegation import Question as Asked
from rust_gauge.service.clearance.answers import LATER, PAUSED, Answer, Question
from rust_gauge.service.clearance.brake import Brake
from rust_gauge.service.clearance.clearance import Desk, withhold
from rust_gauge.service.providers.lookup import ProviderLookup, with_lookups
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store import gates as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.engine import StoreError, StoreUnavailable
from rust_gauge.store.gates import GateRow

log = structlog.get_logger()
_KNOWN_FOR = 5.0  # seconds that a gate's key is remembered
_MOST_GATES = 100  # for each tenant; one for an MTA and stream is usual
_USED_EVERY = timedelta(minutes=5)  # a write for each question would cost more than answering it


def add_gate(context: Context, tenant: TenantAccess, new: NewGate) -> MadeGate:
    """A gate; its key is in this answer only."""
    key, now = "rgg_" + secrets.token_urlsafe(24), context.clock()

    def write(connection: Connection) -> GateRow:
        if len(store.list_gates(connection, tenant.id)) >= _MOST_GATES:
            raise ServiceProblem("too-large", f"{_MOST_GATES} gates exist, the limit", remedy="Delete some")
        return store.add_gate(
            connection, tenant_id=tenant.id, name=new.name, digest=_digest(key), stream=new.stream, relay=new.relay,
            created_at=now,
        )  # fmt: skip

    try:
        row = context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem(
            "already-there", f"The gate {new.name} already exists", remedy="Choose another name"
        ) from None
    where = f"inet:{context.settings.policy_host}:{context.settings.policy_port or 'PORT'}"
    line = f"check_policy_service {{ {where}, timeout=10s, policy_context={key} }}"
    return MadeGate(key=key, line=line, **_show(row).model_dump())


def list_gates(context: Context, tenant: TenantAccess) -> list[Gate]:
    return [_show(row) for row in context.store.transaction(lambda c: store.list_gates(c, tenant.id))]


def delete_gate(context: Context, tenant: TenantAccess, id: int) -> None:
    """Its key is worthless within seconds."""
    if not context.store.transaction(lambda c: store.delete_gate(c, tenant.id, id)):
        raise ServiceProblem("not-found", f"{tenant.name} has no gate {id}")


def _show(row: GateRow) -> Gate:
    return Gate(
        id=row.id, name=row.name, stream=row.stream, relay=row.relay, created_at=row.created_at,
        last_used_at=row.last_used_at,
    )  # fmt: skip


def _digest(key: str) -> bytes:
    return hashlib.sha256(key.encode("utf-8", "surrogatepass")).digest()


@dataclass(slots=True)
class _Held:
    """Something to be counted."""

    tenant_id: int
    question: Question
    domain: str
    instance: str
    recipient: str
    reason: str


class Gatekeeper:
    """Answers questions of MTAs."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._gates: dict[str, tuple[float, GateRow | None]] = {}
        self._held: list[_Held] = []
        self._lock = threading.Lock()
        self._connection: Connection | None = None

    def answer(self, questions: Sequence[Asked]) -> list[bytes]:
        """An action for each. Never raises: while the database is away the MTA is asked to try again."""
        try:
            return self._answer(questions)
        except StoreError as error:
            log.warning("gate_trouble", error=str(error))
            return [defer("The suppression list is temporarily unavailable")] * len(questions)

    def _answer(self, questions: Sequence[Asked]) -> list[bytes]:
        out = [NOTHING] * len(questions)
        groups: dict[tuple[int, Question], list[int]] = defaultdict(list)
        for number, asked in enumerate(questions):
            if not asked.is_about_a_recipient:
                continue
            gate = self._gate(asked.context)
            if gate is None:
                out[number] = defer("Unknown gate: check policy_context")
                continue
            question = Question(gate.stream or None, asked.sender_domain or None, gate.relay or None)
            groups[gate.tenant_id, question].append(number)
        for (tenant_id, question), numbers in groups.items():
            texts = [questions[number].recipient for number in numbers]

            for number, clearance in zip(numbers, self._look_up(tenant_id, question, texts), strict=True):
                if clearance.reason == PAUSED or clearance.verdict == LATER:  # released by somebody, or by the clock
                    out[number] = defer(clearance.why[:300])
                elif clearance.verdict == "held" and clearance.reason != "no_address":
                    out[number] = refusal(f"{clearance.reason.replace('_', ' ')}: {clearance.why}")
                    asked = questions[number]
                    held = _Held(tenant_id, question, asked.sender_domain, asked.instance, asked.recipient,
                                 clearance.reason)  # fmt: skip
                    with self._lock:
                        self._held.append(held)
        return out

    def _look_up(self, tenant_id: int, question: Question, texts: list[str]) -> list[Answer]:
        """Over a connection of its own, without a transaction: each question is one look at what is committed."""
        for attempt in (1, 2):
            try:
                if self._connection is None:
                    plain = self._context.store.engine.execution_options(isolation_level="AUTOCOMMIT")
                    self._connection = plain.connect()
                return with_lookups(self._context, lambda lookup: self._answers(lookup, tenant_id, question, texts))
            except DBAPIError as error:
                connection, self._connection = self._connection, None
                if connection is not None:
                    connection.invalidate()
                if attempt == 2:
                    raise StoreUnavailable("The database is unavailable", why=type(error).__name__) from error
        raise AssertionError("the second attempt returns or raises")

    def _answers(
        self, lookup: ProviderLookup, tenant_id: int, question: Question, texts: Sequence[str]
    ) -> list[Answer]:
        context = self._context
        assert self._connection is not None
        unit = UnitOfWork(self._connection, tenant_id, context.clock(), "", context.settings, context.memory)
        answers = Desk(unit, lookup, question).answer(texts)
        brake = Brake(unit, lookup, question)
        answers = brake.hold_back(answers)
        if brake.is_on:
            context.unit(tenant_id, lambda unit: brake.count(unit, answers))
        return answers

    def _gate(self, key: str) -> GateRow | None:
        known = self._gates.get(key)
        if known is not None and time.monotonic() - known[0] < _KNOWN_FOR:
            return known[1]
        if len(self._gates) > 10_000:
            self._gates.clear()
        row = self._context.store.transaction(lambda c: store.find_gate(c, _digest(key)))
        self._gates[key] = (time.monotonic(), row)
        now = self._context.clock().replace(tzinfo=None)
        if row is not None and (row.last_used_at is None or now - row.last_used_at > _USED_EVERY):
            self._context.store.transaction(lambda c: store.note_use(c, row.id, now))
        return row

    def count(self) -> int:
        """Count what was refused since the last time as withheld. Returns how many."""
        with self._lock:
            held, self._held = self._held, []
        # Together, as each transaction costs more than all that it writes.
        groups: dict[tuple[int, Question, str], list[_Held]] = defaultdict(list)
        for one in held:
            groups[one.tenant_id, one.question, one.domain].append(one)
        count = 0
        for (tenant_id, question, domain), refused in groups.items():
            try:
                recipients = [(held.recipient, held.reason, held.instance[:255]) for held in refused]
                count += withhold(self._context, tenant_id, recipients, question, domain)
            except ServiceProblem as problem:  # no sender, as of a bounce: no domain to count it for
                log.info("not_counted", why=str(problem))
            except StoreError as error:
                log.warning("gate_trouble", error=str(error))
                with self._lock:
                    self._held += refused
        return count
