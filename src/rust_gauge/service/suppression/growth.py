"""How the suppression list grew, and what withholding avoided."""

from datetime import date, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.suppression import Growth, GrowthDay, GrowthPart, SavedRates
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.suppression import Reason
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.suppression.names import Names
from rust_gauge.store import flow as store_flow
from rust_gauge.store import suppression_numbers
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.suppression_numbers import CAME, LEFT, DayNumbers, NumbersBefore

_WOULD_BOUNCE = (Reason.INVALID_ADDRESS, Reason.DOMAIN_INVALID, Reason.REPEATED_BOUNCES)


def growth(context: Context, tenant: TenantAccess, first: date | None, last: date | None) -> Growth:
    """Return how the list grew; the last ninety days if no dates are given."""
    last = last or context.clock().date()
    first = first or last - timedelta(days=89)
    if first > last or (last - first).days > 1100:
        raise ServiceProblem("invalid-request", "first: the period must not exceed three years")
    dates = [first + timedelta(days=n) for n in range((last - first).days + 1)]

    def read(connection: Connection) -> Growth:
        names = Names(connection, tenant.id)
        rows = suppression_numbers.days(connection, tenant.id, first, last)
        before = suppression_numbers.standing_before(connection, tenant.id, first)
        flow = store_flow.sums(connection, tenant.id, first, last)
        parts: dict[str, dict[str, list[GrowthPart]]] = {}

        def line(what: str, key: str, label: str) -> list[GrowthPart]:
            group = parts.setdefault(what, {})
            return group.setdefault(
                key,
                [GrowthPart(name=key, label=label, added=0, removed=0, active=0, withheld=0, days=[0] * len(dates))],
            )

        def places(row: DayNumbers | NumbersBefore) -> list[GrowthPart]:
            reason = str(Reason.from_number(row.reason)) if row.reason else "elsewhere"
            provider = names.provider(row.provider_id)
            return [
                line("all", "all", "all")[0], line("reasons", reason, reason)[0],
                line("providers", provider, names.label(row.provider_id) or "not looked up")[0],
                line("streams", row.stream or "", row.stream or "no stream")[0],
            ]  # fmt: skip

        line("all", "all", "all")
        withheld_bad = 0
        withheld_days = [0] * len(dates)
        added_days, removed_days = [0] * len(dates), [0] * len(dates)
        for early in before:
            for part in places(early):
                part.active += early.n * (1 if early.what == CAME else -1)
        begins = {id(part): part.active for group in parts.values() for members in group.values() for part in members}
        for row in rows:
            index, n = (row.day - first).days, int(row.n)
            for part in places(row):
                if row.what == CAME:
                    part.added += n
                    part.days[index] += n
                elif row.what == LEFT:
                    part.removed += n
                    part.days[index] -= n
                else:
                    part.withheld += n
            if row.what == CAME:
                added_days[index] += n
            elif row.what == LEFT:
                removed_days[index] += n
            else:
                withheld_days[index] += n
                withheld_bad += n * (row.reason != 0 and Reason.from_number(row.reason) in _WOULD_BOUNCE)
        for group in parts.values():
            for (part,) in group.values():
                total = begins.get(id(part), 0)
                for index, change in enumerate(part.days):
                    total += change
                    part.days[index] = max(0, total)
                part.active = max(0, total)
        everything = parts["all"]["all"][0]
        days = [
            GrowthDay(day=day.isoformat(), added=added_days[n], removed=removed_days[n], active=everything.days[n],
                      withheld=withheld_days[n])
            for n, day in enumerate(dates)
        ]  # fmt: skip
        shown = {
            what: sorted(
                (part for (part,) in parts.get(what, {}).values()), key=lambda p: (-p.active - p.added, p.name)
            )
            for what in ("reasons", "providers", "streams")
        }
        sent = flow.get(Count.DELIVERED.number, 0) + flow.get(Count.BOUNCED.number, 0)
        sent -= flow.get(Count.RETURNED.number, 0)
        bounced = flow.get(Count.BOUNCED.number, 0)
        withheld = flow.get(Count.WITHHELD.number, 0)
        saved = SavedRates(
            sent=sent, bounced=bounced, complained=flow.get(Count.COMPLAINED.number, 0), withheld=withheld,
            withheld_bad=withheld_bad, bounce_rate=bounced / sent if sent else None,
            bounce_rate_without=(bounced + withheld_bad) / (sent + withheld) if sent + withheld else None,
        )  # fmt: skip
        return Growth(first=str(first), last=str(last), days=days, saved=saved, **shown)

    return context.store.transaction(read)
