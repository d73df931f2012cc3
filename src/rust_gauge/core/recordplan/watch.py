"""How a change spreads: which servers answer with the planned record, which with another, and for how long at most.

A resolver keeps an answer for its TTL (RFC 1035 §3.2.1), and that there is nothing for the
time in the zone's SOA (RFC 2308 §5). So what is left of the TTL in an old answer tells when it will be gone.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from rust_gauge.core.dns import DnsAnswer, DnsQuestion
from rust_gauge.core.recordplan.compare import State, judge
from rust_gauge.core.recordplan.plan import RecordPlan
from rust_gauge.core.recordplan.record import PlannedRecord

_SOONEST, _LATEST = 10, 900  # seconds between two looks
_UNKNOWN_TTL = 300  # seconds, where a server did not say how long its answer holds
_SILENT_ROUNDS = 5  # rounds without an answer after which a server is not waited for, if all others have the records


@dataclass(frozen=True, slots=True)
class WatchServer:
    """Who is asked. `address` is `address` or `address:port`; `own` is a name server of the zone itself."""

    label: str
    address: str
    own: bool = False


class Ending(StrEnum):
    """How a watch ends. `agreed`: every server that was asked has every record. `incomplete`: all that answer have
    them, but some do not answer. `gave_up`: the time is over, and some answer with something else.
    """

    AGREED = "agreed"
    INCOMPLETE = "incomplete"
    GAVE_UP = "gave_up"


class Holds(StrEnum):
    """What a server has: the planned record, another one, nothing, or no answer."""

    NEW = "new"
    OLD = "old"
    NOTHING = "nothing"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class Sighting:
    """One record at one server. `seconds` is for how long an old answer may still be given; None where nobody knows.
    `failures`: rounds in a row without an answer.
    """

    key: str
    server: str
    holds: Holds
    values: tuple[str, ...] = ()
    seconds: int | None = None
    detail: str = ""
    failures: int = 0


def watch_questions(
    records: Sequence[PlannedRecord], servers: Sequence[WatchServer]
) -> tuple[tuple[PlannedRecord, WatchServer, DnsQuestion], ...]:
    """One question for each record and server: a round asks no more than that."""
    return tuple(
        (record, server, DnsQuestion(record.name, record.rdtype, server.address, recursive=not server.own))
        for record in records
        for server in servers
    )


def sight(record: PlannedRecord, server: WatchServer, answer: DnsAnswer, plan: RecordPlan) -> Sighting:
    """Read what an answer says about a record."""
    if answer.failed:
        return Sighting(record.key, server.label, Holds.FAILED, detail=answer.detail or str(answer.status))
    judged = judge(record, answer, plan)
    if judged.state is State.MATCHES:
        return Sighting(record.key, server.label, Holds.NEW, judged.published)
    holds = Holds.OLD if judged.published else Holds.NOTHING
    why = judged.causes[0].text if judged.causes else ""
    seconds = None if server.own else answer.ttl  # a server of the zone answers with what it has, whatever the TTL
    return Sighting(record.key, server.label, holds, judged.published, seconds, why)


def ending(sightings: Sequence[Sighting], *, timed_out: bool) -> Ending | None:
    """Return how a watch ends after this round; None if it goes on. A server that does not answer never agrees."""
    held = {sighting.holds for sighting in sightings}
    if held == {Holds.NEW}:
        return Ending.AGREED
    if held <= {Holds.NEW, Holds.FAILED} and held:
        silent = min(sighting.failures for sighting in sightings if sighting.holds is Holds.FAILED)
        if timed_out or silent >= _SILENT_ROUNDS:
            return Ending.INCOMPLETE
    return Ending.GAVE_UP if timed_out else None


def silent_servers(sightings: Iterable[Sighting]) -> list[str]:
    """Return the servers that did not answer for every record, in order."""
    return list(dict.fromkeys(sighting.server for sighting in sightings if sighting.holds is Holds.FAILED))


def seconds_left(sightings: Iterable[Sighting]) -> int | None:
    """When everybody will have it at the latest, in seconds from the look; 0 when all have it.

    None when a server of the zone itself does not have it: then nobody knows.
    """
    waiting = [sighting for sighting in sightings if sighting.holds in (Holds.OLD, Holds.NOTHING)]
    if any(sighting.seconds is None for sighting in waiting):
        return None
    return max((sighting.seconds or 0 for sighting in waiting), default=0)


def next_look(sightings: Sequence[Sighting], rounds: int) -> int:
    """Seconds until it is worth looking again: when the first old answer runs out, else further apart each time."""
    ends = [
        sighting.seconds
        for sighting in sightings
        if sighting.holds in (Holds.OLD, Holds.NOTHING) and sighting.seconds is not None
    ]
    patience = min(_LATEST, _SOONEST * 2 ** min(rounds, 6))
    soonest = min((end + 1 for end in ends), default=_UNKNOWN_TTL)
    return int(max(_SOONEST, min(soonest, patience)))
