"""check_host() (RFC 7208): a table of cases, then identities, explanations, the trace and the limits."""

import ipaddress
import re
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion, drive
from rust_gauge.core.spf import SpfOutcome, SpfResult, check_host, check_mail
from rust_gauge.core.spf.macros import expand, parse_macro_string, target_name
from tests.answers import answering
from tests.vectors.spf_check_host import CASES, ME, ME6, WORLD

FAILING = {
    "servfail.example": AnswerStatus.SERVFAIL,
    "timeout.example": AnswerStatus.TIMEOUT,
    "1.113.0.203.in-addr.arpa": AnswerStatus.SERVFAIL,
}


def check(published: str | bytes | None, ip: str = ME, domain: str = "d.example", **more: object) -> SpfOutcome:
    world: dict[str, list[str | bytes]] = {name: list(values) for name, values in WORLD.items()}
    if published:
        world["d.example TXT"] = [published]
    sender = str(more.pop("sender", f"strong-bad@{domain}"))
    helo = str(more.pop("helo", "mx.d.example"))
    return drive(check_host(ip, domain, sender, helo, **more), answering(world, FAILING))  # type: ignore[arg-type]


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case[0]} (§{case[4]})")
def test_check_host_gives_the_result_of_the_table(case: tuple[str, str | bytes, str, str, str]) -> None:
    _, record, ip, result, _ = case
    outcome = check(record, ip)
    assert outcome.result == result, outcome.reason
    assert outcome.reason


@pytest.mark.parametrize(
    "domain",
    ["localhost", "[192.0.2.3]", "192.0.2.3", "a..example", "." * 3, "", "a" * 64 + ".example", "a." * 130 + "example"],
)
def test_what_is_no_domain_name_has_no_policy(domain: str) -> None:
    """§4.3"""
    assert check(None, domain=domain).result is SpfResult.NONE


def test_a_server_that_fails_is_no_missing_record() -> None:
    """§4.4"""
    assert check(None, domain="timeout.example").result is SpfResult.TEMPERROR
    assert check(None, domain="servfail.example").result is SpfResult.TEMPERROR


def test_a_sender_without_a_local_part_is_postmaster() -> None:
    """§4.3"""
    world = {"d.example TXT": ["v=spf1 exists:%{l}.lp.example -all"], "postmaster.lp.example A": ["127.0.0.2"]}
    for sender in ("d.example", "@d.example"):
        assert drive(check_host(ME, "d.example", sender), answering(world)).result is SpfResult.PASS


def test_names_outside_ascii_are_asked_for_in_a_labels() -> None:
    world = {"xn--mnchen-3ya.example TXT": ["v=spf1 ip4:192.0.2.3 -all"]}
    outcome = drive(check_host(ME, "München.example", "a@München.example"), answering(world))
    assert outcome.result is SpfResult.PASS


# Identities (§2.3, §2.4)


def test_an_empty_mail_from_is_postmaster_at_the_helo_name() -> None:
    world = {"mx.d.example TXT": ["v=spf1 exists:%{l}.%{o}.ok.example -all"],
             "postmaster.mx.d.example.ok.example A": ["127.0.0.2"]}  # fmt: skip
    for empty in ("", "<>"):
        done = drive(check_mail(ME, "mx.d.example", empty), answering(world))
        assert (done.mail_from.result, done.postmaster, done.helo) == (SpfResult.PASS, True, None)
        assert done.mail_from_domain == "mx.d.example"


def test_helo_and_mail_from_are_two_identities() -> None:
    world = {"mx.d.example TXT": ["v=spf1 a -all"], "mx.d.example A": [ME], "d.example TXT": ["v=spf1 -all"]}
    done = drive(check_mail(ME, "mx.d.example", "<a@d.example>"), answering(world))
    assert done.helo is not None
    assert (done.helo.result, done.mail_from.result) == (SpfResult.PASS, SpfResult.FAIL)


@pytest.mark.parametrize("helo", ["localhost", "[192.0.2.3]", ""])
def test_a_helo_that_is_no_domain_name_is_not_checked(helo: str) -> None:
    assert drive(check_mail(ME, helo, "a@pass.example"), answering(WORLD)).helo is None


def test_a_record_is_tried_before_it_is_published() -> None:
    assert check("v=spf1 -all", record="v=spf1 ip4:192.0.2.3 -all").result is SpfResult.PASS
    done = drive(check_mail(ME, "d.example", "a@d.example", record="v=spf1 a -all"), answering(WORLD))
    assert done.mail_from.result is SpfResult.PASS


# Explanations (§6.2)

EXPLAIN = [
    ("plain", "not from here", "not from here"),
    ("macros", "%{i} is not one of %{d}'s hosts; %{s}, %{c}, %{r}, %{t}",
     "192.0.2.3 is not one of d.example's hosts; strong-bad@d.example, 192.0.2.3, mta.r.example, 1700000000"),
    ("escapes", "a%_b%%c%-d", "a b%c%20d"),
    ("a wrong macro", "see %{q}", ""),
    ("outside ASCII", "n\xe3o", ""),
]  # fmt: skip


@pytest.mark.parametrize(("what", "text", "summary"), EXPLAIN, ids=[row[0] for row in EXPLAIN])
def test_a_failure_is_explained(what: str, text: str, summary: str) -> None:
    world = {"d.example TXT": ["v=spf1 exp=why.%{d} -all"], "why.d.example TXT": [text]}
    run = check_host(ME, "d.example", "strong-bad@d.example", receiver="mta.r.example", timestamp=1_700_000_000)
    outcome = drive(run, answering(world))
    assert (outcome.result, outcome.explanation) == (SpfResult.FAIL, summary)


@pytest.mark.parametrize(
    ("record", "summary"),
    [
        ("v=spf1 include:explained.example -all", ""),  # an include's explanation is not used
        ("v=spf1 redirect=explained.example", "of explained.example"),  # a redirect's is
        ("v=spf1 exp=gone.example -all", ""),
        ("v=spf1 exp=two.why.example -all", ""),
        ("v=spf1 exp=servfail.example -all", ""),
        ("v=spf1 exp=why.example ~all", ""),  # only for a fail
    ],
)
def test_whose_explanation_is_used(record: str, summary: str) -> None:
    world: dict[str, list[str]] = {**WORLD, "d.example TXT": [record], "why.example TXT": ["of %{d}"],
                                   "two.why.example TXT": ["one", "two"]}  # fmt: skip
    outcome = drive(check_host("192.0.2.200", "d.example", "a@d.example"), answering(world, FAILING))
    assert outcome.explanation == summary


# The trace


def test_every_term_is_in_the_trace_with_its_question_and_answer() -> None:
    outcome = check("v=spf1 a:4.d.example include:me.example -all")
    assert [(step.depth, step.term, step.outcome) for step in outcome.steps] == [
        (0, "a:4.d.example", "no match"),
        (0, "include:me.example", "match"),
        (1, f"ip4:{ME}", "match"),
    ]
    assert outcome.steps[0].asked == ("4.d.example A: found",)
    assert outcome.steps[0].answer == ("192.0.2.4", "192.0.2.5")
    assert (outcome.term, outcome.decided_by, outcome.lookups, outcome.voids) == (
        "include:me.example",
        "d.example",
        2,
        0,
    )


def test_an_error_names_the_term_that_it_came_from() -> None:
    outcome = check("v=spf1 include:gone.example -all")
    assert (outcome.term, outcome.steps[-1].outcome) == ("include:gone.example", "permerror")
    outcome = check("v=spf1 mx include:broken.example -all", "192.0.2.200")
    assert (outcome.decided_by, outcome.steps[-1].column) == ("broken.example", 8)


def test_the_time_budget_ends_in_temperror() -> None:
    """§4.6.4: at least 20 seconds."""
    told = answering({**WORLD, "d.example TXT": ["v=spf1 a:n1.example a:n2.example -all"]})

    def slow(questions: tuple[DnsQuestion, ...]) -> tuple[DnsAnswer, ...]:
        return tuple(replace(answer, seconds=7.0) for answer in told(questions))

    run = check_host("192.0.2.200", "d.example", "a@d.example")
    assert drive(run, slow).result is SpfResult.TEMPERROR
    patient = check_host("192.0.2.200", "d.example", "a@d.example", time_budget=30)
    assert drive(patient, slow).result is SpfResult.FAIL


def test_hosts_of_mx_records_are_asked_side_by_side() -> None:
    rounds: list[int] = []
    told = answering({**WORLD, "d.example TXT": ["v=spf1 mx:ten.d.example -all"]})

    def counting(questions: tuple[DnsQuestion, ...]) -> tuple[DnsAnswer, ...]:
        rounds.append(len(questions))
        return told(questions)

    drive(check_host(ME, "d.example", "a@d.example"), counting)
    assert rounds == [1, 1, 10]


# Laws


@pytest.mark.parametrize(
    ("macro", "text"),
    [
        ("%{s}", "strong-bad@email.d.example"), ("%{o}", "email.d.example"), ("%{d}", "email.d.example"),
        ("%{d4}", "email.d.example"), ("%{d3}", "email.d.example"), ("%{d2}", "d.example"), ("%{d1}", "example"),
        ("%{dr}", "example.d.email"), ("%{d2r}", "d.email"), ("%{l}", "strong-bad"), ("%{l-}", "strong.bad"),
        ("%{lr}", "strong-bad"), ("%{lr-}", "bad.strong"), ("%{l1r-}", "strong"), ("%{L}", "strong-bad"),
        ("%{d1r+-.}", "email"), ("%{S}", "strong-bad%40email.d.example"),
    ],
)  # fmt: skip
def test_macros_expand_as_in_the_examples_of_the_standard(macro: str, text: str) -> None:
    """§7.4, with our names."""
    string, problems = parse_macro_string(macro, 1)
    values = {"s": "strong-bad@email.d.example", "o": "email.d.example", "d": "email.d.example", "l": "strong-bad"}
    assert not problems
    assert expand(string, values) == text


@given(st.lists(st.text("abc", min_size=1, max_size=63), min_size=1, max_size=40).map(".".join))
def test_a_long_target_loses_whole_labels_from_the_left(name: str) -> None:
    cut = target_name(name)
    assert len(cut) <= 253
    assert name == cut or name.endswith("." + cut)
    if cut != name:
        longer = name[: -len(cut) - 1].rpartition(".")[2] + "." + cut
        assert len(longer) > 253


TERMS = st.lists(
    st.sampled_from(["a", "mx", "ptr", "-all", "include:me.example", "include:loop.example", "exists:%{i}.%{d}",
                     "redirect=nest1.example", "a:%{p}", "mx:many.d.example", "?ip4:192.0.2.0/24", "exp=why.example",
                     "include:%{d}", "ip6:2001:db8::/32", "a:servfail.example", "~include:two.example", "x=%{d}",
                     "%{", "include:", "ip4:1", "all:", "//", "mx/33"]),
    max_size=14,
)  # fmt: skip


@settings(max_examples=300)
@given(TERMS, st.sampled_from([ME, ME6, "203.0.113.1", "::ffff:192.0.2.3"]), st.text(max_size=30), st.text(max_size=20))
def test_any_record_ends_in_one_of_the_seven_results(terms: list[str], ip: str, local: str, helo: str) -> None:
    outcome = check(" ".join(["v=spf1", *terms]), ip, sender=f"{local}@d.example", helo=helo)
    assert outcome.result in SpfResult
    assert outcome.lookups <= 11
    assert len(outcome.steps) < 200


@settings(max_examples=150)
@given(st.binary(max_size=2000))
def test_any_octets_behind_the_version_give_a_result(octets: bytes) -> None:
    assert check(b"v=spf1 " + octets).result in SpfResult


@given(st.ip_addresses(), st.integers(0, 32))
def test_a_network_matches_just_the_addresses_in_it(ip: ipaddress.IPv4Address, prefix: int) -> None:
    record = f"v=spf1 ip4:192.0.2.3/{prefix} -all"
    network = ipaddress.ip_network(f"192.0.2.3/{prefix}", strict=False)
    mapped = getattr(ip, "ipv4_mapped", None) or ip
    assert (check(record, str(ip)).result is SpfResult.PASS) == (mapped.version == 4 and mapped in network)


def test_reasons_are_sentences_about_the_record() -> None:
    assert re.search(
        r"column 8: ipv4:192.0.2.3 is not an SPF mechanism", check("v=spf1 include:broken.example -all").reason
    )
