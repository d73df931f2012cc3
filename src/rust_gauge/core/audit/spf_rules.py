"""What can be wrong with a domain's SPF record (RFC 7208), and the record that would be right."""

from rust_gauge.core.audit.examination import Examination
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.dns import DnsProgram, ask
from rust_gauge.core.spf import (
    LOOKUP_LIMIT,
    VOID_LIMIT,
    LookupTree,
    Qualifier,
    SpfRecord,
    is_spf1,
    parse_spf,
    walk_lookups,
)

_CLOSE = 8  # look-ups from which one more relay is likely to be one too many


def examine_spf(domain: str) -> DnsProgram[Examination]:
    """Ask for the SPF record of `domain` and examine it."""
    out = Examination()
    answer = yield from ask(domain, "TXT")
    if answer.failed:
        out.unanswered("spf", answer)
        return out
    texts = [txt.text for txt in answer.texts if is_spf1(txt.text)]
    out.show("spf", answer, texts)
    records = [parse_spf(text) for text in texts]
    whole = Place(domain, "TXT")
    if not records:
        near = [txt.text for txt in answer.texts if "spf1" in txt.text.lower()[:14]]
        out.findings.append(_missing(whole, near))
        return out
    if len(records) > 1:
        out.findings.append(_several(whole, records))
    for index, record in enumerate(records):
        out.findings += _syntax(domain, index, record)
        out.findings += _policy(domain, index, record)
    if len(records) == 1:
        tree = yield from walk_lookups(domain, records[0])
        out.spf_lookups = tree.cost
        out.findings += _lookups(domain, tree)
    return out


def _missing(place: Place, near: list[str]) -> Finding:
    return Finding(
        rule="spf-missing",
        level=Level.FAULT,
        title=f"No SPF record on {place.name}",
        place=place,
        evidence=tuple(near),
        reason="Receivers cannot tell which servers may send for this domain. "
        + (
            "There is a record that was meant as one, but it does not begin with exactly v=spf1 and a space."
            if near
            else "Mail from it counts as not authenticated by SPF, and anybody may use the name."
        ),
        remedy="Publish one TXT record that begins with v=spf1 and lists every relay; "
        "v=spf1 -all if this name never sends.",
        reference="RFC 7208 §4.5",
    )


def _several(place: Place, records: list[SpfRecord]) -> Finding:
    return Finding(
        rule="spf-several-records",
        level=Level.FAULT,
        title=f"{len(records)} SPF records on {place.name}",
        place=place,
        evidence=tuple(record.text for record in records),
        reason="With more than one SPF record every check ends in permerror: none of them counts, "
        "and mail from every relay fails SPF.",
        remedy="Publish one merged record and remove the others.",
        record=merge_records(records),
        reference="RFC 7208 §4.5",
    )


def merge_records(records: list[SpfRecord]) -> str | None:
    """One record with the terms of all, each once, and the mildest `all`; None where a record cannot be read.

    The mildest, because the merged record may name fewer relays than really send; tightening is a step of its own.
    """
    if any(record.problems for record in records):
        return None
    terms = dict.fromkeys(term.text for record in records for term in record.terms if term is not record.all)
    kept = [text for text in terms if not text.lower().startswith("redirect=")]
    order = [Qualifier.FAIL, Qualifier.SOFTFAIL, Qualifier.NEUTRAL]
    found = [record.all.qualifier for record in records if record.all and record.all.qualifier in order]
    mildest = max(found, key=order.index, default=Qualifier.SOFTFAIL)
    return " ".join(["v=spf1", *kept, f"{mildest}all"])


def _syntax(domain: str, index: int, record: SpfRecord) -> list[Finding]:
    if not record.problems:
        return []
    first = record.problems[0]
    return [
        Finding(
            rule="spf-syntax",
            level=Level.FAULT,
            title=f"The SPF record of {domain} cannot be read: {first.what}",
            place=Place(domain, "TXT", index, first.column, first.length),
            topic=str(index) if index else "",
            evidence=tuple(f"column {problem.column}: {problem.what}" for problem in record.problems),
            reason="One wrong term makes the whole record a permerror: mail from every relay fails SPF.",
            remedy=f"Correct the record at column {first.column}"
            + (f" and at {len(record.problems) - 1} more" if len(record.problems) > 1 else "")
            + ".",
            reference="RFC 7208 §4.6",
        )
    ]


def _policy(domain: str, index: int, record: SpfRecord) -> list[Finding]:
    """What the record permits, apart from its look-ups."""
    findings = []
    topic = str(index) if index else ""
    last = record.all
    if last is not None and last.qualifier is Qualifier.PASS:
        findings.append(
            Finding(
                rule="spf-everyone",
                level=Level.FAULT,
                title=f"The SPF record of {domain} lets the whole Internet send",
                place=Place(domain, "TXT", index, last.column, len(last.text)),
                topic=topic,
                evidence=(last.text,),
                reason="Whoever sends as this domain passes SPF; receivers treat such a record as worse than none.",
                remedy="Replace it with ~all, and with -all once every relay is listed.",
                record=_with_all(record, "~all"),
                reference="RFC 7208 §5.1",
            )
        )
    elif last is not None and last.qualifier is Qualifier.NEUTRAL:
        findings.append(
            Finding(
                rule="spf-neutral",
                level=Level.RISK,
                title=f"The SPF record of {domain} ends in ?all",
                place=Place(domain, "TXT", index, last.column, len(last.text)),
                topic=topic,
                evidence=(last.text,),
                reason="It says nothing about servers that are not listed, so it protects nobody.",
                remedy="End it in ~all, and in -all once every relay is listed.",
                record=_with_all(record, "~all"),
                reference="RFC 7208 §8.2",
            )
        )
    elif last is None and record.redirect is None:
        findings.append(
            Finding(
                rule="spf-no-all",
                level=Level.RISK,
                title=f"The SPF record of {domain} has no all at its end",
                place=Place(domain, "TXT", index),
                topic=topic,
                evidence=(record.text,),
                reason="Servers that are not listed get neutral instead of a failure, so it protects nobody.",
                remedy="Put ~all at the end, and -all once every relay is listed.",
                record=f"{record.text.rstrip()} ~all",
                reference="RFC 7208 §4.7",
            )
        )
    if last is not None:
        dead = [term for term in record.terms if term.column > last.column and term.text.partition("=")[0] != "exp"]
        if dead:
            findings.append(
                Finding(
                    rule="spf-after-all",
                    level=Level.RISK,
                    title=f"Terms after all are never looked at on {domain}",
                    place=Place(domain, "TXT", index, dead[0].column, _span(dead[0].column, dead[-1])),
                    topic=topic,
                    evidence=tuple(term.text for term in dead),
                    reason="Evaluation ends at all: what these terms were meant to permit is not permitted.",
                    remedy=f"Move {last.text} to the end, or drop the terms behind it.",
                    record=_with_all(record, last.text),
                    reference="RFC 7208 §5.1",
                )
            )
    pointers = [term for term in record.directives if term.mechanism == "ptr"]
    if pointers:
        findings.append(
            Finding(
                rule="spf-ptr",
                level=Level.RISK,
                title=f"The SPF record of {domain} uses ptr",
                place=Place(domain, "TXT", index, pointers[0].column, len(pointers[0].text)),
                topic=topic,
                evidence=tuple(term.text for term in pointers),
                reason="ptr is slow and unreliable, and some receivers skip it or reject the record for it.",
                remedy="List the sending addresses with ip4: and ip6: instead.",
                reference="RFC 7208 §5.5",
            )
        )
    return findings


def _span(start: int, last_term: object) -> int:
    column, text = getattr(last_term, "column", start), getattr(last_term, "text", "")
    return int(column) + len(text) - start


def _with_all(record: SpfRecord, ending: str) -> str:
    """The record with everything it means to permit, and `ending` as its last term."""
    terms = [term.text for term in record.terms if getattr(term, "mechanism", "") != "all"]
    terms = [text for text in terms if not text.lower().startswith("redirect=")]
    return " ".join(["v=spf1", *terms, ending])


def _lookups(domain: str, tree: LookupTree) -> list[Finding]:
    findings = []
    place = Place(domain, "TXT")
    costs = tuple(f"{node.term}: {node.cost}" for node in tree.nodes)
    if tree.cost > LOOKUP_LIMIT:
        more = "at least " if tree.truncated else ""
        findings.append(
            Finding(
                rule="spf-too-many-lookups",
                level=Level.FAULT,
                title=f"SPF on {domain} needs {more}{tree.cost} DNS look-ups; {LOOKUP_LIMIT} are allowed",
                place=place,
                evidence=costs,
                reason="A check that comes past the tenth look-up ends in permerror, whichever relay sent the mail.",
                remedy="Drop relays that no longer send, move a relay to a subdomain, or list its addresses.",
                reference="RFC 7208 §4.6.4",
            )
        )
    elif tree.cost >= _CLOSE:
        findings.append(
            Finding(
                rule="spf-lookups-close",
                level=Level.RISK,
                title=f"SPF on {domain} needs {tree.cost} of {LOOKUP_LIMIT} DNS look-ups",
                place=place,
                evidence=costs,
                reason="A relay that adds one include to its own record takes yours over the limit.",
                remedy="Drop relays that no longer send, or move one to a subdomain.",
                reference="RFC 7208 §4.6.4",
            )
        )
    if len(tree.voids) > VOID_LIMIT:
        findings.append(
            Finding(
                rule="spf-void-lookups",
                level=Level.FAULT,
                title=f"{len(tree.voids)} names in the SPF record of {domain} lead to nothing",
                place=place,
                evidence=tuple(node.term for node in tree.voids),
                reason=f"After {VOID_LIMIT} void look-ups a check may end in permerror.",
                remedy="Remove the terms whose names have no address or MX records.",
                reference="RFC 7208 §4.6.4",
            )
        )
    broken = [node for node in tree.flat() if node.problem in ("dead", "loop", "several", "syntax")]
    words = {
        "dead": "has no SPF record",
        "loop": "includes itself",
        "several": "has several SPF records",
        "syntax": "has an SPF record that cannot be read",
    }
    for name in dict.fromkeys(node.name for node in broken):
        node = next(node for node in broken if node.name == name)
        findings.append(
            Finding(
                rule="spf-include-broken",
                level=Level.FAULT,
                title=f"{name}, which the SPF record of {domain} leads to, {words[node.problem]}",
                place=place,
                topic=name,
                evidence=(node.term,),
                reason="A check that reaches it ends in permerror, whichever relay sent the mail.",
                remedy="Remove it if that relay no longer sends; otherwise ask its operator for the right name.",
                reference="RFC 7208 §5.2",
            )
        )
    return findings
