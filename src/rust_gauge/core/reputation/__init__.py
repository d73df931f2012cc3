"""Reputation: readings of domains, streams, relays and addresses, overall and per mailbox provider, day by day."""

from rust_gauge.core.reputation.factors import (
    FACTORS,
    NAMES,
    Condition,
    Factor,
    FactorError,
    condition_of,
    factors_with,
)
from rust_gauge.core.reputation.outages import common_delay, openness
from rust_gauge.core.reputation.reading import (
    COUNTS,
    NO_VALUE,
    Measures,
    Readings,
    Surroundings,
    in_tenths,
    measure,
    over_providers,
    read,
    split,
)

__all__ = [
    "COUNTS",
    "FACTORS",
    "NAMES",
    "NO_VALUE",
    "Condition",
    "Factor",
    "FactorError",
    "Measures",
    "Readings",
    "Surroundings",
    "common_delay",
    "condition_of",
    "factors_with",
    "in_tenths",
    "measure",
    "openness",
    "over_providers",
    "read",
    "split",
]
