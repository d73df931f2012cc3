"""Domain names and addresses (RFC 1035, 5321, 5890, 6531)."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.names import normalise_domain, parse_address, registered_domain


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("Glasswort.Example", "glasswort.example"),
        ("  news.glasswort.example. ", "news.glasswort.example"),
        ("bücher.example", "xn--bcher-kva.example"),
        ("BÜCHER.example", "xn--bcher-kva.example"),
        ("xn--bcher-kva.example", "xn--bcher-kva.example"),
        ("a.b", "a.b"),
        ("a" * 63 + ".example", "a" * 63 + ".example"),
    ],
)
def test_a_domain_name_has_one_form(text: str, name: str) -> None:
    assert normalise_domain(text) == name


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "empty"),
        ("localhost", "one label"),
        ("a..example", "empty label"),
        (".example", "empty label"),
        ("a" * 64 + ".example", "longer than 63"),
        (".".join(["a" * 60] * 5), "longer than 253"),
        ("x" * 5000, "longer than 253"),
        ("192.0.2.1", "IP address"),
        ("[2001:db8::1]", "IP address"),
        ("https://a.example", "characters other than letters"),
        ("a@b.example", "characters other than letters"),
        ("_dmarc.a.example", "characters other than letters"),
        ("-a.example", "inner hyphens"),
        ("a-.example", "inner hyphens"),
        ("a b.example", "characters other than letters"),
        ("a.1", "number"),
        ("ü\ud800.example", "A-labels"),
    ],
)
def test_a_text_that_is_no_domain_name_is_refused_with_the_reason(text: str, why: str) -> None:
    with pytest.raises(DomainNameError) as caught:
        normalise_domain(text)
    assert why in caught.value.why
    assert caught.value.remedy


@given(st.text(max_size=300))
def test_a_domain_name_is_normal_after_normalising_or_refused(text: str) -> None:
    try:
        name = normalise_domain(text)
    except DomainNameError:
        return
    assert normalise_domain(name) == name
    assert name.isascii()
    assert len(name) <= 253


@pytest.mark.parametrize(
    ("host", "registered"),
    [
        ("mx1.in.tidepost.example", "tidepost.example"),
        ("tidepost.example", "tidepost.example"),
        ("mx.a.co.uk", "a.co.uk"),
        ("co.uk", "co.uk"),
    ],
)
def test_the_registered_domain_is_one_label_more_than_the_public_suffix(host: str, registered: str) -> None:
    assert registered_domain(host) == registered


@pytest.mark.parametrize(
    ("text", "shown", "key"),
    [
        ("a@tidepost.example", "a@tidepost.example", "a@tidepost.example"),
        ("Ada.Brook@TidePost.Example", "Ada.Brook@tidepost.example", "ada.brook@tidepost.example"),
        ('"Ada, B." <ada@tidepost.example>', "ada@tidepost.example", "ada@tidepost.example"),
        ("<ada@tidepost.example>", "ada@tidepost.example", "ada@tidepost.example"),
        ('"ada"@tidepost.example', "ada@tidepost.example", "ada@tidepost.example"),
        ('"ada b"@tidepost.example', '"ada b"@tidepost.example', '"ada b"@tidepost.example'),
        ("ada+x@tidepost.example", "ada+x@tidepost.example", "ada+x@tidepost.example"),
        ("jörg@bücher.example", "jörg@xn--bcher-kva.example", "jörg@xn--bcher-kva.example"),
        ("jo\u0308rg@a.example", "jo\u0308rg@a.example", "jörg@a.example"),
        ('"a@b"@tidepost.example', '"a@b"@tidepost.example', '"a@b"@tidepost.example'),
    ],
)
def test_an_address_keeps_its_local_part_and_has_a_key_to_match_by(text: str, shown: str, key: str) -> None:
    address = parse_address(text)
    assert str(address) == shown
    assert address.key == key


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "empty"),
        ("nobody", "no @"),
        ("@tidepost.example", "before the @"),
        ("a@", "after the @"),
        (".a@tidepost.example", "dot"),
        ("a..b@tidepost.example", "dot"),
        ("a b@tidepost.example", "quotes"),
        ("a@b@tidepost.example", "quotes"),
        ("a@localhost", "one label"),
        ("x" * 65 + "@tidepost.example", "64 bytes"),
        ("ü" * 33 + "@tidepost.example", "64 bytes"),
        ("a <b@c.example> >", "do not match"),
        ("x" * 3000, "too long"),
        ("abcdef@" + ".".join(["b" * 60] * 4) + ".example", "254 bytes"),
    ],
)
def test_a_text_that_is_no_address_is_refused_with_the_reason(text: str, why: str) -> None:
    with pytest.raises(AddressError) as caught:
        parse_address(text)
    assert why in caught.value.why


@given(st.text(max_size=400))
def test_parsing_an_address_again_changes_nothing(text: str) -> None:
    try:
        address = parse_address(text)
    except AddressError:
        return
    assert parse_address(str(address)).key == address.key


@given(st.emails())
def test_common_addresses_are_taken(text: str) -> None:
    assert parse_address(text).key == parse_address(text.upper()).key
