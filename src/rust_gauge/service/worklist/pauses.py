"""Brakes: a stream over a relay that clearance holds as a whole until somebody releases it."""

from datetime import timedelta

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.worklist import AlertSettings, StreamPause, StreamPauseChange
from rust_gauge.core.shares import percent
from rust_gauge.service.readings import lines
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.webhooks import webhooks
from rust_gauge.store import audits as store_settings
from rust_gauge.store import suppression_state
from rust_gauge.store import worklist as store
from rust_gauge.store.accounts import TenantAccess

log = structlog.get_logger()


_RELEASED = "brake_releases"


_RESUMED_FOR = timedelta(hours=24)  # a pause that was released is not put on again by itself


def pause_at_stop_lines(unit: UnitOfWork, tenant: TenantAccess, settings: AlertSettings) -> None:
    """Pause streams over a relay whose rate is above a stop line, until somebody resumes them."""
    connection, now = unit.connection, unit.now
    held = {(pause["stream"], pause["relay"]) for pause in store.pauses(connection, tenant.id)}
    released = store_settings.get_setting(connection, tenant.id, _RELEASED) or {}
    for stream, relay, row in lines.stream_relay_lines(unit, tenant, settings):
        if row.crossed != "stop" or (stream, relay) in held:
            continue
        if released.get(f"{stream}\x1f{relay}", "") > (now - _RESUMED_FOR).isoformat():
            continue  # somebody let it go on, knowing
        why = (
            f"{row.rate}: {row.events:,} of {row.mail:,} messages in the last {row.days} days, estimate "
            f"{percent(row.estimate)}, above the stop line of {percent(row.stop)}"
        )
        add_brake(unit, tenant, stream, relay, why)


def add_brake(unit: UnitOfWork, tenant: TenantAccess, stream: str, relay: str, why: str) -> None:
    """Store a stream pause; without an author if a stop line caused it."""
    connection, now = unit.connection, unit.now
    suppression_state.lock(connection, tenant.id)
    found = store.pauses(connection, tenant.id)
    if any((document_["stream"], document_["relay"]) == (stream, relay) for document_ in found):
        return
    pause = {"stream": stream, "relay": relay, "since": now.isoformat(), "why": why[:300], "by": unit.by}
    store.set_pauses(connection, tenant.id, [*found, pause])
    webhooks.tell(connection, tenant.id, "stream.paused", pause, now)
    log.info("brake_on", tenant=tenant.slug, stream=stream, relay=relay)


def list_stream_pauses(context: Context, tenant: TenantAccess) -> list[StreamPause]:
    return [
        StreamPause.model_validate(document_)
        for document_ in context.store.transaction(lambda c: store.pauses(c, tenant.id))
    ]


def pause_stream(context: Context, tenant: TenantAccess, new: StreamPauseChange, by: str) -> list[StreamPause]:
    """Pause a stream over a relay for a person."""
    context.unit(tenant.id, lambda unit: add_brake(unit, tenant, new.stream, new.relay, new.why), by=by)
    return list_stream_pauses(context, tenant)


def resume_stream(context: Context, tenant: TenantAccess, release: StreamPauseChange, by: str) -> list[StreamPause]:
    """Resume a stream over a relay. For a day it is not paused again automatically."""
    now = context.clock()

    def write(connection: Connection) -> None:
        suppression_state.lock(connection, tenant.id)
        found = store.pauses(connection, tenant.id)
        kept = [
            document_
            for document_ in found
            if (document_["stream"], document_["relay"]) != (release.stream, release.relay)
        ]
        if len(kept) == len(found):
            raise ServiceProblem("not-found", f"{release.stream} over {release.relay or 'any relay'} is not paused")
        store.set_pauses(connection, tenant.id, kept)
        data = {"stream": release.stream, "relay": release.relay, "why": release.why, "by": by}
        webhooks.tell(connection, tenant.id, "stream.resumed", data, now)
        released = store_settings.get_setting(connection, tenant.id, _RELEASED) or {}
        recent = {key: at for key, at in released.items() if at > (now - _RESUMED_FOR).isoformat()}
        document = {**recent, f"{release.stream}\x1f{release.relay}": now.isoformat()}
        store_settings.put_setting(connection, tenant.id, _RELEASED, document, now)

    context.store.transaction(write)
    return list_stream_pauses(context, tenant)
