"""What a record costs and whom it lets send: its terms that need DNS, followed through every include.

Look-ups are counted as RFC 7208 §4.6.4 counts them, and on past the limit, to say by how much it is over. The walk
stops at a bound of its own so that hostile records cannot make it ask for ever. `%{d}` and `%{o}` are expanded: their
values are known. Terms whose name depends on the connection (other macros) cost one and are not followed.
"""

import ipaddress
from dataclasses import dataclass, field

from dns.rdtypes.ANY.MX import MX
from dns.rdtypes.IN.A import A
from dns.rdtypes.IN.AAAA import AAAA

from rust_gauge.core.dns import DnsAnswer, DnsProgram, DnsQuestion, ask
from rust_gauge.core.spf.macros import MacroExpand, MacroString, expand, target_name
from rust_gauge.core.spf.record import (
    LOOKUP_MECHANISMS,
    Directive,
    Network,
    Qualifier,
    SpfRecord,
    is_spf1,
    parse_spf,
)

LOOKUP_LIMIT = 10  # RFC 7208 §4.6.4
VOID_LIMIT = 2  # RFC 7208 §4.6.4
_QUESTION_BOUND = 60  # terms followed; our own: a record this expensive is broken whatever the exact figure is
_MX_HOSTS = 10  # §4.6.4


@dataclass
class LookupNode:
    """A term that costs a look-up.

    `problem` is empty, `dead` (nothing published there), `void`, `loop`, `several` (records), `many_mx`, `syntax`,
    `failed` (no answer) or `not_held` (off line). `networks` are those that a match of this very term gives: the ip4
    and ip6 terms of an included record that pass, or the addresses of an `a` or `mx` with the prefix length applied.
    """

    term: str
    name: str
    problem: str = ""
    depth: int = 0  # 0 in the record itself
    column: int = 0  # in the record that it stands in
    status: str = ""  # how the question ended
    detail: str = ""  # what is wrong with the record that it leads to
    record: str = ""  # the text of the record that it leads to
    networks: list[Network] = field(default_factory=list)
    children: list["LookupNode"] = field(default_factory=list)
    void4: bool = False  # a void look-up for IPv4 senders
    void6: bool = False  # a void look-up for IPv6 senders, which ask for AAAA (§5.3)

    @property
    def cost(self) -> int:
        """Look-ups that the term costs, with all below it (RFC 7208 §4.6.4)."""
        return 1 + sum(child.cost for child in self.children)

    def flat(self) -> list["LookupNode"]:
        """Return this node and every one below it, depth first."""
        out: list[LookupNode] = []
        stack = [self]
        while stack:
            node = stack.pop()
            out.append(node)
            stack.extend(reversed(node.children))
        return out


@dataclass
class LookupTree:
    """The terms of the record itself, each with what it drags in; `networks` are the record's own ip4 and ip6."""

    nodes: list[LookupNode] = field(default_factory=list)
    networks: list[tuple[str, Network]] = field(default_factory=list)  # (term, network)
    truncated: bool = False  # the walk stopped at its own bound; the true cost is higher

    @property
    def cost(self) -> int:
        """Look-ups that the record costs (RFC 7208 §4.6.4)."""
        return sum(node.cost for node in self.nodes)

    def flat(self) -> list[LookupNode]:
        """Every node, depth first."""
        return [inner for node in self.nodes for inner in node.flat()]

    @property
    def voids(self) -> list[LookupNode]:
        """The look-ups that give nothing to any sender."""
        return [node for node in self.flat() if node.problem == "void"]

    def void_for(self, version: int) -> list[LookupNode]:
        """Return the look-ups that give nothing to IPv4 (4) or IPv6 (6) senders; RFC 7208 §4.6.4 allows two."""
        return [node for node in self.flat() if (node.void4 if version == 4 else node.void6)]


def walk_lookups(domain: str, record: SpfRecord) -> DnsProgram[LookupTree]:
    """Walk the look-up tree of `domain`'s record."""
    tree = LookupTree()
    budget = [_QUESTION_BOUND]
    tree.networks = _own_networks(record)
    tree.nodes = yield from _walk(domain, record, (domain,), budget)
    tree.truncated = budget[0] <= 0
    return tree


def _own_networks(record: SpfRecord) -> list[tuple[str, Network]]:
    """Networks that the record itself names and that pass; those behind `all` never count."""
    out: list[tuple[str, Network]] = []
    for term in record.directives:
        if term.mechanism == "all":
            break
        network = term.network
        if network is not None and term.qualifier is Qualifier.PASS:
            out.append((term.text, network))
    return out


def _walk(domain: str, record: SpfRecord, above: tuple[str, ...], budget: list[int]) -> DnsProgram[list[LookupNode]]:
    nodes: list[LookupNode] = []
    for directive in record.directives:
        if directive.mechanism == "all":  # nothing after it is evaluated (§5.1), nor is redirect (§6.1)
            return nodes
        if directive.mechanism in LOOKUP_MECHANISMS:
            nodes.append((yield from _visit(directive, domain, above, budget)))
    if record.redirect is not None:
        name = _known_name(record.redirect.value, domain, above[0])
        node = LookupNode(record.redirect.text, name, depth=len(above) - 1, column=record.redirect.column)
        nodes.append(node)
        if name:
            yield from _descend(node, above, budget)
    return nodes


def _known_name(spec: MacroString, domain: str, origin: str) -> str:
    """Return the name of a term in the record of `domain` when `origin` is checked; empty if the sender decides it."""
    if not spec.has_macros:
        return spec.literal.rstrip(".").lower()
    letters = {piece.letter.lower() for piece in spec.pieces if isinstance(piece, MacroExpand)}
    if not origin or not letters <= {"d", "o"}:
        return ""
    return target_name(expand(spec, {"d": domain, "o": origin})).rstrip(".").lower()


def _visit(directive: Directive, domain: str, above: tuple[str, ...], budget: list[int]) -> DnsProgram[LookupNode]:
    name = domain if directive.domain is None else _known_name(directive.domain, domain, above[0])
    node = LookupNode(directive.text, name, depth=len(above) - 1, column=directive.column)
    if not name or directive.mechanism == "ptr":
        return node
    if directive.mechanism == "include":
        yield from _descend(node, above, budget)
        if directive.qualifier is not Qualifier.PASS:
            for inner in node.flat():
                inner.networks = []
        return node
    budget[0] -= 1
    if budget[0] <= 0:
        return node
    if directive.mechanism == "exists":
        answer = yield from ask(name, "A")
        _judge(node, [answer], void=answer.void)  # the name is fixed, so it is void for everybody
        node.void4 = node.void6 = answer.void
    elif directive.mechanism == "a":
        answers = yield DnsQuestion(name, "A"), DnsQuestion(name, "AAAA")
        _judge(node, list(answers), void=all(answer.void for answer in answers))
        node.void4, node.void6 = (answer.void for answer in answers)
        node.networks = _addresses(directive, answers)
    else:
        yield from _visit_mx(node, directive, name)
    return node


def _visit_mx(node: LookupNode, directive: Directive, name: str) -> DnsProgram[None]:
    answer = yield from ask(name, "MX")
    mxs = sorted((r for r in answer.records if isinstance(r, MX)), key=lambda mx: mx.preference)
    _judge(node, [answer], void=answer.void)
    node.void4 = node.void6 = answer.void
    if len(mxs) > _MX_HOSTS:
        node.problem, node.detail = "many_mx", f"{len(mxs)} MX records; the limit is {_MX_HOSTS}"
        return
    hosts = [mx.exchange.to_text(omit_final_dot=True).lower() for mx in mxs]
    questions = tuple(DnsQuestion(host, kind) for host in hosts if host not in ("", ".") for kind in ("A", "AAAA"))
    if questions:
        node.networks = _addresses(directive, (yield questions))


def _judge(node: LookupNode, answers: list[DnsAnswer], *, void: bool) -> None:
    node.status = str(answers[0].status)
    failed = next((answer for answer in answers if answer.failed), None)
    if failed and all(answer.failed or answer.void for answer in answers):
        node.problem = "not_held" if failed.status == "not_held" else "failed"
        node.detail = failed.detail or str(failed.status)
    elif void:
        node.problem = "void"


def _addresses(directive: Directive, answers: tuple[DnsAnswer, ...]) -> list[Network]:
    """Return what `a` and `mx` let send: each address, with the term's prefix lengths applied."""
    if directive.qualifier is not Qualifier.PASS:
        return []
    out: list[Network] = []
    for answer in answers:
        for rdata in answer.records:
            if isinstance(rdata, A):
                out.append(ipaddress.IPv4Network((rdata.address, directive.prefix4), strict=False))
            elif isinstance(rdata, AAAA):
                out.append(ipaddress.IPv6Network((rdata.address, directive.prefix6), strict=False))
    return out


def _descend(node: LookupNode, above: tuple[str, ...], budget: list[int]) -> DnsProgram[None]:
    """Follow an include or a redirect to the record that it names."""
    if node.name in above:
        node.problem = "loop"
        return
    budget[0] -= 1
    if budget[0] <= 0:
        return
    answer = yield from ask(node.name, "TXT")
    node.status = str(answer.status)
    records = [txt.text for txt in answer.texts if is_spf1(txt.text)]
    if answer.failed:
        node.problem = "not_held" if answer.status == "not_held" else "failed"
        node.detail = answer.detail or str(answer.status)
    elif len(records) > 1:
        node.problem = "several"
    elif not records:  # §5.2: an include without a record is a permerror for everybody who includes it
        node.problem = "dead"
        node.detail = "no such name" if answer.status == "no_name" else "no SPF record"
    else:
        record = parse_spf(records[0])
        node.record = records[0]
        if record.problems:
            node.problem = "syntax"
            node.detail = f"column {record.problems[0].column}: {record.problems[0].what}"
        node.networks = [network for _, network in _own_networks(record)]
        node.children = yield from _walk(node.name, record, (*above, node.name), budget)
