"""What large mailbox providers ask of those who send in bulk, judged from what was measured.

The requirements are data: a dated file that an operator edits (`service/domains/bulk_sender_rules.toml`), each
naming one of the measures below. What was not measured is said to be so, and never counts as met.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from rust_gauge.core.audit.examination import BulkPoint, CheckState, Examination
from rust_gauge.core.audit.request import Measured
from rust_gauge.core.shares import percent

MEASURES = ("spf", "dkim", "spf_and_dkim", "alignment", "dmarc", "ptr", "tls", "one_click", "complaints")


@dataclass(frozen=True, slots=True)
class BulkRule:
    """One requirement. `limit` is for complaints (a fraction) and tls (a share); it holds `above` so many a day."""

    key: str
    text: str
    measure: str
    since: str  # the day from which it holds, ISO 8601
    limit: float = 0.0
    above: float = 0.0


def judge_bulk(whole: Examination, measured: Measured, rules: Iterable[BulkRule], *, sends: bool | None = None) -> None:
    """Add a point for each rule, and the check-list's line. For a domain that never sends, none of them applies."""
    for rule in rules:
        if sends is False:
            text = "This domain never sends"
            whole.bulk.append(BulkPoint(rule.key, rule.text, "not_applicable", text, rule.since))
            continue
        state, detail = _judge(whole, measured, rule)
        if measured.messages_a_day is not None and measured.messages_a_day < rule.above:
            state = "not_applicable"
            detail += f". Required from {rule.above:,.0f} messages a day on; {measured.messages_a_day:,.0f} are sent"
        whole.bulk.append(BulkPoint(rule.key, rule.text, state, detail, rule.since))
    if not whole.bulk:
        return
    states = ("met", "not_met", "unmeasured", "not_applicable")
    counts = {state: sum(point.state == state for point in whole.bulk) for state in states}
    summary = f"{counts['met']} met, {counts['not_met']} not met, {counts['unmeasured']} not measured yet"
    if counts["not_applicable"]:
        summary += f", {counts['not_applicable']} do not apply"
    state = CheckState.RISK if counts["not_met"] else CheckState.UNMEASURED if counts["unmeasured"] else CheckState.GOOD
    whole.point("bulk", "Bulk-sender readiness", state, summary)


def _judge(whole: Examination, measured: Measured, rule: BulkRule) -> tuple[str, str]:
    checks = {check.key: check for check in whole.checks}
    faults = {finding.check for finding in whole.findings if finding.level == "fault"}
    if rule.measure in ("spf", "dkim"):
        return _by_check(checks.get(rule.measure), rule.measure in faults)
    if rule.measure == "spf_and_dkim":
        first, second = _by_check(checks.get("spf"), "spf" in faults), _by_check(checks.get("dkim"), "dkim" in faults)
        worst = min((first, second), key=lambda judged: ("not_met", "unmeasured", "met").index(judged[0]))
        return worst[0], f"SPF: {first[1]}; DKIM: {second[1]}"
    if rule.measure == "alignment":
        if not whole.streams:
            return "unmeasured", "no streams described yet"
        bad = [stream.name for stream in whole.streams if not any(a.counts for a in stream.by_list.aligned)]
        if bad:
            return "not_met", f"does not align: {', '.join(bad)}"
        aligned = next((check for check in whole.checks if check.key == "alignment"), None)
        return _by_check(aligned, False)
    if rule.measure == "dmarc":
        found = whole.discoveries
        if found is None or found.by_list.failed is not None:
            return "unmeasured", "no usable answer"
        return ("met", "a policy applies") if found.by_list.record else ("not_met", "no policy applies")
    if rule.measure == "ptr":
        if not whole.hosts:
            return "unmeasured", "no sending IPs known"
        bad = [host.ip for host in whole.hosts if not host.confirmed]
        return (
            ("not_met", f"without forward-confirmed reverse DNS: {', '.join(bad)}")
            if bad
            else ("met", "all have reverse DNS")
        )
    return _by_count(measured, rule)


def _by_check(check: object, faulty: bool) -> tuple[str, str]:
    state, summary = getattr(check, "state", CheckState.UNMEASURED), getattr(check, "summary", "not checked")
    if faulty or state is CheckState.FAULT:
        return "not_met", summary
    return ("unmeasured", summary) if state is CheckState.UNMEASURED else ("met", summary)


def _by_count(measured: Measured, rule: BulkRule) -> tuple[str, str]:
    if rule.measure == "one_click":
        if measured.one_click is None:
            return "unmeasured", "no message examined yet"
        on = f"the newest message examined{f', on {measured.one_click_on},' if measured.one_click_on else ''}"
        if measured.one_click:
            return "met", f"{on} offers it, in signed fields"
        return "not_met", f"{on} does not offer it in fields that a passing DKIM signature covers"
    if rule.measure == "complaints":
        if measured.complaints is None or not measured.complaints[1]:
            return "unmeasured", "no mail in the last 7 days at a provider that reports complaints"
        count, delivered = measured.complaints
        rate = count / delivered
        detail = (
            f"{100 * rate:.3f} % ({count:,} of {delivered:,} delivered in 7 days at providers that report complaints)"
        )
        return ("met" if rate < rule.limit else "not_met"), f"{detail}, limit {100 * rule.limit:g} %"
    if measured.tls is None or not measured.tls[1]:
        return "unmeasured", "no log or feed tells whether deliveries were encrypted (tags tls and no-tls)"
    encrypted, told = measured.tls
    detail = f"{percent(encrypted / told, 1)} over TLS ({encrypted:,} of {told:,} deliveries in 7 days that say so)"
    return ("met" if encrypted / told >= rule.limit else "not_met"), detail
