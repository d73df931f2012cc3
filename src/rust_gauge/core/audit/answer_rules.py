"""What the answers of an audit show by themselves: aliases that lead nowhere, and private keys that were published."""

import re
from collections.abc import Iterable
from dataclasses import replace

from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.dns import Answer, AnswerStatus, DnsAnswer

# PEM armour, or how the base64 of a private key in DER begins: PKCS#1, PKCS#8 with RSA or Ed25519
_PRIVATE = re.compile(
    r"PRIVATE KEY|(?:^|[=\s;\"])(?:MII(?:EpA|Eow|EpQ|CXA|CXQ|CWw|JKA|JKQ|JJ|Evg|Evw|EvQ|Jrg|JRA|JQg)|MC4CAQAwBQYDK2Vw)"
)
_SHOWN = 24  # characters of a private key that a finding repeats
# Findings that say only that nothing usable is at a name: the alias or the private key there is the reason.
_FOLLOW = ("dkim-no-key", "dkim-key-unreadable", "dns-no-answer", "dmarc-missing", "mx-missing")


def is_private_key(text: str) -> bool:
    """Return whether a text holds a private key where a public one belongs."""
    return _PRIVATE.search(text) is not None


def examine_answers(domain: str, answers: Iterable[Answer], findings: list[Finding]) -> list[Finding]:
    """Return the findings with those that the answers add; what only follows from one of them is left out."""
    added: list[Finding] = []
    answers = list(answers)
    found = {a.question.name for a in answers if isinstance(a, DnsAnswer) and a.status is AnswerStatus.FOUND}
    for answer in answers:
        if not isinstance(answer, DnsAnswer) or answer.question.server or answer.question.unchecked:
            continue
        name = answer.question.name
        if name != domain and not name.endswith("." + domain):
            continue
        private = next((txt.text for txt in answer.texts if is_private_key(txt.text)), None)
        if private is not None:
            added.append(_private_key(name, private))
        if _loops(answer):
            added.append(_loop(name, answer))
        elif answer.aliases and answer.void and name not in (*found, f"_dmarc.{domain}"):
            named = any(f.place.name == name and f.rule in _FOLLOW for f in findings)
            added.append(_dangling(name, answer, needed=named))
    # A name is asked for several types; the alias is the same for all of them.
    by_id = {finding.id: finding for finding in sorted(added, key=lambda finding: -finding.level.rank)}
    causes = {finding.place.name for finding in by_id.values() if finding.level is Level.FAULT}
    kept = [f for f in findings if not (f.place.name in causes and f.rule in _FOLLOW)]
    scopes = {f.place.name: f.scope for f in findings if f.rule in _FOLLOW}
    return [*kept, *(replace(f, scope=scopes.get(f.place.name, f.scope)) for f in by_id.values())]


def _loops(answer: DnsAnswer) -> bool:
    seen = [answer.question.name.lower(), *(alias.lower() for alias in answer.aliases)]
    repeated = len({*seen}) < len(seen)
    return repeated or (answer.status is AnswerStatus.SERVFAIL and answer.detail == "CNAME loop")


def _loop(name: str, answer: DnsAnswer) -> Finding:
    way = list(dict.fromkeys([name, *answer.aliases]))
    return Finding(
        rule="dns-alias-loop",
        level=Level.FAULT,
        title=f"{name} is an alias that leads back to itself",
        place=Place(name, "CNAME"),
        evidence=(" -> ".join([*way[:8], way[0] if len(way) < 8 else "..."]),),
        reason="No resolver can answer for this name, so whatever it should hold is missing for everybody.",
        remedy="Point the CNAME at the name that holds the record, or replace it by the record itself.",
        reference="RFC 1034 §3.6.2",
    )


def _dangling(name: str, answer: DnsAnswer, *, needed: bool) -> Finding:
    target = answer.aliases[-1]
    missing = answer.status is AnswerStatus.NO_NAME
    what = "does not exist" if missing else f"has no {answer.question.rdtype} record"
    return Finding(
        rule="dns-alias-dangling",
        level=Level.FAULT if needed else Level.RISK if missing else Level.NOTE,
        title=f"{name} is an alias of {target}, which {what}",
        place=Place(name, "CNAME"),
        evidence=(" -> ".join([name, *answer.aliases]), f"{target} {answer.question.rdtype}: {answer.status}"),
        reason="Whoever can create that name decides what is published as yours."
        if missing
        else "Nothing is found at this name.",
        remedy="Check the target for a typing error, and with its operator. "
        f"Remove the CNAME if {target} is gone for good.",
        reference="RFC 1034 §3.6.2",
    )


def _private_key(name: str, text: str) -> Finding:
    return Finding(
        rule="dkim-private-key",
        level=Level.FAULT,
        title=f"A private key is published at {name}",
        place=Place(name, "TXT"),
        evidence=(text[:_SHOWN] + "...",),
        reason="Everybody can read it and sign mail as this domain. It stays compromised after it is removed.",
        remedy="Remove the record now. Create a new key pair, publish its public key at a new selector, and sign with "
        "that one.",
        reference="RFC 6376 §8.3",
    )
