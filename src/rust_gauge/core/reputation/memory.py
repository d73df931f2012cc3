"""Memory that fades, and what can be said of a rate by it.

A rate is a posterior distribution, not a quotient: a Gamma with the counts that are remembered and a prior. Its ends
are found by Wilson and Hilferty's cube root, which is within a percent or two where it matters and needs no tables.
All arrays are (series, days), or have more axes in front.
"""

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Z80 = 1.2816  # 10 % lie beyond on each side


def decay_of(half_life: float) -> float:
    """Return what a day leaves of the day before."""
    return float(0.5 ** (1 / half_life))


def faded(counts: Array, decay: float | Array) -> Array:
    """Sum over days, each of which counts `decay` times as much as the day after it."""
    days = np.array(np.moveaxis(counts, -1, 0), dtype=np.float64, order="C", copy=True)  # a day lies together in memory
    for day in range(1, len(days)):
        days[day] += days[day - 1] * decay
    return np.ascontiguousarray(np.moveaxis(days, 0, -1))


def before(sums: Array, days: int = 1, *, first: float = 0.0) -> Array:
    """Return what stood so many days earlier; `first` where nothing did."""
    out = np.full_like(sums, first)
    length = sums.shape[-1]
    if days < length:
        out[..., days:] = sums[..., : length - days]
    return out


def of_others(values: Array, sender: NDArray[np.intp]) -> Array:
    """Sum over the other series of the same sender; (..., series, days)."""
    order = np.argsort(sender, kind="stable")
    starts = np.flatnonzero(np.diff(sender[order], prepend=-1))
    sums = np.add.reduceat(values[..., order, :], starts, axis=-2)
    lengths = np.diff(starts, append=len(order))
    out = np.empty_like(values)
    out[..., order, :] = np.repeat(sums, lengths, axis=-2)
    # What is subtracted was added: rounding must not leave a trace of it.
    return np.maximum(0.0, out - values)


def gamma_quantile(shape: Array, z: float) -> Array:
    """Return the value of a Gamma(shape, 1) that a standard normal value `z` corresponds to."""
    shape = np.maximum(shape, 1e-9)
    root = np.maximum(0.0, 1 - 1 / (9 * shape) + z / (3 * np.sqrt(shape)))
    out: Array = shape * root * root * root  # a power would take far longer
    return out


def rate_ends(events: Array, mail: Array, z: float = Z80) -> tuple[Array, Array]:
    """Return both ends of a rate of `events` in `mail`, both with their priors, at most 1.

    Where rates are large the spread is that of a Beta: narrower by the root of what is left to 1.
    """
    return rate_end(events, mail, -z), rate_end(events, mail, z)


def rate_end(events: Array, mail: Array, z: float) -> Array:
    """Return one end of a rate: the lower one where `z` is negative."""
    mean = np.minimum(1.0, events / mail)
    away = (gamma_quantile(events, z) / mail - mean) * np.sqrt(1 - mean)
    out: Array = np.clip(mean + away, 0.0, 1.0)
    return out


def chance_above(line: Array | float, events: Array, mail: Array) -> Array:
    """How probable it is that a rate lies above a line, by the same posterior."""
    shape = np.maximum(events, 1e-9)
    root = np.cbrt(np.maximum(line * mail, 1e-12) / shape)
    z = (root - (1 - 1 / (9 * shape))) * 3 * np.sqrt(shape)
    mean = np.minimum(1.0, events / mail)
    out: Array = 1 - normal_share(z / np.sqrt(np.maximum(1e-9, 1 - mean)))
    return out


def normal_share(z: Array) -> Array:
    """How much of a standard normal distribution lies below `z`, right to five digits."""
    # Abramowitz and Stegun 26.2.17.
    t = 1 / (1 + 0.2316419 * np.abs(z))
    series = t * (0.319381530 + t * (-0.356563782 + t * (1.781477937 + t * (-1.821255978 + t * 1.330274429))))
    tail = np.exp(-np.square(z) / 2) / np.sqrt(2 * np.pi) * series
    out: Array = np.where(z >= 0, 1 - tail, tail)
    return out
