"""Replies and their causes (RFC 5321 §4.2, RFC 3463)."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.replies import (
    Cause,
    CauseRule,
    Classifier,
    EnhancedStatus,
    Permanence,
    RuleError,
    RuleSet,
    built_in_rules,
    classify,
    failures,
    own_rules,
    parse_reply,
    read_rules,
)

C, P = Cause, Permanence
CASES = [
    ("550 5.1.1 <a@b.example>: no such mailbox here", C.NO_SUCH_MAILBOX, P.PERMANENT, "rule:no-mailbox"),
    ("550 5.1.1 recipient does not exist", C.NO_SUCH_MAILBOX, P.PERMANENT, "rule:no-mailbox"),
    ("550 unknown user", C.NO_SUCH_MAILBOX, P.PERMANENT, "rule:no-mailbox"),
    ("550-5.1.1 something\n550 5.1.1 else", C.NO_SUCH_MAILBOX, P.PERMANENT, "rule:code-bad-mailbox"),
    ("550 5.2.1 mailbox disabled", C.MAILBOX_DISABLED, P.PERMANENT, "rule:disabled"),
    ("552 5.2.2 over quota", C.MAILBOX_FULL, P.TRANSIENT, "rule:full"),
    ("452 4.2.2 mailbox full", C.MAILBOX_FULL, P.TRANSIENT, "rule:full"),
    ("552 storage", C.MAILBOX_FULL, P.TRANSIENT, "rule:code-552"),
    ("550 5.1.2 nothing there", C.NO_SUCH_DOMAIN, P.PERMANENT, "rule:code-bad-domain"),
    ("556 5.1.10 recipient address has null MX", C.NO_SUCH_DOMAIN, P.PERMANENT, "rule:no-domain"),
    # Codes that lie: what the words say about us wins.
    ("550 5.1.1 rejected, 192.0.2.1 is on a blocklist", C.BLOCKLISTED, P.PERMANENT, "rule:blocklist"),
    ("550 5.1.1 poor reputation of the sender", C.REPUTATION, P.PERMANENT, "rule:reputation"),
    ("550 5.7.26 mail is not authenticated: SPF permerror", C.AUTHENTICATION, P.PERMANENT, "rule:authentication"),
    ("550 5.7.23 no", C.AUTHENTICATION, P.PERMANENT, "rule:code-authentication"),
    ("550 5.7.1 no", C.POLICY, P.PERMANENT, "rule:code-policy"),
    ("550 5.7.99 refused", C.POLICY, P.PERMANENT, "rule:policy"),
    ("554 5.7.1 refused as spam", C.CONTENT, P.PERMANENT, "rule:content"),
    ("451 4.7.1 greylisted, come back", C.GREYLISTED, P.TRANSIENT, "rule:greylist"),
    ("450 grey listing in action", C.GREYLISTED, P.TRANSIENT, "rule:greylist"),
    ("421 4.7.0 too many messages", C.RATE_LIMITED, P.TRANSIENT, "rule:rate"),
    ("554 5.7.1 Relay access denied", C.RELAY_DENIED, P.PERMANENT, "rule:relay"),
    ("530 5.7.0 Must issue a STARTTLS command first", C.TLS_REQUIRED, P.PERMANENT, "rule:tls"),
    ("552 5.3.4 message size exceeds fixed limit", C.TOO_LARGE, P.PERMANENT, "rule:size"),
    ("554 5.4.6 too many hops", C.LOOP, P.PERMANENT, "rule:loop"),
    ("delivery time expired", C.EXPIRED, P.PERMANENT, "rule:expired"),
    ("connect to mx.b.example: Connection refused", C.HOST_UNREACHABLE, P.TRANSIENT, "rule:unreachable"),
    ("451 4.3.2 system not accepting messages", C.PROVIDER_TROUBLE, P.TRANSIENT, "rule:receiver-trouble"),
    ("501 5.5.4 no", C.PROTOCOL_ERROR, P.PERMANENT, "rule:code-protocol"),
    ("503 bad sequence", C.PROTOCOL_ERROR, P.PERMANENT, "rule:protocol"),
    ("550 no", C.UNCLASSIFIED, P.PERMANENT, "none"),
    ("", C.UNCLASSIFIED, P.NONE, "none"),
]


@pytest.mark.parametrize(("text", "cause", "permanence", "rule"), CASES, ids=[row[0][:40] for row in CASES])
def test_a_reply_has_a_cause_and_the_rule_that_found_it(
    text: str, cause: Cause, permanence: Permanence, rule: str
) -> None:
    found = classify(text)
    assert (found.cause, found.permanence, found.rule) == (cause, permanence, rule)


def test_codes_that_the_source_gives_apart_are_used() -> None:
    reply = parse_reply("no thanks", 550, "5.1.1")
    assert (reply.code, reply.enhanced) == (550, EnhancedStatus(5, 1, 1))
    assert classify("no thanks", 550, "5.1.1").cause is Cause.NO_SUCH_MAILBOX


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


def test_the_built_in_rules_decide_what_they_say_they_decide() -> None:
    rules = built_in_rules()
    assert failures(rules.rules, rules) == []
    assert all(rule.fits for rule in rules.rules)
    assert {rule.cause for rule in rules.rules} == set(Cause) - {C.NONE, C.UNCLASSIFIED}


MORE = [
    # What a full mailbox, a closed account, a wrong name look like in many hands.
    ("550 5.1.1 <kim@orchard.example>... User unknown", C.NO_SUCH_MAILBOX, P.PERMANENT),
    ("550 No such person at this address", C.NO_SUCH_MAILBOX, P.PERMANENT),
    ("554 5.1.1 kim@orchard.example: mailbox not found", C.NO_SUCH_MAILBOX, P.PERMANENT),
    ("550 Requested action not taken: mailbox unavailable", C.UNCLASSIFIED, P.PERMANENT),
    ("553 5.3.0 <kim@orchard.example>... Addressee unknown", C.NO_SUCH_MAILBOX, P.PERMANENT),
    ("550 5.1.1 sorry, no mailbox here by that name", C.NO_SUCH_MAILBOX, P.PERMANENT),
    ("550 invalid recipient", C.NO_SUCH_MAILBOX, P.PERMANENT),
    ("552 5.2.2 the mailbox of kim is full (quota 100 MB)", C.MAILBOX_FULL, P.TRANSIENT),
    ("554 5.7.1 the user you are trying to scope is over their storage quota", C.MAILBOX_FULL, P.TRANSIENT),
    ("550 account suspended", C.MAILBOX_DISABLED, P.PERMANENT),
    # What is said of us.
    ("550 5.1.1 message refused, sender has a poor reputation", C.REPUTATION, P.PERMANENT),
    ("421 4.7.0 messages from 192.0.2.1 temporarily deferred due to user complaints", C.REPUTATION, P.TRANSIENT),
    ("554 5.7.1 192.0.2.1 blocked using dnsbl.harbourwatch.example", C.BLOCKLISTED, P.PERMANENT),
    ("550-5.7.26 this mail is unauthenticated", C.AUTHENTICATION, P.PERMANENT),
    ("451 4.7.1 Greylisting in action, please come back later", C.GREYLISTED, P.TRANSIENT),
    ("450 4.7.1 <mta>: Helo command rejected: Host not found", C.POLICY, P.TRANSIENT),
    ("host mx1.tidepost.example[203.0.113.5] summary: 550 5.1.1 <kim@tidepost.example>: Recipient address rejected: "
     "User unknown (in reply to RCPT TO command)", C.NO_SUCH_MAILBOX, P.PERMANENT),
    ("host mx1.tidepost.example[203.0.113.5] refused to talk to me: 421 4.7.0 too many connections", C.RATE_LIMITED,
     P.TRANSIENT),
    ("connect to mx1.tidepost.example[203.0.113.5]:25: Connection timed out", C.HOST_UNREACHABLE, P.TRANSIENT),
    ("Host or domain name not found. Name service error for name=tidepst.example type=MX: Host not found",
     C.NO_SUCH_DOMAIN, P.PERMANENT),
    ("451 4.3.5 server configuration problem", C.PROVIDER_TROUBLE, P.TRANSIENT),
    ("421 4.3.2 service shutting down for maintenance", C.PROVIDER_TROUBLE, P.TRANSIENT),
]  # fmt: skip


@pytest.mark.parametrize(("text", "cause", "permanence"), MORE, ids=[row[0][:40] for row in MORE])
def test_replies_as_they_are_met(text: str, cause: Cause, permanence: Permanence) -> None:
    found = classify(text)
    assert (found.cause, found.permanence) == (cause, permanence)


def test_rules_of_ones_own_come_first_and_can_be_for_one_provider() -> None:
    own = RuleSet(
        read_rules(
            """
            [[rule]]
            name = "harbour-gate"
            cause = "reputation"
            permanence = "transient"
            provider = "kestrelbox.example"
            words = ["gate is shut"]
            fits = ["550 5.1.1 the gate is shut for ships"]
            """
        ),
        prefix="own:",
    )
    classifier = Classifier(own)
    found = classifier.classify("550 5.1.1 the gate is shut for 12 ships", provider="kestrelbox.example")
    assert (found.cause, found.permanence, found.rule) == (C.REPUTATION, P.TRANSIENT, "own:harbour-gate")
    assert classifier.classify("550 5.1.1 the gate is shut for 12 ships").cause is C.NO_SUCH_MAILBOX
    assert failures(own.rules, own) == []


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("[[rule]]\nname = 'a'\ncause = 'sea'\nwords = ['x']", "sea"),
        ("[[rule]]\nname = 'A b'\ncause = 'content'\nwords = ['x']", "not a rule name"),
        ("[[rule]]\nname = 'a'\ncause = 'content'", "no condition"),
        ("[[rule]]\nname = 'a'\ncause = 'content'\npattern = '('", "not a regular expression"),
        ("[[rule]]\nname = 'a'\ncause = 'content'\ncode = '5xy'", "not a reply code"),
        ("[[rule]]\nname = 'a'\ncause = 'content'\nenhanced = '7.1'", "not an enhanced status code"),
        ("[[rule]]\nname = 'a'\ncause = 'content'\nwords = ['Spam']", "lower case"),
        ("[[rule]]\nname = 'a'\ncause = 'content'\nwords = 'spam'", "not a list"),
        ("[[rule]]\nname = 'a'\ncause = 'content'\nwords = ['x']\ncolour = 1", "colour"),
        ("[[rule]]\nname = 'a'\ncause = 'content'\npattern = 5", "not a text"),
        ("[[rule]]\nname = 'a'\ncause = 'none'\nwords = ['x']", "must have a cause"),
        ("rule = 5", "not a list"),
        ("[[rules]]\nname = 'a'", "not a list"),
        ("name = ", "not valid TOML"),
    ],
)
def test_rules_that_cannot_be_used_say_why(text: str, why: str) -> None:
    with pytest.raises(RuleError, match=why):
        read_rules(text)


def test_two_rules_of_one_name_are_refused() -> None:
    rules = read_rules("[[rule]]\nname = 'a'\ncause = 'content'\nwords = ['x']\n" * 2)
    with pytest.raises(RuleError, match="Two rules are named a"):
        RuleSet(rules)


@given(st.text(max_size=3000))
def test_any_text_can_be_classified(text: str) -> None:
    assert classify(text).cause in Cause


def test_a_pattern_of_ones_own_may_use_only_so_much_time() -> None:
    seconds = iter(range(10_000))
    slow = own_rules([CauseRule("slow", Cause.POLICY, pattern="x")], lambda: float(next(seconds)))
    assert slow.find(parse_reply("550 x")) is not None
    assert slow.slow_rules == ["slow"]
    assert slow.find(parse_reply("550 x")) is None, "from then on it fits nothing"
    quick = own_rules([CauseRule("quick", Cause.POLICY, pattern="x", unless="y")], lambda: 0.0)
    assert [quick.find(parse_reply(text)) is not None for text in ("550 x", "550 xy")] == [True, False]
    assert quick.slow_rules == []
