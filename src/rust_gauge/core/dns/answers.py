"""One DNS question and the answer to it (RFC 1035), with failure kept apart from "there is no such record"."""

from dataclasses import dataclass, field
from enum import StrEnum

from dns.rdata import Rdata
from dns.rdtypes.txtbase import TXTBase


class AnswerStatus(StrEnum):
    """How a question ended."""

    FOUND = "found"
    NO_DATA = "no_data"  # the name exists, without records of this type (NOERROR, empty)
    NO_NAME = "no_name"  # the name does not exist (NXDOMAIN)
    SERVFAIL = "servfail"
    REFUSED = "refused"
    TIMEOUT = "timeout"
    MALFORMED = "malformed"  # an answer came, and could not be read
    NOT_HELD = "not_held"  # off line: neither the zone files nor the recording say anything about this name

    @property
    def failed(self) -> bool:
        """Nothing is known: neither that there are records nor that there are none."""
        return self not in (AnswerStatus.FOUND, AnswerStatus.NO_DATA, AnswerStatus.NO_NAME)


@dataclass(frozen=True, slots=True)
class DnsQuestion:
    """A name (A-labels, no last dot) and a type mnemonic such as `TXT`.

    `server` asks this address (or `address:port`) itself instead of the resolver, without recursion unless `recursive`
    says that it is a resolver too; `unchecked` asks a resolver to hand
    over data that fails DNSSEC validation too (the CD bit, RFC 4035 §3.2.2).
    """

    name: str
    rdtype: str
    server: str = ""
    unchecked: bool = False
    recursive: bool = False

    def __str__(self) -> str:
        at = f" @{self.server}" if self.server else ""
        return f"{self.name} {self.rdtype}{at}" + (" +cd" if self.unchecked else "")


@dataclass(frozen=True, slots=True)
class TxtRecord:
    """A TXT record: the strings as published (each 255 octets at most), and the text that they make together."""

    strings: tuple[bytes, ...]

    @property
    def text(self) -> str:
        """The strings joined without anything between (RFC 7208 §3.3); an octet that is not UTF-8 shows as U+FFFD."""
        return b"".join(self.strings).decode("utf-8", "replace")


@dataclass(frozen=True, slots=True)
class DnsAnswer:
    """Response for one question."""

    question: DnsQuestion
    status: AnswerStatus
    records: tuple[Rdata, ...] = ()
    ttl: int | None = None  # seconds
    aliases: tuple[str, ...] = field(default=())  # the CNAME chain that was followed, first target first
    detail: str = ""  # for a failure: what happened, in words
    seconds: float = 0.0  # how long it took
    authenticated: bool = False  # the resolver vouches for it by DNSSEC (AD)
    authoritative: bool = False  # it comes from a server of the zone itself (AA)

    @property
    def failed(self) -> bool:
        """Return whether no answer was had, which says nothing about the records."""
        return self.status.failed

    @property
    def void(self) -> bool:
        """No such name, or no such records: a void look-up in the sense of RFC 7208 §4.6.4."""
        return self.status in (AnswerStatus.NO_DATA, AnswerStatus.NO_NAME)

    @property
    def texts(self) -> tuple[TxtRecord, ...]:
        """The TXT records of the answer."""
        return tuple(TxtRecord(rdata.strings) for rdata in self.records if isinstance(rdata, TXTBase))
