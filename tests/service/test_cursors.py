"""Cursors: what was written is read, and nothing else is."""

import base64
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.runtime.problems import KINDS, ServiceProblem


@given(st.text(max_size=50), st.integers())
def test_a_position_comes_back_as_it_went_in(text: str, number: int) -> None:
    cursor = write_cursor(text, number)
    assert cursor.isascii()
    assert read_cursor(cursor, str, int) == [text, number]


@given(st.text(max_size=60))
def test_any_other_text_is_refused_as_no_cursor(text: str) -> None:
    try:
        position = read_cursor(text, str, int)
    except ServiceProblem as error:
        assert error.kind is KINDS["bad-cursor"]
    else:
        assert position is not None
        assert [type(value) for value in position] == [str, int]


@pytest.mark.parametrize("value", [[1, "a"], ["a", 1, 2], ["a", True], {"a": 1}, None, "a", [["a"], 1]])
def test_a_cursor_of_another_list_is_refused(value: object) -> None:
    cursor = base64.urlsafe_b64encode(json.dumps(value).encode()).decode()
    with pytest.raises(ServiceProblem):
        read_cursor(cursor, str, int)


def test_no_cursor_is_the_beginning() -> None:
    assert read_cursor(None, str) is None


def test_every_problem_explains_itself() -> None:
    for slug, kind in KINDS.items():
        assert kind.slug == slug
        assert 400 <= kind.status < 600
        assert kind.title
        assert kind.meaning.endswith(".")
