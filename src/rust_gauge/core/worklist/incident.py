"""A incident as it is measured: what is wrong, with what, since when, the evidence, and the exact remedy."""

from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum


class Level(StrEnum):
    """How bad, and how soon: `stop` this path is or will be stopped, `fix` it costs, `investigate` it may come to cost,
    `info` nothing of ours is wrong.
    """

    STOP = "stop"
    FIX = "fix"
    INVESTIGATE = "investigate"
    INFO = "info"

    @property
    def urgency(self) -> float:
        """How much sooner this level comes, beside the others."""
        return {Level.STOP: 8.0, Level.FIX: 4.0, Level.INVESTIGATE: 1.5, Level.INFO: 0.2}[self]


@dataclass(frozen=True, slots=True)
class Incident:
    """One thing that is wrong. `key` is what makes it the same thing when it is measured again: one incident, however
    many providers and streams it shows at. `mail`: messages of a week that it touches.
    """

    key: str
    kind: str
    subject: str  # domain, stream, relay, ip, provider, feed or tenant
    name: str
    title: str
    text: str
    level: Level
    since: datetime
    mail: int = 0
    remedy: str = ""
    record: str = ""
    evidence: tuple[str, ...] = field(default=())
    recheck: str = "readings"  # what looks again: audit, readings, proof, feed
    topic: str = ""  # what it has in common with others: a pull's factor, a fault's rule, a reply's cause
    domains: tuple[str, ...] = ()  # sending domains that it concerns
    measure: float = 0.0  # points of a pull: what of it only fades is no incident any more
    places: tuple[str, ...] = ()  # names of the records: of a fault, or those that the affected stream uses
    scopes: tuple[str, ...] = ()  # mail that a fault affects, or that fails: all, stream:<name>, selector:<s>
    providers: tuple[str, ...] = ()  # mailbox providers where it shows, as the tenant calls them; empty: any
    parts: tuple[str, ...] = ()  # keys of incidents that are of the same incident and were joined to this one
