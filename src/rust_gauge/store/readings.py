"""Readings as they are stored: a row for a subject at one mailbox provider, with its whole history packed."""

import struct
import zlib
from collections import defaultdict
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, fields
from datetime import UTC, date, datetime, timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Column, Connection, select

from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, literal, run
from rust_gauge.store.driver import raw_rows
from rust_gauge.store.values import values_of

TREND = 190  # days that lie beside the newest reading


_CHUNK = 200  # series in one statement; each carries its packed history


KINDS = ("domain", "stream", "relay", "ip")  # of subjects; the number of a kind is its place, counted from 1


_COLUMNS = (
    "tenant_id", "kind", "subject_id", "provider_id", "first_day", "last_day", "tenths", "margin", "mail", "pulls",
    "measures", "trend", "jumps", "history", "computed_at",
)  # fmt: skip


_PUT = f"INSERT INTO reading_series ({', '.join(_COLUMNS)}) VALUES"


_ANEW = "ON DUPLICATE KEY UPDATE " + ", ".join(f"{name} = VALUES({name})" for name in _COLUMNS[4:])


@dataclass(frozen=True, slots=True)
class PackedSeries:
    """A series of readings as it is kept, for `unpack`."""

    subject_id: int
    provider_id: int
    first_day: date
    last_day: date
    measures: bytes
    history: bytes
    jumps: bytes


@dataclass(frozen=True, slots=True)
class JumpRow:
    """A jump of one factor's rate, by its number: it began, was certain on `reported`, and went on until `last`;
    `over` says that it ended. `events` of `mail` since it began; `usual` is the rate before.
    """

    factor: int
    began: date
    reported: date
    last: date
    over: bool
    events: float
    mail: float
    usual: float

    def goes_on(self, day: date) -> bool:
        """Return whether it was certain on a day and not over yet."""
        return self.reported <= day and not (self.over and self.last < day)


_JUMP = struct.Struct("<BiiiBddd")
_MOST_JUMPS = 4000 // _JUMP.size


def pack_jumps(jumps: Sequence[JumpRow]) -> bytes:
    """Pack jumps, the newest that fit."""
    newest = sorted(jumps, key=lambda jump: jump.last)[-_MOST_JUMPS:]
    return b"".join(
        _JUMP.pack(
            j.factor, j.began.toordinal(), j.reported.toordinal(), j.last.toordinal(), j.over, j.events, j.mail, j.usual
        )
        for j in newest
    )  # fmt: skip


def unpack_jumps(octets: bytes) -> tuple[JumpRow, ...]:
    """Return what was packed."""
    day = date.fromordinal
    return tuple(
        JumpRow(factor, day(began), day(reported), day(last), bool(over), events, mail, usual)
        for factor, began, reported, last, over, events, mail, usual in _JUMP.iter_unpack(octets)
    )


@dataclass(frozen=True, slots=True)
class Series:
    """One subject at one provider. Tenths are int16, (days,); pulls (factors, days); measures (3, factors), of the last
    day: value, low, high.
    """

    subject_id: int
    provider_id: int
    first: date
    tenths: NDArray[np.int16]
    margin: NDArray[np.int16]
    pulls: NDArray[np.int16]
    mail: NDArray[np.float32]
    measures: NDArray[np.float32]
    jumps: tuple[JumpRow, ...] = ()

    @property
    def last(self) -> date:
        """The last day of the series."""
        return self.first + timedelta(days=len(self.tenths) - 1)


def pack(series: Series) -> bytes:
    """Pack a history as it is kept: tenths, margins and pulls as int16, then mail as float32, day by day, deflated."""
    whole = np.concatenate([series.tenths[None], series.margin[None], series.pulls]).astype("<i2")
    return zlib.compress(whole.tobytes() + series.mail.astype("<f4").tobytes(), 1)


def _packed() -> list[Column[Any]]:
    return [t.reading_series.c[field.name] for field in fields(PackedSeries)]


def unpack(row: PackedSeries) -> Series:
    """Return the series of a row with its history."""
    octets = zlib.decompress(row.history)
    days = (row.last_day - row.first_day).days + 1
    whole = np.frombuffer(octets[: -4 * days], "<i2").reshape(-1, days)
    mail = np.frombuffer(octets[-4 * days :], "<f4")
    measures = np.frombuffer(row.measures, "<f4").reshape(3, -1)
    pulls = whole[2:]
    if len(pulls) < measures.shape[1]:  # packed before a factor was added, and not computed again yet
        pulls = np.vstack([pulls, np.zeros((measures.shape[1] - len(pulls), days), "<i2")])
    return Series(
        row.subject_id, row.provider_id, row.first_day, whole[0], whole[1], pulls, mail, measures,
        unpack_jumps(row.jumps),
    )  # fmt: skip


def put_series(connection: Connection, tenant_id: int, kind: int, found: Iterable[Series], now: datetime) -> int:
    """Replace rows; return how many."""
    at = now.astimezone(UTC).replace(tzinfo=None)
    rows = [
        (
            tenant_id, kind, series.subject_id, series.provider_id, series.first, series.last, int(series.tenths[-1]),
            int(series.margin[-1]), float(series.mail[-1]), series.pulls[:, -1].astype("<i2").tobytes(),
            series.measures.astype("<f4").tobytes(), series.tenths[-TREND:].astype("<i2").tobytes(),
            pack_jumps(series.jumps), pack(series), at,
        )
        for series in found
    ]  # fmt: skip
    for start in range(0, len(rows), _CHUNK):
        insert_rows(connection, _PUT, rows[start : start + _CHUNK], _ANEW)
    return len(rows)


def drop_others(connection: Connection, tenant_id: int, kind: int, subject_id: int, kept: Iterable[int]) -> None:
    """Drop a subject's series at providers that are not shown on their own any more."""
    listed = ", ".join(map(str, sorted(kept))) or "0"
    run(
        connection,
        f"DELETE FROM reading_series WHERE tenant_id = {tenant_id} AND kind = {kind} AND subject_id = {subject_id} "
        f"AND provider_id NOT IN ({listed})",
    )


@dataclass(frozen=True, slots=True)
class Newest:
    """The newest readings of series, a row each, with the ends of their trends.

    `tenths` is int16, (series, days), the last day is the one asked for, -1 where there is no value; `pulls` int16,
    (series, factors), in tenths of a point, and `mail` float, are of the series' own last day; `late` says by how many
    days that lies before the one asked for.
    """

    subject_id: NDArray[np.int64]
    provider_id: NDArray[np.int64]
    late: NDArray[np.int64]
    margin: NDArray[np.int64]
    mail: NDArray[np.float64]
    tenths: NDArray[np.int16]
    pulls: NDArray[np.int16]


def jumped(connection: Connection, tenant_id: int, kind: int, day: date) -> set[int]:
    """Return the subjects of which any rate jumped and had not come back by a day."""
    c = t.reading_series.c
    query = select(c.subject_id, c.jumps).where(c.tenant_id == tenant_id, c.kind == kind, c.jumps != b"")
    return {
        row.subject_id for row in connection.execute(query)
        if any(jump.goes_on(day) for jump in unpack_jumps(row.jumps))
    }  # fmt: skip


def newest(
    connection: Connection, tenant_ids: Sequence[int], kind: int, today: date, days: int,
    subject_ids: Sequence[int] | None = None,
) -> Newest:  # fmt: skip
    """Return the newest reading of each series of these tenants with its trend up to today, at most TREND days.

    Of these subjects only, if any are named.
    """
    days = min(days, TREND)
    listed = ", ".join(map(str, tenant_ids)) or "0"
    # Few columns, and none that the driver would have to make a date of: a wall has ten thousand rows.
    rows = raw_rows(
        connection,
        f"SELECT subject_id, provider_id, DATEDIFF({literal(today)}, last_day), margin, mail, "
        f"CONCAT(LPAD(RIGHT(trend, {2 * days}), {2 * days}, x'FF'), pulls) FROM reading_series "
        f"WHERE tenant_id IN ({listed}) AND kind = {kind}"
        + ("" if subject_ids is None else f" AND subject_id IN ({', '.join(map(str, subject_ids)) or '0'})"),
    )
    subjects, providers, late, margin, mail, packed = zip(*rows, strict=True) if rows else ((),) * 6
    values = np.frombuffer(b"".join(packed), "<i2").reshape(len(rows), -1) if rows else np.zeros((0, days), "<i2")
    tenths = values[:, :days].copy()
    for behind in {days for days in late if days > 0}:
        at = np.array(late) == behind
        tenths[at] = np.hstack([tenths[at], np.full((int(at.sum()), behind), -1, "<i2")])[:, -days:]
    ids, provider_ids, lates, margins = np.array([subjects, providers, late, margin], dtype=np.int64)
    mails = np.array(mail, dtype=np.float64)
    return Newest(ids, provider_ids, lates, margins, mails, tenths, values[:, days:])


def as_of(
    connection: Connection, tenant_ids: Sequence[int], kind: int, day: date, days: int,
    subject_ids: Sequence[int] | None = None,
) -> Newest:  # fmt: skip
    """Return what `newest` gave on an earlier day, as it is known today. Reads whole histories."""
    c = t.reading_series.c
    query = select(*_packed())
    query = query.where(c.tenant_id.in_(tenant_ids), c.kind == kind, c.first_day <= day, c.last_day >= day)
    if subject_ids is not None:
        query = query.where(c.subject_id.in_(subject_ids))
    ends, keys, margins, mails, pulls = [], [], [], [], []
    for row in values_of(PackedSeries, connection.execute(query)):
        series = unpack(row)
        at = (day - series.first).days
        end = series.tenths[max(0, at - days + 1) : at + 1]
        ends.append(np.concatenate([np.full(days - len(end), -1, "<i2"), end]))
        keys.append((series.subject_id, series.provider_id))
        margins.append(int(series.margin[at]))
        mails.append(float(series.mail[at]))
        pulls.append(series.pulls[:, at])
    ids = np.array(keys, dtype=np.int64).reshape(-1, 2)
    count = len(ends)
    return Newest(
        ids[:, 0], ids[:, 1], np.zeros(count, dtype=np.int64), np.array(margins, dtype=np.int64), np.array(mails),
        np.stack(ends) if count else np.zeros((0, days), "<i2"),
        np.stack(pulls) if count else np.zeros((0, 1), "<i2"),
    )  # fmt: skip


def readings_of_days(connection: Connection, tenant_id: int, domain: str, first: date, last: date) -> dict[str, float]:
    """Return the overall reading of a domain on these days, by day in ISO form; days without one are missing."""
    c, d = t.reading_series.c, t.sending_domain.c
    query = select(*_packed()).join(t.sending_domain, d.id == c.subject_id).where(
        c.tenant_id == tenant_id, c.kind == 1, c.provider_id == t.ALL_PROVIDERS, d.tenant_id == tenant_id,
        d.name == domain,
    )  # fmt: skip
    found: dict[str, float] = {}
    for row in values_of(PackedSeries, connection.execute(query)):
        series = unpack(row)
        for number, tenths in enumerate(series.tenths):
            day = series.first + timedelta(days=number)
            if first <= day <= last and tenths >= 0:
                found[str(day)] = float(tenths) / 10
    return found


@dataclass(frozen=True, slots=True)
class Standing:
    """The newest reading of a subject at a provider, and the first day with mail."""

    provider_id: int
    first_day: date
    last_day: date
    tenths: int


def standings(connection: Connection, tenant_id: int, kind: int, name: str) -> list[Standing]:
    """Return the newest readings of a domain (kind 1) or a sending address (kind 4), by provider."""
    c = t.reading_series.c
    table = t.sending_domain if kind == 1 else t.label
    named = select(table.c.id).where(table.c.tenant_id == tenant_id, table.c.name == name)
    if kind != 1:
        named = named.where(table.c.what == 0)
    query = select(c.provider_id, c.first_day, c.last_day, c.tenths).where(
        c.tenant_id == tenant_id, c.kind == kind, c.subject_id.in_(named)
    )
    return values_of(Standing, connection.execute(query))


def newest_overall(connection: Connection, tenant_id: int, kind: int) -> dict[int, int]:
    """Return by subject id: tenths of the latest reading over all providers, of whatever day it is."""
    c = t.reading_series.c
    where = (c.tenant_id == tenant_id, c.kind == kind, c.provider_id == t.ALL_PROVIDERS)
    return {row.subject_id: row.tenths for row in connection.execute(select(c.subject_id, c.tenths).where(*where))}


def standing_on(connection: Connection, tenant_ids: Sequence[int], kind: int, day: date) -> dict[int, int]:
    """Return by subject id: tenths of the reading over all providers if it is of this day, else -1.

    From an index alone: a tenant may have fifty thousand domains.
    """
    listed = ", ".join(map(str, tenant_ids)) or "0"
    rows = raw_rows(
        connection,
        f"SELECT subject_id, IF(last_day = {literal(day)}, tenths, -1) FROM reading_series "
        f"WHERE tenant_id IN ({listed}) AND kind = {kind} AND provider_id = {t.ALL_PROVIDERS}",
    )
    return dict(rows)


def had_reading(connection: Connection, tenant_ids: Sequence[int], kind: int, day: date) -> dict[int, int]:
    """Return by subject id: tenths of the reading over all providers on an earlier day. Reads whole histories."""
    c = t.reading_series.c
    query = select(*_packed()).where(
        c.tenant_id.in_(tenant_ids), c.kind == kind, c.provider_id == t.ALL_PROVIDERS, c.first_day <= day,
        c.last_day >= day,
    )  # fmt: skip
    found = map(unpack, values_of(PackedSeries, connection.execute(query)))
    return {series.subject_id: int(series.tenths[(day - series.first).days]) for series in found}


def measures_of(
    connection: Connection, tenant_ids: Sequence[int], kind: int, series: Iterable[tuple[int, int]]
) -> dict[tuple[int, int], NDArray[np.float32]]:
    """Return by (subject id, provider id): what was measured on the last day, (3, factors): value, low, high."""
    wanted = ", ".join(f"({subject}, {provider})" for subject, provider in series)
    if not wanted:
        return {}
    rows = raw_rows(
        connection,
        f"SELECT subject_id, provider_id, measures FROM reading_series WHERE tenant_id IN "
        f"({', '.join(map(str, tenant_ids))}) AND kind = {kind} AND (subject_id, provider_id) IN ({wanted})",
    )
    return {(row[0], row[1]): np.frombuffer(row[2], "<f4").reshape(3, -1) for row in rows}


def histories(
    connection: Connection, tenant_id: int, kind: int, subject_ids: Sequence[int] = (), provider_id: int | None = None
) -> list[PackedSeries]:
    """Return whole rows, for `unpack`: of these subjects (all if none are named), at one provider or all."""
    c = t.reading_series.c
    query = select(*_packed()).where(c.tenant_id == tenant_id, c.kind == kind)
    if subject_ids:
        query = query.where(c.subject_id.in_(subject_ids))
    if provider_id is not None:
        query = query.where(c.provider_id == provider_id)
    return values_of(PackedSeries, connection.execute(query.order_by(c.subject_id, c.provider_id)))


def stale_tenants(connection: Connection, today: date) -> list[int]:
    """Return the tenants of which the readings of any domain end before `today`."""
    c = t.reading_series.c
    return list(connection.scalars(select(c.tenant_id).where(c.kind == 1, c.last_day < today).distinct()))


def stale_domains(connection: Connection, tenant_id: int, today: date) -> list[int]:
    """Return the domains of a tenant whose readings end before `today`."""
    c = t.reading_series.c
    query = select(c.subject_id).where(c.tenant_id == tenant_id, c.kind == 1, c.last_day < today).distinct()
    return list(connection.scalars(query))


def names_of(connection: Connection, tenant_id: int, kind: int) -> dict[int, str]:
    """Subjects of a kind by id; those without a name are none."""
    return names_of_all(connection, [tenant_id], kind).get(tenant_id, {})


def find_subject(connection: Connection, tenant_id: int, kind: int, name: str) -> int | None:
    """Return the id of a subject by its name; None where there is none. A tenant may have fifty thousand."""
    table = {1: t.sending_domain, 2: t.stream, 3: t.relay, 4: t.label}[kind]
    query = select(table.c.id).where(table.c.tenant_id == tenant_id, table.c.name == name)
    if kind == 4:
        query = query.where(t.label.c.what == 0)
    return connection.scalar(query) if name else None


def names_of_all(connection: Connection, tenant_ids: Collection[int], kind: int) -> dict[int, dict[int, str]]:
    """Return by tenant: subjects of a kind by id; those without a name are none."""
    table = {1: t.sending_domain, 2: t.stream, 3: t.relay, 4: t.label}[kind]
    query = select(table.c.tenant_id, table.c.id, table.c.name).where(table.c.tenant_id.in_(tenant_ids))
    if kind == 4:
        query = query.where(t.label.c.what == 0)
    found: dict[int, dict[int, str]] = defaultdict(dict)
    for tenant_id, id, name in connection.execute(query):
        if name:
            found[tenant_id][id] = name
    return found


def tenants_of_domains(connection: Connection, domain_ids: Iterable[int]) -> dict[int, int]:
    """Tenant id by domain id."""
    c = t.sending_domain.c
    ids = list(domain_ids)
    if not ids:
        return {}
    return {row.id: row.tenant_id for row in connection.execute(select(c.id, c.tenant_id).where(c.id.in_(ids)))}
