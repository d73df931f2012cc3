"""The worker: claims jobs one at a time and does them. Stops between two jobs on request."""

import contextlib
import threading
from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import timedelta
from functools import partial
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.service.accounts import installation
from rust_gauge.service.assays import learning
from rust_gauge.service.bench import examining, trays
from rust_gauge.service.clearance import list_checks, list_cuts
from rust_gauge.service.client_reports import mailing
from rust_gauge.service.domains import audits, batches, proofs
from rust_gauge.service.feeds import feeds
from rust_gauge.service.jobs import jobs as service_jobs
from rust_gauge.service.mailflow import retention, rules, shifts
from rust_gauge.service.placement import examining as placement_examining
from rust_gauge.service.placement import keeping, looking, runs, schedules, sending
from rust_gauge.service.plans import propagation
from rust_gauge.service.readings import computation, settings
from rust_gauge.service.receiver_reports import files as report_files
from rust_gauge.service.receiver_reports import judging as report_judging
from rust_gauge.service.receiver_reports import keeping as report_keeping
from rust_gauge.service.receiver_reports import paths as report_paths
from rust_gauge.service.receiver_reports import storing as report_storing
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.suppression import editing, imports, matching, policy_trials, proposals
from rust_gauge.service.verification import following, new_recipients
from rust_gauge.service.warmup import judging
from rust_gauge.service.webhooks import webhooks
from rust_gauge.service.worklist import items, notifications
from rust_gauge.store import jobs
from rust_gauge.store.engine import StoreError
from rust_gauge.store.jobs import Job
from rust_gauge.store.leases import LeaseHeld
from rust_gauge.store.partitions import ensure_partitions

log = structlog.get_logger()
_POLL = 0.5  # seconds between looks at an empty queue
_SERVED = "tenant served last"  # in the memory of the process
_TICK = timedelta(minutes=1)  # what is due by the clock is checked this often


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


Handler = Callable[[Context, Job], Mapping[str, Any] | None]
"""Does a job; returns what came out of one that is listed."""

KINDS: dict[str, Handler] = {
    "readings": _readings,
    computation.STALE: computation.run_stale,
    "subjects": computation.run_subjects,
    "providers": _providers,
    "held": computation.run_held,
    "worklist": items.run_look,
    "notification": notifications.run_notification,
    "report": mailing.run_report,
    "audit": _audit,
    "batch": batches.run_batch,
    "watch": _watch,
    "webhook": _webhook,
    "rules": rules.run_application,
    "shifts": shifts.run_look,
    "retention": retention.run_drop,
    "matching": matching.run_matching,
    "import": imports.run_import,
    "list_check": list_checks.run_check,
    list_cuts.KIND: list_cuts.run_cut,
    following.KIND: following.run_following,
    new_recipients.KIND: new_recipients.run_checks,
    "policy_backtest": policy_trials.run_trial,
    "recompute": settings.run_anew,
    "proposals": proposals.run_look,
    "tenant_removal": installation.run_removal,
    "text_model": learning.run_learning,
    report_storing.JUDGE: report_judging.run_judging,
    report_files.KIND: report_files.run_files,
    report_keeping.KIND: report_keeping.run_forgetting,
    runs.SEND: sending.run_sending,
    runs.LOOK: looking.run_looking,
    runs.EXAMINE: placement_examining.run_assay,
}


def work_once(context: Context) -> bool:
    """Do one job. False when none is free."""
    store = context.store
    after = context.memory.get(_SERVED, 0)
    workers = context.settings.workers
    job = store.transaction(lambda c: jobs.claim(c, context.clock(), after, workers))
    if job is None:
        return False
    context.memory[_SERVED] = job.tenant_id
    # Each transaction of the job makes sure that the job is still ours, so that a worker that was asleep for longer
    # than its lease writes nothing at all.
    fenced = replace(context, store=store.guarded(lambda c: jobs.check(c, job)))
    end: Callable[[Connection], None]
    try:
        result = KINDS[job.kind](fenced, job)
    except jobs.ClaimLost as error:
        log.warning("claim_lost", job=job.id, kind=job.kind, error=str(error))
        return True
    except jobs.CancelRequested:
        log.info("job_stopped", job=job.id, kind=job.kind)
        end = partial(jobs.stop, job=job, now=context.clock())
    except ServiceProblem as problem:  # what was asked for cannot be done; trying again changes nothing
        log.warning("job_refused", job=job.id, kind=job.kind, error=str(problem))
        text = f"{problem.detail}. {problem.remedy}".strip()
        end = partial(jobs.fail, job=job, error=text, now=context.clock(), final=job.listed)
    except Exception as error:  # whatever it was, the next job must not suffer
        log.exception("job_failed", job=job.id, kind=job.kind, attempts=job.attempts)
        shown = f"{type(error).__name__}; see the service's log"
        end = partial(jobs.fail, job=job, error=shown, now=context.clock())
    else:
        log.info("job_done", job=job.id, kind=job.kind, subject=job.subject)
        end = partial(jobs.finish, job=job, now=context.clock(), result=result)
    try:
        store.transaction(end)
    except jobs.ClaimLost as error:
        log.warning("claim_lost", job=job.id, kind=job.kind, error=str(error))
    return True


def tick(context: Context) -> None:
    """Do what is due: start of a day, new partitions."""
    computation.ask_for_stale(context)
    settings.ask_after_upgrades(context)
    items.ask_for_looks(context)
    mailing.ask_for_due(context)
    audits.ask_for_due(context)
    proofs.look_at_due(context)
    webhooks.forget_old(context)
    feeds.forget_old(context)
    trays.forget_old(context)
    schedules.run_due(context)
    judging.judge_due(context)
    following.ask_for_due(context)
    new_recipients.ask_for_waiting(context)
    keeping.forget_old(context)
    report_judging.ask_for_due(context)
    report_paths.follow_due(context)
    report_keeping.ask_for_due(context)
    learning.ask_for_due(context)
    editing.end_overdue(context)
    proposals.ask_for_due(context)
    service_jobs.forget_old(context)
    shifts.ask_for_open(context)
    retention.ask_for_due(context)
    with contextlib.suppress(LeaseHeld):  # another process sees to it
        ensure_partitions(context.store, context.clock())


def run_worker(context: Context, stop: threading.Event) -> None:
    """Work until `stop` is set. A database that is away is waited for."""
    last = None
    while not stop.is_set():
        try:
            now = context.clock()
            if last is None or now - last > _TICK:
                tick(context)
                last = now
            # One message for each job, so that neither waits for all of the other.
            if not work_once(context) | examining.examine_next(context):
                stop.wait(_POLL)
        except StoreError as error:
            log.warning("store_unavailable", error=str(error))
            stop.wait(2)
