"""Aggregate reports (RFC 7489 §7.2 and Appendix C, and the successor's form of them): what receivers say they saw.

Senders of reports are strangers: document types and entities are refused, a record that makes no sense is left out and
counted, and what receivers commonly get wrong is understood and listed in `oddities`. A document is read in pieces and
its records are given away as they come, so that one of any size needs little memory.
"""

import codecs
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import lru_cache
from ipaddress import IPv6Address, ip_address
from itertools import chain
from xml.parsers import expat

from rust_gauge.core.names import a_labels, registered_domain
from rust_gauge.core.reports.unpacking import SEND_AGAIN, ReportError, in_pieces

MAX_ROWS = 1_000_000  # a large receiver sends some thousands
_MAX_READ = 100_000  # rows of a report that is read as a whole
_MAX_DEPTH = 20  # of XML elements; RFC 7489 Appendix C nests six deep
_MAX_ELEMENTS = 2000  # in one record, and outside of them
_MAX_BETWEEN = 1024 * 1024  # octets without a record: nothing else in a report is that long
_MAX_DOCUMENT = 2 * 1024**3  # octets of XML
_FIRST_REPORTS = 1_325_376_000  # 2012-01-01; an earlier date is a mistake
_LATEST = 4_102_444_800  # 2100-01-01; a later one is in milliseconds, or a mistake


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
    """Messages of one source that fared alike. `dkim` and `spf` say whether each aligned and passed; `helo_domain` is
    the HELO name with the result of SPF for it, which few receivers report.
    """

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
    helo_domain: str = ""
    helo_result: str = ""


@dataclass(frozen=True, slots=True)
class AggregateReport:
    """One report. `begin` and `end` are Unix seconds, 0 where the report has no usable date; `left_out` counts records
    that could not be read; `oddities` are mistakes of its sender that were understood.
    """

    reporter: str
    report_id: str
    domain: str
    begin: int
    end: int
    policy: PublishedPolicy
    rows: tuple[ReportRow, ...]
    left_out: int = 0
    contact: str = ""
    records: int = 0
    oddities: tuple[str, ...] = ()


class _Element:
    """An element without its namespace: versions of the format differ in little else, and senders get it wrong.

    Half a million records have ten million of them: this is written for speed.
    """

    __slots__ = ("children", "name", "text")

    def __init__(self, name: str) -> None:
        self.name, self.text = name, ""
        self.children: list[_Element] = []

    def all(self, name: str) -> "list[_Element]":
        return [child for child in self.children if child.name == name]

    def at(self, *path: str) -> "_Element":
        here = self
        for name in path:
            for child in here.children:
                if child.name == name:
                    here = child
                    break
            else:
                return _NOTHING
        return here

    def value(self, *path: str) -> str:
        return self.at(*path).text.strip()


_NOTHING = _Element("")
"""Stands for an element that is missing; nothing is ever put into it."""


def read_aggregate_report(xml: bytes) -> AggregateReport:
    """Read a report as a whole, of its records the first 100,000. ReportError if it is not XML, or not a report."""
    rows: list[ReportRow] = []

    def keep(row: ReportRow) -> None:
        if len(rows) < _MAX_READ:
            rows.append(row)

    found = stream_aggregate_report(in_pieces(xml), keep)
    more = found.records - found.left_out - len(rows)
    return AggregateReport(
        found.reporter, found.report_id, found.domain, found.begin, found.end, found.policy, tuple(rows),
        found.left_out + more, found.contact, found.records, found.oddities,
    )  # fmt: skip


def stream_aggregate_report(document: Iterable[bytes], take: Callable[[ReportRow], None]) -> AggregateReport:
    """Read a report from its pieces, giving each record to `take` as it is met; the answer is without rows.

    ReportError if it is not XML or not an aggregate report; records before the error were given away.
    """
    return _Reader(take).read(document)


class _Reader:
    """Takes each record out of the tree as soon as it is whole, so that a large report needs little memory."""

    def __init__(self, take: Callable[[ReportRow], None]) -> None:
        self._take = take
        self._oddities: dict[str, None] = {}
        self._open = [_Element("")]
        self._elements = self._records = self._left_out = 0
        self._octets = self._octets_at_record = 0
        self._policy_domain = ""

    def read(self, document: Iterable[bytes]) -> AggregateReport:
        pieces = iter(document)
        first = next(pieces, b"")
        # The mark at the beginning says how it is encoded; what the declaration says may be left from a template.
        parser = expat.ParserCreate("utf-16" if first.startswith(_UTF16_MARKS) else None)
        parser.buffer_text = True
        parser.StartElementHandler, parser.EndElementHandler = self._start, self._end
        parser.CharacterDataHandler = self._text
        parser.StartDoctypeDeclHandler = parser.EntityDeclHandler = _refuse
        corrected = _corrected(chain([first], pieces), self._odd)
        piece = b""
        try:
            for piece in corrected:
                self._octets += len(piece)
                if self._octets - self._octets_at_record > _MAX_BETWEEN or self._octets > _MAX_DOCUMENT:
                    raise ReportError("This XML is larger than any aggregate report", remedy=SEND_AGAIN)
                parser.Parse(piece, False)
            parser.Parse(b"", True)
        except (expat.ExpatError, ValueError, LookupError) as error:
            after = piece[parser.ErrorByteIndex - (self._octets - len(piece)) :]
            if getattr(error, "code", 0) == _JUNK and not any(b"<" in each for each in chain([after], corrected)):
                self._odd("It has text after its end, which was ignored")
                return self._report(self._open[0].children[0])
            raise ReportError("The XML is malformed", why=str(error)[:200], remedy=SEND_AGAIN) from None
        return self._report(self._open[0].children[0])

    def _odd(self, what: str) -> None:
        if len(self._oddities) < 20:
            self._oddities[what] = None

    def _start(self, name: str, _: object) -> None:
        self._elements += 1
        if len(self._open) > _MAX_DEPTH or self._elements > _MAX_ELEMENTS:
            raise ReportError("One record of this XML is larger than any aggregate report", remedy=SEND_AGAIN)
        element = _Element(_plain_name(name))
        self._open[-1].children.append(element)
        self._open.append(element)

    def _end(self, _: str) -> None:
        element = self._open.pop()
        if element.name == "record" and len(self._open) == 2:
            self._open[-1].children.pop()
            self._elements, self._octets_at_record = 0, self._octets
            self._record(element)
        elif element.name == "policy_published" and len(self._open) == 2:
            self._policy_domain = self._policy_domain or _name(element.value("domain"))

    def _record(self, element: _Element) -> None:
        self._records += 1
        if self._records > MAX_ROWS:
            raise ReportError(f"The report has more than {MAX_ROWS:,} records", remedy=SEND_AGAIN)
        places = element.all("row")
        if len(places) > 1:
            self._odd("Records hold several rows; each counts")
            self._records += len(places) - 1
        for place in places or [_NOTHING]:
            row = _row(element, place, self._policy_domain, self._odd)
            if row is None:
                self._left_out += 1
                continue
            self._policy_domain = self._policy_domain or registered_domain(row.header_from)
            self._take(row)

    def _text(self, data: str) -> None:
        here = self._open[-1]
        here.text += data[: 1000 - len(here.text)] if len(here.text) < 1000 else ""

    def _report(self, root: _Element) -> AggregateReport:
        if root.name != "feedback":
            title = f"Not an aggregate report: its root is <{root.name[:40]}>, not <feedback>"
            raise ReportError(title, remedy=SEND_AGAIN)
        about = root.at("report_metadata")
        contact = about.value("email")[:320]
        policies = root.all("policy_published")
        if len(policies) > 1:
            self._odd("It lists several policies; the first that names a domain is used")
        policy = next((each for each in policies if _name(each.value("domain"))), root.at("policy_published"))
        if not policy.value("domain") and self._policy_domain:
            self._odd("It names no policy domain; that of its first record is used")
        reporter = about.value("org_name")[:200] or contact.rpartition("@")[2]
        if not about.value("org_name"):
            self._odd("It names no organisation")
        if not about.value("report_id"):
            self._odd("It has no report id")
        begin, end = self._period(about)
        return AggregateReport(
            reporter, about.value("report_id")[:255], _name(policy.value("domain")) or self._policy_domain, begin, end,
            _policy(policy), (), self._left_out, contact, self._records, tuple(self._oddities),
        )  # fmt: skip

    def _period(self, about: _Element) -> tuple[int, int]:
        """Return the period; 0 for what is not a date that reports can have."""
        begin, end = (self._seconds(about.value("date_range", name)) for name in ("begin", "end"))
        if begin and end and begin > end:
            self._odd("Its period ends before it begins; the two are swapped")
            begin, end = end, begin
        if not begin or not end:
            self._odd("It states no usable period")
            begin = end = begin or end
        return begin, end

    def _seconds(self, text: str) -> int:
        found = _number(text.partition(".")[0])
        if found is None and text:
            found = _date(text)
            if found > 0:
                self._odd("Its dates are text; they must be Unix seconds")
        elif found is not None and found > _LATEST and _FIRST_REPORTS <= found // 1000 <= _LATEST:
            self._odd("Its dates are in milliseconds; they must be in seconds")
            found //= 1000
        return found if found and _FIRST_REPORTS <= found <= _LATEST else 0


def _date(text: str) -> int:
    """Return a date that is written as text, as ISO 8601 or RFC 5322 have it, in Unix seconds; 0 if it is none."""
    iso = text.replace("/", "-").removesuffix("UTC").removesuffix("GMT").strip()
    ways: tuple[Callable[[], datetime], ...] = (
        lambda: datetime.fromisoformat(iso),
        lambda: parsedate_to_datetime(text),
    )
    for read in ways:
        try:
            time = read()
            return int((time if time.tzinfo else time.replace(tzinfo=UTC)).timestamp())
        except (ValueError, TypeError, IndexError, OverflowError):
            continue
    return 0


@lru_cache(maxsize=2000)
def _plain_name(name: str) -> str:
    """Return the name of an element without its prefix, in lower case."""
    return name.rpartition(":")[2].lower()


def _refuse(*_: object) -> None:
    raise ReportError(
        "The XML declares a document type or entities",
        why="aggregate reports do not, and entities can be used for attacks",
        remedy="Skip it",
    )


_JUNK = expat.errors.codes[expat.errors.XML_ERROR_JUNK_AFTER_DOC_ELEMENT]
_UTF16_MARKS = (b"\xff\xfe", b"\xfe\xff")
_DECLARED = re.compile(rb"""\A<\?xml[^>]{0,200}?encoding\s*=\s*["']([A-Za-z0-9._-]{1,40})["']""")
_OF_UTF8 = frozenset({b"utf-8", b"utf8", b"us-ascii", b"ascii"})
_CONTROL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")
_AMPERSAND = re.compile("&(?!(?:amp|lt|gt|quot|apos|#[0-9]{1,7}|#x[0-9A-Fa-f]{1,6});)")
_SECTIONS = {"<![CDATA[": "]]>", "<!--": "-->", "<?": "?>"}  # in which an ampersand stands for itself
_SECTION = re.compile("|".join(map(re.escape, _SECTIONS)))
_OPEN_REFERENCE = re.compile("&[#A-Za-z0-9]{0,8}\\Z")


def _corrected(document: Iterable[bytes], odd: Callable[[str], None]) -> Iterator[bytes]:
    """Yield a document with what senders of reports get wrong corrected: blanks before the declaration, octets that are
    not UTF-8, control characters, bare ampersands. In another encoding it is left as it is."""
    pieces = iter(document)
    first = next(pieces, b"").removeprefix(b"\xef\xbb\xbf").lstrip()
    declared = _DECLARED.match(first)
    if first.startswith(_UTF16_MARKS) or (declared and declared[1].lower() not in _OF_UTF8):
        yield first
        yield from pieces
        return
    decoder = codecs.getincrementaldecoder("utf-8")("surrogateescape")
    ampersands = _Ampersands()
    for piece, last in _with_last(first, pieces):
        decoded = decoder.decode(piece, last)
        text, plain = ampersands.correct(_CONTROL.sub("", decoded), last)
        octets = plain.encode("utf-8", "surrogateescape")
        try:
            octets.decode("utf-8")
        except UnicodeDecodeError:
            octets = plain.encode("utf-8", "replace")
            odd("It has octets that are not UTF-8")
        if plain != text or _CONTROL.search(decoded):
            odd("Its XML is malformed: ampersands or control characters; they were corrected")
        yield octets


class _Ampersands:
    """Escapes bare ampersands, other than in sections where they are allowed. Each character is looked at once."""

    def __init__(self) -> None:
        self._held = ""  # the end of the piece before, which may be part of a reference or of a marker
        self._end = ""  # the marker that ends the section that is open

    def correct(self, piece: str, last: bool) -> tuple[str, str]:
        """Return what can be passed on of the text so far, as it came and corrected."""
        text = self._held + piece
        out, at = [], 0
        while True:
            if self._end:
                stop = text.find(self._end, at)
                if stop < 0:
                    break
                stop += len(self._end)
                out.append(text[at:stop])
                at, self._end = stop, ""
            else:
                found = _SECTION.search(text, at)
                if found is None:
                    break
                out += [_AMPERSAND.sub("&amp;", text[at : found.start()]), found[0]]
                at, self._end = found.end(), _SECTIONS[found[0]]
        stop = len(text) if last else max(at, len(text) - self._open_end(text[max(at, len(text) - 12) :]))
        rest, self._held = text[at:stop], text[stop:]
        out.append(rest if self._end else _AMPERSAND.sub("&amp;", rest))
        return text[:stop], "".join(out)

    def _open_end(self, tail: str) -> int:
        """Return how many characters at the end of a text may go on in the next piece."""
        markers = (self._end,) if self._end else tuple(_SECTIONS)
        begun = (n for n in range(min(8, len(tail)), 0, -1) if any(each.startswith(tail[-n:]) for each in markers))
        reference = None if self._end else _OPEN_REFERENCE.search(tail)
        return max(next(begun, 0), len(tail) - reference.start() if reference else 0)


def _with_last(first: bytes, pieces: Iterator[bytes]) -> Iterator[tuple[bytes, bool]]:
    """Yield each piece with whether it is the last."""
    here = first
    for following in pieces:
        yield here, False
        here = following
    yield here, True


def _row(record: _Element, place: _Element, policy_domain: str, odd: Callable[[str], None]) -> ReportRow | None:
    """Return what a row of a record says, with the identifiers and results of the record."""
    count = _number(place.value("count").partition(".")[0].replace(",", ""))
    source = _address(place.value("source_ip"))
    if not count or source is None:
        return None
    evaluated = place.at("policy_evaluated")
    if evaluated is _NOTHING:  # beside the row
        evaluated = record.at("policy_evaluated")
    results = record.at("auth_results")
    header_from = _name(record.value("identifiers", "header_from")) or _name(
        record.value("identities", "header_from")  # as an early draft had it
    )
    if not header_from:
        odd("Records without a From domain count for the policy domain")
        header_from = policy_domain
    signatures = tuple(
        SignatureSeen(_name(each.value("domain")), each.value("selector")[:63].lower(), _result(each.value("result")))
        for each in results.all("dkim")[:100]
    )
    spf = _spf_of(results)
    spf_domain, spf_result = _name(spf.value("domain")), _result(spf.value("result"))
    if evaluated.value("dkim") or evaluated.value("spf"):
        dkim, by_spf = (_result(evaluated.value(name)) == "pass" for name in ("dkim", "spf"))
    else:  # not evaluated, or not told: alignment is worked out from the results, in relaxed mode
        odd("Records without a DMARC result were evaluated from their SPF and DKIM results")
        dkim = any(each.result == "pass" and _aligns(each.domain, header_from) for each in signatures)
        by_spf = spf_result == "pass" and _aligns(spf_domain, header_from)
    return ReportRow(
        source,
        count,
        evaluated.value("disposition").lower()[:20],
        dkim,
        by_spf,
        header_from,
        _name(record.value("identifiers", "envelope_from")),
        signatures,
        spf_domain,
        spf_result,
        tuple(
            OverrideReason(reason.value("type").lower()[:40], reason.value("comment")[:200])
            for reason in evaluated.all("reason")[:20]
        ),
        *_helo_of(results),
    )


def _spf_of(results: _Element) -> _Element:
    """Return the SPF result of MAIL FROM, which alone counts for DMARC (RFC 7489 §3.1.2); the first without a scope."""
    found = results.all("spf")
    return next((each for each in found if each.value("scope").lower() != "helo"), results.at("spf"))


def _helo_of(results: _Element) -> tuple[str, str]:
    """Return the HELO name and what SPF says of it (RFC 7208 §2.3); empty where the report does not tell."""
    found = [
        (name, _result(each.value("result")))
        for each in results.all("spf")
        if each.value("scope").lower() == "helo" and "." in (name := _name(each.value("domain")))
    ]
    return min(found, key=lambda item: item[1] != "pass", default=("", ""))


_OLD_RESULTS = {
    "hardfail": "fail",
    "permfail": "permerror",
    "tempfail": "temperror",
    "passed": "pass",
    "failed": "fail",
}


@lru_cache(maxsize=1000)
def _result(text: str) -> str:
    word = text.strip().lower().partition(" ")[0].partition("(")[0][:20]  # without a comment of RFC 8601
    return _OLD_RESULTS.get(word, word)


def _aligns(domain: str, header_from: str) -> bool:
    return bool(domain) and registered_domain(domain) == registered_domain(header_from)


@lru_cache(maxsize=10_000)
def _address(text: str) -> str | None:
    """Return an address as it is compared; None if it is not one. A mapped IPv4 address is itself (RFC 4291 §2.5.5)."""
    text = text.strip().removeprefix("[").removesuffix("]").removeprefix("IPv6:").partition("%")[0]
    if text.count(":") == 1:  # IPv4 with a port
        text = text.partition(":")[0]
    try:
        found = ip_address(text)
    except ValueError:
        return None
    if isinstance(found, IPv6Address) and found.ipv4_mapped is not None:
        found = found.ipv4_mapped
    return str(found)


def _policy(element: _Element) -> PublishedPolicy:
    names = ("p", "sp", "np", "adkim", "aspf", "pct", "fo", "testing", "discovery_method")
    return PublishedPolicy(*(element.value(name).lower()[:20] for name in names))


@lru_cache(maxsize=10_000)
def _name(text: str) -> str:
    """Return a domain as it is compared; some receivers send a whole address, or one in brackets."""
    name = text.strip().strip("<>").rpartition("@")[2].rstrip(".").lower()
    return a_labels(name[:1000])[:253]


def _number(text: str) -> int | None:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 16 else None
