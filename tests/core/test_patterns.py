"""What tenants write and the service evaluates: bounded before it is compiled, and while it matches."""

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.mailflow.mapping import FieldRule, Mapping, MappingError
from rust_gauge.core.patterns import MAX_UNROLLED, check_pattern, compile_path, unrolled_size
from rust_gauge.core.replies import Cause, CauseRule, RuleError


@pytest.mark.parametrize(
    ("pattern", "least", "most"),
    [
        ("abc", 3, 3),
        ("a{5}", 5, 5),
        ("(ab){10}", 20, 40),
        ("((a{9}){9}){9}", 729, 1500),
        ("[a-z]{1,100}", 100, 600),
        (r"(\d{1,3}\.){3}\d{1,3}", 20, 80),
        (r"a\{5000000\}", 10, 20),
        ("[{9999999}]", 5, 20),
        ("a{,5}", 1, 10),
    ],
)
def test_the_size_of_a_pattern_is_estimated_without_compiling_it(pattern: str, least: int, most: int) -> None:
    assert least <= unrolled_size(pattern) <= most


@pytest.mark.parametrize(
    "pattern",
    ["(((a{99}){99}){99}){9}", "a{1,99999999}", "((a{1,500}){1,500})", "(?:(?:x{999}){99}){9}", "([a-z]{999}){99}"],
)
def test_a_short_pattern_that_unrolls_to_much_is_refused_by_every_door(pattern: str) -> None:
    assert unrolled_size(pattern) > MAX_UNROLLED
    with pytest.raises(ValueError, match="counted repeats"):
        check_pattern(pattern)
    for field in ("pattern", "unless"):
        with pytest.raises(RuleError, match="not a regular expression"):
            CauseRule("big", Cause.POLICY, **{"words": ("x",), field: pattern})
    with pytest.raises(MappingError, match="not a JSONPath"):
        Mapping({"kind": FieldRule(f"$.a[?search(@.b, '{pattern}')]")})


@given(st.text(alphabet="ab(){}[]\\,0123456789*+?|^$.", max_size=30))
def test_any_text_has_a_size(text: str) -> None:
    assert unrolled_size(text) >= 0


@given(st.from_regex(r"(\(?[a-c](\{[1-9]\})?\)?){1,6}", fullmatch=True))
def test_no_pattern_is_larger_than_its_estimate(pattern: str) -> None:
    """Against what it stands for: the longest text that it matches."""
    try:
        compiled = re.compile(pattern)
    except re.error:
        return
    longest = 3000
    estimate = unrolled_size(pattern)
    tree = re._parser.parse(compiled.pattern)  # type: ignore[attr-defined]
    assert min(tree.getwidth()[1], longest) <= estimate


@pytest.mark.parametrize(
    ("path", "word"),
    [("$..a..b", "more than one"), ("$.a[?@..b]", "within a filter"), ("$.a[?@.b][?@.c][?@.d][?@.e][?@.f]", "filters"),
     ("$..[?@..[?@..x]]", "more than one")],
)  # fmt: skip
def test_a_path_whose_cost_grows_faster_than_the_document_is_refused(path: str, word: str) -> None:
    with pytest.raises(ValueError, match=word):
        compile_path(path)


def test_the_patterns_of_a_path_match_as_the_standard_says_and_give_up_in_time() -> None:
    document = {"a": [{"t": "abc"}, {"t": "xabcx"}, {"t": 5}, {"t": "a" * 40 + "!"}]}
    assert len(compile_path("$.a[?match(@.t, 'abc')]").find(document)) == 1
    assert len(compile_path("$.a[?search(@.t, 'abc')]").find(document)) == 2
    assert len(compile_path("$.a[?search(@.t, '(')]").find(document)) == 0
    assert len(compile_path("$.a[?match(@.t, '(a|aa|aaa)*b')]").find(document)) == 0
    assert len(compile_path("$.a..t").find(document)) == 4
    assert len(compile_path("$.a[?@.t == '..?..?']").find(document)) == 0
