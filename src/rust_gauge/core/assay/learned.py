"""A small text model of one tenant: whether a text reads like campaigns that went badly, or like those that went well.

Character n-grams, a linear model, nothing hidden: what a text gets is the sum of what its words contribute. It learns
from the tenant's own messages only, says nothing until there is enough, and how often it is right is measured on
campaigns that it was not shown (cross-validation by campaign, as messages of one campaign are alike).
"""

import math
import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

LEAST_CAMPAIGNS = 12  # of each kind
LEAST_DELIVERED = 200  # messages of a campaign
LEAST_RIGHT = 0.6  # the lower end of the accuracy's interval; chance has 0.5
_LENGTHS = (3, 4, 5)  # of n-grams
_FEATURES = 1500
_LEAST_MESSAGES = 3  # that an n-gram is in
_MOST_TEXT = 6000  # characters of a message
_FOLDS = 6
_STRENGTH = 0.3  # of the regularisation
_STEPS = 120
_Z = 1.645  # two-sided 90 %
_WORD = re.compile(r"\S+")


@dataclass(frozen=True, slots=True)
class Sample:
    """A message, the campaign that it belongs to, and whether that campaign went badly."""

    text: str
    campaign: str
    bad: bool


@dataclass(frozen=True, slots=True)
class TextModel:
    """Weights by n-gram. `right` of `of` campaigns were classified correctly in cross-validation."""

    weights: Mapping[str, float]
    bias: float
    right: int
    of: int
    low: int  # campaigns that went well
    high: int
    messages: int

    @property
    def accuracy(self) -> float:
        """Return the share of campaigns that were classified correctly, 0 to 1."""
        return self.right / self.of

    @property
    def is_usable(self) -> bool:
        """Return whether it is right clearly more often than chance."""
        return lower_bound(self.right, self.of) >= LEAST_RIGHT


@dataclass(frozen=True, slots=True)
class Learned:
    """What came of learning: a model, or why there is none."""

    model: TextModel | None
    reason: str = ""
    low: int = 0
    high: int = 0
    messages: int = 0


@dataclass(frozen=True, slots=True)
class TextVerdict:
    """How much a text reads like campaigns that went badly, 0 to 1, and the words that say so most."""

    likeness: float
    words: tuple[tuple[str, float], ...] = field(default=())


@dataclass(frozen=True, slots=True)
class Outcome:
    """How a campaign went: messages delivered, complained about, and refused for what the sender does; and of copies
    to seeds, how many were judged and how many of them were not in the inbox."""

    campaign: str
    delivered: int
    complained: int
    refused: int
    placed: int = 0
    not_in_inbox: int = 0

    @property
    def rate(self) -> float:
        """Return the signs of harm together: complaints per delivered message, a tenth of the refusals per attempt, and
        a fiftieth of the copies that were not in the inbox, since half of them in spam is as bad as 1 % of complaints.
        """
        attempted = self.delivered + self.refused
        elsewhere = self.not_in_inbox / max(1, self.placed)
        return self.complained / max(1, self.delivered) + 0.1 * self.refused / max(1, attempted) + 0.02 * elsewhere


def told_apart(outcomes: Iterable[Outcome]) -> dict[str, bool]:
    """Return campaigns that went well (False) or badly (True): the lowest and the highest third by their rate.

    Those between, and those of fewer than 200 delivered messages, say too little.
    """
    known = sorted((each for each in outcomes if each.delivered >= LEAST_DELIVERED), key=lambda each: each.rate)
    third = len(known) // 3
    if third == 0 or known[third - 1].rate >= known[-third].rate:
        return {}
    return {each.campaign: False for each in known[:third]} | {each.campaign: True for each in known[-third:]}


def learn(samples: Sequence[Sample]) -> Learned:
    """Train a model. Deterministic: one list of samples always makes one model."""
    campaigns = {sample.campaign: sample.bad for sample in samples}
    high = sum(campaigns.values())
    low = len(campaigns) - high
    counts = {"low": low, "high": high, "messages": len(samples)}
    if min(low, high) < LEAST_CAMPAIGNS:
        why = f"{LEAST_CAMPAIGNS} campaigns that went well and {LEAST_CAMPAIGNS} that went badly are needed"
        return Learned(None, f"{why}; there are {low} and {high}", **counts)
    order = _folds(campaigns)
    right = 0
    for fold in range(_FOLDS):
        shown = [sample for sample in samples if order[sample.campaign] != fold]
        weights, bias = _fit(shown)
        for campaign, bad in campaigns.items():
            if order[campaign] == fold:
                scores = [_score(weights, bias, s.text) for s in samples if s.campaign == campaign]
                right += (sum(scores) / len(scores) > 0) == bad
    weights, bias = _fit(samples)
    model = TextModel(weights, bias, right, len(campaigns), low, high, len(samples))
    if not model.is_usable:
        why = f"it classified {right} of {len(campaigns)} campaigns correctly, no better than chance"
        return Learned(None, why, **counts)
    return Learned(model, "", **counts)


def judge(model: TextModel, text: str) -> TextVerdict:
    """Return what the model says of a text."""
    prepared = _prepared(text)
    found = _grams(prepared)
    scale = 1 / math.sqrt(max(1, sum(gram in model.weights for gram in found)))
    score = model.bias + sum(model.weights.get(gram, 0.0) for gram in found) * scale
    shares: dict[str, float] = {}
    for word in {match.strip(".,!?:;()\"'") for match in _WORD.findall(prepared)}:
        shares[word] = sum(model.weights.get(gram, 0.0) for gram in _grams(f" {word} ")) * scale
    most = sorted(shares.items(), key=lambda item: (-item[1], item[0]))
    words = tuple((word, round(share, 3)) for word, share in most[:8] if share > 0 and word)
    return TextVerdict(1 / (1 + math.exp(-max(-30.0, min(30.0, score)))), words)


def lower_bound(right: int, of: int) -> float:
    """Return the lower end of the 90 % interval of a share (Wilson)."""
    if not of:
        return 0.0
    share, z2 = right / of, _Z**2
    middle = share + z2 / (2 * of)
    margin = _Z * math.sqrt(share * (1 - share) / of + z2 / (4 * of * of))
    return max(0.0, (middle - margin) / (1 + z2 / of))  # rounding may end below nothing


def _folds(campaigns: Mapping[str, bool]) -> dict[str, int]:
    """Deal campaigns of both kinds to folds in turns, in the order of their names."""
    order: dict[str, int] = {}
    for bad in (False, True):
        for number, name in enumerate(sorted(name for name, kind in campaigns.items() if kind is bad)):
            order[name] = number % _FOLDS
    return order


def _prepared(text: str) -> str:
    return f" {re.sub(r'[0-9]', '0', ' '.join(text[:_MOST_TEXT].lower().split()))} "


def _grams(text: str) -> set[str]:
    return {text[at : at + length] for length in _LENGTHS for at in range(len(text) - length + 1)}


def _score(weights: Mapping[str, float], bias: float, text: str) -> float:
    found = [weights[gram] for gram in _grams(_prepared(text)) if gram in weights]
    return bias + sum(found) / math.sqrt(max(1, len(found)))


def _fit(samples: Sequence[Sample]) -> tuple[dict[str, float], float]:
    """Fit a logistic regression with an L2 penalty; campaigns weigh the same, however many messages they have."""
    grams = [_grams(_prepared(sample.text)) for sample in samples]
    seen = Counter(gram for each in grams for gram in each)
    most = 0.9 * len(samples)
    chosen = [gram for gram, n in seen.items() if _LEAST_MESSAGES <= n <= most]
    # Those that are most unequal between the two kinds come first; ties by name, so that the result is always the same.
    bad = Counter(gram for sample, each in zip(samples, grams, strict=True) if sample.bad for gram in each)
    share = sum(sample.bad for sample in samples) / max(1, len(samples))
    chosen.sort(key=lambda gram: (-abs(bad[gram] - share * seen[gram]), gram))
    index = {gram: at for at, gram in enumerate(chosen[:_FEATURES])}
    rows: NDArray[np.float64] = np.zeros((len(samples), len(index)))
    for number, each in enumerate(grams):
        known = [index[gram] for gram in each if gram in index]
        rows[number, known] = 1 / math.sqrt(max(1, len(known)))
    target = np.array([float(sample.bad) for sample in samples])
    per_campaign = Counter(sample.campaign for sample in samples)
    weight = np.array([1 / per_campaign[sample.campaign] for sample in samples])
    weight /= weight.sum()
    beta: NDArray[np.float64] = np.zeros(len(index))
    bias = 0.0
    for _ in range(_STEPS):
        error = weight * (1 / (1 + np.exp(-(rows @ beta + bias))) - target)
        beta -= 4.0 * (rows.T @ error + _STRENGTH * beta / len(samples))
        bias -= 4.0 * float(error.sum())
    return {gram: float(beta[at]) for gram, at in index.items() if abs(beta[at]) > 1e-4}, bias
