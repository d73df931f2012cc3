"""Reputation: the reading of a domain, overall and per mailbox provider, day by day."""

from rust_gauge.core.reputation.factors import FACTORS, Condition, Factor, condition_of
from rust_gauge.core.reputation.reading import DayCounts, Pull, Reading, overall_readings, provider_readings

__all__ = [
    "FACTORS",
    "Condition",
    "DayCounts",
    "Factor",
    "Pull",
    "Reading",
    "condition_of",
    "overall_readings",
    "provider_readings",
]
