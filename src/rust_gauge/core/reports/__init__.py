"""Reports that receivers send: DMARC aggregate reports (`aggregate`), failure reports (`failure`) and TLS reports
(`tls`), however they were packed (`unpacking`); and who sends as us by what they tell (`sources`)."""

from collections.abc import Callable

from rust_gauge.core.mime import parse_entity
from rust_gauge.core.reports.aggregate import (
    AggregateReport,
    OverrideReason,
    PublishedPolicy,
    ReportRow,
    SignatureSeen,
    read_aggregate_report,
    stream_aggregate_report,
)
from rust_gauge.core.reports.failure import FailureReport, is_failure_report, read_failure_report
from rust_gauge.core.reports.tls import TlsFailure, TlsPolicy, TlsReport, read_tls_report
from rust_gauge.core.reports.unpacking import (
    ReportError,
    is_document,
    is_json,
    is_packed,
    open_document,
    unpack,
    whole,
)

__all__ = [
    "AggregateReport",
    "FailureReport",
    "OverrideReason",
    "PublishedPolicy",
    "ReportError",
    "ReportRow",
    "SignatureSeen",
    "TlsFailure",
    "TlsPolicy",
    "TlsReport",
    "is_document",
    "is_failure_report",
    "is_json",
    "is_packed",
    "open_document",
    "read_aggregate_report",
    "read_failure_report",
    "read_report",
    "read_tls_report",
    "stream_report",
    "unpack",
]


def read_report(octets: bytes) -> AggregateReport | TlsReport:
    """Read an aggregate or TLS report, however it was packed. ReportError when it is neither."""
    document = whole(open_document(octets))
    return read_tls_report(document) if is_json(document) else read_aggregate_report(document)


def stream_report(octets: bytes, take: Callable[[ReportRow], None]) -> AggregateReport | TlsReport | FailureReport:
    """Read a report of any kind. The records of an aggregate report are given to `take`, and not part of the answer.

    ReportError when it is none; records before the error were given away.
    """
    if not is_packed(octets) and not is_document(octets):
        message = parse_entity(octets)
        if is_failure_report(message):
            return read_failure_report(octets)
    pieces = open_document(octets)
    first = next(pieces)
    document = (piece for part in ((first,), pieces) for piece in part)
    return read_tls_report(whole(document)) if is_json(first) else stream_aggregate_report(document, take)
