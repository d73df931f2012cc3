"""Aggregate reports (RFC 7489 Appendix C): what is read, and what strangers may not do with them."""

import gzip
import io
import zipfile
from email.message import EmailMessage

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rust_gauge.core.dmarc import ReportError, SignatureSeen, read_report, unpack

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
    assert read_report(unpack(packed)).rows[0].count == 7


@pytest.mark.parametrize(
    ("octets", "word"),
    [
        (b"", "No aggregate report found"),
        (b"Subject: hello\n\nnothing here\n", "No aggregate report found"),
        (b"<html></html>", "root is <html>"),
        (b"<feedback><report_metadata>", "malformed"),
        (b"\x1f\x8b broken", "gzip file is damaged"),
        (gzip.compress(XML)[:-20], "gzip file is damaged"),
        (b"PK\x03\x04 broken", "zip file is damaged"),
        (zipped(("r.xml", XML))[:200], "zip file is damaged"),
        (gzip.compress(b" " * (20 * 1024 * 1024 + 1)), "larger than 20 MB"),
        (report(head='<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "bb">]>'), "document type"),
        (report(head='<?xml version="1.0" encoding="none-such"?>'), "malformed"),
        (report("<a>" * 30 + "</a>" * 30), "larger than any aggregate report"),
        (report("<record>" + "<a/>" * 3000 + "</record>"), "larger than any aggregate report"),
    ],
)
def test_what_is_no_report_is_refused_with_a_reason(octets: bytes, word: str) -> None:
    with pytest.raises(ReportError, match=word) as refused:
        read_report(unpack(octets))
    assert refused.value.remedy


def test_rows_over_the_limit_are_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("rust_gauge.core.dmarc.feedback._MAX_ROWS", 3)
    found = read_report(report(*[ROW.format(ip="192.0.2.9", count=1)] * 5))
    assert (len(found.rows), found.left_out) == (3, 2)


@settings(max_examples=200)
@given(st.one_of(st.binary(max_size=400), st.integers(0, len(XML)).map(lambda at: XML[:at] + XML[at + 3 :])))
def test_any_octets_are_a_report_or_refused(octets: bytes) -> None:
    try:
        found = read_report(unpack(octets))
    except ReportError:
        return
    assert found.left_out >= 0
