"""Reports of receivers in short, as the contract has them."""

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

from rust_gauge.contract import audits as c
from rust_gauge.core.reports import AggregateReport, ReportRow, TlsReport

_MAX_SOURCES = 500  # rows; more is a list that nobody reads, and CSV has all
_MAX_SECONDS = 253_402_300_799  # the end of the year 9999


def report_document(report: AggregateReport, new: Sequence[tuple[str, str]]) -> c.FeedbackReport:
    by_source: dict[str, list[ReportRow]] = {}
    for row in report.rows:
        by_source.setdefault(row.source_ip, []).append(row)
    sources = sorted((_source(ip, rows) for ip, rows in by_source.items()), key=lambda source: -source.messages)
    return c.FeedbackReport(
        reporter=report.reporter,
        report_id=report.report_id,
        domain=report.domain,
        begin=_time(report.begin),
        end=_time(report.end),
        messages=sum(row.count for row in report.rows),
        aligned=sum(row.count for row in report.rows if row.dkim or row.spf),
        sources=sources[:_MAX_SOURCES],
        left_out=report.left_out,
        new_selectors=[c.ReportedSelector(domain=domain, selector=selector) for domain, selector in new],
        policy=c.ReportedPolicy(**{name: getattr(report.policy, name) for name in c.ReportedPolicy.model_fields}),
    )


def tls_document(report: TlsReport) -> c.TlsReport:
    return c.TlsReport(
        reporter=report.reporter,
        report_id=report.report_id,
        contact=report.contact,
        begin=_time(report.begin),
        end=_time(report.end),
        successful=sum(policy.successful for policy in report.policies),
        failed=sum(policy.failed for policy in report.policies),
        policies=[
            c.ReportedTlsPolicy(
                policy=policy.kind,
                domain=policy.domain,
                text=list(policy.text),
                mx=list(policy.mx),
                successful=policy.successful,
                failed=policy.failed,
                failures=[
                    c.ReportedTlsFailure(
                        result=failure.result,
                        sessions=failure.sessions,
                        sending_ip=failure.sending_ip,
                        receiving_mx=failure.receiving_mx,
                        receiving_ip=failure.receiving_ip,
                        reason=failure.reason,
                    )
                    for failure in sorted(policy.failures, key=lambda failure: -failure.sessions)[:_MAX_SOURCES]
                ],
            )
            for policy in report.policies
        ],
        left_out=report.left_out,
    )


def _source(ip: str, rows: Sequence[ReportRow]) -> c.ReportedSource:
    return c.ReportedSource(
        source_ip=ip,
        messages=sum(row.count for row in rows),
        aligned=sum(row.count for row in rows if row.dkim or row.spf),
        header_from=_each(row.header_from for row in rows),
        signatures=_each(
            f"{signature.domain} {signature.selector or '(no selector told)'} {signature.result}"
            for row in rows
            for signature in row.signatures
        ),
        spf=_each(f"{row.spf_domain} {row.spf_result}" for row in rows if row.spf_domain),
        dispositions=_each(row.disposition for row in rows),
        reasons=_each(
            f"{reason.kind}: {reason.comment}" if reason.comment else reason.kind
            for row in rows
            for reason in row.reasons
        ),
    )


def _each(words: Iterable[str]) -> list[str]:
    return list(dict.fromkeys(word for word in words if word))[:20]


def _time(seconds: int) -> datetime:
    return datetime.fromtimestamp(min(seconds, _MAX_SECONDS), UTC)
