"""`rustgauge audit`: what a domain publishes and what is wrong with it, readable in a terminal."""

import shutil
import textwrap

from rust_gauge.cli.output import Output, plural
from rust_gauge.cli.session import Session
from rust_gauge.contract.audits import Audit, Finding

_RANK = {"fault": 0, "risk": 1, "note": 2}
_NOTHING = {"no_name": "nothing is published (no such name)", "no_data": "nothing is published (no such record)"}
_WINDOW = 30  # characters shown on each side of a marked place in a long record


def audit(session: Session) -> int:
    """Exit status 3 when there is a finding of the level asked about or worse."""
    arguments = session.arguments
    tenant = session.tenant(arguments.domain)
    client = session.client.audits
    result = client.newest(tenant, arguments.domain) if arguments.last else client.run(tenant, arguments.domain)
    if arguments.format == "json":
        session.output.json(result)
    elif arguments.format == "text":
        show(session.output, result)
    else:
        rows = [(f.level, f.rule, f.place.name, f.place.column or None, f.title, f.remedy, f.record, f.reference)
                for f in result.findings]  # fmt: skip
        columns = ("level", "rule", "name", "column", "title", "remedy", "record", "reference")
        session.output.table(arguments.format, columns, rows)
    if arguments.fail_on == "never":
        return 0
    return 3 if any(_RANK[finding.level] <= _RANK[arguments.fail_on] for finding in result.findings) else 0


def show(output: Output, result: Audit) -> None:
    counted = ((result.faults, "fault"), (result.risks, "risk"), (result.notes, "note"))
    counts = ", ".join(plural(n, word) for n, word in counted)
    output.line(f"{output.paint(result.domain, 'bold')}  {counts}  ({result.finished_at:%Y-%m-%d %H:%M} UTC)")
    output.line()
    for record in result.records:
        output.line(output.paint(f"{record.name} {record.rdtype}", "dim"))
        if not record.values:
            output.line(f"    {_NOTHING.get(record.status, record.status)}")
        for value in record.values:
            for line in textwrap.wrap(value, _width() - 4, break_on_hyphens=False, drop_whitespace=False):
                output.line(f"    {line}")
    if result.spf_lookups is not None:
        output.line(output.paint(f"SPF costs {result.spf_lookups} of 10 DNS look-ups", "dim"))
    for finding in result.findings:
        output.line()
        _show_finding(output, result, finding)
    if not result.findings:
        output.line()
        output.line(output.paint("Nothing wrong was found.", "sound"))


def _show_finding(output: Output, result: Audit, finding: Finding) -> None:
    output.line(output.paint(f"{finding.level.upper():5}  {finding.title}", finding.level))
    marked = _marked(result, finding)
    if marked:
        for line in marked:
            output.line(f"       {line}")
    else:
        for text in finding.evidence:
            output.line(f"       | {text}")
    for text in (finding.reason, finding.remedy):
        output.line(textwrap.indent(textwrap.fill(text, _width() - 7), "       "))
    if finding.record:
        output.line(output.paint("       Publish:", "dim"))
        output.line(f"       {finding.record}")
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
