"""Audits as text for a terminal: check list, records, SPF tree, streams, findings with the wrong characters marked."""

import shutil
import textwrap

from rust_gauge.cli.output import Output, both_forms, plural
from rust_gauge.contract.audits import Audit, AuditComparison, CheckPoint, Finding, LookupNode, StreamResult

_NOTHING = {
    "found": "not published (the name has no such record)",
    "no_name": "not published (the name does not exist)",
    "no_data": "not published (the name has no such record)",
    "not_held": "not measured: not in the zone files or the recording",
}
_WINDOW = 30  # characters shown on each side of a marked place in a long record
_MARKS = {"good": "=", "fault": "x", "risk": "!", "note": "i", "absent": "-", "unmeasured": "?"}
_SHOWN_NETWORKS = 4  # more would push the findings off the screen; JSON has all


def show(output: Output, result: Audit) -> None:
    """The whole audit as text."""
    counted = ((result.faults, "fault"), (result.risks, "risk"), (result.notes, "note"))
    counts = ", ".join(plural(n, word) for n, word in counted)
    name = both_forms(result.domain, result.unicode_name)
    output.line(f"{output.paint(name, 'bold')}  {counts}  ({result.finished_at:%Y-%m-%d %H:%M} UTC)")
    output.line()
    _show_checks(output, result.checks)
    for record in result.records:
        via = f"  via {' -> '.join(record.aliases)}" if record.aliases else ""
        known = f"  selector source: {record.source}" if record.source else ""
        key = next((k for k in result.keys if record.name == f"{k.selector}._domainkey.{result.domain}"), None)
        if key is not None and key.first_seen is not None:
            known += f"  first seen {key.first_seen:%Y-%m-%d}"
        output.line(output.paint(f"{record.name} {record.rdtype}{via}{known}", "dim"))
        if not record.values:
            output.line(f"    {_NOTHING.get(record.status, f'not measured: no usable answer ({record.status})')}")
        for value in record.values:
            for line in textwrap.wrap(value, _width() - 4, break_on_hyphens=False, drop_whitespace=False):
                output.line(f"    {line}")
    _show_tree(output, result)
    _show_policy(output, result)
    _show_streams(output, result.streams)
    for finding in result.findings:
        output.line()
        _show_finding(output, result, finding)
    if not result.findings:
        output.line()
        output.line(output.paint("No faults, risks or notes.", "sound"))


def _show_checks(output: Output, checks: list[CheckPoint]) -> None:
    width = max((len(check.title) for check in checks), default=0)
    colours = {"good": "sound", "fault": "fault", "risk": "risk"}
    for check in checks:
        text = f"{_MARKS[check.state]} {check.title.ljust(width)}  {check.state.ljust(10)}  {check.summary}"
        shown = text if len(text) <= _width() else text[: _width() - 1] + "…"
        output.line(output.paint(shown, colours.get(check.state, "dim")))
    if checks:
        output.line()


def _show_tree(output: Output, result: Audit) -> None:
    spf = result.spf
    if spf is None:
        return
    more = "at least " if spf.truncated else ""
    six = f" and {_power(spf.ipv6_addresses)} IPv6 addresses" if spf.ipv6_addresses else ""
    output.line()
    output.line(f"SPF uses {more}{spf.lookups} of {spf.limit} DNS lookups; "
                f"{spf.ipv4_addresses:,} IPv4 addresses{six} are authorised")  # fmt: skip
    if spf.own_networks:
        output.line(f"    own networks  {_networks(spf.own_networks)}")
    for index, node in enumerate(spf.nodes):
        _show_node(output, node, "    ", last=index == len(spf.nodes) - 1)


def _show_node(output: Output, node: LookupNode, lead: str, *, last: bool) -> None:
    detail = f": {node.detail}" if node.detail else ""
    problem = f"  {node.problem.replace('_', ' ')}{detail}" if node.problem else ""
    networks = f"  {_networks(node.networks)}" if node.networks else ""
    text = f"{lead}{'└─' if last else '├─'} {node.term}  {node.cost}{networks}"
    output.line(text + output.paint(problem, "fault" if node.problem not in ("not_held", "failed") else "risk"))
    for index, child in enumerate(node.children):
        _show_node(output, child, lead + ("   " if last else "│  "), last=index == len(node.children) - 1)


def _networks(networks: list[str]) -> str:
    shown = " ".join(networks[:_SHOWN_NETWORKS])
    left = len(networks) - _SHOWN_NETWORKS
    return f"{shown} and {left} more" if left > 0 else shown


def _power(number: int) -> str:
    return f"{number:,}" if number < 2**32 else f"2^{number.bit_length() - 1}"


def _show_policy(output: Output, result: Audit) -> None:
    """What holds for names below the domain, where a policy does."""
    found = result.dmarc
    if found is None or found.by_list.for_subdomains is None:
        return
    below, absent = found.by_list.for_subdomains, found.by_list.for_absent
    output.line()
    output.line(
        f"DMARC of {found.by_list.organisation}: {below} for its subdomains, {absent} for names that do not exist"
    )
    for difference in found.differences:
        output.line(output.paint(f"    {difference}", "dim"))


def _show_streams(output: Output, streams: list[StreamResult]) -> None:
    for stream in streams:
        output.line()
        result = stream.by_list
        colour = "sound" if result.result == "pass" else "fault" if result.result == "fail" else "dim"
        head = f"stream {stream.name}" + (f" over {stream.relay}" if stream.relay else "")
        output.line(f"{head}: " + output.paint(f"DMARC {result.result}, {result.disposition}", colour))
        if stream.verified is False:
            output.line(
                output.paint(
                    f"    {stream.header_from} is not verified: rustgauge proof start {stream.header_from}", "risk"
                )
            )
        for identity in result.aligned:
            said = (
                "aligns" if identity.counts else "aligns, but does not pass" if identity.relaxed else "does not align"
            )
            output.line(f"    {identity.kind.upper():4}  {identity.domain}  {said} ({identity.mode})")
        if stream.by_walk.result != result.result:
            output.line(f"    by the tree walk: DMARC {stream.by_walk.result}, {stream.by_walk.reason}")


def _show_finding(output: Output, result: Audit, finding: Finding) -> None:
    output.line(output.paint(f"{finding.level.upper():5}  {finding.title}", finding.level))
    marked = _marked(result, finding)
    if marked:
        for line in marked:
            output.line(f"       {line}")
    if not marked or len(finding.evidence) > 1:
        for text in finding.evidence[:12]:
            output.line(f"       | {text}")
    for text in (finding.reason, finding.remedy):
        output.line(textwrap.indent(textwrap.fill(text, _width() - 7), "       "))
    if finding.record:
        output.line(output.paint("       Publish:", "dim"))
        output.line(f"       {finding.record}")
    if finding.mail is not None and finding.mail:
        output.line(output.paint(f"       affects {plural(finding.mail, 'message')} of the last 7 days", "dim"))
    output.line(output.paint(f"       {finding.reference}, {finding.rule}", "dim"))


def _marked(result: Audit, finding: Finding) -> list[str]:
    """The piece of the record around the wrong characters, and carets below them."""
    place = finding.place
    values = next((r.values for r in result.records if (r.name, r.rdtype) == (place.name, place.rdtype)), [])
    if not place.column or place.record >= len(values):
        return []
    text, start = values[place.record], place.column - 1
    window = min(_WINDOW, (_width() - 10) // 3)
    first = max(0, start - window)
    length = min(place.length, len(text) - start, window)
    end = start + length + window
    piece = text[first:end]
    lead = "…" if first else ""
    tail = "…" if end < len(text) else ""
    return [lead + piece + tail, " " * (len(lead) + start - first) + "^" * max(1, length) + f" column {place.column}"]


def _width() -> int:
    return max(50, min(110, shutil.get_terminal_size().columns))


def show_comparison(output: Output, domain: str, done: AuditComparison) -> None:
    """Two audits: records that changed, findings that appeared or went."""
    output.line(f"{output.paint(domain, 'bold')}  audit {done.before.id} ({done.before.finished_at:%Y-%m-%d %H:%M}) "
                f"and audit {done.after.id} ({done.after.finished_at:%Y-%m-%d %H:%M})")  # fmt: skip
    for change in done.records:
        output.line(f"\n{change.name} {change.rdtype}")
        for value in change.before:
            output.line(output.paint(f"  - {value}", "fault"))
        for value in change.after:
            output.line(output.paint(f"  + {value}", "sound"))
    for title, findings in (("New findings", done.appeared), ("Resolved findings", done.gone)):
        if findings:
            output.line(f"\n{title}")
            for finding in findings:
                output.line(f"  {finding.level.upper():5}  {finding.title}")
    if not (done.records or done.appeared or done.gone):
        output.line("No changes.")
