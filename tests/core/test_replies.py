"""Replies and their causes (RFC 5321 §4.2, RFC 3463)."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.replies import Cause, EnhancedStatus, Permanence, classify, parse_reply

C, P = Cause, Permanence
CASES = [
    ("550 5.1.1 <a@b.example>: no such mailbox here", C.NO_SUCH_MAILBOX, P.PERMANENT, "text:no-mailbox"),
    ("550 5.1.1 recipient does not exist", C.NO_SUCH_MAILBOX, P.PERMANENT, "text:no-mailbox"),
    ("550 unknown user", C.NO_SUCH_MAILBOX, P.PERMANENT, "text:no-mailbox"),
    ("550-5.1.1 something\n550 5.1.1 else", C.NO_SUCH_MAILBOX, P.PERMANENT, "enhanced:1.1"),
    ("550 5.2.1 mailbox disabled", C.MAILBOX_DISABLED, P.PERMANENT, "text:disabled"),
    ("552 5.2.2 over quota", C.MAILBOX_FULL, P.PERMANENT, "text:full"),
    ("452 4.2.2 mailbox full", C.MAILBOX_FULL, P.TRANSIENT, "text:full"),
    ("552 storage", C.MAILBOX_FULL, P.PERMANENT, "code:552"),
    ("550 5.1.2 nothing there", C.NO_SUCH_DOMAIN, P.PERMANENT, "enhanced:1.2"),
    ("556 5.1.10 recipient address has null MX", C.NO_SUCH_DOMAIN, P.PERMANENT, "text:no-domain"),
    # Codes that lie: what the words say about us wins.
    ("550 5.1.1 rejected, 192.0.2.1 is on a blocklist", C.BLOCKLISTED, P.PERMANENT, "text:blocklist"),
    ("550 5.1.1 poor reputation of the sender", C.REPUTATION, P.PERMANENT, "text:reputation"),
    ("550 5.7.26 mail is not authenticated: SPF permerror", C.AUTHENTICATION, P.PERMANENT, "text:authentication"),
    ("550 5.7.23 no", C.AUTHENTICATION, P.PERMANENT, "enhanced:7.23"),
    ("550 5.7.1 refused", C.POLICY, P.PERMANENT, "enhanced:7.1"),
    ("550 5.7.99 refused", C.POLICY, P.PERMANENT, "enhanced:7.x"),
    ("554 5.7.1 refused as spam", C.CONTENT, P.PERMANENT, "text:content"),
    ("451 4.7.1 greylisted, come back", C.GREYLISTED, P.TRANSIENT, "text:greylist"),
    ("450 grey listing in action", C.GREYLISTED, P.TRANSIENT, "text:greylist"),
    ("421 4.7.0 too many messages", C.RATE_LIMITED, P.TRANSIENT, "text:rate"),
    ("554 5.7.1 Relay access denied", C.RELAY_DENIED, P.PERMANENT, "text:relay"),
    ("530 5.7.0 Must issue a STARTTLS command first", C.TLS_REQUIRED, P.PERMANENT, "text:tls"),
    ("552 5.3.4 message size exceeds fixed limit", C.TOO_LARGE, P.PERMANENT, "text:size"),
    ("554 5.4.6 too many hops", C.LOOP, P.PERMANENT, "text:loop"),
    ("delivery time expired", C.EXPIRED, P.NONE, "text:expired"),
    ("connect to mx.b.example: Connection refused", C.HOST_UNREACHABLE, P.NONE, "text:unreachable"),
    ("451 4.3.2 system not accepting messages", C.PROVIDER_TROUBLE, P.TRANSIENT, "enhanced:3.2"),
    ("501 5.5.4 syntax", C.PROTOCOL_ERROR, P.PERMANENT, "enhanced:5.x"),
    ("503 bad sequence", C.PROTOCOL_ERROR, P.PERMANENT, "code:503"),
    ("550 no", C.UNCLASSIFIED, P.PERMANENT, "none"),
    ("", C.UNCLASSIFIED, P.NONE, "none"),
]


@pytest.mark.parametrize(("text", "cause", "permanence", "rule"), CASES, ids=[row[0][:40] for row in CASES])
def test_a_reply_has_a_cause_and_the_rule_that_found_it(
    text: str, cause: Cause, permanence: Permanence, rule: str
) -> None:
    found = classify(parse_reply(text))
    assert (found.cause, found.permanence, found.rule) == (cause, permanence, rule)


def test_codes_that_the_source_gives_apart_are_used() -> None:
    reply = parse_reply("no thanks", 550, "5.1.1")
    assert (reply.code, reply.enhanced) == (550, EnhancedStatus(5, 1, 1))
    assert classify(reply).cause is Cause.NO_SUCH_MAILBOX


@pytest.mark.parametrize("text", ["version 5.1.1.2", "10.5.1.1 refused", "5.01.1", "6.1.1", "5.1.1000"])
def test_numbers_that_only_look_like_an_enhanced_code_are_none(text: str) -> None:
    assert parse_reply(text).enhanced is None


def test_the_numbers_in_the_store_stay_what_they_are() -> None:
    # A change of order would give every stored event another cause. Add new causes at the end.
    assert [Cause.from_number(n) for n in (0, 1, 6, 19, 20)] == [
        C.NONE,
        C.NO_SUCH_MAILBOX,
        C.REPUTATION,
        C.UNCLASSIFIED,
        C.PROVIDER_TROUBLE,
    ]
    assert all(Cause.from_number(cause.number) is cause for cause in Cause)


@given(st.text(max_size=3000))
def test_any_text_can_be_classified(text: str) -> None:
    assert classify(parse_reply(text)).cause in Cause
