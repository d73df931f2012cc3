"""Rust Gauge: measure, explain and fix email deliverability."""

__version__ = "0.1.0"
