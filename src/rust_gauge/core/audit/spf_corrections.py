"""The corrected SPF record that findings offer: one for all that a name publishes, audited before it is offered."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from dns.rdataclass import IN
from dns.rdatatype import TXT
from dns.rdtypes.ANY.TXT import TXT as TxtRdata

from rust_gauge.core.audit.findings import Finding, Level
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsProgram, overlay
from rust_gauge.core.spf import (
    LOOKUP_LIMIT,
    VOID_LIMIT,
    Corrected,
    Directive,
    LookupNode,
    LookupTree,
    Qualifier,
    SpfRecord,
    correct,
    is_spf1,
    parse_spf,
)
from rust_gauge.core.spf.record import Network

_ROUNDS = 6  # corrections tried: each removes or replaces what the audit of the one before found
_BROKEN = ("dead", "loop", "several", "syntax", "many_mx")
_LISTED = 12  # addresses that may stand in place of one term; more belong to somebody who changes them often

Audit = Callable[[str, DnsAnswer], DnsProgram[tuple[list[Finding], LookupTree | None]]]


def offer_spf(
    domain: str,
    answer: DnsAnswer,
    texts: Sequence[str],
    findings: list[Finding],
    tree: LookupTree | None,
    audit: Audit,
) -> DnsProgram[list[Finding]]:
    """Return the findings with the corrected record, each where the record no longer has that finding.

    `audit` examines a record in place of what is published. Nothing is offered when a fault remains, or when nobody
    would be left who may send.
    """
    found = yield from _corrected(domain, answer, texts, findings, tree, audit)
    if found is None:
        return findings
    corrected, remaining = found
    rules = {finding.rule for finding in remaining}
    said = _left_out(corrected)
    unknown = [finding.topic for finding in remaining if finding.rule == "spf-include-silent"]
    if unknown:
        said += f" Not verified: there is no usable answer for {', '.join(unknown)}."
    return [
        finding
        if finding.rule in rules or finding.place.rdtype != "TXT"
        else replace(finding, record=corrected.text, remedy=finding.remedy + said)
        for finding in findings
    ]


def _left_out(corrected: Corrected) -> str:
    said = ""
    if corrected.left_out:
        said += f" The record offered here leaves out {_and(corrected.left_out)}."
    if corrected.listed:
        said += f" It has the current addresses of {_and(corrected.listed)}: update it when they change."
    return said


def _and(words: Sequence[str]) -> str:
    shown = [word[:80] for word in words[:5]]
    if len(words) > 5:
        shown.append(f"{len(words) - 5} more terms")
    return shown[0] if len(shown) == 1 else ", ".join(shown[:-1]) + " and " + shown[-1]


def _corrected(
    domain: str,
    answer: DnsAnswer,
    texts: Sequence[str],
    findings: list[Finding],
    tree: LookupTree | None,
    audit: Audit,
) -> DnsProgram[tuple[Corrected, list[Finding]] | None]:
    published = [_octets(rdata) for rdata in answer.records if _is_spf(rdata)]
    broken: set[str] = {*_open(findings, tree)}
    addresses: dict[str, list[Network]] = {}
    if tree is not None:
        broken.update(_broken(tree))
        addresses = _to_list(tree, parse_spf(texts[0]))
    for _ in range(_ROUNDS):
        corrected = correct(texts, broken, addresses)
        if corrected is None or [corrected.text.encode()] == published or not _anybody(parse_spf(corrected.text)):
            return None
        tried = _published(answer, corrected.text)
        findings, tree = yield from overlay(audit(domain, tried), {answer.question: tried})
        if not any(finding.level is Level.FAULT for finding in findings):
            return corrected, findings
        before = len(broken), len(addresses)
        if tree is not None:
            broken.update(_broken(tree))
            addresses.update(_to_list(tree, parse_spf(corrected.text)))
        broken.update(_open(findings, tree))
        if (len(broken), len(addresses)) == before:
            return None
    return None


def _anybody(record: SpfRecord) -> bool:
    """Return whether a record authorises anybody at all."""
    passing = any(term.mechanism != "all" and term.qualifier is Qualifier.PASS for term in record.directives)
    return passing or record.redirect is not None


def _published(answer: DnsAnswer, text: str) -> DnsAnswer:
    """Return the answer as it is once this record has replaced the SPF records at its name."""
    others = [r for r in answer.records if not _is_spf(r)]
    octets = text.encode()
    strings = [octets[at : at + 255] for at in range(0, len(octets), 255)]
    return replace(answer, status=AnswerStatus.FOUND, records=(*others, TxtRdata(IN, TXT, strings)))


def _is_spf(rdata: object) -> bool:
    return is_spf1(_octets(rdata).decode("utf-8", "replace"))


def _octets(rdata: object) -> bytes:
    strings: Iterable[bytes] = getattr(rdata, "strings", ())
    return b"".join(strings)


def _broken(tree: LookupTree) -> list[str]:
    """Return the record's own terms through which a check ends in an error, or that waste void look-ups."""
    out = [node.term for node in tree.nodes if any(inner.problem in _BROKEN for inner in node.flat())]
    if max(len(tree.void_for(4)), len(tree.void_for(6))) > VOID_LIMIT:
        out += [node.term for node in tree.nodes if node.problem == "void"]
    return out


def _to_list(tree: LookupTree, record: SpfRecord) -> dict[str, list[Network]]:
    """Return terms with the addresses that can stand in their place, when there are too many look-ups."""
    own = {term.text: term for term in record.directives}
    out: dict[str, list[Network]] = {}
    excess = {version: len(tree.void_for(version)) - VOID_LIMIT for version in (4, 6)}
    for node in tree.nodes:
        needed = (node.void4 and excess[4] > 0) or (node.void6 and excess[6] > 0)
        if needed and _can_list(node, own):
            out[node.term] = node.networks
            excess = {4: excess[4] - node.void4, 6: excess[6] - node.void6}
    over = tree.cost - sum(node.cost for node in tree.nodes if node.term in out) - LOOKUP_LIMIT
    # What saves the most look-ups for the fewest addresses goes first.
    for node in sorted(tree.nodes, key=lambda node: (len(_networks(node)) / node.cost, node.column)):
        if over <= 0:
            break
        if node.term not in out and _can_list(node, own):
            out[node.term] = _networks(node)
            over -= node.cost
    return out if over <= 0 else {}


def _networks(node: LookupNode) -> list[Network]:
    return list(dict.fromkeys(network for inner in node.flat() for network in inner.networks))


def _can_list(node: LookupNode, own: dict[str, Directive]) -> bool:
    """Return whether the addresses of a term say all that the term says, and are few."""
    term = own.get(node.term)
    if term is None or term.qualifier is not Qualifier.PASS or not 0 < len(_networks(node)) <= _LISTED:
        return False
    return all(_plain(inner) for inner in node.flat())


def _plain(node: LookupNode) -> bool:
    """Return whether everything below a term is known and only lets pass."""
    if not node.name or node.problem or node.term.lstrip("+").lower().startswith(("ptr", "exists", "redirect")):
        return False
    if not node.record:
        return node.term[:1] not in "-~?"
    directives = parse_spf(node.record).directives
    return all(term.qualifier is Qualifier.PASS or term.mechanism == "all" for term in directives)


def _open(findings: list[Finding], tree: LookupTree | None) -> list[str]:
    """Return the record's own terms whose records hold the term that lets everybody pass, or that ends in an error."""
    rules = ("spf-everyone", "spf-evaluation-error")
    deciding = {finding.topic for finding in findings if finding.rule in rules and finding.topic}
    nodes = tree.nodes if tree is not None else []
    return [node.term for node in nodes if any(deciding & {inner.term, *inner.record.split()} for inner in node.flat())]
