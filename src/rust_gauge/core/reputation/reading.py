"""The arithmetic of a reading: measures with their ends, pulls, the margin, and the sum over providers.

What counts against a sender is added in log-odds, and the loss is shared among the factors in proportion. A reading is
100 minus its pulls, exactly: everything is settled in tenths of a point, and what rounding leaves over goes to the
largest remainders. All arrays are (series, days) or (factors, series, days); a series is the mail of one subject (a
domain, stream, relay or address) to one mailbox provider, day by day.
"""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.reputation.factors import FACTORS, OFFSET, Factor, Kind
from rust_gauge.core.reputation.memory import Z80, Array, before, decay_of, faded, of_others, rate_end, rate_ends
from rust_gauge.core.reputation.outages import tried

COUNTS = (
    "attempted", "delivered", "invalid_addresses", "refusals", "listings", "authentication", "delays", "complaints",
    "unsubscribes", "opened", "held", "copies", "placement", "greylisted", "reported", "alignment",
)  # fmt: skip
"""Messages and events; test copies whose fate is known, and those of them in spam or lost; those delays that are
greylisting; our own mail that receivers reported on, and that of it which was aligned by neither SPF nor DKIM.
"""
ENOUGH_MAIL = 30.0  # remembered messages below which nothing can be said
_MAIL_HALF_LIFE = 7.0  # days; last week counts half as much as today
_PAST = 30.0  # half-life of a sender's own past, which is its prior
_PAST_WORTH = 3.0  # how many times a factor's `worth` the prior of that prior counts
_SURE = 2.5  # standard normal value: the short memory speaks when less than a percent speaks against it
_ENDS = 1.2 * Z80  # of an interval of 80 %, wider by a fifth: what is usual of a sender is itself only a guess
_FIRST_CONTACT, _FORGOTTEN = 14, 49  # days for which greylisting is spared, and of silence after which it is again
_SETTLES = 3  # days until openings of a day are in
_PEAK = 90.0  # half-life of the best that openings once were
_TRACKED = 45.0  # half-life of the memory that says whether a sender's openings are measured at all
_LEAST_OPENNESS = 0.05  # of a provider's mail beside others', below which openings there say nothing
_LEAST_OPENED = 0.02  # below this nobody reports openings
_OPENED_FROM = 500.0  # messages from which a usual share of openings can be estimated
_OPENED_DAYS = 28  # of mail before a fall of opens is judged, so that a monthly mailing counts
_COMPARED_FROM = 100.0  # remembered messages of a sender that the median is taken over
_COMPARED_BY = 5  # senders
_MARGIN_MOST = 50.0  # half of the scale; a wider margin would say nothing more
NO_VALUE = -1  # tenths where there is too little mail

Tenths = NDArray[np.int16]


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What beside the counts decides, for each series. What is left out is taken for nothing.

    `reports`: whether the provider sends complaint reports. `sender`: which series are of one sender; without it each
    is one of its own. `common_delay`: the share of mail that a provider deferred for everybody, (series, days).
    `peers`: by factor, the usual rate of the provider's other senders; for engagement how openly mail is read there
    beside other providers, NaN where that is not known. `median_opens`: the median sender's share of openings; without
    it that of the senders given, where they are enough; NaN where it is not known. `faults`: faults that the audit in
    force that day found. `foreseen`: messages of the day that a warm-up plan allows, (series, days), 0 where none is
    in force. `open_day`: the last day is not over, so that mail which waits has not come to an end yet. `elsewhere`: by
    factor what `elsewhere` returns, where the sender's other series are not given.
    """

    reports: NDArray[np.bool_]
    sender: NDArray[np.intp] | None = None
    common_delay: Array | None = None
    peers: Mapping[str, Array] | None = None
    faults: Array | None = None
    foreseen: Array | None = None
    median_opens: float | None = None
    open_day: bool = False
    elsewhere: "Mapping[str, Elsewhere] | None" = None


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """What a sender's other providers remember of a factor, (series, days): events, the mail they are counted against,
    and how many events of it would be usual.
    """

    events: Array
    mail: Array
    usual: Array


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
    terms, least, most = (_terms(values, factors) for values in (value, low, high))
    against = terms.sum(axis=0)
    points = lost(against) * (terms / np.maximum(against, 1e-12))
    # Each term is as uncertain as its rate; that of their sum is the root of the squares.
    above, below = (np.sqrt(((side - terms) ** 2).sum(axis=0)) for side in (most, least))
    margins = (lost(against + above) - lost(np.maximum(0.0, against - below))) / 2
    pulls = in_tenths(points)
    enough = mail >= ENOUGH_MAIL
    pulls[:, ~enough] = 0
    tenths = np.where(enough, 1000 - pulls.sum(axis=0), NO_VALUE).astype(np.int16)
    margin = np.where(enough, np.rint(np.minimum(_MARGIN_MOST, margins) * 10), NO_VALUE).astype(np.int16)
    return Readings(tenths, margin, pulls, mail, measures)


def _terms(measures: Array, factors: tuple[Factor, ...]) -> Array:
    return np.stack([factor.log_odds(row) for factor, row in zip(factors, measures, strict=True)])


def log_odds_of(points: float, loss: float) -> float:
    """Return what a factor counts against a sender by itself, whatever else does, if it takes so many of the points
    that are lost.
    """
    if loss <= 0:
        return 0.0
    whole = min(max(loss, 0.05), 99.95)
    return float((OFFSET + np.log((1 + np.exp(-OFFSET)) * 100 / (100 - whole) - 1)) * points / loss)


def lost(against: Array) -> Array:
    """Points that are lost where so much, in log-odds, counts against a sender: 0 where nothing does, at most 100."""
    out: Array = 100 - 100 * (1 + np.exp(-OFFSET)) / (1 + np.exp(np.minimum(against, 500.0) - OFFSET))
    return out


def measure(counts: Array, around: Surroundings, factors: tuple[Factor, ...] = FACTORS) -> Measures:
    """Measure each factor day by day; some factors alone if only they are given."""
    by_name = dict(zip(COUNTS, counts, strict=True))
    shape = (len(factors), *counts.shape[1:])
    value, low, high = np.zeros(shape), np.zeros(shape), np.zeros(shape)
    rates = [n for n, factor in enumerate(factors) if factor.kind is Kind.RATE]
    if rates:
        value[rates], low[rates], high[rates] = _rates([factors[n] for n in rates], by_name, around)
    for n, factor in enumerate(factors):
        if factor.kind is Kind.ENGAGEMENT:
            value[n], low[n], high[n] = _engagement(factor, by_name, around)
        elif factor.kind is Kind.VOLUME:
            value[n] = low[n] = high[n] = _volume(factor, by_name["attempted"], around.foreseen)
        elif factor.kind is Kind.AUDIT and around.faults is not None:
            value[n] = low[n] = high[n] = around.faults
        if factor.least:  # without copies or reports of late nothing is known
            unknown = faded(by_name[factor.of], decay_of(factor.half_life)) < factor.least
            for part in (value, low, high):
                part[n, unknown] = np.nan
    return Measures(value, low, high)


def exposure(factor: Factor, counts: Mapping[str, Array]) -> Array:
    """Return the messages (of placement, test copies; of alignment, reported ones) that events are counted against."""
    if factor.of == "tried":
        return tried(counts["attempted"], counts[factor.name])
    return counts[factor.of]


def seen_of(factor: Factor, counts: Mapping[str, Array], around: Surroundings) -> tuple[Array, Array]:
    """Return a factor's events by day, and the mail that they are counted against.

    Complaints and unsubscribes are counted on the day of their message. Delays count except for the greylisting of a
    first contact, and except for days on which the provider deferred everybody's mail: those say nothing of a sender.
    While a day lasts, what waits counts only as far as other mail has come to an end.
    """
    events = counts[factor.name]
    mail = exposure(factor, counts)
    if factor.of != "tried":
        if factor.name == "complaints":
            mail, events = mail * around.reports[:, None], events * around.reports[:, None]
        return events, mail
    sent = np.cumsum(mail, axis=-1)
    new = before(sent, _FIRST_CONTACT) - before(sent, _FORGOTTEN) <= 0
    if around.open_day:
        mail[:, -1] = counts["attempted"][:, -1]
    events = np.minimum(events, mail) - np.where(new, np.minimum(counts["greylisted"], mail), 0.0)
    if around.common_delay is not None:
        own = around.common_delay <= 0
        events, mail = events * own, mail * own
    return np.maximum(0.0, events), mail


def elsewhere(counts: Array, around: Surroundings, factors: tuple[Factor, ...] = FACTORS) -> dict[str, Elsewhere]:
    """Return by factor what each series' sender shows at its other providers."""
    by_name = dict(zip(COUNTS, counts, strict=True))
    rates = [factor for factor in factors if factor.kind is Kind.RATE]
    found = [seen_of(factor, by_name, around) for factor in rates]
    usual = _usual(rates, around, counts.shape[1])
    slow = np.array([decay_of(factor.half_life) for factor in rates])[:, None]
    seen, sent = (faded(np.stack(part), slow) for part in zip(*found, strict=True))
    return dict(zip((factor.name for factor in rates), _elsewhere(seen, sent, usual, around), strict=True))


def _elsewhere(seen: Array, sent: Array, usual: Array, around: Surroundings) -> list[Elsewhere]:
    if around.sender is None:
        none = np.zeros(seen.shape[1:])
        return [Elsewhere(none, none, none) for _ in seen]
    sums = of_others(np.concatenate([seen, sent, sent * usual]), around.sender)
    return [Elsewhere(*parts) for parts in zip(*np.split(sums, 3), strict=True)]


def _usual(factors: list[Factor], around: Surroundings, series: int) -> Array:
    peers = around.peers or {}
    return np.stack([peers.get(factor.name, np.full(series, factor.usual)) for factor in factors])[:, :, None]


def _rates(factors: list[Factor], counts: Mapping[str, Array], around: Surroundings) -> tuple[Array, Array, Array]:
    """Rates with their ends; NaN where nothing is seen here or elsewhere. The long memory is the rule; the short one
    counts where it is sure of more.
    """
    found = [seen_of(factor, counts, around) for factor in factors]
    events, mail = np.stack([one for one, _ in found]), np.stack([one for _, one in found])
    usual = _usual(factors, around, mail.shape[1])
    worth, watch = (np.array([getattr(f, name) for f in factors])[:, None, None] for name in ("worth", "watch"))
    # All memories in one go over the days: (memories, events or mail, factors, series, days).
    decays = np.array([[decay_of(half) for half in (f.half_life, f.quick, _PAST)] for f in factors]).T
    remembered = faded(np.broadcast_to(np.stack([events, mail]), (3, 2, *events.shape)), decays[:, None, :, None])
    (seen, sent), (lately, lately_sent), past = remembered
    past_events, past_mail = before(past)
    # The prior: what is usual here, as much more or less as the sender has at its other providers; then its own past.
    if around.elsewhere is not None:
        others = [around.elsewhere[factor.name] for factor in factors]
    else:
        others = _elsewhere(seen, sent, usual, around)
    other, other_mail, other_usual = (np.stack([getattr(one, name) for one in others]) for name in (
        "events", "mail", "usual"
    ))  # fmt: skip
    pooled = usual * (other + usual * worth) / (other_usual + usual * worth)
    prior = np.minimum(
        np.maximum(watch, pooled), (past_events + pooled * worth * _PAST_WORTH) / (past_mail + worth * _PAST_WORTH)
    )
    a, b = seen + prior * worth, sent + worth
    mean = np.minimum(1.0, a / b)
    low, high = rate_ends(a, b, _ENDS)
    lately, lately_sent = lately + prior * worth, lately_sent + worth
    sure, high_lately = rate_end(lately, lately_sent, -_SURE), rate_end(lately, lately_sent, _ENDS)
    quicker = sure > mean
    value = np.maximum(mean, sure)
    low, high = np.where(quicker, np.maximum(low, mean), low), np.where(quicker, np.maximum(high, high_lately), high)
    unseen = ~around.reports[:, None] & (other_mail < ENOUGH_MAIL)
    for n, factor in enumerate(factors):
        if factor.name == "complaints":
            value[n, unseen[n]] = low[n, unseen[n]] = high[n, unseen[n]] = np.nan
    return value, low, high


def _engagement(factor: Factor, counts: Mapping[str, Array], around: Surroundings) -> tuple[Array, Array, Array]:
    """How many times as many openings the median sender has: 2 is half as many. NaN where nobody reports openings.

    Openings come a day or two after their message, so they are compared with the mail of those days. Where it is known
    how openly mail is read at each provider, a sender's level is compared with the median sender's, what it has at
    other providers being its prior; elsewhere with the best that it had there itself.
    """
    opened, delivered = counts["opened"], counts["delivered"]
    mail = 0.65 * delivered + 0.25 * before(delivered) + 0.1 * before(delivered, 2)
    decays = np.array([decay_of(factor.half_life), decay_of(_TRACKED)])[:, None, None]
    (seen, sent), tracked = faded(np.broadcast_to(np.stack([opened, mail]), (2, 2, *mail.shape)), decays)
    past_opened, past_mail = before(tracked, _SETTLES)
    own = _beside_own_best(factor, seen, sent, past_opened, past_mail, mail)
    openness = (around.peers or {}).get("engagement")
    if openness is None or around.sender is None:
        return own
    open_here = np.nan_to_num(openness)[:, None]
    visible = open_here > _LEAST_OPENNESS
    seen, sent = np.where(visible, seen, 0.0), np.where(visible, sent, 0.0)
    expected = sent * open_here
    others, others_expected = of_others(np.stack([seen, expected]), around.sender)
    median = _median_opens(others + seen, others_expected + expected, around)
    pooled = (others + median * factor.worth) / (others_expected + factor.worth)
    a, b = seen + pooled * factor.worth, expected + factor.worth
    low, high = rate_ends(a, b, _ENDS)
    tracks = (tracked[0] + of_others(tracked[:1], around.sender)[0]) > 0
    known = tracks & (others_expected + expected > 0) & ~np.isnan(median)
    beside = [np.where(known, median / np.maximum(level, 1e-6), fallen) for level, fallen in zip(
        (np.minimum(1.0, a / b), high, low), own, strict=True
    )]  # fmt: skip
    return beside[0], beside[1], beside[2]


def _median_opens(opened: Array, expected: Array, around: Surroundings) -> Array:
    """(days,): the median sender's share of openings; NaN where it is not known."""
    days = opened.shape[-1]
    if around.median_opens is not None:
        return np.full(days, around.median_opens)
    assert around.sender is not None
    _, first = np.unique(around.sender, return_index=True)
    there = (expected[first] >= _COMPARED_FROM) & (opened[first] > 0)
    level = np.where(there, opened[first] / np.maximum(expected[first], 1e-9), np.nan)
    out = np.full(days, np.nan)
    enough = there.sum(axis=0) >= _COMPARED_BY
    if enough.any():
        out[enough] = np.nanmedian(level[:, enough], axis=0)
    return out


def _beside_own_best(
    factor: Factor, seen: Array, sent: Array, past_opened: Array, past_mail: Array, mail: Array
) -> tuple[Array, Array, Array]:
    """How many times as many openings there were at best; that is forgotten slowly, so that a slow fall is seen too."""
    # In the first weeks a share depends on how soon opens are reported; the best of them would stay for months.
    days_seen = np.cumsum(np.cumsum(mail, axis=-1) > 0, axis=-1)
    known = (past_mail >= _OPENED_FROM) & (days_seen >= _OPENED_DAYS)
    share = np.where(known, np.minimum(1.0, past_opened / np.maximum(past_mail, 1.0)), 0.0)
    usual, keeps = np.empty_like(share), decay_of(_PEAK)
    best = np.zeros(share.shape[:-1])
    for day in range(share.shape[-1]):
        best = np.maximum(share[..., day], best * keeps)
        usual[..., day] = best
    a, b = seen + usual * factor.worth, sent + factor.worth
    low, high = rate_ends(a, b, _ENDS)
    can = known & (usual >= _LEAST_OPENED)
    found = [np.where(can, usual / np.maximum(values, 1e-6), np.nan) for values in (np.minimum(1.0, a / b), high, low)]
    return found[0], found[1], found[2]


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
    mail = np.where(readings.tenths[:, day] == NO_VALUE, 0.0, readings.mail[:, day])
    weights = mail / np.maximum(mail.sum(), 1e-9)
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
