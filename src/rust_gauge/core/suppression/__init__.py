"""Suppression: which events make an entry, and the answer to "may I mail these?"."""

from rust_gauge.core.suppression.clearance import Clearance, Entry, clear, judge
from rust_gauge.core.suppression.policy import Reason, reason_for, reason_to_suppress

__all__ = ["Clearance", "Entry", "Reason", "clear", "judge", "reason_for", "reason_to_suppress"]
