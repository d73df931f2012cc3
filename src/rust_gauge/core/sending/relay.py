"""What a relay is and what it wants published, and which streams use it: the input of a plan."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class SendingHost:
    """An address that mail leaves from, and the name it greets with (RFC 5321 §4.1.1.1)."""

    ip: str
    helo: str = ""


@dataclass(frozen=True, slots=True)
class DkimNeed:
    """A key that a relay signs with. `rdtype` is CNAME (`value` is the target) or TXT (`value` is the record).

    An empty TXT value is a key that is still to be made.
    """

    selector: str
    rdtype: str = "CNAME"
    value: str = ""


@dataclass(frozen=True, slots=True)
class HostNeed:
    """A host below the domain that belongs to the relay: for returned mail, or for links that it counts.

    `rdtype` is CNAME or MX; `label` is relative to the domain; `spf` is the record beside an MX.
    """

    label: str
    rdtype: str
    value: str
    priority: int = 10
    spf: str = ""


@dataclass(frozen=True, slots=True)
class Relay:
    """A path that mail leaves by. Values may hold `{domain}` and `{dashed}` (dots as hyphens) for the domain.

    `own` is an MTA of ours. `include` is what goes behind `include:`; `networks` are addresses or CIDR blocks to list
    in place of it, or beside it. `inbound` is (priority, host) for mail that it takes in.
    """

    name: str
    own: bool = False
    hosts: tuple[SendingHost, ...] = ()
    include: str = ""
    networks: tuple[str, ...] = ()
    dkim: tuple[DkimNeed, ...] = ()
    return_path: HostNeed | None = None
    tracking: HostNeed | None = None
    inbound: tuple[tuple[int, str], ...] = ()

    @property
    def described(self) -> bool:
        """Return whether anything but its name is known."""
        return bool(self.own or self.hosts or self.include or self.networks or self.dkim or self.return_path)

    def filled(self, text: str, domain: str) -> str:
        """Return a value with the domain put in."""
        return text.replace("{domain}", domain).replace("{dashed}", domain.replace(".", "-"))


@dataclass(frozen=True, slots=True)
class PlannedStream:
    """A kind of mail: what it shows, and which relays carry it (by name)."""

    name: str
    header_from: str
    envelope: str = ""
    dkim_domain: str = ""
    selector: str = ""
    relays: tuple[str, ...] = ()
    helo: str = ""
    ips: tuple[str, ...] = ()
