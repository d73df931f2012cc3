"""Readings: computed from the day counters and kept by subject and mailbox provider.

A subject is a domain, a stream, a relay or a sending address. What is computed here is read by `standing`.
"""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from itertools import product
from typing import Any

import numpy as np
import structlog
from numpy.typing import NDArray
from sqlalchemy import Connection

from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.replies.causes import ADDRESS_CAUSES, SENDER_CAUSES
from rust_gauge.core.reputation import (
    COUNTS,
    FACTORS,
    NAMES,
    Factor,
    Jump,
    Readings,
    Surroundings,
    common_delay,
    factors_with,
    find_jumps,
    median_opens,
    openness,
    over_providers,
    read,
    threshold_of,
)
from rust_gauge.core.reputation.jumps import WINDOW
from rust_gauge.service.providers.providers import Columns, columns_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import audits as store_settings
from rust_gauge.store import (
    changes,
    flow,
    jobs,
    leases,
    placement_days,
    provider_norms,
    reading_counters,
    report_receivers,
)
from rust_gauge.store import readings as store
from rust_gauge.store import warmup as store_warmup
from rust_gauge.store.counter_rows import CounterRows, SenderRows
from rust_gauge.store.jobs import Job
from rust_gauge.store.readings import KINDS, JumpRow, Series
from rust_gauge.store.tables import ALL_PROVIDERS, NO_MAIL_PROVIDER, OTHER_PROVIDERS

log = structlog.get_logger()
SETTING = "reputation"
HISTORY = timedelta(days=400)  # a year to compare with, and a month of looking back
_TOGETHER = 20  # subjects that are computed at once
_STALE_AT_ONCE = 40  # in one transaction: meanwhile no other domain of the tenant is computed
STALE = "stale"
_OUTAGE_RUN_IN = timedelta(days=45)  # what is usual of delays has to be known before they can be unusual
_LOOK_EVERY = timedelta(hours=1)  # all senders together change slowly
_HELD_LOOKED_BACK = timedelta(days=2)  # mail to a held address that is reported late
_USUAL_OF = timedelta(days=90)  # long enough to be steady
_THEIR_TROUBLE = frozenset({Cause.PROVIDER_TROUBLE, Cause.HOST_UNREACHABLE})
_ABOUT_US = {Cause.BLOCKLISTED: "listings", Cause.AUTHENTICATION: "authentication"}
_CAUSES, _PERMANENCES = len(Cause), len(Permanence)
_PLAN_COLUMNS = {1: "domain", 2: "stream", 3: "relay", 4: "sending_ip"}
_STILL_FORESEEN = timedelta(days=42)  # a month of mail is usual by then


_SPECIAL = {
    reading_counters.HELD: "held", placement_days.COPIES: "copies", placement_days.ASIDE: "placement",
    report_receivers.REPORTED: "reported", report_receivers.UNALIGNED: "alignment",
}  # fmt: skip
"""What is no event, by the number that stands for its kind."""


def _counted(kind: Count, cause: Cause, permanence: Permanence) -> dict[str, float]:
    """Return what one row of a counter adds to the counts of a reading."""
    if kind is Count.DELIVERED:
        return {"attempted": 1, "delivered": 1}
    if kind is Count.RETURNED:  # it was counted as delivered, and is not
        return {"attempted": -1, "delivered": -1}
    if kind is Count.BOUNCED:
        about = _ABOUT_US.get(cause, "refusals") if cause in SENDER_CAUSES else ""
        bad = cause in ADDRESS_CAUSES and permanence is Permanence.PERMANENT
        return {"attempted": 1, **({about: 1} if about else {}), **({"invalid_addresses": 1} if bad else {})}
    if kind is Count.DELAYED:
        if cause in _THEIR_TROUBLE:
            return {}
        return {"delays": 1, **({"greylisted": 1} if cause is Cause.GREYLISTED else {})}
    plain = {Count.COMPLAINED: "complaints", Count.UNSUBSCRIBED: "unsubscribes", Count.OPENED: "opened"}
    return {plain[kind]: 1} if kind in plain else {}


def _table() -> NDArray[np.float64]:
    """The same for all counters, a row for each code of kind, cause and permanence."""
    out = np.zeros((len(Count) * _CAUSES * _PERMANENCES + len(_SPECIAL), len(COUNTS)))
    for at, name in enumerate(_SPECIAL.values(), len(out) - len(_SPECIAL)):
        out[at, COUNTS.index(name)] = 1
    for kind, cause, permanence in product(Count, Cause, Permanence):
        for name, weight in _counted(kind, cause, permanence).items():
            out[_code(kind.number, cause.number, permanence.number), COUNTS.index(name)] = weight
    return out


def _code(kind: Any, cause: Any, permanence: Any) -> Any:
    return (kind * _CAUSES + cause) * _PERMANENCES + permanence


def _events_of(name: str) -> tuple[list[str], list[str]]:
    """(kinds, causes) of the events that a factor counts; no causes where they do not matter."""
    found = {
        (kind, cause)
        for kind, cause, permanence in product(Count, Cause, Permanence)
        if _counted(kind, cause, permanence).get(name, 0.0) > 0
    }
    causes = [cause for cause in Cause if any(found_cause is cause for _, found_cause in found)]
    kinds = [str(kind) for kind in Count if any(found_kind is kind for found_kind, _ in found)]
    return kinds, [] if len(causes) == len(Cause) else [str(cause) for cause in causes]


EVENTS_OF = {name: _events_of(name) for name in COUNTS} | {
    "engagement": (["opened"], []),
    "volume": (["delivered"], []),
}
_TABLE = _table()
_BOUNCED = Count.BOUNCED.number
_MOST_KINDS = len(Count) - 1


@dataclass(frozen=True, slots=True)
class Counted:
    """Counts of many series, (COUNTS, series, days), and which series is which: (subject id, provider id) each."""

    first: date
    counts: NDArray[np.float64]
    series: list[tuple[int, int]]


def count(rows: CounterRows, since: date, today: date, place: Mapping[int, int] | None = None) -> Counted:
    """Return counters as counts. `place`: the provider that each one is shown as; others are left out."""
    rows = rows.where((rows.day >= 0) & (rows.day <= (today - since).days))
    if not len(rows):
        return Counted(today, np.zeros((len(COUNTS), 0, 1)), [])
    providers, days, kinds, causes, permanences = rows.provider, rows.day, rows.kind, rows.cause, rows.permanence
    # Domains that take no mail: whoever bounces there is a bad address, whatever was said.
    gone = (providers == NO_MAIL_PROVIDER) & (kinds == _BOUNCED)
    causes = np.where(gone, Cause.NO_SUCH_DOMAIN.number, causes)
    permanences = np.where(gone, Permanence.PERMANENT.number, permanences)
    if place is not None:
        known, inverse = np.unique(providers, return_inverse=True)
        providers = np.array([place.get(int(id), OTHER_PROVIDERS) for id in known])[inverse]
    pairs, at = np.unique(rows.subject * 2**32 + providers, return_inverse=True)
    start = int(days.min())
    length = (today - since).days - start + 1
    cell = at * length + (days - start)
    codes = _code(np.minimum(kinds, _MOST_KINDS), causes, permanences)
    for at, kind in enumerate(_SPECIAL, len(_TABLE) - len(_SPECIAL)):
        codes[kinds == kind] = at
    weights = _TABLE[codes] * rows.n[:, None]
    counts = np.empty((len(COUNTS), len(pairs), length))
    for row in range(len(COUNTS)):
        counts[row] = np.bincount(cell, weights[:, row], len(pairs) * length).reshape(len(pairs), length)
    series = [(int(pair) >> 32, int(pair) & 0xFFFFFFFF) for pair in pairs]
    return Counted(since + timedelta(days=start), np.maximum(counts, 0.0), series)


def first_day(today: date) -> date:
    """From where readings are computed: the first of a month, so that their beginning moves but once a month."""
    return (today - HISTORY).replace(day=1)


def factors_of(connection: Connection, tenant_id: int) -> tuple[Factor, ...]:
    """The factors as a tenant has set them."""
    document = store_settings.get_setting(connection, tenant_id, SETTING)
    return factors_with(document["factors"]) if document else FACTORS


@dataclass(frozen=True, slots=True)
class Place:
    """What a tenant's readings depend on in addition to the counters."""

    tenant_id: int
    today: date
    columns: Columns
    reporting: frozenset[int]
    factors: tuple[Factor, ...]
    openness: Mapping[int, float]
    median_opens: float
    common: Mapping[int, Mapping[date, float]]

    @property
    def shown_as(self) -> dict[int, int]:
        return {id: id for id in self.columns.names}


def place_of(connection: Connection, tenant_id: int, today: date, factors: tuple[Factor, ...] | None = None) -> Place:
    columns = columns_of(connection, tenant_id, today)
    reporting = {columns.place(id) for id in flow.reporting_providers(connection, today - flow.REPORTS_WITHIN)}
    common: dict[int, dict[date, float]] = defaultdict(dict)
    for row in provider_norms.provider_days(connection, first_day(today), columns.names):
        if row.common:
            common[row.provider_id][row.day] = row.common
    norms = [(id, document) for id, (_, document) in provider_norms.usual(connection).items()]
    openness_of = {id: share for id, document in norms if (share := document.get("openness")) is not None}
    median = next((share for _, document in norms if (share := document.get("median_opens"))), float("nan"))
    factors = factors or factors_of(connection, tenant_id)
    return Place(tenant_id, today, columns, frozenset(reporting), factors, openness_of, median, common)


def surroundings(connection: Connection, place: Place, kind: int, counted: Counted) -> Surroundings:
    """What decides about these series in addition to counts."""
    shape = counted.counts.shape[1:]
    providers = [provider for _, provider in counted.series]
    subjects = sorted({subject for subject, _ in counted.series})
    common = np.zeros(shape)
    for row, provider in enumerate(providers):
        for day, share in place.common.get(provider, {}).items():
            if (at := (day - counted.first).days) >= 0 and at < shape[1]:
                common[row, at] = share
    faults = np.zeros(shape)
    if kind == 1:
        for subject in subjects:
            line = _faults(connection, place.tenant_id, subject, counted.first, shape[1])
            faults[[row for row, (id, _) in enumerate(counted.series) if id == subject]] = line
    peers = {"engagement": np.array([place.openness.get(id, np.nan) for id in providers])}
    reports = np.array([id in place.reporting for id in providers], dtype=bool)
    sender = np.array([subjects.index(id) for id, _ in counted.series], dtype=np.intp)
    foreseen = _foreseen(connection, place, kind, counted)
    return Surroundings(reports, sender, common, peers, faults, foreseen, place.median_opens, True)


def _foreseen(connection: Connection, place: Place, kind: int, counted: Counted) -> NDArray[np.float64] | None:
    """Return by series and day what warm-up plans allow; None where no plan names any of these subjects.

    After its last step a plan's target counts as foreseen until it is what is usual.
    """
    found = store_warmup.foreseen(connection, place.tenant_id, _PLAN_COLUMNS[kind], counted.first - _STILL_FORESEEN)
    if not found:
        return None
    names, shape = store.names_of(connection, place.tenant_id, kind), counted.counts.shape[1:]
    out = np.zeros(shape)
    for course in found:
        mine = [row for row, (subject, _) in enumerate(counted.series) if names.get(subject) == course.name]
        own = {provider for provider in course.providers if provider}
        for row in mine:
            provider = counted.series[row][1]
            line = course.line(provider if provider in own else 0, counted.first, shape[1], _STILL_FORESEEN)
            out[row] = np.maximum(out[row], line)
    return out


def _faults(connection: Connection, tenant_id: int, domain_id: int, first: date, length: int) -> NDArray[np.float64]:
    """Return by day: faults of the audit in force. Days before the first audit count as that audit, which is the first
    to look: what it finds did not begin on its day, and must not make a reading fall.
    """
    audits = reading_counters.faults_of(connection, tenant_id, domain_id)
    out = np.full(length, float(audits[0].faults if audits else 0))
    for row in audits:
        out[max(0, (row.finished_at.date() - first).days) :] = row.faults
    return out


def compute_readings(context: Context, tenant_id: int, domain_id: int) -> int:
    """Compute a domain's readings from its counters and keep them; returns how many series."""
    return compute(context, tenant_id, 1, [domain_id])


def compute(context: Context, tenant_id: int, kind: int, subject_ids: Sequence[int] = ()) -> int:
    """Compute the readings of subjects, of all of a kind if none are named. One at a time for a tenant and kind."""
    now = context.clock()
    today = now.date()

    def write(connection: Connection) -> int:
        leases.lock(connection, f"readings {tenant_id} {kind}")
        place = place_of(connection, tenant_id, today)
        ids = list(subject_ids) or sorted(store.names_of(connection, tenant_id, kind))
        done = 0
        for start in range(0, len(ids), _TOGETHER):
            part = ids[start : start + _TOGETHER]
            found = series_of(connection, place, kind, part)
            done += store.put_series(connection, tenant_id, kind, found, now)
            for subject in part:
                kept = {series.provider_id for series in found if series.subject_id == subject}
                store.drop_others(connection, tenant_id, kind, subject, kept)
        changes.note(connection, tenant_id, "readings")
        return done

    return context.store.transaction(write)


def series_of(connection: Connection, place: Place, kind: int, subject_ids: Sequence[int]) -> list[Series]:
    """Series of subjects at each provider and over all of them."""
    since = first_day(place.today)
    rows = rows_of(connection, place.tenant_id, kind, since, subject_ids)
    counted = count(rows, since, place.today, place.shown_as)
    if not counted.series:
        return []
    around = surroundings(connection, place, kind, counted)
    readings = read(counted.counts, around, place.factors)
    assert readings.measures is not None
    jumps = jumps_of(counted, around, place.factors) if kind == 1 else {}
    last = np.stack(
        [part[:, :, -1] for part in (readings.measures.value, readings.measures.low, readings.measures.high)]
    )
    began = (counted.counts[0] > 0).argmax(axis=1)
    out: list[Series] = []
    for row, (subject, provider) in enumerate(counted.series):
        of = jumps.get((subject, provider), ())
        out.append(_series(subject, provider, counted.first, int(began[row]), readings, row, last[:, :, row], of))
    for subject in dict.fromkeys(subject for subject, _ in counted.series):
        mine = [row for row, (id, _) in enumerate(counted.series) if id == subject]
        whole = over_providers(part_of(readings, mine))
        start = int(began[mine].min())
        none = np.full(last.shape[:2], np.nan)
        of = jumps.get((subject, ALL_PROVIDERS), ())
        out.append(_series(subject, ALL_PROVIDERS, counted.first, start, whole, 0, none, of))
    return out


def jumps_of(
    counted: Counted, around: Surroundings, factors: tuple[Factor, ...], window: int = WINDOW
) -> dict[tuple[int, int], list[JumpRow]]:
    """Return by (subject, provider) the jumps of the last days, also of each subject over all of its providers."""
    assert around.sender is not None
    # A domain's alarms are few in all, however many providers it has: each of them has to be the surer.
    senders, sizes = np.unique(around.sender, return_counts=True)
    of_sender = dict(zip(around.sender.tolist(), (subject for subject, _ in counted.series), strict=True))
    keys = [*counted.series, *((of_sender[sender], ALL_PROVIDERS) for sender in senders.tolist())]
    surer = np.array([threshold_of(int(n) + 1) for n in sizes])
    threshold = np.concatenate([surer[np.searchsorted(senders, around.sender)], surer])
    found: dict[tuple[int, int], list[JumpRow]] = defaultdict(list)
    for jump in find_jumps(counted.counts, around, threshold, factors, window, over_all=True):
        found[keys[jump.series]].append(_jump_row(jump, counted.first))
    return found


def past_jumps(
    connection: Connection, tenant_id: int, today: date, subject_ids: Sequence[int]
) -> dict[tuple[int, int], list[JumpRow]]:
    """Return by (domain, provider) the jumps of all days that readings are computed of, not of the last ones only."""
    place, since = place_of(connection, tenant_id, today), first_day(today)
    counted = count(rows_of(connection, tenant_id, 1, since, subject_ids), since, today, place.shown_as)
    if not counted.series:
        return {}
    window = counted.counts.shape[2]
    return jumps_of(counted, surroundings(connection, place, 1, counted), place.factors, window)


def _jump_row(jump: Jump, first: date) -> JumpRow:
    began, reported, last = (first + timedelta(days=at) for at in (jump.began, jump.reported, jump.last))
    return JumpRow(NAMES.index(jump.factor), began, reported, last, jump.over, jump.events, jump.mail, jump.usual)


def rows_of(connection: Connection, tenant_id: int, kind: int, since: date, subject_ids: Sequence[int]) -> CounterRows:
    """Counters of subjects, with mail to held addresses, test copies, and what receivers reported of domains."""
    rows = reading_counters.counters(connection, tenant_id, kind, since, subject_ids)
    held = reading_counters.held_counters(connection, tenant_id, kind, since, subject_ids)
    aside = placement_days.counters(connection, tenant_id, kind, since, subject_ids)
    if kind == 1:
        aside = aside.and_also(report_receivers.counters(connection, tenant_id, since, subject_ids))
    if len(aside):  # a provider that no mail goes to has no reading
        pairs, there = (each.subject * 2**32 + each.provider for each in (aside, rows))
        aside = aside.where(np.isin(pairs, there))
    return rows.and_also(held).and_also(aside)


def part_of(readings: Readings, rows: Sequence[int]) -> Readings:
    """Some of the series."""
    chosen = list(rows)
    return Readings(
        readings.tenths[chosen], readings.margin[chosen], readings.pulls[:, chosen], readings.mail[chosen]
    )  # fmt: skip


def _series(
    subject: int, provider: int, first: date, start: int, readings: Readings, row: int, measures: Any,
    jumps: Sequence[JumpRow],
) -> Series:  # fmt: skip
    return Series(
        subject, provider, first + timedelta(days=start), readings.tenths[row, start:], readings.margin[row, start:],
        readings.pulls[:, row, start:], readings.mail[row, start:].astype(np.float32), measures.astype(np.float32),
        tuple(jumps),
    )  # fmt: skip


# Providers


def look_at_providers(context: Context, *, whole: bool = False) -> int:
    """What providers did to everybody on the last days (`whole`: on all that are kept), and what is usual there.

    Domains whose readings depend on it are computed again. Returns how many days of providers changed.
    """
    now = context.clock()
    today = now.date()
    since = first_day(today) if whole else today - _OUTAGE_RUN_IN

    def write(connection: Connection) -> int:
        rows = provider_norms.sender_days(connection, since)
        keep_from = since if whole else today - timedelta(days=2)
        before = {
            (row.provider_id, row.day): (row.common, row.outage)
            for row in provider_norms.provider_days(connection, since)
        }
        length = (today - since).days + 1
        put: list[tuple[int, date, int, float, float]] = []
        touched: set[int] = set()
        for provider in np.unique(rows.provider).tolist():
            mine = rows.where((rows.provider == provider) & (rows.day < length))
            common, outage, senders = _common(mine, length)
            for at in range((keep_from - since).days, length):
                day = since + timedelta(days=at)
                known = before.get((provider, day), (0.0, 0.0))
                found = (float(np.float32(common[at])), float(np.float32(outage[at])))
                if max(abs(a - b) for a, b in zip(known, found, strict=True)) > 0.01:
                    put.append((provider, day, int(senders[at]), *found))
                    if abs(known[0] - found[0]) > 0.01:
                        touched |= set(mine.domain[mine.day == at].tolist())
        provider_norms.put_provider_days(connection, put)
        _learn_usual(connection, today)
        tenants = store.tenants_of_domains(connection, touched)
        for domain_id, tenant_id in tenants.items():
            jobs.enqueue(connection, "readings", tenant_id, domain_id, now)
        return len(put)

    changed = context.store.transaction(write)
    log.info("providers_looked_at", days=changed)
    return changed


def _common(rows: SenderRows, length: int) -> tuple[Any, Any, Any]:
    """Return by day: what was deferred for everybody, the part by the provider's own trouble, and how many senders."""
    kinds, causes, n = rows.kind, rows.cause, rows.n
    senders, at = np.unique(rows.domain, return_inverse=True)
    cell = at * length + rows.day

    def sums(use: Any, weight: Any = n) -> NDArray[np.float64]:
        counts: NDArray[Any] = np.bincount(cell[use], weight[use].astype(float), len(senders) * length)
        return counts.reshape(len(senders), length)

    sign = np.where(kinds == Count.RETURNED.number, -n, n)
    delayed = kinds == Count.DELAYED.number
    mail = np.maximum(sums(~delayed, sign), 0.0)
    theirs = np.isin(causes, [cause.number for cause in _THEIR_TROUBLE])
    ours = common_delay(sums(delayed & ~theirs), mail)
    return ours, common_delay(sums(delayed), mail), (mail > 0).sum(axis=0)


def _learn_usual(connection: Connection, today: date) -> None:
    """Once a month: how openly mail is read at each provider, and how much of it by the median sender's recipients."""
    month = today.replace(day=1)
    known = provider_norms.usual(connection)
    if known and all(since >= month and "median_opens" in document for since, document in known.values()):
        return
    rows = provider_norms.sender_sums(connection, today - _USUAL_OF, today)
    if not len(rows):
        return
    by_sender = CounterRows(rows.domain, rows.provider, rows.day, rows.kind, rows.cause, rows.permanence, rows.n)
    counted = count(by_sender, today, today)
    sums = counted.counts[:, :, 0]
    providers = sorted({provider for _, provider in counted.series} - {OTHER_PROVIDERS, NO_MAIL_PROVIDER})
    senders = sorted({sender for sender, _ in counted.series})
    shape = (len(senders), len(providers))
    opened, delivered = np.zeros(shape), np.zeros(shape)
    for row, (sender, provider) in enumerate(counted.series):
        if provider in providers:
            at = (senders.index(sender), providers.index(provider))
            opened[at], delivered[at] = sums[COUNTS.index("opened"), row], sums[1, row]
    open_there = openness(opened, delivered)
    median = median_opens(opened, delivered, open_there)
    for provider, share in zip(providers, open_there.tolist(), strict=True):
        document = {"openness": _known(share), "median_opens": _known(median)}
        provider_norms.put_usual(connection, provider, month, document)


def _known(value: float) -> float | None:
    return None if np.isnan(value) else float(value)


# When


def run_held(context: Context, job: Job) -> None:
    """The job: mail of the last days that went to addresses that were held. Readings follow when there was any."""
    now = context.clock()
    today = now.date()

    def write(connection: Connection) -> int:
        found = reading_counters.find_held_mailed(connection, job.tenant_id, today - _HELD_LOOKED_BACK, today)
        if found:
            for domain_id in store.names_of(connection, job.tenant_id, 1):
                jobs.enqueue(connection, "readings", job.tenant_id, domain_id, now)
        return found

    log.info("held_mailed", tenant=job.tenant_id, groups=context.store.transaction(write))


def run_subjects(context: Context, job: Job) -> None:
    """The job: readings of a tenant's streams, relays and addresses."""
    for kind in range(2, len(KINDS) + 1):
        compute(context, job.tenant_id, kind)
        context.store.transaction(lambda c: jobs.renew(c, job, context.clock()))


def ask_for_stale(context: Context) -> int:
    """Enqueue the readings of all domains that end before today, by tenant; now and then update the provider norms."""
    now = context.clock()
    looked = context.memory.get("providers looked up")
    if looked is None or not timedelta(0) <= now - looked < _LOOK_EVERY:
        context.memory["providers looked up"] = now
        context.store.transaction(lambda c: _ask_for_providers(c, now))

    def write(connection: Connection) -> int:
        stale = store.stale_tenants(connection, now.date())
        jobs.enqueue_all(connection, STALE, [(tenant_id, 0) for tenant_id in stale], now)
        return len(stale)

    return context.store.transaction(write)


def _ask_for_providers(connection: Connection, now: datetime) -> None:
    if leases.is_due(connection, "providers looked up", now, _LOOK_EVERY):
        jobs.enqueue(connection, "providers", 0, 0, now)
        jobs.enqueue_all(connection, "held", [(id, 0) for id in store_accounts.tenant_ids(connection)], now)


def run_stale(context: Context, job: Job) -> None:
    """The job: readings of all domains of a tenant that end before today, some at a time; then of its other subjects.

    A tenant may have fifty thousand. What is done stays done: a job that was cut off goes on with the rest.
    """
    today = context.clock().date()
    ids = context.store.transaction(lambda c: store.stale_domains(c, job.tenant_id, today))
    for start in range(0, len(ids), _STALE_AT_ONCE):
        part = ids[start : start + _STALE_AT_ONCE]
        try:
            compute(context, job.tenant_id, 1, part)
        except (ArithmeticError, ValueError, LookupError):  # one domain's counters must not hold up all others
            log.exception("readings_failed", tenant=job.tenant_id, domains=part)
            context.store.transaction(lambda c, part=part: _one_by_one(c, job, part, context.clock()))  # type: ignore[misc]
        context.store.transaction(lambda c: jobs.renew(c, job, context.clock()))
    context.store.transaction(lambda c: jobs.enqueue(c, "subjects", job.tenant_id, 0, context.clock()))


def _one_by_one(connection: Connection, job: Job, domain_ids: Sequence[int], now: datetime) -> None:
    jobs.enqueue_all(connection, "readings", [(job.tenant_id, id) for id in domain_ids], now)
