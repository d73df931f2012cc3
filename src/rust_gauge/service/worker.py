"""The worker: claims jobs one at a time and does them. Stops between two jobs when it is told to."""

import threading
from collections.abc import Callable
from datetime import timedelta

import structlog

from rust_gauge.service.clearance import list_checks
from rust_gauge.service.domains import audits, batches, proofs
from rust_gauge.service.feeds import feeds
from rust_gauge.service.jobs import tasks
from rust_gauge.service.mailflow import retention, rules, shifts
from rust_gauge.service.plans import propagation
from rust_gauge.service.readings import computation, settings
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.suppression import entries, imports, matching, policy_trials, proposals
from rust_gauge.service.webhooks import webhooks
from rust_gauge.service.worklist import items, notifications, reports
from rust_gauge.store import jobs
from rust_gauge.store.engine import StoreError
from rust_gauge.store.jobs import Job
from rust_gauge.store.partitions import ensure_partitions

log = structlog.get_logger()
_POLL = 0.5  # seconds between looks at an empty queue
_TICK = timedelta(minutes=1)


def _readings(context: Context, job: Job) -> None:
    computation.compute_readings(context, job.tenant_id, job.subject)


def _providers(context: Context, job: Job) -> None:
    computation.look_at_providers(context)


def _audit(context: Context, job: Job) -> None:
    audits.audit_by_schedule(context, job.subject)


def _watch(context: Context, job: Job) -> None:
    propagation.run_watch(context, job.subject)


def _webhook(context: Context, job: Job) -> None:
    webhooks.run_call(context, job.subject)


_TASKS: dict[str, Callable[[Context, Job], None]] = {
    "import": imports.run_import,
    "list_check": list_checks.run_check,
    "policy_trial": policy_trials.run_trial,
    "readings": settings.run_anew,
}


def _task(context: Context, job: Job) -> None:
    kind = tasks.kind_of(context, job.subject)
    if kind is not None:
        _TASKS[kind](context, job)


KINDS: dict[str, Callable[[Context, Job], None]] = {
    "readings": _readings,
    "subjects": computation.run_subjects,
    "providers": _providers,
    "held": computation.run_held,
    "worklist": items.run_look,
    "told": notifications.run_told,
    "report": reports.run_report,
    "audit": _audit,
    "batch": batches.run_batch,
    "watch": _watch,
    "webhook": _webhook,
    "rules": rules.run_application,
    "shifts": shifts.run_look,
    "retention": retention.run_drop,
    "matching": matching.run_matching,
    "task": _task,
    "proposals": proposals.run_look,
}


def work_once(context: Context) -> bool:
    """Do one job. False when none is free."""
    job = context.store.transaction(lambda c: jobs.claim(c, context.clock()))
    if job is None:
        return False
    try:
        KINDS[job.kind](context, job)
    except Exception as error:  # whatever it was, the next job must not suffer
        log.exception("job_failed", job=job.id, kind=job.kind, attempts=job.attempts)
        text = f"{type(error).__name__}: {error}"
        context.store.transaction(lambda c: jobs.fail(c, job, text, context.clock()))
    else:
        context.store.transaction(lambda c: jobs.finish(c, job, context.clock()))
        log.info("job_done", job=job.id, kind=job.kind, subject=job.subject)
    return True


def tick(context: Context) -> None:
    """What is due from time to time: a day begins, partitions ahead."""
    computation.ask_for_stale(context)
    items.ask_for_looks(context)
    reports.ask_for_due(context)
    audits.ask_for_due(context)
    proofs.look_at_due(context)
    webhooks.forget_old(context)
    feeds.forget_old(context)
    entries.end_overdue(context)
    proposals.ask_for_due(context)
    tasks.forget_old(context)
    shifts.ask_for_open(context)
    retention.ask_for_due(context)
    ensure_partitions(context.store, context.clock().date())


def run_worker(context: Context, stop: threading.Event) -> None:
    """Work until `stop` is set. A database that is away is waited for."""
    last = None
    while not stop.is_set():
        try:
            now = context.clock()
            if last is None or now - last > _TICK:
                tick(context)
                last = now
            if not work_once(context):
                stop.wait(_POLL)
        except StoreError as error:
            log.warning("store_unavailable", error=str(error))
            stop.wait(2)
