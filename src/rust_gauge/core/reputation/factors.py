"""What pulls a reading down: each factor with its lines, its memory, its prior and its weight. Reasons are in
docs/reputation.md.

All rates are fractions. A factor counts against a sender in log-odds, along one curve (`Factor.log_odds`): its weight
at the watch line, two and a half times that at three times the line, and by the logarithm alone far beyond.
"""

from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.errors import RustGaugeError

OFFSET = 4.0  # log-odds of a sender that nothing counts against; docs/reputation.md says what it was chosen by
_MOST_RATE = 0.98  # beyond it odds say nothing more


class FactorError(RustGaugeError):
    """A setting of a factor that cannot be meant."""


class Condition(StrEnum):
    """The condition that a reading is in."""

    SOUND = "sound"
    TARNISHED = "tarnished"
    CORRODED = "corroded"
    SEIZED = "seized"


def condition_of(value: float) -> Condition:
    """sound from 80, tarnished from 60, corroded from 35, below that seized."""
    if value >= 80:
        return Condition.SOUND
    if value >= 60:
        return Condition.TARNISHED
    return Condition.CORRODED if value >= 35 else Condition.SEIZED


class Kind(StrEnum):
    """How a factor is measured."""

    RATE = "rate"  # events per message
    ENGAGEMENT = "engagement"  # how many times as many opens the median sender has
    VOLUME = "volume"  # doublings of a week's mail over what is usual
    AUDIT = "audit"  # faults in what the domain publishes


@dataclass(frozen=True, slots=True)
class Factor:
    """One factor and how it counts. FactorError where its parts contradict each other.

    `weight`: the log-odds that it takes at its watch line. `stop` is a line for people: it does not bend the curve.
    `half_life`: days after which a message counts half. `quick`: the same for the short memory, which speaks up only
    when it is sure. `usual` and `worth`: what is taken for granted of a sender of whom nothing is known, and how many
    messages that is worth. `of`: which mail the events are counted against. `least`: of that mail, remembered, below
    which nothing is measured.
    """

    name: str
    kind: Kind
    watch: float
    stop: float
    weight: float
    half_life: float = 7
    quick: float = 0.7
    usual: float = 0.0
    worth: float = 100
    of: str = "attempted"
    straight: float = 15.0  # watch lines beyond which a measure counts by its logarithm alone
    least: float = 0.0

    def __post_init__(self) -> None:
        if not 0 < self.watch < self.stop:
            raise FactorError(f"{self.name}: the watch line must be above 0 and below the stop line")
        if not 0 <= self.weight <= 10:
            raise FactorError(f"{self.name}: a weight is 0 to 10, in log-odds at the watch line")
        if not 0.1 <= self.half_life <= 90 or not 0.1 <= self.quick <= self.half_life:
            raise FactorError(f"{self.name}: half_life is 0.1 to 90 days, and quick at most half_life")
        if not 0 <= self.usual <= 1 or not 1 <= self.worth <= 1e6:
            raise FactorError(f"{self.name}: usual is a fraction, worth 1 to 1,000,000 messages")

    def log_odds(self, measure: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return what a measure takes off the log-odds: 0 at 0, `weight` at the watch line, without a step."""
        lines = measure / self.watch
        if self.kind is Kind.RATE:  # of a rate, its odds: nine tenths is far worse than half
            lines = lines * (1 - self.watch) / (1 - np.minimum(measure, _MOST_RATE))
        curve = (np.log2(1 + lines) + np.minimum(lines, self.straight)) / 2
        out: NDArray[np.float64] = self.weight * curve
        return out


def _about_us(name: str, watch: float, weight: float = 0.45) -> Factor:
    return Factor(name, Kind.RATE, watch, 0.05, weight, half_life=4, usual=0.0005, worth=80)


FACTORS = (
    Factor("complaints", Kind.RATE, 0.001, 0.003, 0.45, half_life=5, usual=0.0002, worth=700, of="delivered"),
    Factor("invalid_addresses", Kind.RATE, 0.02, 0.05, 0.45, usual=0.005, worth=100),
    _about_us("refusals", 0.01),
    _about_us("listings", 0.005),
    _about_us("authentication", 0.01, 0.35),
    Factor("delays", Kind.RATE, 0.02, 0.10, 0.9, half_life=3, quick=1.5, usual=0.01, worth=50, of="tried", straight=5),
    Factor("held", Kind.RATE, 0.002, 0.01, 0.2, usual=0.0002, worth=300),
    Factor("unsubscribes", Kind.RATE, 0.006, 0.02, 0.1, usual=0.001, worth=300, of="delivered"),
    Factor("engagement", Kind.ENGAGEMENT, 2.0, 4.0, 0.45, half_life=7, worth=100, of="opened_of"),
    Factor("volume", Kind.VOLUME, 1.0, 2.5, 0.2, half_life=4, worth=300),
    Factor("record_faults", Kind.AUDIT, 1.0, 3.0, 0.45),
    Factor("placement", Kind.RATE, 0.10, 0.40, 0.7, half_life=4, usual=0.03, worth=20, of="copies", least=1),
    Factor("alignment", Kind.RATE, 0.05, 0.20, 0.2, half_life=4, usual=0.005, worth=50, of="reported", least=20),
)
NAMES = tuple(factor.name for factor in FACTORS)
_CHANGED = tuple(
    field.name for field in fields(Factor) if field.name not in ("name", "kind", "of", "straight", "least")
)


def factors_with(changes: Mapping[str, Mapping[str, float]]) -> tuple[Factor, ...]:
    """Return the factors with a tenant's settings, by factor and setting. FactorError for what is unknown."""
    unknown = sorted(set(changes) - set(NAMES))
    if unknown:
        raise FactorError(f"Unknown factor {unknown[0]}", remedy="Factors: " + ", ".join(NAMES))
    for name, settings in changes.items():
        wrong = sorted(set(settings) - set(_CHANGED))
        if wrong:
            raise FactorError(f"{name}: unknown setting {wrong[0]}", remedy="Settings: " + ", ".join(_CHANGED))
    return tuple(replace(factor, **dict[str, Any](changes.get(factor.name, {}))) for factor in FACTORS)
