"""A plan that is published in full is aligned and free of faults when the zone that it makes is audited."""

import ipaddress

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rust_gauge.core.audit import AuditRequest, Level, audit_domain, streams_of
from rust_gauge.core.dns import drive
from rust_gauge.core.recordplan import PlanRequest, PlanSettings, RecordPlan, make_plan
from rust_gauge.core.sending import DkimNeed, HostNeed, PlannedStream, Relay, SendingHost, expand_streams
from tests.answers import answering
from tests.core.test_tag_lists import RSA_2048

D = "news.glasswort.example"
KEY = f"v=DKIM1; k=rsa; p={RSA_2048}"
WORLD: dict[str, list[str]] = {
    "spf.driftline.example TXT": ["v=spf1 ip4:198.51.100.16/28 ~all"],
    "spf.cobble.example TXT": ["v=spf1 ip4:203.0.113.0/28 ~all"],
    "returns.driftline.example A": ["198.51.100.20"],
    "in.driftline.example A": ["198.51.100.21"],
    "returns.cobble.example A": ["203.0.113.5"],
    "keys.driftline.example TXT": [KEY],
    "keys.cobble.example TXT": [KEY],
    "track.driftline.example A": ["198.51.100.30"],
    "env.driftline.example TXT": ["v=spf1 include:spf.driftline.example -all"],
}
RELAYS = (
    Relay("office", own=True, networks=("192.0.2.40/29",), hosts=(SendingHost("192.0.2.41", "mta1.glasswort.example"),)),
    Relay("office-2", own=True, hosts=(SendingHost("192.0.2.60", "mta2.glasswort.example"), SendingHost("2001:db8::60", "mta2.glasswort.example"))),
    Relay("driftline", include="spf.driftline.example", dkim=(DkimNeed("df1", "CNAME", "keys.driftline.example"),),
          return_path=HostNeed("bounce", "MX", "returns.driftline.example"), tracking=HostNeed("click", "CNAME", "track.driftline.example"),
          inbound=((10, "in.driftline.example"),)),
    Relay("cobble", include="spf.cobble.example", dkim=(DkimNeed("c1", "CNAME", "keys.cobble.example"),),
          return_path=HostNeed("bounce", "MX", "returns.cobble.example")),
    Relay("plain", include="spf.cobble.example"),
    Relay("alias", include="spf.driftline.example", return_path=HostNeed("click", "CNAME", "env.driftline.example")),
)  # fmt: skip
STREAMS = st.builds(
    PlannedStream,
    name=st.sampled_from(["newsletter", "receipts", "bookings"]),
    header_from=st.just(D),
    envelope=st.sampled_from(["", "", D, f"bounce.{D}", f"env.{D}"]),
    dkim_domain=st.sampled_from(["", D]),
    selector=st.sampled_from(["", "g1"]),
    relays=st.lists(st.sampled_from([relay.name for relay in RELAYS]), min_size=1, max_size=3, unique=True).map(tuple),
)


def plan_of(streams: list[PlannedStream]) -> tuple[RecordPlan, PlanRequest]:
    choices = PlanSettings(stage="reject", reports_to=f"r@{D}", spf_ending="-all", keys=(("g1", KEY),))
    request = PlanRequest(D, "glasswort.example", RELAYS, tuple(streams), True, choices)
    return drive(make_plan(request), answering({**WORLD, **ZONE})), request


ZONE: dict[str, list[str]] = {
    "glasswort.example SOA": ["ns1.skerry.example. h.skerry.example. 1 3600 600 86400 60"],
    "glasswort.example NS": ["ns1.skerry.example.", "ns2.skerry.example."],
}


def published(plan: RecordPlan) -> dict[str, list[str]]:
    world: dict[str, list[str]] = {**WORLD, **ZONE}
    for record in plan.records:
        if not record.value and record.rdtype != "MX":
            continue
        value = record.value
        if record.rdtype == "MX":
            value = f"{record.priority} {record.value}."
        elif record.rdtype in ("CNAME", "PTR"):
            value = f"{record.value}."
        world.setdefault(f"{record.name} {record.rdtype}", []).append(value)
    return world


@settings(deadline=None, max_examples=150, suppress_health_check=[HealthCheck.too_slow])
@given(st.lists(STREAMS, min_size=1, max_size=3, unique_by=lambda stream: stream.name))
def test_a_published_plan_is_aligned_and_has_no_fault(streams: list[PlannedStream]) -> None:
    plan, request = plan_of(streams)
    world = published(plan)
    for key, found in world.items():  # one SPF record, one alias, nothing beside an alias
        name, rdtype = key.split()
        assert sum(value.startswith("v=spf1") for value in found) <= 1, (key, found)
        if rdtype == "CNAME":
            assert len(found) == 1
            assert [other for other in world if other.split()[0] == name] == [key], (key, world)
        if rdtype == "PTR":
            assert len(found) == 1
    paths = expand_streams(request.streams, request.relays)
    audit = drive(
        audit_domain(AuditRequest(D, streams=streams_of(paths), ask_servers=False, ask_pages=False)), answering(world)
    )
    left = {advice.name for advice in plan.advice}  # what could not be planned is said, and excused
    faults = [f for f in audit.findings if f.level is Level.FAULT and f.place.name not in left]
    assert not faults, [(f.title, f.evidence) for f in faults]
    for outcome in audit.whole.streams:
        if outcome.envelope not in left:
            assert outcome.by_list.result == "pass", (outcome.name, outcome.relay, outcome.by_list.reason)
    for path in paths:
        for ip in path.ips:
            assert any(host.ip == ip and host.confirmed for host in audit.whole.hosts), ip
            assert ipaddress.ip_address(ip)
