"""Where a call goes: the address of a host, looked up once and checked, so that its name cannot point elsewhere later.

Only public addresses are called, and those that the settings name.
"""

import ipaddress
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass

from rust_gauge.core.dns import DnsAnswer, DnsQuestion
from rust_gauge.core.errors import RustGaugeError
from rust_gauge.gateways.pages import Reach, may_reach

LookUp = Callable[[Sequence[DnsQuestion]], Sequence[DnsAnswer]]


class DestinationError(RustGaugeError):
    """A host that is not called."""


@dataclass(frozen=True, slots=True)
class Destination:
    """`host` is the name that a certificate has to be for; the call goes to `address` and `port`."""

    host: str
    address: str
    port: int


def find_destination(
    host: str, port: int, look_up: LookUp, trusted: Collection[str], reach: Reach
) -> Destination:  # fmt: skip
    """Return where calls to a host go. `trusted` has `host` and `host:port` that need not be public.

    DestinationError for a host without an address, or at one that may not be called.
    """
    is_trusted = host in trusted or f"{host}:{port}" in trusted
    try:
        found = [str(ipaddress.ip_address(host))]
    except ValueError:
        answers = look_up([DnsQuestion(host, "A"), DnsQuestion(host, "AAAA")])
        found = [str(getattr(rdata, "address", "")) for answer in answers for rdata in answer.records]
        if not found and is_trusted:  # a name of this machine or network, which DNS need not know
            return Destination(host, host, port)
    if not found:
        raise DestinationError(f"{host} has no address", remedy="Check the name")
    for address in found:
        if address in reach:
            return Destination(host, *reach[address])
        if is_trusted or may_reach(address, reach):
            return Destination(host, address, port)
    raise DestinationError(f"{host} is at {found[0]}, which is not a public address")
