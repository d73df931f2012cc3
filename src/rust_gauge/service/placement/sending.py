"""The job that sends the copies of a run, some in each session. A copy is sent once at most.

Before a copy goes out it is marked as sent: if the process dies in between, the copy is looked for and, when it never
went out, missing; sending it twice would be worse, since a seed would then have two copies with one mark.
"""

from collections.abc import Sequence
from datetime import datetime, timedelta

import structlog
from sqlalchemy import Connection

from rust_gauge.core.errors import InputError
from rust_gauge.core.placement import Outcome
from rust_gauge.gateways.destination import DestinationError
from rust_gauge.gateways.outlet_out import REFUSED, OutletError, OutletSession
from rust_gauge.service.placement.outlets import opened, write_check
from rust_gauge.service.placement.runs import LOOK, RUNNING, SEND, copy_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import jobs, placement, seeds
from rust_gauge.store.jobs import Job
from rust_gauge.store.placement import CopyRow, RunRow
from rust_gauge.store.seeds import OutletRow

log = structlog.get_logger()
_IN_ONE_SESSION = 20  # copies; a session has 30 seconds for all of them
FIRST_LOOK = timedelta(seconds=5)


def run_sending(context: Context, job: Job) -> None:
    """Send some copies of the run that is the job's subject, and ask for the others to be sent."""
    run = context.store.transaction(lambda c: placement.get_run(c, job.tenant_id, job.subject))
    if run is None or run.state != RUNNING:
        return
    outlets = context.store.transaction(lambda c: seeds.list_outlets(c, run.tenant_id))
    outlet = next((row for row in outlets if row.id == run.outlet_id), None)
    copies = context.store.transaction(lambda c: placement.list_copies(c, run.id))
    queued = [copy for copy in copies if copy.outcome == Outcome.QUEUED]
    if outlet is None:
        _give_up(context, queued, f"The outlet {run.outlet_name} was deleted")
    elif queued:
        _send(context, run, outlet, queued[:_IN_ONE_SESSION])
    now = context.clock()
    if outlet is not None and len(queued) > _IN_ONE_SESSION:
        context.store.transaction(lambda c: jobs.enqueue(c, SEND, run.tenant_id, run.id, now))
    context.store.transaction(lambda c: _ask_for_look(c, run.tenant_id, now))


def _ask_for_look(connection: Connection, tenant_id: int, now: datetime) -> None:
    """Look soon, although a look for copies of older runs may wait that would come later."""
    at = now + FIRST_LOOK
    jobs.enqueue(connection, LOOK, tenant_id, 0, now, at=at)
    jobs.bring_forward(connection, LOOK, tenant_id, 0, at)


def _send(context: Context, run: RunRow, outlet: OutletRow, copies: Sequence[CopyRow]) -> None:
    raw = context.store.transaction(lambda c: placement.message_of(c, run.id))
    try:
        with opened(context, outlet) as session:
            for copy in copies:
                now = context.store.transaction(lambda c: placement.get_run(c, run.tenant_id, run.id))
                if now is None or now.state != RUNNING:  # cancelled meanwhile
                    return
                _send_one(context, session, run, copy, raw)
    except (OutletError, DestinationError) as error:
        write_check(context, outlet, error)
        _give_up(context, _still_queued(context, copies), f"{error}. {error.remedy}")
    except ServiceProblem as problem:  # its password cannot be decrypted
        _give_up(context, _still_queued(context, copies), f"{problem}. {problem.remedy}")


def _send_one(context: Context, session: OutletSession, run: RunRow, copy: CopyRow, raw: bytes) -> None:
    """Send a copy. OutletError when the session is of no use for another one."""
    now = context.clock()
    try:
        made = copy_of(run, raw, copy, now)
    except InputError as error:
        _give_up(context, [copy], str(error))
        return
    taken = context.store.transaction(
        lambda c: placement.settle(c, copy, Outcome.QUEUED, outcome=Outcome.SENT, sent_at=now)
    )
    if not taken:
        return
    try:
        reply = session.send(made, run.plan["mail_from"], copy.address)
    except OutletError as error:
        outcome = Outcome.REFUSED if error.kind in REFUSED else Outcome.NOT_SENT
        said, problem = error.reply[:500], f"{error}. {error.remedy}".strip()[:1000]
        context.store.transaction(
            lambda c: placement.settle(c, copy, Outcome.SENT, outcome=outcome, reply=said, problem=problem)
        )
        if error.kind not in (*REFUSED, "deferred"):
            raise
        return
    context.store.transaction(lambda c: placement.settle(c, copy, Outcome.SENT, reply=reply))


def _still_queued(context: Context, copies: Sequence[CopyRow]) -> list[CopyRow]:
    ids = {copy.id for copy in copies}
    there = context.store.transaction(lambda c: placement.list_copies(c, copies[0].run_id)) if copies else []
    return [copy for copy in there if copy.id in ids and copy.outcome == Outcome.QUEUED]


def _give_up(context: Context, copies: Sequence[CopyRow], why: str) -> None:
    """An outlet that does not work says nothing about a provider: the copies count nowhere."""
    log.info("copies_not_sent", copies=len(copies), why=why)
    for copy in copies:
        context.store.transaction(
            lambda c, copy=copy: placement.settle(  # type: ignore[misc]
                c, copy, Outcome.QUEUED, outcome=Outcome.NOT_SENT, problem=why[:1000]
            )
        )
