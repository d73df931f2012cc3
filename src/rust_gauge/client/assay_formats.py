"""Assays in the formats that pipelines read: SARIF 2.1.0, JUnit XML and CSV."""

from collections.abc import Sequence
from xml.sax.saxutils import escape, quoteattr

from rust_gauge.client.formats import RANK, SARIF_LEVEL, sarif_run, xml_text
from rust_gauge.contract.assays import Assay, AssayFinding, AssayPlace

__all__ = ["COLUMNS", "RANK", "junit", "place_text", "rows", "sarif"]

COLUMNS = ("rule", "group", "level", "points", "count", "title", "place", "effect", "remedy", "reference")
_MOST_LOCATIONS = 10  # of one finding


def rows(assay: Assay) -> list[tuple[object, ...]]:
    """Return a row for each finding, for tables."""
    return [
        (f.rule, f.group, f.level, f.points, f.count, f.title, place_text(f.places[0]) if f.places else "", f.effect,
         f.remedy, f.reference)
        for f in assay.findings
    ]  # fmt: skip


def place_text(place: AssayPlace) -> str:
    """Return where something was seen, in words; empty for the message as a whole."""
    name = {"header": place.name, "part": f"part {place.name}", "sending": "sending"}.get(place.where, "")
    at = f"line {place.line}, column {place.column}" if place.column else f"line {place.line}" if place.line else ""
    return ", ".join(text for text in (name, at) if text)


def sarif(assays: Sequence[tuple[str, Assay]]) -> str:
    """Return SARIF 2.1.0 (OASIS) of assays by file name: one run, a result for each finding of each message.

    Places are logical, as parts are encoded.
    """
    described = {f.rule: (f.rule, f.effect, f.remedy) for _, assay in assays for f in assay.findings}
    order = list(described)
    properties = [
        {"file": file, "mark": assay.mark, "rulesDated": assay.rules_dated, "notChecked": assay.not_checked}
        for file, assay in assays
    ]
    results = [_result(finding, order, file) for file, assay in assays for finding in assay.findings]
    return sarif_run(list(described.values()), results, {"properties": {"messages": properties}})


def _result(finding: AssayFinding, order: list[str], file: str) -> dict[str, object]:
    return {
        "ruleId": finding.rule,
        "ruleIndex": order.index(finding.rule),
        "level": SARIF_LEVEL[finding.level],
        "message": {"text": f"{finding.title}. {finding.remedy}"},
        "locations": [_location(place, file) for place in finding.places[:_MOST_LOCATIONS]],
        "partialFingerprints": {"finding/v1": f"{file}:{finding.rule}"},
        "properties": {"points": finding.points, "group": finding.group, "count": finding.count},
    }


def _location(place: AssayPlace, file: str) -> dict[str, object]:
    logical = {"fullyQualifiedName": place_text(place) or "message", "kind": "element"}
    return {
        "physicalLocation": {"artifactLocation": {"uri": file}},
        "logicalLocations": [logical],
        "message": {"text": place.text or place_text(place) or "the message"},
    }


def junit(assay: Assay, file: str, fail_on: str) -> str:
    """Return JUnit XML: a suite for the message, a case for each group, failed from the level asked about on."""
    limit = RANK.get(fail_on, -1)
    groups = ("authentication", "headers", "sender", "links", "structure", "content", "agreement", "own")
    cases: list[str] = []
    failures = 0
    for group in groups:
        found = [finding for finding in assay.findings if finding.group == group]
        bad = [finding for finding in found if RANK[finding.level] <= limit]
        failures += bool(bad)
        cases.append(f"    <testcase classname={quoteattr(xml_text(file))} name={quoteattr(group)}>")
        if bad:
            first = f"<failure type={quoteattr(bad[0].rule)} message={quoteattr(xml_text(bad[0].title))}>"
            cases += [f"      {first}", escape(xml_text("\n\n".join(_words(f) for f in bad))), "      </failure>"]
        if rest := [finding for finding in found if finding not in bad]:
            cases.append(f"      <system-out>{escape(xml_text(chr(10).join(_words(f) for f in rest)))}</system-out>")
        cases.append("    </testcase>")
    suite = f'  <testsuite name={quoteattr(xml_text(file))} tests="{len(groups)}" failures="{failures}" errors="0">'
    return "\n".join(
        ['<?xml version="1.0" encoding="UTF-8"?>', "<testsuites>", suite, *cases, "  </testsuite>", "</testsuites>"]
    )


def _words(finding: AssayFinding) -> str:
    places = "\n".join(f"{place_text(place)}: {place.text}".strip(": ") for place in finding.places[:_MOST_LOCATIONS])
    return (
        f"{finding.level}: {finding.title}\n{places}\n{finding.effect}\n{finding.remedy}\n{finding.reference}".strip()
    )
