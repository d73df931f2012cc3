"""ARC chains (RFC 8617): sealed here, verified, and broken in every way; and the field that a receiver writes."""

import base64
import hashlib

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.arc import ArcOutcome, ArcResult, verify_arc
from rust_gauge.core.assay import Sending, examine
from rust_gauge.core.dkim import canonical_body, canonical_header, split_message
from rust_gauge.core.dkim.canonical import RELAXED
from rust_gauge.core.dns import AnswerStatus, drive
from tests.answers import answering
from tests.vectors.assay_messages import message

KEY = Ed25519PrivateKey.from_private_bytes(bytes(range(32)))
PUBLIC = base64.b64encode(KEY.public_key().public_bytes_raw()).decode()
RECORDS = {
    f"s{n}._domainkey.list{n}.example TXT": [f"v=DKIM1; k=ed25519; p={PUBLIC}"] for n in (1, 2, 3)
}  # fmt: skip


def signature_of(*fields: bytes) -> str:
    data = b"\r\n".join(canonical_header(field, RELAXED) for field in fields)
    return base64.b64encode(KEY.sign(hashlib.sha256(data).digest())).decode()


def sealed(raw: bytes, number: int, cv: str = "") -> bytes:
    """Return a message with one more ARC set on top (§5.1), by list<number>.example."""
    where = f"d=list{number}.example; s=s{number}"
    found = split_message(raw)
    results = f"ARC-Authentication-Results: i={number}; mx.list{number}.example; spf=pass".encode()
    body = base64.b64encode(hashlib.sha256(canonical_body(found.body, RELAXED)).digest()).decode()
    ams = f"ARC-Message-Signature: i={number}; a=ed25519-sha256; c=relaxed/relaxed; {where}; h=from:subject; bh={body}; b="
    chosen = [found.all(name)[-1].raw for name in ("From", "Subject")]
    signed = (ams + signature_of(*chosen, ams.encode())).encode()
    seal = f"ARC-Seal: i={number}; a=ed25519-sha256; cv={cv or ('none' if number == 1 else 'pass')}; {where}; b="
    before = [
        next(field.raw for field in found.all(name) if f"i={n};" in field.text)
        for n in range(1, number)
        for name in ("ARC-Authentication-Results", "ARC-Message-Signature", "ARC-Seal")
    ]
    whole = (seal + signature_of(*before, results, signed, seal.encode())).encode()
    return b"\r\n".join([whole, signed, results]) + b"\r\n" + raw


def outcome(raw: bytes, records: dict[str, list[str]] = RECORDS) -> ArcOutcome:
    return drive(verify_arc(raw), answering(records))


def test_a_chain_of_sets_holds() -> None:
    assert outcome(message()).result is ArcResult.NONE
    one = sealed(message(), 1)
    assert outcome(one).result is ArcResult.PASS
    three = outcome(sealed(sealed(one, 2), 3))
    assert (three.result, [each.domain for each in three.instances]) == (
        ArcResult.PASS, ["list1.example", "list2.example", "list3.example"],
    )  # fmt: skip
    assert three.instances[0].results == "i=1; mx.list1.example; spf=pass"


def test_a_list_that_changes_the_subject_and_seals_again_keeps_the_chain() -> None:
    changed = sealed(message(), 1).replace(b"Subject: ", b"Subject: [list] ")
    assert outcome(changed).result is ArcResult.FAIL
    assert outcome(sealed(changed, 2)).result is ArcResult.PASS


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (lambda raw: raw.replace(b"Subject: ", b"Subject: [list] "), "the message signature of set 2"),
        (lambda raw: raw + b"more\r\n", "the body was changed"),
        (lambda raw: raw.replace(b"mx.list1.example; spf=pass", b"mx.list1.example; spf=fail"), "the seal of set 1"),
        (lambda raw: raw.replace(b"i=1; mx", b"i=3; mx"), "does not have i=1 to i=2"),
        (lambda raw: raw.replace(b"cv=pass", b"cv=none"), "not possible there"),
        (lambda raw: raw.replace(b"cv=pass", b"cv=fail"), "broken before it"),
        (lambda raw: raw.replace(b"ARC-Seal: i=1;", b"X-Seal: i=1;"), "once each"),
        (lambda raw: b"ARC-Seal: i=2; cv=pass\r\n" + raw, "once each"),
        (lambda raw: raw.replace(b"ARC-Seal: i=2; a=ed25519-sha256", b"ARC-Seal: i=2; a=rsa-sha1"), "cannot be read"),
    ],
)
def test_a_broken_chain_says_where(change: object, reason: str) -> None:
    found = outcome(change(sealed(sealed(message(), 1), 2)))  # type: ignore[operator]
    assert found.result is ArcResult.FAIL
    assert reason in found.reason


def test_a_key_that_is_not_there_breaks_the_chain_and_one_without_an_answer_does_not() -> None:
    raw = sealed(message(), 1)
    assert outcome(raw, {}).result is ArcResult.FAIL
    failing = {"s1._domainkey.list1.example": AnswerStatus.SERVFAIL}
    silent = drive(verify_arc(raw), answering({}, failing))
    assert silent.result is ArcResult.TEMPERROR


@given(st.lists(st.sampled_from(["i=1;", "i=2;", "cv=none;", "a=rsa-sha256;", "b=;", "d=x.example;", "s=s;", " x"])))
def test_any_fields_are_judged(parts: list[str]) -> None:
    value = "".join(parts)
    raw = (
        f"ARC-Seal: {value}\r\nARC-Message-Signature: {value}\r\nARC-Authentication-Results: {value}\r\n\r\nx".encode()
    )
    assert outcome(raw).result in (ArcResult.FAIL, ArcResult.TEMPERROR)


def test_the_receivers_field_has_every_method() -> None:
    from rust_gauge.documents.assays import assay_document

    raw = sealed(message(), 1)
    known = Sending("192.0.2.9", "mx.d.example", "bounce@d.example")
    records = {**RECORDS, "d.example TXT": ["v=spf1 ip4:192.0.2.9 -all"]}
    done = assay_document(drive(examine(raw, sending=known), answering(records)))
    lines = done.results_header.split("\r\n\t")
    assert lines[0] == "Authentication-Results: mx.receiver.example;"
    assert lines[1] == "spf=pass (sender IP is 192.0.2.9) smtp.mailfrom=bounce@d.example;"
    assert lines[2] == "dkim=none;"
    assert lines[-1] == "arc=pass"
    assert done.arc is not None
    assert done.arc.sets[0].seal == "pass"
    broken = examine(raw.replace(b"spf=pass", b"spf=fail"), sending=known)
    rules = {each.rule for each in drive(broken, answering(records)).assay.findings}
    assert "arc-fail" in rules
