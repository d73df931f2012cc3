"""How a change spreads: what each server holds, when the last will have it, when to look again."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion
from rust_gauge.core.recordplan import (
    Ending,
    Holds,
    PlannedRecord,
    Purpose,
    RecordPlan,
    Sighting,
    WatchServer,
    ending,
    next_look,
    seconds_left,
    sight,
    silent_servers,
    watch_questions,
)
from tests.answers import rdata

RECORD = PlannedRecord(Purpose.SPF, "d.example", "d.example", "TXT", "v=spf1 -all")
PLAN = RecordPlan("d.example", "d.example", (RECORD,))
OWN, RESOLVER = WatchServer("ns1", "192.0.2.1", own=True), WatchServer("near", "198.51.100.53:5353")


def answer(*texts: str, ttl: int | None = 120, status: AnswerStatus | None = None) -> DnsAnswer:
    found = status or (AnswerStatus.FOUND if texts else AnswerStatus.NO_NAME)
    return DnsAnswer(DnsQuestion("d.example", "TXT"), found, tuple(rdata("TXT", text) for text in texts), ttl)


@pytest.mark.parametrize(
    ("server", "given", "holds", "seconds"),
    [
        (RESOLVER, answer("v=spf1 -all"), Holds.NEW, None),
        (RESOLVER, answer("v=spf1 mx -all", ttl=77), Holds.OLD, 77),
        (RESOLVER, answer(ttl=60), Holds.NOTHING, 60),
        (RESOLVER, answer("verification=1", ttl=60), Holds.NOTHING, 60),
        (RESOLVER, answer(status=AnswerStatus.TIMEOUT), Holds.FAILED, None),
        (OWN, answer("v=spf1 mx -all", ttl=77), Holds.OLD, None),
    ],
)
def test_what_a_server_holds(server: WatchServer, given: DnsAnswer, holds: Holds, seconds: int | None) -> None:
    seen = sight(RECORD, server, given, PLAN)
    assert (seen.holds, seen.seconds) == (holds, seconds)


def seen(*holds: tuple[Holds, int | None]) -> list[Sighting]:
    return [Sighting("k", f"s{n}", hold, seconds=seconds) for n, (hold, seconds) in enumerate(holds)]


@pytest.mark.parametrize(
    ("sightings", "done", "left"),
    [
        (seen((Holds.NEW, None), (Holds.NEW, None)), Ending.AGREED, 0),
        (seen((Holds.NEW, None), (Holds.OLD, 90), (Holds.NOTHING, 300)), None, 300),
        (seen((Holds.NEW, None), (Holds.FAILED, None)), None, 0),
        (seen((Holds.FAILED, None)), None, 0),
        (seen((Holds.OLD, None), (Holds.OLD, 90)), None, None),
        ([], None, 0),
    ],
)
def test_when_everybody_has_it(sightings: list[Sighting], done: Ending | None, left: int | None) -> None:
    assert (ending(sightings, timed_out=False), seconds_left(sightings)) == (done, left)


@given(st.lists(st.tuples(st.sampled_from(Holds), st.integers(0, 9)), max_size=8), st.booleans())
def test_only_servers_that_answer_with_the_record_agree(held: list[tuple[Holds, int]], timed_out: bool) -> None:
    sightings = [Sighting("k", f"s{n}", holds, failures=failed) for n, (holds, failed) in enumerate(held)]
    end = ending(sightings, timed_out=timed_out)
    assert (end is Ending.AGREED) == (bool(held) and all(holds is Holds.NEW for holds, _ in held))
    if end is Ending.INCOMPLETE:
        assert silent_servers(sightings)
        assert not any(holds in (Holds.OLD, Holds.NOTHING) for holds, _ in held)
    assert end is not None or not timed_out, "a watch ends when its time is over"


def test_a_silent_server_is_waited_for_some_rounds() -> None:
    silent = [Sighting("k", "a", Holds.NEW), Sighting("k", "b", Holds.FAILED, failures=4)]
    assert ending(silent, timed_out=False) is None
    assert ending([silent[0], replace(silent[1], failures=5)], timed_out=False) is Ending.INCOMPLETE


def test_it_looks_again_when_an_old_answer_runs_out_and_not_too_often() -> None:
    assert next_look(seen((Holds.OLD, 35)), 9) == 36
    assert next_look(seen((Holds.OLD, 2)), 9) == 10
    assert next_look(seen((Holds.OLD, 86_400)), 0) == 10
    waits = [next_look(seen((Holds.OLD, 86_400)), rounds) for rounds in range(12)]
    assert waits == sorted(waits)
    assert waits[-1] <= 900


def test_a_round_asks_each_server_once_for_each_record() -> None:
    asked = watch_questions([RECORD, RECORD], [OWN, RESOLVER])
    assert [(question.server, question.recursive) for _, _, question in asked] == [
        ("192.0.2.1", False), ("198.51.100.53:5353", True)] * 2  # fmt: skip
