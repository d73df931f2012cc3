"""The course of a plan: what each day allowed, what was sent and what came of it, and how its step came about."""

from datetime import date, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.warmup import WarmupDay, WarmupDays, WarmupReason
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.warmup.mail import MailDay, mail_days
from rust_gauge.service.warmup.plans import find, names_for, why_of
from rust_gauge.service.warmup.steps import ladder_of
from rust_gauge.store import warmup as store
from rust_gauge.store.accounts import TenantAccess

_LONGEST = 366  # days


def course_of(context: Context, tenant: TenantAccess, name: str, first: date | None, last: date | None) -> WarmupDays:
    """Return the days of a plan, all of them up to today if no period is named. ServiceProblem `not-found`."""
    today = context.clock().date()

    def read(connection: Connection) -> WarmupDays:
        plan = find(connection, tenant, name)
        until = min(last or today, today)
        since = max(first or plan.starts_on, plan.starts_on, until - timedelta(days=_LONGEST))
        if first is not None and last is not None and first > last:
            raise ServiceProblem("invalid-request", f"first: {first} is after last: {last}")
        rows = store.days_between(connection, plan.id, since, until)
        tracks = {track.provider_id for track in store.tracks_of(connection, [plan.id])[plan.id]}
        mail = mail_days(connection, plan, tracks, since, until) if since <= until else {}
        names = names_for(connection, tenant.id, sorted(tracks))
        days, last_step = [], len(ladder_of(plan).steps) - 1
        for row in rows:
            of = mail.get((row.provider_id, row.day), MailDay()).step_day(row.per_day)
            reasons = [WarmupReason.model_validate(each) for each in row.reasons]
            days.append(
                WarmupDay(
                    day=row.day, provider=names.name(row.provider_id), label=names.label(row.provider_id),
                    step=row.step + 1, per_day=row.per_day, sent=of.sent, deferred=of.deferred, refused=of.refused,
                    invalid=of.invalid, delivered=of.delivered, complaints=of.complaints, copies=of.copies,
                    aside=of.aside, turn=row.turn, why=why_of(row.turn, reasons, last=row.step == last_step),
                    decided_by=row.decided_by,
                )
            )  # fmt: skip
        return WarmupDays(plan=plan.name, first=since, last=max(since, until), days=days)

    return context.store.transaction(read)
