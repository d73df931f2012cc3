"""What an audit is asked to look at: the domain, and what DNS alone cannot tell about it."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from rust_gauge.core.sending import SendingPath
from rust_gauge.core.transport import DnsList

USUAL_SELECTORS = ("default", "dkim", "k1", "key1", "mail", "s1", "s2", "selector1", "selector2", "sig1")


@dataclass(frozen=True, slots=True)
class Selector:
    """A DKIM selector, and where we have it from (they cannot be listed from DNS, RFC 6376 §3.1).

    `source` is `hand`, `stream` (a stream signs with it), `message` (seen in one), `report`, `relay` (one of its relays
    signs with it), `plan` (its key was made here) or `usual` (the list of usual names: nothing is said when it has no
    key).
    """

    name: str
    source: str = "hand"


@dataclass(frozen=True, slots=True)
class Stream:
    """A kind of mail as it is sent: which names it shows, and from where. Empty fields are not known.

    `header_from` is the domain in From, `envelope` that of MAIL FROM, `dkim_domain` is d= with its `selector`.
    """

    name: str
    header_from: str
    envelope: str = ""
    dkim_domain: str = ""
    selector: str = ""
    relay: str = ""
    helo: str = ""
    ips: tuple[str, ...] = ()
    more_selectors: tuple[str, ...] = ()  # others that the relay signs with
    selector_of_relay: bool = False  # `selector` is one of the relay's keys
    helos: tuple[tuple[str, str], ...] = ()  # (address, HELO name), where they differ from `helo`
    include: str = ""  # what the relay wants included, and networks it sends from, where single addresses are not known
    networks: tuple[str, ...] = ()

    def helo_of(self, ip: str) -> str:
        """Return the HELO name of an address."""
        return dict(self.helos).get(ip) or self.helo


def streams_of(paths: Iterable[SendingPath]) -> tuple[Stream, ...]:
    """Return streams over their relays as an audit examines them, one for each relay."""
    out = []
    for path in paths:
        domain, selector = path.keys[0] if path.keys else ("", "")
        out.append(
            Stream(
                path.stream, path.header_from, path.envelope, domain, selector, path.relay_name, path.helo, path.ips,
                tuple(other for _, other in path.keys[1:]),
                path.relay is not None and selector in [need.selector for need in path.relay.dkim],
                path.hosts, path.relay.include if path.relay else "",
                path.relay.networks if path.relay else (),
            )
        )  # fmt: skip
    return tuple(out)


@dataclass(frozen=True, slots=True)
class Measured:
    """What our own counts say, for the bulk-sender rules; None is not measured yet."""

    messages_a_day: float | None = None
    complaints: tuple[int, int] | None = None  # (complaints, delivered) at providers that report complaints, 7 days
    one_click: bool | None = None  # whether the newest message that was examined offers one click (RFC 8058)
    one_click_on: str = ""  # the day of that examination
    tls: tuple[int, int] | None = None  # (over TLS, all) deliveries of 7 days that say whether they were encrypted


@dataclass(frozen=True, slots=True)
class AuditRequest:
    """One audit. Only the domain is needed.

    `now` (Unix seconds) is for key ages; `key_first_seen` gives Unix seconds by key, `key_domains` the other domains
    that a key was seen at, both by fingerprint (`DkimKey.fingerprint`). `sends` is False for a domain that never sends.
    `ask_servers` asks each name server of the zone itself, `ask_pages` fetches the MTA-STS policy,
    `ask_mailboxes` asks the MX by SMTP whether postmaster and abuse are there. `sts_policy` is the text of the MTA-STS
    policy that is served here, `sts_id` the id that its record needs; empty where none is.
    """

    domain: str
    selectors: tuple[str | Selector, ...] = ()
    streams: tuple[Stream, ...] = ()
    sends: bool | None = None
    ips: tuple[str, ...] = ()
    lists: tuple[DnsList, ...] = ()
    usual_selectors: tuple[str, ...] = ()
    measured: Measured = field(default_factory=Measured)
    now: int | None = None
    key_first_seen: Mapping[str, int] = field(default_factory=dict, hash=False)
    key_domains: Mapping[str, tuple[str, ...]] = field(default_factory=dict, hash=False)
    ask_servers: bool = True
    ask_pages: bool = True
    ask_mailboxes: bool = False
    sts_policy: str = ""
    sts_id: str = ""

    def all_selectors(self) -> tuple[Selector, ...]:
        """Each selector of this domain once; given ones come before usual ones."""
        given = [selector if isinstance(selector, Selector) else Selector(selector) for selector in self.selectors]
        own = [stream for stream in self.streams if stream.dkim_domain == self.domain]
        given += [Selector(s.selector, "relay" if s.selector_of_relay else "stream") for s in own if s.selector]
        given += [Selector(selector, "relay") for stream in own for selector in stream.more_selectors]
        given += [Selector(name, "usual") for name in self.usual_selectors]
        return tuple({text.name.lower(): text for text in reversed(given)}.values())[::-1]

    def all_ips(self) -> tuple[str, ...]:
        """Each sending address once."""
        return tuple(dict.fromkeys([*self.ips, *(ip for stream in self.streams for ip in stream.ips)]))
