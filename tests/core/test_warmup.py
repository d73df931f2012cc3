"""Warm-up: ceilings that grow, and when a provider's plan goes on, waits or steps back."""

from datetime import UTC, date, datetime, timedelta
from itertools import islice, pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.errors import InputError
from rust_gauge.core.warmup import (
    Decision,
    Opening,
    Shape,
    Step,
    StepDay,
    Track,
    Turn,
    Window,
    decide,
    make_steps,
    openings,
)
from rust_gauge.core.warmup.calendar import Entry, to_icalendar
from rust_gauge.core.warmup.portions import LEFT, Cutting, engagement_class


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


# Where a plan is, and when mail goes out


def test_a_plan_goes_on_waits_and_steps_back_two() -> None:
    track, day = Track(5, date(2026, 12, 1)), date(2026, 12, 2)
    assert track.after(Decision(Turn.NEXT), day, 28) == Track(6, day)
    assert track.after(Decision(Turn.WAIT), day, 28) is track
    assert track.after(Decision(Turn.BACK), day, 28) == Track(3, day)
    assert Track(1, track.since).after(Decision(Turn.BACK), day, 28).step == 0
    last = Track(27, track.since)
    assert last.after(Decision(Turn.NEXT), day, 28) is last


def test_a_step_is_left_out_only_where_it_is_wanted_and_every_rate_is_certainly_good() -> None:
    track, day = Track(5, date(2026, 12, 1)), date(2026, 12, 2)
    good = decide([StepDay(5000, 5000, deferred=50, delivered=5000, complaints=1)])
    assert (good.turn, good.certain) == (Turn.NEXT, True)
    assert track.after(good, day, 28).step == 6
    assert track.after(good, day, 28, skip=True).step == 7
    assert track.after(good, day, 7, skip=True).step == 6
    little = decide([StepDay(15, 15, delivered=15, complaints=0, copies=2)])
    assert (little.turn, little.certain) == (Turn.NEXT, False)  # too little mail to be certain
    assert track.after(little, day, 28, skip=True).step == 6


def test_hours_are_those_of_the_time_zone() -> None:
    day = date(2026, 12, 1)
    assert [hour.hour for hour in Window((9, 10), "UTC").hours_of(day)] == [9, 10]
    assert [hour.hour for hour in Window((9, 10), "Asia/Kolkata").hours_of(day)] == [4, 5]  # 9:30 and 10:30 there
    assert [hour.hour for hour in Window((0, 23), "Pacific/Auckland").hours_of(day)] == [10, 11]
    assert len(Window(tuple(range(24)), "Atlantic/Faroe").hours_of(date(2026, 3, 29))) == 24  # a change of the clock


@pytest.mark.parametrize(("hours", "zone", "field"), [((), "UTC", "hours"), ((24,), "UTC", "hours"),
                                                      ((9,), "Faroe", "time_zone"), ((9,), "../x", "time_zone")])  # fmt: skip
def test_a_window_that_cannot_be_is_refused(hours: tuple[int, ...], zone: str, field: str) -> None:
    with pytest.raises(InputError) as caught:
        Window(hours, zone)
    assert caught.value.field == field


NOW = datetime(2026, 12, 1, 9, 30, tzinfo=UTC)


def test_what_was_sent_takes_room_of_the_hour_and_of_the_day() -> None:
    found = openings(Window((8, 9, 10, 11)), lambda _: Step(100, 40), NOW, sent_today=50, sent_this_hour=30)
    first = list(islice(found, 4))
    assert [(opening.at.hour, opening.room) for opening in first] == [(9, 10), (10, 40), (8, 40), (9, 40)]
    assert first[0].at == NOW  # the present hour goes on from now
    assert first[2].at == datetime(2026, 12, 2, 8, tzinfo=UTC)


@given(
    st.sets(st.integers(0, 23), min_size=1), st.integers(1, 500), st.integers(1, 500), st.integers(0, 600),
    st.integers(0, 600), st.integers(0, 23),
)  # fmt: skip
def test_openings_never_exceed_a_ceiling(
    hours: set[int], per_day: int, per_hour: int, today: int, this_hour: int, hour: int
) -> None:
    now = NOW.replace(hour=hour)
    found = list(islice(openings(Window(tuple(hours)), lambda _: Step(per_day, per_hour), now, today, this_hour), 60))
    by_day: dict[date, int] = {}
    for opening in found:
        assert 0 < opening.room <= per_hour
        assert opening.at >= now
        assert opening.at.hour in hours
        by_day[opening.at.date()] = by_day.get(opening.at.date(), 0) + opening.room
    assert all(n <= per_day - (today if day == now.date() else 0) for day, n in by_day.items())
    assert [opening.at for opening in found] == sorted(opening.at for opening in found)


# Cutting


@pytest.mark.parametrize(
    ("more", "less"),
    [("2026-11-30", "2026-11-29"), ("2026-11-30T23:59:00Z", "2026-11-29T00:00:00Z"), ("10", "9"), ("0.5", "0.25"),
     ("1", ""), ("2026-01-01", "never"), ("3", "-5"), ("1", "nan")],
)  # fmt: skip
def test_what_says_more_engagement_has_the_larger_class(more: str, less: str) -> None:
    assert engagement_class(more) > engagement_class(less) >= 0


@given(st.text(max_size=20))
def test_any_text_has_a_class(text: str) -> None:
    assert 0 <= engagement_class(text) < 65_536


def test_a_list_is_cut_by_provider_the_most_engaged_first() -> None:
    cutting = Cutting(2)
    tracks = np.array([0, 0, 1, 0, 0, 1], np.uint8)
    classes = np.array([5, 9, 1, 5, 0, 1], np.uint16)
    cutting.count(tracks, classes)
    assert cutting.totals == [4, 2]
    nine, ten = NOW, NOW + timedelta(minutes=30)
    found = cutting.arrange([[Opening(nine, 2), Opening(ten, 1)], [Opening(ten, 5)]])
    assert [(portion.at, portion.by_track) for portion in found] == [(nine, (2, 0)), (ten, (1, 2))]
    # Of two with the same engagement the earlier row goes first; the least engaged finds no room.
    assert cutting.place(tracks, classes).tolist() == [0, 0, 1, 1, LEFT, 1]


@given(
    st.lists(st.tuples(st.integers(0, 2), st.integers(0, 4)), max_size=60),
    st.lists(st.lists(st.integers(1, 9), max_size=8), min_size=3, max_size=3), st.integers(1, 7), st.booleans(),
)  # fmt: skip
def test_each_row_is_in_one_portion_that_has_room_and_none_goes_before_a_more_engaged_one(
    rows: list[tuple[int, int]], rooms: list[list[int]], piece: int, by_day: bool
) -> None:
    cutting = Cutting(3)
    tracks, classes = (np.array([row[at] for row in rows], kind) for at, kind in ((0, np.uint8), (1, np.uint16)))
    pieces = [slice(start, start + piece) for start in range(0, len(rows), piece)]
    for part in pieces:
        cutting.count(tracks[part], classes[part])
    there = [[Opening(NOW + timedelta(hours=5 * n), room) for n, room in enumerate(of)] for of in rooms]
    portions = cutting.arrange(there, by_day=by_day)
    placed = [int(n) for part in pieces for n in cutting.place(tracks[part], classes[part])]
    for number, portion in enumerate(portions):
        for track in range(3):
            mine = sum(t == track and p == number for (t, _), p in zip(rows, placed, strict=True))
            assert mine == portion.by_track[track]
            day = portion.at.date()
            room = sum(o.room for o in there[track] if (o.at.date() == day if by_day else o.at == portion.at))
            assert mine <= room
    assert all(portion.messages for portion in portions)
    last = [len(portions) if p == LEFT else p for p in placed]
    for (track, engaged), at in zip(rows, last, strict=True):
        for (other, less), after in zip(rows, last, strict=True):
            assert not (track == other and engaged > less and at > after)


def test_a_calendar_folds_escapes_and_ends_its_lines_as_the_standard_wants() -> None:
    text = to_icalendar(
        "clinic; spring",
        [Entry("1@d.example", NOW, timedelta(hours=1), "280 messages, Tidepost: 100", "ä" * 60 + "\nend")],
        NOW,
    )
    lines = text.split("\r\n")
    assert lines[0] == "BEGIN:VCALENDAR"
    assert lines[-2:] == ["END:VCALENDAR", ""]
    assert all(len(line.encode()) <= 75 for line in lines)
    whole = text.replace("\r\n ", "")
    assert "NAME:clinic\\; spring\r\n" in whole
    assert "SUMMARY:280 messages\\, Tidepost: 100\r\n" in whole
    assert f"DESCRIPTION:{'ä' * 60}\\nend\r\n" in whole
    assert "DTSTART:20261201T093000Z\r\n" in whole
    assert "DTEND:20261201T103000Z\r\n" in whole
