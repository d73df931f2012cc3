"""What would follow: mail that goes on as it does, or otherwise; and how much room there is before a line.

Nothing here is a model of its own. Days are put behind those that there are, with the counts that the present pace
lets expect, and read by the same arithmetic.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.reputation.factors import FACTORS, NAMES, Factor, Kind
from rust_gauge.core.reputation.memory import Array
from rust_gauge.core.reputation.reading import COUNTS, Elsewhere, Measures, Readings, Surroundings, measure, read

_PACE_DAYS = 14  # two of each weekday
_LOOKED_BACK = 120  # days that a question about today needs
_COPIES = ("copies", "placement")
_ASIDE = ("copies", "reported")  # what is no event of mail that we count ourselves
_TRIED = 4  # numbers at once when the one is sought that reaches a line


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
    counts: Array, around: Surroundings, factor: str, lines: Sequence[float], factors: tuple[Factor, ...] = FACTORS
) -> list[list[int | None]]:
    """How many more of a factor's events today until its measure reaches each of these lines; 0 where it has.

    `counts` are (kinds, series, days). The answer is by series, then by line. None where the factor is not counted in
    events, cannot be measured, or no number of them would do.
    """
    place = NAMES.index(factor)
    series = counts.shape[1]
    if factors[place].kind is not Kind.RATE or factors[place].of in _ASIDE or not series:
        return [[None] * len(lines) for _ in range(series)]
    counts, around = counts[..., -_LOOKED_BACK:], _last(around, _LOOKED_BACK)
    row = COUNTS.index(factor)
    most = np.maximum(10, counts[0, :, -7:].sum(axis=1).astype(int))

    def reached(numbers: NDArray[np.int64]) -> Array:
        """Return the measure for (series, numbers) of events more. Many at once cost little more than one."""
        n = numbers.shape[1]
        many = np.repeat(counts, n, axis=1)
        many[row, :, -1] += numbers.ravel()
        value = measure(many, _times(around, n), (factors[place],)).value[0, :, -1]
        return np.nan_to_num(value, nan=-1.0).reshape(series, n)

    wanted = np.asarray(lines, dtype=float)[None, :]
    ends = reached(np.stack([np.zeros_like(most), most], axis=1))
    now, most_of_all = ends[:, :1], ends[:, 1:]
    none = (now < 0) | (most_of_all < wanted)
    zero = ~none & (now >= wanted)
    low = np.zeros((series, len(lines)), dtype=np.int64)  # not reached
    high = np.repeat(most[:, None], len(lines), axis=1)  # reached
    high[none | zero] = 0
    steps = np.arange(1, _TRIED + 1) / (_TRIED + 1)
    while (high - low > 1).any():
        tried = (low[..., None] + (high - low)[..., None] * steps).astype(np.int64)
        tried = np.clip(tried, np.minimum(low + 1, high)[..., None], np.maximum(high - 1, low)[..., None])
        enough = reached(tried.reshape(series, -1)).reshape(tried.shape) >= wanted[..., None]
        enough &= tried > low[..., None]
        first = np.where(enough.any(axis=-1), enough.argmax(axis=-1), _TRIED)
        with_ends = np.concatenate([low[..., None], tried, high[..., None]], axis=-1)
        low, high = (
            np.take_along_axis(with_ends, (first + k)[..., None], axis=-1)[..., 0] for k in (0, 1)
        )  # fmt: skip
    return [
        [None if none[at, line] else 0 if zero[at, line] else int(high[at, line]) for line in range(len(lines))]
        for at in range(series)
    ]


def _last(around: Surroundings, days: int) -> Surroundings:
    """Keep the last days."""
    cut = {
        name: values[:, -days:] for name in ("common_delay", "faults") if (values := getattr(around, name)) is not None
    }
    return replace(around, foreseen=None, elsewhere=_of_elsewhere(around, lambda values: values[:, -days:]), **cut)


def _times(around: Surroundings, n: int) -> Surroundings:
    """Repeat the surroundings of each series `n` times."""
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
