"""Finding what is wrong with a tenant's mail: heavy pulls, crossed lines, providers' outages; and `signs`, next door.

One incident is one trouble, however many providers, streams or domains it shows at. Each says what is wrong, since
when, with what evidence, and what exactly to do.
"""

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, time, timedelta

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection

from rust_gauge.contract.worklist import AlertSettings, LineRow
from rust_gauge.core.replies.causes import Cause
from rust_gauge.core.reputation import COUNTS, FACTORS, NAMES, NO_VALUE, condition_of
from rust_gauge.core.reputation.factors import Factor, Kind
from rust_gauge.core.reputation.lines import BOUNCES
from rust_gauge.core.worklist import Level, State, Trouble, join
from rust_gauge.service.providers.providers import Columns, columns_of
from rust_gauge.service.readings.computation import EVENTS_OF, count
from rust_gauge.service.readings.lines import is_past_since, lines_of
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.worklist import signs
from rust_gauge.store import flow
from rust_gauge.store import readings as store_readings
from rust_gauge.store import worklist as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.readings import Series
from rust_gauge.store.tables import ALL_PROVIDERS, SUM_PROVIDER

_HEAVY = 8.0  # points that one factor takes at one provider
_SURELY = 1.2  # times its margin that a pull has to be: two complaints of four hundred mails are no incident
_KEEPS = 0.5  # of that at which an item that lives goes on
_HEAVY_OVER_ALL = 4.0  # or over all of them
_FADES_FOR = 4  # days without a rise after which a pull is that of something mended
_LEAST_SHARE = 0.03  # of a domain's mail that a provider has to have
_FELL_WITHIN = 7  # days
_FELL = 12.0  # points within them that are told though no single factor is heavy
_CONDITION_FELL = 5.0  # or so many, more than the margin, into another condition
_REMEMBERED = timedelta(days=30)  # how long what was mended may still fade
_RISES = 1.0  # points by which a pull that only fades may stand above the least that it had since
_LINE_FADES = timedelta(days=10)  # how long a line may still be crossed by what is mended
_LINE_PACE = timedelta(days=3)
_MOST_LINES = 12  # that one trouble names as its evidence
_OUTAGE = 0.2

_WORDS = {
    "complaints": "complaints", "bad_addresses": "bounces of bad addresses", "refusals": "refusals",
    "listings": "refusals for a blocklist", "authentication": "failed authentication", "delays": "delays",
    "held": "mail to held addresses", "unsubscribed": "unsubscriptions", "engagement": "fewer readers",
    "volume": "a jump in volume", "audit": "faults in the records",
}  # fmt: skip
_REMEDIES = {
    "complaints": "Stop {stream} to the part of the list that complains: who joined last, and who has not opened for "
    "long. Those who complained are held already. Go on slowly when the rate is below its watch line.",
    "bad_addresses": "Check the list of {stream} before the next send (Suppression, Before a send) and mail the clear "
    "half only. Addresses that bounced are held already.",
    "refusals": "Read the replies (Mail flow, Causes), mend what they name, and send {stream} slower until they stop.",
    "listings": "Find what the listed address sent, stop it, and ask the list to take the address off; meanwhile send "
    "{stream} over another relay.",
    "authentication": "Mend the record or key that does not pass: the audit says which. Then measure again.",
    "delays": "Send {stream} slower to this provider until the delays are usual again.",
    "held": "Ask for clearance before {stream} is sent, or put a gate in front of the relay.",
    "unsubscribed": "Ask why readers of {stream} leave: how often they are mailed, and with what.",
    "engagement": "See where {stream} lands at this provider, and leave out who has not opened for long.",
    "volume": "Send no more than twice a usual week until this one is usual, best recipients first.",
    "audit": "Publish the records that the audit asks for.",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Place:
    """What finding troubles on a day needs."""

    tenant: TenantAccess
    day: date
    columns: Columns
    names: Mapping[int, str]  # sending domains
    mail_of: Mapping[int, int]  # delivered in the week by domain
    mail_at: Mapping[int, int]  # by provider
    mail: Mapping[int, Mapping[int, int]]  # by domain and provider, of domains that are looked at closely
    streams: Mapping[tuple[int, str], tuple[str, int, int]]  # (domain, factor): stream, events, of how many
    live: frozenset[str] = frozenset()  # keys of items that live: they go on until they are well below what made them
    mended: Mapping[str, tuple[date, float]] = field(default_factory=dict)  # by key: since when, at how many points


def find_troubles(unit: UnitOfWork, tenant: TenantAccess, settings: AlertSettings) -> list[Trouble]:
    """All that is wrong now, one trouble for each incident."""
    connection, now = unit.connection, unit.now
    today = now.date()
    ids = _worth_a_look(connection, tenant, today)
    place = place_of(connection, tenant, today, ids)
    faults = signs.faults(connection, tenant, place.names, place.mail_of)
    place = _without_mended_faults(connection, place, {each.key for each in faults})
    rows = store_readings.histories(connection, tenant.id, 1, ids) if ids else []
    found = pulls_on(connection, place, [store_readings.unpack(row) for row in rows], today)
    found = _with_lines(connection, place, found, _crossed_lines(unit, place, settings))
    found += outages_on(connection, place, today) + faults
    found += signs.lost_proofs(connection, tenant, now) + signs.silent_feeds(unit, tenant)
    found += signs.old_keys(connection, tenant, now) + signs.new_replies(connection, tenant, now)
    by_name = {place.names[id]: n for id, n in place.mail_of.items() if id in place.names}
    mended: dict[str, date] = {}
    for key, (closed, _) in place.mended.items():
        if key.startswith("fault:"):
            name = key.split(":")[1]
            mended[name] = max(closed, mended.get(name, closed))
    return joined(found + signs.changed_records(connection, tenant, by_name, mended, now))


def joined(found: Iterable[Trouble]) -> list[Trouble]:
    """One trouble for each incident."""
    return join(found, {name: causes for name, (_, causes) in EVENTS_OF.items()})


def place_of(connection: Connection, tenant: TenantAccess, day: date, domain_ids: Sequence[int]) -> Place:
    """What is around on a day; details of these domains only."""
    columns = columns_of(connection, tenant.id, day)
    names = store_readings.names_of(connection, tenant.id, 1)
    week = day - timedelta(days=6)
    mail: dict[int, dict[int, int]] = defaultdict(lambda: defaultdict(int))
    for domain_id, provider_id, n in flow.delivered_at(connection, tenant.id, domain_ids, week, day):
        mail[domain_id][columns.place(provider_id)] += n
    mail_of, mail_at = (flow.delivered_by(connection, [tenant.id], kind, week, day) for kind in (1, SUM_PROVIDER))
    live: set[str] = set()
    mended: dict[str, tuple[date, float]] = {}
    for row in store.items(connection, [tenant.id]):
        if row.state != str(State.CLOSED):
            live.add(row.item_key)
        elif day - _REMEMBERED <= row.closed_at.date() <= day:
            trouble = store.item_of(row).trouble
            mended |= dict.fromkeys((row.item_key, *trouble.parts), (row.closed_at.date(), trouble.measure))
    streams = _streams(connection, tenant, domain_ids, week, day)
    return Place(tenant, day, columns, names, mail_of, mail_at, mail, streams, frozenset(live), mended)


def _without_mended_faults(connection: Connection, place: Place, found: Collection[str]) -> Place:
    """Where a fault is not found any more, what it made fail is mended with it."""
    mended = dict(place.mended)
    for row in store.items(connection, [place.tenant.id], [str(state) for state in State if state is not State.CLOSED]):
        trouble = store.item_of(row).trouble
        if trouble.kind == "fault" and row.item_key not in found:
            mended |= dict.fromkeys(trouble.parts, (row.seen_at.date(), trouble.measure))
            mended[row.item_key] = (place.day, trouble.measure)  # a record that changed today is what mended it
    return replace(place, mended=mended)


def _streams(
    connection: Connection, tenant: TenantAccess, domain_ids: Sequence[int], first: date, last: date
) -> dict[tuple[int, str], tuple[str, int, int]]:
    """By (domain, factor): the stream that most of a factor's events came from, how many, of how many."""
    known = store_readings.names_of(connection, tenant.id, 2)
    rows = store_readings.week_by_stream(connection, tenant.id, domain_ids, first, last)
    if not len(rows):
        return {}
    pairs, at = np.unique(rows[:, :2], axis=0, return_inverse=True)
    flat = np.column_stack([at.reshape(-1), rows[:, 2], np.zeros(len(rows), dtype=np.int64), rows[:, 3:]])
    counted = count(flat, first, first)
    sums: dict[int, dict[int, NDArray[np.float64]]] = defaultdict(dict)  # by domain and stream: (COUNTS,)
    for row, (pair, _) in enumerate(counted.series):
        domain_id, stream_id = map(int, pairs[pair])
        so_far = sums[domain_id].get(stream_id, 0.0)
        sums[domain_id][stream_id] = so_far + counted.counts[:, row].sum(axis=1)
    out = {}
    for domain_id, of in sums.items():
        for at_name, name in enumerate(COUNTS):
            total = sum(float(each[at_name]) for each in of.values())
            if total > 0:
                most = max(of, key=lambda stream: float(of[stream][at_name]))
                out[domain_id, name] = (known.get(most, ""), int(of[most][at_name]), int(total))
    return out


def _worth_a_look(connection: Connection, tenant: TenantAccess, today: date) -> list[int]:
    """Domains of which any reading may be a trouble today, by what lies beside their newest readings."""
    newest = store_readings.newest(connection, [tenant.id], 1, today, _FELL_WITHIN + 1)
    whole = newest.provider_id == ALL_PROVIDERS
    least = np.where(whole, _HEAVY_OVER_ALL, _HEAVY) * 10 * _KEEPS
    fell = whole & (newest.tenths[:, 0] - newest.tenths[:, -1] >= _CONDITION_FELL * 10)
    heavy = newest.pulls.max(axis=1, initial=0) >= least
    return sorted(set(newest.subject_id[(newest.late == 0) & (heavy | fell)].tolist()))


# Heavy pulls


def pulls_on(connection: Connection, place: Place, series: Sequence[Series], day: date) -> list[Trouble]:
    """Factors that take much from a domain's readings on a day, each once, with the providers that it shows at."""
    of: dict[int, list[Series]] = defaultdict(list)
    for each in series:
        if each.first <= day <= each.last:
            of[each.subject_id].append(each)
    found = []
    for domain_id, mine in of.items():
        whole = next((each for each in mine if each.provider_id == ALL_PROVIDERS), None)
        if whole is None or domain_id not in place.names:
            continue
        heavy = [_heavy(connection, place, domain_id, whole, mine, factor, day) for factor in range(len(NAMES))]
        these = [trouble for trouble in heavy if trouble is not None]
        # What fell by a factor that only fades by now was told with that factor.
        index = (day - whole.first).days
        told = any(
            whole.pulls[at, index] / 10 >= _HEAVY_OVER_ALL and _is_over(place, whole, domain_id, at, index)
            for at in range(len(NAMES))
        )
        found += these if these or told else _fell(place, domain_id, whole, day)
    return _by_relay(connection, place, found)


def _heavy(
    connection: Connection, place: Place, domain_id: int, whole: Series, mine: Sequence[Series], at: int, day: date
) -> Trouble | None:
    factor, name = FACTORS[at], place.names[domain_id]
    if factor.kind is Kind.AUDIT:
        return None  # told with the faults themselves
    mail = place.mail.get(domain_id, {})
    total = sum(mail.values()) or 1
    mended = place.mended.get(f"pull:{name}:{factor.name}")

    def fades(series: Series, index: int) -> bool:
        if _recovers(series, at, index):
            return True
        if mended is None or not _only_fades(series, at, index, *mended):
            return False
        return not _fails_again(connection, place, domain_id, factor, mended[0])

    keeps = _KEEPS if f"pull:{name}:{factor.name}" in place.live else 1.0
    where: list[tuple[float, Series, int]] = []
    for each in mine:
        index = (day - each.first).days
        if each is whole or each.tenths[index] == NO_VALUE:
            continue
        points = each.pulls[at, index] / 10
        share = mail.get(each.provider_id, 0) / total
        sure = keeps * max(_HEAVY, _SURELY * each.margin[index] / 10)
        if points >= sure and share >= _LEAST_SHARE and not fades(each, index):
            where.append((float(points), each, index))
    index_of_all = (day - whole.first).days
    over_all = whole.pulls[at, index_of_all] / 10
    sure_of_all = keeps * max(_HEAVY_OVER_ALL, _SURELY * whole.margin[index_of_all] / 10)
    if not where and (over_all < sure_of_all or fades(whole, index_of_all)):
        return None
    if not where:  # a little everywhere
        where = [
            (float(each.pulls[at, index] / 10), each, index)
            for each in mine
            if each is not whole and each.tenths[index := (day - each.first).days] != NO_VALUE
            and each.pulls[at, index] >= 20
        ]  # fmt: skip
    if not where:
        return None
    where.sort(key=lambda each: -each[0])
    worst = min(int(each.tenths[index]) / 10 for _, each, index in where)
    condition = condition_of(worst)
    level = {"seized": Level.STOP, "corroded": Level.MEND, "tarnished": Level.LOOK, "sound": Level.LOOK}[
        condition.value
    ]
    labels = [place.columns.label(each.provider_id) for _, each, _ in where]
    stream, events, of = place.streams.get((domain_id, factor.name), ("", 0, 0))
    shown = f"{stream} of {name}" if stream else name
    spread = labels[0] if len(labels) == 1 else f"{len(labels)} providers"
    evidence = [f"{points:.1f} points at {label}" for (points, _, _), label in zip(where, labels, strict=True)]
    if events:
        evidence.append(f"{events:,} of {of:,} in the last seven days came from {stream or 'mail without a stream'}")
    since = min(_began(each, at, index) for _, each, index in where)
    touched = sum(mail.get(each.provider_id, 0) for _, each, _ in where)
    return Trouble(
        f"pull:{name}:{factor.name}", "pull", "domain", name, f"{_capital(_WORDS[factor.name])} at {spread}: {name}",
        f"{_capital(_WORDS[factor.name])} {_verb('take', factor.name)} {where[0][0]:.0f} points off its reading at "
        f"{labels[0]}"
        + (f", and {_verb('weigh', factor.name)} at {', '.join(labels[1:4])} too" if len(labels) > 1 else "")
        + f". It stands at {worst:.0f} there: {condition}.",
        level, datetime.combine(since, time(), UTC), touched, _REMEDIES[factor.name].format(stream=shown), "",
        tuple(evidence), "audit" if factor.name in ("authentication", "listings") else "readings", factor.name, (name,),
        where[0][0],
    )  # fmt: skip


def _recovers(series: Series, factor: int, index: int) -> bool:
    """Whether a pull only fades by now: it has not risen for days in which as much mail went out as before."""
    if index < _FADES_FOR:
        return False
    pulls, mail = series.pulls[factor, : index + 1].astype(int), series.mail[: index + 1]
    lately = pulls[-_FADES_FOR - 1 :]
    falls = bool((np.diff(lately) <= 1).all()) and lately[-1] < lately[0]
    return falls and lately[-1] < 0.75 * pulls[-15:].max() and mail[-1] >= 0.8 * mail[-_FADES_FOR - 1]


def _only_fades(series: Series, factor: int, index: int, since: date, measure: float) -> bool:
    """Whether a pull has not risen since its incident was mended, when it took `measure` points."""
    start = max(0, (since - series.first).days)
    pulls = series.pulls[factor, start : index + 1] / 10
    return bool(len(pulls)) and bool(pulls[-1] <= min(float(pulls.min()), measure) + _RISES)


def _is_over(place: Place, whole: Series, domain_id: int, at: int, index: int) -> bool:
    """Whether a pull over all providers is that of something mended."""
    mended = place.mended.get(f"pull:{place.names[domain_id]}:{NAMES[at]}")
    return _recovers(whole, at, index) or (mended is not None and _only_fades(whole, at, index, *mended))


def _fails_again(connection: Connection, place: Place, domain_id: int, factor: Factor, since: date) -> bool:
    """Whether mail of the days after something was mended is past the watch line. A reading that is as low as it can
    be, or whose sender mails once a week, does not show that by itself.
    """
    if factor.name not in COUNTS or since >= place.day:
        return False
    first = max(since + timedelta(days=1), place.day - timedelta(days=6))
    rows = store_readings.counters(connection, place.tenant.id, 1, first, [domain_id], place.day)
    sums = count(rows, first, place.day).counts.sum(axis=(1, 2))
    mail = float(sums[COUNTS.index("delivered" if factor.of == "reported" else "attempted")])
    events = float(sums[COUNTS.index(factor.name)])
    return (events + factor.usual * factor.worth) / (mail + factor.worth) > factor.watch


def _began(series: Series, factor: int, index: int) -> date:
    """The first day of those on which this pull has been noticeable without a break."""
    light = np.flatnonzero(series.pulls[factor, : index + 1] < 30)
    start = int(light[-1]) + 1 if len(light) else 0
    return series.first + timedelta(days=min(start, index))


def _fell(place: Place, domain_id: int, whole: Series, day: date) -> list[Trouble]:
    """A reading that fell much, or into another condition, though nothing of it is heavy alone."""
    index = (day - whole.first).days
    then = index - _FELL_WITHIN
    if then < 0 or whole.tenths[index] == NO_VALUE or whole.tenths[then] == NO_VALUE:
        return []
    now, before = int(whole.tenths[index]) / 10, int(whole.tenths[then]) / 10
    margin = int(whole.margin[index]) / 10
    was, stands = condition_of(before), condition_of(now)
    changed = was != stands and before - now >= max(_CONDITION_FELL, margin)
    if before - now < max(_FELL, margin) and not changed:
        return []
    name = place.names[domain_id]
    level = Level.MEND if now < 60 else Level.LOOK
    fell = f"fell by {before - now:.0f} points" if was == stands else f"fell from {was} to {stands}"
    pulls = sorted(((float(each), _WORDS[NAMES[at]]) for at, each in enumerate(whole.pulls[:, index] / 10) if each))[
        ::-1
    ]
    most = " and ".join(word for _, word in pulls[:2]) or "small things"
    return [
        Trouble(
            f"fell:{name}", "fell", "domain", name, f"The reading of {name} {fell}",
            f"It stands at {now:.0f}, a week ago at {before:.0f}. {_capital(most)} weigh most, none of them surely "
            "alone.", level,
            datetime.combine(day, time(), UTC), place.mail_of.get(domain_id, 0),
            f"See what moved it: rustgauge moved {name}", "",
            (f"{before:.1f} → {now:.1f}", *(f"{points:.1f} points: {word}" for points, word in pulls[:3])),
            domains=(name,),
        )
    ]  # fmt: skip


def _by_relay(connection: Connection, place: Place, found: list[Trouble]) -> list[Trouble]:
    """Listings belong to a relay's address: those of several domains over one relay are one trouble."""
    listed = [trouble for trouble in found if trouble.key.endswith(":listings")]
    if not listed:
        return found
    ids = {name: id for id, name in place.names.items()}
    relays = store_readings.names_of(connection, place.tenant.id, 3)
    groups: dict[str, list[Trouble]] = defaultdict(list)
    for trouble in listed:
        relay_id = flow.worst_relay(
            connection, place.tenant.id, ids[trouble.name], place.day - timedelta(days=30), place.day, Cause.BLOCKLISTED
        )
        groups[relays.get(relay_id or 0, "")].append(trouble)
    out = [trouble for trouble in found if trouble not in listed]
    for relay, those in groups.items():
        first = max(those, key=lambda each: (each.level.urgency, each.mail))
        names = ", ".join(sorted(each.name for each in those))
        title = f"An address of {relay or 'a relay'} is listed: {names}"
        out.append(
            replace(
                first, key=f"listing:{relay or names}", subject="relay" if relay else "domain",
                name=relay or first.name, title=title, mail=sum(each.mail for each in those),
                since=min(each.since for each in those), measure=max(each.measure for each in those),
                evidence=tuple(line for each in those for line in (each.name, *each.evidence))[:12],
                domains=tuple(each.name for each in those), parts=tuple(each.key for each in those),
            )
        )  # fmt: skip
    return out


# Providers' outages


def outages_on(connection: Connection, place: Place, day: date) -> list[Trouble]:
    """Providers that put everybody's mail off by their own trouble: to know, not to mend."""
    out = []
    for row in store_readings.provider_days(connection, day, place.columns.names):
        if row.day != day or row.outage < _OUTAGE or not place.mail_at.get(row.provider_id):
            continue
        label = place.columns.label(row.provider_id)
        out.append(
            Trouble(
                f"outage:{place.columns.name(row.provider_id)}", "outage", "provider", label,
                f"{label} has an outage", f"It puts off {row.outage:.0%} of the mail of {row.senders} senders. Nothing "
                "of yours is wrong, and the readings leave it out.", Level.KNOW, datetime.combine(day, time(), UTC),
                place.mail_at[row.provider_id], "Nothing to mend: mail is tried again by itself. Hold large "
                "sends there until it is over.", "", (f"{row.senders} senders are put off alike",),
            )
        )  # fmt: skip
    return out


# Lines


def _crossed_lines(unit: UnitOfWork, place: Place, settings: AlertSettings) -> list[Trouble]:
    """Lines that are crossed, or soon will be; but for those that only remember what is mended."""
    connection, now = unit.connection, unit.now
    out = []
    for row in lines_of(unit, place.tenant, settings):
        key = f"line:{row.subject}:{row.name}:{row.rate}"
        if not (row.crossed or row.next):
            continue
        if key in place.mended:
            since = place.mended[key][0] + timedelta(days=1)
            first = max(since, place.day - _LINE_PACE)
            fades = since > place.day or not is_past_since(connection, place.tenant, row, first, place.day)
            if fades and place.day - since < _LINE_FADES:
                continue
        of = row.crossed or row.next
        line = row.stop if of == "stop" else row.watch
        chance = row.stop_chance if of == "stop" else row.watch_chance
        soon = f"At this pace the {row.next} line is crossed on {row.next_on:%d %b}. " if row.next else ""
        whose = "the relay's own" if row.own else "the usual"
        costs = "it may stop you" if row.subject in ("relay", "provider") else "slow it down now"
        what = f"{row.rate} at {row.name}" if row.subject == "provider" else f"{row.rate} of {row.subject} {row.name}"
        out.append(
            Trouble(
                key, "line", row.subject, row.name,
                f"{_capital(what)} are {'past' if row.crossed else 'soon at'} the {of} line",
                f"{row.value:.2%} of its mail lately; {whose} {of} line is {line:.2%}: {costs}. {soon}".rstrip(),
                _level_of(row), now, int(row.mail),
                "Slow down what goes over it, and mend the causes of the bounces first (Mail flow, Causes)."
                if row.rate == "bounces"
                else "Stop mailing who has not opened for long, and who joined last; clearance holds who complained.",
                "",
                (
                    f"{row.value:.2%} of its mail lately, {of} line {line:.2%}",
                    f"{row.events:.0f} in {row.mail:,.0f} messages remembered", f"sure to {chance:.0%}",
                ),
                topic=row.rate, domains=(row.name,) if row.subject == "domain" else (),
            )
        )  # fmt: skip
    return out


def _level_of(row: LineRow) -> Level:
    if "stop" in (row.crossed, row.next):
        return Level.STOP
    return Level.MEND if row.crossed else Level.LOOK


_FACTORS_OF = {"bounces": ("bad_addresses", "refusals", "listings", "authentication"), "complaints": ("complaints",)}


def _with_lines(connection: Connection, place: Place, pulls: list[Trouble], lines: list[Trouble]) -> list[Trouble]:
    """A line that is crossed by what a domain's pull tells already is evidence of that, not one more trouble; and that
    of a domain or provider is evidence of the stream's or relay's.
    """
    out = {trouble.key: trouble for trouble in pulls}
    rest: dict[str, Trouble] = {}
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
    """Which trouble is why a line is crossed."""

    def __init__(self, connection: Connection, place: Place, pulls: Iterable[Trouble]) -> None:
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

    def add(self, line: Trouble) -> None:
        """A line that stands alone: those of its domain, and of providers, are crossed by it."""
        self._any.setdefault(line.topic, line.key)
        worst = self._worst.get((line.subject, line.name, line.topic == BOUNCES.rate))
        if worst is not None:
            self._lines.setdefault((worst, line.topic), line.key)

    def of(self, line: Trouble) -> str | None:
        """The key of the trouble."""
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

    def _by(self, factor: str, line: Trouble) -> str | None:
        if line.subject == "stream":
            return self._by_stream.get((line.name, factor))
        if line.subject == "relay":
            worst = self._worst.get(("relay", line.name, line.topic == BOUNCES.rate), 0)
            return self._by_domain.get((worst, factor))
        if line.subject == "domain":
            return self._by_domain.get((self._ids.get(line.name, 0), factor))
        return self._any.get(factor)


_SINGULAR = ("authentication", "held", "volume")


def _verb(verb: str, factor: str) -> str:
    return verb + "s" if factor in _SINGULAR else verb


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]
