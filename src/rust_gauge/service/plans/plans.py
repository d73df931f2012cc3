"""Record plans of a tenant's domains: settings, keys made here, and the plan beside what is published."""

import base64
from typing import Any

from cryptography.hazmat.primitives.asymmetric import ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from dns.rdtypes.ANY.NS import NS
from dns.rdtypes.IN.A import A

from rust_gauge.contract.plans import MadeKey, NewKey, Plan, PlanSettings
from rust_gauge.core.dns import DnsProgram, ask
from rust_gauge.core.recordplan import (
    PlanRequest,
    RecordPlan,
    Relay,
    compare_plan,
    find_zone,
    make_plan,
)
from rust_gauge.core.recordplan import PlanSettings as CoreSettings
from rust_gauge.documents.plans import plan_document
from rust_gauge.service.domains.domains import domain_name, find_domain
from rust_gauge.service.domains.relays import plan_relays, planned_streams
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import domains as store_domains
from rust_gauge.store import jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.domains import DomainRow

_MAX_RECORDS = 500  # each is looked up at several servers for every check


def get_plan(context: Context, tenant: TenantAccess, text: str) -> Plan:
    """The plan of a domain, not yet beside what is published."""
    row = find_domain(context, tenant, text)
    return plan_document(compute(context, tenant, row), settings_of(row))


def check_plan(context: Context, tenant: TenantAccess, text: str) -> Plan:
    """The plan beside what the zone's own name servers give now."""
    row = find_domain(context, tenant, text)
    plan = compute(context, tenant, row)
    servers = context.resolver.run(zone_servers(plan.zone))
    compared = context.resolver.run(compare_plan(plan, [ip for _, ip in servers], _selectors(row)), fresh=True)
    document = plan_document(plan, settings_of(row), {comparison.record.key: comparison for comparison in compared})
    if document.right == document.total > 0 and (row.audit is None or row.audit.faults):
        now = context.clock()  # what the latest audit found is fixed, most likely
        context.store.transaction(lambda c: jobs.enqueue(c, "audit", tenant.id, row.id, now))
    return document.model_copy(
        update={"checked_at": context.clock(), "servers": [f"{name} ({ip})" for name, ip in servers]}
    )


def compute(context: Context, tenant: TenantAccess, row: DomainRow) -> RecordPlan:
    """The plan as the core has it."""

    def program() -> DnsProgram[RecordPlan]:
        zone = yield from find_zone(row.name)
        return (yield from make_plan(plan_request(row, zone, plan_relays(context, tenant))))

    plan = context.resolver.run(program())
    if len(plan.records) > _MAX_RECORDS:
        what = f"The plan would have {len(plan.records)} records; the limit is {_MAX_RECORDS}"
        raise ServiceProblem("too-large", what, remedy="Move streams to subdomains and add those as domains")
    return plan


def plan_request(row: DomainRow, zone: str, relays: tuple[Relay, ...]) -> PlanRequest:
    """Return what a plan needs to know of a domain. Relays without a description take part by their name."""
    streams = planned_streams(row)
    known = {relay.name for relay in relays}
    more = tuple(Relay(name) for name in dict.fromkeys(n for s in streams for n in s.relays) if name not in known)
    return PlanRequest(
        row.name, zone, relays + more, streams, row.sends, _core_settings(row),
    )  # fmt: skip


def settings_of(row: DomainRow) -> PlanSettings:
    """Return the options of a domain's plan."""
    return PlanSettings.model_validate(row.plan.get("settings", {}))


def _core_settings(row: DomainRow) -> CoreSettings:
    s = settings_of(row)
    return CoreSettings(
        s.stage, s.reports_to, s.spf_ending, tuple((c.relay, c.way) for c in s.spf_ways), tuple(s.keep_terms),
        s.ttl, s.mta_sts, str(row.plan.get("sts_id", "")), s.mta_sts_host, s.tls_reports_to, row.plan.get("proof", ""),
        keys=tuple(row.plan.get("keys", {}).items()), percent=s.policy_percent,
    )  # fmt: skip


def put_settings(context: Context, tenant: TenantAccess, text: str, settings: PlanSettings) -> Plan:
    """Choose again. The id of the MTA-STS record changes with its mode, so that senders fetch the policy again."""
    row = find_domain(context, tenant, text)
    if settings.mta_sts_host:
        settings = settings.model_copy(update={"mta_sts_host": domain_name(settings.mta_sts_host)})
    plan = {**row.plan, "settings": settings.model_dump(mode="json")}
    served_here = bool(row.plan.get("sts_policy"))  # the id changes with what is served
    if (
        settings.mta_sts
        and not served_here
        and (settings.mta_sts != settings_of(row).mta_sts or "sts_id" not in row.plan)
    ):
        plan["sts_id"] = context.clock().strftime("%Y%m%dT%H%M%S")
    _store(context, row, plan)
    return get_plan(context, tenant, text)


def add_plan_key(context: Context, tenant: TenantAccess, text: str, new: NewKey) -> MadeKey:
    """Create a key pair for a selector. The public key goes into the plan; the private key is only returned."""
    row = find_domain(context, tenant, text)
    selector = new.selector.lower()
    if selector in row.plan.get("keys", {}) and not new.replace:
        what = f"The plan already has a key at selector {selector}"
        raise ServiceProblem("already-there", what, remedy="Use another selector, or replace the key explicitly")
    if len(row.plan.get("keys", {})) >= 50:
        raise ServiceProblem("too-large", "This domain has 50 planned keys, the limit", remedy="Delete some first")
    private: Any
    if new.kind == "ed25519":
        private = ed25519.Ed25519PrivateKey.generate()
        public = private.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)  # RFC 8463 §4.2
        record = f"v=DKIM1; k=ed25519; p={base64.b64encode(public).decode()}"
    else:
        private = rsa.generate_private_key(public_exponent=65537, key_size=2048)
        public = private.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
        record = f"v=DKIM1; k=rsa; p={base64.b64encode(public).decode()}"
    _store(context, row, {**row.plan, "keys": {**row.plan.get("keys", {}), selector: record}})
    pem = private.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()
    name = f"{selector}._domainkey.{row.name}"
    return MadeKey(name=name, selector=selector, kind=new.kind, record=record, private_key=pem)


def _store(context: Context, row: DomainRow, plan: dict[str, Any]) -> None:
    context.store.transaction(lambda c: store_domains.update_domain(c, row.id, plan=plan))


def _selectors(row: DomainRow) -> tuple[str, ...]:
    return tuple(dict.fromkeys([*row.selectors, *(s["selector"] for s in row.streams if s["selector"])]))


def zone_servers(zone: str) -> DnsProgram[tuple[tuple[str, str], ...]]:
    """(name, address) of each name server of a zone: what its NS records say."""
    answer = yield from ask(zone, "NS")
    hosts = [rdata.target for rdata in answer.records if isinstance(rdata, NS)]
    names = sorted({host.to_text(omit_final_dot=True).lower() for host in hosts})[:13]
    found = []
    for name in names:
        addresses = yield from ask(name, "A")
        found += [(name, rdata.address) for rdata in addresses.records if isinstance(rdata, A)][:1]
    return tuple(found)
