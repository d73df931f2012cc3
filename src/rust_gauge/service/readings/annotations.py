"""The time axis: notes of people beside what happened to records, rates and providers."""

from collections import defaultdict
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.readings import Annotation, NewAnnotation
from rust_gauge.core.errors import DomainNameError
from rust_gauge.core.names import normalise_domain
from rust_gauge.core.shares import percent
from rust_gauge.service.providers.providers import Columns, columns_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import annotations, provider_norms, reading_counters
from rust_gauge.store import domains as store_domains
from rust_gauge.store import shifts as store_shifts
from rust_gauge.store import warmup as store_warmup
from rust_gauge.store.accounts import TenantAccess

_SHIFTED = {
    "permanent": "permanent bounces", "transient": "transient bounces", "delayed": "delays", "unwanted": "refusals",
    "complaints": "complaints",
}  # fmt: skip


_MOST_ANNOTATIONS = 5000  # of a tenant; every chart fetches those of its period


def annotations_of(
    connection: Connection, tenant: TenantAccess, first: date, last: date, domain: str | None, columns: Columns
) -> list[Annotation]:
    """Return what happened between two days: annotations, changed records, findings, shifts, outages, changed
    policies, new sending addresses and steps of warm-up plans.
    """
    found = [
        Annotation(
            day=row.day,
            kind=row.kind,
            text=row.text,
            domain=row.domain,
            by=row.made_by,
            id=row.id if row.kind == "annotation" else None,
        )
        for row in annotations.list_annotations(connection, tenant.id, first, last, domain)
    ]
    for happened in store_domains.history_between(connection, tenant.id, first, last, domain):
        kind: Any = "record" if happened.kind.startswith("record") else "finding"
        found.append(Annotation(day=happened.happened_at.date(), kind=kind, text=happened.title, domain=happened.name))
    for shift in store_shifts.list_shifts(connection, tenant.id, datetime.combine(first, datetime.min.time())):
        if first <= shift.began_at.date() <= last:
            where = columns.label(shift.subject_id) if shift.what == "provider" else ""
            at = f"at {where}" if where else f"through {shift.relay}"
            share = f"{percent(shift.count / shift.total, 1)}" if shift.total else ""
            text = f"{_SHIFTED[shift.rate]} {at} rose to {share}, usually {percent(shift.usual, 1)}"
            found.append(Annotation(day=shift.began_at.date(), kind="shift", text=text, provider=where))
    for of_day in provider_norms.provider_days(connection, first, columns.names):
        if of_day.day <= last and of_day.outage:
            label = columns.label(of_day.provider_id)
            text = f"{label} delayed {percent(of_day.outage, 0)} of all senders' mail (provider outage)"
            found.append(Annotation(day=of_day.day, kind="outage", text=text, provider=label))
    for address in reading_counters.new_addresses(connection, tenant.id, first, last):
        found.append(Annotation(day=address.day, kind="sending_ip", text=f"first mail from {address.name}"))
    found += _warmup_steps(connection, tenant.id, first, last, domain, columns)
    return sorted(found, key=lambda annotation: (annotation.day, annotation.kind, annotation.text))


def _warmup_steps(
    connection: Connection, tenant_id: int, first: date, last: date, domain: str | None, columns: Columns
) -> list[Annotation]:
    """Return the days on which warm-up plans went to other steps, all providers of a plan together."""
    together: dict[tuple[date, str, str], dict[int, list[str]]] = defaultdict(lambda: defaultdict(list))
    for row in store_warmup.steps_between(connection, tenant_id, first, last):
        if domain and row.domain and row.domain != domain:
            continue
        where = columns.label(row.provider_id) if row.provider_id else "others"
        back = " (back)" if row.before is not None and row.before > row.step else ""
        together[row.day, row.domain, row.plan][row.step].append(where + back)
    return [
        Annotation(
            day=day, kind="warmup_step", domain=of,
            text=f"warm-up {plan}: "
            + "; ".join(f"step {step + 1} at {', '.join(where)}" for step, where in sorted(steps.items())),
        )
        for (day, of, plan), steps in together.items()
    ]  # fmt: skip


def list_annotations(
    context: Context, tenant: TenantAccess, first: date | None, last: date | None, domain: str | None
) -> list[Annotation]:
    """All that happened in a period; the last ninety days without dates."""
    today = context.clock().date()
    last = last or today
    first = first or last - timedelta(days=89)

    def read(connection: Connection) -> list[Annotation]:
        columns = columns_of(connection, tenant.id, today)
        return annotations_of(connection, tenant, first, last, domain, columns)

    return context.store.transaction(read)


def add_annotation(context: Context, tenant: TenantAccess, new: NewAnnotation, by: str) -> Annotation:
    """Store an annotation."""
    domain = ""
    if new.domain:
        try:
            domain = normalise_domain(new.domain)
        except DomainNameError as error:
            raise ServiceProblem("not-a-domain", str(error), remedy=error.remedy) from None

    def write(connection: Connection) -> int:
        if (
            len(annotations.list_annotations(connection, tenant.id, date(2000, 1, 1), date(9999, 1, 1), None))
            >= _MOST_ANNOTATIONS
        ):
            raise ServiceProblem(
                "too-large", f"{_MOST_ANNOTATIONS:,} annotations exist, the limit", remedy="Delete some"
            )
        return annotations.add_annotation(
            connection,
            tenant_id=tenant.id,
            domain=domain,
            day=new.day,
            text=new.text,
            made_at=context.clock(),
            made_by=by,
        )

    id = context.store.transaction(write)
    return Annotation(day=new.day, kind="annotation", text=new.text, domain=domain, id=id, by=by)


def delete_annotation(context: Context, tenant: TenantAccess, id: int) -> None:
    if not context.store.transaction(lambda c: annotations.delete_annotation(c, tenant.id, id)):
        raise ServiceProblem("not-found", f"{tenant.name} has no annotation {id}")
