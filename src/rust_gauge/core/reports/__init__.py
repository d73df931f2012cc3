"""Reports that receivers send: DMARC aggregate reports (RFC 7489) and reports on TLS (RFC 8460)."""

from rust_gauge.core.reports.aggregate import (
    AggregateReport,
    OverrideReason,
    PublishedPolicy,
    ReportRow,
    SignatureSeen,
    read_aggregate_report,
)
from rust_gauge.core.reports.tls import TlsFailure, TlsPolicy, TlsReport, read_tls_report
from rust_gauge.core.reports.unpacking import ReportError, is_json, unpack

__all__ = [
    "AggregateReport",
    "OverrideReason",
    "PublishedPolicy",
    "ReportError",
    "ReportRow",
    "SignatureSeen",
    "TlsFailure",
    "TlsPolicy",
    "TlsReport",
    "read_aggregate_report",
    "read_report",
    "read_tls_report",
    "unpack",
]


def read_report(octets: bytes) -> AggregateReport | TlsReport:
    """Read a report of either kind, however it was packed. ReportError when it is none."""
    document = unpack(octets)
    return read_tls_report(document) if is_json(document) else read_aggregate_report(document)
