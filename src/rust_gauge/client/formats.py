"""Audits in the formats that pipelines read: SARIF 2.1.0, JUnit XML, CSV and lines of JSON."""

import json
from collections.abc import Mapping, Sequence
from xml.sax.saxutils import escape, quoteattr

from rust_gauge import __version__
from rust_gauge.contract.audits import Audit, Finding

Lines = Mapping[tuple[str, str], tuple[str, int, str]]  # (name, type) -> file, line, text of the line
RANK = {"fault": 0, "risk": 1, "note": 2}
_SARIF_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
SARIF_LEVEL = {"fault": "error", "risk": "warning", "note": "note"}
COLUMNS = ("domain", "level", "rule", "name", "type", "column", "length", "title", "reason", "remedy", "record",
           "reference", "id")  # fmt: skip


def rows(audits: Sequence[Audit]) -> list[tuple[object, ...]]:
    """Return a row for each finding, for tables."""
    return [
        (audit.domain, f.level, f.rule, f.place.name, f.place.rdtype, f.place.column or None, f.place.length or None,
         f.title, f.reason, f.remedy, f.record, f.reference, f.id)
        for audit in audits
        for f in audit.findings
    ]  # fmt: skip


def sarif(audits: Sequence[Audit], lines: Lines) -> str:
    """Return SARIF 2.1.0 (OASIS): one run, a result a finding; the file and line where they are known."""
    found = [(audit, finding) for audit in audits for finding in audit.findings]
    rules = {finding.rule: finding for _, finding in found}
    order = sorted(rules)
    described = [(rule, rules[rule].reason, f"{rules[rule].remedy} ({rules[rule].reference})") for rule in order]
    results = [_sarif_result(audit, finding, order, lines) for audit, finding in found]
    return sarif_run(described, results, {"columnKind": "unicodeCodePoints"})


def sarif_run(
    rules: Sequence[tuple[str, str, str]], results: Sequence[Mapping[str, object]], more: Mapping[str, object]
) -> str:
    """Return a document of one run. `rules` are id, description and help; `more` are other members of the run."""
    described = [
        {
            "id": rule,
            "shortDescription": {"text": rule.replace("-", " ")},
            "fullDescription": {"text": description},
            "help": {"text": help},
        }
        for rule, description, help in rules
    ]
    driver = {"name": "Rust Gauge", "version": __version__, "rules": described}
    run = {"tool": {"driver": driver}, **more, "results": results}
    return json.dumps({"$schema": _SARIF_SCHEMA, "version": "2.1.0", "runs": [run]}, indent=2, ensure_ascii=False)


def _sarif_result(audit: Audit, finding: Finding, order: list[str], lines: Lines) -> dict[str, object]:
    place = finding.place
    location: dict[str, object] = {
        "logicalLocations": [{"fullyQualifiedName": f"{place.name} {place.rdtype}", "kind": "resource"}]
    }
    at = lines.get((place.name, place.rdtype)) or lines.get((audit.domain, "SOA"))
    if at is not None:
        region = {"startLine": at[1], "startColumn": len(at[2]) - len(at[2].lstrip()) + 1}
        columns = _columns(at[2], _value_at(audit, finding))
        if 0 < place.column <= len(columns):  # the value is on this line: point into it
            last = min(place.column + max(1, place.length), len(columns) + 1) - 2
            region |= {"startColumn": columns[place.column - 1], "endColumn": columns[last] + 1}
        location["physicalLocation"] = {"artifactLocation": {"uri": at[0]}, "region": region}
    return {
        "ruleId": finding.rule,
        "ruleIndex": order.index(finding.rule),
        "level": SARIF_LEVEL[finding.level],
        "message": {"text": f"{finding.title}. {finding.remedy}"},
        "locations": [location],
        "partialFingerprints": {"finding/v1": finding.id},
        "properties": {
            "domain": audit.domain,
            "column": place.column,
            "length": place.length,
            "publish": finding.record,
            "evidence": finding.evidence,
        },
    }


def _value_at(audit: Audit, finding: Finding) -> str:
    """Return the published value that a finding points into; empty if it is not among the records."""
    place = finding.place
    values = next((r.values for r in audit.records if (r.name, r.rdtype) == (place.name, place.rdtype)), [])
    return values[place.record] if place.record < len(values) else ""


def _columns(line: str, value: str) -> list[int]:
    """Return the column of each character of a value in its line of a zone file; empty if it is not on this line.

    Between the characters of a value there may be quotes, the blanks between strings, and backslashes.
    """
    start = line.find(value[:8]) if value else -1
    columns: list[int] = []
    at = start
    for char in value if start >= 0 else "":
        while at < len(line) and line[at] != char and line[at] in '" \\':
            at += 1
        if at >= len(line) or line[at] != char:
            return []
        columns.append(at + 1)
        at += 1
    return columns


def junit(audits: Sequence[Audit], fail_on: str) -> str:
    """JUnit XML: a suite a domain, a case a point of the check-list, failed from the level asked about on."""
    limit = RANK.get(fail_on, -1)
    out = ['<?xml version="1.0" encoding="UTF-8"?>', "<testsuites>"]
    for audit in audits:
        cases: list[str] = []
        failures = 0
        for check in audit.checks:
            found = [f for f in audit.findings if f.check == check.key]
            bad = [f for f in found if RANK[f.level] <= limit]
            failures += bool(bad)
            cases.append(f"    <testcase classname={quoteattr(audit.domain)} name={quoteattr(check.title)}>")
            if bad:
                cases.append(
                    f"      <failure type={quoteattr(bad[0].rule)} message={quoteattr(xml_text(bad[0].title))}>"
                )
                cases.append(escape(xml_text("\n\n".join(_words(f) for f in bad))))
                cases.append("      </failure>")
            elif check.state == "unmeasured":
                cases.append(f"      <skipped message={quoteattr(xml_text(check.summary))}/>")
            rest = [f for f in found if f not in bad]
            if rest:
                cases.append(
                    f"      <system-out>{escape(xml_text(chr(10).join(_words(f) for f in rest)))}</system-out>"
                )
            cases.append("    </testcase>")
        skipped = sum("<skipped" in line for line in cases)
        out.append(
            f'  <testsuite name={quoteattr(audit.domain)} tests="{len(audit.checks)}" failures="{failures}" errors="0"'
            f' skipped="{skipped}" timestamp="{audit.finished_at:%Y-%m-%dT%H:%M:%S}">'
        )
        out += [*cases, "  </testsuite>"]
    return "\n".join([*out, "</testsuites>"])


def _words(finding: Finding) -> str:
    publish = f"\nPublish at {finding.place.name}: {finding.record}" if finding.record else ""
    column = f", column {finding.place.column}" if finding.place.column else ""
    where = f"{finding.place.name} {finding.place.rdtype}{column}"
    return (
        f"{finding.level}: {finding.title}\n{where}\n{finding.reason}\n{finding.remedy}{publish}\n{finding.reference}"
    )


def xml_text(text: str) -> str:
    """Without the characters that XML cannot hold (XML 1.0 §2.2)."""
    return "".join(char if _holds(char) else "?" for char in text)


def _holds(char: str) -> bool:
    return char in "\t\n\r" or (char >= " " and not "\ud800" <= char <= "\udfff" and char not in "\ufffe\uffff")
