"""Relays and what a tenant says of them."""

import ipaddress
import re
from collections.abc import Iterable

from sqlalchemy import Connection

from rust_gauge.contract.relays import Relay, RelayDescription
from rust_gauge.core.errors import DomainNameError, IpAddressError
from rust_gauge.core.names import normalise_domain, parse_ip
from rust_gauge.core.sending import DkimNeed, HostNeed, PlannedStream, SendingHost, SendingPath, expand_streams
from rust_gauge.core.sending import Relay as PlanRelay
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.store import domains as store_domains
from rust_gauge.store import relays as store_relays
from rust_gauge.store import report_sources
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.domains import DomainRow


def list_relays(context: Context, tenant: TenantAccess) -> list[Relay]:
    rows, domains = context.store.transaction(
        lambda c: (store_relays.list_relays(c, tenant.id), store_domains.list_domains(c, tenant.id))
    )
    users: dict[str, list[str]] = {}
    for domain in domains:
        for stream in domain.streams:
            for name in {stream.get("relay", ""), *stream.get("relays", [])} - {""}:
                users.setdefault(name, []).append(domain.name)
    known = dict(rows)
    return [
        Relay(name=name, described=known.get(name) is not None, domains=users.get(name, []), **(known.get(name) or {}))
        for name in sorted({*known, *users})
    ]


def set_relay(context: Context, tenant: TenantAccess, name: str, description: RelayDescription) -> Relay:
    """Set what is known of a relay. ServiceProblem `invalid-request` where an address or a name is none."""
    checked = _checked(description)

    def write(connection: Connection) -> None:
        store_relays.set_relay(connection, tenant.id, name, checked.model_dump(mode="json"))
        report_sources.judge_again(connection, tenant.id)

    context.store.transaction(write)
    return next(relay for relay in list_relays(context, tenant) if relay.name == name)


def delete_relay(context: Context, tenant: TenantAccess, name: str) -> None:
    """Delete the description of a relay. Its events and the streams that name it stay."""

    def write(connection: Connection) -> bool:
        report_sources.judge_again(connection, tenant.id)
        return store_relays.delete_relay(connection, tenant.id, name)

    if not context.store.transaction(write):
        described = [relay.name for relay in list_relays(context, tenant) if relay.described]
        raise unknown_name(tenant.name, "described relay", name, described)


def described(connection: Connection, tenant_id: int, name: str) -> RelayDescription:
    """Return the description of a relay; an empty one where nobody described it."""
    known = next((said for relay, said in store_relays.list_relays(connection, tenant_id) if relay == name), None)
    return RelayDescription.model_validate(known or {})


def planned_streams(row: DomainRow) -> tuple[PlannedStream, ...]:
    """Return the streams of a domain with what they leave open filled in: From is the domain itself."""
    return tuple(
        PlannedStream(
            s["name"], s["header_from"] or row.name, s["envelope"], s["dkim_domain"], s["selector"],
            tuple(dict.fromkeys([name for name in [s["relay"], *s.get("relays", [])] if name])), s["helo"],
            tuple(s["ips"]),
        )
        for s in row.streams
    )  # fmt: skip


def sending_paths(row: DomainRow, relays: Iterable[PlanRelay]) -> tuple[SendingPath, ...]:
    """Return the streams of a domain over their relays, by the choices of its plan."""
    ways = row.plan.get("settings", {}).get("spf_ways", [])
    return expand_streams(planned_streams(row), relays, {choice["relay"]: choice["way"] for choice in ways})


def plan_relays(context: Context, tenant: TenantAccess) -> tuple[PlanRelay, ...]:
    """The described relays as a plan wants them."""
    return context.store.transaction(lambda c: described_relays(c, tenant.id))


def described_relays(connection: Connection, tenant_id: int) -> tuple[PlanRelay, ...]:
    """The same, within a transaction."""
    rows = store_relays.list_relays(connection, tenant_id)
    return tuple(_for_plan(name, RelayDescription.model_validate(text)) for name, text in rows if text is not None)


def _for_plan(name: str, d: RelayDescription) -> PlanRelay:
    def need(record: object) -> HostNeed | None:
        r = getattr(d, str(record))
        return HostNeed(r.label.lower(), r.type, r.value, r.priority, r.spf) if r else None

    return PlanRelay(
        name,
        own=d.own,
        hosts=tuple(SendingHost(host.ip, host.helo) for host in d.hosts),
        include=d.include,
        networks=tuple(d.networks),
        dkim=tuple(DkimNeed(key.selector.lower(), key.type, key.value) for key in d.dkim),
        return_path=need("return_path"),
        tracking=need("tracking"),
        inbound=tuple((inbound.priority, inbound.host) for inbound in d.inbound),
    )


def _checked(description: RelayDescription) -> RelayDescription:
    """Return the description with names as A-labels and valid addresses."""
    hosts = [
        host.model_copy(update={"ip": _address(host.ip), "helo": _name(host.helo, "hosts.helo")})
        for host in description.hosts
    ]
    _check_keys(description)
    dkim = [
        key.model_copy(update={"value": _target(key.value, "dkim.value") if key.type == "CNAME" else key.value.strip()})
        for key in description.dkim
    ]
    records = {
        field: record.model_copy(update={"value": _target(record.value, f"{field}.value")})
        for field in ("return_path", "tracking")
        if (record := getattr(description, field)) is not None
    }
    inbound = [
        inbound.model_copy(update={"host": _target(inbound.host, "inbound.host")}) for inbound in description.inbound
    ]
    return description.model_copy(
        update={
            "hosts": hosts, "networks": [_network(text) for text in description.networks],
            "include": _target(description.include, "include"), "dkim": dkim, "inbound": inbound, **records,
        }
    )  # fmt: skip


def _check_keys(description: RelayDescription) -> None:
    """ServiceProblem for keys that could never be published."""
    seen: set[str] = set()
    for key in description.dkim:
        selector = key.selector.lower()
        if any(not _LABEL.match(label) for label in selector.split(".")):
            what = f"{key.selector} cannot be a selector"
            raise _refuse("dkim.selector", what, "Use letters, digits and inner hyphens, up to 63 in each label")
        if selector in seen:
            raise _refuse("dkim.selector", f"{key.selector} appears twice", "Give each key its own selector")
        seen.add(selector)
        if key.type == "CNAME" and not key.value.strip():
            what = f"the CNAME of selector {key.selector} has no target"
            raise _refuse("dkim.value", what, "Enter the name that the relay gave you, or use the type TXT")


_LABEL = re.compile(r"[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?\Z")


def _refuse(field: str, what: str, remedy: str) -> ServiceProblem:
    return ServiceProblem("invalid-request", f"{field}: {what}", remedy=remedy)


def _address(text: str) -> str:
    try:
        return str(parse_ip(text))
    except IpAddressError as error:
        raise _refuse("hosts.ip", str(error), error.remedy) from None


def _network(text: str) -> str:
    try:
        return str(ipaddress.ip_network(text.strip(), strict=False)).removesuffix("/32").removesuffix("/128")
    except ValueError:
        raise _refuse("networks", f"{text[:60]} is not a network", "Write it as 192.0.2.40/29") from None


def _name(text: str, field: str) -> str:
    if not text.strip():
        return ""
    try:
        return normalise_domain(text)
    except DomainNameError as error:
        raise _refuse(field, str(error), error.remedy) from None


def _target(text: str, field: str) -> str:
    """A host that may hold {domain} or {dashed}."""
    text = text.strip()
    if not text:
        return ""
    filled = _name(text.replace("{domain}", "d.example").replace("{dashed}", "d-example"), field)
    return filled if "{" not in text else text.lower().rstrip(".")
