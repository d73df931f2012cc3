"""Aggregate reports (RFC 7489 §7.2 and Appendix C; DMARCbis keeps the format): what receivers say they saw.

Senders of reports are strangers: document types and entities are refused, and rows that make no sense are left out and
counted, so that the rest is not lost.
"""

from dataclasses import dataclass, field
from ipaddress import ip_address
from xml.parsers import expat

from rust_gauge.core.reports.unpacking import SEND_AGAIN, ReportError, within

_MAX_ROWS = 100_000  # a large receiver sends some thousands; the rest are counted and reported
_MAX_DEPTH = 20  # of XML elements; RFC 7489 Appendix C nests six deep
_MAX_ELEMENTS = 2000  # in one record, and outside of them


@dataclass(frozen=True, slots=True)
class SignatureSeen:
    """A DKIM signature as the receiver judged it. `selector` is empty where the report leaves it out."""

    domain: str
    selector: str
    result: str


@dataclass(frozen=True, slots=True)
class OverrideReason:
    """Why a receiver did not apply the policy: `kind` such as mailing_list or local_policy, and its own words."""

    kind: str
    comment: str


@dataclass(frozen=True, slots=True)
class PublishedPolicy:
    """The record as the receiver found it. Tags that the report leaves out are empty."""

    p: str
    sp: str
    np: str
    adkim: str
    aspf: str
    pct: str
    fo: str
    testing: str
    discovery: str


@dataclass(frozen=True, slots=True)
class ReportRow:
    """Messages of one source that fared alike. `dkim` and `spf` say whether each aligned and passed."""

    source_ip: str
    count: int
    disposition: str
    dkim: bool
    spf: bool
    header_from: str
    envelope_from: str
    signatures: tuple[SignatureSeen, ...]
    spf_domain: str
    spf_result: str
    reasons: tuple[OverrideReason, ...] = ()


@dataclass(frozen=True, slots=True)
class AggregateReport:
    """One report. `begin` and `end` are Unix seconds; `left_out` counts rows that could not be read."""

    reporter: str
    report_id: str
    domain: str
    begin: int
    end: int
    policy: PublishedPolicy
    rows: tuple[ReportRow, ...]
    left_out: int = 0


@dataclass(slots=True)
class _Element:
    """An element without its namespace: the two versions of the format differ in nothing else that is read."""

    name: str
    text: str = ""
    children: "list[_Element]" = field(default_factory=list)

    def all(self, name: str) -> "list[_Element]":
        return [child for child in self.children if child.name == name]

    def at(self, *path: str) -> "_Element":
        here = self
        for name in path:
            here = next(iter(here.all(name)), _Element(name))
        return here

    def value(self, *path: str) -> str:
        return self.at(*path).text.strip()


def read_aggregate_report(xml: bytes) -> AggregateReport:
    """Read a report. ReportError if it is not XML or not an aggregate report."""
    reader = _Reader()
    root = reader.read(within(xml))
    if root.name != "feedback":
        raise ReportError(f"Not an aggregate report: its root is <{root.name[:40]}>, not <feedback>", remedy=SEND_AGAIN)
    return AggregateReport(
        root.value("report_metadata", "org_name")[:200],
        root.value("report_metadata", "report_id")[:255],
        _name(root.value("policy_published", "domain")),
        _number(root.value("report_metadata", "date_range", "begin")) or 0,
        _number(root.value("report_metadata", "date_range", "end")) or 0,
        _policy(root.at("policy_published")),
        tuple(reader.rows),
        reader.left_out,
    )


class _Reader:
    """Takes each record out of the tree as soon as it is whole, so that a large report needs little memory."""

    def __init__(self) -> None:
        self.rows: list[ReportRow] = []
        self.left_out = 0
        self._open = [_Element("")]
        self._elements = 0

    def read(self, xml: bytes) -> _Element:
        parser = expat.ParserCreate(namespace_separator="}")
        parser.buffer_text = True
        parser.StartElementHandler, parser.EndElementHandler = self._start, self._end
        parser.CharacterDataHandler = self._text
        parser.StartDoctypeDeclHandler = parser.EntityDeclHandler = _refuse
        top = self._open[0]
        try:
            parser.Parse(xml, True)
        except (expat.ExpatError, ValueError, LookupError) as error:
            raise ReportError("The XML is malformed", why=str(error)[:200], remedy=SEND_AGAIN) from None
        return top.children[0]

    def _start(self, name: str, _: object) -> None:
        self._elements += 1
        if len(self._open) > _MAX_DEPTH or self._elements > _MAX_ELEMENTS:
            raise ReportError("One record of this XML is larger than any aggregate report", remedy=SEND_AGAIN)
        element = _Element(name.rpartition("}")[2])
        self._open[-1].children.append(element)
        self._open.append(element)

    def _end(self, _: str) -> None:
        element = self._open.pop()
        if element.name == "record" and len(self._open) == 2:
            self._open[-1].children.pop()
            self._elements = 0
            row = _row(element) if len(self.rows) < _MAX_ROWS else None
            self.rows += [row] if row else []
            self.left_out += row is None

    def _text(self, data: str) -> None:
        here = self._open[-1]
        here.text += data[: 1000 - len(here.text)] if len(here.text) < 1000 else ""


def _refuse(*_: object) -> None:
    raise ReportError(
        "The XML declares a document type or entities",
        why="aggregate reports do not, and entities can be used for attacks",
        remedy="Skip it",
    )


def _row(record: _Element) -> ReportRow | None:
    count = _number(record.value("row", "count"))
    try:
        source = ip_address(record.value("row", "source_ip"))
    except ValueError:
        return None
    if not count:
        return None
    evaluated = record.at("row", "policy_evaluated")
    spf = record.at("auth_results", "spf")
    signatures = tuple(
        SignatureSeen(
            _name(element.value("domain")), element.value("selector")[:63].lower(), element.value("result").lower()[:20]
        )
        for element in record.at("auth_results").all("dkim")[:100]
    )
    return ReportRow(
        str(source),
        count,
        evaluated.value("disposition").lower()[:20],
        evaluated.value("dkim").lower() == "pass",
        evaluated.value("spf").lower() == "pass",
        _name(record.value("identifiers", "header_from")),
        _name(record.value("identifiers", "envelope_from")),
        signatures,
        _name(spf.value("domain")),
        spf.value("result").lower()[:20],
        tuple(
            OverrideReason(reason.value("type").lower()[:40], reason.value("comment")[:200])
            for reason in evaluated.all("reason")[:20]
        ),
    )


def _policy(element: _Element) -> PublishedPolicy:
    names = ("p", "sp", "np", "adkim", "aspf", "pct", "fo", "testing", "discovery_method")
    return PublishedPolicy(*(element.value(name).lower()[:20] for name in names))


def _name(text: str) -> str:
    return text.strip().rstrip(".").lower()[:253]


def _number(text: str) -> int | None:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 16 else None
