"""Asking one verifier: what it costs is reserved before the first question, and given back where no answer came."""

from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.verification import VerifierSettings
from rust_gauge.core.errors import InputError
from rust_gauge.core.mailflow.mapping import FieldRule, MappingError, Unwrap
from rust_gauge.core.mailflow.mapping import Mapping as RowMapping
from rust_gauge.core.verification.asking import Answer, Template, answer_mapping, read_answers
from rust_gauge.core.verification.spending import affordable
from rust_gauge.gateways.outgoing import Caller, OutgoingAddressError
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.secrets import decrypt
from rust_gauge.store import leases
from rust_gauge.store import verification as store
from rust_gauge.store.verification import VerifierRow

_AT_ONCE = 4  # requests to one verifier side by side
_MOST_OCTETS = 1024 * 1024  # of an answer
_MOST_FAILURES = 3  # one after another: it is down, and the rest is not asked


@dataclass(frozen=True, slots=True)
class Made:
    """Settings of a verifier as the core uses them."""

    template: Template
    mapping: RowMapping
    table: Mapping[str, Any] | None

    def refused(self, context: Context) -> tuple[str, str] | None:
        """Return why its address can never be called, and what to do; None where it can."""
        try:
            caller_for(context, 10).check(self.template.fill(["someone@tidepost.example"], "").url)
        except OutgoingAddressError as error:
            return str(error), error.remedy
        return None


@dataclass(frozen=True, slots=True)
class Asked:
    """What came of a question: answers by address, the answer as it came, and what went wrong."""

    answers: Mapping[str, Answer]
    octets: bytes
    problem: str


def made_of(settings: VerifierSettings) -> Made:
    """Return settings as the core uses them. InputError for what cannot work."""
    request, answer = settings.request, settings.answer
    template = Template(
        request.method, request.url, tuple((each.name, each.value) for each in request.headers), request.body
    )
    try:
        fields = {name: FieldRule(**source.model_dump()) for name, source in answer.fields.items()}
        unwrap = [Unwrap(step.at, step.form) for step in answer.unwrap]
    except MappingError as error:
        raise InputError(str(error), remedy=error.remedy, field="answer") from None
    mapping = answer_mapping(fields, unwrap, answer.rows, answer.each, many=template.takes_many)
    return Made(template, mapping, fields["verdict"].table)


def caller_for(context: Context, timeout: float) -> Caller:
    """Return what carries out requests to verifiers."""
    settings = context.settings
    return Caller(
        frozenset(settings.verifier_hosts), context.resolver.reach, "verifier_hosts", str(settings.tls_ca_file or ""),
        timeout,
    )  # fmt: skip


def ask_once(context: Context, settings: VerifierSettings, made: Made, secret: str, addresses: Sequence[str]) -> Asked:
    """Send one request. Never raises."""
    request = made.template.fill(addresses, secret)
    found = caller_for(context, settings.timeout).send(
        request.method, request.url, dict(request.headers), request.body, context.resolver.answer_all, _MOST_OCTETS
    )
    if found.status == 0:
        return Asked({}, b"", found.problem)
    if not 200 <= found.status < 300:
        said = found.octets[:200].decode("utf-8", "replace").strip()
        return Asked({}, found.octets, f"It answered {found.status} {said}".strip())
    return Asked({}, found.octets, "")


def ask(context: Context, row: VerifierRow, addresses: Sequence[str]) -> tuple[dict[str, Answer], int]:
    """Ask a verifier about addresses, as many as its budget allows. Return the answers, and how many it allowed."""
    settings = VerifierSettings.model_validate(
        {**row.settings, "price": 0, "budget_day": None, "budget_month": None, "enabled": row.enabled}
    )
    try:
        made, secret = made_of(settings), decrypt(context.settings, row.secret)
    except InputError as error:
        _note(context, row.id, str(error))
        return {}, 0
    now = context.clock()
    allowed = context.store.transaction(lambda c: _reserve(c, row, len(addresses), now))
    answers: dict[str, Answer] = {}
    problem = ""
    for asked in _in_turn(context, settings, made, secret, addresses[:allowed]):
        answers |= asked.answers
        problem = asked.problem or problem
    failed = allowed - len(answers)
    if failed:
        context.store.transaction(lambda c: store.give_back(c, row.id, now.date(), failed, failed * row.price))
    if answers:
        context.store.transaction(lambda c: store.update_verifier(c, row.id, answered_at=now, problem=problem))
    elif problem:
        _note(context, row.id, problem)
    return answers, allowed


def _in_turn(
    context: Context, settings: VerifierSettings, made: Made, secret: str, addresses: Sequence[str]
) -> Iterator[Asked]:
    """Yield what came of each request, a few side by side. One that does not answer again and again is left alone."""
    size = settings.request.at_once if made.template.takes_many else 1
    batches = [addresses[start : start + size] for start in range(0, len(addresses), size)]

    def one(batch: Sequence[str]) -> Asked:
        asked = ask_once(context, settings, made, secret, batch)
        if asked.problem:
            return asked
        try:
            return Asked(read_answers(asked.octets, made.mapping, made.table, batch), asked.octets, "")
        except InputError as error:
            return Asked({}, asked.octets, str(error))

    failures = 0
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        for start in range(0, len(batches), _AT_ONCE):
            for asked in pool.map(one, batches[start : start + _AT_ONCE]):
                failures = failures + 1 if asked.problem else 0
                yield asked
            if failures >= _MOST_FAILURES:
                return


def _reserve(connection: Connection, row: VerifierRow, wanted: int, now: datetime) -> int:
    """Reserve what as many checks cost as the budget allows; return how many. Nobody else counts meanwhile."""
    leases.lock(connection, f"verifier {row.id}")
    spent = store.spent_by(connection, [row.id], now.date())[row.id]
    allowed = affordable(
        wanted, row.price, spent_today=spent.today, spent_month=spent.month, per_day=row.budget_day,
        per_month=row.budget_month,
    )  # fmt: skip
    if allowed:
        store.add_spent(connection, row.id, now.date(), allowed, allowed * row.price)
    return allowed


def _note(context: Context, id: int, problem: str) -> None:
    now = context.clock()
    context.store.transaction(lambda c: store.update_verifier(c, id, problem=problem[:500], problem_at=now))
