"""Problems that bounce and complaint rates show: lines that are crossed, or soon will be."""

from collections.abc import Iterable
from dataclasses import replace
from datetime import timedelta

from sqlalchemy import Connection

from rust_gauge.contract.worklist import AlertSettings, LineRow
from rust_gauge.core.reputation.lines import BOUNCES
from rust_gauge.core.shares import percent
from rust_gauge.core.worklist import Incident, Level
from rust_gauge.service.readings.lines import is_past_since, lines_of
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.worklist.place import Place, capital
from rust_gauge.store import flow
from rust_gauge.store import readings as store_readings

_LINE_FADES = timedelta(days=10)  # how long a line may still be crossed by what is fixed


_LINE_PACE = timedelta(days=3)  # a rate since the fix is judged over at most this long


_MOST_LINES = 12  # that one incident names as its evidence


def crossed_lines(unit: UnitOfWork, place: Place, settings: AlertSettings) -> list[Incident]:
    """Lines that are crossed, or soon will be; except those that only reflect a problem that is resolved."""
    connection, now = unit.connection, unit.now
    out = []
    for row in lines_of(unit, place.tenant, settings):
        key = f"line:{row.subject}:{row.name}:{row.rate}"
        if not (row.crossed or row.next):
            continue
        if key in place.fixed:
            since = place.fixed[key][0] + timedelta(days=1)
            first = max(since, place.day - _LINE_PACE)
            fades = since > place.day or not is_past_since(connection, place.tenant, row, first, place.day)
            if fades and place.day - since < _LINE_FADES:
                continue
        of = row.crossed or row.next
        line = row.stop if of == "stop" else row.watch
        chance = row.stop_chance if of == "stop" else row.watch_chance
        soon = f"At the current rate the {row.next} line is crossed on {row.next_on:%d %b}. " if row.next else ""
        whose = "the relay's own" if row.own else "the default"
        costs = "it may stop accepting your mail" if row.subject in ("relay", "provider") else "slow down now"
        state = "above" if row.crossed else "probably above" if row.estimate > line else "close to"
        what = f"{row.rate} at {row.name}" if row.subject == "provider" else f"{row.rate} of {row.subject} {row.name}"
        counts = f"{row.events:,} of {row.mail:,} messages in the last {row.days} days" + (
            f" ({percent(row.value)})" if row.value is not None else ""
        )
        estimate = f"estimate {percent(row.estimate)}, with recent mail counted more"
        out.append(
            Incident(
                key, "line", row.subject, row.name,
                f"{capital(what)} are {state} the {of} line",
                f"{counts}; {estimate}. {capital(whose)} {of} line is {percent(line)}: {costs}. {soon}".rstrip(),
                _level_of(row), now, row.mail,
                "Send more slowly, and fix the causes of the bounces first (Mail flow, Causes)."
                if row.rate == "bounces"
                else "Stop mailing recipients who have not opened for a long time, and recent sign-ups; complainants "
                "are already held.",
                "",
                (
                    f"{counts}; {estimate}; {of} line {percent(line)}",
                    f"above the line with probability {percent(chance, 0)}",
                ),
                topic=row.rate, domains=(row.name,) if row.subject == "domain" else (),
            )
        )  # fmt: skip
    return out


def _level_of(row: LineRow) -> Level:
    if "stop" in (row.crossed, row.next):
        return Level.STOP
    return Level.FIX if row.crossed else Level.INVESTIGATE


_FACTORS_OF = {
    "bounces": ("invalid_addresses", "refusals", "listings", "authentication"),
    "complaints": ("complaints",),
}


def with_lines(connection: Connection, place: Place, pulls: list[Incident], lines: list[Incident]) -> list[Incident]:
    """Attach crossed lines to the incident that explains them: a pull of the domain, or the line of a stream or relay.

    Lines that nothing explains are incidents of their own.
    """
    out = {incident.key: incident for incident in pulls}
    rest: dict[str, Incident] = {}
    causes = _Causes(connection, place, pulls) if lines else None
    for line in sorted(lines, key=lambda line: ("stream", "relay", "domain", "provider").index(line.subject)):
        assert causes is not None
        key = causes.of(line)
        if key is None:
            rest[line.key] = line
            causes.add(line)
            continue
        side = out if key in out else rest
        known = side[key]
        level = min(known.level, line.level, key=lambda level: -level.urgency)
        evidence = known.evidence
        if len(known.parts) < _MOST_LINES and not (known.kind == "pull" and line.subject == "provider"):
            evidence = (*evidence, f"{line.title}: {line.evidence[0]}")  # a pull names its providers itself
        side[key] = replace(known, level=level, evidence=evidence, parts=(*known.parts, line.key))
    return [*out.values(), *rest.values()]


class _Causes:
    """Return the incident that explains a crossed line."""

    def __init__(self, connection: Connection, place: Place, pulls: Iterable[Incident]) -> None:
        self._ids = {name: id for id, name in place.names.items()}
        self._worst: dict[tuple[str, str, bool], int] = {}  # by stream or relay, its name, whether by bounces
        for kind, subject in ((2, "stream"), (3, "relay")):
            names = store_readings.names_of(connection, place.tenant.id, kind)
            found = flow.worst_domains(connection, place.tenant.id, place.day, subject)
            self._worst |= {(subject, names.get(id, ""), bounces): domain for (id, bounces), domain in found.items()}
        self._lines: dict[
            tuple[int, str], str
        ] = {}  # by domain and rate: the line of a stream or relay that it crosses
        self._by_domain: dict[tuple[int, str], str] = {}  # domain, factor
        self._by_stream: dict[tuple[str, str], str] = {}
        self._any: dict[str, str] = {}  # by factor, or by rate
        for pull in pulls:
            self._any.setdefault(pull.topic, pull.key)
            for id in (self._ids[name] for name in pull.domains if name in self._ids):
                self._by_domain.setdefault((id, pull.topic), pull.key)
                stream = place.streams.get((id, pull.topic), ("",))[0]
                self._by_stream.setdefault((stream, pull.topic), pull.key)

    def add(self, line: Incident) -> None:
        """A line that stands alone: those of its domain, and of providers, are crossed by it."""
        self._any.setdefault(line.topic, line.key)
        worst = self._worst.get((line.subject, line.name, line.topic == BOUNCES.rate))
        if worst is not None:
            self._lines.setdefault((worst, line.topic), line.key)

    def of(self, line: Incident) -> str | None:
        """The key of the incident."""
        for factor in _FACTORS_OF[line.topic]:
            found = self._by(factor, line)
            if found is not None:
                return found
        if line.subject == "domain":
            return self._lines.get((self._ids.get(line.name, 0), line.topic))
        if line.subject == "relay":
            worst = self._worst.get(("relay", line.name, line.topic == BOUNCES.rate), 0)
            return self._lines.get((worst, line.topic))
        return self._any.get(line.topic) if line.subject == "provider" else None

    def _by(self, factor: str, line: Incident) -> str | None:
        if line.subject == "stream":
            return self._by_stream.get((line.name, factor))
        if line.subject == "relay":
            worst = self._worst.get(("relay", line.name, line.topic == BOUNCES.rate), 0)
            return self._by_domain.get((worst, factor))
        if line.subject == "domain":
            return self._by_domain.get((self._ids.get(line.name, 0), factor))
        return self._any.get(factor)
