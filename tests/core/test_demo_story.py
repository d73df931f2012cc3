"""The demo's half year by its counters alone: each incident is a jump on its day by its true cause, and nothing else
is.
"""

from collections import Counter, defaultdict
from datetime import date, timedelta

import numpy as np
import pytest

from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.reputation import (
    COUNTS,
    Jump,
    Surroundings,
    common_delay,
    find_jumps,
    read,
    threshold_of,
)
from rust_gauge.demo.generator import day_counts
from rust_gauge.demo.scenario import FLOWS, HISTORY_DAYS, LONG_TAIL, PROVIDERS, TENANTS
from rust_gauge.service.readings.computation import Counted, count
from rust_gauge.store.counter_rows import CounterRows

ANCHOR = date(2026, 11, 20)
DOMAINS = sorted({flow.domain for flow in FLOWS})
LABELS = [provider.name for provider in PROVIDERS if provider.name] + ["others"]


@pytest.fixture(scope="module")
def story() -> tuple[Counted, Surroundings]:
    """Counts of each domain at each provider, and what providers did to everybody."""
    sums: Counter[tuple[int, ...]] = Counter()
    for tenant in TENANTS:
        for age in range(HISTORY_DAYS, -1, -1):
            day = ANCHOR - timedelta(days=age)
            for key, n in (
                *day_counts(day, ANCHOR, tenant.slug), *day_counts(day, ANCHOR, tenant.slug, counted=True)
            ):  # fmt: skip
                provider = LABELS.index("others" if key.provider in LONG_TAIL else key.provider) + 10
                kind = Count(key.kind.value).number
                at = (DOMAINS.index(key.domain), provider, HISTORY_DAYS - age, kind, key.cause.number)
                sums[*at, key.permanence.number] += n
    rows = CounterRows.of([(*at, n) for at, n in sums.items()])
    counted = count(rows, ANCHOR - timedelta(days=HISTORY_DAYS), ANCHOR)
    by_provider: dict[int, list[int]] = defaultdict(list)
    for row, (_, provider) in enumerate(counted.series):
        by_provider[provider].append(row)
    common = np.zeros(counted.counts.shape[1:])
    delays = counted.counts[COUNTS.index("delays")]
    for rows_there in by_provider.values():
        common[rows_there] = common_delay(delays[rows_there], counted.counts[0, rows_there])
    reports = np.array([PROVIDERS[p - 10].reports if p - 10 < len(PROVIDERS) else False for _, p in counted.series])
    sender = np.array([domain for domain, _ in counted.series], dtype=np.intp)
    return counted, Surroundings(reports, sender, common)


@pytest.fixture(scope="module")
def found(story: tuple[Counted, Surroundings]) -> dict[str, list[tuple[str, int]]]:
    """By domain: (factor, days before the last) of the first jump of each factor, and of those after a month."""
    counted, around = story
    threshold = threshold_of(len(LABELS) + 1)
    out: dict[str, list[Jump]] = defaultdict(list)
    length = counted.counts.shape[2]
    for jump in find_jumps(counted.counts, around, threshold, window=length, over_all=True):
        subject = counted.series[jump.series][0] if jump.series < len(counted.series) else None
        domain = DOMAINS[subject if subject is not None else jump.series - len(counted.series)]
        out[domain].append(jump)
    first: dict[str, list[tuple[str, int]]] = {}
    for domain, jumps in out.items():
        seen: list[tuple[str, int]] = []
        for jump in sorted(jumps, key=lambda jump: jump.reported):
            age = length - 1 - jump.reported
            if not any(factor == jump.factor and before - age < 30 for factor, before in seen):
                seen.append((jump.factor, age))
        first[domain] = seen
    return first


@pytest.mark.parametrize(
    ("domain", "factor", "ages"),
    [
        ("news.glasswort.example", "invalid_addresses", range(174, 179)),  # the bought list, mailed twice a week
        ("news.glasswort.example", "complaints", range(12)),
        ("catalogue.thornfieldseeds.example", "listings", range(41, 45)),
        ("copperline.example", "listings", range(43, 45)),
        ("alerts.marramferries.example", "authentication", range(17, 18)),
        ("copperline.example", "authentication", range(19, 21)),
        ("news.glasswort.example", "invalid_addresses", range(7, 12)),  # new addresses
    ],
)
def test_each_incident_is_a_jump_of_its_true_cause(
    found: dict[str, list[tuple[str, int]]], domain: str, factor: str, ages: range
) -> None:
    assert any(name == factor and age in ages for name, age in found.get(domain, [])), found.get(domain)


def test_nothing_else_is(found: dict[str, list[tuple[str, int]]]) -> None:
    """An outage of everybody is nobody's jump, and clean domains have none in half a year."""
    touched = {
        "news.glasswort.example", "catalogue.thornfieldseeds.example", "copperline.example",
        "alerts.marramferries.example", "reminders.halyardclinic.example",
    }  # fmt: skip
    assert set(found) <= touched
    assert not any(age == 3 and factor == "delays" for jumps in found.values() for factor, age in jumps)


def test_what_is_too_small_for_a_jump_shows_in_the_reading_where_it_happens(
    story: tuple[Counted, Surroundings],
) -> None:
    """A new subdomain of fourteen messages a day, a fifth of which one provider defers for eleven days."""
    counted, around = story
    readings = read(counted.counts, around)
    mine = {LABELS[p - 10]: row for row, (d, p) in enumerate(counted.series) if DOMAINS[d].startswith("reminders.")}
    now = {name: int(readings.tenths[row, -1]) for name, row in mine.items()}
    assert min(now, key=lambda name: now[name]) == "orchardmail.example"
    assert now["orchardmail.example"] < 800
    assert all(value > 900 for name, value in now.items() if name != "orchardmail.example")


def test_clean_domains_are_sound_every_day(story: tuple[Counted, Surroundings]) -> None:
    counted, around = story
    readings = read(counted.counts, around)
    for row, (domain, _) in enumerate(counted.series):
        if DOMAINS[domain] in (
            "marramferries.example", "departures.marramferries.example", "glasswort.example", "halyardclinic.example",
        ):  # fmt: skip
            known = readings.tenths[row] >= 0
            assert (readings.tenths[row][known] >= 800).all(), DOMAINS[domain]
