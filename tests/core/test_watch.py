"""How a change spreads: what each server holds, when the last will have it, when to look again."""

import pytest

from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion
from rust_gauge.core.recordplan import (
    Holds,
    PlannedRecord,
    Purpose,
    RecordPlan,
    Sighting,
    WatchServer,
    agreed,
    next_look,
    seconds_left,
    sight,
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
        (seen((Holds.NEW, None), (Holds.NEW, None)), True, 0),
        (seen((Holds.NEW, None), (Holds.OLD, 90), (Holds.NOTHING, 300)), False, 300),
        (seen((Holds.NEW, None), (Holds.FAILED, None)), True, 0),
        (seen((Holds.FAILED, None)), False, 0),
        (seen((Holds.OLD, None), (Holds.OLD, 90)), False, None),
        ([], False, 0),
    ],
)
def test_when_everybody_has_it(sightings: list[Sighting], done: bool, left: int | None) -> None:
    assert (agreed(sightings), seconds_left(sightings)) == (done, left)


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
