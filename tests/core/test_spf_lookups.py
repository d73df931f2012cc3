"""What an SPF record costs (RFC 7208 §4.6.4)."""

import pytest

from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion, drive
from rust_gauge.core.spf import LookupTree, parse_spf, walk_lookups
from tests.answers import answering

WORLD = {
    "spf.relay.example TXT": ["v=spf1 include:a.relay.example mx -all"],
    "spf.relay.example MX": ["10 mx.relay.example."],
    "a.relay.example TXT": ["v=spf1 ip4:192.0.2.0/24 -all"],
    "loop.example TXT": ["v=spf1 include:loop2.example -all"],
    "loop2.example TXT": ["v=spf1 include:loop.example -all"],
    "twice.example TXT": ["v=spf1 -all", "v=spf1 ~all"],
    "bad.example TXT": ["v=spf1 ipv4:192.0.2.1 -all"],
    "other.example TXT": ["hello"],
    "six.example AAAA": ["2001:db8::1"],
    "host.example A": ["192.0.2.9"],
}


def walk(record: str, **failing: AnswerStatus) -> LookupTree:
    fails = {name.replace("_", "."): status for name, status in failing.items()}
    return drive(walk_lookups("d.example", parse_spf(record)), answering(WORLD, fails))


@pytest.mark.parametrize(
    ("record", "cost"),
    [
        ("v=spf1 ip4:192.0.2.0/24 ip6:2001:db8::/32 -all", 0),
        ("v=spf1 a mx ptr exists:host.example -all", 4),
        ("v=spf1 include:spf.relay.example -all", 3),
        ("v=spf1 redirect=spf.relay.example", 3),
        ("v=spf1 a -all mx", 1),  # nothing after all is evaluated (§5.1)
        ("v=spf1 -all redirect=spf.relay.example", 0),  # nor redirect beside all (§6.1)
        ("v=spf1 exists:%{i}.spf.example -all", 1),
        ("v=spf1 include:spf.relay.example include:spf.relay.example -all", 6),
    ],
)
def test_the_cost_is_counted_through_every_include(record: str, cost: int) -> None:
    assert walk(record).cost == cost


@pytest.mark.parametrize(
    ("record", "problem"),
    [
        ("v=spf1 include:gone.example -all", "dead"),
        ("v=spf1 include:other.example -all", "dead"),
        ("v=spf1 include:twice.example -all", "several"),
        ("v=spf1 include:bad.example -all", "syntax"),
        ("v=spf1 include:d.example -all", "loop"),
        ("v=spf1 a:gone.example -all", "void"),
        ("v=spf1 mx:host.example -all", "void"),
        ("v=spf1 a:six.example -all", ""),
        ("v=spf1 exists:gone.example -all", "void"),
    ],
)
def test_each_look_up_says_what_is_wrong_with_it(record: str, problem: str) -> None:
    assert walk(record).nodes[0].problem == problem


def test_a_server_that_fails_is_not_taken_for_a_missing_record() -> None:
    assert walk("v=spf1 include:spf.relay.example -all", spf_relay_example=AnswerStatus.TIMEOUT).nodes[0].problem == (
        "failed"
    )


def test_a_loop_ends() -> None:
    tree = walk("v=spf1 include:loop.example -all")
    assert [node.problem for node in tree.flat()] == ["", "", "loop"]


def test_a_hostile_tree_is_left_after_a_bounded_number_of_questions() -> None:
    asked = 0

    def endless(questions: tuple[DnsQuestion, ...]) -> tuple[DnsAnswer, ...]:
        nonlocal asked
        asked += len(questions)
        name = questions[0].name
        record = "v=spf1 " + " ".join(f"include:{letter}.{name}" for letter in "abcdefgh") + " -all"
        return answering({f"{name} TXT": [record]})(questions)

    tree = drive(walk_lookups("d.example", parse_spf("v=spf1 include:x.example -all")), endless)
    assert tree.truncated
    assert asked <= 60
