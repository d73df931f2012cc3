"""What a stream over its relays means: the identities that its mail shows at receivers.

A stream says how it is sent; what it leaves open, its relays say. Only here the two are put together.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from rust_gauge.core.sending.relay import PlannedStream, Relay


@dataclass(frozen=True, slots=True)
class SendingPath:
    """One stream over one relay. `relay` is None for a stream that names none.

    `envelope` is the domain of MAIL FROM, empty where it is not known because the relay is not described.
    `at_return_path` says that it is the relay's own return path below the domain. `keys` are (d=, selector) of its
    signatures; `ips` and `helo` are those of the stream and of the relay's hosts.
    """

    stream: str
    relay: Relay | None
    header_from: str
    envelope: str
    at_return_path: bool
    keys: tuple[tuple[str, str], ...]
    hosts: tuple[tuple[str, str], ...]  # (address, HELO name), either may be empty

    @property
    def relay_name(self) -> str:
        """Return the name of the relay, empty without one."""
        return self.relay.name if self.relay is not None else ""

    @property
    def ips(self) -> tuple[str, ...]:
        """The addresses that mail leaves from, as far as they are known."""
        return tuple(dict.fromkeys(ip for ip, _ in self.hosts if ip))

    @property
    def helo(self) -> str:
        """The first HELO name, empty where none is known."""
        return next((helo for _, helo in self.hosts if helo), "")


def expand_streams(
    streams: Iterable[PlannedStream], relays: Iterable[Relay], ways: Mapping[str, str] | None = None
) -> tuple[SendingPath, ...]:
    """Return every stream over every relay that it names, in order.

    `ways` are choices about SPF by relay: a relay that is `drop`ped no longer sends, and one that was `move`d has an
    envelope domain of its own below the domain. A relay of which only the name is known adds nothing to the stream.
    """
    by_name = {relay.name: relay for relay in relays}
    chosen = ways or {}
    out = []
    for stream in streams:
        names = [name for name in dict.fromkeys(stream.relays) if chosen.get(name) != "drop"]
        over: list[Relay | None] = [by_name.get(name) or Relay(name) for name in names]
        out += [_path(stream, relay, chosen) for relay in over or ([None] if not stream.relays else [])]
    return tuple(out)


def _path(stream: PlannedStream, relay: Relay | None, ways: Mapping[str, str]) -> SendingPath:
    envelope, at_return_path = _envelope(stream, relay, ways)
    domain = stream.dkim_domain or stream.header_from
    own = [need.selector for need in relay.dkim] if relay is not None else []
    selectors = [stream.selector] if stream.selector and stream.selector not in own else own
    keys = [(domain, selector) for selector in selectors]
    if not keys and stream.dkim_domain:
        keys = [(domain, "")]  # it signs, and the selector is not known
    hosts = [(host.ip, host.helo) for host in relay.hosts] if relay is not None else []
    hosts += [(ip, stream.helo) for ip in stream.ips if ip not in [known for known, _ in hosts]]
    if stream.helo and not any(helo for _, helo in hosts):
        hosts = [(ip, stream.helo) for ip, _ in hosts] or [("", stream.helo)]
    return SendingPath(
        stream.name, relay, stream.header_from, envelope, at_return_path, tuple(dict.fromkeys(keys)), tuple(hosts)
    )


def _envelope(stream: PlannedStream, relay: Relay | None, ways: Mapping[str, str]) -> tuple[str, bool]:
    """Return the envelope domain, and whether it is the relay's return path."""
    need = relay.return_path if relay is not None else None
    return_path = f"{need.label}.{stream.header_from}" if need else ""
    if stream.envelope:
        envelope = stream.envelope
    elif return_path:
        envelope = return_path
    elif relay is not None and relay.described:
        envelope = stream.header_from  # what is not set is the address in From
    else:
        return "", False
    if relay is not None and ways.get(relay.name) == "move" and envelope == stream.header_from:
        envelope = f"{label_of(relay.name)}.{envelope}"
    return envelope, bool(return_path) and envelope == return_path


def label_of(text: str) -> str:
    """Return a name as one DNS label: letters, digits and hyphens (RFC 1035 §2.3.1)."""
    label = "".join(char if char.isascii() and char.isalnum() else "-" for char in text.lower()).strip("-")
    return label[:63].strip("-") or "relay"
