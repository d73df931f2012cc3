"""Finding what is wrong with a tenant's mail: heavy pulls, crossed lines, faults in records, lost proofs, silent feeds.

One incident is one trouble, however many providers, streams or domains it shows at. Each says what is wrong, since
when, with what evidence, and what exactly to do.
"""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import numpy as np
from sqlalchemy import Connection

from rust_gauge.contract.relays import RelayDescription
from rust_gauge.contract.worklist import AlertSettings, LineRow
from rust_gauge.core.replies.causes import SENDER_CAUSES, Cause
from rust_gauge.core.reputation import COUNTS, FACTORS, NAMES, NO_VALUE, condition_of
from rust_gauge.core.reputation.factors import Kind
from rust_gauge.core.reputation.lines import (
    BOUNCES,
    COMPLAINTS,
    Line,
    Standing,
    crossed,
    crossing_ahead,
    standings,
)
from rust_gauge.core.worklist import Level, State, Trouble
from rust_gauge.service import feeds
from rust_gauge.service.context import Context
from rust_gauge.service.flow import REPORTS_WITHIN
from rust_gauge.service.providers import Columns, columns_of
from rust_gauge.service.readings import count
from rust_gauge.store import domains as store_domains
from rust_gauge.store import flow
from rust_gauge.store import readings as store_readings
from rust_gauge.store import relays as store_relays
from rust_gauge.store import worklist as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.readings import Series
from rust_gauge.store.tables import ALL_PROVIDERS

_HEAVY = 8.0  # points that one factor takes at one provider
_SURELY = 1.2  # times its margin that a pull has to be: two complaints of four hundred mails are no incident
_KEEPS = 0.5  # of that at which an item that lives goes on
_HEAVY_OVER_ALL = 4.0  # or over all of them
_FADES_FOR = 4  # days without a rise after which a pull is that of something mended
_LEAST_SHARE = 0.03  # of a domain's mail that a provider has to have
_FELL = 12.0  # points within a week that are told though no single factor is heavy
_LINE_DAYS = 30
_SILENT_AFTER = timedelta(hours=26)  # a feed that brings something every day
_OLD_KEY = timedelta(days=365)
_NEW_REPLY = timedelta(hours=24)
_NEW_REPLY_FROM = 10
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
    mail: Mapping[int, Mapping[int, int]]  # delivered in the week by domain and provider
    streams: Mapping[tuple[int, str], tuple[str, int, int]]  # (domain, factor): stream, events, of how many
    live: frozenset[str] = frozenset()  # keys of items that live: they go on until they are well below what made them


def find_troubles(
    context: Context, connection: Connection, tenant: TenantAccess, settings: AlertSettings
) -> list[Trouble]:
    """All that is wrong now."""
    now = context.clock()
    today = now.date()
    rows = store_readings.histories(connection, tenant.id, 1)
    series = [store_readings.unpack(row) for row in rows]
    place = place_of(connection, tenant, today)
    found = pulls_on(connection, place, series, today)
    found = _with_lines(connection, place, found, _crossed_lines(context, connection, tenant, settings))
    found += outages_on(connection, place, today)
    found += _faults(connection, tenant, place)
    found += _others(context, connection, tenant)
    return with_records(found)


def place_of(connection: Connection, tenant: TenantAccess, day: date) -> Place:
    columns = columns_of(connection, tenant.id, day)
    names = store_readings.names_of(connection, tenant.id, 1)
    week = day - timedelta(days=6)
    mail: dict[int, dict[int, int]] = defaultdict(lambda: defaultdict(int))
    for domain_id, provider_id, n in flow.delivered_at(connection, tenant.id, week, day):
        mail[domain_id][columns.place(provider_id)] += n
    streams: dict[tuple[int, str], tuple[str, int, int]] = {}
    known = store_readings.names_of(connection, tenant.id, 2)
    for domain_id in mail:
        counted = count(store_readings.stream_counters(connection, tenant.id, domain_id, week, day), week, day, {})
        sums = counted.counts.sum(axis=2)
        for at, name in enumerate(COUNTS):
            if len(counted.series) and sums[at].sum() > 0:
                row = int(sums[at].argmax())
                stream = known.get(counted.series[row][0], "")
                streams[domain_id, name] = (stream, int(sums[at, row]), int(sums[at].sum()))
    states = [str(state) for state in State if state is not State.CLOSED]
    live = frozenset(row.item_key for row in store.items(connection, [tenant.id], states))
    return Place(tenant, day, columns, names, mail, streams, live)


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
        heavy = [_heavy(place, domain_id, whole, mine, factor, day) for factor in range(len(NAMES))]
        these = [trouble for trouble in heavy if trouble is not None]
        # What fell by a factor that only fades by now was told with that factor.
        told = any(
            whole.pulls[factor, (day - whole.first).days] / 10 >= _HEAVY_OVER_ALL for factor in range(len(NAMES))
        )
        found += these if these or told else _fell(place, domain_id, whole, day)
    return _by_relay(connection, place, found)


def _heavy(place: Place, domain_id: int, whole: Series, mine: Sequence[Series], at: int, day: date) -> Trouble | None:
    factor, name = FACTORS[at], place.names[domain_id]
    if factor.kind is Kind.AUDIT:
        return None  # told with the faults themselves
    mail = place.mail.get(domain_id, {})
    total = sum(mail.values()) or 1
    keeps = _KEEPS if f"pull:{name}:{factor.name}" in place.live else 1.0
    where: list[tuple[float, Series, int]] = []
    for each in mine:
        index = (day - each.first).days
        if each is whole or each.tenths[index] == NO_VALUE:
            continue
        points = each.pulls[at, index] / 10
        share = mail.get(each.provider_id, 0) / total
        sure = keeps * max(_HEAVY, _SURELY * each.margin[index] / 10)
        if points >= sure and share >= _LEAST_SHARE and not _recovers(each, at, index):
            where.append((float(points), each, index))
    index_of_all = (day - whole.first).days
    over_all = whole.pulls[at, index_of_all] / 10
    sure_of_all = keeps * max(_HEAVY_OVER_ALL, _SURELY * whole.margin[index_of_all] / 10)
    if not where and (over_all < sure_of_all or _recovers(whole, at, index_of_all)):
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
        f"{_capital(_WORDS[factor.name])} take {where[0][0]:.0f} points off its reading at {labels[0]}"
        + (f", and weigh at {', '.join(labels[1:4])} too" if len(labels) > 1 else "")
        + f". It stands at {worst:.0f} there: {condition}.",
        level, datetime.combine(since, time(), UTC), touched, _REMEDIES[factor.name].format(stream=shown), "",
        tuple(evidence), "audit" if factor.name == "authentication" else "readings",
    )  # fmt: skip


def _recovers(series: Series, factor: int, index: int) -> bool:
    """Whether a pull only fades by now: it has not risen for days in which as much mail went out as before."""
    if index < _FADES_FOR:
        return False
    pulls, mail = series.pulls[factor, : index + 1].astype(int), series.mail[: index + 1]
    lately = pulls[-_FADES_FOR - 1 :]
    falls = bool((np.diff(lately) <= 1).all()) and lately[-1] < lately[0]
    return falls and lately[-1] < 0.75 * pulls[-15:].max() and mail[-1] >= 0.8 * mail[-_FADES_FOR - 1]


def _began(series: Series, factor: int, index: int) -> date:
    """The first day of those on which this pull has been noticeable without a break."""
    light = np.flatnonzero(series.pulls[factor, : index + 1] < 30)
    start = int(light[-1]) + 1 if len(light) else 0
    return series.first + timedelta(days=min(start, index))


def _fell(place: Place, domain_id: int, whole: Series, day: date) -> list[Trouble]:
    index = (day - whole.first).days
    if index < 7 or whole.tenths[index] == NO_VALUE or whole.tenths[index - 7] == NO_VALUE:
        return []
    now, before = int(whole.tenths[index]) / 10, int(whole.tenths[index - 7]) / 10
    if before - now < _FELL:
        return []
    name = place.names[domain_id]
    level = Level.MEND if now < 60 else Level.LOOK
    return [
        Trouble(
            f"fell:{name}", "fell", "domain", name, f"The reading of {name} fell by {before - now:.0f} points",
            f"It stands at {now:.0f}, a week ago at {before:.0f}.", level, datetime.combine(day, time(), UTC),
            sum(place.mail.get(domain_id, {}).values()), f"See what moved it: rustgauge moved {name}", "",
            (f"{before:.1f} → {now:.1f}",),
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
                first, key=f"listing:{relay}:{names if not relay else ''}", subject="relay" if relay else "domain",
                name=relay or first.name, title=title, mail=sum(each.mail for each in those),
                since=min(each.since for each in those),
                evidence=tuple(line for each in those for line in (each.name, *each.evidence))[:12],
            )
        )  # fmt: skip
    return out


def with_records(found: list[Trouble]) -> list[Trouble]:
    """A failed authentication with a fault in the records of the same domain has that record as its remedy."""
    records = {each.name: each for each in found if each.kind == "fault" and each.record}
    out = []
    for each in found:
        fault = records.get(each.name)
        if each.key.endswith(":authentication") and fault is not None:
            each = replace(each, remedy=f"{fault.title}. {fault.remedy}", record=fault.record)
        out.append(each)
    return out


# Providers' outages


def outages_on(connection: Connection, place: Place, day: date) -> list[Trouble]:
    """Providers that put everybody's mail off by their own trouble: to know, not to mend."""
    out = []
    mail: dict[int, int] = defaultdict(int)
    for each in place.mail.values():
        for provider_id, n in each.items():
            mail[provider_id] += n
    for row in store_readings.provider_days(connection, day, place.columns.names):
        if row.day != day or row.outage < _OUTAGE or not mail.get(row.provider_id):
            continue
        label = place.columns.label(row.provider_id)
        out.append(
            Trouble(
                f"outage:{place.columns.name(row.provider_id)}", "outage", "provider", label,
                f"{label} has an outage", f"It puts off {row.outage:.0%} of the mail of {row.senders} senders. Nothing "
                "of yours is wrong, and the readings leave it out.", Level.KNOW, datetime.combine(day, time(), UTC),
                mail[row.provider_id], "Nothing to mend: mail is tried again by itself. Hold large sends there until "
                "it is over.", "", (f"{row.senders} senders are put off alike",),
            )
        )  # fmt: skip
    return out


# Lines


def lines_of(context: Context, connection: Connection, tenant: TenantAccess, settings: AlertSettings) -> list[LineRow]:
    """Bounce and complaint rates of relays, streams, domains and providers against their lines, today."""
    today = context.clock().date()
    since = today - timedelta(days=_LINE_DAYS)
    reporting = flow.reporting_providers(connection, today - REPORTS_WITHIN)
    columns = columns_of(connection, tenant.id, today)
    own = {
        name: RelayDescription.model_validate(description or {}).lines
        for name, description in store_relays.list_relays(connection, tenant.id)
    }
    out = []
    for kind, subject in ((3, "relay"), (2, "stream"), (1, "domain")):
        rows = store_readings.counters(connection, tenant.id, kind, since)
        names = store_readings.names_of(connection, tenant.id, kind)
        sides = [count(rows, since, today), count(rows[np.isin(rows[:, 1], list(reporting))], since, today)]
        for id, name in names.items():
            lines = own.get(name) if kind == 3 else None
            out += _lines(subject, name, [_sum(side, id, None) for side in sides], lines, settings, today)
        if kind == 1:
            for provider_id in columns.names:
                parts = [_sum(side, None, provider_id) for side in sides]
                out += _lines("provider", columns.label(provider_id), parts, None, settings, today)
    return out


def stream_relay_lines(
    context: Context, connection: Connection, tenant: TenantAccess, settings: AlertSettings
) -> list[tuple[str, str, LineRow]]:
    """(stream, relay, line) of each stream over each relay, by the relay's lines."""
    today = context.clock().date()
    since = today - timedelta(days=_LINE_DAYS)
    reporting = list(flow.reporting_providers(connection, today - REPORTS_WITHIN))
    own = {
        name: RelayDescription.model_validate(description or {}).lines
        for name, description in store_relays.list_relays(connection, tenant.id)
    }
    streams, relays = (store_readings.names_of(connection, tenant.id, kind) for kind in (2, 3))
    out = []
    for relay_id, relay in relays.items():
        rows = store_readings.relay_counters(connection, tenant.id, relay_id, since)
        sides = [count(rows, since, today), count(rows[np.isin(rows[:, 1], reporting)], since, today)]
        for stream_id, stream in streams.items():
            parts = [_sum(side, stream_id, None) for side in sides]
            out += [(stream, relay, row) for row in _lines("stream", stream, parts, own.get(relay), settings, today)]
    return out


def _sum(counted: Any, subject: int | None, provider: int | None) -> Any:
    """(COUNTS, days) over some of the series."""
    rows = [
        row
        for row, (id, at) in enumerate(counted.series)
        if (subject is None or id == subject) and (provider is None or at == provider)
    ]
    return counted.counts[:, rows].sum(axis=1)


def _lines(subject: str, name: str, parts: list[Any], own: Any, settings: AlertSettings, today: date) -> list[LineRow]:
    out = []
    for line, counts, side in ((BOUNCES, parts[0], "bounce"), (COMPLAINTS, parts[1], "complaint")):
        watch = getattr(own, f"{side}_watch", None) or line.watch
        stop = max(getattr(own, f"{side}_stop", None) or line.stop, watch * 1.01)
        chosen = replace(line, watch=watch, stop=stop, sure=settings.sure)
        mail = counts[0] if line is BOUNCES else counts[1]
        if mail.sum() == 0:
            continue
        events = counts[0] - counts[1] if line is BOUNCES else counts[COUNTS.index("complaints")]
        events = np.maximum(events, 0.0)
        now = standings(events, mail, chosen)[-1]
        if now.mail < 1:
            continue
        row = _row(subject, name, chosen, now, own=(watch, stop) != (line.watch, line.stop))
        following, days = crossing_ahead(events, mail, chosen)
        if following:
            row = row.model_copy(update={"next": following, "next_on": today + timedelta(days=days)})
        out.append(row)
    return out


def _row(subject: Any, name: str, line: Line, now: Standing, *, own: bool) -> LineRow:
    return LineRow(
        subject=subject, name=name, rate=line.rate, value=now.rate, watch=line.watch, stop=line.stop,
        watch_chance=round(now.watch_chance, 4), stop_chance=round(now.stop_chance, 4), events=round(now.events, 1),
        mail=round(now.mail, 1), crossed=crossed(now, line), own=own,
    )  # fmt: skip


def _crossed_lines(
    context: Context, connection: Connection, tenant: TenantAccess, settings: AlertSettings
) -> list[Trouble]:
    """Lines that are crossed, or soon will be. Those of relays and streams: a domain's are told by its pulls."""
    now = context.clock()
    out = []
    for row in lines_of(context, connection, tenant, settings):
        if not (row.crossed or row.next) or row.subject not in ("relay", "stream"):
            continue
        of = row.crossed or row.next
        line = row.stop if of == "stop" else row.watch
        chance = row.stop_chance if of == "stop" else row.watch_chance
        soon = f"At this pace the {row.next} line is crossed on {row.next_on:%d %b}. " if row.next else ""
        whose = "the relay's own" if row.own else "the usual"
        costs = "it may stop you" if row.subject == "relay" else "slow it down now"
        what = f"{row.rate} of {row.subject} {row.name}"
        out.append(
            Trouble(
                f"line:{row.subject}:{row.name}:{row.rate}", "line", row.subject, row.name,
                f"{_capital(what)} are {'past' if row.crossed else 'soon at'} the {of} line",
                f"{row.value:.2%} of its mail lately; {whose} {of} line is {line:.2%}: {costs}. {soon}".rstrip(),
                _level_of(row), now, int(row.mail),
                "Slow down what goes over it, and mend the causes of the bounces first (Mail flow, Causes)."
                if row.rate == "bounces"
                else "Stop mailing who has not opened for long, and who joined last; clearance holds who complained.",
                "", (f"{row.events:.0f} in {row.mail:,.0f} messages remembered", f"sure to {chance:.0%}"),
            )
        )  # fmt: skip
    return out


def _level_of(row: LineRow) -> Level:
    if "stop" in (row.crossed, row.next):
        return Level.STOP
    return Level.MEND if row.crossed else Level.LOOK


_FACTORS_OF = {"bounces": ("bad_addresses", "refusals", "listings", "authentication"), "complaints": ("complaints",)}


def _with_lines(connection: Connection, place: Place, pulls: list[Trouble], lines: list[Trouble]) -> list[Trouble]:
    """A line that a stream or relay crossed by what a domain's pull tells already is evidence of that, not one more."""
    ids = {name: id for id, name in place.names.items()}
    relays = {name: id for id, name in store_readings.names_of(connection, place.tenant.id, 3).items()}
    out = {trouble.key: trouble for trouble in pulls}
    rest = []
    for line in lines:
        rate = line.key.rpartition(":")[2]
        worst: int | None = None
        if line.subject == "relay":
            worst = flow.worst_domain(connection, place.tenant.id, relays[line.name], place.day, rate == "bounces")
        into = next(
            (
                trouble
                for trouble in pulls
                for factor in _FACTORS_OF[rate]
                if trouble.key == f"pull:{trouble.name}:{factor}"
                and (
                    place.streams.get((ids[trouble.name], factor), ("",))[0] == line.name
                    if line.subject == "stream"
                    else ids[trouble.name] == worst
                )
            ),
            None,
        )
        if into is None:
            rest.append(line)
            continue
        known = out[into.key]
        level = min(known.level, line.level, key=lambda level: -level.urgency)
        out[into.key] = replace(known, level=level, evidence=(*known.evidence, f"{line.title}: {line.text}"))
    return [*out.values(), *rest]


# Records, proofs, feeds, keys, replies


def _faults(connection: Connection, tenant: TenantAccess, place: Place) -> list[Trouble]:
    """Faults of the newest audits, each with the record that mends it."""
    out = []
    for domain_id, audit in store_domains.newest_findings(connection, [tenant.id]).items():
        name = place.names.get(domain_id)
        if name is None:
            continue
        mail = sum(place.mail.get(domain_id, {}).values())
        groups: dict[str, list[dict[str, Any]]] = defaultdict(list)
        for finding in audit.findings:
            if finding["level"] == "fault":
                groups[finding["rule"]].append(finding)
        for rule, those in groups.items():
            first = those[0]
            more = f", and {len(those) - 1} more like it" if len(those) > 1 else ""
            evidence = [str(line) for each in those for line in (each["title"], *each["evidence"])][1:]
            out.append(
                Trouble(
                    f"fault:{name}:{rule}", "fault", "domain", name, first["title"] + more, first["reason"],
                    Level.MEND if mail else Level.LOOK, audit.finished_at.replace(tzinfo=UTC), mail, first["remedy"],
                    first.get("record") or "", tuple(line[:500] for line in evidence[:8]), "audit",
                )
            )  # fmt: skip
    return out


def _others(context: Context, connection: Connection, tenant: TenantAccess) -> list[Trouble]:
    now = context.clock()
    out = []
    for row in store.lost_proofs(connection, tenant.id):
        out.append(
            Trouble(
                f"proof:{row.kind}:{row.subject}", "proof", "domain", row.subject,
                f"The proof of {row.subject} is lost", "Its record is gone: that it is yours is not proven any more.",
                Level.MEND, (row.lost_at or now.replace(tzinfo=None)).replace(tzinfo=UTC), 0,
                f"Publish the record of the proof again: rustgauge prove {row.subject}", "", (), "proof",
            )
        )  # fmt: skip
    for feed in feeds.list_feeds(context, tenant):
        silent = feed.last_arrival_at is not None and now - feed.last_arrival_at > _SILENT_AFTER
        if feed.paused or not (silent or feed.trouble) or feed.last_arrival_at is None:
            continue
        age = (now - feed.last_arrival_at).total_seconds() / 3600
        out.append(
            Trouble(
                f"feed:{feed.name}", "feed", "feed", feed.name, f"The feed {feed.name} went silent",
                f"Nothing came for {age:.0f} hours. {feed.trouble}".strip(), Level.MEND, feed.last_arrival_at, 0,
                "See whether its source still sends (Mail flow, Feeds). Until then readings know nothing of its mail.",
                "", (feed.said,), "feed",
            )
        )  # fmt: skip
    for row in store.old_keys(connection, tenant.id, now - _OLD_KEY, now - timedelta(days=7)):
        out.append(
            Trouble(
                f"key:{row.domain}:{row.selector}", "key", "domain", row.domain,
                f"The DKIM key {row.selector} of {row.domain} is old",
                f"It is published since {row.first_seen_at:%Y-%m-%d} at least.", Level.LOOK,
                row.first_seen_at.replace(tzinfo=UTC), 0,
                f"Make a new one under another selector, publish it, sign with it, then withdraw {row.selector}.",
                "", (), "audit",
            )
        )  # fmt: skip
    for row in store.new_wordings(connection, tenant.id, now - _NEW_REPLY, _NEW_REPLY_FROM):
        cause = Cause.from_number(row.cause)
        if cause in SENDER_CAUSES or cause is Cause.UNCLASSIFIED:
            out.append(
                Trouble(
                    f"reply:{row.id}", "reply", "tenant", tenant.slug, f"A new refusal: {row.example[:120]}",
                    f"It came {row.n} times, first at {row.first_seen_at:%Y-%m-%d %H:%M} UTC "
                    f"({str(cause).replace('_', ' ')}).", Level.LOOK, row.first_seen_at.replace(tzinfo=UTC),
                    int(row.n), "Read what it asks for; write a rule for it where no rule knows it.", "",
                    (row.example[:500],),
                )
            )  # fmt: skip
    return out


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]
