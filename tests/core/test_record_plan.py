"""Computing what a domain ought to publish, and the forms that control panels want."""

import pytest
from dns import rdata, rdataclass, rdatatype, zone
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.dns import drive
from rust_gauge.core.recordplan import (
    DkimNeed,
    HostNeed,
    PlannedRecord,
    PlannedStream,
    PlanRequest,
    PlanSettings,
    Purpose,
    RecordPlan,
    Relay,
    SendingHost,
    find_zone,
    host_forms,
    make_plan,
    quoted,
    value_forms,
    zone_line,
)
from rust_gauge.core.spf import parse_spf
from tests.answers import answering

D = "news.glasswort.example"
OFFICE = Relay(
    "office-1", own=True, hosts=(SendingHost("192.0.2.41", "mta1.skerry.example"), SendingHost("192.0.2.40"))
)
DRIFTLINE = Relay(
    "driftline", include="spf.driftline.example",
    dkim=(DkimNeed("df1", "CNAME", "df1.{dashed}.keys.driftline.example"), DkimNeed("df2", "CNAME", "df2.{dashed}.keys.driftline.example")),
    return_path=HostNeed("bounce", "MX", "returns.driftline.example", 10),
    tracking=HostNeed("click", "CNAME", "track.driftline.example"),
    inbound=((10, "in.driftline.example"), (20, "in2.driftline.example")),
)  # fmt: skip
WORLD = answering(
    {
        "glasswort.example SOA": ["ns1.skerry.example. h.skerry.example. 1 3600 600 86400 60"],
        "spf.driftline.example TXT": ["v=spf1 include:spf-a.driftline.example ip4:198.51.100.128/28 ~all"],
        "spf-a.driftline.example TXT": ["v=spf1 ip4:198.51.100.16/28 ~all"],
        **{f"spf{n}.relay.example TXT": [f"v=spf1 include:spf{n}a.relay.example ~all"] for n in range(9)},
        **{f"spf{n}a.relay.example TXT": [f"v=spf1 ip4:203.0.113.{n * 8}/29 ~all"] for n in range(9)},
    }
)


def planned(relays: tuple[Relay, ...], *streams: PlannedStream, domain: str = D, **more: object) -> RecordPlan:
    choices = PlanSettings(**{"stage": "watch", **{key: value for key, value in more.items() if key != "sends"}})  # type: ignore[arg-type]
    request = PlanRequest(domain, "glasswort.example", relays, streams, bool(more.get("sends", True)), choices)
    return drive(make_plan(request), WORLD)


def values(plan: RecordPlan, purpose: Purpose) -> list[tuple[str, str, str]]:
    return [(r.name, r.rdtype, r.value) for r in plan.records if r.purpose is purpose]


def stream(name: str = "newsletter", *relays: str, **more: str) -> PlannedStream:
    return PlannedStream(name, more.pop("header_from", D), relays=relays, **more)  # type: ignore[arg-type]


def test_a_contracted_relay_gets_every_record_that_it_asks_for() -> None:
    plan = planned((DRIFTLINE,), stream("newsletter", "driftline"), reports_to="dmarc@glasswort.example")
    assert values(plan, Purpose.DKIM) == [
        (f"df{n}._domainkey.{D}", "CNAME", f"df{n}.news-glasswort-example.keys.driftline.example") for n in (1, 2)
    ]
    assert values(plan, Purpose.RETURN_PATH) == [(f"bounce.{D}", "MX", "returns.driftline.example")]
    assert values(plan, Purpose.SPF) == [
        (f"bounce.{D}", "TXT", "v=spf1 include:spf.driftline.example -all"),
        (D, "TXT", "v=spf1 -all"),  # nothing has this name in its envelope
    ]
    assert values(plan, Purpose.TRACKING) == [(f"click.{D}", "CNAME", "track.driftline.example")]
    assert [(r.priority, r.value) for r in plan.records if r.purpose is Purpose.MX] == [
        (10, "in.driftline.example"), (20, "in2.driftline.example")]  # fmt: skip
    assert values(plan, Purpose.DMARC) == [
        (f"_dmarc.{D}", "TXT", "v=DMARC1; p=none; rua=mailto:dmarc@glasswort.example")
    ]
    assert all(record.why for record in plan.records)


def test_own_hosts_are_listed_and_get_names_in_both_directions() -> None:
    plan = planned((OFFICE,), stream("bookings", "office-1", selector="g1"))
    assert values(plan, Purpose.SPF) == [(D, "TXT", "v=spf1 ip4:192.0.2.40/31 ~all")]
    assert values(plan, Purpose.PTR) == [("41.2.0.192.in-addr.arpa", "PTR", "mta1.skerry.example")]
    assert all(r.elsewhere for r in plan.records if r.purpose in (Purpose.PTR, Purpose.HELO))
    (key,) = [r for r in plan.records if r.purpose is Purpose.DKIM]
    assert (key.name, key.value, "public key" in key.waits_for) == (f"g1._domainkey.{D}", "", True)


def test_one_record_for_all_relays_of_an_envelope_domain() -> None:
    path = Relay("cobble", include="spf0.relay.example", networks=("203.0.113.64/28",))
    plan = planned((OFFICE, path), stream("bookings", "office-1"), stream("offers", "cobble"), spf_ending="-all",
                   keep_terms=("a:www.glasswort.example",))  # fmt: skip
    (spf,) = plan.spf
    assert (
        spf.value
        == "v=spf1 ip4:192.0.2.40/31 ip4:203.0.113.64/28 a:www.glasswort.example include:spf0.relay.example -all"
    )
    assert (spf.lookups, spf.per_relay, spf.options) == (3, (("office-1", 0), ("cobble", 2)), ())


MANY = tuple(Relay(f"relay{n}", include=f"spf{n}.relay.example") for n in range(6))


def test_too_many_lookups_come_with_ways_out_and_their_price() -> None:
    streams = [stream(f"s{n}", f"relay{n}") for n in range(6)]
    (spf,) = planned(MANY, *streams).spf
    assert (spf.lookups, spf.too_many) == (12, True)
    assert {(option.way, option.relay) for option in spf.options} == {
        (w, f"relay{n}") for w in ("drop", "move", "list") for n in range(6)
    }
    assert all(option.lookups_after == 10 and option.saves == 2 and option.price for option in spf.options)
    assert spf.options[0].way == "list"
    assert "ip4:203.0.113.0/29" in spf.options[0].value
    assert not parse_spf(spf.options[0].value).problems
    for way in ("list", "move", "drop"):
        after = planned(MANY, *streams, spf_ways=(("relay0", way),))
        assert after.spf[0].lookups == 10
        assert ("relay0." + D in [row.name for row in after.spf]) == (way == "move")
    assert (
        planned(MANY, *streams, spf_ways=(("relay0", "list"),))
        .spf[0]
        .value.startswith("v=spf1 ip4:203.0.113.0/29 include:spf1")
    )


def test_an_include_that_leads_nowhere_is_told() -> None:
    (spf,) = planned((Relay("gone", include="spf.nowhere.example"),), stream("s", "gone")).spf
    assert spf.problems == ("include:spf.nowhere.example of gone: it does not exist",) or "nowhere" in spf.problems[0]


@pytest.mark.parametrize(("stage", "policy"), [("watch", "none"), ("quarantine", "quarantine"), ("reject", "reject")])
def test_dmarc_goes_in_stages(stage: str, policy: str) -> None:
    plan = planned((OFFICE,), stream("s", "office-1"), stage=stage, reports_to="r@reports.example")
    assert values(plan, Purpose.DMARC) == [
        (f"_dmarc.{D}", "TXT", f"v=DMARC1; p={policy}; rua=mailto:r@reports.example"),
        (f"{D}._report._dmarc.reports.example", "TXT", "v=DMARC1"),
    ]
    assert [r.elsewhere for r in plan.records if r.purpose is Purpose.DMARC] == [False, True]


@pytest.mark.parametrize(
    ("published", "domain", "dmarc", "advice"),
    [
        (
            {"_dmarc.glasswort.example TXT": ["v=DMARC1; p=reject"]},
            D,
            [],
            "_dmarc.glasswort.example covers it with p=reject",
        ),
        (
            {"_dmarc.glasswort.example TXT": ["v=DMARC1; p=reject; sp=none"]},
            D,
            [],
            "_dmarc.glasswort.example covers it with p=none",
        ),
        ({f"_dmarc.{D} TXT": ["v=DMARC1; p=quarantine; pct=50"]}, D, ["v=DMARC1; p=quarantine; pct=50"], ""),
        ({f"_dmarc.{D} TXT": ["v=DMARC1; p=quarantin"]}, D, ["v=DMARC1; p=none"], ""),
        ({}, D, ["v=DMARC1; p=none"], ""),
    ],
)
def test_without_a_chosen_stage_the_policy_that_holds_is_kept(
    published: dict[str, list[str | bytes | tuple[bytes, ...]]], domain: str, dmarc: list[str], advice: str
) -> None:
    request = PlanRequest(domain, "glasswort.example", (OFFICE,), (stream("n", "office-1"),))
    plan = drive(make_plan(request), answering(published))
    assert [value for _, _, value in values(plan, Purpose.DMARC)] == dmarc
    assert advice in [*(row.title for row in plan.advice), ""]


def test_the_published_end_of_spf_is_kept() -> None:
    request = PlanRequest(D, "glasswort.example", (OFFICE,), (stream("n", "office-1"),))
    assert drive(make_plan(request), answering({f"{D} TXT": ["v=spf1 mx -all"]})).spf[0].value.endswith(" -all")


def test_a_stream_that_names_its_selector_gets_a_key_there() -> None:
    plan = planned((DRIFTLINE,), stream("n", "driftline", selector="d1", envelope=D))
    assert [name for name, _, _ in values(plan, Purpose.DKIM)] == [f"d1._domainkey.{D}"]
    assert values(plan, Purpose.RETURN_PATH) == []  # its envelope is the domain itself


def test_a_name_that_never_sends_refuses_everything() -> None:
    plan = planned((), sends=False, proof="rustgauge-proof=x")
    assert [(r.name, r.rdtype, r.value) for r in plan.records] == [
        (f"_rustgauge.{D}", "TXT", "rustgauge-proof=x"),
        (D, "TXT", "v=spf1 -all"),
        (f"_dmarc.{D}", "TXT", "v=DMARC1; p=reject"),
        (D, "MX", ""),
    ]
    assert zone_line(plan.records[-1]) == f"{D}. 3600 IN MX 0 ."


def test_transport_records_and_the_policy_that_goes_with_them() -> None:
    plan = planned(
        (DRIFTLINE,),
        stream("n", "driftline"),
        mta_sts="testing",
        mta_sts_id="20261123",
        tls_reports_to="t@glasswort.example",
    )
    assert (f"_mta-sts.{D}", "TXT", "v=STSv1; id=20261123;") in values(plan, Purpose.MTA_STS)
    assert [r.waits_for for r in plan.records if r.name == f"mta-sts.{D}"] == ["the host that serves the policy"]
    assert "mode: testing\nmx: in.driftline.example\nmx: in2.driftline.example\n" in plan.sts_policy
    assert values(plan, Purpose.TLS_RPT) == [(f"_smtp._tls.{D}", "TXT", "v=TLSRPTv1; rua=mailto:t@glasswort.example")]


def test_subdomains_are_advised_where_streams_share_a_name() -> None:
    two = planned((OFFICE,), stream("bookings", "office-1"), stream("offers", "office-1"))
    assert "2 streams share" in two.advice[0].title
    assert f"offers.{D}" in two.advice[0].why
    top = planned((OFFICE,), stream("offers", "office-1", header_from="glasswort.example"), domain="glasswort.example")
    assert "organisation's own domain" in top.advice[0].title
    assert "No stream" in planned(()).advice[0].title


def test_the_zone_is_where_the_soa_is() -> None:
    assert drive(find_zone(D), WORLD) == "glasswort.example"
    assert drive(find_zone("a.b.unknown.example"), WORLD) == "unknown.example"


@pytest.mark.parametrize(
    ("name", "forms"),
    [
        ("glasswort.example", ("@", "", "glasswort.example", "glasswort.example.")),
        (f"_dmarc.{D}", ("_dmarc.news", "_dmarc.news", f"_dmarc.{D}", f"_dmarc.{D}.")),
    ],
)
def test_hosts_as_panels_want_them(name: str, forms: tuple[str, ...]) -> None:
    found = host_forms(name, "glasswort.example")
    assert (found.relative, found.relative_or_blank, found.full, found.full_with_dot) == forms


@given(st.text(st.characters(codec="utf-8", exclude_categories=["Cs"]), max_size=700))
def test_a_quoted_text_is_read_back_as_it_was(text: str) -> None:
    read = rdata.from_text(rdataclass.IN, rdatatype.TXT, quoted(text))
    assert b"".join(read.strings) == text.encode()
    assert all(len(part) <= 255 for part in read.strings)


def test_a_plan_as_a_zone_file_is_read_by_a_name_server() -> None:
    plan = planned(
        (OFFICE, DRIFTLINE), stream("n", "driftline"), stream("b", "office-1", selector="g1"), proof="rustgauge-proof=x"
    )
    own = [record for record in plan.records if not record.elsewhere and not record.waits_for]
    text = "$ORIGIN glasswort.example.\n@ 60 IN SOA ns1 h 1 2 3 4 5\n@ IN NS ns1.skerry.example.\n" + "\n".join(
        zone_line(r) for r in own
    )
    read = zone.from_text(text, relativize=False)
    assert sum(len(rdataset) for node in read.nodes.values() for rdataset in node) == len(own) + 2


def test_values_as_panels_want_them() -> None:
    mx = PlannedRecord(Purpose.MX, "d.example", "d.example", "MX", "mx1.skerry.example", 10)
    assert value_forms(mx).with_priority == "10 mx1.skerry.example."
    assert value_forms(mx).plain == "mx1.skerry.example"
    long = PlannedRecord(Purpose.DKIM, "d.example", "s._domainkey.d.example", "TXT", "k" * 300)
    assert value_forms(long).quoted == '"' + "k" * 255 + '" "' + "k" * 45 + '"'


def test_senders_that_only_the_published_record_knows_stay_in_the_plan() -> None:
    """Records of a domain whose streams nobody described, or not all: what is authorised today is never dropped unsaid."""
    world = {
        "d.example TXT": [
            "v=spf1 include:spf.cobble.example ip4:192.0.2.40/29 ip4:192.0.2.9 include:gone.example ?a -all"
        ],
        "spf.cobble.example TXT": ["v=spf1 ip4:203.0.113.16/28 -all"],
    }

    def planned(request: PlanRequest) -> RecordPlan:
        return drive(make_plan(request), answering(world))

    nothing = planned(PlanRequest("d.example", "d.example"))
    (spf,) = [record for record in nothing.records if record.purpose is Purpose.SPF]
    assert spf.value == "v=spf1 include:spf.cobble.example ip4:192.0.2.40/29 ip4:192.0.2.9 -all"
    (advice,) = [advice for advice in nothing.advice if "does not know" in advice.title]
    assert "include:spf.cobble.example, ip4:192.0.2.40/29, ip4:192.0.2.9" in advice.title
    assert "gone.example" not in advice.title
    relay = Relay("office", own=True, networks=("192.0.2.40/29",))
    stream = PlannedStream("bookings", "d.example", relays=("office",))
    some = planned(PlanRequest("d.example", "d.example", relays=(relay,), streams=(stream,)))
    (advice,) = [advice for advice in some.advice if "does not know" in advice.title]
    assert advice.title.endswith("include:spf.cobble.example, ip4:192.0.2.9")
    dropped = PlanSettings(spf_ways=(("cobble", "drop"),))
    cobble = Relay("cobble", include="spf.cobble.example")
    without = planned(
        PlanRequest("d.example", "d.example", relays=(relay, cobble), streams=(stream,), settings=dropped)
    )
    (spf,) = [record for record in without.records if record.purpose is Purpose.SPF]
    assert "cobble" not in spf.value
