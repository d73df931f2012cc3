"""Examinations that are used again: as long as nothing changed that they were computed from, and within a bound."""

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import numpy as np
import pytest

from rust_gauge.client import Client
from rust_gauge.contract.readings import FactorSettings, ReadingSettings
from rust_gauge.core.reputation import COUNTS, FACTORS, Surroundings, read
from rust_gauge.service.providers.providers import Columns
from rust_gauge.service.readings.computation import Counted, Place
from rust_gauge.service.readings.examination import Examinations, Examined, Key, Numbers, examine
from tests.conftest import Office
from tests.rows import bounce, ndjson, row

NOW = datetime(2026, 12, 2, 9, tzinfo=UTC)
NUMBERS: Numbers = (("events", 7),)


def key(name: str) -> Key:
    return (1, 1, "domain", name, NOW.date())


def examined(days: int = 30) -> Examined:
    counts = np.zeros((len(COUNTS), 1, days))
    counts[:2] = 100.0
    around = Surroundings(
        np.array([True]), np.array([0], dtype=np.intp), np.zeros((1, days)), {}, np.zeros((1, days)), None, 0.3, True
    )
    place = Place(1, NOW.date(), Columns({}, {}, frozenset()), frozenset(), FACTORS, {}, 0.3, {})
    counted = Counted(date(2026, 11, 3), counts, [(1, 1)])
    return Examined(place, 1, counted, around, read(counts, around, FACTORS))


@pytest.mark.parametrize(
    ("numbers", "later", "there"),
    [
        (NUMBERS, timedelta(0), True),
        (NUMBERS, timedelta(seconds=59), True),
        (NUMBERS, timedelta(seconds=60), False),
        (NUMBERS, timedelta(seconds=-1), False),  # a clock that was set back says nothing of how old it is
        ((("events", 8),), timedelta(0), False),
        ((), timedelta(0), False),
    ],
)
def test_it_is_used_again_until_its_inputs_change(numbers: Numbers, later: timedelta, there: bool) -> None:
    kept, found = Examinations(), examined()
    kept.put(key("a.example"), NUMBERS, NOW, found)
    assert kept.get(key("a.example"), numbers, NOW + later) is (found if there else None)
    assert kept.get(key("b.example"), NUMBERS, NOW) is None


def test_the_memory_of_all_of_them_is_bounded_and_those_used_last_stay() -> None:
    found = examined()
    kept = Examinations(octets=2 * found.octets)
    kept.put(key("a.example"), NUMBERS, NOW, found)
    kept.put(key("b.example"), NUMBERS, NOW, found)
    assert kept.get(key("a.example"), NUMBERS, NOW) is found
    kept.put(key("c.example"), NUMBERS, NOW, found)
    names = ("a.example", "b.example", "c.example")
    assert [kept.get(key(name), NUMBERS, NOW) is not None for name in names] == [True, False, True]
    for _ in range(5):
        kept.put(key("c.example"), NUMBERS, NOW, found)
    assert kept.get(key("a.example"), NUMBERS, NOW) is found, "the same one again takes no more"
    kept.put(key("large.example"), NUMBERS, NOW, examined(days=400))
    assert kept.get(key("large.example"), NUMBERS, NOW) is None, "one that is too large is not kept"


def test_what_is_derived_is_computed_once() -> None:
    found, calls = examined(), []
    for _ in range(3):
        assert found.once("answer", lambda: calls.append(1) or 42) == 42
    assert calls == [1]
    assert replace(found, _derived={}).whole.tenths.tolist() == found.whole.tenths.tolist()


def test_a_page_sees_what_happened_a_moment_ago(office: Office, client: Client) -> None:
    """Events, a setting, and events again: each answer is that of a service that never asked before."""
    client.events.load(office.slug, ndjson(*(row(n) for n in range(400))))
    context, tenant = office.world.context, office.tenant
    first = examine(context, tenant, "domain", "news.d.example")
    assert examine(context, tenant, "domain", "news.d.example") is first

    client.events.load(office.slug, ndjson(*(bounce(900 + n) for n in range(60))))
    second = examine(context, tenant, "domain", "news.d.example")
    assert first is not None and second is not None
    assert second.counted.counts.sum() > first.counted.counts.sum()
    now = client.readings.series(office.slug, "news.d.example").readings[-1]

    lax = ReadingSettings(factors={"invalid_addresses": FactorSettings(watch=0.5, stop=0.9)})
    client.readings.set_settings(office.slug, lax)
    milder = client.readings.series(office.slug, "news.d.example").readings[-1]
    assert now.value is not None and milder.value is not None
    assert milder.value > now.value
