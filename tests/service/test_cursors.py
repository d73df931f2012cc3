"""Cursors: what a list gave out it reads again, and nothing else."""

import base64
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.runtime.problems import KINDS, ServiceProblem


@given(st.text(max_size=50), st.integers())
def test_a_position_comes_back_as_it_went_in(text: str, number: int) -> None:
    cursor = write_cursor("events", text, number)
    assert cursor.isascii()
    assert read_cursor("events", cursor, str, int) == [text, number]


@given(st.text(max_size=60))
def test_any_other_text_is_refused(text: str) -> None:
    with pytest.raises(ServiceProblem) as error:
        read_cursor("events", text, str, int)
    assert error.value.kind is KINDS["bad-cursor"]


@given(st.text(max_size=20), st.integers())
def test_a_position_that_somebody_wrote_down_as_a_cursor_is_refused(text: str, number: int) -> None:
    written = json.dumps([text, number]).encode()
    for raw in (written, bytes(8) + written):
        with pytest.raises(ServiceProblem):
            read_cursor("events", base64.urlsafe_b64encode(raw).decode().rstrip("="), str, int)


@given(st.text(max_size=20), st.data())
def test_a_cursor_with_one_character_changed_is_refused(text: str, data: st.DataObject) -> None:
    cursor = write_cursor("events", text, 1)
    at = data.draw(st.integers(0, len(cursor) - 2))  # the last may hold bits that decoding drops
    other = data.draw(st.sampled_from("abcXYZ019-_").filter(lambda c: c != cursor[at]))
    with pytest.raises(ServiceProblem):
        read_cursor("events", cursor[:at] + other + cursor[at + 1 :], str, int)


@pytest.mark.parametrize("position", [(1, "a"), ("a", 1, 2), ("a", True), (["a"], 1), ()])
def test_a_position_of_other_types_is_refused(position: tuple[object, ...]) -> None:
    with pytest.raises(ServiceProblem):
        read_cursor("events", write_cursor("events", *position), str, int)


def test_a_cursor_of_another_list_is_refused() -> None:
    with pytest.raises(ServiceProblem):
        read_cursor("feeds", write_cursor("events", "a", 1), str, int)


def test_no_cursor_is_the_beginning() -> None:
    assert read_cursor("events", None, str) is None


def test_every_problem_explains_itself() -> None:
    for slug, kind in KINDS.items():
        assert kind.slug == slug
        assert 400 <= kind.status < 600
        assert kind.title
        assert kind.meaning.endswith(".")
