"""The fixed part of replies, and times to delivery in buckets."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.mailflow.counting import LAST_BUCKET, bucket_times, time_bucket, time_quantile
from rust_gauge.core.replies import classify, parse_reply
from rust_gauge.core.replies.reply_pattern import reply_pattern_of, wording_of


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("550 5.1.1 <kim@tidepost.example>: no such mailbox", "550 5.1.1 <@>: no such mailbox"),
        ("550-5.1.1 no such mailbox q17si12", "550 5.1.1 no such mailbox #"),
        ("452 4.2.2 mailbox full (1024 of 1024 MB)", "452 4.2.2 mailbox full (# of # MB)"),
        ("host mx1.kestrelbox.example summary: try later", "host # summary: try later"),
        ("host mx.kestrelbox.example summary: try later", "host ~ summary: try later"),
        ("421 see https://help.tidepost.example/x for  more", "421 see ~ for more"),
        ("no code at all", "no code at all"),
        ("", ""),
    ],
)
def test_what_is_filled_in_is_taken_out(text: str, wanted: str) -> None:
    assert wording_of(text) == wanted


@given(st.text(max_size=3000))
def test_any_text_has_a_wording_that_is_its_own(text: str) -> None:
    reply_pattern = wording_of(text)
    assert len(reply_pattern) <= 500
    assert not any(c in reply_pattern for c in "\n\r\t")


@given(st.integers(0, 10**6), st.integers(0, 10**6))
def test_two_replies_that_differ_in_a_number_share_their_wording(a: int, b: int) -> None:
    assert wording_of(f"451 try again in {a} seconds") == wording_of(f"451 try again in {b} seconds")


@given(st.floats(0, 1e7))
def test_a_time_lies_in_its_bucket(seconds: float) -> None:
    bucket = time_bucket(seconds)
    low, high = bucket_times(bucket)
    assert 0 <= bucket <= LAST_BUCKET
    assert low <= seconds * (1 + 1e-9)
    assert seconds < high * (1 + 1e-9) or bucket == LAST_BUCKET


def test_quantiles_are_right_to_a_tenth_of_their_size() -> None:
    times = [float(n) for n in range(1, 2001)]
    buckets: dict[int, int] = {}
    for time in times:
        buckets[time_bucket(time)] = buckets.get(time_bucket(time), 0) + 1
    for share in (0.1, 0.5, 0.95):
        found = time_quantile(buckets.items(), share)
        assert found == pytest.approx(2000 * share, rel=0.1)
    assert time_quantile([], 0.5) is None


@given(
    st.lists(st.sampled_from(["550", "5.1.1", "451-4.7.1", "said:", "kim@d.example", "mx.d.example", "x9", "no", "("])),
    st.sampled_from([None, 421, 550]),
    st.sampled_from([None, "5.1.1", "4.7.0"]),
)
def test_a_refusals_wording_holds_its_codes_and_is_its_own_wording(
    words: list[str], code: int | None, enhanced: str | None
) -> None:
    text = " ".join(words)
    reply_pattern = reply_pattern_of(text, code, enhanced)
    assert reply_pattern_of(reply_pattern) == reply_pattern
    assert classify(reply_pattern) == classify(text, code, enhanced)
    if code is not None:
        assert parse_reply(reply_pattern).code == code
    if enhanced is not None:
        assert str(parse_reply(reply_pattern).enhanced) == enhanced
