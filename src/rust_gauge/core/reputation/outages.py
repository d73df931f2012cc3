"""What a provider did to everybody: the delays that senders there have in common, day by day.

A sender's own delays rise alone; a provider's outage raises those of most senders at once. So the excess over each
sender's usual delays is compared between senders, and its middle is nobody's fault.
"""

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.reputation.memory import Array, before, decay_of, faded

FEWEST = 3  # senders that have to be there: two may be slow for reasons of their own
LEAST_MAIL = 10.0  # messages of a sender that day
LEAST = 0.05  # share of the mail below which it is no outage
_USUAL, _WORTH, _HALF_LIFE = 0.02, 50.0, 14.0
_READ_BY, _READ_FROM = 5, 300.0  # senders, and messages of each, from which it is known how openly mail is read


def tried(attempted: Array, delays: Array) -> Array:
    """Mail that delays are counted against: what came to an end that day, or what was deferred where that is more."""
    return np.maximum(attempted, delays)


def common_delay(delays: Array, mail: Array) -> Array:
    """(days,): the share of everybody's mail that one provider deferred, from (senders, days) of all its senders.

    0 where there are too few senders, or no more than usual was deferred. On the day of an outage far more is deferred
    than comes to an end, so a share is of whichever is larger.
    """
    decay = decay_of(_HALF_LIFE)
    mail = tried(mail, delays)
    usual = (before(faded(delays, decay)) + _USUAL * _WORTH) / (before(faded(mail, decay)) + _WORTH)
    excess = np.minimum(1.0, delays / np.maximum(mail, 1.0)) - usual
    there = mail >= LEAST_MAIL
    out = np.zeros(mail.shape[-1])
    for day in np.flatnonzero(there.sum(axis=0) >= FEWEST):
        here = there[:, day]
        # A large sender says more, but must not outvote all the others.
        out[day] = _weighted_median(excess[here, day], np.sqrt(mail[here, day]))
    return np.where(out >= LEAST, out, 0.0)


def openness(opened: Array, delivered: Array) -> Array:
    """Return (providers,): how openly mail is read at each provider beside the others, from (senders, providers) sums.

    The middle over senders of their share of openings there over their share everywhere. NaN with too few senders.
    """
    there = (delivered >= _READ_FROM) & (opened.sum(axis=1) > 0)[:, None]
    everywhere = opened.sum(axis=1) / np.maximum(delivered.sum(axis=1), 1.0)
    ratio = opened / np.maximum(delivered, 1.0) / np.maximum(everywhere, 1e-9)[:, None]
    return np.array([
        np.median(ratio[here, n]) if (here := there[:, n]).sum() >= _READ_BY else np.nan for n in range(opened.shape[1])
    ])  # fmt: skip


def median_opens(opened: Array, delivered: Array, open_there: Array) -> float:
    """Return the median sender's share of openings, from (senders, providers) sums and `openness`; NaN with too few.

    What a provider's mail is read less openly than elsewhere is made good.
    """
    known = np.nan_to_num(open_there)
    expected, seen = (delivered * known).sum(axis=1), (opened * (known > 0)).sum(axis=1)
    there = (expected >= _READ_FROM) & (seen > 0)
    return float(np.median(seen[there] / expected[there])) if there.sum() >= _READ_BY else float("nan")


def _weighted_median(values: Array, weights: Array) -> float:
    """Return the value below which half of the weight lies; the lower one in doubt."""
    order: NDArray[np.intp] = np.argsort(values)
    below = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(below, below[-1] / 2)])
