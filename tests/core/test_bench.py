"""Codes found in texts, how a difficult receiver answers, and the spread of marks."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.bench import Rule, answer_for, find_codes, parse_reply, series_of, spread
from rust_gauge.core.bench.receiver import MAX_SECONDS, Does
from rust_gauge.core.errors import InputError


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("Your code is 482913.", ["482913"]),
        ("482 913 is your verification code", ["482 913"]),
        ("Enter this code:\n\n  AB12-CD34\n\nIt is valid for 15 minutes.", ["AB12-CD34"]),
        ("Your one-time passcode: K7QX2M", ["K7QX2M"]),
        ("Dein Bestätigungscode lautet 0042", ["0042"]),
        ("PIN 2024", ["2024"]),
        ("Order 482913 was shipped", []),
        ("Booking no. 48291 for 2026-11-30 at 19:30", []),
        ("© 2026 Glasswort Theatre, 12 Quay Street, Tel 0555 123456", []),
        ("The price is 123456 €, code or not", []),
        ("Call 123-456 or write to PO Box 4821", []),
        ("CODE RED ALERT", []),
        ("https://glasswort.example/confirm/482913", []),
        ("", []),
    ],
)
def test_codes_are_told_from_other_numbers(text: str, expected: list[str]) -> None:
    assert [each.code for each in find_codes(text)] == expected


def test_the_code_that_is_named_comes_before_others() -> None:
    text = "Code sent at 0915\nYour verification code:\n771204\nA colleague's code was 1122."
    assert find_codes(text)[0].code == "771204"


@given(st.text(max_size=300))
def test_any_text_is_looked_through(text: str) -> None:
    for each in find_codes(text):
        assert each.code in text


RULES = (
    Rule("gone*@*", Does.REFUSE),
    Rule("full@tidepost.example", Does.FULL, "552 5.2.2 Over quota", at_data=True),
    Rule("*@[192.0.2.1]", Does.DELAY, seconds=1000),
    Rule("*@slow.example", Does.SLOW, seconds=2),
)


@pytest.mark.parametrize(
    ("recipient", "does", "reply", "at_data", "seconds"),
    [
        ("gone1@a.example", Does.REFUSE, "550 5.1.1 No such mailbox", False, 0),
        ("GONE@A.example", Does.REFUSE, "550 5.1.1 No such mailbox", False, 0),
        ("full@tidepost.example", Does.FULL, "552 5.2.2 Over quota", True, 0),
        ("kim@[192.0.2.1]", Does.DELAY, "", False, MAX_SECONDS),
        ("kim@slow.example", Does.SLOW, "", False, 2),
        ("kim@tidepost.example", Does.ACCEPT, "", False, 0),
    ],
)
def test_the_first_rule_that_matches_answers(
    recipient: str, does: Does, reply: str, at_data: bool, seconds: float
) -> None:
    answer = answer_for(RULES, recipient)
    assert (answer.does, answer.reply, answer.at_data, answer.seconds) == (does, reply, at_data, seconds)


def test_a_pattern_of_many_stars_is_matched_without_going_back() -> None:
    assert answer_for([Rule("*a" * 100 + "b", Does.REFUSE)], "a" * 320).does is Does.ACCEPT


@pytest.mark.parametrize("text", ["250 ok", "hello", "55", "650 x", "550 ü", "550 \x00", ""])
def test_replies_that_do_not_refuse_are_refused(text: str) -> None:
    with pytest.raises(InputError):
        parse_reply(text)


@pytest.mark.parametrize(
    ("subject", "stated", "expected"),
    [
        ("Booking 48213 confirmed", "", "Booking … confirmed"),
        ("[staging] Re: Booking A-77 confirmed", "", "Re: Booking … confirmed"),
        ("Anything", "booking-confirmed", "booking-confirmed"),
        ("", "", ""),
    ],
)
def test_a_series_is_what_the_header_states_or_the_subject_without_its_numbers(
    subject: str, stated: str, expected: str
) -> None:
    assert series_of(subject, stated) == expected


@pytest.mark.parametrize(
    ("marks", "share"),
    [
        ({"a": [90, 90], "b": [80, 80]}, 1.0),
        ({"a": [90, 80], "b": [90, 80]}, 0.0),
        ({"a": [90, 80]}, None),
        ({"a": [90, 80], "b": [70]}, None),
        ({"a": [90, 90], "b": [90, 90]}, None),
        ({}, None),
    ],
)
def test_the_share_of_the_path_is_stated_only_where_it_says_something(
    marks: dict[str, list[float]], share: float | None
) -> None:
    assert spread(marks) == share


@given(st.dictionaries(st.sampled_from("abc"), st.lists(st.floats(0, 100), min_size=1, max_size=6)))
def test_a_share_is_between_nothing_and_all(marks: dict[str, list[float]]) -> None:
    found = spread(marks)
    assert found is None or 0 <= found <= 1
