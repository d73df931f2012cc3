"""What can be wrong with DKIM keys in DNS (RFC 6376, key lengths by RFC 8301)."""

from rust_gauge.core.audit.examination import Examination
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.dkim import DkimKey, looks_like_key, parse_dkim_key
from rust_gauge.core.dns import DnsProgram, ask, gather

_TOO_SHORT = 1024  # below it verifiers must not accept (RFC 8301 §3.2)
_RIGHT = 2048


def examine_dkim(domain: str, selectors: tuple[str, ...]) -> DnsProgram[Examination]:
    """Ask for the key at each selector and examine it."""
    parts = yield from gather([_examine_selector(domain, selector) for selector in selectors])
    whole = Examination()
    for part in parts:
        whole.records += part.records
        whole.findings += part.findings
    return whole


def _examine_selector(domain: str, selector: str) -> DnsProgram[Examination]:
    out = Examination()
    name = f"{selector}._domainkey.{domain}"
    answer = yield from ask(name, "TXT")
    if answer.failed:
        out.unanswered("dkim", answer)
        return out
    texts = [txt.text for txt in answer.texts]
    out.show("dkim", answer, texts)
    keys = [parse_dkim_key(text) for text in texts if looks_like_key(text)]
    place = Place(name, "TXT")
    if not keys:
        out.findings.append(
            Finding(
                rule="dkim-no-key",
                level=Level.FAULT,
                title=f"No DKIM key at selector {selector} of {domain}",
                place=place,
                evidence=tuple(texts) or (f"{name} TXT: {answer.status.replace('_', ' ')}",),
                reason="Mail that is signed with this selector fails DKIM everywhere.",
                remedy="Publish the key at this name, or sign with a selector that has one.",
                reference="RFC 6376 §6.1.2",
            )
        )
        return out
    if len(keys) > 1:
        out.findings.append(
            Finding(
                rule="dkim-several-keys",
                level=Level.FAULT,
                title=f"{len(keys)} DKIM records at selector {selector} of {domain}",
                place=place,
                evidence=tuple(key.text for key in keys),
                reason="Which one a verifier takes is undefined, so the same mail passes here and fails there.",
                remedy="Leave one record at this name; a second key needs a selector of its own.",
                reference="RFC 6376 §3.6.2.2",
            )
        )
    for index, key in enumerate(keys):
        out.findings += _examine_key(selector, domain, index, key, name)
    return out


def _examine_key(selector: str, domain: str, index: int, key: DkimKey, name: str) -> list[Finding]:
    which = f"selector {selector} of {domain}"
    topic = str(index) if index else ""
    findings = []
    if key.problems:
        first = key.problems[0]
        findings.append(
            Finding(
                rule="dkim-key-unreadable",
                level=Level.FAULT,
                title=f"The DKIM key at {which} cannot be used: {first.what}",
                place=Place(name, "TXT", index, first.column, first.length),
                topic=topic,
                evidence=tuple(f"column {problem.column}: {problem.what}" for problem in key.problems),
                reason="Verifiers cannot read it, so mail signed with this selector fails DKIM everywhere.",
                remedy="Publish the public key again as one value, without quotes, backslashes or line breaks.",
                reference="RFC 6376 §3.6.1",
            )
        )
    if key.revoked:
        findings.append(
            Finding(
                rule="dkim-key-revoked",
                level=Level.NOTE,
                title=f"The DKIM key at {which} is revoked",
                place=Place(name, "TXT", index),
                topic=topic,
                evidence=(key.text,),
                reason="Its p= is empty: mail signed with this selector fails DKIM.",
                remedy="Nothing to do if it is retired. If anything still signs with it, publish its key again.",
                reference="RFC 6376 §3.6.1",
            )
        )
    if key.bits is not None and key.key_type == "rsa" and key.bits < _RIGHT:
        p = key.tags.get("p")
        short = key.bits < _TOO_SHORT
        findings.append(
            Finding(
                rule="dkim-key-short",
                level=Level.FAULT if short else Level.RISK,
                title=f"The DKIM key at {which} has {key.bits} bits",
                place=Place(name, "TXT", index, p.value_column if p else 0, len(p.value) if p else 0),
                topic=topic,
                evidence=(f"RSA, {key.bits} bits",),
                reason="Receivers must not accept keys under 1024 bits, so its signatures count for nothing."
                if short
                else "Still accepted, but weak; 2048 bits are expected today.",
                remedy="Make a 2048-bit key, publish it at a new selector, then sign with that one.",
                reference="RFC 8301 §3.2",
            )
        )
    if "y" in key.flags:
        flag = key.tags.get("t")
        findings.append(
            Finding(
                rule="dkim-testing",
                level=Level.RISK,
                title=f"The DKIM key at {which} says that it is only a test",
                place=Place(name, "TXT", index, flag.column if flag else 0, 2 + len(flag.value) if flag else 0),
                topic=topic,
                evidence=("t=y",),
                reason="Receivers may treat its mail as if it were not signed.",
                remedy="Remove t=y from the record.",
                reference="RFC 6376 §3.6.1",
            )
        )
    return findings
