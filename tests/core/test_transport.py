"""MTA-STS, TLS reports, BIMI, and DNS lists: their grammars, and that any text can be read."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.dns import AnswerStatus, drive
from rust_gauge.core.dns.held import answers_from_recording, answers_from_zones, read_zone, write_recording
from rust_gauge.core.errors import InputError
from rust_gauge.core.transport import (
    DnsList,
    ListState,
    ask_list,
    covers,
    read_bimi,
    read_sts_policy,
    read_sts_record,
    read_tls_rpt,
)
from tests.answers import answering


@pytest.mark.parametrize(
    ("text", "good"),
    [
        ("v=STSv1; id=20261120T080000;", True), ("v=STSv1;id=a", True), ("v=STSv1", False), ("v=STSv1; id=", False),
        ("v=STSv1; id=" + "a" * 33, False), ("id=1; v=STSv1", False), ("v=STSv2; id=1", False), ("v=STSv1; id=a-b", False),
    ],
)  # fmt: skip
def test_the_mta_sts_record(text: str, good: bool) -> None:
    """RFC 8461 §3.1"""
    assert (read_sts_record(text).problems == ()) is good


@pytest.mark.parametrize(
    ("pattern", "host", "covered"),
    [
        ("mx.d.example", "mx.d.example", True), ("mx.d.example", "MX.D.example.", True), ("*.d.example", "mx.d.example", True),
        ("*.d.example", "a.mx.d.example", False), ("*.d.example", "d.example", False), ("mx.d.example", "mx2.d.example", False),
    ],
)  # fmt: skip
def test_which_hosts_a_pattern_covers(pattern: str, host: str, covered: bool) -> None:
    """RFC 8461 §4.1"""
    assert covers(pattern, host) is covered


def test_a_policy_takes_the_first_of_a_key_and_many_hosts() -> None:
    text = "version: STSv1\r\nmode: testing\nmode: enforce\nmx: a.example\nmx: *.b.example\nmax_age: 86400\nnote: x\n"
    policy = read_sts_policy(text)
    assert (policy.mode, policy.mx, policy.max_age, policy.problems) == (
        "testing",
        ("a.example", "*.b.example"),
        86400,
        (),
    )
    assert read_sts_policy("version: STSv1\nmode: none\nmax_age: 1\n").problems == ()


@pytest.mark.parametrize(
    ("text", "rua", "problems"),
    [
        ("v=TLSRPTv1; rua=mailto:a@d.example", 1, 0), ("v=TLSRPTv1;rua=mailto:a@d.example,https://d.example/x", 2, 0),
        ("v=TLSRPTv1", 0, 1), ("v=TLSRPTv1; rua=a@d.example", 0, 1), ("v=TLSRPTv1; rua=http://d.example/", 0, 1),
        ("v=TLSRPTv1; rua=mailto:a@d.example, ftp://x", 1, 1),
    ],
)  # fmt: skip
def test_the_record_for_tls_reports(text: str, rua: int, problems: int) -> None:
    """RFC 8460 §3"""
    record = read_tls_rpt(text)
    assert (len(record.rua), len(record.problems)) == (rua, problems)


@pytest.mark.parametrize(
    ("text", "problems", "declines"),
    [
        ("v=BIMI1; l=https://d.example/logo.svg; a=https://d.example/proof.pem", 0, False), ("v=BIMI1; l=; a=;", 0, True),
        ("v=BIMI1", 1, False), ("v=BIMI1; l=http://d.example/logo.svg", 1, False), ("v=BIMI1; l=https://d.example/logo.png", 1, False),
    ],
)  # fmt: skip
def test_the_form_of_a_bimi_record(text: str, problems: int, declines: bool) -> None:
    record = read_bimi(text)
    assert (len(record.problems), record.declines) == (problems, declines)


@given(st.text(max_size=400))
def test_any_text_can_be_read(text: str) -> None:
    for problems in (
        read_sts_record("v=STSv1;" + text).problems,
        read_sts_policy(text).problems,
        read_tls_rpt("v=TLSRPTv1;" + text).problems,
        read_bimi("v=BIMI1;" + text).problems,
    ):
        assert all(problem.column >= 1 and problem.what for problem in problems)


@given(st.text(max_size=400))
def test_any_text_is_a_zone_or_says_why_not(text: str) -> None:
    try:
        zone = read_zone(text, "d.example")
    except InputError as error:
        assert str(error)
    else:
        assert zone.origin is not None


@given(
    st.dictionaries(
        st.text(max_size=10), st.recursive(st.none() | st.text(max_size=9), st.lists, max_leaves=5), max_size=4
    )
)
def test_any_document_is_a_recording_or_says_why_not(document: dict[str, object]) -> None:
    with pytest.raises(InputError):
        answers_from_recording(document)


def test_a_recording_gives_back_what_was_answered() -> None:
    zone = read_zone('$ORIGIN d.example.\n$TTL 5\n@ IN SOA a b 1 1 1 1 1\n@ IN TXT "x" "y"\n@ IN MX 1 .\n')
    from rust_gauge.core.dns import DnsQuestion, PageQuestion

    questions = (DnsQuestion("d.example", "TXT"), DnsQuestion("d.example", "MX"), DnsQuestion("x.d.example", "A"),
                 DnsQuestion("d.example", "SOA", server="192.0.2.1"), PageQuestion("https://d.example/x"))  # fmt: skip
    first = answers_from_zones([zone])(questions)
    again = answers_from_recording(write_recording(first))(questions)
    assert again == first
    (unasked,) = answers_from_recording(write_recording(first))((DnsQuestion("other.example", "A"),))
    assert unasked.status is AnswerStatus.NOT_HELD


def test_ipv6_addresses_are_asked_nibble_by_nibble() -> None:
    """RFC 5782 §2.4, with the test entries of §5 in IPv6 form."""
    nibbles = ".".join(reversed("20010db8" + "0" * 23 + "1"))
    listed = ".".join(reversed("0" * 20 + "ffff7f000002"))
    world = {f"{nibbles}.bl.example A": ["127.0.0.4"], f"{listed}.bl.example A": ["127.0.0.2"]}
    answer = drive(ask_list(DnsList("bl.example"), "2001:db8::1"), answering(world))
    assert (answer.state, answer.codes) == (ListState.LISTED, (("127.0.0.4", ""),))
