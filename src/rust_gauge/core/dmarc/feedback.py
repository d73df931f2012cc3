"""Aggregate reports (RFC 7489 §7.2 and Appendix C; DMARCbis keeps the format): what receivers say they saw.

`unpack` gets the XML out of what arrives (XML, gzip, zip, or the mail that carried it), `read_report` reads it. Senders
of reports are strangers: sizes are bounded, document types and entities are refused, and rows that make no sense are
left out and counted, so that the rest is not lost.
"""

import gzip
import io
import zipfile
import zlib
from dataclasses import dataclass, field
from email import message_from_bytes
from ipaddress import ip_address
from xml.parsers import expat

from rust_gauge.core.errors import InputError

MAX_UNPACKED = 20 * 1024 * 1024  # octets of XML
_MAX_ROWS = 100_000  # a large receiver sends some thousands; the rest are counted and reported
_MAX_PARTS = 50  # of MIME, in a report mail
_MAX_DEPTH = 20  # of XML elements; RFC 7489 Appendix C nests six deep
_MAX_ELEMENTS = 2000  # in one record, and outside of them
_SEND_AGAIN = "Send the report unchanged: XML, .xml.gz, .zip, or the whole message"


class ReportError(InputError):
    """What was handed in is no aggregate report."""


@dataclass(frozen=True, slots=True)
class SignatureSeen:
    """A DKIM signature as the receiver judged it. `selector` is empty where the report leaves it out."""

    domain: str
    selector: str
    result: str


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


@dataclass(frozen=True, slots=True)
class AggregateReport:
    """One report. `begin` and `end` are Unix seconds; `left_out` counts rows that could not be read."""

    reporter: str
    report_id: str
    domain: str
    begin: int
    end: int
    rows: tuple[ReportRow, ...]
    left_out: int = 0


def unpack(octets: bytes) -> bytes:
    """Return the XML in a file or message. ReportError when there is none, or more than MAX_UNPACKED of it."""
    if octets.startswith(b"\x1f\x8b"):
        return _gunzip(octets)
    if octets.startswith(b"PK\x03\x04"):
        return _unzip(octets)
    if octets.removeprefix(b"\xef\xbb\xbf").lstrip().startswith(b"<"):
        return octets
    for count, part in enumerate(message_from_bytes(octets).walk()):
        if count > _MAX_PARTS:
            break
        if part.is_multipart():
            continue
        content = part.get_payload(decode=True)
        if isinstance(content, bytes) and (
            content.startswith((b"\x1f\x8b", b"PK\x03\x04")) or content.lstrip().startswith(b"<?xml")
        ):
            return unpack(content)
    raise ReportError("No aggregate report found", remedy=_SEND_AGAIN)


def _gunzip(octets: bytes) -> bytes:
    try:
        with gzip.GzipFile(fileobj=io.BytesIO(octets)) as packed:
            return _within(packed.read(MAX_UNPACKED + 1))
    except (OSError, EOFError, zlib.error) as error:
        raise ReportError(
            "The gzip file is damaged", why=str(error)[:200], remedy="Download the report again"
        ) from None


def _unzip(octets: bytes) -> bytes:
    try:
        with zipfile.ZipFile(io.BytesIO(octets)) as packed:
            inside_it = sorted(packed.namelist(), key=lambda name: not name.lower().endswith(".xml"))
            if not inside_it:
                raise ReportError("The zip file is empty", remedy=_SEND_AGAIN)
            with packed.open(inside_it[0]) as inside:
                return _within(inside.read(MAX_UNPACKED + 1))
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, RuntimeError, NotImplementedError, ValueError) as error:
        raise ReportError("The zip file is damaged", why=str(error)[:200], remedy="Download the report again") from None


def _within(octets: bytes) -> bytes:
    if len(octets) > MAX_UNPACKED:
        raise ReportError(
            f"The report is larger than {MAX_UNPACKED // 1024 // 1024} MB when unpacked",
            remedy="Skip it: no receiver sends reports of that size",
        )
    return octets


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


def read_report(xml: bytes) -> AggregateReport:
    """Read a report. ReportError if it is not XML or not an aggregate report."""
    reader = _Reader()
    root = reader.read(_within(xml))
    if root.name != "feedback":
        raise ReportError(
            f"Not an aggregate report: its root is <{root.name[:40]}>, not <feedback>", remedy=_SEND_AGAIN
        )
    return AggregateReport(
        root.value("report_metadata", "org_name")[:200],
        root.value("report_metadata", "report_id")[:255],
        _name(root.value("policy_published", "domain")),
        _number(root.value("report_metadata", "date_range", "begin")) or 0,
        _number(root.value("report_metadata", "date_range", "end")) or 0,
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
            raise ReportError("The XML is malformed", why=str(error)[:200], remedy=_SEND_AGAIN) from None
        return top.children[0]

    def _start(self, name: str, _: object) -> None:
        self._elements += 1
        if len(self._open) > _MAX_DEPTH or self._elements > _MAX_ELEMENTS:
            raise ReportError("One record of this XML is larger than any aggregate report", remedy=_SEND_AGAIN)
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
    )


def _name(text: str) -> str:
    return text.strip().rstrip(".").lower()[:253]


def _number(text: str) -> int | None:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 16 else None
