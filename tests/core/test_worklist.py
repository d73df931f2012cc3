"""How an item of the worklist goes on: waiting, told once, minded, put off, closed by itself, back again."""

from datetime import UTC, datetime, time, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.worklist import (
    Item,
    Level,
    Patience,
    State,
    Tell,
    Trouble,
    acknowledge,
    close,
    follow,
    in_quiet_hours,
    put_off,
    rank,
)

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
PATIENCE = Patience()


def trouble(level: Level = Level.MEND, mail: int = 1000) -> Trouble:
    return Trouble("pull:d.example:complaints", "pull", "domain", "d.example", "Complaints", "It stands at 40.", level,
                   NOW, mail)  # fmt: skip


def walk(*steps: tuple[float, Trouble | None], patience: Patience = PATIENCE) -> list[tuple[State | None, Tell]]:
    """State and what is told after each step; a step is hours from now and what is measured then."""
    item: Item | None = None
    out = []
    for hours, found in steps:
        item, said = follow(item, found, patience, NOW + timedelta(hours=hours))
        out.append((item.state if item else None, said))
    return out


def test_it_waits_before_it_is_told_and_is_told_once() -> None:
    assert walk((0, trouble()), (0.1, trouble()), (0.3, trouble()), (1, trouble()), (20, trouble())) == [
        (State.WAITING, Tell.NOTHING), (State.WAITING, Tell.NOTHING), (State.OPEN, Tell.OPENED),
        (State.OPEN, Tell.NOTHING), (State.OPEN, Tell.NOTHING),
    ]  # fmt: skip


def test_what_passes_while_it_waits_never_was() -> None:
    assert walk((0, trouble()), (0.1, None), (0.2, None)) == [
        (State.WAITING, Tell.NOTHING), (None, Tell.NOTHING), (None, Tell.NOTHING),
    ]  # fmt: skip


def test_it_is_told_again_while_nobody_minds_it_and_not_when_somebody_does() -> None:
    item, _ = follow(None, trouble(), PATIENCE, NOW)
    item, _ = follow(item, trouble(), PATIENCE, NOW + timedelta(hours=1))
    assert item is not None
    _, said = follow(item, trouble(), PATIENCE, NOW + timedelta(hours=26))
    assert said is Tell.AGAIN
    minded = acknowledge(item)
    assert follow(minded, trouble(), PATIENCE, NOW + timedelta(hours=26))[1] is Tell.NOTHING
    worse, said = follow(minded, trouble(Level.STOP), PATIENCE, NOW + timedelta(hours=26))
    assert (worse and worse.state, said) == (State.OPEN, Tell.WORSE)
    assert follow(item, trouble(), Patience(repeat=None), NOW + timedelta(days=9))[1] is Tell.NOTHING


def test_it_closes_when_it_is_well_for_long_enough_and_says_so_when_it_comes_back() -> None:
    steps = walk(
        (0, trouble()), (1, trouble()), (2, None), (3, trouble()), (4, None), (5, None), (6.5, None), (30, trouble()),
        (31, trouble()),
    )  # fmt: skip
    assert steps[2:] == [
        (State.OPEN, Tell.NOTHING), (State.OPEN, Tell.NOTHING), (State.OPEN, Tell.NOTHING),
        (State.OPEN, Tell.NOTHING), (State.CLOSED, Tell.CLOSED), (State.WAITING, Tell.NOTHING),
        (State.OPEN, Tell.OPENED),
    ]  # fmt: skip
    item, _ = follow(None, trouble(), PATIENCE, NOW)
    assert item is not None
    back, _ = follow(close(item, NOW), trouble(), PATIENCE, NOW + timedelta(days=3))
    assert back is not None
    assert back.returns == 1


def test_one_that_is_put_off_rests_until_then_unless_it_would_stop_mail() -> None:
    item, _ = follow(None, trouble(), PATIENCE, NOW)
    item, _ = follow(item, trouble(), PATIENCE, NOW + timedelta(hours=1))
    assert item is not None
    resting = put_off(item, NOW + timedelta(days=3))
    assert follow(resting, trouble(), PATIENCE, NOW + timedelta(days=2))[1] is Tell.NOTHING
    assert follow(resting, trouble(), PATIENCE, NOW + timedelta(days=4))[1] is Tell.AGAIN
    assert follow(resting, trouble(Level.STOP), PATIENCE, NOW + timedelta(days=2))[1] is Tell.WORSE
    closed = close(item, NOW)
    assert put_off(closed, NOW) is closed
    assert acknowledge(closed) is closed


def test_what_is_only_to_know_is_told_once_and_never_again() -> None:
    known = trouble(Level.KNOW)
    assert [said for _, said in walk((0, known), (1, known), (30, known), (60, known))] == [
        Tell.NOTHING, Tell.OPENED, Tell.NOTHING, Tell.NOTHING,
    ]  # fmt: skip


@given(st.lists(st.tuples(st.integers(1, 600), st.sampled_from([None, *Level])), max_size=40))
def test_each_incident_is_opened_once_and_closed_once(steps: list[tuple[int, Level | None]]) -> None:
    item: Item | None = None
    now, opened, closed = NOW, 0, 0
    for minutes, level in steps:
        now += timedelta(minutes=minutes)
        item, said = follow(item, trouble(level) if level else None, Patience(repeat=None), now)
        opened += said is Tell.OPENED
        closed += said is Tell.CLOSED
        assert 0 <= opened - closed <= 1
        if item is not None and item.state in (State.OPEN, State.MINDED):
            assert opened == closed + 1


def test_what_is_worse_or_touches_more_mail_comes_first() -> None:
    def ranked(level: Level, mail: int) -> float:
        item, _ = follow(None, trouble(level, mail), PATIENCE, NOW)
        assert item is not None
        return rank(item, NOW)

    assert ranked(Level.STOP, 1000) > ranked(Level.MEND, 10_000) > ranked(Level.MEND, 1000) > ranked(Level.LOOK, 1000)
    item, _ = follow(None, trouble(), PATIENCE, NOW)
    assert item is not None
    assert rank(acknowledge(item), NOW) < rank(item, NOW)


@pytest.mark.parametrize(
    ("at", "first", "last", "quiet"),
    [("23:00", "22:00", "07:00", True), ("06:59", "22:00", "07:00", True), ("07:00", "22:00", "07:00", False),
     ("12:00", "12:00", "13:00", True), ("13:00", "12:00", "13:00", False), ("12:00", "12:00", "12:00", False)],
)  # fmt: skip
def test_quiet_hours_may_go_over_midnight(at: str, first: str, last: str, quiet: bool) -> None:
    assert in_quiet_hours(*(time.fromisoformat(row) for row in (at, first, last))) is quiet
