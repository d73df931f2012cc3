"""Verifiers of a tenant: adding, changing and trying them; what holds for all of them."""

from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.verification import (
    NewVerifier,
    VerdictRecord,
    VerificationSettings,
    Verifier,
    VerifierChange,
    VerifierDryRun,
    VerifierDryRunResult,
    VerifierSettings,
)
from rust_gauge.core.errors import AddressError, InputError
from rust_gauge.core.names import parse_address
from rust_gauge.core.verification.asking import read_answers
from rust_gauge.core.verification.record import record_of
from rust_gauge.core.verification.spending import from_micros, to_micros
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.runtime.secrets import decrypt, encrypt
from rust_gauge.service.verification.asking import Asked, ask_once, made_of
from rust_gauge.store import audits as store_settings
from rust_gauge.store import verification as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.verification import Spent, VerifierRow

_SETTING = "verification"
_MOST = 20  # verifiers of a tenant
_RECORD_OF = timedelta(days=180)
_SHOWN = 10_000  # characters of an answer
_STORED = ("request", "answer", "timeout")


def get_settings(context: Context, tenant_id: int) -> VerificationSettings:
    """Return what holds for all verifiers of a tenant."""
    document = context.store.transaction(lambda c: store_settings.get_setting(c, tenant_id, _SETTING))
    return VerificationSettings.model_validate(document or {})


def put_settings(context: Context, tenant: TenantAccess, settings: VerificationSettings) -> VerificationSettings:
    """Store what holds for all verifiers of a tenant."""
    now = context.clock()
    context.store.transaction(lambda c: store_settings.put_setting(c, tenant.id, _SETTING, settings.model_dump(), now))
    return settings


def list_verifiers(context: Context, tenant: TenantAccess) -> list[Verifier]:
    """Return verifiers in their order of preference, with what they cost and their records."""
    now = context.clock()

    def read(connection: Connection) -> list[Verifier]:
        rows = store.list_verifiers(connection, tenant.id)
        spent = store.spent_by(connection, [row.id for row in rows], now.date())
        counts = store.outcome_counts(connection, tenant.id, (now - _RECORD_OF).replace(tzinfo=None))
        return [_shown(place, row, spent[row.id], counts.get(row.id, [])) for place, row in enumerate(rows, 1)]

    return context.store.transaction(read)


def get_verifier(context: Context, tenant: TenantAccess, name: str) -> Verifier:
    """Return a verifier. ServiceProblem `not-found`."""
    rows = list_verifiers(context, tenant)
    found = next((row for row in rows if row.name == name), None)
    if found is None:
        raise unknown_name(tenant.name, "verifier", name, [row.name for row in rows], remedy="Add the verifier first")
    return found


def add_verifier(context: Context, tenant: TenantAccess, new: NewVerifier) -> Verifier:
    """Add a verifier behind those that are there. ServiceProblem for settings that cannot work."""
    _check(context, new)
    now = context.clock()

    def write(connection: Connection) -> None:
        there = store.list_verifiers(connection, tenant.id)
        if len(there) >= _MOST:
            raise ServiceProblem("too-large", f"{_MOST} verifiers exist, the limit", remedy="Delete some")
        store.add_verifier(
            connection, tenant_id=tenant.id, name=new.name, place=len(there) + 1, enabled=new.enabled,
            settings=new.model_dump(include=set(_STORED)), secret=encrypt(context.settings, new.secret),
            price=to_micros(new.price), budget_day=_micros(new.budget_day), budget_month=_micros(new.budget_month),
            problem="", problem_at=None, answered_at=None, created_at=now,
        )  # fmt: skip

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem(
            "already-there", f"The verifier {new.name} already exists", remedy="Choose another name"
        ) from None
    return get_verifier(context, tenant, new.name)


def update_verifier(context: Context, tenant: TenantAccess, name: str, change: VerifierChange) -> Verifier:
    """Change a verifier; what is left out stays. A `place` moves it, and those behind it make room."""
    given = change.model_dump(exclude_unset=True)
    row = _row(context, tenant, name)
    merged = VerifierSettings.model_validate({**_settings(row), **{k: v for k, v in given.items() if k in _FIELDS}})
    _check(context, merged)
    values: Any = {
        "settings": merged.model_dump(include=set(_STORED)), "price": to_micros(merged.price),
        "budget_day": _micros(merged.budget_day), "budget_month": _micros(merged.budget_month),
        "enabled": merged.enabled,
    }  # fmt: skip
    if change.secret is not None:
        values["secret"] = encrypt(context.settings, change.secret)

    def write(connection: Connection) -> None:
        store.update_verifier(connection, row.id, **values)
        if change.place is not None:
            others = [each.id for each in store.list_verifiers(connection, tenant.id) if each.id != row.id]
            others.insert(min(change.place - 1, len(others)), row.id)
            for place, id in enumerate(others, 1):
                store.update_verifier(connection, id, place=place)

    context.store.transaction(write)
    return get_verifier(context, tenant, name)


def delete_verifier(context: Context, tenant: TenantAccess, name: str) -> None:
    """Delete a verifier with its verdicts."""
    row = _row(context, tenant, name)
    context.store.transaction(lambda c: store.delete_verifier(c, row.id))


def try_verifier(context: Context, tenant: TenantAccess, trial: VerifierDryRun) -> VerifierDryRunResult:
    """Ask a verifier about one address, or read an answer that is given; nothing is stored or counted.

    An address that is asked about may cost what the verifier charges.
    """
    if trial.settings is not None:
        settings, secret = trial.settings, trial.secret
    else:
        row = _row(context, tenant, trial.name)
        settings = VerifierSettings.model_validate(_settings(row))
        secret = trial.secret or decrypt(context.settings, row.secret)
    made = _made(settings)
    address = trial.address or "someone@tidepost.example"
    if trial.answer:
        asked = Asked({}, trial.answer.encode(), "")
    else:
        try:
            address = str(parse_address(address))
        except AddressError as error:
            raise ServiceProblem("not-an-address", str(error), remedy=error.remedy) from None
        asked = ask_once(context, settings, made, secret, [address])
    text = asked.octets.decode("utf-8", "replace")[:_SHOWN]
    if asked.problem:
        return VerifierDryRunResult(answer=text, verdict=None, word="", detail="", problem=asked.problem)
    try:
        answers = read_answers(asked.octets, made.mapping, made.table, [address])
    except InputError as error:
        why = error.why or error.remedy
        return VerifierDryRunResult(answer=text, verdict=None, word="", detail="", problem=str(error), remedy=why)
    found = answers.get(address)
    if found is None:
        return VerifierDryRunResult(
            answer=text, verdict=None, word="", detail="", problem=f"The answer does not mention {address}"
        )
    return VerifierDryRunResult(
        answer=text, verdict=found.verdict.value, word=found.word, detail=found.detail, problem=""
    )


_FIELDS = frozenset(VerifierSettings.model_fields)


def _row(context: Context, tenant: TenantAccess, name: str) -> VerifierRow:
    rows = context.store.transaction(lambda c: store.list_verifiers(c, tenant.id))
    found = next((row for row in rows if row.name == name), None)
    if found is None:
        raise unknown_name(tenant.name, "verifier", name, [row.name for row in rows], remedy="Add the verifier first")
    return found


def _settings(row: VerifierRow) -> dict[str, Any]:
    return {
        **row.settings, "price": from_micros(row.price), "budget_day": _amount(row.budget_day),
        "budget_month": _amount(row.budget_month), "enabled": row.enabled,
    }  # fmt: skip


def _made(settings: VerifierSettings) -> Any:
    try:
        return made_of(settings)
    except InputError as error:
        raise _invalid(error.field, str(error), error.remedy or error.why) from None


def _check(context: Context, settings: VerifierSettings) -> None:
    """ServiceProblem for settings that cannot work."""
    _made(settings)
    problem = made_of(settings).refused(context)
    if problem is not None:
        raise _invalid("request.url", *problem)
    if settings.request.at_once > 1 and not made_of(settings).template.takes_many:
        raise _invalid("request.at_once", "One request takes several addresses only with {addresses} in its body",
                       "Leave at_once at 1")  # fmt: skip


def _invalid(field: str, what: str, remedy: str = "") -> ServiceProblem:
    return ServiceProblem(
        "invalid-request", what, remedy=remedy, errors=[ProblemError(field=field, what=what, remedy=remedy)]
    )


def _micros(amount: float | None) -> int | None:
    return None if amount is None else to_micros(amount)


def _amount(micros: int | None) -> float | None:
    return None if micros is None else from_micros(micros)


def _shown(place: int, row: VerifierRow, spent: Spent, counts: Any) -> Verifier:
    record = []
    for line in record_of(counts):
        low, high = line.interval or (None, None)
        record.append(
            VerdictRecord(
                verdict=line.verdict.value, given=line.given, mailed=line.mailed, invalid=line.invalid,
                share=line.share, low=low, high=high,
            )
        )  # fmt: skip
    stored: Mapping[str, Any] = row.settings
    return Verifier(
        name=row.name, place=place, enabled=row.enabled, request=stored["request"], answer=stored["answer"],
        timeout=stored["timeout"], price=from_micros(row.price), budget_day=_amount(row.budget_day),
        budget_month=_amount(row.budget_month), spent_today=from_micros(spent.today),
        spent_month=from_micros(spent.month), asked_today=spent.asked, failed_today=spent.failed, problem=row.problem,
        problem_at=row.problem_at, answered_at=row.answered_at, record=record, created_at=row.created_at,
    )  # fmt: skip
