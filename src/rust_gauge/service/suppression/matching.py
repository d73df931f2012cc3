"""Changing how a tenant's list compares addresses: every entry gets its new key, in pieces, while the list is in use.

Until the job is done both ways of comparing are asked, so nothing that is held is let through in between.
"""

import secrets
from collections.abc import Callable
from datetime import datetime, timedelta
from functools import partial
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.suppression import MatchingSettings, MatchingView
from rust_gauge.core.names import parse_address
from rust_gauge.core.suppression import Matching
from rust_gauge.service.providers.lookup import providers_for
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import encrypt
from rust_gauge.service.suppression.policy import get_matching, matchings_of
from rust_gauge.store import hiding, jobs, suppression_list, suppression_rekey, suppression_state
from rust_gauge.store import providers as store_providers
from rust_gauge.store import suppression as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.intake import lock_counters
from rust_gauge.store.jobs import Job
from rust_gauge.store.rejudge import raise_rules_version
from rust_gauge.store.suppression import Target, Where
from rust_gauge.store.suppression_list import Filter, ListedEntry

log = structlog.get_logger()
_PIECE = 2000  # entries in one transaction, so that mail is not held up while keys change


def put_matching(context: Context, tenant: TenantAccess, settings: MatchingSettings) -> MatchingView:
    """Store settings, and enqueue the rewriting of the list."""
    now = context.clock()

    def write(connection: Connection) -> None:
        lock_counters(connection, tenant.id)  # before the list, as loads do
        suppression_state.lock(connection, tenant.id)
        row = suppression_state.get_state(connection, tenant.id)
        before = MatchingSettings.model_validate(row.matching or {})
        if settings == before:
            return
        if row.matching_before is not None:
            raise ServiceProblem("busy", "The list is being rebuilt", remedy="Retry when that is done")
        if before.digests_only:
            raise ServiceProblem(
                "invalid-request", "Only digests are stored; addresses cannot be restored from them",
                remedy="To change matching, import the addresses into a new tenant",
            )  # fmt: skip
        values: dict[str, Any] = {"matching": settings.model_dump(), "matching_before": before.model_dump()}
        if settings.digests_only:
            values["secret"] = encrypt(context.settings, secrets.token_bytes(32).hex())
            raise_rules_version(connection, tenant.id)  # loads in progress are read again, and hide addresses
        suppression_state.change_state(connection, tenant.id, **values)
        jobs.enqueue(connection, "matching", tenant.id, 0, now)

    context.store.transaction(write)
    return get_matching(context, tenant)


def run_matching(context: Context, job: Job) -> None:
    """The job. What has its new key already is met again without harm, so it can begin again at any time."""
    after: Where | None = None
    while True:
        rows = context.store.transaction(
            lambda c: suppression_list.pages_by_key(c, job.tenant_id, Filter(), after, _PIECE)  # noqa: B023 - called at once
        )
        names = {row.mail_domain for row in rows if row.mail_domain}
        matchings = context.unit(job.tenant_id, matchings_of)
        if len(matchings) < 2:
            return
        known = providers_for(context, names) if matchings[0].same else {}
        providers = {name: provider for name, (_, provider) in known.items()}

        def rekey(connection: Connection, rows: list[ListedEntry] = rows) -> None:
            suppression_state.lock(connection, job.tenant_id)
            moves = [move for row in rows if (move := _move(row, matchings[0], providers)) is not None]  # noqa: B023
            suppression_rekey.rekey(connection, job.tenant_id, moves)
            jobs.renew(connection, job, context.clock())

        context.store.transaction(rekey)
        if len(rows) < _PIECE:
            break
        after = store.where_of(rows[-1])
    if matchings[0].secret:
        _hide(context, job, matchings[0])
    context.store.transaction(lambda c: suppression_state.change_state(c, job.tenant_id, matching_before=None))
    log.info("list_rewritten", tenant=job.tenant_id)


def _hide(context: Context, job: Job, matching: Matching) -> None:
    """Take the addresses out of notes, evidence, history, replies, rejected rows and events."""
    context.store.transaction(lambda c: hiding.hide_in_texts(c, job.tenant_id))
    after: int | None = 0
    while after is not None:
        after = context.store.transaction(partial(_hide_rows, job=job, after=after, now=context.clock()))
    names = context.store.transaction(store_providers.names_by_id)

    def pseudonym(recipient: str, provider_id: int) -> str:
        return str(matching.pseudonym(parse_address(recipient), names.get(provider_id, "")))

    days = context.store.transaction(lambda c: hiding.event_days(c, job.tenant_id))
    if days is None:
        return
    day, last = days
    while day <= last:
        context.store.transaction(partial(_hide_day, job=job, day=day, pseudonym=pseudonym, now=context.clock()))
        day += timedelta(days=1)


def _hide_rows(connection: Connection, job: Job, after: int, now: datetime) -> int | None:
    jobs.renew(connection, job, now)
    return hiding.hide_in_rejected_rows(connection, job.tenant_id, after, _PIECE)


def _hide_day(
    connection: Connection, job: Job, day: datetime, pseudonym: Callable[[str, int], str], now: datetime
) -> None:
    hiding.hide_in_events(connection, job.tenant_id, day, pseudonym)
    jobs.renew(connection, job, now)


def _move(row: ListedEntry, matching: Matching, providers: dict[str, str]) -> tuple[Where, Where, Target] | None:
    """An entry's new key; None for one of a whole domain, or without an address (erased, or rewritten already)."""
    if not row.address or row.address.startswith("@"):
        return None
    address, where = parse_address(row.address), store.where_of(row)
    key = matching.key(address, providers.get(address.domain, ""))
    target = Target("", "") if matching.secret else Target(row.address, row.mail_domain)
    if key == where.key and target.address == row.address:
        return None
    return where, where._replace(key=key), target
