"""The arithmetic of a reading: measures with their ends, pulls, the margin, and the sum over providers.

A reading is 100 minus its pulls, exactly: everything is settled in tenths of a point, and what rounding leaves over
goes to the largest remainders. All arrays are (series, days) or (factors, series, days); a series is the mail of one
subject (a domain, stream, relay or address) to one mailbox provider, day by day.
"""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.reputation.factors import FACTORS, Factor, Kind
from rust_gauge.core.reputation.memory import Array, before, decay_of, faded, rate_ends

COUNTS = (
    "attempted", "delivered", "invalid_addresses", "refusals", "listings", "authentication", "delays", "complaints",
    "unsubscribes", "opened", "held", "copies", "placement",
)  # fmt: skip
"""Messages and events; at the end test copies whose fate is known, and those of them in spam or lost."""
ENOUGH_MAIL = 30.0  # remembered messages below which nothing can be said
_MAIL_HALF_LIFE = 7.0  # days; last week counts half as much as today
_PAST = 45.0  # half-life of a sender's own past, which is its prior
_PAST_WORTH = 3.0  # how many times a factor's `worth` the prior of that prior counts
_SURE = 1.645  # the short memory speaks when 5 % or less speaks against it
_SETTLES = 3  # days until openings of a day are in
_PEAK = 90.0  # half-life of the best that openings once were
_BESIDE_OTHERS = 0.85  # of the best: the best of several is in part luck
_LEAST_OPENED = 0.02  # below this nobody reports openings
_OPENED_FROM = 500.0  # messages from which a usual share of openings can be estimated
_OPENED_DAYS = 28  # of mail before opens are judged, so that a monthly mailing counts
_MARGIN_MOST = 50.0  # half of the scale; a wider margin would say nothing more
_COPIES_FROM = 1.0  # remembered copies
NO_VALUE = -1  # tenths where there is too little mail

Tenths = NDArray[np.int16]


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What beside the counts decides, for each series. What is left out is taken for nothing.

    `reports`: whether the provider sends complaint reports. `sender`: which series are of one sender. `common_delay`:
    the share of mail that a provider deferred for everybody, (series, days). `peers`: by factor, the usual rate of the
    provider's other senders; for engagement how openly mail is read there beside other providers, NaN where that is
    not known. `faults`: faults that the audit in force that day found. `foreseen`: messages of the day that a warm-up
    plan allows, (series, days), 0 where none is in force.
    """

    reports: NDArray[np.bool_]
    sender: NDArray[np.intp] | None = None
    common_delay: Array | None = None
    peers: Mapping[str, Array] | None = None
    faults: Array | None = None
    foreseen: Array | None = None


@dataclass(frozen=True, slots=True)
class Measures:
    """What each factor measures, with the ends of its 80 % interval; NaN where it cannot be measured."""

    value: Array
    low: Array
    high: Array


@dataclass(frozen=True, slots=True)
class Readings:
    """Readings of many series. `tenths` and `margin` are in tenths of a point, `NO_VALUE` where nothing can be said.

    `pulls` are tenths, (factors, series, days): their sum and `tenths` are 1000. `mail`: remembered messages.
    """

    tenths: Tenths
    margin: Tenths
    pulls: Tenths
    mail: Array
    measures: Measures | None = None


def read(counts: Array, around: Surroundings, factors: tuple[Factor, ...] = FACTORS) -> Readings:
    """Compute readings from counts, (COUNTS, series, days)."""
    measures = measure(counts, around, factors)
    mail = faded(counts[0], decay_of(_MAIL_HALF_LIFE))
    value, low, high = (np.nan_to_num(values) for values in (measures.value, measures.low, measures.high))
    weights = np.array([factor.weight for factor in factors])[:, None, None]
    points = weights * _shares(value, factors)
    spread = weights * (_shares(high, factors) - _shares(low, factors)) / 2
    margins = np.minimum(_MARGIN_MOST, np.sqrt((spread**2).sum(axis=0)))
    pulls = in_tenths(points)
    enough = mail >= ENOUGH_MAIL
    pulls[:, ~enough] = 0
    tenths = np.where(enough, 1000 - pulls.sum(axis=0), NO_VALUE).astype(np.int16)
    margin = np.where(enough, np.rint(margins * 10), NO_VALUE).astype(np.int16)
    return Readings(tenths, margin, pulls, mail, measures)


def _shares(measures: Array, factors: tuple[Factor, ...]) -> Array:
    return np.stack([factor.share_of_weight(row) for factor, row in zip(factors, measures, strict=True)])


def measure(counts: Array, around: Surroundings, factors: tuple[Factor, ...] = FACTORS) -> Measures:
    """Measure each factor day by day; some factors alone if only they are given."""
    by_name = dict(zip(COUNTS, counts, strict=True))
    exposures = _exposures(by_name)
    shape = (len(factors), *counts.shape[1:])
    value, low, high = np.zeros(shape), np.zeros(shape), np.zeros(shape)
    rates = [n for n, factor in enumerate(factors) if factor.kind is Kind.RATE]
    if rates:
        value[rates], low[rates], high[rates] = _rates([factors[n] for n in rates], by_name, exposures, around)
    for n, factor in enumerate(factors):
        if factor.kind is Kind.ENGAGEMENT:
            value[n], low[n], high[n] = _engagement(factor, by_name["opened"], exposures[factor.of], around)
        elif factor.kind is Kind.VOLUME:
            value[n] = low[n] = high[n] = _volume(factor, by_name["attempted"], around.foreseen)
        elif factor.kind is Kind.AUDIT and around.faults is not None:
            value[n] = low[n] = high[n] = around.faults
        if factor.name == "complaints":
            value[n, ~around.reports] = np.nan
        elif factor.name == "placement":  # without copies of late nothing is known of it
            unknown = faded(by_name["copies"], decay_of(factor.half_life)) < _COPIES_FROM
            for part in (value, low, high):
                part[n, unknown] = np.nan
    return Measures(value, low, high)


def _exposures(counts: Mapping[str, Array]) -> dict[str, Array]:
    """Return the mail that events are counted against. Complaints and unsubscribes are counted on the day of their
    message; opens on their own, which may be a day or two later.
    """
    delivered = counts["delivered"]
    yesterday, earlier = before(delivered), before(delivered, 2)
    return {
        "attempted": counts["attempted"],
        "delivered": delivered,
        "opened_of": 0.65 * delivered + 0.25 * yesterday + 0.1 * earlier,
        "copies": counts["copies"],
    }


def _rates(
    factors: list[Factor], counts: Mapping[str, Array], exposures: Mapping[str, Array], around: Surroundings
) -> tuple[Array, Array, Array]:
    """Rates with their ends. The long memory is the rule; the short one counts where it is sure of more."""
    events = np.stack([counts[factor.name] for factor in factors])
    mail = np.stack([exposures[factor.of] for factor in factors])
    if around.common_delay is not None:  # what a provider did to everybody is nobody's fault
        for at, factor in enumerate(factors):
            if factor.name == "delays":
                events[at] = np.maximum(0.0, events[at] - around.common_delay * mail[at])
    peers = around.peers or {}
    series = counts["attempted"].shape[0]
    usual = np.stack([peers.get(factor.name, np.full(series, factor.usual)) for factor in factors])[:, :, None]
    worth = np.array([factor.worth for factor in factors])[:, None, None]
    watch = np.array([factor.watch for factor in factors])[:, None, None]
    # The prior: what is usual at this provider, then more and more the sender's own past.
    past_events, past_mail = (before(faded(values, decay_of(_PAST))) for values in (events, mail))
    prior = np.minimum(watch, (past_events + usual * worth * _PAST_WORTH) / (past_mail + worth * _PAST_WORTH))
    slow, quick = (np.array([decay_of(half) for half in halves])[:, None] for halves in zip(
        *((factor.half_life, factor.quick) for factor in factors), strict=True
    ))  # fmt: skip
    seen, sent = faded(events, slow) + prior * worth, faded(mail, slow) + worth
    mean = np.minimum(1.0, seen / sent)
    low, high = rate_ends(seen, sent)
    lately, of = faded(events, quick) + prior * worth, faded(mail, quick) + worth
    sure, _ = rate_ends(lately, of, _SURE)
    value = np.maximum(mean, sure)
    _, high_lately = rate_ends(lately, of)
    return (
        value,
        np.where(sure > mean, np.maximum(low, mean), low),
        np.where(sure > mean, np.maximum(high, high_lately), high),
    )


def _engagement(factor: Factor, opened: Array, mail: Array, around: Surroundings) -> tuple[Array, Array, Array]:
    """How far openings lie below what is usual: 0.25 is a quarter less. NaN where nobody reports openings.

    Usual is the best of the sender's own past here and, where it is known how openly a provider's mail is read, of what
    its readers at other providers do.
    """
    past_opened = before(faded(opened, decay_of(_PAST)), _SETTLES)
    past_mail = before(faded(mail, decay_of(_PAST)), _SETTLES)
    # In the first weeks a share depends on how soon opens are reported; the best of them would stay for months.
    days_seen = np.cumsum(np.cumsum(mail, axis=-1) > 0, axis=-1)
    known = (past_mail >= _OPENED_FROM) & (days_seen >= _OPENED_DAYS)
    share = np.where(known, np.minimum(1.0, past_opened / np.maximum(past_mail, 1.0)), 0.0)
    # What fell slowly, or long ago, has still fallen: the best there was is forgotten slowly.
    usual, keeps = np.empty_like(share), decay_of(_PEAK)
    best = np.zeros(share.shape[:-1])
    for day in range(share.shape[-1]):
        best = np.maximum(share[..., day], best * keeps)
        usual[..., day] = best
    openness = (around.peers or {}).get("engagement")
    if openness is not None and around.sender is not None:
        usual = np.maximum(usual, _BESIDE_OTHERS * _elsewhere(share, openness, around.sender))
    decay = decay_of(factor.half_life)
    seen, sent = faded(opened, decay) + usual * factor.worth, faded(mail, decay) + factor.worth
    low, high = rate_ends(seen, sent)
    can = known & (usual >= _LEAST_OPENED)
    floor = np.where(can, usual, 1.0)
    drops = [
        np.where(can, np.clip(1 - values / floor, 0.0, 1.0), np.nan)
        for values in (np.minimum(1.0, seen / sent), high, low)
    ]
    return drops[0], drops[1], drops[2]


def _elsewhere(share: Array, openness: Array, sender: NDArray[np.intp]) -> Array:
    """Return the share of openings that a sender's best provider lets expect at each of the others, else 0."""
    known = np.nan_to_num(openness)[:, None]
    own = np.where(known > 0, share / np.where(known > 0, known, 1.0), 0.0)
    best = np.zeros((int(sender.max(initial=-1)) + 1, share.shape[1]))
    np.maximum.at(best, sender, own)
    return best[sender] * known


def _volume(factor: Factor, mail: Array, foreseen: Array | None) -> Array:
    """Doublings of the last seven days' mail over a usual week; a week holds each weekday once, whatever its rhythm.

    Growth that a warm-up plan foresees is no jump: what it allows in these days counts as usual. A jump fades with the
    factor's half-life: providers remember it for a while.
    """
    total = np.cumsum(mail, axis=-1)
    week = total - before(total, 7)
    began = (total > 0).astype(float)
    decay = decay_of(28.0)
    usual = 7 * before(faded(mail, decay), 7) / np.maximum(before(faded(began, decay), 7), 1.0)
    if foreseen is not None:
        allowed = np.cumsum(foreseen, axis=-1)
        usual = np.maximum(usual, allowed - before(allowed, 7))
    jump = np.maximum(0.0, np.log2((week + factor.worth) / (usual + factor.worth)))
    out, keeps = np.empty_like(jump), decay_of(factor.half_life)
    carried = np.zeros(jump.shape[:-1])
    for day in range(jump.shape[-1]):
        carried = np.maximum(jump[..., day], carried * keeps)
        out[..., day] = carried
    return out


def in_tenths(points: Array) -> Tenths:
    """Points as whole tenths, along the first axis: their sum is the rounded sum and at most 1000."""
    total = points.sum(axis=0)
    exact = points * (10 * np.where(total > 100, 100 / np.maximum(total, 1e-9), 1.0))
    floors = np.floor(exact + 1e-9)
    missing = np.rint(exact.sum(axis=0)) - floors.sum(axis=0)
    rank = np.argsort(np.argsort(floors - exact, axis=0, kind="stable"), axis=0, kind="stable")
    out: Tenths = (floors + (rank < missing)).astype(np.int16)
    return out


def over_providers(readings: Readings) -> Readings:
    """One reading over all series: the mean of those that say something, weighted by remembered mail.

    The result has one series; its pulls are by factor. `split` says which provider each comes from.
    """
    weights = _weights(readings)
    some = weights.sum(axis=0) > 0
    pulls = in_tenths((readings.pulls / 10 * weights).sum(axis=1))
    margin = np.sqrt(((np.maximum(readings.margin, 0) * weights) ** 2).sum(axis=0))
    return Readings(
        np.where(some, 1000 - pulls.sum(axis=0), NO_VALUE).astype(np.int16)[None],
        np.where(some, np.rint(margin), NO_VALUE).astype(np.int16)[None],
        pulls[:, None],
        readings.mail.sum(axis=0, keepdims=True),
    )


def split(readings: Readings, whole: Readings, day: int) -> Tenths:
    """Split the pulls on one day of `whole`, which is `over_providers` of these readings, by factor and series.

    (factors, series) of tenths that add up exactly.
    """
    weights = _weights(readings)[:, day]
    shares = readings.pulls[:, :, day] / 10 * weights
    wanted = whole.pulls[:, 0, day]
    exact = shares * 10
    scale = np.where(exact.sum(axis=1) > 0, wanted / np.maximum(exact.sum(axis=1), 1e-9), 0.0)
    exact = exact * scale[:, None]
    floors = np.floor(exact + 1e-9)
    missing = wanted - floors.sum(axis=1)
    rank = np.argsort(np.argsort(floors - exact, axis=1, kind="stable"), axis=1, kind="stable")
    out: Tenths = (floors + (rank < missing[:, None])).astype(np.int16)
    return out


def _weights(readings: Readings) -> Array:
    mail = np.where(readings.tenths == NO_VALUE, 0.0, readings.mail)
    total = mail.sum(axis=0)
    out: Array = mail / np.maximum(total, 1e-9)
    return out
