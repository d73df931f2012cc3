"""Structured logs: one JSON object a line on standard error, with the request's id."""

import contextlib
import logging
import sys
from typing import TextIO

import structlog


class LossyStream:
    """A stream that loses what cannot be written: nobody's work ends because the disk of the log is full."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        with contextlib.suppress(OSError):
            self._stream.write(text)
        return len(text)

    def flush(self) -> None:
        with contextlib.suppress(OSError):
            self._stream.flush()


def configure_logs(level: str) -> None:
    """Set up logging for this process."""
    stream: TextIO = LossyStream(sys.stderr)  # type: ignore[assignment]
    logging.basicConfig(level=logging.WARNING, stream=stream, format="%(message)s")
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(getattr(logging, level.upper())),
        logger_factory=structlog.PrintLoggerFactory(stream),
        cache_logger_on_first_use=True,
    )
