"""Checks with verifiers: own checks first, verdicts that were paid for before, and only then new questions."""

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from random import Random

from rust_gauge.contract.checks import AddressCheck, AddressCheckRequest
from rust_gauge.contract.verification import VerificationSettings
from rust_gauge.core.names import address_key
from rust_gauge.core.suppression.checks import Check, Found, Verdict, Weight, verdict_of
from rust_gauge.core.verification.asking import Answer
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.suppression.address_checks import own_checks, shown
from rust_gauge.service.suppression.policy import matchings_of
from rust_gauge.service.verification.asking import ask
from rust_gauge.service.verification.verifiers import get_settings
from rust_gauge.store import verification as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.verification import VerdictRow, VerifierRow

_WEIGHTS = {
    Verdict.GOOD: Weight.FOR, Verdict.DOUBTFUL: Weight.DOUBT, Verdict.BAD: Weight.AGAINST, Verdict.UNKNOWN: Weight.OPEN,
}  # fmt: skip
_SLICE = 100  # addresses between two signs of life
OPEN_WORD = "not_verified"  # no verifier was asked, or none answered
OWN, REUSED, PAID, UNPAID = "own", "reused", "paid", "unpaid"


@dataclass(slots=True)
class _Round:
    """What is known of the addresses of one call while verifiers are asked."""

    keys: dict[str, bytes]  # by address
    verdicts: dict[str, list[VerdictRow]] = field(default_factory=dict)

    def is_decided(self, address: str, *, unknown_counts: bool) -> bool:
        """Return whether no further verifier has to be asked."""
        found = self.verdicts.get(address, [])
        return any(unknown_counts or row.verdict is not Verdict.UNKNOWN for row in found)


def check(context: Context, tenant: TenantAccess, request: AddressCheckRequest) -> list[AddressCheck]:
    """Check addresses, in their order, with what costs nothing and then with verifiers."""
    return shown(context, verify(context, tenant.id, own_checks(context, tenant, request)))


def _nothing() -> None:
    """Nobody waits for a sign of life."""


def verify(
    context: Context, tenant_id: int, checks: Sequence[Check], alive: Callable[[], None] = _nothing
) -> list[Check]:
    """Return checks with what verifiers say of those that own checks leave open; the others cost nothing. `alive` is
    called now and then while verifiers are asked.

    Own checks decide what is bad, and what mail was delivered to lately. What a verifier said within the time for
    which verdicts are used again is not paid for twice.
    """
    settings = get_settings(context, tenant_id)
    verifiers = [row for row in context.store.transaction(lambda c: store.list_verifiers(c, tenant_id)) if row.enabled]
    if not verifiers:
        return list(checks)
    open_ones = [check for check in checks if _is_open(check)]
    now = context.clock()
    keys = {str(check.address): address_key(check.address) for check in open_ones if check.address is not None}
    since = now - timedelta(days=settings.reuse_days)
    known = context.store.transaction(
        lambda c: store.verdicts_on(c, tenant_id, set(keys.values()), since.replace(tzinfo=None))
    )
    names = {row.id: row.name for row in verifiers}
    here = _Round(keys, {text: rows for text, key in keys.items() if (rows := _usable(known.get(key, []), names))})
    reused = set(here.verdicts)
    paid = _ask_all(context, tenant_id, settings, verifiers, here, alive)
    counts = Counter({OWN: len(checks) - len(open_ones)})
    out = []
    for check in checks:
        text = str(check.address)
        if check.address is None or text not in keys:
            out.append(check)
            continue
        rows = here.verdicts.get(text, [])
        counts[PAID if text in paid else REUSED if text in reused else UNPAID] += 1
        out.append(_with(check, rows, names))
    saved = (counts[OWN] + counts[REUSED]) * verifiers[0].price
    context.store.transaction(lambda c: store.count_decided(c, tenant_id, now.date(), counts, saved))
    return out


def _is_open(check: Check) -> bool:
    """Return whether own checks leave open if an address exists. What mail was delivered to does."""
    if check.address is None or check.verdict is Verdict.BAD:
        return False
    return not any(found.word in ("delivered", "taken") and found.weight is Weight.FOR for found in check.found)


def _usable(rows: Sequence[VerdictRow], names: Mapping[int, str]) -> list[VerdictRow]:
    return [row for row in rows if row.verifier_id in names]


def _ask_all(
    context: Context, tenant_id: int, settings: VerificationSettings, verifiers: Sequence[VerifierRow], here: _Round,
    alive: Callable[[], None],
) -> set[str]:  # fmt: skip
    """Ask verifiers in their order about what is not decided; return the addresses that were paid for now."""
    paid: set[str] = set()
    hidden = context.unit(tenant_id, lambda unit: bool(matchings_of(unit)[0].secret))
    compared: set[str] = set()
    for place, row in enumerate(verifiers):
        asked_before = {text for text, rows in here.verdicts.items() if any(r.verifier_id == row.id for r in rows)}
        wanted = [
            text
            for text in here.keys
            if text not in asked_before
            and (
                text in compared
                or not here.is_decided(text, unknown_counts=not (settings.ask_next_if_unknown and place > 0))
            )
        ]
        answered: set[str] = set()
        for start in range(0, len(wanted), _SLICE):
            part = wanted[start : start + _SLICE]
            answers, allowed = ask(context, row, part)
            now = context.clock()
            rows = [_row(here, row, text, answer, now, hidden=hidden) for text, answer in answers.items()]
            # Kept at once: what was paid for is not asked again, whatever happens to the rest.
            context.store.transaction(lambda c, rows=rows: store.put_verdicts(c, tenant_id, rows))  # type: ignore[misc]
            for found, text in zip(rows, answers, strict=True):
                here.verdicts.setdefault(text, []).append(found)
            answered |= answers.keys()
            alive()
            if allowed < len(part) or not answers:  # its budget is used up, or it does not answer
                break
        paid |= answered
        compared = {text for text in answered if _is_compared(text, context.clock().date(), settings.cross_check)}
    return paid


def _row(here: _Round, row: VerifierRow, text: str, answer: Answer, now: datetime, *, hidden: bool) -> VerdictRow:
    return VerdictRow(
        here.keys[text], row.id, "" if hidden else text, answer.verdict, answer.word, answer.detail, row.price,
        now.replace(tzinfo=None), None, None,
    )  # fmt: skip


def _is_compared(text: str, day: date, share: float) -> bool:
    """Return whether the next verifier is asked as well: by chance, the same for an address on a day."""
    return share > 0 and Random(f"{day} {text}").random() < share  # noqa: S311 - a sample, not a secret


def _with(check: Check, rows: Sequence[VerdictRow], names: Mapping[int, str]) -> Check:
    """Return a check with what verifiers said, or that none did."""
    found = [
        Found(
            "verifier", _WEIGHTS[row.verdict],
            f"{names[row.verifier_id]} said {row.verdict} on {row.asked_at:%Y-%m-%d}"
            + (f" ({row.detail or row.word})" if row.detail or row.word not in ("", str(row.verdict)) else ""),
        )
        for row in rows
    ] or [Found(OPEN_WORD, Weight.OPEN, "no verifier was asked: budgets are used up, or none answered")]  # fmt: skip
    if any(row.verdict is not Verdict.UNKNOWN for row in rows):  # who knows nothing takes nothing from one that does
        found = [each for each in found if each.weight is not Weight.OPEN]
    every = (*check.found, *found)
    return Check(check.text, check.address, verdict_of(every), every, check.suggestion)
