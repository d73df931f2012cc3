"""Looking once a day for addresses that somebody should decide about: nothing of it holds before a person agrees."""

from datetime import timedelta
from functools import partial

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.checks import AddressWords
from rust_gauge.core.mailflow import Kind
from rust_gauge.core.names import parse_address
from rust_gauge.core.suppression import Reason, Seen, State, Wish, ask
from rust_gauge.core.suppression.checks import ROLES
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression import holding
from rust_gauge.service.suppression.policy import matchings_of, policy_of
from rust_gauge.store import audits as store_settings
from rust_gauge.store import jobs, providers, suppression_state
from rust_gauge.store import proposals as store
from rust_gauge.store import suppression as store_list
from rust_gauge.store.jobs import Job
from rust_gauge.store.suppression import Ask, Where

log = structlog.get_logger()
_MOST = 5000  # of one reason in a day
_RECENT = timedelta(days=2)  # mail of today and yesterday; the search runs daily
Found = tuple[Reason, store.SilentRecipient | store.RoleRecipient | store.RevivedRecipient, str]
"""Why an address is proposed, whose it is, and in words."""


def ask_for_due(context: Context) -> None:
    """Once a day for each tenant."""
    now = context.clock()
    if context.memory.get("proposals") == now.date():
        return

    def write(connection: Connection) -> None:
        for tenant_id in store.tenants_with_mail(connection, now - _RECENT):
            jobs.enqueue(connection, "proposals", tenant_id, 0, now)

    context.store.transaction(write)
    context.memory["proposals"] = now.date()


def run_look(context: Context, job: Job) -> None:
    """The job."""
    now, tenant_id = context.clock(), job.tenant_id

    def find(unit: UnitOfWork) -> list[Found]:
        connection = unit.connection
        settings = policy_of(unit).proposals
        found: list[Found] = []
        if settings.no_life_sends:
            since = now - timedelta(days=2 * settings.no_life_days)
            rows = store.without_life(
                connection, tenant_id, since, settings.no_life_sends, settings.no_life_days, _MOST
            )
            for silent in rows:
                says = f"{silent.n} messages delivered since {silent.first:%Y-%m-%d}, none opened or clicked"
                found.append((Reason.UNRESPONSIVE, silent, says))
        if settings.role_addresses:
            words = AddressWords.model_validate(
                store_settings.get_setting(connection, tenant_id, "address_words") or {}
            )
            roles = sorted((ROLES | set(words.roles)) - set(words.people))
            for role in store.roles_mailed(connection, tenant_id, now - _RECENT, roles, _MOST):
                found.append((Reason.ROLE_ADDRESS, role, "mail was sent to a role address"))
        if settings.revived_after_days:
            before = now - timedelta(days=settings.revived_after_days)
            for back in store.revived(connection, tenant_id, now - _RECENT, before, _MOST):
                says = f"it did not exist on {back.since:%Y-%m-%d}, and accepts mail again"
                found.append((Reason.SPAM_TRAP, back, says))
        return found

    found = context.unit(tenant_id, find)
    proposed = context.unit(tenant_id, partial(_propose, found=found))
    log.info("proposals", tenant=tenant_id, found=len(found), proposed=proposed)


def _propose(unit: UnitOfWork, found: list[Found]) -> int:
    connection, tenant_id, now = unit.connection, unit.tenant_id, unit.now
    suppression_state.lock(connection, tenant_id)
    matching = matchings_of(unit)[0]
    names = providers.names(connection, {row.provider_id for _, row, _ in found})
    asks = []
    for reason, row, says in found:
        address = parse_address(row.recipient)
        where = Where(matching.key(address, names.get(row.provider_id, "")), reason)
        wish = Wish(now, now, State.PROPOSED)
        seen = Seen(now, Kind.DELIVERED, diagnostic=says)
        target = holding.target_of(matching, address, row.provider_id)
        evidence = [holding.evidence_of(seen, hidden=bool(matching.secret))]
        asks.append(Ask(where, target, partial(ask, wish=wish, now=now), now, evidence, says, "investigate"))
    there = store_list.rows_of(connection, tenant_id, {ask.where.key for ask in asks})
    # What is held already needs no proposal, for whatever reason it is.
    held = {where.key for where, row in there.items() if row.state == State.HELD.number}
    known = {where for where in there if there[where].state != State.ENDED.number}
    asks = [ask for ask in asks if ask.where.key not in held and ask.where not in known]
    done = store_list.change(connection, tenant_id, asks, "daily proposals", now)
    holding.tell(unit, done)
    return len(done)
