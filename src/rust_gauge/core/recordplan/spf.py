"""One merged SPF record for a name, from the relays that send with it (RFC 7208), and ways out when it costs too much.

What an include costs and which networks it brings is asked of DNS; the rest is arithmetic.
"""

import ipaddress
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from rust_gauge.core.dns import DnsProgram, gather
from rust_gauge.core.sending import Relay
from rust_gauge.core.sending.paths import label_of
from rust_gauge.core.spf import LOOKUP_LIMIT, parse_spf, walk_lookups
from rust_gauge.core.spf.record import Network

_PROBLEMS = {
    "dead": "it has no SPF record",
    "void": "it does not exist",
    "several": "it publishes several records",
    "failed": "it did not respond",
    "syntax": "its record has an error",
    "loop": "it includes itself",
}
_FITS = 450  # octets of text that pass in one UDP answer beside the rest of it (RFC 7208 §3.4)


@dataclass(frozen=True, slots=True)
class IncludeCost:
    """What `include:name` costs (look-ups, itself counted) and lets send. `problem` is empty, or why it is unusable."""

    name: str
    lookups: int
    networks: tuple[Network, ...] = ()
    problem: str = ""


def include_costs(names: Iterable[str]) -> DnsProgram[dict[str, IncludeCost]]:
    """Ask what each include costs, all side by side."""
    wanted = list(dict.fromkeys(names))
    found = yield from gather([_cost(name) for name in wanted])
    return dict(zip(wanted, found, strict=True))


def _cost(name: str) -> DnsProgram[IncludeCost]:
    record = parse_spf(f"v=spf1 include:{name} -all")
    if record.problems:
        return IncludeCost(name, 1, problem="not a name that can be included")
    tree = yield from walk_lookups("", record)  # no name of its own: nothing in it is a loop back to here
    networks: list[Network] = []
    for node in tree.flat():
        networks += node.networks
    first = tree.nodes[0] if tree.nodes else None
    problem = _PROBLEMS.get(first.problem if first else "", "")
    return IncludeCost(name, tree.cost, tuple(_collapsed(networks)), problem)


def _collapsed(networks: Iterable[Network]) -> list[Network]:
    """Each address once, in as few networks as can be."""
    held = list(networks)
    four = [network for network in held if isinstance(network, ipaddress.IPv4Network)]
    six = [network for network in held if isinstance(network, ipaddress.IPv6Network)]
    return [*ipaddress.collapse_addresses(four), *ipaddress.collapse_addresses(six)]


def _as_network(text: str) -> Network:
    return ipaddress.ip_network(text, strict=False)


def network_terms(networks: Iterable[Network]) -> list[str]:
    """`ip4:` and `ip6:` terms; a single address without its prefix length."""
    return [
        f"ip{network.version}:{network.network_address if network.prefixlen == network.max_prefixlen else network}"
        for network in networks
    ]


@dataclass(frozen=True, slots=True)
class SpfOption:
    """A way to need fewer look-ups: `drop` a relay, `move` it to a name of its own, or `list` its addresses."""

    way: str
    relay: str
    saves: int
    lookups_after: int
    price: str
    value: str  # the record as it would be then


@dataclass(frozen=True, slots=True)
class SpfPlan:
    """The merged record of one name. `per_relay` is (relay, look-ups) in the order of the record."""

    name: str
    value: str
    lookups: int
    per_relay: tuple[tuple[str, int], ...]
    options: tuple[SpfOption, ...] = ()
    problems: tuple[str, ...] = field(default=())

    @property
    def too_many(self) -> bool:
        """Return whether the record costs more look-ups than RFC 7208 §4.6.4 allows."""
        return self.lookups > LOOKUP_LIMIT


def merge_spf(
    name: str,
    relays: Iterable[Relay],
    costs: Mapping[str, IncludeCost],
    *,
    ending: str = "~all",
    extra: Iterable[str] = (),
    listed: frozenset[str] = frozenset(),
) -> SpfPlan:
    """Merge the record for `name`. `extra` terms are kept; relays in `listed` have their addresses written out.

    With more than ten look-ups the record is still given, together with the ways out, cheapest first.
    """
    users = list({relay.name: relay for relay in relays}.values())
    kept = list(dict.fromkeys(extra))
    value = _record(users, kept, costs, listed, ending)
    per_relay = tuple((relay.name, _lookups(relay, costs, listed)) for relay in users)
    lookups = sum(count for _, count in per_relay) + _extra_lookups(kept)
    problems = []
    for relay in users:
        cost = costs.get(relay.include)
        if relay.include and cost is not None and cost.problem:
            problems.append(f"include:{relay.include} of {relay.name}: {cost.problem}")
    if len(value) > _FITS:
        problems.append(f"the record has {len(value)} bytes: more than {_FITS} may not fit into one UDP response")
    options: list[SpfOption] = []
    if lookups > LOOKUP_LIMIT:
        for relay, (_, count) in zip(users, per_relay, strict=True):
            if count:
                options += _options(name, relay, count, lookups, users, kept, costs, listed, ending)
    options.sort(
        key=lambda spf_option: (
            spf_option.lookups_after > LOOKUP_LIMIT,
            ("list", "move", "drop").index(spf_option.way),
            -spf_option.saves,
        )
    )
    return SpfPlan(name, value, lookups, per_relay, tuple(options), tuple(problems))


def cost_of(name: str, value: str, relay: str, costs: Mapping[str, IncludeCost]) -> SpfPlan:
    """Return what a record costs that is not made of relays: one for a return path, or for a HELO name."""
    lookups = 0
    problems = []
    for term in parse_spf(value).directives:
        included = term.domain.literal.lower() if term.mechanism == "include" and term.domain is not None else ""
        cost = costs.get(included)
        lookups += cost.lookups if cost else _extra_lookups([term.text])
        if cost is not None and cost.problem:
            problems.append(f"include:{included}: {cost.problem}")
    return SpfPlan(name, value, lookups, ((relay, lookups),) if relay else (), (), tuple(problems))


def _lookups(relay: Relay, costs: Mapping[str, IncludeCost], listed: frozenset[str]) -> int:
    if not relay.include or relay.name in listed:
        return 0
    cost = costs.get(relay.include)
    return cost.lookups if cost else 1


def _extra_lookups(terms: list[str]) -> int:
    words = [term.lstrip("+-~?").lower() for term in terms]
    return sum(
        word.startswith(("include:", "a:", "a/", "mx", "exists:", "ptr", "redirect=")) or word == "a" for word in words
    )


def _record(
    users: list[Relay], extra: list[str], costs: Mapping[str, IncludeCost], listed: frozenset[str], ending: str
) -> str:
    networks: list[Network] = []
    includes: list[str] = []
    for relay in users:
        networks += [_as_network(text) for text in relay.networks]
        brought = [*networks, *(costs[relay.include].networks if relay.include in costs else ())]
        hosts = [_as_network(host.ip) for host in relay.hosts]
        networks += [host for host in hosts if not any(_holds(network, host) for network in brought)]
        if relay.include and relay.name in listed:
            cost = costs.get(relay.include)
            networks += cost.networks if cost else ()
        elif relay.include:
            includes.append(f"include:{relay.include}")
    terms = [*network_terms(_collapsed(networks)), *extra, *includes]
    return " ".join(["v=spf1", *dict.fromkeys(terms), ending if terms else "-all"])


def _holds(outer: Network, inner: Network) -> bool:
    return outer.version == inner.version and inner.subnet_of(outer)  # type: ignore[arg-type]


def _options(
    name: str, relay: Relay, count: int, lookups: int, users: list[Relay], extra: list[str],
    costs: Mapping[str, IncludeCost], listed: frozenset[str], ending: str,
) -> list[SpfOption]:  # fmt: skip
    without = _record([user for user in users if user is not relay], extra, costs, listed, ending)
    after = lookups - count
    options = [
        SpfOption("drop", relay.name, count, after,
                  f"mail that {relay.name} sends as {name} would fail SPF", without),
        SpfOption("move", relay.name, count, after,
                  f"streams over {relay.name} need another envelope domain, such as "
                  f"{label_of(relay.name)}.{name}; alignment stays, if it is relaxed", without),
    ]  # fmt: skip
    cost = costs.get(relay.include)
    if cost and cost.networks:
        value = _record(users, extra, costs, listed | {relay.name}, ending)
        price = (
            f"{len(cost.networks)} network{'s' if len(cost.networks) > 1 else ''} listed directly; when "
            f"{relay.name} changes its addresses, its mail fails until the record is updated"
        )
        if len(value) > _FITS:
            price += f"; with {len(value)} bytes it may not fit into one UDP response"
        options.append(SpfOption("list", relay.name, count, after, price, value))
    return options
