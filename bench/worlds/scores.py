"""Scores to hold the readings against: naive ones, an oracle, and what could be known at best from public data."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from bench.worlds.world import DAYS, PROVIDERS, SENDERS, WARM, World
from rust_gauge.core.reputation import COUNTS

Array = NDArray[np.float64]
LINES = {
    "complaints": (0.001, 0.003, 60), "invalid_addresses": (0.02, 0.05, 45), "refusals": (0.01, 0.05, 65),
    "listings": (0.005, 0.05, 60), "authentication": (0.005, 0.05, 60), "delays": (0.1, 0.4, 15),
}  # fmt: skip
"""Common lines of a rate, watch and stop, and the points that it can cost."""


def by_lines(rates: dict[str, Array]) -> Array:
    """100 minus the points that each rate costs between common lines."""
    first = next(iter(rates.values()))
    score = np.full(first.shape, 100.0)
    for name, rate in rates.items():
        watch, stop, weight = LINES[name]
        score -= weight * np.where(
            rate <= watch, 0.2 * (rate / watch) ** 2,
            np.where(
                rate <= stop, 0.2 + 0.5 * (rate - watch) / (stop - watch), 1 - 0.3 * stop / np.maximum(rate, stop)
            ),
        )  # fmt: skip
    return np.maximum(score, 0.0)


def trailing(world: World) -> Array:
    """Raw rates of the last seven days."""
    week = _sums(world.counts, 7)
    mail = np.maximum(week[0], 1.0)
    return by_lines({name: np.minimum(1.0, week[COUNTS.index(name)] / mail) for name in LINES})


def averaged(world: World) -> Array:
    """Exponential averages of each day's raw rates."""
    mail = np.maximum(world.counts[0], 1.0)
    rates = {name: np.minimum(1.0, world.counts[COUNTS.index(name)] / mail) for name in LINES}
    return by_lines({name: _faded(rate, 0.75) * 0.25 for name, rate in rates.items()})


def deferrals(world: World) -> Array:
    """One minus the share of mail that was deferred in the last seven days."""
    week = _sums(world.counts, 7)
    put_off = week[COUNTS.index("delays")]
    return 100 * (1 - np.minimum(1.0, put_off / np.maximum(np.maximum(week[0], put_off), 1.0)))


def oracle(world: World) -> Array:
    """The true share of inbox of today: nobody outside can know it."""
    return 100 * world.inbox


class Ceiling:
    """Regression on the truth of other worlds, from everything that is public: what can be had at best, nearly.

    Rates of several memories, here, over all providers and beside the others, as random rectified features with ridge
    regression. It learned the laws by which it is judged, so it is no score that anybody could have.
    """

    def __init__(self, worlds: Sequence[World], width: int = 500) -> None:
        dice = np.random.default_rng(7)
        rows, targets = [], []
        for world in worlds:
            features = self._features(world)[:, WARM : DAYS - 1]
            features = features.reshape(-1, features.shape[-1])
            truth = np.clip(world.inbox[:, WARM + 1 :].reshape(-1), 0.01, 0.99)
            use = dice.random(len(truth)) < 0.5
            rows.append(features[use])
            targets.append(np.log(truth / (1 - truth))[use])
        table, target = np.concatenate(rows), np.concatenate(targets)
        self._mean, self._scale = table.mean(axis=0), table.std(axis=0) + 1e-9
        self._into = dice.normal(0, 1 / np.sqrt(table.shape[1]), (table.shape[1], width)) * 2
        self._shift = dice.normal(0, 1, width)
        hidden = self._hidden(table)
        weight = hidden.T @ hidden + 20.0 * np.eye(hidden.shape[1])
        self._out = np.linalg.solve(weight, hidden.T @ target)

    def score(self, world: World) -> Array:
        features = self._features(world)
        flat = self._hidden(features.reshape(-1, features.shape[-1])) @ self._out
        return np.asarray(100 / (1 + np.exp(-flat))).reshape(features.shape[:2])

    def _hidden(self, table: Array) -> Array:
        scaled = np.clip((table - self._mean) / self._scale, -5, 5)
        return np.concatenate(
            [np.ones((len(scaled), 1)), scaled, np.maximum(0, scaled @ self._into + self._shift)], axis=1
        )

    def _features(self, world: World) -> Array:
        names = ("complaints", "invalid_addresses", "refusals", "listings", "authentication", "delays", "opened")
        counts = {name: world.counts[COUNTS.index(name)] for name in (*names, "attempted", "unsubscribes")}
        out = [np.log1p(_faded(counts["attempted"], 0.9)), np.repeat(world.reports[:, None], DAYS, axis=1) * 1.0]
        sender = np.repeat(np.arange(SENDERS), PROVIDERS)
        for name in names:
            for keeps in (0.3, 0.75, 0.93, 0.985):
                mail, events = _faded(counts["attempted"], keeps), _faded(counts[name], keeps)
                mail = np.maximum(mail, events) if name == "delays" else mail
                usual = events.sum(axis=0) / np.maximum(mail.sum(axis=0), 1)
                here = (events + 30 * usual) / (mail + 30)
                all_mail, all_events = (_over(values, sender) for values in (mail, events))
                everywhere = (all_events + 30 * usual) / (all_mail + 30)
                rates = np.log(1e-4 + here)
                beside = np.tile(
                    np.median(rates.reshape(SENDERS, PROVIDERS, DAYS), axis=0), (SENDERS, 1)
                )  # the other senders here
                out += [rates, np.log(1e-4 + everywhere), rates - beside]
        return np.stack(out, axis=-1)


def _over(values: Array, sender: NDArray[np.intp]) -> Array:
    sums = np.zeros((SENDERS, values.shape[1]))
    np.add.at(sums, sender, values)
    return sums[sender]


def _sums(counts: Array, days: int) -> Array:
    total = np.cumsum(counts, axis=-1)
    return total - np.concatenate([np.zeros((*total.shape[:-1], days)), total[..., :-days]], axis=-1)


def _faded(values: Array, keeps: float) -> Array:
    out = np.empty_like(values)
    carried = np.zeros(values.shape[:-1])
    for day in range(values.shape[-1]):
        carried = keeps * carried + values[..., day]
        out[..., day] = carried
    return out
