"""What an audit finds: one thing, where it is, why it matters, what to publish instead, and which section says so."""

from dataclasses import dataclass
from enum import StrEnum


class Level(StrEnum):
    """How bad: a fault breaks something now, a risk works but is weak or fragile, a note is worth knowing."""

    FAULT = "fault"
    RISK = "risk"
    NOTE = "note"

    @property
    def rank(self) -> int:
        """0 for the worst."""
        return list(Level).index(self)


@dataclass(frozen=True, slots=True)
class Place:
    """Where in a record. `column` counts from 1 in the record's text; 0 means the record as a whole."""

    name: str
    rdtype: str
    record: int = 0  # which of several records at this name, from 0
    column: int = 0
    length: int = 0


_CHECKS = {"spf": "spf", "dkim": "dkim", "dmarc": "dmarc", "stream": "alignment", "mx": "mx", "ptr": "hosts",
           "helo": "hosts", "sts": "mta-sts", "tlsrpt": "tls-rpt", "bimi": "bimi", "dnssec": "dnssec",
           "dane": "dane", "listed": "lists", "bulk": "bulk", "mailbox": "mailboxes"}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing found. `rule` is stable over versions; `id` is stable for the same thing in the next audit."""

    rule: str
    level: Level
    title: str
    place: Place
    reason: str
    remedy: str
    reference: str
    evidence: tuple[str, ...] = ()
    record: str | None = None  # the exact value to publish, where one can be given
    topic: str = ""  # what tells two findings of one rule at one name apart, such as the tag concerned
    scope: str = "all"  # whose mail it touches: all, subdomains, stream:<name>, selector:<name>, or none

    @property
    def check(self) -> str:
        """Checklist requirement it belongs to."""
        return _CHECKS.get(self.rule.partition("-")[0], "dns")

    @property
    def id(self) -> str:
        """What tells findings of one audit apart, and says that one of the next audit is the same."""
        parts = [self.rule, self.place.name, self.topic]
        return ":".join(part for part in parts if part)
