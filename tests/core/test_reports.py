"""Reports of receivers (RFC 7489 Appendix C, RFC 8460 §4): what is read, and what strangers may not do with them."""

import base64
import contextlib
import gzip
import io
import json
import os
import tarfile
import tracemalloc
import zipfile
from collections.abc import Callable
from email.message import EmailMessage
from typing import Any, Literal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rust_gauge.core.reports import (
    AggregateReport,
    FailureReport,
    OverrideReason,
    ReportError,
    SignatureSeen,
    TlsReport,
    read_report,
    stream_report,
)
from rust_gauge.core.reports.aggregate import stream_aggregate_report
from rust_gauge.core.reports.archives import further_reports, reports_in

ROW = """<record>
  <row><source_ip>{ip}</source_ip><count>{count}</count>
    <policy_evaluated><disposition>none</disposition><dkim>pass</dkim><spf>fail</spf></policy_evaluated></row>
  <identifiers><header_from>Marram.example</header_from><envelope_from>b.marram.example</envelope_from></identifiers>
  <auth_results>
    <dkim><domain>marram.example</domain><selector>S1</selector><result>pass</result></dkim>
    <dkim><domain>driftline.example</domain><result>fail</result></dkim>
    <spf><domain>b.marram.example</domain><result>softfail</result></spf>
  </auth_results>
</record>"""


REASON = "<reason><type>mailing_list</type><comment>known list</comment></reason>"


def report(*rows: str, space: str = "", head: str = '<?xml version="1.0"?>') -> bytes:
    return (
        f"{head}<feedback{space}><report_metadata><org_name>Tidepost</org_name><report_id>r-1</report_id>"
        "<date_range><begin>1763600000</begin><end>1763686400</end></date_range></report_metadata>"
        "<policy_published><domain>marram.example</domain><p>none</p></policy_published>"
        f"{''.join(rows or [ROW.format(ip='192.0.2.9', count=7)])}</feedback>"
    ).encode()


@pytest.mark.parametrize(
    "space", ["", ' xmlns="urn:ietf:params:xml:ns:dmarc-2.0"', ' xmlns="http://d.example/dmarc-xml"']
)
def test_a_report_is_read_with_and_without_its_namespace(space: str) -> None:
    found = read_report(report(space=space))
    assert (found.reporter, found.report_id, found.domain) == ("Tidepost", "r-1", "marram.example")
    assert (found.begin, found.end, found.left_out) == (1763600000, 1763686400, 0)
    (row,) = found.rows
    assert (row.source_ip, row.count, row.disposition, row.dkim, row.spf) == ("192.0.2.9", 7, "none", True, False)
    assert (row.header_from, row.envelope_from) == ("marram.example", "b.marram.example")
    assert row.signatures == (
        SignatureSeen("marram.example", "s1", "pass"),
        SignatureSeen("driftline.example", "", "fail"),
    )
    assert (row.spf_domain, row.spf_result) == ("b.marram.example", "softfail")


@pytest.mark.parametrize(("ip", "count"), [("nonsense", "1"), ("", "1"), ("192.0.2.1", "-1"), ("192.0.2.1", "many"),
                                           ("192.0.2.1", "0"), ("192.0.2.1", "9" * 30)])  # fmt: skip
def test_a_row_that_makes_no_sense_spoils_no_other(ip: str, count: str) -> None:
    found = read_report(report(ROW.format(ip=ip, count=count), ROW.format(ip="2001:db8::1", count=2)))
    assert ([row.source_ip for row in found.rows], found.left_out) == (["2001:db8::1"], 1)


def zipped(*files: tuple[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, content in files:
            packed.writestr(name, content)
    return out.getvalue()


def mailed(content: bytes, subtype: str = "gzip") -> bytes:
    message = EmailMessage()
    message["Subject"] = "Report Domain: marram.example Submitter: tidepost.example Report-ID: r-1"
    message.set_content("This is an aggregate report.")
    message.add_attachment(content, maintype="application", subtype=subtype, filename="r.xml.gz")
    return bytes(message)


XML = report()


@pytest.mark.parametrize(
    "packed",
    [
        XML,
        b"\xef\xbb\xbf" + XML,
        gzip.compress(XML),
        zipped(("r.xml", XML)),
        zipped(("readme.txt", b"hello"), ("R.XML", XML)),
        mailed(gzip.compress(XML)),
        mailed(zipped(("r.xml", XML)), "zip"),
        mailed(XML, "xml"),
    ],
    ids=["xml", "byte order mark", "gzip", "zip", "zip with more in it", "mail gzip", "mail zip", "mail xml"],
)
def test_a_report_is_found_however_it_was_packed(packed: bytes) -> None:
    assert read_report(packed).rows[0].count == 7


@pytest.mark.parametrize(
    ("octets", "word"),
    [
        (b"", "No report found"),
        (b"Subject: hello\n\nnothing here\n", "No report found"),
        (b"<html></html>", "root is <html>"),
        (b"<feedback><report_metadata>", "malformed"),
        (b"\x1f\x8b broken", "gzip file is damaged"),
        (gzip.compress(XML)[:-20], "gzip file is damaged"),
        (b"PK\x03\x04 broken", "zip file is damaged"),
        (zipped(("r.xml", XML))[:200], "zip file is damaged"),
        (gzip.compress(b" " * (20 * 1024 * 1024 + 1)), "first megabyte is blank"),
        (gzip.compress(b"<feedback>" + b" " * 2_000_000 + b"</feedback>"), "larger than any"),
        (report(head='<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "bb">]>'), "document type"),
        (report(head='<?xml version="1.0" encoding="none-such"?>'), "malformed"),
        (report("<a>" * 30 + "</a>" * 30), "larger than any aggregate report"),
        (report("<record>" + "<a/>" * 3000 + "</record>"), "larger than any aggregate report"),
    ],
)
def test_what_is_no_report_is_refused_with_a_reason(octets: bytes, word: str) -> None:
    with pytest.raises(ReportError, match=word) as refused:
        read_report(octets)
    assert refused.value.remedy


ODD = [
    ("a bare ampersand", (b"Tidepost", b"Tide & post"), "malformed"),
    ("a control character", (b"Tidepost", b"Tide\x0bpost"), "malformed"),
    ("octets that are not UTF-8", (b"Tidepost", b"Tidep\xf6st"), "not UTF-8"),
    ("an unbound prefix", (b"<feedback>", b"<feedback><ns2:version>1</ns2:version>"), ""),
    ("blanks before the declaration", (b'<?xml version="1.0"?>', b'\n  <?xml version="1.0"?>'), ""),
    ("upper case", (b"count>", b"COUNT>"), ""),
    ("milliseconds", (b"1763600000</begin><end>1763686400", b"1763600000000</begin><end>1763686400000"), "milliseconds"),
    ("fractions", (b"1763600000</begin><end>1763686400", b"1763600000.0</begin><end>1763686400.5"), ""),
    ("dates as text", (b"1763600000</begin><end>1763686400", b"2025-11-20T00:53:20Z</begin><end>2025/11/21 00:53:20"),
     "text"),
    ("a period backwards", (b"1763600000</begin><end>1763686400", b"1763686400</begin><end>1763600000"), "swapped"),
    ("no report id", (b"<report_id>r-1</report_id>", b""), "no report id"),
    ("no organisation", (b"<org_name>Tidepost</org_name>", b"<email>dmarc@tidepost.example</email>"), "organisation"),
    ("no policy domain", (b"<domain>marram.example</domain><p>none</p>", b"<p>none</p>"), "policy domain"),
    ("several policies", (b"<policy_published>", b"<policy_published><p>none</p></policy_published><policy_published>"),
     "several policies"),
    ("no From domain", (b"<header_from>Marram.example</header_from>", b""), "From domain"),
    ("an address as From domain", (b"Marram.example</header_from>", b"&lt;a@Marram.example&gt;</header_from>"), ""),
    ("no DMARC result", (b"<dkim>pass</dkim><spf>fail</spf></policy", b"</policy"), "DMARC result"),
    ("an address with brackets", (b"192.0.2.9", b"[192.0.2.9]"), ""),
    ("a result with a comment", (b"<result>softfail</result>", b"<result>SoftFail (not listed)</result>"), ""),
    ("the evaluation beside its row", (b"<policy_evaluated><disposition>none</disposition><dkim>pass</dkim><spf>fail</spf>"
     b"</policy_evaluated></row>", b"</row><policy_evaluated><disposition>none</disposition><dkim>pass</dkim>"
     b"<spf>fail</spf></policy_evaluated>"), ""),
    ("a mapped address", (b"192.0.2.9", b"::ffff:192.0.2.9"), ""),
    ("UTF-16 that says UTF-8", (b"", b""), ""),
    ("text after its end", (b"</feedback>", b"</feedback>\n.\n-- \nTidepost"), "text after its end"),
    ("dates as in mail", (b"1763600000</begin><end>1763686400", b"Thu, 20 Nov 2025 00:53:20 GMT</begin>"
     b"<end>2025-11-21 00:53:20 UTC"), "text"),
    ("an address with a port", (b"192.0.2.9", b"192.0.2.9:25"), ""),
    ("the result of HELO first", (b"<spf><domain>b.", b"<spf><domain>h.example</domain><scope>helo</scope>"
     b"<result>pass</result></spf><spf><domain>b."), ""),
]  # fmt: skip


@pytest.mark.parametrize(("change", "oddity"), [case[1:] for case in ODD], ids=[case[0] for case in ODD])
def test_what_receivers_get_wrong_is_understood_and_named(change: tuple[bytes, bytes], oddity: str) -> None:
    octets = XML.replace(change[0], change[1]) if change[0] else XML.decode().encode("utf-16")
    assert octets != XML
    found = read_report(octets)
    assert isinstance(found, AggregateReport)
    assert (found.domain, found.begin, found.end) == ("marram.example", 1763600000, 1763686400)
    assert found.reporter in ("Tidepost", "Tide & post", "Tidep?st", "tidepost.example")
    (row,) = found.rows
    assert (row.source_ip, row.count, row.dkim, row.spf) == ("192.0.2.9", 7, True, False)
    assert (row.header_from, row.spf_domain, row.spf_result) == ("marram.example", "b.marram.example", "softfail")
    assert bool(found.oddities) == bool(oddity)
    assert not oddity or oddity in found.oddities[0]


def test_each_row_of_a_record_counts() -> None:
    rows = "".join(f"<row><source_ip>192.0.2.{n}</source_ip><count>{n}</count></row>" for n in (1, 2, 3))
    record = f"<record>{rows}<row/><identifiers><header_from>marram.example</header_from></identifiers></record>"
    found = read_report(report(record))
    assert isinstance(found, AggregateReport)
    assert [(row.source_ip, row.count, row.header_from) for row in found.rows] == [
        (f"192.0.2.{n}", n, "marram.example") for n in (1, 2, 3)
    ]
    assert (found.records, found.left_out) == (4, 1)
    assert "Records hold several rows; each counts" in found.oddities


def test_a_second_document_is_not_dropped_in_silence() -> None:
    with pytest.raises(ReportError, match="malformed"):
        read_report(report() + report())


@pytest.mark.parametrize(
    "kind", [gzip.compress, lambda octets: zipped(("r.xml", octets)), bytes], ids=["gzip", "zip", "XML"]
)
def test_base64_that_no_header_announces_is_decoded(kind: Callable[[bytes], bytes]) -> None:
    octets = b"From: dmarc@tidepost.example\r\nContent-Type: application/gzip\r\n\r\n" + base64.encodebytes(
        kind(report())
    )
    assert read_report(octets) == read_report(report())


@pytest.mark.parametrize(
    ("change", "sessions", "oddity"),
    [
        (lambda found, policy: found.update(policies=policy), (5, 2), "one object"),
        (lambda found, policy: policy.update(summary={}), (0, 2), "without a whole summary"),
        (lambda found, policy: policy["summary"].pop("total-failure-session-count"), (5, 2), "without a whole summary"),
        (lambda found, policy: policy["summary"].update({"total-successful-session-count": 5.0}), (5, 2), ""),
        (lambda found, policy: policy["summary"].update({"total-successful-session-count": -5}), None, ""),
        (lambda found, policy: found.update({"contact-info": "mailto:tls@tidepost.example"}), (5, 2), ""),
        (lambda found, policy: found.update({"date-range": {"start-datetime": 1763600000, "end-datetime": 1763686400}}),
         (5, 2), ""),
    ],
)  # fmt: skip
def test_what_senders_of_tls_reports_get_wrong_is_understood(change: Any, sessions: Any, oddity: str) -> None:
    policy = {
        "policy": {"policy-type": "sts", "policy-domain": "marram.example"},
        "summary": {"total-successful-session-count": 5, "total-failure-session-count": 2},
        "failure-details": [{"result-type": "certificate-expired", "failed-session-count": 2}],
    }
    found = {
        "organization-name": "Tidepost", "contact-info": "tls@tidepost.example", "report-id": "t", "policies": [policy],
        "date-range": {"start-datetime": "2025-11-20T00:53:20Z", "end-datetime": "2025-11-21T00:53:20Z"},
    }  # fmt: skip
    change(found, policy)
    read = read_report(json.dumps(found).encode())
    assert isinstance(read, TlsReport)
    assert (read.contact, read.begin, read.end) == ("tls@tidepost.example", 1763600000, 1763686400)
    assert [(each.successful, each.failed) for each in read.policies] == ([sessions] if sessions else [])
    assert read.left_out == (0 if sessions else 1)
    assert oddity in "".join(read.oddities) and bool(read.oddities) == bool(oddity)


@pytest.mark.parametrize(("begin", "end"), [("", ""), ("0", "0"), ("soon", "later"), ("-5", "9" * 15)])
def test_a_period_that_no_report_has_is_not_taken_for_one(begin: str, end: str) -> None:
    changed = report().replace(b"1763600000", begin.encode()).replace(b"1763686400", end.encode())
    found = read_report(changed)
    assert isinstance(found, AggregateReport)
    assert (found.begin, found.end, len(found.rows)) == (0, 0, 1)
    assert "It states no usable period" in found.oddities


def test_a_report_in_another_encoding_is_read() -> None:
    text = XML.decode().replace('version="1.0"', 'version="1.0" encoding="iso-8859-1"').replace("Tidepost", "Tidepöst")
    assert read_report(text.encode("latin-1")).reporter == "Tidepöst"
    assert read_report(XML.decode().encode("utf-16")).rows[0].count == 7


def test_records_are_given_away_one_by_one() -> None:
    """What a reader of reports holds at a time does not grow with the report."""
    record = ROW.format(ip="192.0.2.9", count=1).encode()
    head, _, tail = XML.partition(XML[XML.index(b"<record>") : XML.index(b"</feedback>")])
    packed = io.BytesIO()
    with gzip.open(packed, "wb", 1) as out:
        out.write(head)
        for _ in range(300):
            out.write(record * 10)
        out.write(tail)
    seen: list[int] = []
    tracemalloc.start()
    found = stream_report(packed.getvalue(), lambda row: seen.append(row.count) if not len(seen) else None)
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert isinstance(found, AggregateReport)
    assert (found.records, found.left_out, found.rows) == (3000, 0, ())
    assert peak < 1_000_000 < 3000 * len(record)


FAILURE = b"""From: <dmarc@tidepost.example>
To: ruf@marram.example
Subject: FW: Your ferry
Message-ID: <f1@tidepost.example>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=feedback-report; boundary="b"

--b
Content-Type: text/plain

This is an authentication failure report.
--b
Content-Type: message/feedback-report

Feedback-Type: auth-failure
User-Agent: Tidepost/1.0
Version: 1
Original-Mail-From: <x7f3@marram.example>
Arrival-Date: Fri, 20 Nov 2026 08:00:00 +0000
Source-IP: 203.0.113.77
Reported-Domain: marram.example
Auth-Failure: dmarc
Delivery-Result: reject
Identity-Alignment: none
DKIM-Domain: marram.example
DKIM-Selector: S1
Authentication-Results: mx.tidepost.example; dmarc=fail header.from=marram.example
Incidents: 3
--b
Content-Type: text/rfc822-headers

From: Marram Ferries <tickets@marram.example>
Message-ID: <m1@marram.example>
Subject: Your ferry
--b--
"""


def test_a_failure_report_is_read() -> None:
    found = stream_report(FAILURE, lambda _: None)
    assert isinstance(found, FailureReport)
    assert (found.reporter, found.report_id, found.domain) == (
        "tidepost.example",
        "f1@tidepost.example",
        "marram.example",
    )
    assert (found.at, found.failure, found.delivery, found.source_ip) == (1795161600, "dmarc", "reject", "203.0.113.77")
    assert (found.mail_from, found.header_from, found.message_id) == (
        "x7f3@marram.example", "marram.example", "m1@marram.example",
    )  # fmt: skip
    assert (found.dkim_domain, found.selector, found.subject) == ("marram.example", "s1", "Your ferry")
    assert (found.incidents, found.redacted) == (3, False)


@pytest.mark.parametrize("ip", ["", "redacted", "2>03.0.113.77", "999.1.1.1"])
def test_an_address_that_is_none_is_left_out(ip: str) -> None:
    found = stream_report(FAILURE.replace(b"203.0.113.77", ip.encode()), lambda _: None)
    assert isinstance(found, FailureReport)
    assert found.source_ip == ""


def test_a_redacted_failure_report_says_so() -> None:
    without = FAILURE.partition(b"--b\nContent-Type: text/rfc822-headers")[0] + b"--b--\n"
    found = stream_report(without.replace(b"<x7f3@marram.example>", b"QmxhY2s"), lambda _: None)
    assert isinstance(found, FailureReport)
    assert (found.redacted, found.header_from, found.domain) == (True, "", "marram.example")


@pytest.mark.parametrize(
    ("octets", "word"),
    [
        (FAILURE.replace(b"auth-failure", b"abuse", 1), "feedback of type abuse"),
        (FAILURE.replace(b"marram.example", b""), "names no domain"),
    ],
)
def test_other_feedback_is_refused_with_a_reason(octets: bytes, word: str) -> None:
    with pytest.raises(ReportError, match=word) as refused:
        stream_report(octets, lambda _: None)
    assert refused.value.remedy


def test_rows_over_the_limit_are_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("rust_gauge.core.reports.aggregate._MAX_READ", 3)
    found = read_report(report(*[ROW.format(ip="192.0.2.9", count=1)] * 5))
    assert (len(found.rows), found.left_out) == (3, 2)


@settings(max_examples=200)
@given(st.one_of(st.binary(max_size=400), st.integers(0, len(XML)).map(lambda at: XML[:at] + XML[at + 3 :])))
def test_any_octets_are_a_report_or_refused(octets: bytes) -> None:
    try:
        found = read_report(octets)
    except ReportError:
        return
    assert found.left_out >= 0


NAME_PARTS = [
    ("Tide & post", "Tide & post"), ("R&D", "R&D"), ("a&amp;b", "a&b"), ("&", "&"), ("&#38;", "&"), ("&lt", "&lt"),
    ("<![CDATA[c & d]]>", "c & d"), ("<![CDATA[e &amp; f]]>", "e &amp; f"), ("<![CDATA[g ]] > & ]]]>", "g ]] > & ]"),
    ("<![CDATA[<!-- & ]]>", "<!-- & "), ("<!-- h & <![CDATA[ -->", ""), ("<?i & j?>", ""),
]  # fmt: skip


@settings(max_examples=200)
@given(st.lists(st.sampled_from(NAME_PARTS), min_size=1, max_size=6), st.integers(1, 30))
def test_ampersands_are_read_as_their_sender_meant_them(parts: list[tuple[str, str]], size: int) -> None:
    octets = report().replace(b"Tidepost", ".".join(text for text, _ in parts).encode())
    found = stream_aggregate_report((octets[at : at + size] for at in range(0, len(octets), size)), lambda _: None)
    assert found.reporter == ".".join(name for _, name in parts).strip()


def test_the_published_policy_and_override_reasons_are_read() -> None:
    row = ROW.format(ip="192.0.2.9", count=7).replace(
        "<dkim>pass</dkim><spf>fail", f"{REASON}<dkim>pass</dkim><spf>fail", 1
    )
    tags = "<domain>marram.example</domain><adkim>r</adkim><aspf>S</aspf><p>quarantine</p><sp>reject</sp><np>none</np><pct>20</pct>"
    raw = report(row).replace(b"<domain>marram.example</domain><p>none</p>", f"{tags}<testing>n</testing>".encode(), 1)
    found = read_report(raw)
    assert isinstance(found, AggregateReport)
    policy = found.policy
    assert (policy.p, policy.sp, policy.np, policy.adkim, policy.aspf, policy.pct, policy.testing, policy.discovery) == (
        "quarantine", "reject", "none", "r", "s", "20", "n", "",
    )  # fmt: skip
    assert found.rows[0].reasons == (OverrideReason("mailing_list", "known list"),)


TLS = {
    "organization-name": "Tidepost",
    "date-range": {"start-datetime": "2026-11-20T00:00:00Z", "end-datetime": "2026-11-20T23:59:59Z"},
    "contact-info": "tls@tidepost.example",
    "report-id": "t-1",
    "policies": [
        {
            "policy": {
                "policy-type": "sts",
                "policy-string": ["version: STSv1", "mode: testing"],
                "policy-domain": "Marram.example",
                "mx-host": ["*.marram.example"],
            },
            "summary": {"total-successful-session-count": 512, "total-failure-session-count": 30},
            "failure-details": [
                {
                    "result-type": "certificate-expired",
                    "sending-mta-ip": "192.0.2.9",
                    "receiving-mx-hostname": "mx1.marram.example",
                    "receiving-ip": "198.51.100.7",
                    "failed-session-count": 20,
                },
                {
                    "result-type": "starttls-not-supported",
                    "failed-session-count": "10",
                    "failure-reason-code": "no 250",
                },
            ],
        }
    ],
}
TLS_JSON = json.dumps(TLS).encode()


@pytest.mark.parametrize(
    "packed",
    [TLS_JSON, gzip.compress(TLS_JSON), zipped(("r.json", TLS_JSON)), mailed(gzip.compress(TLS_JSON), "tlsrpt+gzip"),
     mailed(TLS_JSON, "tlsrpt+json"), b"[" + TLS_JSON + b"]", gzip.compress(zipped(("r.json", TLS_JSON)))],
    ids=["json", "gzip", "zip", "mail gzip", "mail json", "a list of one", "zip in gzip"],
)  # fmt: skip
def test_a_report_on_tls_is_read_through_the_same_door(packed: bytes) -> None:
    found = read_report(packed)
    assert isinstance(found, TlsReport)
    assert (found.reporter, found.report_id, found.contact) == ("Tidepost", "t-1", "tls@tidepost.example")
    assert (found.begin, found.end, found.left_out) == (1795132800, 1795219199, 0)
    (policy,) = found.policies
    assert (policy.kind, policy.domain, policy.mx) == ("sts", "marram.example", ("*.marram.example",))
    assert (policy.text, policy.successful, policy.failed) == (("version: STSv1", "mode: testing"), 512, 30)
    assert [(each.result, each.sessions, each.receiving_mx, each.reason) for each in policy.failures] == [
        ("certificate-expired", 20, "mx1.marram.example", ""),
        ("starttls-not-supported", 10, "", "no 250"),
    ]


@pytest.mark.parametrize(
    "broken",
    [None, 7, "x", {}, {"policy": {"policy-domain": "d.example"}}, {"policy": {}, "summary": {}},
     {"policy": {"policy-domain": "d.example"},
      "summary": {"total-successful-session-count": -1, "total-failure-session-count": 0}}],
)  # fmt: skip
def test_a_policy_that_makes_no_sense_spoils_no_other(broken: object) -> None:
    found = read_report(json.dumps({**TLS, "policies": [broken, TLS["policies"][0]]}).encode())  # type: ignore[index]
    assert isinstance(found, TlsReport)
    assert ([policy.domain for policy in found.policies], found.left_out) == (["marram.example"], 1)


@pytest.mark.parametrize(
    ("octets", "word"),
    [(b"{", "malformed"), (b"{}", "no list of policies"), (b'{"policies": 3}', "no list of policies"),
     (b'{"a":' * 100_000, "malformed"), (zipped(*((f"{n}", b"x") for n in range(1100))), "more than 1000 files")],
)  # fmt: skip
def test_json_that_is_no_report_is_refused_with_a_reason(octets: bytes, word: str) -> None:
    with pytest.raises(ReportError, match=word) as refused:
        read_report(octets)
    assert refused.value.remedy


def test_a_zip_that_asks_for_gigabytes_of_memory_is_refused() -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_LZMA) as packed:
        packed.writestr("r.xml", XML)
    with pytest.raises(ReportError, match="unusual method"):
        read_report(out.getvalue())


@settings(max_examples=100)
@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(max_size=8),
        lambda inner: st.lists(inner, max_size=3)
        | st.dictionaries(
            st.sampled_from(["policies", "policy", "summary", "failure-details", "policy-domain", "result-type",
                             "total-successful-session-count", "total-failure-session-count", "date-range",
                             "failed-session-count", "start-datetime"]), inner, max_size=4),
        max_leaves=20,
    )
)  # fmt: skip
def test_any_json_is_a_report_or_refused(value: object) -> None:
    try:
        found = read_report(json.dumps({"policies": [value], "date-range": value}).encode())
    except ReportError:
        return
    assert isinstance(found, TlsReport)
    assert found.left_out >= 0


# Archives of many reports


def zip_of(*files: tuple[str, bytes]) -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, octets in files:
            archive.writestr(name, octets)
    return packed.getvalue()


def tar_of(*files: tuple[str, bytes], mode: Literal["w", "w:gz"] = "w") -> bytes:
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode=mode) as archive:
        for name, octets in files:
            entry = tarfile.TarInfo(name)
            entry.size = len(octets)
            archive.addfile(entry, io.BytesIO(octets))
        archive.addfile(tarfile.TarInfo("folder"))
    return packed.getvalue()


FILES = (
    ("a.xml", b"<feedback>a</feedback>"),
    ("b/b.xml.gz", gzip.compress(b"<feedback>b</feedback>")),
    ("c.txt", b"c"),
)


@pytest.mark.parametrize(
    "archive", [zip_of(*FILES), tar_of(*FILES), tar_of(*FILES, mode="w:gz")], ids=["zip", "tar", "tar.gz"]
)
def test_an_archive_holds_many_reports(archive: bytes) -> None:
    found = list(reports_in(io.BytesIO(archive)))
    assert [(member.name, member.octets) for member in found if member.octets] == list(FILES)
    positions = [member.position for member in found]
    assert positions == sorted(positions)
    assert 0 < positions[-1] <= len(archive)


@pytest.mark.parametrize(
    "octets",
    [b"<feedback/>", zip_of(FILES[0]), gzip.compress(b"<feedback/>"), b"", b"no archive"],
    ids=["XML", "zip", "gzip", "nothing", "text"],
)
def test_a_single_report_comes_out_as_it_is(octets: bytes) -> None:
    (member,) = reports_in(io.BytesIO(octets))
    assert (member.octets, member.position, member.problem) == (octets, len(octets), None)


def test_a_long_document_comes_out_packed() -> None:
    row = b"<record>" + b" " * 1000 + b"</record>"
    document = b"<feedback>" + row * 27_000 + b"</feedback>"
    for file in (document, zip_of(("a.xml", document), ("b.xml", b"<feedback/>"))):
        first = next(reports_in(io.BytesIO(file)))
        assert len(first.octets) < 1024 * 1024
        assert gzip.decompress(first.octets) == document


def test_what_cannot_be_taken_out_is_named_and_the_rest_comes_out() -> None:
    damaged = bytearray(zip_of(("a.xml", bytes(range(256)) * 9), ("b.xml", b"<feedback/>"), ("c.xml", b"<feedback/>")))
    damaged[45:60] = b"\xff" * 15
    found = list(reports_in(io.BytesIO(bytes(damaged))))
    assert [member.problem is not None for member in found] == [True, False, False]
    noise = os.urandom(1024 * 1024) * 26
    (large, small) = reports_in(io.BytesIO(zip_of(("big.bin", noise), FILES[0])))
    assert large.problem is not None and "larger than 25 MB" in large.problem.what
    assert small.octets == FILES[0][1]


def test_a_truncated_archive_gives_what_it_holds() -> None:
    whole = tar_of(("a.xml", b"<a>" + b"x" * 2000), ("b.xml", os.urandom(9000)), mode="w:gz")
    found = reports_in(io.BytesIO(whole[: len(whole) - 3000]))
    assert next(found).name == "a.xml"
    with pytest.raises(ReportError, match=r"archive is damaged|cannot be unpacked"):
        for member in found:
            if member.problem is not None:
                raise member.problem


@given(st.binary(max_size=400), st.sampled_from([zip_of(*FILES), tar_of(*FILES, mode="w:gz")]), st.integers(0, 400))
def test_any_octets_are_an_archive_or_refused(noise: bytes, archive: bytes, at: int) -> None:
    for octets in (noise, archive[:at] + noise + archive[at + len(noise) :]):
        with contextlib.suppress(ReportError):
            for member in reports_in(io.BytesIO(octets)):
                assert member.octets is not None


def tarred(*files: tuple[str, bytes], mode: str = "w") -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode=mode) as archive:  # type: ignore[call-overload]
        for name, content in files:
            entry = tarfile.TarInfo(name)
            entry.size = len(content)
            archive.addfile(entry, io.BytesIO(content))
    return out.getvalue()


def mail_of(*parts: bytes) -> bytes:
    body = b"".join(
        b"--b\r\nContent-Type: application/octet-stream\r\nContent-Transfer-Encoding: base64\r\n\r\n"
        + base64.encodebytes(part) + b"\r\n"
        for part in parts
    )  # fmt: skip
    return b'From: a@b.example\r\nContent-Type: multipart/mixed; boundary="b"\r\n\r\n' + body + b"--b--\r\n"


SECOND = XML.replace(b"192.0.2.9", b"192.0.2.10")
SEVERAL = [
    ("zip", zipped(("a.xml", XML), ("b.xml", SECOND))),
    ("tar", tarred(("read me.txt", b"two reports"), ("a.xml", XML), ("b.xml", SECOND))),
    ("tar.gz", tarred(("a.xml", XML), ("b.xml.gz", gzip.compress(SECOND)), mode="w:gz")),
    ("two parts", mail_of(gzip.compress(XML), zipped(("b.xml", SECOND)))),
    ("a zip in a mail", mail_of(zipped(("a.xml", XML), ("b.xml", SECOND)))),
]


@pytest.mark.parametrize("octets", [case[1] for case in SEVERAL], ids=[case[0] for case in SEVERAL])
def test_a_file_or_message_may_hold_several_reports(octets: bytes) -> None:
    first = read_report(octets)
    further = [read_report(each) for each in further_reports(octets)]
    assert isinstance(first, AggregateReport)
    assert [row.source_ip for row in first.rows] == ["192.0.2.9"]
    assert sorted(row.source_ip for each in further for row in each.rows) == ["192.0.2.10", "192.0.2.9"]  # type: ignore[union-attr]


ONE = [XML, gzip.compress(XML), zipped(("a.xml", XML)), zipped(("a.xml", XML), ("__MACOSX/._a.xml", b"\0\5\x16\7")),
       mail_of(gzip.compress(XML)), tarred(("a.xml", XML), mode="w:gz")]  # fmt: skip


@pytest.mark.parametrize("number", range(len(ONE)))
def test_a_file_with_one_report_has_no_further_ones(number: int) -> None:
    assert read_report(ONE[number]).rows == read_report(XML).rows  # type: ignore[union-attr]
    assert list(further_reports(ONE[number])) == []


def test_an_archive_that_is_one_for_a_job_is_named() -> None:
    found = further_reports(tarred(*((f"{n}.xml", XML) for n in range(205))))
    with pytest.raises(ReportError, match="more than 200 reports"):
        list(found)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16"])
def test_a_tls_report_is_read_in_the_encodings_of_json(encoding: str) -> None:
    octets = '{"organization-name": "Tidepost", "report-id": "é", "policies": []}'.encode(encoding)
    found = read_report(gzip.compress(octets))
    assert isinstance(found, TlsReport)
    assert (found.reporter, found.report_id) == ("Tidepost", "é")
