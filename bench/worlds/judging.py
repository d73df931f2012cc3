"""How good a score is: ranks, early warning, false alarms, outages; all against the true share of inbox."""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bench.worlds.incidents import SLOW
from bench.worlds.world import DAYS, PROVIDERS, SENDERS, WARM, World

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
BAD = 0.8  # tomorrow's share of inbox below which mail is in trouble
FALL = 10.0  # points below the middle of four weeks at which a score gives an alarm
BACK = 28
LARGE = 0.1  # share of a sender's mail from which a provider alone gives an alarm
HURT = 0.1  # fall of the true share of inbox that makes an incident one
QUIET = 7  # days without an alarm after which the next is another one


@dataclass
class Verdict:
    """Figures of one score in one world, and its parts: (days until shown, NaN where missed) by kind of incident."""

    figures: dict[str, float]
    shown: dict[str, list[float]] = field(default_factory=dict)
    by_volume: dict[str, float] = field(default_factory=dict)
    by_family: dict[str, float] = field(default_factory=dict)


def judge(world: World, score: Array, known: Flags, jumps: Flags | None = None) -> Verdict:
    """Judge a score, (series, days), where it is known. `jumps`, (senders, days): alarms that it gives beside."""
    today = slice(WARM, DAYS - 1)
    tomorrow = world.inbox[:, WARM + 1 :]
    use = known[:, today] & (world.counts[0][:, WARM + 1 :] > 0)
    said, true = score[:, today], tomorrow
    alarm = alarms(world, score, known)
    if jumps is not None:
        alarm = alarm | jumps
    shown, by_kind = _shown(world, alarm)
    outage = outage_fall(world, score, known)
    volume = np.repeat(world.volume, PROVIDERS)
    family = np.tile(np.array(world.families), SENDERS)
    figures = {
        "AUC": auc(said[use], true[use] < BAD),
        "rank, all": rank_correlation(said[use], true[use]),
        "rank, domain": within(world, score, known),
        "false alarms": false_alarms(world, alarm),
        "days": float(np.nanmean(shown)) if len(shown) else float("nan"),
        "missed": float(np.isnan(shown).sum()),
        "of": float(len(shown)),
        "outage": outage,
    }
    by_volume = {
        name: auc(said[rows][use[rows]], true[rows][use[rows]] < BAD)
        for name, rows in (
            ("under 300 a day", volume < 300), ("300 to 10,000", (volume >= 300) & (volume < 10_000)),
            ("from 10,000", volume >= 10_000),
        )
    }  # fmt: skip
    by_family = {
        name: auc(said[rows][use[rows]], true[rows][use[rows]] < BAD)
        for name in sorted(set(world.families)) if (rows := family == name).any()
    }  # fmt: skip
    return Verdict(figures, by_kind, by_volume, by_family)


def overall(world: World, values: Array, known: Flags) -> Array:
    """(senders, days): the mean over providers, weighted by the mail of the last weeks."""
    mail = recent(world.counts[0]) * known
    by = (SENDERS, PROVIDERS, DAYS)
    weights = mail.reshape(by)
    return np.asarray((values.reshape(by) * weights).sum(axis=1) / np.maximum(weights.sum(axis=1), 1e-9))


def alarms(world: World, score: Array, known: Flags) -> Flags:
    """(senders, days): the score fell, overall or at a provider that takes much of the mail."""
    mail = recent(world.counts[0]).reshape(SENDERS, PROVIDERS, DAYS)
    large = mail / np.maximum(mail.sum(axis=1, keepdims=True), 1e-9) >= LARGE
    here = fell(score, FALL).reshape(SENDERS, PROVIDERS, DAYS) & large & known.reshape(SENDERS, PROVIDERS, DAYS)
    out: Flags = here.any(axis=1) | fell(overall(world, score, known), FALL)
    return out


def fell(values: Array, by: float) -> Flags:
    """Where a value lies so far below the middle of the days before."""
    out = np.zeros(values.shape, dtype=bool)
    windows = np.lib.stride_tricks.sliding_window_view(values, BACK, axis=-1)
    out[..., BACK:] = values[..., BACK:] <= np.median(windows[..., :-1, :], axis=-1) - by
    return out


def false_alarms(world: World, alarm: Flags) -> float:
    """Alarms per domain and month of untouched days that nothing in the truth explains."""
    by = (SENDERS, PROVIDERS, DAYS)
    truth = 100 * world.inbox
    known = world.counts[0] > 0
    real = (fell(truth, 5.0) & known).reshape(by).any(axis=1) | fell(overall(world, truth, np.ones_like(known)), 3.0)
    real |= world.touched
    near = real.copy()
    for days in range(1, 8):  # what is about to happen, or just happened
        near[:, :-days] |= real[:, days:]
        near[:, days:] |= real[:, :-days]
    began = alarm & ~near
    episodes = 0
    for row in began[:, WARM:]:
        last = -QUIET - 1
        for day in np.flatnonzero(row).tolist():
            episodes += day - last > QUIET
            last = day
    return episodes / max(1.0, float((~near[:, WARM:]).sum())) * 30.4


def _shown(world: World, alarm: Flags) -> tuple[Array, dict[str, list[float]]]:
    """Days until each incident that hurts shows: from its first day, or, of one that creeps, from the first harm."""
    inbox = world.inbox.reshape(SENDERS, PROVIDERS, DAYS)
    mail = recent(world.counts[0]).reshape(SENDERS, PROVIDERS, DAYS)
    by_kind: dict[str, list[float]] = {}
    for one in world.incidents:
        until = min(DAYS, one.last + 11)
        large = mail[one.sender, :, one.first] / mail[one.sender, :, one.first].sum() >= LARGE
        usual = np.median(inbox[one.sender][:, one.first - BACK : one.first], axis=1)
        harm = (inbox[one.sender][:, one.first : until] < usual[:, None] - HURT) & large[:, None]
        if not harm.any():
            continue  # nobody reacted
        begins = one.first + (int(harm.any(axis=0).argmax()) if one.kind in SLOW else 0)
        seen = alarm[one.sender, one.first : until]
        days = max(0.0, one.first + int(seen.argmax()) - begins) if seen.any() else float("nan")
        by_kind.setdefault(one.kind, []).append(days)
    every = np.array([days for found in by_kind.values() for days in found])
    return every, by_kind


def within(world: World, score: Array, known: Flags) -> float:
    """The mean over domains of the rank correlation over days, overall score against tomorrow's overall inbox."""
    one = overall(world, score, known)[:, WARM : DAYS - 1]
    other = overall(world, world.inbox, np.ones_like(known))[:, WARM + 1 :]
    return float(np.mean([rank_correlation(a, b) for a, b in zip(one, other, strict=True) if np.ptp(a) > 0]))


def outage_fall(world: World, score: Array, known: Flags) -> float:
    """Points that a score loses at a provider on the day of its outage, the mean over senders."""
    drops = []
    for p, day in world.outages:
        mine = score[p::PROVIDERS]
        use = known[p::PROVIDERS][:, day] & known[p::PROVIDERS][:, day - 1]
        drops.append(float((mine[use, day - 1] - mine[use, day]).mean()))
    return float(np.mean(drops))


def ranks(values: Array) -> Array:
    """Ranks from 0; equal values share their middle."""
    order = np.argsort(values, kind="stable")
    out = np.empty(len(values))
    out[order] = np.arange(len(values))
    _, inverse, counts = np.unique(values, return_inverse=True, return_counts=True)
    return np.asarray((np.bincount(inverse, out) / counts)[inverse])


def rank_correlation(one: Array, other: Array) -> float:
    """Spearman's; 0 where one of them is constant."""
    if np.ptp(one) == 0 or np.ptp(other) == 0:
        return 0.0
    return float(np.corrcoef(ranks(one), ranks(other))[0, 1])


def auc(score: Array, bad: Flags) -> float:
    """How often a bad case scores below a good one."""
    rank = ranks(-score)
    n, m = bad.sum(), (~bad).sum()
    return float((rank[bad].sum() - n * (n - 1) / 2) / (n * m)) if n and m else float("nan")


def recent(mail: Array) -> Array:
    """Mail of the last weeks, each day counting nine tenths of the next."""
    out = np.empty_like(mail)
    carried = np.zeros(mail.shape[:-1])
    for day in range(mail.shape[-1]):
        carried = 0.9 * carried + mail[..., day]
        out[..., day] = carried
    return out
