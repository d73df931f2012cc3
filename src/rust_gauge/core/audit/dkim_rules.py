"""What can be wrong with DKIM keys in DNS (RFC 6376, key lengths by RFC 8301, Ed25519 by RFC 8463)."""

from rust_gauge.core.audit.answer_rules import is_private_key
from rust_gauge.core.audit.examination import CheckState, Examination, KeySeen, why_unmeasured
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import AuditRequest, Selector
from rust_gauge.core.dkim import DkimKey, looks_like_key, parse_dkim_key
from rust_gauge.core.dns import DnsAnswer, DnsProgram, DnsQuestion, ask, gather

_TOO_SHORT = 1024  # below it verifiers must not accept (RFC 8301 §3.2)
_RIGHT = 2048  # bits; RFC 8301 §3.2 asks signers for at least this
_LONG = 4096  # above it verifiers need not be able to verify (RFC 8301 §3.2)
_OLD = 400 * 86_400  # seconds
_CHAIN = 2  # CNAMEs that one name may need


def examine_dkim(request: AuditRequest) -> DnsProgram[Examination]:
    """Ask for the key at each selector and examine it, then all keys together."""
    selectors = request.all_selectors()
    parts = yield from gather([_examine_selector(request, selector) for selector in selectors])
    whole = Examination()
    for part in parts:
        whole.records += part.records
        whole.findings += part.findings
        whole.keys += part.keys
        whole.checks += part.checks
    unanswered = [check for check in whole.checks if check.key == "dkim"]
    whole.checks = []
    usable = [key for key in whole.keys if key.usable]
    whole.findings += _only_edwards(request.domain, usable)
    told = [selector for selector in selectors if selector.source != "usual"]
    if usable:
        lengths = ", ".join(f"{key.selector} ({key.key_type} {key.bits})" for key in usable)
        whole.point("dkim", "DKIM", CheckState.GOOD, f"Keys at {lengths}")
    elif unanswered:
        whole.point("dkim", "DKIM", CheckState.UNMEASURED, unanswered[0].summary)
    elif told:
        whole.point("dkim", "DKIM", CheckState.FAULT, "No usable key at any selector")
    elif request.sends is False:
        whole.point("dkim", "DKIM", CheckState.ABSENT, "Not needed: this domain never sends")
    else:
        whole.point("dkim", "DKIM", CheckState.UNMEASURED, "No selectors known; DNS cannot list them")
    return whole


def _examine_selector(request: AuditRequest, selector: Selector) -> DnsProgram[Examination]:
    out = Examination()
    domain = request.domain
    name = f"{selector.name}._domainkey.{domain}"
    answer = yield from ask(name, "TXT")
    usual = selector.source == "usual"
    if answer.failed:
        if not usual:
            out.unanswered("dkim", answer)
            out.point("dkim", "DKIM", CheckState.UNMEASURED, why_unmeasured(answer))
        return out
    texts = sorted(txt.text for txt in answer.texts)
    keys = [parse_dkim_key(text) for text in texts if looks_like_key(text)]
    if usual and not keys:
        return out
    out.show("dkim", answer, texts, source=selector.source)
    place = Place(name, "TXT")
    if not keys:
        out.findings.append((yield from _no_key(domain, selector, answer, texts)))
        return out
    if len(keys) > 1:
        out.findings.append(
            Finding(
                rule="dkim-several-keys",
                level=Level.FAULT,
                title=f"{len(keys)} DKIM records at selector {selector.name} of {domain}",
                place=place,
                evidence=tuple(key.text for key in keys),
                reason="Which one a verifier uses is undefined, so the same mail may pass at one receiver and "
                "fail at another.",
                remedy="Leave one record at this name; a second key needs its own selector.",
                reference="RFC 6376 §3.6.2.2",
                scope=f"selector:{selector.name}",
            )
        )
    if len(answer.aliases) > _CHAIN:
        out.findings.append(_long_chain(name, selector, answer))
    for index, key in enumerate(keys):
        out.keys.append(
            KeySeen(
                selector.name,
                selector.source,
                key.key_type,
                key.bits,
                key.fingerprint,
                key.revoked,
                key.usable,
                "y" in key.flags,
            )
        )
        at = next(i for i, text in enumerate(texts) if text == key.text)
        used = [s.name for s in request.streams if (s.selector, s.dkim_domain) == (selector.name, domain)]
        out.findings += _examine_key(selector.name, domain, at, key, name, used)
        out.findings += _examine_use(request, selector.name, at if index else 0, key, name)
    return out


def _no_key(domain: str, selector: Selector, answer: DnsAnswer, texts: list[str]) -> DnsProgram[Finding]:
    """No key here: say what is here instead, and look at the names where such a record usually ends up."""
    name = answer.question.name
    wrong = (f"{name}.{domain}", f"{selector.name}.{domain}", f"{selector.name}._domainkey.{domain.partition('.')[2]}")
    answers = yield tuple(DnsQuestion(text, "TXT") for text in wrong)
    found = [answer for answer in answers if any(looks_like_key(txt.text) for txt in answer.texts)]
    evidence = tuple(texts) or (f"{name} TXT: {answer.status.replace('_', ' ')}",)
    if answer.aliases:
        evidence = (f"{name} is an alias of {' -> '.join(answer.aliases)}", *evidence)
    remedy = "Publish the key at this name, or sign with a selector that has one."
    record = None
    if found:
        misplaced = found[0]
        evidence += (f"there is a key at {misplaced.question.name}",)
        remedy = f"Move the record from {misplaced.question.name} to {name}."
        record = next(txt.text for txt in misplaced.texts if looks_like_key(txt.text))
    return Finding(
        rule="dkim-key-misplaced" if found else "dkim-no-key",
        level=Level.FAULT,
        title=f"No DKIM key at selector {selector.name} of {domain}"
        + (f"; it is at {found[0].question.name}" if found else ""),
        place=Place(name, "TXT"),
        evidence=evidence,
        reason="Mail that is signed with this selector fails DKIM everywhere.",
        remedy=remedy,
        record=record,
        reference="RFC 6376 §6.1.2",
        scope=f"selector:{selector.name}",
    )


def _long_chain(name: str, selector: Selector, answer: DnsAnswer) -> Finding:
    return Finding(
        rule="dkim-long-chain",
        level=Level.RISK,
        title=f"The key at {name} is reached through {len(answer.aliases)} aliases",
        place=Place(name, "TXT"),
        evidence=(" -> ".join(answer.aliases),),
        reason="Every alias adds a zone whose failure fails the signature, and some verifiers stop following.",
        remedy="Point the first alias at the last name, or publish the key itself.",
        reference="RFC 1034 §3.6.2",
        scope=f"selector:{selector.name}",
    )


def _only_edwards(domain: str, usable: list[KeySeen]) -> list[Finding]:
    """Ed25519 only beside RSA: many verifiers do not know it yet (RFC 8463 §5)."""
    alone = [key for key in usable if key.key_type == "ed25519"]
    if not alone or any(key.key_type == "rsa" for key in usable):
        return []
    return [
        Finding(
            rule="dkim-only-ed25519",
            level=Level.RISK,
            title=f"{domain} has Ed25519 keys and no RSA key",
            place=Place(f"{alone[0].selector}._domainkey.{domain}", "TXT"),
            evidence=tuple(key.selector for key in alone),
            reason="Many receivers do not verify Ed25519 yet; to them the mail is unsigned.",
            remedy="Sign twice: with a 2048-bit RSA key at its own selector, and with Ed25519.",
            reference="RFC 8463 §5",
        )
    ]


def _examine_use(request: AuditRequest, selector: str, index: int, key: DkimKey, name: str) -> list[Finding]:
    """Examine what the record allows the key to be used for, where else it is, and how long it has been there."""
    which = f"selector {selector} of {request.domain}"
    scope = f"selector:{selector}"
    findings = []

    def at(tag: str) -> Place:
        found = key.tags.get(tag)
        return Place(name, "TXT", index, found.column if found else 0, len(tag) + 1 + len(found.value) if found else 0)

    if key.hashes and "sha256" not in key.hashes:
        findings.append(
            Finding(
                rule="dkim-key-hash",
                level=Level.FAULT,
                title=f"The DKIM key at {which} does not allow sha256",
                place=at("h"),
                evidence=(f"h={':'.join(key.hashes)}",),
                reason="Signatures may only use sha256, so no signature of this key can pass.",
                remedy="Remove h= from the record.",
                reference="RFC 8301 §3.1",
                scope=scope,
            )
        )
    if key.services and not {"*", "email"} & set(key.services):
        findings.append(
            Finding(
                rule="dkim-key-service",
                level=Level.FAULT,
                title=f"The DKIM key at {which} is not for mail",
                place=at("s"),
                evidence=(f"s={':'.join(key.services)}",),
                reason="Mail verifiers must ignore a key for another service.",
                remedy="Remove s= from the record, or write s=email.",
                reference="RFC 6376 §3.6.1",
                scope=scope,
            )
        )
    below = [s.name for s in request.streams if s.selector == selector and s.header_from.endswith("." + request.domain)]
    if "s" in key.flags and below:
        findings.append(
            Finding(
                rule="dkim-key-strict",
                level=Level.NOTE,
                title=f"The DKIM key at {which} is for this domain only",
                place=at("t"),
                topic="t",
                evidence=("t=s", *below),
                reason="Signatures whose i= is in a subdomain fail.",
                remedy="Remove the flag s if subdomains sign with their own i=.",
                reference="RFC 6376 §3.6.1",
                scope=scope,
            )
        )
    others = request.key_domains.get(key.fingerprint, ()) if key.fingerprint else ()
    if others:
        findings.append(
            Finding(
                rule="dkim-key-shared",
                level=Level.NOTE,
                title=f"The DKIM key at {which} is also published for {others[0]}"
                + (f" and {len(others) - 1} more" if len(others) > 1 else ""),
                place=Place(name, "TXT", index),
                evidence=others[:10],
                reason="Whoever has it can sign for all of them, and rotating it means changing all of them.",
                remedy="Give each domain its own key at the next rotation.",
                reference="RFC 6376 §3.1",
                scope="none",
            )
        )
    first = request.key_first_seen.get(key.fingerprint) if key.fingerprint else None
    if first is not None and request.now is not None and request.now - first > _OLD:
        findings.append(
            Finding(
                rule="dkim-key-old",
                level=Level.NOTE,
                title=f"The DKIM key at {which} has been in use for {(request.now - first) // 86_400} days",
                place=Place(name, "TXT", index),
                evidence=(f"first seen {(request.now - first) // 86_400} days ago",),
                reason="The longer a key is used, the more likely it has leaked.",
                remedy="Publish a new key at a new selector, sign with it, and revoke this one some days later.",
                reference="RFC 6376 §3.1",
                scope="none",
            )
        )
    return findings


def _examine_key(selector: str, domain: str, index: int, key: DkimKey, name: str, streams: list[str]) -> list[Finding]:
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
                reason="Verifiers cannot parse it, so mail signed with this selector fails DKIM everywhere.",
                remedy="Publish the public key again as one value, without quotes, backslashes or line breaks.",
                record=None if is_private_key(key.text) else key.repaired,
                reference="RFC 6376 §3.6.1",
                scope=f"selector:{selector}",
            )
        )
    if key.revoked:
        findings.append(
            Finding(
                rule="dkim-key-revoked",
                level=Level.FAULT if streams else Level.NOTE,
                title=f"The DKIM key at {which} is revoked"
                + (f", and the stream {streams[0]} signs with it" if streams else ""),
                place=Place(name, "TXT", index),
                topic=topic,
                evidence=(key.text, *(f"signs with it: {stream}" for stream in streams)),
                reason="Its p= is empty: mail signed with this selector fails DKIM.",
                remedy="Sign with a selector whose key is published, or publish this key again."
                if streams
                else "If it is retired, nothing to do. If anything still signs with it, publish its key again.",
                reference="RFC 6376 §3.6.1",
                scope=f"selector:{selector}",
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
                reason="Receivers must not accept keys under 1024 bits, so its signatures are ignored."
                if short
                else "Still accepted, but weak; 2048 bits are expected today.",
                remedy="Create a 2048-bit key, publish it at a new selector, then sign with that one.",
                reference="RFC 8301 §3.2",
                scope=f"selector:{selector}",
            )
        )
    if key.bits is not None and key.key_type == "rsa" and key.bits > _LONG:
        findings.append(
            Finding(
                rule="dkim-key-long",
                level=Level.NOTE,
                title=f"The DKIM key at {which} has {key.bits} bits",
                place=Place(name, "TXT", index),
                topic=topic,
                evidence=(f"RSA, {key.bits} bits",),
                reason=f"Verifiers must support up to {_LONG} bits; some fail longer keys.",
                remedy="Use 2048 bits, which is sufficient for years.",
                reference="RFC 8301 §3.2",
                scope=f"selector:{selector}",
            )
        )
    if "y" in key.flags:
        flag = key.tags.get("t")
        findings.append(
            Finding(
                rule="dkim-testing",
                level=Level.RISK,
                title=f"The DKIM key at {which} is in test mode",
                place=Place(name, "TXT", index, flag.column if flag else 0, 2 + len(flag.value) if flag else 0),
                topic=topic,
                evidence=("t=y",),
                reason="Receivers may treat its mail as unsigned.",
                remedy="Remove t=y from the record.",
                reference="RFC 6376 §3.6.1",
                scope=f"selector:{selector}",
            )
        )
    return findings
