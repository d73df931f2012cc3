"""Who sends as us by what reports tell: each source is judged by its evidence, and never for more than is known."""

from ipaddress import ip_network
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.reports.aggregate import ReportRow, SignatureSeen
from rust_gauge.core.reports.outcomes import Outcome, outcome_of
from rust_gauge.core.reports.rehearsal import Tried, TriedPolicy, try_policy, would_hit
from rust_gauge.core.reports.sources import (
    Known,
    KnownRelay,
    SourceSeen,
    Verdict,
    judge_sources,
    network_of,
    together,
)
from rust_gauge.core.reports.streams import MailShown, streams_of
from rust_gauge.core.sending import DkimNeed, PlannedStream, Relay, expand_streams

OURS, FORWARDED, UNKNOWN, NOT_OURS = Verdict.OURS, Verdict.FORWARDED, Verdict.UNKNOWN, Verdict.NOT_OURS
KNOWN = Known(
    "marram.example",
    (
        KnownRelay("driftline", (ip_network("198.51.100.0/28"),), frozenset({"driftline.example"})),
        KnownRelay("mta1", (ip_network("192.0.2.41/32"),), frozenset({"skerry.example"})),
    ),
    {"receipts": (ip_network("192.0.2.77/32"),)},
    frozenset({("marram.example", "m1")}),
    ((ip_network("203.0.113.16/28"), "include:spf.cobble.example"),),
)
KEY = ("marram.example", "m1", "pass")
BROKEN = ("marram.example", "m1", "fail")


def seen(ip: str, n: int = 100, **more: Any) -> SourceSeen:
    """A source whose mail all fared alike: `spf`, `dkim` (signatures) and `reason` of each message."""
    spf, dkim, reason = more.pop("spf", None), more.pop("dkim", ()), more.pop("reason", None)
    aligned_dkim = n if KEY in dkim else 0
    aligned_spf = n if spf is not None and spf[1] == "pass" and spf[0].endswith("marram.example") else 0
    return SourceSeen(
        ip, n, aligned_spf, aligned_dkim, spf={spf: n} if spf else {},
        signatures=dict.fromkeys(dkim, n), reasons={reason: n} if reason else {}, **more,
    )  # fmt: skip


CASES = [
    ("an address of a relay", seen("198.51.100.3", spf=("driftline.example", "pass"), dkim=(KEY,)), OURS, "driftline"),
    ("our own MTA, nothing aligned", seen("192.0.2.41", spf=("marram.example", "fail")), OURS, "mta1"),
    ("an address of a stream", seen("192.0.2.77", spf=("marram.example", "fail")), OURS, "receipts"),
    ("authorised by the record", seen("203.0.113.20", spf=("b.cobble.example", "pass"), host="o.cobble.example"),
     OURS, "cobble.example"),
    ("the record authorised it then", seen("203.0.113.200", spf=("marram.example", "pass")), OURS, "203.0.113.0/24"),
    ("a forgotten host of our own", seen("192.0.2.150", spf=("marram.example", "softfail"),
                                         host="old-web.marram.example", host_known=True), OURS,
     "old-web.marram.example"),
    ("a relay that authenticates as itself", seen("203.0.113.99", spf=("bounce.driftline.example", "pass")), OURS,
     "203.0.113.0/24"),
    ("a forwarder that keeps the signature", seen("203.0.113.130", spf=("alumni.example", "pass"), dkim=(KEY,),
                                                  host="out.alumni.example", host_known=True), FORWARDED,
     "alumni.example"),
    ("a forwarder that does not rewrite the envelope", seen("203.0.113.131", spf=("marram.example", "fail"),
                                                            dkim=(KEY,)), FORWARDED, "203.0.113.0/24"),
    ("a mailing list that breaks the signature", seen("203.0.113.132", spf=("lists.example", "pass"), dkim=(BROKEN,)),
     FORWARDED, "203.0.113.0/24"),
    ("a receiver says so", seen("203.0.113.133", spf=("marram.example", "fail"), reason=("forwarded", "")), FORWARDED,
     "203.0.113.0/24"),
    ("an ARC chain passed", seen("203.0.113.134", spf=("marram.example", "fail"),
                                 reason=("local_policy", "arc=pass as[1].d=lists.example")), FORWARDED,
     "203.0.113.0/24"),
    ("a service that authenticates as itself", seen("203.0.113.140", spf=("crm.example", "pass"),
                                                    dkim=(("crm.example", "k1", "pass"),)), UNKNOWN, "crm.example"),
    ("nothing passes, the host has a name", seen("203.0.113.141", spf=("marram.example", "softfail"),
                                                 host="vm7.hosting.example", host_known=True), UNKNOWN,
     "hosting.example"),
    ("nothing passes, names not looked up", seen("203.0.113.142", spf=("marram.example", "fail")), UNKNOWN,
     "203.0.113.0/24"),
    ("a forger", seen("203.0.113.143", spf=("marram.example", "fail"), host_known=True), NOT_OURS, "203.0.113.0/24"),
    ("no SPF result, no name", seen("203.0.113.144", host_known=True), UNKNOWN, "203.0.113.0/24"),
    ("IPv6", seen("2001:db8:7:1::9", spf=("marram.example", "fail"), host_known=True), NOT_OURS, "2001:db8:7::/48"),
]  # fmt: skip


@pytest.mark.parametrize(("source", "verdict", "group"), [case[1:] for case in CASES], ids=[c[0] for c in CASES])
def test_each_source_is_recognised_for_what_it_is(source: SourceSeen, verdict: Verdict, group: str) -> None:
    found = judge_sources([source], KNOWN)[source.ip]
    assert (found.verdict, found.group) == (verdict, group)
    assert 0.5 <= found.certainty <= 1
    assert found.evidence
    assert all(each.text and 0 < each.weight <= 1 for each in found.evidence)


def test_networks_that_behave_alike_are_more_certainly_not_ours() -> None:
    one = judge_sources([seen("203.0.113.1", spf=("marram.example", "fail"), host_known=True)], KNOWN)
    many = [seen(f"203.0.113.{n}", spf=("marram.example", "fail"), host_known=True) for n in range(1, 10)]
    found = judge_sources(many, KNOWN)
    assert {each.verdict for each in found.values()} == {NOT_OURS}
    assert found["203.0.113.1"].certainty > one["203.0.113.1"].certainty
    assert "9 addresses of 203.0.113.0/24" in found["203.0.113.1"].evidence[0].text


def test_a_decision_holds_over_evidence_and_stays_visible() -> None:
    source = seen("203.0.113.140", spf=("crm.example", "pass"))
    decided = Known("marram.example", decided={"crm.example": NOT_OURS})
    found = judge_sources([source], decided)[source.ip]
    assert (found.verdict, found.certainty, found.evidence[0].kind) == (NOT_OURS, 1.0, "decided")


@given(st.lists(st.floats(0, 1), max_size=6), st.floats(0, 1))
def test_more_evidence_never_makes_less_certain(weights: list[float], more: float) -> None:
    assert 0 <= together(weights) <= together([*weights, more]) + 1e-12 <= 1 + 1e-9


@given(
    st.sampled_from(["203.0.113.5", "198.51.100.2", "2001:db8::5"]),
    st.dictionaries(
        st.tuples(st.sampled_from(["", "marram.example", "x.example"]), st.sampled_from(["pass", "fail", "none", ""])),
        st.integers(1, 50), max_size=3,
    ),
    st.dictionaries(st.sampled_from([KEY, BROKEN, ("x.example", "", "pass"), ("", "", "")]), st.integers(1, 50)),
    st.dictionaries(st.tuples(st.sampled_from(["forwarded", "other"]), st.text(max_size=9)), st.integers(1, 50)),
    st.booleans(), st.sampled_from(["", "a.marram.example", "b.x.example"]),
)  # fmt: skip
def test_any_source_has_one_verdict_with_reasons(
    ip: str, spf: dict[Any, int], signatures: dict[Any, int], reasons: dict[Any, int], host_known: bool, host: str
) -> None:
    aligned = sum(n for (name, result), n in spf.items() if result == "pass" and name == "marram.example")
    source = SourceSeen(ip, 50, aligned, signatures.get(KEY, 0), host, host_known, spf, signatures, reasons)
    found = judge_sources([source], KNOWN)[ip]
    assert found.group
    assert found.evidence
    assert 0 <= found.certainty <= 1
    if found.verdict is NOT_OURS:  # said only of who proves nothing
        assert not signatures
        assert all(result != "pass" for _, result in spf)


@pytest.mark.parametrize(
    ("ip", "relay"), [("192.0.2.41", "mta1"), ("192.0.2.42", "mta2"), ("192.0.2.43", "mta1"), ("192.0.2.99", None)]
)
def test_relays_that_share_an_include_are_told_apart_by_their_hosts(ip: str, relay: str | None) -> None:
    shared = ip_network("192.0.2.40/29")
    relays = tuple(
        KnownRelay(name, (shared, ip_network(f"{host}/32")))
        for name, host in (("mta1", "192.0.2.41"), ("mta2", "192.0.2.42"))
    )
    found = judge_sources([seen(ip, spf=("marram.example", "fail"))], Known("marram.example", relays))[ip]
    assert (found.group == relay) if relay else (found.verdict is not OURS)


@pytest.mark.parametrize(("ip", "network"), [("192.0.2.9", "192.0.2.0/24"), ("2001:db8:1:2::3", "2001:db8:1::/48")])
def test_networks(ip: str, network: str) -> None:
    assert network_of(ip) == network


def row(**more: Any) -> ReportRow:
    values: dict[str, Any] = {
        "source_ip": "192.0.2.1", "count": 1, "disposition": "none", "dkim": False, "spf": False,
        "header_from": "marram.example", "envelope_from": "", "signatures": (), "spf_domain": "", "spf_result": "",
    }  # fmt: skip
    return ReportRow(**{**values, **more})


PASS, EXACT = SignatureSeen("news.marram.example", "m1", "pass"), SignatureSeen("marram.example", "m1", "pass")


@pytest.mark.parametrize(
    ("found", "outcome"),
    [
        (row(), Outcome(0)),
        (row(spf=True, spf_domain="b.marram.example", spf_result="pass"), Outcome.SPF),
        (row(spf=True, spf_domain="marram.example", spf_result="pass"), Outcome.SPF | Outcome.STRICT_SPF),
        (row(dkim=True, signatures=(PASS,)), Outcome.DKIM),
        (row(dkim=True, signatures=(PASS, EXACT)), Outcome.DKIM | Outcome.STRICT_DKIM),
        (row(disposition="reject"), Outcome.REJECTED),
        (row(disposition="quarantine", header_from="x.marram.example"), Outcome.QUARANTINED | Outcome.SUBDOMAIN),
    ],
)
def test_a_row_is_summed_by_how_it_fared(found: ReportRow, outcome: Outcome) -> None:
    assert outcome_of(found, "marram.example") == outcome


SUB = Outcome.SUBDOMAIN


@pytest.mark.parametrize(
    ("policy", "mail", "quarantined", "rejected"),
    [
        (TriedPolicy("none"), [(Outcome(0), 10)], 0, 0),
        (TriedPolicy("reject"), [(Outcome(0), 10), (Outcome.DKIM, 90)], 0, 10),
        (TriedPolicy("quarantine"), [(Outcome(0), 10), (SUB, 5)], 15, 0),
        (TriedPolicy("quarantine", "none"), [(Outcome(0), 10), (SUB, 5)], 10, 0),
        (TriedPolicy("none", "reject"), [(Outcome(0), 10), (SUB, 5)], 0, 5),
        (TriedPolicy("none", np="reject"), [(Outcome(0), 10), (SUB, 5)], 0, 0),
        (TriedPolicy("reject", percent=25), [(Outcome(0), 100)], 75, 25),  # RFC 7489 §6.6.4
        (TriedPolicy("quarantine", percent=25), [(Outcome(0), 100)], 25, 0),
        (TriedPolicy("reject", testing=True), [(Outcome(0), 10)], 10, 0),
        (TriedPolicy("quarantine", testing=True), [(Outcome(0), 10)], 0, 0),
        (TriedPolicy("reject", strict_spf=True), [(Outcome.SPF, 10), (Outcome.SPF | Outcome.STRICT_SPF, 5)], 0, 10),
        (TriedPolicy("reject", strict_dkim=True), [(Outcome.DKIM, 10), (Outcome.DKIM | Outcome.SPF, 5)], 0, 10),
    ],
)
def test_a_policy_does_to_past_mail_what_the_standard_says(
    policy: TriedPolicy, mail: list[tuple[Outcome, int]], quarantined: float, rejected: float
) -> None:
    tried = try_policy(policy, mail)
    assert (tried.quarantined, tried.rejected) == (quarantined, rejected)
    assert tried.messages == sum(n for _, n in mail)


@given(
    st.sampled_from(["none", "quarantine", "reject"]), st.sampled_from(["", "none", "quarantine", "reject"]),
    st.integers(0, 100), st.booleans(), st.booleans(),
    st.lists(st.tuples(st.integers(0, 255).map(Outcome), st.integers(1, 1000))),
)  # fmt: skip
def test_no_message_is_counted_twice_and_a_stricter_policy_never_hits_less(
    p: str, sp: str, percent: int, testing: bool, strict: bool, mail: list[tuple[Outcome, int]]
) -> None:
    policy = TriedPolicy(p, sp, percent, testing, strict, strict)
    tried = try_policy(policy, mail)
    assert tried.aligned + tried.hit <= tried.messages + 1e-6
    assert tried.hit <= try_policy(TriedPolicy("reject", strict_spf=strict, strict_dkim=strict), mail).hit + 1e-6
    assert (tried.hit > 0) == any(would_hit(policy, outcome) for outcome, _ in mail)


@pytest.mark.parametrize(
    ("policy", "outcome", "quarantined", "rejected"),
    [
        (TriedPolicy("quarantine", np="reject"), SUB, 6, 4),
        (TriedPolicy("quarantine", "none", "reject"), SUB, 0, 4),
        (TriedPolicy("quarantine", "none", ""), SUB, 0, 0),
        (TriedPolicy("quarantine", np="reject"), Outcome(0), 10, 0),  # the domain itself is none of its subdomains
        (TriedPolicy("quarantine", np="reject"), SUB | Outcome.DKIM, 0, 0),
    ],
)
def test_subdomains_that_do_not_exist_have_a_policy_of_their_own(
    policy: TriedPolicy, outcome: Outcome, quarantined: float, rejected: float
) -> None:
    tried = Tried()
    tried.add(policy, outcome, 10, missing=4)
    assert (tried.messages, tried.quarantined, tried.rejected) == (10, quarantined, rejected)
    assert would_hit(policy, outcome, 10, 4) == (quarantined + rejected > 0)


def evidence_of(source: SourceSeen) -> dict[str, Verdict]:
    return {each.kind: each.verdict for each in judge_sources([source], KNOWN)[source.ip].evidence}


@pytest.mark.parametrize(
    ("helo", "kind"),
    [("old.marram.example", "own_helo"), ("o1.driftline.example", "relay_helo"), ("mx.stranger.example", None)],
)
def test_a_helo_name_that_is_proven_tells_whose_a_host_is(helo: str, kind: str | None) -> None:
    ways: list[dict[str, Any]] = [
        {"helo": {(helo, "pass"): 100}}, {"helo": {(helo, "none"): 100}, "helo_hosts": {helo}}
    ]  # fmt: skip
    for more in ways:
        found = evidence_of(seen("203.0.113.99", spf=("marram.example", "softfail"), **more))
        assert [each for each in found if each.endswith("helo")] == ([kind] if kind else [])
        if kind:
            assert found[kind] is OURS
    said = seen("203.0.113.99", spf=("marram.example", "softfail"), helo={(helo, "fail"): 100})
    assert not any(each.endswith("helo") for each in evidence_of(said))  # anybody can say any name


def test_a_helo_name_that_is_the_host_name_is_not_counted_twice() -> None:
    host = "old.marram.example"
    found = evidence_of(seen("203.0.113.99", host=host, helo={(host, "none"): 9}, helo_hosts={host}))
    assert [each for each in found if each.endswith(("helo", "host"))] == ["own_host"]


def test_a_list_reaches_several_receivers_and_a_single_forward_one() -> None:
    several, one = (seen("203.0.113.99", dkim=(KEY,), receivers=set(range(n))) for n in (3, 1))
    assert evidence_of(several)["several_receivers"] is FORWARDED
    assert "several_receivers" not in evidence_of(one)
    alone = seen("203.0.113.99", spf=("marram.example", "fail"), receivers={1, 2, 3})
    assert "several_receivers" not in evidence_of(alone), "a forger reaches many, too"


# Streams

DRIFTLINE = Relay("driftline", dkim=(DkimNeed("d1", "CNAME", "d1.driftline.example"),))
PATHS = expand_streams(
    (
        PlannedStream("receipts", "marram.example", "", "", "m1", ("driftline", "mta1"), "", ()),
        PlannedStream("alerts", "marram.example", "", "", "m2", ("driftline",), "", ()),
        PlannedStream("news", "news.marram.example", "", "", "m2", ("driftline",), "", ()),
    ),
    (DRIFTLINE, Relay("mta1", own=True)),
)


def shown(source: str, header_from: str = "marram.example", *keys: str) -> MailShown:
    return MailShown(source, header_from, "", tuple(("marram.example", selector) for selector in keys))


@pytest.mark.parametrize(
    ("mail", "streams"),
    [
        (shown("driftline", "marram.example", "m1"), ("receipts",)),
        (shown("driftline", "marram.example", "m2"), ("alerts",)),
        (shown("driftline", "news.marram.example"), ("news",)),
        (shown("driftline"), ("receipts", "alerts")),  # not signed: it may be either
        (shown("driftline", "shop.marram.example"), ("receipts", "alerts", "news")),
        (shown("mta1", "marram.example", "m2"), ("receipts",)),  # only one goes over it
        (shown("cobble"), ()),
        (shown(""), ()),
    ],
)
def test_reported_mail_belongs_to_the_streams_that_it_fits(mail: MailShown, streams: tuple[str, ...]) -> None:
    assert streams_of(mail, PATHS) == streams
