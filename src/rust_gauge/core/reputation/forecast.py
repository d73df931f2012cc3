"""What would follow: mail that goes on as it does, or otherwise; and how much room there is before a line.

Nothing here is a model of its own. Days are put behind those that there are, with the counts that the present pace
lets expect, and read by the same arithmetic.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from rust_gauge.core.reputation.factors import FACTORS, NAMES, Factor, Kind
from rust_gauge.core.reputation.memory import Array
from rust_gauge.core.reputation.reading import COUNTS, Elsewhere, Measures, Readings, Surroundings, measure, read

_PACE_DAYS = 14  # two of each weekday
_LOOKED_BACK = 120  # days that a question about today needs
_COPIES = ("copies", "placement")
_ASIDE = ("copies", "reported")  # what is no event of mail that we count ourselves
_TRIED = 40  # numbers at once when the one is sought that reaches a line


@dataclass(frozen=True, slots=True)
class Change:
    """What is done otherwise from tomorrow on. Shares: 1 leaves as it is, 0 takes all away.

    `volume` is how much mail goes out. `times`: how much of a factor's events remains, by its name; of `audit`, how
    much of the faults.
    """

    volume: float = 1.0
    times: Mapping[str, float] | None = None


def forecast(
    counts: Array, around: Surroundings, days: int, change: Change | None = None, factors: tuple[Factor, ...] = FACTORS
) -> Readings:
    """Forecast the `days` after the last, expected as the last two weeks went, weekday by weekday."""
    length = counts.shape[-1]
    found = read(*extended(counts, around, days, change or Change()), factors)
    measures = found.measures
    assert measures is not None
    later = Measures(measures.value[..., length:], measures.low[..., length:], measures.high[..., length:])
    return Readings(
        found.tenths[:, length:], found.margin[:, length:], found.pulls[..., length:], found.mail[:, length:], later
    )  # fmt: skip


def extended(counts: Array, around: Surroundings, days: int, change: Change) -> tuple[Array, Surroundings]:
    """Extend counts and surroundings by the days to come."""
    pace = counts[..., -_PACE_DAYS:]
    if pace.shape[-1] < _PACE_DAYS:
        pace = np.concatenate([np.zeros((*counts.shape[:-1], _PACE_DAYS - pace.shape[-1])), pace], axis=-1)
    week = (pace[..., :7] + pace[..., 7:]) / 2
    more = np.concatenate([week] * (days // 7 + 1), axis=-1)[..., :days] * change.volume
    times = dict(change.times or {})
    times.setdefault("greylisted", times.get("delays", 1.0))
    for name in _COPIES:  # test copies go out as before
        more[COUNTS.index(name)] /= change.volume or 1.0
    for name, share in times.items():
        if name in COUNTS:
            more[COUNTS.index(name)] *= share
    common, faults = around.common_delay, around.faults
    if common is not None:
        common = np.concatenate([common, np.zeros((common.shape[0], days))], axis=-1)
    if faults is not None:
        still = np.repeat(faults[:, -1:], days, axis=-1) * times.get("record_faults", 1.0)
        faults = np.concatenate([faults, still], axis=-1)
    foreseen = around.foreseen
    if foreseen is not None:  # a warm-up plan allows at least as much from now on
        foreseen = np.concatenate([foreseen, np.repeat(foreseen[:, -1:], days, axis=-1)], axis=-1)
    whole = np.concatenate([counts, more], axis=-1)
    return whole, replace(around, open_day=False, common_delay=common, faults=faults, foreseen=foreseen)


def headroom(
    counts: Array, around: Surroundings, factor: str, line: float, factors: tuple[Factor, ...] = FACTORS
) -> int | None:
    """How many more of a factor's events today until its measure reaches `line`; 0 where it has. For one series.

    None where the factor is not counted in events, cannot be measured, or no number of them would do.
    """
    place = NAMES.index(factor)
    if factors[place].kind is not Kind.RATE or factors[place].of in _ASIDE or counts.shape[1] != 1:
        return None
    counts, around = counts[..., -_LOOKED_BACK:], _last(around, _LOOKED_BACK)
    row = COUNTS.index(factor)
    most = max(10, int(counts[0, 0, -7:].sum()))

    def reached(numbers: Array) -> Array:
        many = np.repeat(counts, len(numbers), axis=1)
        many[row, :, -1] += numbers
        value = measure(many, _times(around, len(numbers)), (factors[place],)).value[0, :, -1]
        return np.nan_to_num(value, nan=-1.0)

    now, most_of_all = reached(np.array([0.0, float(most)]))
    if now < 0 or most_of_all < line:
        return None
    if now >= line:
        return 0
    low, high = 0, most  # not reached, reached
    while high - low > 1:  # many at once cost little more than one
        tried = np.unique(np.linspace(low, high, _TRIED + 2).astype(int)[1:-1])
        tried = tried[(tried > low) & (tried < high)]
        enough = reached(tried.astype(float)) >= line
        first = int(enough.argmax()) if enough.any() else len(tried)
        low, high = (int(tried[first - 1]) if first else low), (int(tried[first]) if first < len(tried) else high)
    return high


def _last(around: Surroundings, days: int) -> Surroundings:
    """Keep the last days."""
    cut = {
        name: values[:, -days:] for name in ("common_delay", "faults") if (values := getattr(around, name)) is not None
    }
    return replace(around, foreseen=None, elsewhere=_of_elsewhere(around, lambda values: values[:, -days:]), **cut)


def _times(around: Surroundings, n: int) -> Surroundings:
    """Repeat the surroundings of one series for `n` of the same."""
    common = None if around.common_delay is None else np.repeat(around.common_delay, n, axis=0)
    faults = None if around.faults is None else np.repeat(around.faults, n, axis=0)
    peers = None if around.peers is None else {name: np.repeat(peer, n) for name, peer in around.peers.items()}
    # Each stands for itself: what the sender shows elsewhere does not change with today's events here.
    if peers is not None:
        peers.pop("engagement", None)
    return replace(
        around, reports=np.repeat(around.reports, n), sender=None, common_delay=common, peers=peers, faults=faults,
        elsewhere=_of_elsewhere(around, lambda values: np.repeat(values, n, axis=0)),
    )  # fmt: skip


def _of_elsewhere(around: Surroundings, change: Callable[[Array], Array]) -> dict[str, Elsewhere] | None:
    if around.elsewhere is None:
        return None
    return {
        name: Elsewhere(change(each.events), change(each.mail), change(each.usual))
        for name, each in around.elsewhere.items()
    }
