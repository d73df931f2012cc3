"""Watches: looking again and again at name servers and resolvers until they all have the planned records."""

from dataclasses import asdict, replace
from datetime import UTC, datetime, timedelta
from typing import Any

import structlog

from rust_gauge.contract.watches import (
    Watch,
    WatchedRecord,
    WatchedServer,
    WatchRequest,
    WatchSettings,
    WatchSighting,
)
from rust_gauge.core.dns import split_server
from rust_gauge.core.recordplan import (
    Ending,
    Holds,
    PlannedRecord,
    Purpose,
    RecordPlan,
    Sighting,
    WatchServer,
    ending,
    next_look,
    seconds_left,
    sight,
    silent_servers,
    watch_questions,
)
from rust_gauge.gateways.pages import may_reach
from rust_gauge.service.domains.domains import find_domain
from rust_gauge.service.plans.plans import compute, zone_servers
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.webhooks import webhooks
from rust_gauge.store import audits as store_audits
from rust_gauge.store import jobs
from rust_gauge.store import watches as store_watches
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.watches import WatchRow

log = structlog.get_logger()
_SETTING = "watch-resolvers"
_MAX_RUNNING = 50  # of a tenant: each asks all resolvers every few minutes
_MAX_QUESTIONS = 5000  # of one round
_PAUSE = timedelta(seconds=5)  # between two looks that somebody asks for: resolvers of others are not to be flooded


def get_settings(context: Context, tenant: TenantAccess) -> WatchSettings:
    kept = context.store.transaction(lambda c: store_audits.get_setting(c, tenant.id, _SETTING)) or {}
    settings = WatchSettings.model_validate(kept)
    return settings.model_copy(update={"given": [text.partition("=")[0] for text in context.settings.watch_resolvers]})


def put_settings(context: Context, tenant: TenantAccess, settings: WatchSettings) -> WatchSettings:
    """Choose resolvers. ServiceProblem `invalid-request` for an address that is none, or not public."""
    for resolver in settings.resolvers:
        try:
            host, _ = split_server(resolver.address)
        except ValueError as error:
            raise ServiceProblem(
                "invalid-request", str(error), remedy="Write 198.51.100.53 or 198.51.100.53:5353"
            ) from None
        if not may_reach(host, context.resolver.reach):
            what = f"{resolver.address} is not a public address"
            raise ServiceProblem(
                "invalid-request", what, remedy="Private resolvers must be listed in the service settings"
            )
    kept = settings.model_dump(mode="json", exclude={"given"})
    context.store.transaction(lambda c: store_audits.put_setting(c, tenant.id, _SETTING, kept, context.clock()))
    return get_settings(context, tenant)


def start_watch(context: Context, tenant: TenantAccess, text: str, request: WatchRequest) -> Watch:
    """Watch records of a domain's plan. The first look follows at once, as a job."""
    row = find_domain(context, tenant, text)
    plan = compute(context, tenant, row)
    wanted = set(request.keys)
    records = [r for r in plan.records if not r.waits_for and (r.key in wanted if wanted else not r.elsewhere)]
    missing = wanted - {record.key for record in records}
    if missing or not records:
        what = (
            f"The plan has no record {sorted(missing)[0][:100]!r} to watch"
            if missing
            else "The plan has no record to watch"
        )
        raise ServiceProblem(
            "invalid-request", what, remedy="Use record keys of the plan; add streams and relays first"
        )
    servers = _servers(context, tenant, plan)
    if len(records) * len(servers) > _MAX_QUESTIONS:
        what = f"{len(records)} records at {len(servers)} servers exceed {_MAX_QUESTIONS} queries per round"
        raise ServiceProblem("too-large", what, remedy="Watch fewer records at a time")
    now = context.clock()
    if context.store.transaction(lambda c: store_watches.running(c, tenant.id)) >= _MAX_RUNNING:
        raise ServiceProblem(
            "too-large", f"{_MAX_RUNNING} watches are running, the limit", remedy="Cancel watches that are not needed"
        )

    def write(connection: Any) -> int:
        id = store_watches.add_watch(
            connection,
            tenant_id=tenant.id,
            domain_id=row.id,
            records=[_record_out(record) for record in records],
            servers=[asdict(server) for server in servers],
            created_at=now,
            next_at=now,
            gives_up_at=now + timedelta(hours=request.hours),
        )
        jobs.enqueue(connection, "watch", tenant.id, id, now)
        return id

    return get_watch(context, tenant, context.store.transaction(write))


def _servers(context: Context, tenant: TenantAccess, plan: RecordPlan) -> list[WatchServer]:
    own = [WatchServer(name, address, own=True) for name, address in context.resolver.run(zone_servers(plan.zone))]
    named = (text.partition("=") for text in context.settings.watch_resolvers)
    given = [WatchServer(label, address) for label, _, address in named]
    chosen = [WatchServer(resolver.label, resolver.address) for resolver in get_settings(context, tenant).resolvers]
    return list(
        {(watch_server.address, watch_server.own): watch_server for watch_server in [*own, *given, *chosen]}.values()
    )


def list_watches(context: Context, tenant: TenantAccess, text: str) -> list[Watch]:
    """The newest watches of a domain."""
    row = find_domain(context, tenant, text)
    return [_shown(watch) for watch in context.store.transaction(lambda c: store_watches.list_watches(c, row.id))]


def get_watch(context: Context, tenant: TenantAccess, id: int) -> Watch:
    row = context.store.transaction(lambda c: store_watches.get_watch(c, id, tenant.id))
    if row is None:
        raise ServiceProblem(
            "not-found", f"{tenant.name} has no watch {id}", remedy="List the watches of the domain to find its id"
        )
    return _shown(row)


def cancel_watch(context: Context, tenant: TenantAccess, id: int) -> Watch:
    """Stop it; what it saw stays."""
    get_watch(context, tenant, id)
    context.store.transaction(lambda c: store_watches.finish_watch(c, id, "cancelled", context.clock()))
    return get_watch(context, tenant, id)


def recheck_watch(context: Context, tenant: TenantAccess, id: int) -> Watch:
    """Re-check now instead of at the next scheduled time, unless the last check is just over. An ended watch stays
    ended.
    """
    seen = get_watch(context, tenant, id)
    if seen.looked_at is None or context.clock() - seen.looked_at >= _PAUSE:
        look(context, id)
    return get_watch(context, tenant, id)


def run_watch(context: Context, id: int) -> None:
    """One round, and the next one asked for: what the worker does."""
    next_at = look(context, id)
    row = context.store.transaction(lambda c: store_watches.get_watch(c, id))
    if next_at is not None and row is not None:
        context.store.transaction(lambda c: jobs.enqueue(c, "watch", row.tenant_id, id, context.clock(), at=next_at))


def look(context: Context, id: int) -> datetime | None:
    """Ask every server for every record once. Return when to ask again; None when the watch has ended."""
    row = context.store.transaction(lambda c: store_watches.get_watch(c, id))
    if row is None or row.state != "running":
        return None
    records = [_record_in(record) for record in row.records]
    servers = [WatchServer(**server) for server in row.servers]
    plan = RecordPlan(row.domain, records[0].zone, tuple(records))
    asked = watch_questions(records, servers)
    answers = context.resolver.look([question for _, _, question in asked])
    seen = [sight(record, server, answer, plan) for (record, server, _), answer in zip(asked, answers, strict=True)]
    before = {(sighting["key"], sighting["server"]): sighting.get("failures", 0) for sighting in row.sightings}
    seen = [
        replace(each, failures=before.get((each.key, each.server), 0) + 1) if each.holds is Holds.FAILED else each
        for each in seen
    ]
    now = context.clock()
    wait = timedelta(seconds=next_look(seen, row.rounds))
    values: dict[str, Any] = {
        "sightings": [_sighting_out(sighting, now) for sighting in seen],
        "rounds": row.rounds + 1,
        "looked_at": now,
        "next_at": now + wait,
    }
    over = ending(seen, timed_out=now + wait > row.gives_up_at.replace(tzinfo=UTC))
    if over:
        values |= {"state": str(over), "finished_at": now, "next_at": None}

    def write(connection: Any) -> None:
        if store_watches.change_watch(connection, id, **values) and over:
            _tell(connection, row, records, seen, over, now)

    context.store.transaction(write)
    return None if over else now + wait


def _tell(
    connection: Any, row: WatchRow, records: list[PlannedRecord], seen: list[Sighting], over: Ending, now: datetime
) -> None:
    """Whoever looks at the domain's history finds how it ended."""
    names = ", ".join(dict.fromkeys(f"{record.name} {record.rdtype}" for record in records[:3]))
    more = f" and {len(records) - 3} more" if len(records) > 3 else ""
    silent = silent_servers(seen)
    how = {
        Ending.AGREED: f"seen by all {len(row.servers)} servers",
        Ending.INCOMPLETE: f"{len(silent)} of {len(row.servers)} servers did not answer: {', '.join(silent)}",
        Ending.GAVE_UP: "not seen by all servers when the time was over",
    }[over]
    entry = {"tenant_id": row.tenant_id, "domain_id": row.domain_id, "audit_id": 0, "happened_at": now, "kind": "watch",
             "title": f"{names}{more}: {how}"[:500], "document": {"watch": row.id, "state": str(over)}}  # fmt: skip
    store_audits.add_history(connection, [entry])
    told = {"watch": row.id, "domain": row.domain, "summary": f"{names}{more}: {how}",
            "records": [{"name": record.name, "type": record.rdtype} for record in records]}  # fmt: skip
    webhooks.tell(connection, row.tenant_id, f"watch.{over}", told, now)
    log.info("watch_ended", watch=row.id, domain=row.domain, state=over)


def _record_out(record: PlannedRecord) -> dict[str, Any]:
    return {**asdict(record), "purpose": str(record.purpose)}


def _record_in(kept: dict[str, Any]) -> PlannedRecord:
    return PlannedRecord(**{**kept, "purpose": Purpose(kept["purpose"])})


def _sighting_out(seen: Sighting, now: datetime) -> dict[str, Any]:
    until = None if seen.seconds is None else (now + timedelta(seconds=seen.seconds)).isoformat()
    return {"key": seen.key, "server": seen.server, "holds": str(seen.holds), "values": list(seen.values),
            "until": until, "seconds": seen.seconds, "failures": seen.failures,
            "detail": seen.detail[:300]}  # fmt: skip


def _shown(row: WatchRow) -> Watch:
    sightings = [
        WatchSighting.model_validate({k: v for k, v in sighting.items() if k not in ("seconds", "failures")})
        for sighting in row.sightings
    ]
    seen = [Sighting(e["key"], e["server"], Holds(e["holds"]), seconds=e["seconds"]) for e in row.sightings]
    left = seconds_left(seen) if seen else None
    known = left is not None and not silent_servers(seen)  # nobody knows what a silent server holds
    all_by = row.looked_at + timedelta(seconds=left or 0) if known and row.looked_at else None
    records = [
        WatchedRecord(
            key=(key := _record_in(kept).key), name=kept["name"], type=kept["rdtype"], value=kept["value"],
            seen_by=sum(sighting.holds is Holds.NEW for sighting in seen if sighting.key == key),
            asked=sum(sighting.key == key for sighting in seen) or len(row.servers),
        )
        for kept in row.records
    ]  # fmt: skip
    return Watch(
        id=row.id, domain=row.domain, state=row.state, summary=_said(row, seen, records, left),
        records=records, servers=[WatchedServer.model_validate(server) for server in row.servers],
        sightings=sightings, rounds=row.rounds, created_at=row.created_at, looked_at=row.looked_at,
        next_at=row.next_at, gives_up_at=row.gives_up_at, finished_at=row.finished_at, all_by=all_by,
    )  # fmt: skip


def _said(row: WatchRow, seen: list[Sighting], records: list[WatchedRecord], left: int | None) -> str:
    if not seen:
        return "Not checked yet"
    whole = {e.server for e in seen} - {e.server for e in seen if e.holds is not Holds.NEW}
    failed = silent_servers(seen)
    many = "the record" if len(records) == 1 else f"all {len(records)} records"
    text = f"{len(whole)} of {len(row.servers)} servers have {many}"
    if failed:
        more = f" and {len(failed) - 5} more" if len(failed) > 5 else ""
        text += f"; no answer from {', '.join(failed[:5])}{more}"
    if row.state == "gave_up":
        return f"{text}; the time is over"
    if row.state == "running" and left:
        minutes = -(-left // 60)
        text += f"; the last will in {left} s" if left < 90 else f"; the last will in {minutes} minutes"
    elif row.state == "running" and left is None and any(e.holds in (Holds.OLD, Holds.NOTHING) for e in seen):
        text += "; not all name servers of the zone have it, so the time is unknown"
    return text
