"""The bench: what is read out of caught messages, how a difficult receiver answers, and the spread of marks."""

from rust_gauge.core.bench.codes import Code, find_codes
from rust_gauge.core.bench.receiver import Answer, Rule, answer_for, parse_reply
from rust_gauge.core.bench.series import series_of, spread

__all__ = ["Answer", "Code", "Rule", "answer_for", "find_codes", "parse_reply", "series_of", "spread"]
