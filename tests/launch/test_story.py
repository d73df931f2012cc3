"""How incidents of the demo's story grow, fade and end."""

from datetime import date, timedelta

import pytest

from rust_gauge.demo.generator import plan_day, strength_of
from rust_gauge.demo.scenario import FLOWS, Incident

ANCHOR = date(2026, 11, 20)


@pytest.mark.parametrize(
    ("incident", "strengths"),
    [
        (Incident(10, 8, "plain"), {11: 0, 10: 1, 9: 1, 8: 1, 7: 0}),
        (Incident(10, 0, "grows", grows=True), {11: 0, 10: 0, 5: 0.5, 0: 1}),
        (Incident(10, -400, "goes on growing no further", grows=True), {10: 0, 0: 1, -30: 1}),
        (Incident(10, 1, "fades", fades=True), {11: 0, 10: 1, 6: 0.6, 1: 0.1, 0: 0}),
    ],
    ids=lambda value: value.title if isinstance(value, Incident) else "",
)
def test_an_incident_has_itsstrength_of_on_each_day(incident: Incident, strengths: dict[int, float]) -> None:
    for age, strength in strengths.items():
        assert strength_of(incident, age) == pytest.approx(strength), age


def test_an_outage_touches_its_provider_and_its_hours_alone() -> None:
    cells = [cell for tenant in ("marram", "halyard") for cell in plan_day(ANCHOR - timedelta(days=3), ANCHOR, tenant)]
    struck = {(cell.provider.name, cell.hour.hour) for cell in cells if cell.outage}
    assert {name for name, _ in struck} == {"fenlandnet.example"}
    assert {hour for _, hour in struck} <= set(range(4, 12))
    assert all(cell.rates["delay"] > 0.8 for cell in cells if cell.outage)


def test_a_new_stream_sends_nothing_before_its_first_day_and_warms_up_after() -> None:
    def sent(age: int) -> int:
        day = ANCHOR - timedelta(days=age)
        cells = plan_day(day, ANCHOR, "halyard")
        return sum(cell.messages for cell in cells if cell.flow.stream == "reminders")

    assert sent(27) == 0
    week = range(20, 27), range(1, 8)
    first, later = (sum(sent(age) for age in days) for days in week)
    assert 0 < first < later / 3


def test_every_stream_sends_on_some_day_and_never_to_real_names() -> None:
    for flow in FLOWS:
        assert sum(flow.week) > 0
        assert flow.domain.endswith(".example")
