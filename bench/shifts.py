"""How often the search for shifts is wrong where nothing changes, and how soon it finds what does."""

from datetime import timedelta

import numpy as np

from bench.world import NOW, Bench, Figure
from rust_gauge.core.mailflow.shifts import WINDOW, Hour, find_shifts, threshold_of

_RUNS = 30  # series of each kind
_HOURS = 36 * 24


def run(bench: Bench) -> list[Figure]:
    luck = np.random.default_rng(7)
    alarms = series = 0
    for rate in (0.0005, 0.005, 0.02, 0.1):
        for likeness in (0.0, 0.005, 0.05):
            for volume in (3, 40, 1000):
                for _ in range(_RUNS):
                    series += 1
                    alarms += len(find_shifts(_hours(luck, rate, rate, likeness, volume), NOW, threshold_of(1, 1)))
    years = series * (WINDOW / timedelta(days=1)) / 365.25
    figures = [
        Figure("false alarms a year of a series", f"{alarms} in {years:.1f} years", "1 a year", alarms / years, "1")
    ]
    for rate, raised, likeness, volume in (
        (0.01, 0.1, 0.0, 100), (0.01, 0.1, 0.01, 100), (0.001, 0.01, 0.001, 1000), (0.05, 0.4, 0.05, 100),
        (0.01, 0.03, 0.005, 500),
    ):  # fmt: skip
        delays = [_delay(luck, rate, raised, likeness, volume) for _ in range(2 * _RUNS)]
        found = [delay for delay in delays if delay is not None]
        name = f"{rate:.1%} to {raised:.1%}, {volume} an hour, likeness {likeness:g}"
        missed = len(delays) - len(found)
        hours = sum(found) / max(1, len(found))
        figures.append(Figure(f"hours to find {name}", f"{hours:.1f} h, {missed} missed", "48 h", hours / 48, "-"))
    return figures


def _hours(luck: np.random.Generator, rate: float, raised: float, likeness: float, volume: int) -> list[Hour]:
    """Five weeks of hours, `raised` in the last two days."""
    out = []
    for left in range(_HOURS, 0, -1):
        at = NOW - timedelta(hours=left)
        total = int(luck.poisson(volume * (1 if at.hour > 6 else 0.1)))
        p = raised if left <= 48 else rate
        if likeness:
            size = (1 - likeness) / likeness
            p = luck.beta(p * size, (1 - p) * size)
        out.append(Hour(at, int(luck.binomial(total, p)), total))
    return out


def _delay(luck: np.random.Generator, rate: float, raised: float, likeness: float, volume: int) -> float | None:
    """Hours from the rise to the hour in which it was found; None when it was not."""
    start = NOW - timedelta(hours=48)
    made = _hours(luck, rate, raised, likeness, volume)
    found = [shift for shift in find_shifts(made, NOW, threshold_of(1, 40)) if shift.found_at >= start]
    return (found[0].found_at - start) / timedelta(hours=1) if found else None
