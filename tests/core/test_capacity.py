"""What a load needs grows with it, and never says less than the least."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.capacity import Load, needs_of


def amounts(load: Load) -> dict[str, float]:
    return {need.name: need.amount for need in needs_of(load)}


@given(st.integers(1, 10**9), st.integers(1, 2000), st.integers(1, 100_000), st.floats(1, 50))
def test_more_load_never_needs_less(events: int, days: int, domains: int, peak: float) -> None:
    less = amounts(Load(events, days, domains, peak))
    for more in (Load(events * 2, days, domains, peak), Load(events, days + 1, domains, peak),
                 Load(events, days, domains * 2, peak), Load(events, days, domains, peak * 2)):  # fmt: skip
        assert all(amount >= less[name] for name, amount in amounts(more).items())


def test_a_small_team_and_a_large_one() -> None:
    small, large = amounts(Load(200_000)), amounts(Load(50_000_000, 90, 1000))
    assert small["processors"] == 2
    assert small["disk"] < 30
    assert large["processors"] == 2
    events = 50_000_000 * 90 * 400 / 1024**3  # GiB
    assert events < 0.7 * large["disk"] < events + 10


@pytest.mark.parametrize("load", [Load(0), Load(1, days_kept=0), Load(1, domains=0), Load(1, peak=0.5)])
def test_a_load_that_is_none_is_refused(load: Load) -> None:
    with pytest.raises(ValueError, match="at least 1"):
        needs_of(load)
