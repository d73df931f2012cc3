"""Trying a policy on the past as a job: beside the policy that holds, on the same events."""

from dataclasses import asdict
from datetime import timedelta
from functools import partial
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.jobs import Job as ShownJob
from rust_gauge.contract.suppression import (
    PolicyBacktestRequest,
    RehearsalLine,
    RehearsalResult,
)
from rust_gauge.core.suppression import Policy, Rehearsal, Tally
from rust_gauge.service.jobs import jobs
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.periods import midnight, period_of
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression.names import Names
from rust_gauge.service.suppression.policy import core_policy, policy_of
from rust_gauge.store import holding as store_holding
from rust_gauge.store import jobs as store_jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

_PIECE = 500  # recipients between two notes of progress


def start(context: Context, tenant: TenantAccess, request: PolicyBacktestRequest, by: str) -> ShownJob:
    core_policy(request.policy)
    _, last = period_of(context, request.days, request.last)
    name = f"backtest over {request.days} days" + (f" up to {last}" if request.last else "")
    return jobs.add(context, tenant, "policy_backtest", name, request.model_dump(mode="json"), by)


def run_trial(context: Context, job: Job) -> dict[str, Any]:
    """The job. Begun again it starts again: it changes nothing, so nothing is lost."""
    request = PolicyBacktestRequest.model_validate(job.request)
    first, last = period_of(context, request.days, request.last)
    since, before = midnight(first), midnight(last + timedelta(days=1))

    def read(unit: UnitOfWork) -> tuple[Policy, list[bytes]]:
        return policy_of(unit), store_holding.troubled_keys(unit.connection, unit.tenant_id, since, before)

    policy, keys = context.unit(job.tenant_id, read)
    holding, tried = Rehearsal(policy), Rehearsal(core_policy(request.policy))
    for start in range(0, len(keys), _PIECE):
        piece = keys[start : start + _PIECE]
        found = context.store.transaction(
            partial(store_holding.histories, tenant_id=job.tenant_id, keys=piece, since=since, before=before)
        )
        for recipient in found.values():
            provider = str(recipient.provider_id)
            holding.walk(provider, recipient.events)
            tried.walk(provider, recipient.events)
        done = start + len(piece)
        context.store.transaction(partial(store_jobs.advance, job=job, now=context.clock(), done=done, total=len(keys)))

    def read_names(connection: Connection) -> dict[str, tuple[str, str]]:
        names = Names(connection, job.tenant_id)
        return {id: (names.provider(int(id)), names.label(int(id))) for id in tried.by_provider}

    labels = context.store.transaction(read_names)
    return RehearsalResult(
        recipients=len(keys), ours=_line("all", "", _sum(tried)), holding=_line("all", "", _sum(holding)),
        providers=sorted(
            (_line(*labels[id], tally) for id, tally in tried.by_provider.items()), key=lambda line: -line.held
        ),
        reasons=sorted(
            (_line(str(reason), "", tally) for reason, tally in tried.by_reason.items()), key=lambda line: -line.held
        ),
    ).model_dump()  # fmt: skip


def _sum(rehearsal: Rehearsal) -> Tally:
    total = Tally()
    for tally in rehearsal.by_provider.values():
        total.add(tally)
    return total


def _line(name: str, label: str, tally: Tally) -> RehearsalLine:
    return RehearsalLine(name=name, label=label, **asdict(tally))
