"""Our readings and jumps in a made-up world, computed from its counts as the service computes them."""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bench.worlds.judging import LARGE, recent
from bench.worlds.world import DAYS, PROVIDERS, SENDERS, WARM, World
from rust_gauge.core.reputation import (
    COUNTS,
    NO_VALUE,
    Readings,
    Surroundings,
    common_delay,
    find_jumps,
    openness,
    read,
    threshold_of,
)

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
SEEDED = (("3 seeds weekly", 3, 7), ("3 seeds every second day", 3, 2), ("5 seeds daily", 5, 1))
"""How test copies are sent to each provider: name, copies, every so many days."""
REPORTING = (("reports of half the providers", 0.5), ("reports of all providers", 1.0))
"""Which part of the providers sends aggregate reports."""


def surroundings_of(world: World, counts: Array) -> Surroundings:
    """Return what decides beside the counts, learnt from the counts alone."""
    common = np.zeros(counts.shape[1:])
    for p in range(PROVIDERS):
        common[p::PROVIDERS] = common_delay(counts[COUNTS.index("delays"), p::PROVIDERS], counts[0, p::PROVIDERS])
    opened, delivered = (
        counts[COUNTS.index(name)][:, :WARM].sum(axis=1).reshape(SENDERS, PROVIDERS) for name in ("opened", "delivered")
    )
    peers = {"engagement": np.tile(openness(opened, delivered), SENDERS)}
    return Surroundings(world.reports, np.repeat(np.arange(SENDERS), PROVIDERS), common, peers)


def readings_of(world: World, counts: Array) -> Readings:
    """Read all senders at all providers."""
    return read(counts, surroundings_of(world, counts))


def jumps_of(world: World) -> Flags:
    """(senders, days): a jump of a single rate could be reported, over all providers or at one that is not small."""
    around = surroundings_of(world, world.counts)
    threshold = threshold_of(PROVIDERS + 1)
    mail = recent(world.counts[0]).reshape(SENDERS, PROVIDERS, DAYS)
    share = mail / np.maximum(mail.sum(axis=1, keepdims=True), 1e-9)
    out = np.zeros((SENDERS, DAYS), dtype=bool)
    for jump in find_jumps(world.counts, around, threshold, window=DAYS, over_all=True):
        if jump.series >= SENDERS * PROVIDERS:
            out[jump.series - SENDERS * PROVIDERS, jump.reported] = True
        else:
            sender, provider = divmod(jump.series, PROVIDERS)
            out[sender, jump.reported] |= share[sender, provider, jump.reported] >= LARGE / 3
    return out


def with_seeds(world: World, seed: int, copies: int, every: int) -> World:
    """Return the world with test copies to each provider, so many every so many days, filed as its mail is."""
    dice = np.random.default_rng([seed, copies, every])
    counts = world.counts.copy()
    sent = np.zeros(counts.shape[1:])
    sent[:, ::every] = copies
    counts[COUNTS.index("copies")] = sent
    counts[COUNTS.index("placement")] = dice.binomial(sent.astype(int), 1 - world.inbox)
    return replace(world, counts=counts)


def with_reports(world: World, seed: int, share: float) -> World:
    """Return the world with aggregate reports of a share of the providers, each the day after its mail.

    A report counts a sender's own mail, and what of it neither SPF nor DKIM authenticates.
    """
    dice = np.random.default_rng([seed, 17])
    reporting = np.tile(dice.permutation(PROVIDERS) < round(PROVIDERS * share), SENDERS)
    taken = np.where(reporting[:, None], world.counts[COUNTS.index("delivered")], 0.0)
    failed = dice.binomial(taken.astype(int), np.repeat(world.broken, PROVIDERS, axis=0)).astype(float)
    counts = world.counts.copy()
    for name, values in (("reported", taken), ("alignment", failed)):
        counts[COUNTS.index(name), :, 1:] = values[:, :-1]
    return replace(world, counts=counts)


def coverage(world: World, readings: Readings, rows: Flags | None = None) -> float:
    """How often the reading that the true rates would give lies within the margin."""
    true = readings_of(world, world.expected * 1000)
    use = (readings.tenths != NO_VALUE)[:, WARM:]
    if rows is not None:
        use = use & rows[:, None]
    away = np.abs(true.tenths.astype(float) - readings.tenths)[:, WARM:][use]
    return float((away <= readings.margin[:, WARM:][use] + 0.5).mean())
