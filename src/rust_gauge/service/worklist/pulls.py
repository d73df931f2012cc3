"""Problems that readings show: rates that jumped, heavy pulls of one factor, and readings that fell.

A jump is reported on its day, while the reading itself moves slowly; what crept up without a jump is reported once it
takes much.
"""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import replace
from datetime import UTC, date, datetime, time, timedelta
from itertools import groupby

import numpy as np
from sqlalchemy import Connection

from rust_gauge.core.replies.causes import Cause
from rust_gauge.core.reputation import COUNTS, FACTORS, NAMES, NO_VALUE, condition_of, exposure, log_odds_of
from rust_gauge.core.reputation.factors import Factor, Kind
from rust_gauge.core.shares import percent
from rust_gauge.core.worklist import Incident, Level
from rust_gauge.service.domains.relays import described_relays, sending_paths
from rust_gauge.service.readings.computation import count, rows_of
from rust_gauge.service.worklist.place import CONDITION_FELL, FELL_WITHIN, KEEPS, Place, capital
from rust_gauge.store import domains, flow
from rust_gauge.store import readings as store_readings
from rust_gauge.store.readings import JumpRow, Series
from rust_gauge.store.tables import ALL_PROVIDERS

_BY_ITSELF = 1.3  # log-odds that a heavy factor counts for: a small one has its part of a large loss


HEAVY = 8.0  # points that one factor takes at one provider


_SURELY = 1.2  # times its margin that a pull has to be: two complaints of four hundred mails are no incident


HEAVY_OVER_ALL = 6.0  # or over all of them


_EXPLAINS = timedelta(days=10)  # how long a rate that jumped explains a reading that fell


_NEWER = 6.0  # points that engagement has to cost more than at its best of the last weeks: its level is no incident


_NEWS_OF = 42  # days


_FADES_FOR = 4  # days without a rise after which a pull is that of something fixed


_LEAST_SHARE = 0.03  # of a domain's mail that a provider has to have


_FELL = 12.0  # points within them that are reported though no single factor is heavy


_RISES = 1.0  # points by which a pull that only fades may stand above the least that it had since


_WORDS = {
    "complaints": "complaints", "invalid_addresses": "bounces from invalid addresses", "refusals": "refusals",
    "listings": "blocklist refusals", "authentication": "failed authentication", "delays": "delays",
    "held": "mail to held addresses", "unsubscribes": "unsubscribes", "engagement": "engagement",
    "volume": "a jump in volume", "record_faults": "record faults", "placement": "test copies in spam or missing",
    "alignment": "mail reported as not aligned",
}  # fmt: skip


_REMEDIES = {
    "complaints": "Pause {stream} for the part of the list that complains: recent sign-ups, and recipients who have "
    "not opened for a long time. Complainants are already held. Resume slowly once the rate is below its watch line.",
    "invalid_addresses": "Check the list of {stream} before the next send (Suppression, List check) and mail only "
    "the clear part. Addresses that bounced are already held.",
    "refusals": "Read the replies (Mail flow, Causes), fix what they name, and send {stream} more slowly until they "
    "stop.",
    "listings": "Find out what the listed IP sent, stop it, and request delisting; meanwhile send {stream} over "
    "another relay.",
    "authentication": "Fix the record or key that fails (see the audit), then re-check.",
    "delays": "Send {stream} more slowly to this provider until delays are back to normal.",
    "held": "Check clearance before sending {stream}, or put a gate in front of the relay.",
    "unsubscribes": "Find out why readers of {stream} leave: frequency and content.",
    "engagement": "Check where {stream} lands at this provider, and leave out recipients who have not opened for a "
    "long time.",
    "volume": "Send at most twice the usual weekly volume until it has become usual; most engaged recipients first.",
    "record_faults": "Publish the records that the audit recommends.",
    "placement": "See what else changed the day placement turned (Bench, Placement), undo it, and send {stream} to "
    "engaged recipients only until copies are in the inbox again.",
    "alignment": "Open Domains, Reports of receivers, and see which of your sources is not aligned at which receiver; "
    "fix its key, its SPF entry or its envelope domain.",
}


def pulls_on(connection: Connection, place: Place, series: Iterable[Series], day: date) -> list[Incident]:
    """Factors that take much from a domain's readings on a day, one once, with the providers that it shows at.

    Series of one domain come one after the other, so that those of all domains need not be in memory.
    """
    found = []
    for domain_id, of in groupby(series, key=lambda one: one.subject_id):
        mine = [one for one in of if one.first <= day <= one.last]
        whole = next((series for series in mine if series.provider_id == ALL_PROVIDERS), None)
        if whole is None or domain_id not in place.names:
            continue
        heavy = [_heavy(connection, place, domain_id, whole, mine, factor, day) for factor in range(len(NAMES))]
        these = [incident for incident in heavy if incident is not None]
        # What fell by a factor that only fades by now was reported with that factor.
        index = (day - whole.first).days
        reported = any(
            jump.last >= day - _EXPLAINS for series in mine for jump in series.jumps if jump.reported <= day
        ) or any(
            whole.pulls[at, index] / 10 >= HEAVY_OVER_ALL and _is_over(place, whole, domain_id, at, index)
            for at in range(len(NAMES))
        )
        found += these if these or reported else _fell(place, domain_id, whole, day)
    return _by_relay(connection, place, found)


def _heavy(
    connection: Connection, place: Place, domain_id: int, whole: Series, mine: Sequence[Series], at: int, day: date
) -> Incident | None:
    factor, name = FACTORS[at], place.names[domain_id]
    if factor.kind is Kind.AUDIT:
        return None  # reported with the faults themselves
    mail = place.mail.get(domain_id, {})
    total = sum(mail.values()) or 1
    fixed = place.fixed.get(f"pull:{name}:{factor.name}")

    def fades(series: Series, index: int) -> bool:
        if _recovers(series, at, index):
            return True
        if fixed is None or not _only_fades(series, at, index, *fixed):
            return False
        return not _fails_again(connection, place, domain_id, factor, fixed[0])

    def over(jump: JumpRow) -> bool:
        """Return whether what jumped was fixed since, and the mail after that is right."""
        if fixed is None or jump.began > fixed[0]:
            return False
        return not _fails_again(connection, place, domain_id, factor, fixed[0])

    def jump_of(series: Series) -> JumpRow | None:
        found = [jump for jump in series.jumps if jump.factor == at and jump.goes_on(day) and not over(jump)]
        return max(found, key=lambda jump: jump.reported, default=None)

    keeps = KEEPS if f"pull:{name}:{factor.name}" in place.live else 1.0
    where: list[tuple[float, Series, int]] = []
    jumps: dict[int, JumpRow] = {}
    for one in mine:
        index = (day - one.first).days
        if one is whole or one.tenths[index] == NO_VALUE:
            continue
        points = one.pulls[at, index] / 10
        costs = _costs(one, at, index)
        share = mail.get(one.provider_id, 0) / total
        sure = keeps * max(HEAVY, _SURELY * one.margin[index] / 10)
        jump = jump_of(one) if share >= _LEAST_SHARE else None
        if jump is not None:
            jumps[one.provider_id] = jump
        if jump is not None or (costs >= sure and share >= _LEAST_SHARE and not fades(one, index)):
            where.append((float(points), one, index))
    index_of_all = (day - whole.first).days
    over_all = _costs(whole, at, index_of_all)
    sure_of_all = keeps * max(HEAVY_OVER_ALL, _SURELY * whole.margin[index_of_all] / 10)
    jump_over_all = jump_of(whole)
    if not where and jump_over_all is None and (over_all < sure_of_all or fades(whole, index_of_all)):
        return None
    if not where:  # a little everywhere
        where = [
            (float(series.pulls[at, index] / 10), series, index)
            for series in mine
            if series is not whole and series.tenths[index := (day - series.first).days] != NO_VALUE
            and series.pulls[at, index] >= (1 if jump_over_all else 20)
        ]  # fmt: skip
    if not where:
        return None
    where.sort(key=lambda place: -place[0])
    rose = jumps.get(where[0][1].provider_id) or jump_over_all or next(iter(jumps.values()), None)
    worst = min(int(series.tenths[index]) / 10 for _, series, index in where)
    condition = condition_of(worst)
    level = {"seized": Level.STOP, "corroded": Level.FIX, "tarnished": Level.INVESTIGATE, "sound": Level.INVESTIGATE}[
        condition.value
    ]
    labels = [place.columns.label(series.provider_id) for _, series, _ in where]
    stream, events, of = place.streams.get((domain_id, factor.name), ("", 0, 0))
    if rose is not None and rose.events >= factor.stop * rose.mail and level is Level.INVESTIGATE:
        level = Level.FIX
    shown = f"{stream} of {name}" if stream else name
    where_rose = next((place.columns.label(id) for id, jump in jumps.items() if jump is rose), "all providers together")
    spread = labels[0] if len(labels) == 1 else f"{len(labels)} providers"
    evidence = [f"{points:.1f} points at {label}" for (points, _, _), label in zip(where, labels, strict=True)]
    if events:
        whose = stream or "mail without a stream"
        evidence.append(f"{capital(_WORDS[factor.name])}, last 7 days: {events:,} of {of:,} came from {whose}")
    began = [jump.began for jump in (*jumps.values(), *([jump_over_all] if jump_over_all else []))]
    since = min(began) if began else min(_began(series, at, index) for _, series, index in where)
    evidence += [_rise(jump, place.columns.label(id)) for id, jump in jumps.items()]
    if jump_over_all is not None:
        evidence.append(_rise(jump_over_all, "all providers together"))
    touched = sum(mail.get(series.provider_id, 0) for _, series, _ in where)
    return Incident(
        f"pull:{name}:{factor.name}", "pull", "domain", name,
        f"{capital(_WORDS[factor.name])} at {spread}: {name}",
        f"{capital(_WORDS[factor.name])} {_verb('take', factor.name)} {where[0][0]:.0f} points off its reading at "
        f"{labels[0]}"
        + (f", and {_verb('count', factor.name)} at {', '.join(labels[1:4])}, too" if len(labels) > 1 else "")
        + f". The reading there is {worst:.0f}: {condition}."
        + (f" {_rise(rose, where_rose)}." if rose is not None else ""),
        level, datetime.combine(since, time(), UTC), touched, _REMEDIES[factor.name].format(stream=shown), "",
        tuple(evidence), "audit" if factor.name in ("authentication", "listings") else "readings", factor.name, (name,),
        where[0][0], *(_used_by(connection, place, name, stream) if factor.name == "authentication" else ((), ())),
        providers=tuple(labels),
    )  # fmt: skip


def _rise(jump: JumpRow, where: str) -> str:
    """Return a jump in words, with its counts and period."""
    name = {"copies": "test copies", "reported": "reported messages"}.get(FACTORS[jump.factor].of, "messages")
    return (
        f"{capital(where)}: {percent(jump.events / max(1.0, jump.mail))} since {jump.began:%-d %b} "
        f"({jump.events:,.0f} of {jump.mail:,.0f} {name}), {percent(jump.usual)} before"
    )  # fmt: skip


def _costs(series: Series, factor: int, index: int) -> float:
    """Return the points that a factor takes, 0 where it counts little by itself; of engagement, only what is new."""

    def of(day: int) -> float:
        points = float(series.pulls[factor, day] / 10)
        return points if log_odds_of(points, 100 - series.tenths[day] / 10) >= _BY_ITSELF else 0.0

    if series.tenths[index] == NO_VALUE:
        return 0.0
    if FACTORS[factor].kind is not Kind.ENGAGEMENT:
        return of(index)
    days = [day for day in range(max(0, index - _NEWS_OF), index + 1) if series.tenths[day] != NO_VALUE]
    return of(index) if of(index) - min(map(of, days)) >= _NEWER else 0.0


def _used_by(connection: Connection, place: Place, domain: str, stream: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Return the names of the records that a stream's mail is authenticated by, and its scopes; nothing if unknown."""
    row = next(iter(domains.list_domains(connection, place.tenant.id, name=domain)), None)
    paths = sending_paths(row, described_relays(connection, place.tenant.id)) if row is not None and stream else ()
    mine = [path for path in paths if path.stream == stream]
    if not mine:
        return (), ()
    keys = [key for path in mine for key in path.keys]
    records = [name for path in mine for name in (path.envelope, path.helo) if name]
    records += [f"{selector}._domainkey.{d}" for d, selector in keys if selector]
    scopes = [f"stream:{stream}", *(f"selector:{selector}" for _, selector in keys if selector)]
    return tuple(dict.fromkeys(records)), tuple(dict.fromkeys(scopes))


def _recovers(series: Series, factor: int, index: int) -> bool:
    """Return whether a pull only fades by now: it has not risen for days in which as much mail went out as before."""
    if index < _FADES_FOR:
        return False
    pulls, mail = series.pulls[factor, : index + 1].astype(int), series.mail[: index + 1]
    lately = pulls[-_FADES_FOR - 1 :]
    falls = bool((np.diff(lately) <= 1).all()) and lately[-1] < lately[0]
    return falls and lately[-1] < 0.75 * pulls[-15:].max() and mail[-1] >= 0.8 * mail[-_FADES_FOR - 1]


def _only_fades(series: Series, factor: int, index: int, since: date, measure: float) -> bool:
    """Return whether a pull has not risen since its incident was fixed, when it took `measure` points."""
    start = max(0, (since - series.first).days)
    pulls = series.pulls[factor, start : index + 1] / 10
    return bool(len(pulls)) and bool(pulls[-1] <= min(float(pulls.min()), measure) + _RISES)


def _is_over(place: Place, whole: Series, domain_id: int, at: int, index: int) -> bool:
    """Return whether a pull over all providers is that of something fixed."""
    fixed = place.fixed.get(f"pull:{place.names[domain_id]}:{NAMES[at]}")
    return _recovers(whole, at, index) or (fixed is not None and _only_fades(whole, at, index, *fixed))


def _fails_again(connection: Connection, place: Place, domain_id: int, factor: Factor, since: date) -> bool:
    """Return whether mail of the days after a fix is above the watch line. A reading at its lowest, or whose sender
    mails once a week, does not show that by itself.
    """
    if factor.name not in COUNTS or since >= place.day:
        return False
    first = max(since + timedelta(days=1), place.day - timedelta(days=6))
    rows = rows_of(connection, place.tenant.id, 1, first, [domain_id])
    sums = dict(zip(COUNTS, count(rows, first, place.day).counts.sum(axis=(1, 2)), strict=True))
    events, mail = float(sums[factor.name]), float(exposure(factor, sums))
    return (events + factor.usual * factor.worth) / (mail + factor.worth) > factor.watch


def _began(series: Series, factor: int, index: int) -> date:
    """The first day of those on which this pull has been noticeable without a break."""
    light = np.flatnonzero(series.pulls[factor, : index + 1] < 30)
    start = int(light[-1]) + 1 if len(light) else 0
    return series.first + timedelta(days=min(start, index))


def _fell(place: Place, domain_id: int, whole: Series, day: date) -> list[Incident]:
    """A reading that fell much, or into another condition, though nothing of it is heavy alone."""
    index = (day - whole.first).days
    then = index - FELL_WITHIN
    if then < 0 or whole.tenths[index] == NO_VALUE or whole.tenths[then] == NO_VALUE:
        return []
    now, before = int(whole.tenths[index]) / 10, int(whole.tenths[then]) / 10
    margin = int(whole.margin[index]) / 10
    was, stands = condition_of(before), condition_of(now)
    changed = was != stands and before - now >= max(CONDITION_FELL, margin)
    if before - now < max(_FELL, margin) and not changed:
        return []
    name = place.names[domain_id]
    level = Level.FIX if now < 60 else Level.INVESTIGATE
    fell = f"fell by {before - now:.0f} points" if was == stands else f"fell from {was} to {stands}"
    pulls = sorted(((float(pull), _WORDS[NAMES[at]]) for at, pull in enumerate(whole.pulls[:, index] / 10) if pull))[
        ::-1
    ]
    most = " and ".join(word for _, word in pulls[:2]) or "several small factors"
    return [
        Incident(
            f"fell:{name}", "fell", "domain", name, f"The reading of {name} {fell}",
            f"It is {now:.0f}; a week ago it was {before:.0f}. {capital(most)} contribute most; none of them "
            "explains it alone.", level,
            datetime.combine(day, time(), UTC), place.mail_of.get(domain_id, 0),
            f"See what changed: rustgauge reading explain {name}", "",
            (f"{before:.1f} → {now:.1f}", *(f"{points:.1f} points: {word}" for points, word in pulls[:3])),
            domains=(name,),
        )
    ]  # fmt: skip


def _by_relay(connection: Connection, place: Place, found: list[Incident]) -> list[Incident]:
    """Listings belong to a relay's address: those of several domains over one relay are one incident."""
    listed = [incident for incident in found if incident.key.endswith(":listings")]
    if not listed:
        return found
    ids = {name: id for id, name in place.names.items()}
    relays = store_readings.names_of(connection, place.tenant.id, 3)
    groups: dict[str, list[Incident]] = defaultdict(list)
    for incident in listed:
        relay_id = flow.worst_relay(
            connection,
            place.tenant.id,
            ids[incident.name],
            place.day - timedelta(days=30),
            place.day,
            Cause.BLOCKLISTED,
        )
        groups[relays.get(relay_id or 0, "")].append(incident)
    out = [incident for incident in found if incident not in listed]
    for relay, those in groups.items():
        first = max(those, key=lambda incident: (incident.level.urgency, incident.mail))
        names = ", ".join(sorted(incident.name for incident in those))
        title = f"An IP of {relay or 'a relay'} is on a blocklist: {names}"
        out.append(
            replace(
                first, key=f"listing:{relay or names}", subject="relay" if relay else "domain",
                name=relay or first.name, title=title, mail=sum(incident.mail for incident in those),
                since=min(incident.since for incident in those), measure=max(incident.measure for incident in those),
                evidence=tuple(line for incident in those for line in (incident.name, *incident.evidence))[:12],
                domains=tuple(incident.name for incident in those), parts=tuple(incident.key for incident in those),
            )
        )  # fmt: skip
    return out


_SINGULAR = ("authentication", "held", "volume", "engagement")


def _verb(verb: str, factor: str) -> str:
    return verb + "s" if factor in _SINGULAR else verb
