"""What pulls a reading down: four rates, each with its lines, its memory and its weight. Reasons in docs/reputation.md.

All rates are fractions. A factor's pull follows one curve (`share_of_weight`): little below the watch line, steep
between watch and stop, flattening beyond.
"""

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

AT_WATCH, AT_STOP = 0.2, 0.7  # shares of the weight that are pulled at the two lines


class Condition(StrEnum):
    """The reading in a word."""

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


@dataclass(frozen=True, slots=True)
class Factor:
    """One rate and how it counts."""

    name: str
    watch: float
    stop: float
    weight: float  # points at most
    half_life: float  # days after which a message counts half
    prior_rate: float  # what is taken for granted of a sender of whom nothing is known
    prior_mail: float  # how many messages that is worth

    @property
    def decay(self) -> float:
        """What a day leaves of the day before."""
        return float(0.5 ** (1 / self.half_life))

    def share_of_weight(self, rate: NDArray[np.float64]) -> NDArray[np.float64]:
        """0 to 1: quadratic to the watch line, linear to the stop line, then towards 1 without reaching it."""
        below = AT_WATCH * (rate / self.watch) ** 2
        between = AT_WATCH + (AT_STOP - AT_WATCH) * (rate - self.watch) / (self.stop - self.watch)
        beyond = AT_STOP + (1 - AT_STOP) * (1 - np.exp(-np.maximum(0, rate - self.stop) / self.stop))
        return np.where(rate <= self.watch, below, np.where(rate <= self.stop, between, beyond))


FACTORS = (
    Factor("complaints", watch=0.001, stop=0.003, weight=60, half_life=7, prior_rate=0.0002, prior_mail=1000),
    Factor("bad_addresses", watch=0.02, stop=0.05, weight=45, half_life=7, prior_rate=0.005, prior_mail=100),
    Factor("refusals", watch=0.01, stop=0.05, weight=65, half_life=4, prior_rate=0.001, prior_mail=80),
    Factor("delays", watch=0.10, stop=0.40, weight=12, half_life=1.5, prior_rate=0.02, prior_mail=50),
)
