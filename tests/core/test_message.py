"""A message as a receiver judges it: From, SPF, DKIM and DMARC together; and From fields as people send them."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.dkim import HeaderField, sign_message
from rust_gauge.core.dns import drive
from rust_gauge.core.message import authenticate, header_from_domain
from tests.answers import answering
from tests.core.test_dkim_messages import MESSAGE, published, rsa_key

WORLD = {
    "d.example TXT": ["v=spf1 ip4:192.0.2.0/24 -all"],
    "_dmarc.d.example TXT": ["v=DMARC1; p=reject; adkim=s"],
    "s1._domainkey.d.example TXT": [published(rsa_key())],
    "s1._domainkey.mail.d.example TXT": [published(rsa_key())],
    "list.example TXT": ["v=spf1 ip4:198.51.100.0/24 -all"],
}
SIGNED = sign_message(MESSAGE, rsa_key(), domain="d.example", selector="s1")
BELOW = sign_message(MESSAGE, rsa_key(), domain="mail.d.example", selector="s1")

CASES = [
    ("both pass", SIGNED, "192.0.2.3", "b@d.example", "pass", "deliver"),
    ("forwarded: DKIM carries it", SIGNED, "198.51.100.3", "b@list.example", "pass", "deliver"),
    ("only SPF", MESSAGE, "192.0.2.3", "b@d.example", "pass", "deliver"),
    ("SPF passes for somebody else", MESSAGE, "198.51.100.3", "b@list.example", "fail", "reject"),
    ("nothing passes", MESSAGE, "203.0.113.3", "b@d.example", "fail", "reject"),
    ("DKIM below, strict", BELOW, "203.0.113.3", "b@d.example", "fail", "reject"),
    ("changed on the way", SIGNED.replace(b"nine", b"ten"), "198.51.100.3", "b@list.example", "fail", "reject"),
    ("no connection known", SIGNED, "", "", "pass", "deliver"),
]


@pytest.mark.parametrize(("what", "raw", "ip", "mail_from", "result", "disposition"), CASES, ids=[c[0] for c in CASES])
def test_what_follows_from_spf_and_dkim_together(
    what: str, raw: bytes, ip: str, mail_from: str, result: str, disposition: str
) -> None:
    done = drive(authenticate(raw, ip=ip, helo="mx.d.example", mail_from=mail_from), answering(WORLD))
    assert done.header_from == "d.example"
    assert (done.dmarc[0].result, done.dmarc[0].disposition) == (result, disposition), done.dmarc[0].reason
    assert (done.spf is None) == (not ip)


FROMS = [
    (["a@d.example"], "d.example", ""),
    (["Marram Ferries <a@D.Example>"], "d.example", ""),
    (['"Ferries, Marram" <a@d.example>'], "d.example", ""),
    (["a@bücher.example"], "xn--bcher-kva.example", ""),
    (["=?utf-8?q?M=C3=A4rz?= <a@d.example>"], "d.example", ""),
    (["a@d.example, b@d.example"], "d.example", ""),
    (["a@d.example, b@e.example"], "", "2 domains"),
    (["a@d.example", "b@e.example"], "", "2 From fields"),
    ([], "", "no From"),
    (["nobody"], "", "no usable address"),
    ([""], "", "no usable address"),
    (["(" * 1500], "", "no usable address"),
    (["<" * 1500 + "a@d.example"], "", "no usable address"),
]


@pytest.mark.parametrize(("values", "domain", "words"), FROMS, ids=[str(row[0])[:40] for row in FROMS])
def test_the_domain_of_from(values: list[str], domain: str, words: str) -> None:
    fields = [HeaderField("From", f"From: {value}".encode()) for value in values]
    found, wrong = header_from_domain(fields)
    assert (found, words in wrong) == (domain, True)


@given(st.text(max_size=300))
def test_any_from_gives_a_domain_or_a_reason(value: str) -> None:
    found, wrong = header_from_domain([HeaderField("From", f"From: {value}".encode("utf-8", "replace"))])
    assert bool(found) != bool(wrong)
