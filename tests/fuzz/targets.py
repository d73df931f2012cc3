"""Every parser of outside input with a corpus: what it may raise, and what it is fed.

`make fuzz` runs them for a given time; the tests run a few rounds of each with fixed seeds.
"""

import gzip
import io
import json
import random
import tarfile
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

from rust_gauge.core.assay import examine
from rust_gauge.core.dkim import parse_dkim_key, split_message
from rust_gauge.core.dkim.signature import read_signature
from rust_gauge.core.dmarc import correct_policy, read_policy
from rust_gauge.core.dns import drive
from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.mailflow.mapping import FieldRule, Mapping, Unwrap
from rust_gauge.core.message import authenticate
from rust_gauge.core.mtalog import LogReader
from rust_gauge.core.names import normalise_domain, parse_address, parse_ip
from rust_gauge.core.notices import read_notice
from rust_gauge.core.replies import classify
from rust_gauge.core.reports import ReportError, read_report, stream_report, unpack
from rust_gauge.core.reports.archives import further_reports, reports_in
from rust_gauge.core.spf import correct, parse_spf
from rust_gauge.core.suppression.files import find_layout, read_rows
from rust_gauge.core.transport import read_sts_policy, read_sts_record, read_tls_rpt
from tests.answers import answering
from tests.reports import FAILURE
from tests.vectors import notices, replies
from tests.vectors.assay_messages import APPLIES
from tests.vectors.spf_records import RIGHT

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)


def _ignore(_: object) -> None:
    """Take a record, and do nothing with it."""


@dataclass(frozen=True)
class Target:
    """A parser, seeds of its input, and the errors that it may raise: its own."""

    name: str
    run: Callable[[bytes], object]
    corpus: tuple[bytes, ...]
    raises: tuple[type[Exception], ...] = ()
    most: int = 25 * 1024 * 1024  # octets that can reach it


IN_DNS = 65_535  # octets of a DNS message, so of any record in one


def _text(function: Callable[[str], object]) -> Callable[[bytes], object]:
    return lambda raw: function(raw.decode("utf-8", "replace"))


REPORT = (
    b'<?xml version="1.0"?><feedback><report_metadata><org_name>Tidepost</org_name><report_id>1</report_id><date_range>'
    b"<begin>1763600000</begin><end>1763686400</end></date_range></report_metadata><policy_published><domain>d.example"
    b"</domain><p>none</p></policy_published><record><row><source_ip>192.0.2.1</source_ip><count>2</count></row></record></feedback>"
)
TLS_REPORT = (
    b'{"organization-name":"Tidepost","date-range":{"start-datetime":"2026-11-20T00:00:00Z","end-datetime":"2026-11-20T23:59:59Z"},'
    b'"report-id":"1","policies":[{"policy":{"policy-type":"sts","policy-string":["version: STSv1"],"policy-domain":"d.example",'
    b'"mx-host":["mx.d.example"]},"summary":{"total-successful-session-count":5,"total-failure-session-count":1},'
    b'"failure-details":[{"result-type":"certificate-expired","failed-session-count":1}]}]}'
)
LOG = (
    b"Nov 20 10:00:00 mta1 postfix/smtp[12]: 4ABC: to=<kim@tidepost.example>, relay=mx[192.0.2.1]:25, dsn=5.1.1, status=bounced (x)\n"
    b"Nov 20 10:00:00 mta1 postfix/qmgr[12]: 4ABC: from=<a@d.example>, size=1, nrcpt=1 (queue active)\n"
)
SIGNATURE = b"v=1; a=rsa-sha256; d=d.example; s=s1; h=from:to; bh=AAAA; b=BBBB; t=1; x=2"


def _tar() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:gz") as archive:
        entry = tarfile.TarInfo("r.xml")
        entry.size = len(REPORT)
        archive.addfile(entry, io.BytesIO(REPORT))
    return out.getvalue()


def _archive() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as made:
        made.writestr("r.xml", REPORT)
    return out.getvalue()


def _authenticated(raw: bytes) -> object:
    return drive(authenticate(raw, now=1_760_000_000), answering({}))  # type: ignore[arg-type]


def _list_rows(raw: bytes) -> int:
    """Read a list as imports do: its beginning first, then piece by piece."""
    pieces = (raw[at : at + 65536] for at in range(0, len(raw), 65536))
    return sum(1 for _ in read_rows(pieces, find_layout(raw[:65536])))


MAPPING = Mapping(
    {"recipient": FieldRule("@.r"), "kind": FieldRule("$.kind")}, unwrap=(Unwrap("$.note", "json"),), each="$.list[*]"
)


def _mapped(raw: bytes) -> int:
    return sum(1 for _ in MAPPING.apply(json.loads(raw)))


TARGETS = (
    Target("notice", read_notice, tuple(v for v in vars(notices).values() if isinstance(v, bytes)), (RustGaugeError,)),
    Target("reply", _text(classify), tuple(text.encode() for text, _, _ in replies.DEVELOPED)),
    Target("spf", _text(parse_spf), tuple(record.encode() for _, record in RIGHT), most=IN_DNS),
    Target(
        "spf correction",
        _text(lambda text: correct([text])),
        tuple(record.encode() for _, record in RIGHT),
        most=IN_DNS,
    ),
    Target(
        "dkim key",
        _text(parse_dkim_key),
        (b"v=DKIM1; k=rsa; t=y:s; p=AAAA", b"p=", b"v=DKIM1; k=ed25519; p=11qYAYKxCrfVS"),
        most=IN_DNS,
    ),
    Target("dkim signature", _text(read_signature), (SIGNATURE,)),
    Target("dkim message", split_message, (b"DKIM-Signature: " + SIGNATURE + b"\r\nFrom: a@d.example\r\n\r\nx\r\n",)),
    Target(
        "dmarc",
        _text(read_policy),
        (b"v=DMARC1; p=reject; sp=none; pct=20; rua=mailto:a@d.example!10m,mailto:b@d.example; fo=1:d",),
        most=IN_DNS,
    ),
    Target(
        "dmarc correction",
        _text(lambda text: correct_policy([text])),
        (b"v=DMARC1; p=reject; sp=none; rua=mailto:a@d.example!10m,r@b.example; fo=1:d", b"p=none v=DMARC1"),
        most=IN_DNS,
    ),
    Target("aggregate report", read_report, (REPORT,), (ReportError,)),
    Target("any report", lambda octets: stream_report(octets, _ignore), (REPORT, TLS_REPORT, FAILURE), (ReportError,)),
    Target("report on TLS", read_report, (TLS_REPORT,), (ReportError,)),
    Target("file of several reports", lambda raw: list(further_reports(raw)), (_archive(), _tar()), (ReportError,)),
    Target("archive of reports", lambda raw: list(reports_in(io.BytesIO(raw))), (_archive(), _tar()), (ReportError,)),
    Target("archive", lambda raw: unpack(raw), (gzip.compress(REPORT), _archive(), REPORT), (ReportError,)),
    Target("mta-sts record", _text(read_sts_record), (b"v=STSv1; id=20261101T090000",), most=IN_DNS),
    Target(
        "mta-sts policy",
        _text(read_sts_policy),
        (b"version: STSv1\nmode: enforce\nmx: *.d.example\nmax_age: 604800\n",),
    ),
    Target(
        "tls-rpt record", _text(read_tls_rpt), (b"v=TLSRPTv1; rua=mailto:t@d.example,https://d.example/r",), most=IN_DNS
    ),
    Target(
        "mta log",
        _text(lambda text: [row for line in text.split("\n") for row in LogReader(domain="d.example").read(line, NOW)]),
        (LOG,),
        most=1024 * 1024,  # it is read line by line
    ),
    Target(
        "address",
        _text(parse_address),
        (b"kim@tidepost.example", b"Kim <kim+x@b\xc3\xbccher.example>"),
        (RustGaugeError,),
    ),
    Target(
        "message", _authenticated, (b"DKIM-Signature: " + SIGNATURE + b"\r\nFrom: Kim (x) <a@d.example>\r\n\r\nx\r\n",)
    ),
    Target(
        "list file",
        _list_rows,
        (
            b"address;reason\r\nkim@tidepost.example;bounced\r\n",
            b'{"email": "kim@tidepost.example"}\n{"email": "lee@tidepost.example"}\n',
            b"kim@tidepost.example\nlee@tidepost.example\n",
        ),
        (RustGaugeError,),
        most=4 * 1024 * 1024,  # rows are read one after the other, in a job that shows progress
    ),
    Target(
        "mapped document",
        _mapped,
        (b'{"kind": "b", "note": "{\\"d\\": \\"x\\"}", "list": [{"r": "a@b.example"}]}',),
        (ValueError, RustGaugeError, RecursionError),
    ),
    Target(
        "assay",
        lambda raw: drive(examine(raw, now=NOW, ask_dns=False), lambda _: ()),
        tuple(make() for rule, make in APPLIES.items() if rule not in ("message-large", "html-clipped")),
        (RustGaugeError,),
    ),
    Target("domain", _text(normalise_domain), (b"news.d.example", b"b\xc3\xbccher.example."), (RustGaugeError,)),
    Target("ip", _text(parse_ip), (b"192.0.2.1", b"2001:db8::1"), (RustGaugeError,)),
)
PIECES = (
    b"(",
    b")",
    b'"',
    b"\\",
    b"<",
    b">",
    b"@",
    b"=?",
    b"?=",
    b";",
    b":",
    b"\r\n",
    b"\n ",
    b"\x00",
    b"\xff",
    b"--",
    b"%{",
    b"9999999999999999999",
    b"-1",
    b"\xe2\x80\xae",
)


def mutated(chance: random.Random, target: Target) -> bytes:
    """Return an input: a seed with pieces cut, doubled, replaced and inserted."""
    raw = bytearray(chance.choice(target.corpus))
    for _ in range(chance.randint(0, 8)):
        at = chance.randint(0, len(raw))
        what = chance.randint(0, 4)
        if what == 0:
            raw[at : at + chance.randint(0, 60)] = chance.randbytes(chance.randint(0, 20))
        elif what == 1:
            raw[at:at] = chance.choice(PIECES) * chance.choice((1, 2, 50, 3000))
        elif what == 2:
            end = min(len(raw), at + chance.randint(1, 200))
            raw[at:at] = raw[at:end] * chance.choice((1, 3, 40))
        elif what == 3:
            del raw[at : at + chance.randint(1, 100)]
        else:
            other = chance.choice(target.corpus)
            raw[at:at] = other[chance.randint(0, len(other)) :]
    return bytes(raw[:200_000])


def inputs(target: Target, seed: int) -> Iterator[bytes]:
    """Yield the corpus, and then mutations of it without end."""
    yield from target.corpus
    chance = random.Random(seed)
    while True:
        yield mutated(chance, target)
