"""Whom a record lets send: the networks with where each comes from, their number, and what is odd about them."""

import ipaddress
from dataclasses import dataclass

from rust_gauge.core.spf.lookups import LookupNode, LookupTree
from rust_gauge.core.spf.record import Network

WIDE4, WIDE6 = 16, 32  # prefix lengths below which one term holds more hosts than any sender has
_MAX_COMPARED = 2000  # networks looked at for overlaps; hostile records can hold more
_DOCUMENTATION = tuple(
    ipaddress.ip_network(text)
    for text in ("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32", "3fff::/20")
)


@dataclass(frozen=True, slots=True)
class AuthorisedNetwork:
    """A network that passes. `via` is the way to it: terms from the record itself down, the last one naming it.

    `kind` is `public`, `private`, `documentation` or `reserved` (loopback, link-local, multicast and the like).
    """

    network: str
    via: tuple[str, ...]
    kind: str
    wide: bool


@dataclass(frozen=True, slots=True)
class Overlap:
    """`inner` lies in `outer`, or is the same: it can be left out where it stands."""

    inner: AuthorisedNetwork
    outer: AuthorisedNetwork

    @property
    def same(self) -> bool:
        """Return whether both terms name one network."""
        return self.inner.network == self.outer.network


@dataclass(frozen=True, slots=True)
class Authorised:
    """All networks, and how many addresses they make without counting one twice."""

    networks: tuple[AuthorisedNetwork, ...]
    overlaps: tuple[Overlap, ...]
    ipv4_addresses: int
    ipv6_addresses: int
    open_ended: bool  # terms that depend on the connection (macros, ptr, exists) may let others send as well


def network_kind(network: Network) -> str:
    """Return what sort of address space it is in (RFC 1918, 5737, 3849, 6890)."""
    if any(network.version == documented.version and network.subnet_of(documented) for documented in _DOCUMENTATION):  # type: ignore[arg-type]
        return "documentation"
    if network.prefixlen == 0:
        return "public"
    if network.is_loopback or network.is_link_local or network.is_multicast or network.is_unspecified:
        return "reserved"
    return "private" if network.is_private else "reserved" if network.is_reserved else "public"


def is_wide(network: Network) -> bool:
    """Wider than any sender's own space."""
    return network.prefixlen < (WIDE4 if network.version == 4 else WIDE6)


def authorised(tree: LookupTree) -> Authorised:
    """Return the networks of a walked record."""
    found: list[tuple[Network, tuple[str, ...]]] = [(network, (term,)) for term, network in tree.networks]
    open_ended = False

    def visit(node: LookupNode, above: tuple[str, ...]) -> None:
        nonlocal open_ended
        via = (*above, node.term)
        found.extend((network, via) for network in node.networks)
        name = node.term.lstrip("+-~?").lower()
        open_ended = open_ended or not node.name or name.startswith(("ptr", "exists"))
        for child in node.children:
            visit(child, via)

    for node in tree.nodes:
        visit(node, ())
    entries = [AuthorisedNetwork(str(n), via, network_kind(n), is_wide(n)) for n, via in found]
    four = ipaddress.collapse_addresses([n for n, _ in found if isinstance(n, ipaddress.IPv4Network)])
    six = ipaddress.collapse_addresses([n for n, _ in found if isinstance(n, ipaddress.IPv6Network)])
    sizes = [int(sum(int(n.num_addresses) for n in network)) for network in (four, six)]
    return Authorised(tuple(entries), _overlaps(found, entries), sizes[0], sizes[1], open_ended)


def _overlaps(found: list[tuple[Network, tuple[str, ...]]], entries: list[AuthorisedNetwork]) -> tuple[Overlap, ...]:
    """Each network that lies in another one, once: sorted by start, only the open ones can hold the next."""
    order = sorted(
        range(min(len(found), _MAX_COMPARED)),
        key=lambda i: (found[i][0].version, int(found[i][0].network_address), found[i][0].prefixlen, i),
    )
    out: list[Overlap] = []
    open_: list[int] = []
    for i in order:
        network = found[i][0]
        while open_ and not _holds(found[open_[-1]][0], network):
            open_.pop()
        if open_:
            out.append(Overlap(entries[i], entries[open_[-1]]))
        else:
            open_.append(i)
            continue
        if found[open_[-1]][0] != network:
            open_.append(i)
    return tuple(out)


def _holds(outer: Network, inner: Network) -> bool:
    return outer.version == inner.version and inner.subnet_of(outer)  # type: ignore[arg-type]
