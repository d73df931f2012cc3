"""Signing and verifying messages (RFC 6376, 8301, 8463): what holds, what does not, and the reason given."""

import base64
import functools
import re
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.asymmetric import ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from hypothesis import given, settings
from hypothesis import strategies as st

from rust_gauge.core.dkim import (
    DkimResult,
    DkimVerdict,
    canonical_body,
    canonical_header,
    read_signature,
    sign_message,
    split_message,
    verify_message,
)
from rust_gauge.core.dns import AnswerStatus, drive
from tests.answers import answering

P, F, T, E = DkimResult.PASS, DkimResult.FAIL, DkimResult.TEMPERROR, DkimResult.PERMERROR
MESSAGE = (
    b"From: Marram Ferries <booking@d.example>\r\nTo: Isla <isla@tidepost.example>\r\n"
    b"Subject: Your  ticket\r\nDate: Fri, 20 Nov 2026 08:00:00 +0000\r\nMessage-ID: <1@d.example>\r\n"
    b"\r\nThe boat leaves at nine. \r\n\r\n  Bring\t a coat.\r\n\r\n\r\n"
)


@functools.cache
def rsa_key(bits: int = 2048) -> rsa.RSAPrivateKey:
    return rsa.generate_private_key(public_exponent=65537, key_size=bits)


EDWARDS = ed25519.Ed25519PrivateKey.from_private_bytes(bytes(range(32)))


def published(key: rsa.RSAPrivateKey | ed25519.Ed25519PrivateKey, tags: str = "") -> str:
    if isinstance(key, rsa.RSAPrivateKey):
        octets = key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
        return f"v=DKIM1; k=rsa; {tags}p={base64.b64encode(octets).decode()}"
    octets = key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
    return f"v=DKIM1; k=ed25519; {tags}p={base64.b64encode(octets).decode()}"


def signed(message: bytes = MESSAGE, key: object = None, **more: object) -> bytes:
    more = {"domain": "d.example", "selector": "s1", **more}
    return sign_message(message, key or rsa_key(), **more)  # type: ignore[arg-type]


def verify(
    message: bytes, *records: str, now: int | None = None, server: AnswerStatus | None = None
) -> tuple[DkimVerdict, ...]:
    world = {"s1._domainkey.d.example TXT": list(records or (published(rsa_key()),)),
             "e1._domainkey.d.example TXT": [published(EDWARDS)]}  # fmt: skip
    fails = {"s1._domainkey.d.example": server} if server else {}
    return drive(verify_message(message, now), answering(world, fails))


def one(message: bytes, *records: str, **more: object) -> DkimVerdict:
    (verdict,) = verify(message, *records, **more)  # type: ignore[arg-type]
    return verdict


def test_the_example_of_rfc_8463_verifies() -> None:
    message = (Path(__file__).parent.parent / "vectors" / "rfc8463.eml").read_bytes()
    world = {"brisbane._domainkey.football.example.com TXT": [
        "v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="]}  # fmt: skip
    (verdict,) = drive(verify_message(message), answering(world))
    assert verdict.result is P, verdict.detail
    assert any("bare LF" in note for note in verdict.notes)


@pytest.mark.parametrize("header_form", ["simple", "relaxed"])
@pytest.mark.parametrize("body_form", ["simple", "relaxed"])
@pytest.mark.parametrize("kind", ["rsa", "ed25519"])
def test_what_was_signed_verifies(header_form: str, body_form: str, kind: str) -> None:
    key, selector = (rsa_key(), "s1") if kind == "rsa" else (EDWARDS, "e1")
    message = signed(key=key, selector=selector, header_form=header_form, body_form=body_form)
    verdict = one(message)
    assert verdict.result is P, verdict.detail
    assert (verdict.body_matches, verdict.header_matches) == (True, True)


# The canonical forms (§3.4.5 gives these examples)


@pytest.mark.parametrize(
    ("form", "body", "canonical"),
    [
        ("relaxed", b" C \r\nD \t E\r\n\r\n\r\n", b" C\r\nD E\r\n"),
        ("simple", b" C \r\nD \t E\r\n\r\n\r\n", b" C \r\nD \t E\r\n"),
        ("simple", b"", b"\r\n"),
        ("relaxed", b"", b""),
        ("simple", b"\r\n\r\n", b"\r\n"),
        ("relaxed", b" \t\r\n\r\n", b""),
        ("simple", b"no end", b"no end\r\n"),
        ("relaxed", b"no end \t", b"no end\r\n"),
        ("relaxed", b"a\r\n \r\n", b"a\r\n"),
        ("simple", b"a\r\n \r\n", b"a\r\n \r\n"),
        ("simple", b"a\n\r\n", b"a\n\r\n"),
    ],
)
def test_bodies_in_canonical_form(form: str, body: bytes, canonical: bytes) -> None:
    assert canonical_body(body, form) == canonical


@pytest.mark.parametrize(
    ("form", "raw", "canonical"),
    [
        ("relaxed", b"A: X", b"a:X"),
        ("relaxed", b"B : Y\t\r\n\tZ  ", b"b:Y Z"),
        ("simple", b"B : Y\t\r\n\tZ  ", b"B : Y\t\r\n\tZ  "),
        ("relaxed", b"Subject:", b"subject:"),
    ],
)
def test_header_fields_in_canonical_form(form: str, raw: bytes, canonical: bytes) -> None:
    assert canonical_header(raw, form) == canonical


# What does not hold, and why


def changed(old: bytes, new: bytes, **more: object) -> bytes:
    message = signed(**more)  # type: ignore[arg-type]
    head, _, rest = message.partition(b"\r\nFrom:")
    assert old in b"\r\nFrom:" + rest
    return head + (b"\r\nFrom:" + rest).replace(old, new, 1)


CHANGES = [
    ("a word of the body", changed(b"nine", b"ten"), "body-changed", ""),
    ("a footer", changed(b"Bring\t a coat.\r\n", b"Bring\t a coat.\r\n-- \r\nSent by a list\r\n"), "body-changed",
     "were appended, starting with: -- Sent by a list"),
    ("blanks in a simple body", changed(b"nine. \r\n", b"nine.\r\n", body_form="simple"), "body-changed", ""),
    ("the Subject", changed(b"ticket", b"money"), "header-changed", ""),
    ("a tag in the Subject", changed(b"Subject: ", b"Subject: [ferries] "), "header-changed",
     "'[ferries]' was added before the Subject"),
    ("a fold in a simple header", changed(b"Your  ticket", b"Your ticket", header_form="simple"), "header-changed", ""),
    ("the case of a name in a simple header", changed(b"Subject:", b"subject:", header_form="simple"),
     "header-changed", ""),
    ("a field added that was signed as absent", changed(b"\r\nTo:", b"\r\nReply-To: x@x.example\r\nTo:",
     headers=("from", "reply-to")), "header-changed", "Reply-To was added after signing"),
    ("a second From, oversigned", changed(b"\r\nFrom:", b"\r\nFrom: evil@x.example\r\nFrom:"), "header-changed",
     "From was added after signing"),
    ("a field with a copy in z=", changed(b"ticket", b"money", copy_fields=True), "header-changed",
     "Subject was 'Your ticket' and is 'Your money' now"),
    ("header and body", changed(b"ticket", b"money").replace(b"nine", b"ten"), "header-changed", ""),
]  # fmt: skip


@pytest.mark.parametrize(("what", "message", "reason", "clue"), CHANGES, ids=[row[0] for row in CHANGES])
def test_a_change_on_the_way_is_told_for_what_it_is(what: str, message: bytes, reason: str, clue: str) -> None:
    verdict = one(message)
    assert (verdict.result, verdict.reason) == (F, reason), verdict.detail
    assert clue in " ".join(verdict.clues)


def test_a_relaxed_signature_survives_new_blanks_and_folds() -> None:
    message = changed(b"Subject: Your  ticket", b"SUBJECT :Your\r\n \t ticket  ").replace(b"nine. ", b"nine.")
    assert one(message).result is P


def test_blanks_that_changed_under_a_simple_signature_are_recognised() -> None:
    raw = MESSAGE.replace(b"Your  ticket", b"Your ticket").replace(b"nine. ", b"nine.").replace(b"\t a", b" a")
    message = signed(raw.replace(b"  Bring", b" Bring"), body_form="simple")
    assert "relaxed canonicalisation" in " ".join(one(message.replace(b"nine.", b"nine. ")).clues)


def test_another_key_than_the_published_one_is_told_from_a_change() -> None:
    verdict = one(signed(), published(rsa.generate_private_key(65537, 2048)))
    assert (verdict.result, verdict.reason) == (F, "other-key")


def edited(old: str, new: str, **more: object) -> bytes:
    """The signature field itself changed."""
    return signed(**more).replace(old.encode(), new.encode(), 1)  # type: ignore[arg-type]


UNUSABLE = [
    ("rsa-sha1", edited("a=rsa-sha256", "a=rsa-sha1"), None, E, "signature-unreadable"),
    ("no such algorithm", edited("a=rsa-sha256", "a=rsa-md5"), None, E, "signature-unreadable"),
    ("a version of the future", edited("v=1", "v=2"), None, E, "signature-unreadable"),
    ("no bh", edited("bh=", "bx="), None, E, "signature-unreadable"),
    ("From not signed", edited("h=from:to:subject:date:message-id:from", "h=to"), None, E, "signature-unreadable"),
    ("i= elsewhere", edited("d=d.example;", "d=d.example; i=a@other.example;"), None, E, "signature-unreadable"),
    ("i= that only ends alike", edited("d=d.example;", "d=d.example; i=a@bad-d.example;"), None, E,
     "signature-unreadable"),
    ("a tag twice", edited("d=d.example;", "d=d.example; d=e.example;"), None, E, "signature-unreadable"),
    ("canonicalisation unknown", edited("c=relaxed/", "c=loose/"), None, E, "signature-unreadable"),
    ("no such key", edited("s=s1", "s=s2"), None, E, "no-key"),
    ("key revoked", signed(), "v=DKIM1; p=", E, "key-revoked"),
    ("key broken", signed(), published(rsa_key()).replace("p=M", 'p="M'), E, "key-unreadable"),
    ("key of another type", signed(), published(EDWARDS), E, "key-type"),
    ("key for sha1 only", signed(), published(rsa_key(), "h=sha1; "), E, "key-hash"),
    ("key for another service", signed(), published(rsa_key(), "s=tlsrpt; "), E, "key-service"),
    ("strict key, i= below", signed(identity="a@mail.d.example"), published(rsa_key(), "t=s; "), E, "key-strict"),
    ("more body was signed than there is", signed(length=9999), None, E, "body-too-short"),
    ("short key", signed(key=rsa_key(1024)), "v=DKIM1; k=rsa; p=MFwwDQYJKoZIhvcNAQEBBQADSwAwSAJBAKj34GkxFhD90vcNLYLInFEX6"
     "Ppy1tPf9Cnzj4p4WGeKLs1Pt8QuKUpRKfFLfRYC9AIKjbJTWit+CqvjWYzvQwECAwEAAQ==", E, "key-short"),
    ("something else at the selector", signed(), "hello", E, "no-key"),
]  # fmt: skip


@pytest.mark.parametrize(("what", "message", "record", "result", "reason"), UNUSABLE, ids=[r[0] for r in UNUSABLE])
def test_a_signature_that_cannot_be_tried_says_why(
    what: str, message: bytes, record: str | None, result: DkimResult, reason: str
) -> None:
    verdict = one(message, *([record] if record else []))
    assert (verdict.result, verdict.reason) == (result, reason), verdict.detail
    assert verdict.detail


@pytest.mark.parametrize("tags", ["h=sha256; ", "h=sha1:sha256; ", "s=email; ", "s=*; ", "t=y; ", "n=some note; "])
def test_keys_with_these_tags_are_usable(tags: str) -> None:
    assert one(signed(), published(rsa_key(), tags)).result is P


def test_a_strict_key_verifies_its_own_domain() -> None:
    assert one(signed(identity="a@d.example"), published(rsa_key(), "t=s; ")).result is P


def test_a_server_that_fails_is_a_temperror() -> None:
    assert one(signed(), server=AnswerStatus.SERVFAIL).result is T


def test_of_several_keys_the_one_that_fits_counts() -> None:
    assert one(signed(), published(rsa.generate_private_key(65537, 2048)), published(rsa_key())).result is P


def test_a_signature_expires() -> None:
    message = signed(signed_at=1000, expires_at=2000)
    assert one(message, now=2000).result is P
    assert (one(message, now=2001).result, one(message, now=2001).reason) == (F, "signature-expired")
    assert one(message).result is P
    assert one(signed(signed_at=2000, expires_at=2000)).reason == "signature-unreadable"


def test_l_covers_the_beginning_only_and_says_so() -> None:
    message = signed(length=10)
    verdict = one(message.replace(b"coat", b"whatever else"))
    assert verdict.result is P
    assert verdict.body_hashed == 10
    assert "text can be appended" in " ".join(verdict.notes)


def test_every_signature_is_judged_on_its_own() -> None:
    message = signed(signed(key=EDWARDS, selector="e1"))
    first, second = verify(message)
    assert (first.signature.algorithm, first.result) == ("rsa-sha256", P)
    assert (second.signature.algorithm, second.result) == ("ed25519-sha256", P)
    assert verify(MESSAGE) == ()


def test_what_the_signature_leaves_open_is_told() -> None:
    verdict = one(signed(headers=("from", "date"), oversign=()))
    assert set(verdict.unsigned) == {"To", "Subject", "Message-ID"}
    assert "not oversigned" in " ".join(verdict.notes)
    assert verdict.signed_fields[0].startswith("From: Marram Ferries")


def test_the_b_tag_is_taken_out_wherever_it_stands() -> None:
    head, tail = signed(copy_fields=True, header_form="simple").split(b"\r\n\r\n", 1)
    assert one(head + b"\r\n\r\n" + tail).result is P


def test_of_fields_with_the_same_name_the_lowest_is_signed_first() -> None:
    raw = MESSAGE.replace(b"To:", b"Received: one\r\nReceived: two\r\nTo:")
    message = signed(raw, headers=("from", "received"))
    assert one(message.replace(b"Received: one", b"Received: other")).result is P
    assert one(message.replace(b"Received: two", b"Received: other")).result is F


# Anything at all


def test_fifty_signatures_and_ten_thousand_fields_are_bounded() -> None:
    message = b"".join(b"X-%d: y\r\n" % n for n in range(10_000)) + MESSAGE
    for _ in range(3):
        message = signed(message, headers=("from", "to"))
    field = message[: message.index(b"X-0:")]
    verdicts = verify(field * 20 + message[len(field) :])
    assert len(verdicts) == 60
    assert verdicts[-1].reason == "not-tried"
    assert verdicts[0].result is F or verdicts[0].result is P


def test_explaining_many_failures_is_bounded_too() -> None:
    message = b"".join(b"X-%d: y\r\n" % n for n in range(5000)) + MESSAGE
    names = [f"x-{n}" for n in range(5000)]
    one_ = signed(message, headers=["from", *names])
    field = one_[: one_.index(b"X-0:")].replace(b"t=", b"t=")
    broken = field * 40 + one_[len(field) :].replace(b"ticket", b"money").replace(b"y\r\n", b"z\r\n")
    assert {verdict.reason for verdict in verify(broken)} == {"header-changed"}


@settings(max_examples=200)
@given(st.binary(max_size=3000))
def test_any_octets_are_some_message(octets: bytes) -> None:
    message = split_message(octets)
    assert all(b":" in field.raw for field in message.fields)
    assert verify(octets) == verify(octets)


@settings(max_examples=200)
@given(st.text(max_size=400))
def test_any_text_is_read_as_a_signature_or_says_why_not(text: str) -> None:
    signature = read_signature(text)
    assert signature.problems or (signature.domain and signature.selector and signature.signature)


@settings(max_examples=100)
@given(st.binary(max_size=300), st.sampled_from(["simple", "relaxed"]))
def test_a_canonical_body_is_its_own_canonical_form(body: bytes, form: str) -> None:
    once = canonical_body(body.replace(b"\n", b"\r\n"), form)
    assert canonical_body(once, form) == once


def test_a_header_of_one_endless_line_is_read_in_one_go() -> None:
    message = split_message(b"x" * 400_000 + b"\r\nFrom: a@d.example\r\n\r\nHello\r\n")
    assert ([field.name for field in message.fields], len(message.strays)) == (["From"], 1)
    assert read_signature("x" * 400_000).problems


BODIES = st.lists(st.sampled_from([b"\r\n", b" ", b"\t", b"a", b"\r", b"\n", b"bc"]), max_size=40).map(b"".join)


@settings(max_examples=300)
@given(BODIES)
def test_a_relaxed_body_is_what_the_standard_says_step_by_step(body: bytes) -> None:
    body = re.sub(rb"[ \t]+(?=\r\n|\Z)", b"", body)  # §3.4.4: ignore all whitespace at the end of lines
    wanted = re.sub(rb"[ \t]+", b" ", body)  # reduce all sequences within a line to a single SP
    wanted = re.sub(rb"(\r\n)+\Z", b"", wanted)  # ignore all empty lines at the end of the body
    wanted = wanted + b"\r\n" if wanted else b""  # non-empty and no CRLF at the end: one is added
    assert canonical_body(body, "relaxed") == wanted


@settings(max_examples=300)
@given(BODIES)
def test_a_simple_body_ends_in_one_line_end(body: bytes) -> None:
    assert canonical_body(body, "simple") == re.sub(rb"(\r\n)*\Z", b"", body, count=1) + b"\r\n"


HEADERS = st.lists(
    st.sampled_from([b"\r\n", b"From", b":", b" ", b"\t", b"a", b"\r", b"To: x\r\n", b"X: y\r\n z\r\n", b"caf\xe9"]),
    max_size=25,
).map(b"".join)


@settings(max_examples=300)
@given(HEADERS)
def test_every_line_of_a_header_is_in_a_field_or_a_stray(head: bytes) -> None:
    head = re.sub(rb"(\r\n)+", b"\r\n", head).strip(b"\r\n")
    message = split_message(head + b"\r\n\r\nbody\r\n")
    if not message.bare_lf and head:
        lines = [line for line in re.split(rb"\r\n(?![ \t])", head) if line]
        fields = [line for line in lines if re.match(rb"[!-9;-~]+[ \t]*:", line)]
        assert [field.raw for field in message.fields] == fields
        assert len(message.strays) == len(lines) - len(fields)
        assert message.body == b"body\r\n"


@settings(max_examples=40)
@given(
    st.binary(max_size=400).map(lambda b: b.replace(b"\r", b"").replace(b"\n", b"\r\n")),
    st.sampled_from(["simple", "relaxed"]),
    st.sampled_from(["simple", "relaxed"]),
)
def test_any_body_that_is_signed_verifies(body: bytes, header_form: str, body_form: str) -> None:
    raw = b"From: a@d.example\r\n\r\n" + body
    message = sign_message(
        raw, EDWARDS, domain="d.example", selector="e1", header_form=header_form, body_form=body_form
    )
    assert one(message).result is P
