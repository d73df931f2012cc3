"""Publishing a plan by dynamic update: show the exact change, apply it when it is confirmed, verify, roll back."""

import base64
import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

from rust_gauge.contract.publishing import (
    NewUpdateServer,
    Publication,
    RrsetChange,
    UpdateServer,
    ZoneChange,
    ZoneChangeRequest,
)
from rust_gauge.core.dns import DnsQuestion, split_server
from rust_gauge.core.recordplan import PlannedRecord, plan_changes
from rust_gauge.core.recordplan import RrsetChange as CoreChange
from rust_gauge.core.recordplan import ZoneChange as CoreZoneChange
from rust_gauge.gateways.dns_update import KeyRefused, UpdateFailed, send_update
from rust_gauge.gateways.dns_update import UpdateServer as Server
from rust_gauge.service.domains.domains import domain_name, find_domain
from rust_gauge.service.plans.plans import compute
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt, encrypt
from rust_gauge.store import audits as store_audits
from rust_gauge.store import publications as store_publications
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.domains import DomainRow
from rust_gauge.store.publications import PublicationRow

_SETTING = "update-servers"
_MAX_SERVERS = 200  # zones of a tenant that can be changed by dynamic update


def list_servers(context: Context, tenant: TenantAccess) -> list[UpdateServer]:
    return [_shown_server(zone, server) for zone, server in sorted(_servers(context, tenant).items())]


def put_server(context: Context, tenant: TenantAccess, zone: str, new: NewUpdateServer) -> UpdateServer:
    """Store the server of a zone. ServiceProblem `invalid-request` for an invalid address or secret."""
    zone = domain_name(zone)
    try:
        host, port = split_server(new.address)
        allowed = context.resolver.may_ask(new.address)
    except ValueError as error:
        raise ServiceProblem("invalid-request", str(error), remedy="Write 192.0.2.53 or 192.0.2.53:5353") from None
    if not allowed:
        remedy = "Private name servers must be listed in the service settings (update_servers)"
        raise ServiceProblem("invalid-request", f"{new.address} is not a public address", remedy=remedy)
    try:
        base64.b64decode(new.secret.get_secret_value(), validate=True)
    except ValueError:
        raise ServiceProblem(
            "invalid-request", "secret: not valid base64", remedy="Copy it as printed by tsig-keygen"
        ) from None
    kept: dict[str, Any] = {
        "address": f"[{host}]:{port}" if ":" in host else f"{host}:{port}",
        "key_name": domain_name(new.key_name),
        "algorithm": new.algorithm,
        "secret": encrypt(context.settings, new.secret.get_secret_value()),
    }

    until = context.clock() + timedelta(hours=new.overlap_hours)

    def write(connection: Any) -> None:
        known = store_audits.get_setting(connection, tenant.id, _SETTING) or {}
        if new.overlap_hours and zone in known:
            before = {name: known[zone][name] for name in ("key_name", "algorithm", "secret")}
            kept["previous"] = {**before, "until": until.isoformat()}
        if len({*known, zone}) > _MAX_SERVERS:
            raise ServiceProblem(
                "too-large", f"{_MAX_SERVERS} zones have an update server, the limit", remedy="Delete some first"
            )
        store_audits.put_setting(connection, tenant.id, _SETTING, {**known, zone: kept}, context.clock())

    context.store.transaction(write)
    return _shown_server(zone, kept)


def forget_server(context: Context, tenant: TenantAccess, zone: str) -> None:
    """Delete a server and its key."""
    zone = domain_name(zone)

    def write(connection: Any) -> bool:
        known = dict(store_audits.get_setting(connection, tenant.id, _SETTING) or {})
        there = known.pop(zone, None) is not None
        store_audits.put_setting(connection, tenant.id, _SETTING, known, context.clock())
        return there

    if not context.store.transaction(write):
        raise ServiceProblem("not-found", f"{zone} has no update server", remedy="List the update servers")


def preview_publication(context: Context, tenant: TenantAccess, text: str, request: ZoneChangeRequest) -> ZoneChange:
    """Exactly what would change in the zone."""
    row = find_domain(context, tenant, text)
    server, change = _change(context, tenant, row, request.keys)
    return _shown_change(server, change)


def add_publication(
    context: Context, tenant: TenantAccess, text: str, request: ZoneChangeRequest, made_by: str
) -> Publication:
    """Publish the previewed change and check the result. ServiceProblem `changed-meanwhile`, `update-failed`."""
    row = find_domain(context, tenant, text)
    server, change = _change(context, tenant, row, request.keys)
    shown = _shown_change(server, change)
    if shown.digest != request.digest:
        raise ServiceProblem(
            "changed-meanwhile", "The changes differ from the preview", remedy="Preview the changes again"
        )
    if not change.changes:
        raise ServiceProblem("already-there", "The zone already has all records", remedy="Nothing to do")
    _send(context, tenant, server, change.changes)
    now = context.clock()
    verified = _holds(context, server, change.changes)

    def write(connection: Any) -> int:
        id = store_publications.add_publication(
            connection, tenant_id=tenant.id, domain_id=row.id, zone=server.zone, verified=verified,
            changes=[_out(rrset) for rrset in change.changes], made_at=now, made_by=made_by[:254],
        )  # fmt: skip
        names = ", ".join(f"{rrset.name} {rrset.rdtype}" for rrset in change.changes[:3])
        more = f" and {len(change.changes) - 3} more" if len(change.changes) > 3 else ""
        entry = {"tenant_id": tenant.id, "domain_id": row.id, "audit_id": 0, "happened_at": now, "kind": "published",
                 "title": f"{names}{more} published by {made_by}"[:500], "document": {"publication": id}}  # fmt: skip
        store_audits.add_history(connection, [entry])
        return id

    return get_publication(context, tenant, context.store.transaction(write))


def roll_back_publication(context: Context, tenant: TenantAccess, id: int, made_by: str) -> Publication:
    """Restore what was there before a change, unless somebody changed it since."""
    row = _publication(context, tenant, id)
    if row.state != "applied":
        raise ServiceProblem("already-there", "It has already been rolled back", remedy="Nothing to do")
    server = _server(context, tenant, row.zone)
    _send(context, tenant, server, [_in(change).reversed() for change in row.changes])
    now = context.clock()

    def write(connection: Any) -> None:
        store_publications.change_publication(connection, id, state="rolled_back", rolled_back_at=now)
        title = f"Change {row.id} of {row.made_at:%Y-%m-%d} rolled back by {made_by}"[:500]
        entry = {"tenant_id": tenant.id, "domain_id": row.domain_id, "audit_id": 0, "happened_at": now,
                 "kind": "published", "title": title,
                 "document": {"publication": id}}  # fmt: skip
        store_audits.add_history(connection, [entry])

    context.store.transaction(write)
    return get_publication(context, tenant, id)


def get_publication(context: Context, tenant: TenantAccess, id: int) -> Publication:
    return _shown(_publication(context, tenant, id))


def list_publications(context: Context, tenant: TenantAccess, text: str) -> list[Publication]:
    """Changes that were made for a domain, newest first."""
    row = find_domain(context, tenant, text)
    return [
        _shown(publication)
        for publication in context.store.transaction(lambda c: store_publications.list_publications(c, row.id))
    ]


def _publication(context: Context, tenant: TenantAccess, id: int) -> PublicationRow:
    row = context.store.transaction(lambda c: store_publications.get_publication(c, tenant.id, id))
    if row is None:
        raise ServiceProblem(
            "not-found", f"{tenant.name} has no publication {id}", remedy="List the publications of the domain"
        )
    return row


def _servers(context: Context, tenant: TenantAccess) -> Mapping[str, dict[str, Any]]:
    return context.store.transaction(lambda c: store_audits.get_setting(c, tenant.id, _SETTING)) or {}


def _server(context: Context, tenant: TenantAccess, zone: str) -> Server:
    kept = _servers(context, tenant).get(zone)
    if kept is None:
        what = f"There is no update server for the zone {zone}"
        raise ServiceProblem("not-found", what, remedy="Add its address and TSIG key, or publish manually")
    host, port = split_server(kept["address"])
    if not context.resolver.may_ask(kept["address"]):  # the settings may have changed since
        raise ServiceProblem(
            "invalid-request", f"{kept['address']} may not be contacted", remedy="Ask the operator of the service"
        )
    return Server(host, port, zone, kept["key_name"], kept["algorithm"], decrypt(context.settings, kept["secret"]))


def _previous_server(context: Context, tenant: TenantAccess, server: Server) -> Server | None:
    """Return the server with the key that was used before, while that one is still tried."""
    before = _servers(context, tenant).get(server.zone, {}).get("previous")
    if not before or datetime.fromisoformat(before["until"]) <= context.clock():
        return None
    secret = decrypt(context.settings, before["secret"])
    return replace(server, key_name=before["key_name"], algorithm=before["algorithm"], secret=secret)


def _change(
    context: Context, tenant: TenantAccess, row: DomainRow, keys: Sequence[str]
) -> tuple[Server, CoreZoneChange]:
    plan = compute(context, tenant, row)
    server = _server(context, tenant, plan.zone)
    wanted = set(keys)
    records: list[PlannedRecord] = [record for record in plan.records if not wanted or record.key in wanted]
    missing = wanted - {record.key for record in records}
    if missing:
        what = f"The plan has no record {sorted(missing)[0][:100]!r}"
        raise ServiceProblem("invalid-request", what, remedy="Use record keys of the plan")
    return server, context.resolver.run(plan_changes(records, server.where), fresh=True)


def _holds(context: Context, server: Server, changes: Sequence[CoreChange]) -> bool:
    answers = context.resolver.look([DnsQuestion(change.name, change.rdtype, server.where) for change in changes])
    return all(
        {rdata.to_text().lower() for rdata in answer.records} == {value.lower() for value in change.after}
        for change, answer in zip(changes, answers, strict=True)
    )


def _send(context: Context, tenant: TenantAccess, server: Server, changes: Sequence[CoreChange]) -> None:
    try:
        try:
            send_update(server, changes)
        except KeyRefused:  # nothing was changed, so the key before may be tried
            previous = _previous_server(context, tenant, server)
            if previous is None:
                raise
            send_update(previous, changes)
    except UpdateFailed as error:
        raise ServiceProblem("update-failed", str(error), remedy=error.remedy) from None


def _out(change: CoreChange) -> dict[str, Any]:
    return {"name": change.name, "type": change.rdtype, "ttl": change.ttl, "before_ttl": change.before_ttl,
            "before": list(change.before), "after": list(change.after)}  # fmt: skip


def _in(kept: dict[str, Any]) -> CoreChange:
    return CoreChange(
        kept["name"], kept["type"], kept["ttl"], tuple(kept["before"]), kept["before_ttl"], tuple(kept["after"])
    )


def _shown_change(server: Server, change: CoreZoneChange) -> ZoneChange:
    changes = [RrsetChange.model_validate(_out(rrset)) for rrset in change.changes]
    said = json.dumps([server.zone, [{k: v for k, v in _out(e).items() if k != "before_ttl"} for e in change.changes]])
    digest = hashlib.sha256(said.encode()).hexdigest()[:32]
    return ZoneChange(
        zone=server.zone, server=f"{server.address} port {server.port}", changes=changes,
        obstacles=list(change.obstacles), digest=digest,
    )  # fmt: skip


def _shown_server(zone: str, kept: dict[str, Any]) -> UpdateServer:
    before = kept.get("previous")
    return UpdateServer(
        zone=zone, address=kept["address"], key_name=kept["key_name"], algorithm=kept["algorithm"],
        previous_until=datetime.fromisoformat(before["until"]) if before else None,
    )  # fmt: skip


def _shown(row: PublicationRow) -> Publication:
    return Publication(
        id=row.id, domain=row.domain, zone=row.zone, state=row.state, verified=row.verified,
        changes=[RrsetChange.model_validate(c) for c in row.changes], made_at=row.made_at, made_by=row.made_by,
        rolled_back_at=row.rolled_back_at,
    )  # fmt: skip
