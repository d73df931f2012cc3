"""Trying a policy on the past as a task: beside the policy that holds, on the same events."""

from dataclasses import asdict
from datetime import timedelta
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.suppression import (
    RehearsalLine,
    RehearsalRequest,
    RehearsalResult,
    SuppressionPolicy,
)
from rust_gauge.contract.tasks import Task
from rust_gauge.core.suppression import Rehearsal, Tally
from rust_gauge.service.jobs import tasks
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.suppression.entries import Names
from rust_gauge.service.suppression.policy import core_policy, policy_of
from rust_gauge.store import holding as store_holding
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.engine import AnyRow
from rust_gauge.store.jobs import Job

_TOLD_EVERY = 500  # recipients


def start(context: Context, tenant: TenantAccess, request: RehearsalRequest, by: str) -> Task:
    core_policy(request.policy)
    name = f"a policy on {request.days} days"
    return tasks.start_at_once(context, tenant, "policy_trial", name, request.model_dump(mode="json"), by)


def run_trial(context: Context, job: Job) -> None:
    """The job. Begun again it starts anew: it changes nothing, so nothing is lost."""

    def work(row: AnyRow) -> dict[str, Any]:
        request = RehearsalRequest.model_validate(row.request)
        since = context.clock() - timedelta(days=request.days)

        def read(connection: Connection) -> RehearsalResult:
            holding = Rehearsal(policy_of(context, connection, row.tenant_id))
            tried = Rehearsal(core_policy(SuppressionPolicy.model_validate(row.request["policy"])))
            names = Names(connection, row.tenant_id)
            recipients = 0
            for found in store_holding.histories_of_troubled(connection, row.tenant_id, since):
                for recipient in found.values():
                    provider = str(recipient.provider_id)
                    holding.walk(provider, recipient.events)
                    tried.walk(provider, recipient.events)
                    recipients += 1
                    if recipients % _TOLD_EVERY == 0:
                        _tell(context, job, row.id, recipients)
            return RehearsalResult(
                recipients=recipients, ours=_line("all", "", _sum(tried)), holding=_line("all", "", _sum(holding)),
                providers=sorted(
                    (_line(names.provider(int(id)), names.label(int(id)), tally)
                     for id, tally in tried.by_provider.items()),
                    key=lambda line: -line.held,
                ),
                reasons=sorted(
                    (_line(str(reason), "", tally) for reason, tally in tried.by_reason.items()),
                    key=lambda line: -line.held,
                ),
            )  # fmt: skip

        return context.store.transaction(read).model_dump()

    tasks.carry_out(context, job, work)


def _tell(context: Context, job: Job, id: int, recipients: int) -> None:
    now = context.clock()
    context.store.transaction(lambda c: tasks.advance(c, job, id, now, done=recipients))


def _sum(rehearsal: Rehearsal) -> Tally:
    total = Tally()
    for tally in rehearsal.by_provider.values():
        total.add(tally)
    return total


def _line(name: str, label: str, tally: Tally) -> RehearsalLine:
    return RehearsalLine(name=name, label=label, **asdict(tally))
