"""The grammar of SPF records (RFC 7208 §12)."""

from ipaddress import ip_network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.spf import Qualifier, correct, is_spf1, parse_spf
from rust_gauge.core.spf.macros import MacroExpand, parse_macro_string
from tests.vectors.spf_records import RIGHT, WRONG


@pytest.mark.parametrize(("name", "text"), RIGHT, ids=[row[0] for row in RIGHT])
def test_a_record_that_the_grammar_allows_has_no_mistake(name: str, text: str) -> None:
    assert parse_spf(text).problems == ()


@pytest.mark.parametrize(("name", "text", "mistakes"), WRONG, ids=[row[0] for row in WRONG])
def test_every_mistake_is_found_at_its_column(name: str, text: str, mistakes: list[tuple[int, str]]) -> None:
    problems = parse_spf(text).problems
    assert [problem.column for problem in problems] == [column for column, _ in mistakes]
    for problem, (_, word) in zip(problems, mistakes, strict=True):
        assert word in problem.what


@pytest.mark.parametrize(
    ("text", "spf"),
    [
        ("v=spf1", True),
        ("V=SPF1 -all", True),
        ("v=spf1 ", True),
        ("v=spf10", False),
        ("v=spf1;", False),
        (" v=spf1", False),
        ("v=spf", False),
        ("", False),
    ],
)
def test_only_the_exact_version_makes_an_spf_record(text: str, spf: bool) -> None:
    assert is_spf1(text) is spf


def test_terms_keep_their_values_and_places() -> None:
    record = parse_spf("v=spf1 ip4:192.0.2.7/29 ?a:m.a.example/24//64 redirect=b.example -all")
    ip4, a, last = record.directives
    assert (ip4.network, ip4.column, ip4.qualifier) == (ip_network("192.0.2.0/29"), 8, Qualifier.PASS)
    assert (a.qualifier, a.prefix4, a.prefix6, a.domain and a.domain.literal) == (
        Qualifier.NEUTRAL,
        24,
        64,
        "m.a.example",
    )
    assert record.all is last
    assert record.redirect is not None
    assert record.redirect.value.literal == "b.example"


def test_a_macro_keeps_letter_digits_reversal_and_delimiters() -> None:
    macro, problems = parse_macro_string("%{L3r+-}.x%%%_%-", 1)
    assert problems == []
    assert macro.pieces == (MacroExpand("L", 3, True, "+-"), ".x% %20")
    assert macro.has_macros


@given(st.text(max_size=400))
def test_any_text_gives_a_record_whose_problems_lie_inside_it(tail: str) -> None:
    text = "v=spf1 " + tail
    for problem in parse_spf(text).problems:
        assert 1 <= problem.column <= len(text) + 1
        assert problem.length >= 1


@given(st.lists(st.sampled_from(["a", "mx", "ip4:192.0.2.1", "include:a.example", "-all", "x=y", "ptr"]), max_size=20))
def test_good_terms_are_all_kept_in_order(terms: list[str]) -> None:
    record = parse_spf(" ".join(["v=spf1", *terms]))
    assert [term.text for term in record.terms] == terms


@pytest.mark.parametrize(
    ("record", "corrected"),
    [
        ("v=spf1 a/0 -all", "v=spf1 a -all"),
        ("v=spf1 mx:b.example/2//1 ~all", "v=spf1 mx:b.example ~all"),
        ("v=spf1 a:%{d2/}.a.example/2 -all", "v=spf1 a:%{d2/}.a.example -all"),  # a slash within a macro
    ],
)
def test_a_mechanism_that_covers_everybody_is_narrowed(record: str, corrected: str) -> None:
    found = correct([record])
    assert found is not None
    assert found.text == corrected
