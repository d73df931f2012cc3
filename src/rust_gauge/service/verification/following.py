"""What became of mail after verdicts, what was spent and saved, and what verdicts contradict."""

from collections import defaultdict
from datetime import UTC, date, datetime, timedelta

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.verification import Disagreement, GaugeDay, VerdictNote, VerificationGauge
from rust_gauge.core.mailflow import Kind
from rust_gauge.core.replies import Permanence
from rust_gauge.core.replies.causes import ADDRESS_CAUSES
from rust_gauge.core.verification.record import Outcome
from rust_gauge.core.verification.spending import from_micros
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.verification.verifiers import get_settings
from rust_gauge.store import holding, jobs
from rust_gauge.store import verification as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.holding import Recipient
from rust_gauge.store.jobs import Job
from rust_gauge.store.verification import VerdictRow

log = structlog.get_logger()
KIND = "verdicts"
_FOLLOWED = timedelta(days=60)  # for which mail after a verdict is looked for
_KEPT = timedelta(days=400)
_PIECE = 2_000
_KINDS = (Kind.DELIVERED, Kind.BOUNCED)
_SHOWN_OF = timedelta(days=180)
_MOST = 500  # disagreements that are listed


def ask_for_due(context: Context) -> None:
    """Once a day: look what became of mail to addresses with verdicts."""
    today = context.clock().date()
    if context.memory.get(KIND) == today:
        return
    context.memory[KIND] = today
    now = context.clock()
    since = (now - _FOLLOWED).replace(tzinfo=None)

    def write(connection: Connection) -> None:
        for tenant_id in store.tenants_with_open(connection, since):
            jobs.enqueue(connection, KIND, tenant_id, 0, now)
        store.forget_verdicts(connection, (now - _KEPT).replace(tzinfo=None))
        store.forget_recipients(connection, (now - _KEPT).replace(tzinfo=None))

    context.store.transaction(write)


def run_following(context: Context, job: Job) -> None:
    """The job."""
    log.info("verdicts_followed", tenant=job.tenant_id, found=follow(context, job.tenant_id))


def follow(context: Context, tenant_id: int) -> int:
    """Look for the first mail after each verdict that is open; return for how many it was found."""
    since, after, count = (context.clock() - _FOLLOWED).replace(tzinfo=None), b"", 0
    while True:
        rows = context.store.transaction(
            lambda c, after=after: store.open_verdicts(c, tenant_id, since, after, _PIECE)  # type: ignore[misc]
        )
        if not rows:
            return count
        after = rows[-1].address_key
        count += context.store.transaction(lambda c, rows=rows: _follow(c, tenant_id, rows))  # type: ignore[misc]


def _follow(connection: Connection, tenant_id: int, rows: list[VerdictRow]) -> int:
    oldest = min(row.asked_at for row in rows).replace(tzinfo=UTC)
    keys = sorted({row.address_key for row in rows})
    events = holding.histories(connection, tenant_id, keys, oldest, _KINDS)
    found = []
    for row in rows:
        recipient = events.get(row.address_key)
        outcome = None if recipient is None else _outcome(recipient, row.asked_at.replace(tzinfo=UTC))
        if outcome is not None:
            found.append((row.address_key, row.verifier_id, outcome[0], outcome[1].replace(tzinfo=None)))
    store.set_outcomes(connection, tenant_id, found)
    return len(found)


def _outcome(recipient: Recipient, asked_at: datetime) -> tuple[Outcome, datetime] | None:
    """Return what the first mail after a question showed. A bounce for another reason says nothing of the address."""
    for event in sorted(recipient.events, key=lambda each: each.at):
        if event.at < asked_at:
            continue
        if event.kind is Kind.DELIVERED:
            return Outcome.DELIVERED, event.at
        if event.cause in ADDRESS_CAUSES and event.permanence is Permanence.PERMANENT:
            return Outcome.INVALID, event.at
    return None


def gauge(context: Context, tenant: TenantAccess, days: int) -> VerificationGauge:
    """Return how addresses were decided in so many days up to today, and what that cost and saved."""
    last = context.clock().date()
    first = last - timedelta(days=days - 1)
    settings = get_settings(context, tenant.id)

    def read(connection: Connection) -> tuple[dict[date, int], dict[date, store.GaugeRow]]:
        rows = store.gauge_days(connection, tenant.id, first, last)
        return store.spent_days(connection, tenant.id, first, last), {row.day: row for row in rows}

    spent, rows = context.store.transaction(read)
    shown = []
    for day in sorted({*spent, *rows}):
        row = rows.get(day, store.GaugeRow(day, 0, 0, 0, 0, 0))
        shown.append(
            GaugeDay(
                day=day, own=row.own, reused=row.reused, paid=row.paid, unpaid=row.unpaid,
                spent=from_micros(spent.get(day, 0)), saved=from_micros(row.saved),
            )
        )  # fmt: skip
    return VerificationGauge(
        first=first, last=last, currency=settings.currency, own=sum(each.own for each in shown),
        reused=sum(each.reused for each in shown), paid=sum(each.paid for each in shown),
        unpaid=sum(each.unpaid for each in shown), spent=round(sum(each.spent for each in shown), 6),
        saved=round(sum(each.saved for each in shown), 6), days=shown,
    )  # fmt: skip


def disagreements(context: Context, tenant: TenantAccess) -> list[Disagreement]:
    """Return addresses about which verifiers contradict each other or the mail that went there, newest first."""
    since = context.clock() - _SHOWN_OF

    def read(connection: Connection) -> tuple[list[VerdictRow], dict[int, str]]:
        names = {row.id: row.name for row in store.list_verifiers(connection, tenant.id)}
        return store.contradicted(connection, tenant.id, since, _MOST), names

    rows, names = context.store.transaction(read)
    by_key: dict[bytes, list[VerdictRow]] = defaultdict(list)
    for row in rows:
        by_key[row.address_key].append(row)
    return [_shown(those, names) for those in by_key.values()]


def _shown(rows: list[VerdictRow], names: dict[int, str]) -> Disagreement:
    with_outcome = next((row for row in rows if row.outcome is not None), None)
    notes = [
        VerdictNote(
            verifier=names.get(row.verifier_id, ""), verdict=row.verdict.value, word=row.word, detail=row.detail,
            asked_at=row.asked_at,
        )
        for row in sorted(rows, key=lambda row: row.asked_at)
    ]  # fmt: skip
    said = ", ".join(f"{note.verifier} said {note.verdict}" for note in notes)
    became = ""
    if with_outcome is not None and with_outcome.outcome_at is not None:
        what = "mail was delivered" if with_outcome.outcome is Outcome.DELIVERED else "mail bounced: no such address"
        became = f"; {what} on {with_outcome.outcome_at:%Y-%m-%d}"
    return Disagreement(
        address=rows[0].address or f"#{rows[0].address_key.hex()}", verdicts=notes,
        outcome=with_outcome.outcome.value if with_outcome is not None and with_outcome.outcome is not None else None,
        outcome_at=with_outcome.outcome_at if with_outcome is not None else None, text=f"{said}{became}",
    )  # fmt: skip
