"""Logs of mail servers: what happened to each message and recipient, put together from lines over time."""

from rust_gauge.core.mtalog.postfix import LogReader, parse_line

__all__ = ["LogReader", "parse_line"]
