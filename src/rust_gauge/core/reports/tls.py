"""Reports on TLS (RFC 8460 §4): how many sessions to our mail servers were encrypted as our policy asks.

Senders of reports are strangers: policies and failures that make no sense are left out and counted; what they commonly
get wrong is understood and listed in `oddities`.
"""

import json
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from rust_gauge.core.reports.unpacking import MAX_JSON, SEND_AGAIN, ReportError

_MAX_POLICIES, _MAX_FAILURES = 1000, 10_000
_LARGEST = 10**15  # sessions; more is a mistake


@dataclass(frozen=True, slots=True)
class TlsFailure:
    """Sessions that failed alike. `result` is a result-type of RFC 8460 §4.3; what the report leaves out is empty."""

    result: str
    sessions: int
    sending_ip: str
    receiving_mx: str
    receiving_ip: str
    reason: str


@dataclass(frozen=True, slots=True)
class TlsPolicy:
    """One policy that applied: `kind` is sts, tlsa or no-policy-found."""

    kind: str
    domain: str
    text: tuple[str, ...]
    mx: tuple[str, ...]
    successful: int
    failed: int
    failures: tuple[TlsFailure, ...]


@dataclass(frozen=True, slots=True)
class TlsReport:
    """One report. `begin` and `end` are Unix seconds, 0 when unreadable; `left_out` counts what could not be read."""

    reporter: str
    report_id: str
    contact: str
    begin: int
    end: int
    policies: tuple[TlsPolicy, ...]
    left_out: int = 0
    oddities: tuple[str, ...] = ()


def read_tls_report(document: bytes) -> TlsReport:
    """Read a report. ReportError if it is not JSON, or not a report on TLS."""
    odd: dict[str, None] = {}
    text = document[: MAX_JSON + 1].removeprefix(b"\xef\xbb\xbf")
    try:
        found = json.loads(text)
    except UnicodeDecodeError:
        odd["It has octets that are not UTF-8"] = None
        found = _loaded(text.decode("utf-8", "replace"))
    except (ValueError, RecursionError) as error:
        raise ReportError("The JSON is malformed", why=str(error)[:200], remedy=SEND_AGAIN) from None
    found = found[0] if isinstance(found, list) and found else found
    policies = found.get("policies") if isinstance(found, dict) else None
    if isinstance(policies, dict):
        odd["Its policies are one object; they must be a list"] = None
        policies = [policies]
    if not isinstance(policies, list):
        raise ReportError("Not a report on TLS: it has no list of policies (RFC 8460 §4.4)", remedy=SEND_AGAIN)
    read = [_policy(policy, odd) for policy in policies[:_MAX_POLICIES]]
    good = [policy for policy, _ in (each for each in read if each is not None)]
    left_out = len(policies) - len(good) + sum(each[1] for each in read if each is not None)
    period = _object(found.get("date-range"))
    begin, end = sorted((_seconds(period.get("start-datetime")), _seconds(period.get("end-datetime"))))
    return TlsReport(
        _text(found.get("organization-name"), 200),
        _text(found.get("report-id"), 255),
        _text(found.get("contact-info"), 320).removeprefix("mailto:"),
        begin or end,
        end,
        tuple(good),
        left_out,
        tuple(odd),
    )


def _loaded(text: str) -> Any:
    try:
        return json.loads(text)
    except (ValueError, RecursionError) as error:
        raise ReportError("The JSON is malformed", why=str(error)[:200], remedy=SEND_AGAIN) from None


def _policy(value: Any, odd: dict[str, None]) -> tuple[TlsPolicy, int] | None:
    """Return a policy and how many of its failures could not be read; None when it says nothing."""
    policy, summary = _object(_object(value).get("policy")), _object(_object(value).get("summary"))
    domain = _text(policy.get("policy-domain"), 253).rstrip(".").lower()
    stated = [summary.get(f"total-{kind}-session-count") for kind in ("successful", "failure")]
    successful, failed = map(_count, stated)
    details = _list(_object(value).get("failure-details"))
    failures = [_failure(detail) for detail in details[:_MAX_FAILURES]]
    good = tuple(failure for failure in failures if failure is not None)
    told = sum(failure.sessions for failure in good)
    if None in stated and (told or successful or failed):  # a number that makes no sense is another matter
        odd["Policies without a whole summary count by their failure details"] = None
        successful = 0 if stated[0] is None else successful
        failed = told if stated[1] is None else failed
    if not domain or successful is None or failed is None:
        return None
    return (
        TlsPolicy(
            _text(policy.get("policy-type"), 40).lower(),
            domain,
            _texts(policy.get("policy-string")),
            _texts(policy.get("mx-host", policy.get("mx-host-pattern"))),
            successful,
            failed,
            good,
        ),
        len(details) - len(good),
    )


def _failure(value: Any) -> TlsFailure | None:
    detail = _object(value)
    sessions = _count(detail.get("failed-session-count"))
    result = _text(detail.get("result-type"), 60).lower()
    if not result or sessions is None:
        return None
    return TlsFailure(
        result,
        sessions,
        _text(detail.get("sending-mta-ip"), 45),
        _text(detail.get("receiving-mx-hostname"), 253).rstrip(".").lower(),
        _text(detail.get("receiving-ip"), 45),
        _text(detail.get("failure-reason-code"), 400),
    )


def _object(value: Any) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}


def _list(value: Any) -> list[Any]:
    """Return a list; a single object where a list belongs, as some senders write it, is the list of it."""
    return value if isinstance(value, list) else [value] if isinstance(value, dict) else []


def _text(value: Any, longest: int) -> str:
    # JSON can hold halves of surrogate pairs, which UTF-8 cannot hold.
    return value.encode("utf-8", "replace").decode().strip()[:longest] if isinstance(value, str) else ""


def _texts(value: Any) -> tuple[str, ...]:
    """Return texts of a list; some receivers send a single text instead."""
    return tuple(_text(each, 400) for each in (value if isinstance(value, list) else [value])[:50] if _text(each, 400))


def _count(value: Any) -> int | None:
    if isinstance(value, str) and value.isascii() and value.isdigit() and len(value) < 16:
        value = int(value)
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    return value if isinstance(value, int) and not isinstance(value, bool) and 0 <= value < _LARGEST else None


def _seconds(value: Any) -> int:
    if _count(value) is not None:  # Unix seconds, as aggregate reports have them
        return int(value)
    try:
        time = datetime.fromisoformat(_text(value, 40))
        return max(0, int((time if time.tzinfo else time.replace(tzinfo=UTC)).timestamp()))
    except (ValueError, OverflowError):
        return 0
