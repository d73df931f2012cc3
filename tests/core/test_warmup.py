"""Warm-up: ceilings that grow, and when a provider's plan goes on, waits or steps back."""

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.errors import InputError
from rust_gauge.core.warmup import Shape, StepDay, Turn, decide, make_steps


def test_an_even_plan_multiplies_by_the_same_factor() -> None:
    per_day = [step.per_day for step in make_steps(50, 20_000, 7, Shape.EVEN)]
    assert per_day == [50, 130, 360, 1000, 2700, 7300, 20_000]
    assert [step.per_day for step in make_steps(100, 500, 5, Shape.STRAIGHT)] == [100, 200, 300, 400, 500]
    careful = [step.per_day for step in make_steps(50, 20_000, 7, Shape.CAREFUL)]
    assert all(slow <= even for slow, even in zip(careful, per_day, strict=True))
    assert careful[-1] == 20_000


def test_an_hour_takes_a_quarter_more_than_its_even_share() -> None:
    assert make_steps(80, 800, 2, Shape.EVEN, hours=8)[1].per_hour == 125
    assert make_steps(1, 2, 2, Shape.EVEN, hours=24)[0].per_hour == 1


@given(
    st.integers(1, 10_000), st.integers(0, 10**7), st.integers(2, 120), st.sampled_from(list(Shape)),
    st.integers(1, 24),
)  # fmt: skip
def test_a_plan_never_falls_and_ends_at_its_target(start: int, more: int, days: int, shape: Shape, hours: int) -> None:
    steps = make_steps(start, start + more, days, shape, hours)
    assert len(steps) == days
    assert (steps[0].per_day, steps[-1].per_day) == (start, start + more)
    assert all(a.per_day <= b.per_day for a, b in pairwise(steps))
    assert all(1 <= step.per_hour <= max(2, 1.25 * step.per_day / hours + 1) for step in steps)


@pytest.mark.parametrize(
    ("values", "field"),
    [((0, 10, 5, Shape.EVEN), "start"), ((20, 10, 5, Shape.EVEN), "start"), ((1, 10, 1, Shape.EVEN), "days"),
     ((1, 10, 121, Shape.EVEN), "days"), ((1, 10, 5, Shape.EVEN, 0), "hours")],
)  # fmt: skip
def test_a_plan_that_cannot_be_is_refused(values: tuple[int, int, int, Shape], field: str) -> None:
    with pytest.raises(InputError) as caught:
        make_steps(*values)
    assert caught.value.field == field


@pytest.mark.parametrize(
    ("day", "turn", "words"),
    [
        (StepDay(1000, 1000, delivered=990, complaints=0), Turn.NEXT, "below its line"),
        (StepDay(1000, 650, delivered=650), Turn.WAIT, "only 650 of 1,000"),
        (StepDay(1000, 1000, deferred=120, delivered=1000), Turn.WAIT, "deferrals: 120 of 1,000"),
        (StepDay(1000, 1000, deferred=400, delivered=900), Turn.BACK, "deferrals: 400 of 1,000"),
        (StepDay(1000, 1000, invalid=80, delivered=900), Turn.BACK, "invalid addresses: 80 of 1,000"),
        (StepDay(50, 50, delivered=50, complaints=1), Turn.NEXT, "below its line"),
        (StepDay(1000, 1000, delivered=1000, complaints=10), Turn.BACK, "complaints: 10 of 1,000"),
        (StepDay(5000, 5000, delivered=5000, complaints=4), Turn.NEXT, "below its line"),
        (StepDay(1000, 1000, delivered=1000, copies=4, aside=1), Turn.NEXT, "below its line"),
        (StepDay(1000, 1000, delivered=1000, copies=4, aside=4), Turn.WAIT, "test copies in spam or missing: 4 of 4"),
    ],
)
def test_what_follows_from_a_day(day: StepDay, turn: Turn, words: str) -> None:
    found = decide([day])
    assert found.turn is turn
    assert any(words in each for each in found.why)


def test_the_days_of_a_step_are_added_up_and_without_any_it_waits() -> None:
    assert decide([]).turn is Turn.WAIT
    little = StepDay(100, 100, deferred=7, delivered=100)
    assert decide([little]).turn is Turn.NEXT  # 7 of 100 may be chance
    assert decide([little] * 20).turn is Turn.WAIT  # 140 of 2,000 is not


@given(st.integers(1, 5000), st.integers(0, 5000), st.integers(0, 50))
def test_more_trouble_never_lets_a_step_begin_sooner(sent: int, deferred: int, more: int) -> None:
    order = [Turn.BACK, Turn.WAIT, Turn.NEXT]
    one, other = (
        decide([StepDay(sent, sent, deferred=min(sent, n), delivered=sent)]) for n in (deferred, deferred + more)
    )
    assert order.index(other.turn) <= order.index(one.turn)
