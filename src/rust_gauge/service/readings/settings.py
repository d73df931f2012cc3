"""The parameters of a tenant's readings. A change computes the past again, as a job that shows old beside new."""

from functools import partial
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.readings import (
    FactorShown,
    ReadingChange,
    ReadingChanges,
    ReadingSettings,
    ReadingSettingsView,
)
from rust_gauge.core.reputation import FACTORS, NO_VALUE, Factor, FactorError, factors_with
from rust_gauge.service.readings import computation as readings
from rust_gauge.service.readings.computation import SETTING, factors_of
from rust_gauge.service.readings.examination import UNITS
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import annotations, jobs, leases
from rust_gauge.store import audits as store_settings
from rust_gauge.store import readings as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

CHANGE = "reading_change"
"""The setting that holds what the last recomputation did. Without `after` it is still to be done: an upgrade that
changed the arithmetic leaves the readings of before there.
"""
_SET = ("watch", "stop", "weight", "half_life", "quick", "usual", "worth")


def get_settings(context: Context, tenant: TenantAccess) -> ReadingSettingsView:
    def read(connection: Connection) -> tuple[Any, tuple[Factor, ...], ReadingChanges | None]:
        document = store_settings.get_setting(connection, tenant.id, SETTING)
        return document, factors_of(connection, tenant.id), _last_change(connection, tenant.id)

    document, factors, last_change = context.store.transaction(read)
    default = {factor.name: factor for factor in FACTORS}
    shown = [
        FactorShown(
            name=factor.name, unit=UNITS[factor.kind],
            **{name: getattr(factor, name) for name in _SET},
            changed=[name for name in _SET if getattr(factor, name) != getattr(default[factor.name], name)],
        )
        for factor in factors
    ]  # fmt: skip
    if document is None:
        return ReadingSettingsView(settings=ReadingSettings(), factors=shown, last_change=last_change)
    return ReadingSettingsView(
        settings=ReadingSettings.model_validate({"factors": document["factors"]}), factors=shown,
        changed_at=document["changed_at"], changed_by=document["changed_by"], last_change=last_change,
    )  # fmt: skip


def _last_change(connection: Connection, tenant_id: int) -> ReadingChanges | None:
    """Return what the last recomputation did; None if there was none, or it is not done yet."""
    document = store_settings.get_setting(connection, tenant_id, CHANGE)
    if document is None or "after" not in document:
        return None
    before, after = document["before"], document["after"]
    names = sorted(before.keys() | after.keys())
    changes = [ReadingChange(name=name, before=before.get(name), after=after.get(name)) for name in names]
    return ReadingChanges(why=document["why"], at=document["at"], changes=changes)


def ask_after_upgrades(context: Context) -> int:
    """Add the job that computes readings again where an upgrade changed the arithmetic. Returns how many tenants."""
    now = context.clock()

    def write(connection: Connection) -> int:
        leases.lock(connection, "reading change")  # every process asks
        count = 0
        for tenant_id, document in store_settings.all_settings(connection, CHANGE).items():
            if "after" in document or document.get("asked"):
                continue
            store_settings.put_setting(connection, tenant_id, CHANGE, {**document, "asked": True}, now)
            jobs.add(
                connection, "recompute", tenant_id, now, name="recompute readings: the arithmetic changed",
                request={"why": "arithmetic", "before": document["before"]}, created_by="",
            )  # fmt: skip
            count += 1
        return count

    return context.store.transaction(write)


def put_settings(
    context: Context, tenant: TenantAccess, settings: ReadingSettings | None, by: str
) -> ReadingSettingsView:
    """Store settings; None restores the defaults. Past readings are computed again."""
    now = context.clock()
    factors = (settings or ReadingSettings()).factors
    given = {str(name): factor.model_dump(exclude_none=True) for name, factor in factors.items()}
    try:
        factors_with(given)
    except FactorError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None

    def write(connection: Connection) -> int:
        if settings is None:
            store_settings.drop_setting(connection, tenant.id, SETTING)
        else:
            document = {"factors": given, "changed_at": now.isoformat(), "changed_by": by}
            store_settings.put_setting(connection, tenant.id, SETTING, document, now)
        annotations.annotate_policy(connection, tenant.id, now, by, "reading settings changed")
        return jobs.add(
            connection, "recompute", tenant.id, now, name="recompute readings",
            request={"settings": given, "why": "settings"}, created_by=by,
        )  # fmt: skip

    job_id = context.store.transaction(write)
    return get_settings(context, tenant).model_copy(update={"job": job_id})


def run_anew(context: Context, job: Job) -> dict[str, Any]:
    """The job: every domain's readings again, old beside new; then the other subjects."""
    names = context.store.transaction(lambda c: store.names_of(c, job.tenant_id, 1))
    before = context.store.transaction(partial(_now, tenant_id=job.tenant_id))
    position = dict(job.position)
    known: dict[str, Any] = job.request.get("before") or {
        names[id]: value for id, value in before.items() if id in names
    }
    kept: dict[str, Any] = position.setdefault("before", known)
    done = int(position.get("done", 0))
    for number, (id, _) in enumerate(sorted(names.items()), 1):
        if number <= done:
            continue
        readings.compute_readings(context, job.tenant_id, id)
        position["done"] = number
        context.store.transaction(
            partial(jobs.advance, job=job, now=context.clock(), done=number, total=len(names), position=position)
        )
    after = context.store.transaction(partial(_now, tenant_id=job.tenant_id))
    context.store.transaction(lambda c: jobs.enqueue(c, "subjects", job.tenant_id, 0, context.clock()))
    changes = [
        ReadingChange(name=name, before=kept.get(name), after=after.get(id)).model_dump()
        for id, name in sorted(names.items(), key=lambda pair: pair[1])
    ]
    now = context.clock()
    document = {
        "why": job.request.get("why", "settings"), "at": now.isoformat(), "before": kept,
        "after": {names[id]: value for id, value in after.items() if id in names},
    }  # fmt: skip
    context.store.transaction(lambda c: store_settings.put_setting(c, job.tenant_id, CHANGE, document, now))
    return {"changes": changes}


def _now(connection: Connection, tenant_id: int) -> dict[int, float | None]:
    """Return by domain id: the latest reading over all providers."""
    newest = store.newest_overall(connection, tenant_id, 1)
    return {subject: None if tenths == NO_VALUE else tenths / 10 for subject, tenths in newest.items()}
