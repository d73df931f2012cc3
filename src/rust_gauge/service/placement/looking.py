"""The job that looks for copies: all of a tenant that are not found yet, mailbox by mailbox, two at a time of a host.

A copy is missing only after its seed was read to the end when the waiting time was over. A seed that cannot be read
until well after that leaves its copies `unread`, and says why.
"""

import re
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from contextlib import contextmanager
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import Any

import structlog

from rust_gauge.core.mime import mailboxes
from rust_gauge.core.placement import MARK_FIELD, Outcome, read_arrival
from rust_gauge.gateways.destination import DestinationError
from rust_gauge.gateways.seed_mailbox import FoundCopy, SeedError, SeedMailbox
from rust_gauge.service.placement.runs import LOOK, RUNNING, copy_of, end_settled
from rust_gauge.service.placement.seeds import FULL, opened, write_check
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import jobs, leases, placement, seeds
from rust_gauge.store.jobs import Job
from rust_gauge.store.placement import CopyRow, RunRow
from rust_gauge.store.seeds import SeedRow

log = structlog.get_logger()
_MOST = 2000  # copies of one look
_TELLING = 6  # characters of a subject that tell it from others
_PER_HOST = 2  # mailboxes of a host that are open at a time, in the whole installation
_AT_ONCE = 8  # mailboxes
_SESSION = timedelta(seconds=60)  # a session ends well within
_GRACE = timedelta(hours=1)  # after the waiting time, for a seed that cannot be read
_SOONEST, _LATEST = timedelta(seconds=10), timedelta(minutes=5)


def run_looking(context: Context, job: Job) -> None:
    """Look for all copies of the tenant that were sent and not found, end what is over, and come back later."""
    tenant_id = job.tenant_id
    runs = {run.id: run for run in context.store.transaction(lambda c: placement.runs_in(c, tenant_id, RUNNING))}
    sent = context.store.transaction(lambda c: placement.copies_in(c, tenant_id, RUNNING, Outcome.SENT, _MOST))
    sent = [copy for copy in sent if copy.run_id in runs]
    there = {row.id: row for row in context.store.transaction(lambda c: seeds.list_seeds(c, tenant_id))}
    by_seed: dict[int | None, list[CopyRow]] = {}
    for copy in sent:
        by_seed.setdefault(copy.seed_id, []).append(copy)
    for copy in by_seed.pop(None, ()):
        _settle(context, copy, Outcome.UNREAD, problem="The seed was deleted")
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        looks = [
            pool.submit(_look_into_some, context, [(there[id], by_seed[id]) for id in ids], runs)
            for ids in _lines({id: there[id].host for id in by_seed if id in there})
        ]
        for look in as_completed(looks):
            look.result()
            context.store.transaction(lambda c: jobs.renew(c, job, context.clock()))
    going_on = end_settled(context, tenant_id)
    if going_on:
        now = context.clock()
        youngest = min(now - _started(run) for run in going_on)
        wait = min(_LATEST, max(_SOONEST, youngest / 10))
        context.store.transaction(lambda c: jobs.enqueue(c, LOOK, tenant_id, 0, now, at=now + wait))


def _lines(hosts: dict[int, str]) -> list[list[int]]:
    """Return seeds in lines to be looked into one after another, so that no host has more than its places."""
    by_host: dict[str, list[int]] = {}
    for id, host in hosts.items():
        by_host.setdefault(host, []).append(id)
    return [line for ids in by_host.values() for start in range(_PER_HOST) if (line := ids[start::_PER_HOST])]


def _look_into_some(
    context: Context, work: Sequence[tuple[SeedRow, Sequence[CopyRow]]], runs: dict[int, RunRow]
) -> None:
    for seed, copies in work:
        try:
            _look_into(context, seed, copies, runs)
        except jobs.ClaimLost:
            raise
        except Exception as error:  # one seed, whatever is wrong with it, spoils no other
            log.exception("seed_not_read", seed=seed.id)
            _not_read(context, seed, copies, runs, SeedError("ended", f"{seed.address} cannot be read", why=str(error)))


def _look_into(context: Context, seed: SeedRow, copies: Sequence[CopyRow], runs: dict[int, RunRow]) -> None:
    """Look for copies in one seed. Never raises for what the mailbox did."""
    now = context.clock()
    try:
        with _slot(context, seed.host, now), opened(context, seed) as mailbox:
            missing = [copy for copy in copies if not _found(context, mailbox, seed, copy, runs[copy.run_id])]
            over = [copy for copy in missing if now > _over(runs[copy.run_id])]
            for copy in over:
                _not_there(context, mailbox, seed, copy, runs[copy.run_id])
    except leases.LeaseHeld:
        return  # others read from this host; the next look finds it free
    except (SeedError, DestinationError) as error:
        _not_read(context, seed, copies, runs, error)
        return
    if seed.problem and seed.problem != "full":
        write_check(context, seed, None, None)
    context.store.transaction(lambda c: placement.looked(c, [copy.id for copy in copies], now))


def _not_read(
    context: Context, seed: SeedRow, copies: Sequence[CopyRow], runs: dict[int, RunRow],
    error: SeedError | DestinationError,
) -> None:  # fmt: skip
    write_check(context, seed, error, None)
    for copy in copies:
        if context.clock() > _over(runs[copy.run_id]) + _GRACE:
            _settle(context, copy, Outcome.UNREAD, problem=f"{error}. {error.remedy}".strip()[:1000])


@contextmanager
def _slot(context: Context, host: str, now: datetime) -> Iterator[None]:
    """Hold one of the places at a host. LeaseHeld when none is free."""
    for number in range(_PER_HOST):
        last = number == _PER_HOST - 1
        try:
            with leases.held(context.store, f"imap {host[:50]} {number}", now, _SESSION):
                yield
                return
        except leases.LeaseHeld:
            if last:
                raise


def _found(context: Context, mailbox: SeedMailbox, seed: SeedRow, copy: CopyRow, run: RunRow) -> bool:
    for folder in seed.folders:
        there = mailbox.find(folder["folder"], copy.mark)
        if there is not None:
            lost = f"{MARK_FIELD}:".lower().encode() not in there.raw.partition(b"\r\n\r\n")[0].lower()
            _settle(
                context, copy, Outcome(folder["means"]), folder=folder["folder"], arrived_at=there.arrived_at,
                arrival=_arrival(context, copy, run, there),
                problem=f"{MARK_FIELD} was taken out on the way; found by its Message-ID" if lost else "",
            )  # fmt: skip
            return True
    return False


def _not_there(context: Context, mailbox: SeedMailbox, seed: SeedRow, copy: CopyRow, run: RunRow) -> None:
    """Settle a copy that was not found in time: it is missing, unless something else may be the reason."""
    used = mailbox.used()
    if used is not None and used >= FULL:
        problem = f"The mailbox is {100 * used:.0f} % full and may refuse mail. Delete old messages there"
        _settle(context, copy, Outcome.UNREAD, problem=problem)
        return
    sender = next((address for _, address in mailboxes(run.header_from)), "")
    subject = max(re.findall(r"[ -~]+", run.subject), key=len, default="")
    if sender.isascii() and len(subject) >= _TELLING and copy.sent_at is not None:
        unmarked = sum(mailbox.count_unmarked(each["folder"], sender, subject, copy.sent_at) for each in seed.folders)
        if unmarked:
            problem = (
                f"A message with this subject arrived that day without {MARK_FIELD}. Whether it is this copy is not "
                "known: a server on the way may have removed the field. Send by a path that keeps it, or Message-ID"
            )
            _settle(context, copy, Outcome.UNREAD, problem=problem)
            return
    _settle(context, copy, Outcome.MISSING)


def _arrival(context: Context, copy: CopyRow, run: RunRow, there: FoundCopy) -> dict[str, Any]:
    """Return what the receiver did to a copy, compared with the copy as it was sent."""
    raw = context.store.transaction(lambda c: placement.message_of(c, run.id))
    assert copy.sent_at is not None, "only what was sent is looked for"
    found = read_arrival(copy_of(run, raw, copy, copy.sent_at.replace(tzinfo=UTC)), there.raw)
    return {
        "hops": [{**asdict(hop), "at": None if hop.at is None else hop.at.isoformat()} for hop in found.hops],
        "verified": [asdict(each) for each in found.verified],
        "changes": [asdict(each) for each in found.changes],
    }


def _settle(context: Context, copy: CopyRow, outcome: Outcome, **values: Any) -> None:
    context.store.transaction(lambda c: placement.settle(c, copy, Outcome.SENT, outcome=outcome, **values))


def _started(run: RunRow) -> datetime:
    return (run.started_at or run.created_at).replace(tzinfo=UTC)


def _over(run: RunRow) -> datetime:
    return _started(run) + timedelta(minutes=run.wait_minutes)
