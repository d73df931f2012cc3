"""What a record costs: the terms that need DNS, counted as RFC 7208 §4.6.4 counts them, through every include.

Counts on past the limit, to say by how much it is over; stops at a bound of its own so that hostile records
cannot make it ask for ever. Terms whose name depends on the connection (macros) cost one and are not followed.
"""

from dataclasses import dataclass, field

from rust_gauge.core.dns import DnsProgram, ask
from rust_gauge.core.spf.record import LOOKUP_MECHANISMS, Directive, SpfRecord, is_spf1, parse_spf

LOOKUP_LIMIT = 10
VOID_LIMIT = 2
_QUESTION_BOUND = 60  # our own: a record this expensive is broken whatever the exact figure is
_RDTYPE = {"a": "A", "mx": "MX", "exists": "A"}


@dataclass
class LookupNode:
    """A term that costs a look-up. `problem`: empty, `dead`, `void`, `loop`, `several`, `syntax` or `failed`."""

    term: str
    name: str
    problem: str = ""
    children: list["LookupNode"] = field(default_factory=list)

    @property
    def cost(self) -> int:
        return 1 + sum(child.cost for child in self.children)


@dataclass
class LookupTree:
    """The terms of the record itself, each with what it drags in."""

    nodes: list[LookupNode] = field(default_factory=list)
    truncated: bool = False  # the walk stopped at its own bound; the true cost is higher

    @property
    def cost(self) -> int:
        return sum(node.cost for node in self.nodes)

    def flat(self) -> list[LookupNode]:
        """Every node, depth first."""
        out: list[LookupNode] = []
        stack = list(reversed(self.nodes))
        while stack:
            node = stack.pop()
            out.append(node)
            stack.extend(reversed(node.children))
        return out

    @property
    def voids(self) -> list[LookupNode]:
        return [node for node in self.flat() if node.problem == "void"]


def walk_lookups(domain: str, record: SpfRecord) -> DnsProgram[LookupTree]:
    """The look-up tree of `domain`'s record."""
    tree = LookupTree()
    budget = [_QUESTION_BOUND]
    tree.nodes = yield from _walk(domain, record, (domain,), budget)
    tree.truncated = budget[0] <= 0
    return tree


def _walk(domain: str, record: SpfRecord, above: tuple[str, ...], budget: list[int]) -> DnsProgram[list[LookupNode]]:
    nodes: list[LookupNode] = []
    for directive in record.directives:
        if directive.mechanism == "all":  # nothing after it is evaluated (§5.1), nor is redirect (§6.1)
            return nodes
        if directive.mechanism in LOOKUP_MECHANISMS:
            nodes.append((yield from _visit(directive, domain, above, budget)))
    if record.redirect is not None:
        name = record.redirect.value.literal.rstrip(".").lower()
        node = LookupNode(record.redirect.text, name)
        nodes.append(node)
        if not record.redirect.value.has_macros:
            yield from _descend(node, above, budget)
    return nodes


def _visit(directive: Directive, domain: str, above: tuple[str, ...], budget: list[int]) -> DnsProgram[LookupNode]:
    fixed = directive.domain is None or not directive.domain.has_macros
    name = domain if directive.domain is None else directive.domain.literal.rstrip(".").lower()
    node = LookupNode(directive.text, name if fixed else "")
    if not fixed or directive.mechanism == "ptr":
        return node
    if directive.mechanism == "include":
        yield from _descend(node, above, budget)
        return node
    budget[0] -= 1
    if budget[0] > 0:
        rdtype = _RDTYPE[directive.mechanism]
        answer = yield from ask(name, rdtype)
        if answer.void and rdtype == "A" and directive.mechanism == "a":
            answer6 = yield from ask(name, "AAAA")  # an IPv6-only name is not void for everybody
            answer = answer if answer6.void else answer6
        node.problem = "void" if answer.void and directive.mechanism != "exists" else "failed" if answer.failed else ""
    return node


def _descend(node: LookupNode, above: tuple[str, ...], budget: list[int]) -> DnsProgram[None]:
    """Follow an include or a redirect to the record that it names."""
    if node.name in above:
        node.problem = "loop"
        return
    budget[0] -= 1
    if budget[0] <= 0:
        return
    answer = yield from ask(node.name, "TXT")
    records = [txt.text for txt in answer.texts if is_spf1(txt.text)]
    if answer.failed:
        node.problem = "failed"
    elif len(records) > 1:
        node.problem = "several"
    elif not records:  # §5.2: an include without a record is a permerror for everybody who includes it
        node.problem = "dead"
    else:
        record = parse_spf(records[0])
        node.problem = "syntax" if record.problems else ""
        node.children = yield from _walk(node.name, record, (*above, node.name), budget)
