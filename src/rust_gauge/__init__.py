"""Rust Gauge: deliverability measured, explained and mended."""

__version__ = "0.1.0"
