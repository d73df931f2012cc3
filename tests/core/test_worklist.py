"""The life of an item: waiting, notified once, acknowledged, snoozed, resolved, returned."""

from datetime import UTC, datetime, time, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.worklist import (
    Incident,
    Item,
    Level,
    Patience,
    State,
    Tell,
    acknowledge,
    explain_order,
    follow,
    in_quiet_hours,
    join,
    resolve,
    snooze,
    sort_key,
)

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
PATIENCE = Patience()


def incident(level: Level = Level.FIX, mail: int = 1000) -> Incident:
    return Incident("pull:d.example:complaints", "pull", "domain", "d.example", "Complaints", "It is 40.", level,
                   NOW, mail)  # fmt: skip


def walk(*steps: tuple[float, Incident | None], patience: Patience = PATIENCE) -> list[tuple[State | None, Tell]]:
    """State and notification after each step; a step is hours from now and what is measured then."""
    item: Item | None = None
    out = []
    for hours, found in steps:
        item, said = follow(item, found, patience, NOW + timedelta(hours=hours))
        out.append((item.state if item else None, said))
    return out


def test_it_waits_before_it_is_told_and_is_told_once() -> None:
    assert walk((0, incident()), (0.1, incident()), (0.3, incident()), (1, incident()), (20, incident())) == [
        (State.WAITING, Tell.NOTHING), (State.WAITING, Tell.NOTHING), (State.OPEN, Tell.OPENED),
        (State.OPEN, Tell.NOTHING), (State.OPEN, Tell.NOTHING),
    ]  # fmt: skip


def test_what_passes_while_it_waits_never_was() -> None:
    assert walk((0, incident()), (0.1, None), (0.2, None)) == [
        (State.WAITING, Tell.NOTHING), (None, Tell.NOTHING), (None, Tell.NOTHING),
    ]  # fmt: skip


def test_it_is_told_again_while_nobody_minds_it_and_not_when_somebody_does() -> None:
    item, _ = follow(None, incident(), PATIENCE, NOW)
    item, _ = follow(item, incident(), PATIENCE, NOW + timedelta(hours=1))
    assert item is not None
    _, said = follow(item, incident(), PATIENCE, NOW + timedelta(hours=26))
    assert said is Tell.AGAIN
    acknowledged = acknowledge(item)
    assert follow(acknowledged, incident(), PATIENCE, NOW + timedelta(hours=26))[1] is Tell.NOTHING
    worse, said = follow(acknowledged, incident(Level.STOP), PATIENCE, NOW + timedelta(hours=26))
    assert (worse and worse.state, said) == (State.OPEN, Tell.WORSE)
    assert follow(item, incident(), Patience(repeat=None), NOW + timedelta(days=9))[1] is Tell.NOTHING


def test_it_closes_when_it_is_well_for_long_enough_and_says_so_when_it_comes_back() -> None:
    steps = walk(
        (0, incident()), (1, incident()), (2, None), (3, incident()), (4, None), (5, None), (6.5, None), (30, incident()),
        (31, incident()),
    )  # fmt: skip
    assert steps[2:] == [
        (State.OPEN, Tell.NOTHING), (State.OPEN, Tell.NOTHING), (State.OPEN, Tell.NOTHING),
        (State.OPEN, Tell.NOTHING), (State.RESOLVED, Tell.RESOLVED), (State.WAITING, Tell.NOTHING),
        (State.OPEN, Tell.OPENED),
    ]  # fmt: skip
    item, _ = follow(None, incident(), PATIENCE, NOW)
    assert item is not None
    back, _ = follow(resolve(item, NOW), incident(), PATIENCE, NOW + timedelta(days=3))
    assert back is not None
    assert back.returns == 1


def test_one_that_is_put_off_rests_until_then_unless_it_would_stop_mail() -> None:
    item, _ = follow(None, incident(), PATIENCE, NOW)
    item, _ = follow(item, incident(), PATIENCE, NOW + timedelta(hours=1))
    assert item is not None
    resting = snooze(item, NOW + timedelta(days=3))
    assert follow(resting, incident(), PATIENCE, NOW + timedelta(days=2))[1] is Tell.NOTHING
    assert follow(resting, incident(), PATIENCE, NOW + timedelta(days=4))[1] is Tell.AGAIN
    assert follow(resting, incident(Level.STOP), PATIENCE, NOW + timedelta(days=2))[1] is Tell.WORSE
    closed = resolve(item, NOW)
    assert snooze(closed, NOW) is closed
    assert acknowledge(closed) is closed


def test_what_is_only_to_know_is_told_once_and_never_again() -> None:
    known = incident(Level.INFO)
    assert [said for _, said in walk((0, known), (1, known), (30, known), (60, known))] == [
        Tell.NOTHING, Tell.OPENED, Tell.NOTHING, Tell.NOTHING,
    ]  # fmt: skip


@given(st.lists(st.tuples(st.integers(1, 600), st.sampled_from([None, *Level])), max_size=40))
def test_each_incident_is_opened_once_and_closed_once(steps: list[tuple[int, Level | None]]) -> None:
    item: Item | None = None
    now, opened, closed = NOW, 0, 0
    for minutes, level in steps:
        now += timedelta(minutes=minutes)
        item, said = follow(item, incident(level) if level else None, Patience(repeat=None), now)
        opened += said is Tell.OPENED
        closed += said is Tell.RESOLVED
        assert 0 <= opened - closed <= 1
        if item is not None and item.state in (State.OPEN, State.ACKNOWLEDGED):
            assert opened == closed + 1


def test_the_worst_level_comes_first_then_what_nobody_has_seen_then_what_affects_more_mail() -> None:
    def made(level: Level, mail: int) -> Item:
        item, _ = follow(None, incident(level, mail), PATIENCE, NOW)
        assert item is not None
        return item

    stop, much, little = made(Level.STOP, 10), made(Level.FIX, 10_000), made(Level.FIX, 1)
    seen, look = acknowledge(made(Level.FIX, 90_000)), made(Level.INVESTIGATE, 0)
    right = [stop, much, little, seen, look]
    assert sorted([look, little, seen, stop, much], key=sort_key) == right
    assert [explain_order(item) for item in right] == [
        "stop, 10 messages a week", "fix, 10,000 messages a week", "fix, 1 message a week",
        "fix, 90,000 messages a week, acknowledged", "investigate, no mail",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("at", "first", "last", "quiet"),
    [("23:00", "22:00", "07:00", True), ("06:59", "22:00", "07:00", True), ("07:00", "22:00", "07:00", False),
     ("12:00", "12:00", "13:00", True), ("13:00", "12:00", "13:00", False), ("12:00", "12:00", "12:00", False)],
)  # fmt: skip
def test_quiet_hours_may_go_over_midnight(at: str, first: str, last: str, quiet: bool) -> None:
    assert in_quiet_hours(*(time.fromisoformat(row) for row in (at, first, last))) is quiet


def _failing(*, places: tuple[str, ...] = (), scopes: tuple[str, ...] = ()) -> Incident:
    return Incident(
        "pull:d.example:authentication", "pull", "domain", "d.example", "Failed authentication", "text", Level.FIX, NOW,
        topic="authentication", domains=("d.example",), places=places, scopes=scopes,
    )  # fmt: skip


def _faulty(rule: str, place: str, scope: str) -> Incident:
    return Incident(
        f"fault:d.example:{rule}", "fault", "domain", "d.example", rule, "text", Level.FIX, NOW, topic=rule,
        domains=("d.example",), places=(place,), scopes=(scope,),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("rule", "place", "scope", "blamed"),
    [
        ("spf-several-records", "b.d.example", "all", True),
        ("spf-several-records", "d.example", "all", False),  # the stream's envelope domain is another
        ("spf-several-records", "b.d.example", "stream:offers", False),
        ("dkim-key-missing", "s1._domainkey.d.example", "selector:s1", True),
        ("dkim-key-missing", "s9._domainkey.d.example", "selector:s9", False),
        ("dmarc-several-records", "_dmarc.d.example", "all", True),
    ],
)
def test_failing_authentication_blames_only_records_that_the_stream_uses(
    rule: str, place: str, scope: str, blamed: bool
) -> None:
    used = ("b.d.example", "s1._domainkey.d.example")
    fault = _faulty(rule, place, scope)
    found = join([_failing(places=used, scopes=("stream:newsletter", "selector:s1")), fault], {})
    assert (len(found) == 1) is blamed
    assert len(join([_failing(), fault], {})) == 1  # of an unknown stream nothing can be excluded
