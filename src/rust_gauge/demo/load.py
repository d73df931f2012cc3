"""Bringing the demo in: tenants, an account, domains, half a year of counters, weeks of events, first audits.

Everything goes through the code that real input goes through. It can be run again at any time: what is there counts
once, and what time has added since is filled in.
"""

import hashlib
import json
from collections.abc import Callable, Sequence
from datetime import UTC, date, datetime, timedelta
from functools import partial
from pathlib import Path

import orjson
from sqlalchemy import Connection, select

from rust_gauge.contract.audits import DnsListSetting
from rust_gauge.contract.domains import DomainChange, NewDomain
from rust_gauge.contract.feeds import FeedDefaults, FeedMapping, FeedSource, NewFeed
from rust_gauge.contract.plans import PlanSettings
from rust_gauge.contract.relays import RelayDescription
from rust_gauge.core.mailflow import Tally
from rust_gauge.core.roles import Role
from rust_gauge.demo.bench import load_bench
from rust_gauge.demo.counted import add_counted, names_of
from rust_gauge.demo.feeds import driftline_documents, returned_message
from rust_gauge.demo.generator import day_counts, day_rows
from rust_gauge.demo.limits import load_limits
from rust_gauge.demo.placement import load_placement
from rust_gauge.demo.reports import load_reports
from rust_gauge.demo.scenario import DRIFTLINE_MAPPING, EVENT_DAYS, FLOWS, HISTORY_DAYS, PROVIDERS, TENANTS
from rust_gauge.demo.side_by_side import for_each
from rust_gauge.demo.verification import load_verification
from rust_gauge.demo.warmup import load_warmup
from rust_gauge.demo.zones import (
    LISTS,
    NEW_DOMAIN,
    NEW_SETTINGS,
    NEW_STREAM,
    PROVEN,
    RELAY_DESCRIPTIONS,
    SELECTORS,
    USELESS_LIST,
    proof_token,
    streams_of,
)
from rust_gauge.service.accounts import ownership
from rust_gauge.service.accounts.passwords import hash_password
from rust_gauge.service.domains import audits, domains, proofs, relays
from rust_gauge.service.feeds import feeds, receiving
from rust_gauge.service.intake import intake
from rust_gauge.service.intake.rows import split_lines
from rust_gauge.service.plans import plans
from rust_gauge.service.readings.computation import compute, look_at_providers
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.worklist import items
from rust_gauge.store import accounts, assignments, providers, tokens
from rust_gauge.store import events as store_events
from rust_gauge.store import tables as t
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.domains import list_domains

_BATCH = 10_000  # events in one load, as a busy feed would send
_DAYS_AT_ONCE = 15  # days of counters in one transaction
Say = Callable[[str], None]
Check = Callable[[], None]


def _go_on() -> None:
    """Nothing stands in the way."""


def load_demo(
    context: Context, email: str, password: str, token: str, say: Say, check: Check = _go_on, verifier_port: int = 0,
    *, apart: bool = False,
) -> date:  # fmt: skip
    """Bring in what is missing of the demo. `check` is called between steps, and may raise to stop it there.
    `verifier_port`: where the stand-in verifier listens; 0: there is none. `apart`: tenants side by side, in processes.
    Return day 0 of the story.
    """
    now = context.clock()
    tenants = context.store.transaction(lambda c: _tenants(c, email, password, token, now))
    anchor = context.store.transaction(_anchor)
    for tenant in tenants:
        _domains(context, tenant)
        context.store.transaction(lambda c, tenant=tenant: _labels(c, tenant.id))  # type: ignore[misc]
    total = recent = 0
    apart = apart and not context.store.transaction(_has_mail)  # what a later start adds is little
    mail = partial(_mail, anchor)
    for tenant, (counted, stored) in for_each(context, tenants, mail, now, check, apart=apart):
        if counted or stored:
            say(f"  {tenant.name}: {counted:,} counters and {stored:,} events")
        total, recent = total + counted, recent + stored
    for tenant in tenants:
        check()
        if tenant.slug == "glasswort":
            _traffic(context, tenant)
        _audits(context, tenant)
        _bench(context, tenant)
        load_placement(context, tenant)
        load_limits(context, tenant)
        reports = load_reports(context, tenant, anchor)
        if reports:
            say(f"  {tenant.name}: {reports:,} reports of receivers")
        load_warmup(context, tenant, anchor, context.settings.var_dir / "demo")
        if verifier_port:
            load_verification(context, tenant, verifier_port, context.settings.var_dir / "demo")
    if total or recent:  # else nothing is new; the worker computes a day that has begun
        look_at_providers(context, whole=True)
        judge = partial(_judge, anchor, total > 0)
        for tenant, open_items in for_each(context, tenants, judge, now, check, apart=apart):
            say(f"  {tenant.name}: readings, {open_items} items on the worklist")
    say(f"Demo data: {recent:,} events and {total:,} counters added." if recent or total else "Demo data: nothing new.")
    _sample(context.settings.var_dir / "demo" / "postcards.ndjson", anchor)
    return anchor


DEMO_OWNER = "Isla Mackay"
COLLEAGUES = (
    ("ruan@skerry.example", "Ruan Bell", Role.OPERATOR),
    ("morag@skerry.example", "Morag Tait", Role.VIEWER),
)


def _tenants(connection: Connection, email: str, password: str, token: str, now: datetime) -> list[TenantAccess]:
    found = accounts.find_account(connection, email)
    if found is None:
        hashed = hash_password(password)
        account_id = accounts.add_account(connection, email, DEMO_OWNER, hashed, now)
    else:
        account_id = found.id
    out = []
    for tenant in TENANTS:
        id = accounts.add_tenant(connection, tenant.slug, tenant.name, now)
        accounts.grant(connection, account_id, id, Role.ADMIN)
        out.append(TenantAccess(id, tenant.slug, tenant.name, Role.ADMIN))
    if found is None:  # colleagues with less to say, who sign in with the same password
        for colleague, name, role in COLLEAGUES:
            colleague_id = accounts.add_account(connection, colleague, name, hashed, now)
            for access in out:
                accounts.grant(connection, colleague_id, access.id, role)
    digest = hashlib.sha256(token.encode()).digest()
    accounts.change_account(connection, account_id, is_owner=True)
    if tokens.principal_of_token(connection, digest, now) is None:
        tokens.add_token(
            connection, digest, name="demo", account_id=account_id, created_at=now, expires_at=None, scopes=[],
            networks=[], tenants=[],
        )  # fmt: skip
    return out


def _anchor(connection: Connection) -> date:
    """Day 0 of the story: the day on which the demo was first loaded."""
    created = connection.scalar(select(t.tenant.c.created_at).where(t.tenant.c.slug == TENANTS[0].slug))
    if created is None:
        raise LookupError("the demo's tenants are not there")
    day: date = created.date()
    return day


def _domains(context: Context, tenant: TenantAccess) -> None:
    there = {row.name: row.streams for row in context.store.transaction(lambda c: list_domains(c, tenant.id))}
    for name in dict.fromkeys(flow.domain for flow in FLOWS if flow.tenant == tenant.slug):
        if name not in there:
            domains.add_domain(context, tenant, NewDomain(name=name, selectors=SELECTORS[name]))
        if not there.get(name):
            change = DomainChange.model_validate({"streams": streams_of(name)})
            domains.update_domain(context, tenant, name, change)
    if tenant.slug == "glasswort" and NEW_DOMAIN not in there:
        domains.add_domain(context, tenant, NewDomain(name=NEW_DOMAIN))
        domains.update_domain(context, tenant, NEW_DOMAIN, DomainChange.model_validate({"streams": [NEW_STREAM]}))
        plans.put_settings(context, tenant, NEW_DOMAIN, PlanSettings.model_validate(NEW_SETTINGS))
    if tenant.slug == "glasswort":
        _feeds(context, tenant)
    proven = {each.subject for each in proofs.list_proofs(context, tenant) if each.state == "verified"}
    for name in PROVEN:
        if name in there or any(flow.domain == name and flow.tenant == tenant.slug for flow in FLOWS):
            proof = proofs.keep_record_proof(context, tenant, name, proof_token(name))
            if name not in proven:  # what is proven is checked by the workers
                proofs.check_record(context, tenant, proof)
    described = {relay.name for relay in relays.list_relays(context, tenant) if relay.described}
    for name in dict.fromkeys(flow.relay for flow in FLOWS if flow.tenant == tenant.slug):
        if name not in described:
            description = RelayDescription.model_validate(RELAY_DESCRIPTIONS[name])
            relays.set_relay(context, tenant, name, description)
    settings = audits.get_settings(context, tenant)
    if not settings.lists:
        chosen = [*LISTS, USELESS_LIST] if tenant.slug == "copperline" else LISTS
        lists = [DnsListSetting.model_validate(dns_list) for dns_list in chosen]
        audits.put_settings(context, tenant, settings.model_copy(update={"lists": lists}))


def _feeds(context: Context, tenant: TenantAccess) -> None:
    """Two feeds: what Driftline sends in its own format, and the address for bounces."""
    there = {feed.name for feed in feeds.list_feeds(context, tenant)}
    new = (
        NewFeed(
            name="driftline", kind="http", mapping=FeedMapping.model_validate(DRIFTLINE_MAPPING),
            defaults=FeedDefaults(relay="driftline"),
        ),
        NewFeed(
            name="returns", kind="mail", source=FeedSource(addresses=["@bounce.boxoffice.glasswort.example"]),
            defaults=FeedDefaults(domain="boxoffice.glasswort.example", stream="tickets", relay="driftline"),
        ),
    )  # fmt: skip
    for feed in new:
        if feed.name not in there:
            _assign(context, tenant, feed.source.addresses)
            feeds.add_feed(context, tenant, feed)


def _assign(context: Context, tenant: TenantAccess, addresses: Sequence[str]) -> None:
    """Assign addresses for bounces to a tenant, as the owner of the installation would."""

    def write(connection: Connection) -> None:
        known = {row.value for row in assignments.list_assignments(connection, ownership.MAIL)}
        for address in addresses:
            if address not in known:
                assignments.add_assignment(
                    connection, ownership.MAIL, address, tenant.id, context.clock(), "isla@skerry.example"
                )

    context.store.transaction(write)


def _traffic(context: Context, tenant: TenantAccess) -> None:
    """What came in over the feeds so far: mail of the box office before its opening, and rows that did not fit.

    After the other events, because these are newer than they are.
    """
    if any(feed.last_event_at for feed in feeds.list_feeds(context, tenant)):
        return
    now = context.clock()
    for document in driftline_documents(now):
        receiving.receive_by_name(context, tenant, "driftline", json.dumps(document).encode(), "application/json")
    for number in range(3):
        receiving.receive_by_name(context, tenant, "returns", returned_message(now, number), "message/rfc822")


def _labels(connection: Connection, tenant_id: int) -> None:
    known = providers.labels(connection, tenant_id)
    ids = providers.provider_ids(connection, {provider.name for provider in PROVIDERS})
    for provider in PROVIDERS:
        if ids[provider.name] not in known:
            providers.set_label(connection, tenant_id, ids[provider.name], provider.label)


def _has_mail(connection: Connection) -> bool:
    return connection.scalar(select(t.flow_day.c.day).limit(1)) is not None


def _mail(anchor: date, context: Context, tenant: TenantAccess, now: datetime) -> tuple[int, int]:
    """Bring in a tenant's counters of months and events of weeks; return how many were added of both."""
    counted = _history(context, tenant, anchor) + add_counted(context, tenant, anchor, now)
    return counted, _events(context, tenant, anchor, now)


def _judge(anchor: date, is_new: bool, context: Context, tenant: TenantAccess, now: datetime) -> int:
    """Compute a tenant's readings and find its problems, of the past days too where it is new. Return open items."""
    for kind in (1, 2, 3, 4):
        compute(context, tenant.id, kind)
    if is_new:
        items.replay(context, tenant, anchor - timedelta(days=HISTORY_DAYS - 14), now.date() - timedelta(days=1))
    return items.detect(context, tenant)


def _history(context: Context, tenant: TenantAccess, anchor: date) -> int:
    """Counters of the days for which there are no events; each day wholly in one transaction, or not again."""
    c = t.flow_day.c
    there = context.store.transaction(
        lambda connection: set(connection.scalars(select(c.day).where(c.tenant_id == tenant.id).distinct()))
    )
    missing = [day for age in range(HISTORY_DAYS, EVENT_DAYS, -1) if (day := anchor - timedelta(days=age)) not in there]
    if not missing:
        return 0
    names, ids = context.store.transaction(lambda connection: names_of(connection, tenant))
    count = 0
    for start in range(0, len(missing), _DAYS_AT_ONCE):
        tally = Tally()
        for day in missing[start : start + _DAYS_AT_ONCE]:
            for key, n in day_counts(day, anchor, tenant.slug):
                tally.add_key(key, n)
        context.store.transaction(
            lambda connection, tally=tally: store_events.add_counts(connection, tenant.id, tally, names, ids)  # type: ignore[misc]
        )
        count += len(tally)
    return count


def _events(context: Context, tenant: TenantAccess, anchor: date, now: datetime) -> int:
    """Events of the recent days, up to now; on a later run only from the last day that there is."""
    c = t.event.c
    newest = context.store.transaction(
        lambda connection: connection.scalar(
            select(c.occurred_at).where(c.tenant_id == tenant.id).order_by(c.occurred_at.desc()).limit(1)
        )
    )
    first = anchor - timedelta(days=EVENT_DAYS)
    if newest is not None:
        if now - newest.replace(tzinfo=UTC) < timedelta(hours=1):
            return 0
        first = max(first, newest.date() - timedelta(days=2))  # opens and complaints come days later
    stored, day = 0, first
    batch: list[bytes] = []
    while day <= now.date():
        for row in day_rows(day, anchor, tenant.slug):
            if datetime.fromisoformat(row["time"]) <= now:
                batch.append(orjson.dumps(row))
            if len(batch) >= _BATCH:
                stored += intake.take_in(context, tenant, split_lines(b"\n".join(batch))).stored
                batch = []
        day += timedelta(days=1)
    if batch:
        stored += intake.take_in(context, tenant, split_lines(b"\n".join(batch))).stored
    return stored


def _audits(context: Context, tenant: TenantAccess) -> None:
    for row in context.store.transaction(lambda c: list_domains(c, tenant.id)):
        if row.audit is None and row.origin == "added":
            audits.run_audit(context, tenant, row.name)


def _bench(context: Context, tenant: TenantAccess) -> None:
    """Trays and their messages; passwords go into a file, as the console shows them only once."""
    demo = context.settings.var_dir / "demo"
    for name, password in load_bench(context, tenant, demo / "zones" / "keys").items():
        file = demo / f"{name}.password"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.touch(mode=0o600)
        file.write_text(f"{password}\n", "ascii")


def _sample(path: Path, anchor: date) -> None:
    """A file to load by hand: a day of mail that is not in yet, of a stream of its own, with one line that is wrong."""
    if path.exists():
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    lines = []
    for row in day_rows(anchor - timedelta(days=2), anchor, "copperline"):
        if row["domain"] == "copperline.example" and row["kind"] not in ("opened", "clicked"):
            lines.append(json.dumps({**row, "stream": "postcards", "message_id": "pc-" + row["message_id"]}))
    lines.insert(400, lines[0].replace('"accepted"', '"posted"'))
    path.write_text("\n".join(lines) + "\n", "utf-8")
