"""Items of the worklist, what happened to them, and messages about them."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any, Unpack

from sqlalchemy import Connection, func, select, update
from sqlalchemy.exc import IntegrityError

from rust_gauge.core.worklist import Incident, Item, Level, State
from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.columns import Document, NotificationColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class ItemRow:
    """An item of the worklist."""

    id: int
    tenant_id: int
    item_key: str
    state: str
    level: str
    incident: Document
    found_at: datetime
    seen_at: datetime
    notified_at: datetime | None
    well_since: datetime | None
    resolved_at: datetime | None
    until: datetime | None
    returns: int
    assigned_to: str


@dataclass(frozen=True, slots=True)
class StepRow:
    """One step in the history of an item."""

    id: int
    item_id: int
    at: datetime
    by: str
    what: str
    text: str
    previous: Document | None


@dataclass(frozen=True, slots=True)
class NotificationRow:
    """A message to people about an item."""

    id: int
    tenant_id: int
    item_id: int
    channel: Document
    what: str
    title: str
    body: str
    state: str
    attempts: int
    response: str
    made_at: datetime
    next_at: datetime | None
    finished_at: datetime | None


@dataclass(frozen=True, slots=True)
class NewReplyPattern:
    """A reply that nobody was given before."""

    id: int
    reply_pattern: str
    example: str
    first_seen_at: datetime
    cause: int
    n: int


@dataclass(frozen=True, slots=True)
class OldKey:
    """A key that is published, and was so for long."""

    domain: str
    selector: str
    first_seen_at: datetime


@dataclass(frozen=True, slots=True)
class RecordChange:
    """A record that changed."""

    name: str
    happened_at: datetime
    title: str
    document: Document


@dataclass(frozen=True, slots=True)
class LostProof:
    """A proof whose record is gone."""

    kind: str
    subject: str
    lost_at: datetime | None


def _naive(time: datetime | None) -> datetime | None:
    return None if time is None else time.astimezone(UTC).replace(tzinfo=None)


def _aware(time: datetime | None) -> datetime | None:
    return None if time is None else time.replace(tzinfo=UTC)


def item_of(row: ItemRow) -> Item:
    """Return the core's item from a row."""
    told = dict(row.incident)
    incident = Incident(
        row.item_key, told["kind"], told["subject"], told["name"], told["title"], told["text"], Level(row.level),
        datetime.fromisoformat(told["since"]), int(told["mail"]), told["remedy"], told["record"],
        tuple(told["evidence"]), told["recheck"], told.get("topic", ""), tuple(told.get("domains", ())),
        float(told.get("measure", 0.0)), providers=tuple(told.get("providers", ())), parts=tuple(told.get("parts", ())),
    )  # fmt: skip
    found_at, seen_at = _aware(row.found_at), _aware(row.seen_at)
    assert found_at is not None
    assert seen_at is not None
    return Item(
        incident, State(row.state), found_at, seen_at, _aware(row.notified_at), _aware(row.well_since),
        _aware(row.resolved_at), _aware(row.until), row.returns,
    )  # fmt: skip


def _values(item: Item) -> Document:
    incident = item.incident
    return {
        "state": str(item.state),
        "level": str(incident.level),
        "incident": {
            "kind": incident.kind,
            "subject": incident.subject,
            "name": incident.name,
            "title": incident.title[:500],
            "text": incident.text,
            "since": incident.since.isoformat(),
            "mail": incident.mail,
            "remedy": incident.remedy,
            "record": incident.record,
            "evidence": list(incident.evidence),
            "recheck": incident.recheck,
            "topic": incident.topic,
            "domains": list(incident.domains),
            "measure": incident.measure,
            "providers": list(incident.providers),
            "parts": list(incident.parts),
        },
        "found_at": _naive(item.found_at),
        "seen_at": _naive(item.seen_at),
        "notified_at": _naive(item.notified_at),
        "well_since": _naive(item.well_since),
        "resolved_at": _naive(item.resolved_at),
        "until": _naive(item.until),
        "returns": item.returns,
    }


def items(
    connection: Connection, tenant_ids: Sequence[int], states: Sequence[str] = (), *, lock: bool = False
) -> list[ItemRow]:
    """Items of tenants in some states, or in any."""
    c = t.work_item.c
    query = select(t.work_item).where(c.tenant_id.in_(tenant_ids))
    if states:
        query = query.where(c.state.in_(states))
    return values_of(ItemRow, connection.execute(query.with_for_update() if lock else query))


def get(connection: Connection, tenant_id: int, id: int, *, lock: bool = False) -> ItemRow | None:
    """Return an item; `lock` keeps others from changing it until the transaction ends."""
    c = t.work_item.c
    query = select(t.work_item).where(c.tenant_id == tenant_id, c.id == id)
    return value_of(ItemRow, connection.execute(query.with_for_update() if lock else query).first())


def add(connection: Connection, tenant_id: int, item: Item) -> int | None:
    """Store a new item. None if another search found the same at the same time."""
    values = {"tenant_id": tenant_id, "item_key": item.incident.key[:400], "assigned_to": "", **_values(item)}
    try:
        with connection.begin_nested():
            key: Any = connection.execute(t.work_item.insert().values(**values)).inserted_primary_key
    except IntegrityError:
        return None
    return int(key[0])


def change(connection: Connection, id: int, item: Item) -> None:
    """Store an item as the core changed it."""
    connection.execute(update(t.work_item).where(t.work_item.c.id == id).values(**_values(item)))


def rename(connection: Connection, id: int, key: str) -> bool:
    """Give an item another key: it goes on as the incident that it was found to be a part of. False where another look
    found that incident at the same time.
    """
    try:
        with connection.begin_nested():
            connection.execute(update(t.work_item).where(t.work_item.c.id == id).values(item_key=key[:400]))
    except IntegrityError:
        return False
    return True


def assign(connection: Connection, id: int, to: str) -> None:
    """Assign an item to somebody; empty for nobody."""
    connection.execute(update(t.work_item).where(t.work_item.c.id == id).values(assigned_to=to))


def drop(connection: Connection, id: int) -> None:
    """Delete an item."""
    connection.execute(t.work_item.delete().where(t.work_item.c.id == id))


def add_step(
    connection: Connection, item_id: int, at: datetime, by: str, what: str, text: str = "",
    previous: Document | None = None,
) -> None:  # fmt: skip
    """Record a step of an item: who did what, with up to 2,000 characters of text.

    `previous`: `state`, `until` and `assigned_to` before it, where it can be undone.
    """
    values = {"item_id": item_id, "at": _naive(at), "by": by, "what": what, "text": text[:2000], "previous": previous}
    connection.execute(t.work_step.insert().values(**values))
    changes.note_item(connection, item_id)


def reread(connection: Connection, row: ItemRow) -> ItemRow:
    """Return an item as it stands now."""
    found = connection.execute(select(t.work_item).where(t.work_item.c.id == row.id)).one()
    return values_of(ItemRow, [found])[0]


def last_act(connection: Connection, item_id: int) -> StepRow | None:
    """Return the last thing that a person did with an item."""
    c = t.work_step.c
    query = select(t.work_step).where(c.item_id == item_id, c.by != "").order_by(c.id.desc()).limit(1)
    return next(iter(values_of(StepRow, connection.execute(query))), None)


def steps(connection: Connection, item_id: int) -> list[StepRow]:
    """Return the steps of an item, oldest first."""
    c = t.work_step.c
    return values_of(StepRow, connection.execute(select(t.work_step).where(c.item_id == item_id).order_by(c.id)))


def lived_on(connection: Connection, tenant_ids: Sequence[int], day: date) -> dict[int, tuple[str, str]]:
    """Return (title, text) of that day by item, for items that people had been notified of."""
    i, c = t.work_item.c, t.work_step.c
    query = (
        select(c.item_id, c.at, c.what, c.text)
        .join(t.work_item, i.id == c.item_id)
        .where(i.tenant_id.in_(tenant_ids), c.at < day + timedelta(days=1))
        .where(c.what.in_(("found", "opened", "again", "worse", "resolved")))
        .order_by(c.id)
    )
    lives: dict[int, dict[str, str]] = {}
    for row in connection.execute(query):
        known = lives.setdefault(row.item_id, {})
        if row.what == "resolved":
            if row.at.date() < day:
                known.pop("text", None)
        else:
            known["title" if row.what == "found" else "text"] = row.text
    return {id: (known.get("title", ""), known["text"]) for id, known in lives.items() if "text" in known}


# Messages


def add_notification(connection: Connection, **values: Unpack[NotificationColumns]) -> int:
    """Add a message to people; return its id."""
    key: Any = connection.execute(t.notification.insert().values(**values)).inserted_primary_key
    return int(key[0])


def get_notification(connection: Connection, id: int) -> NotificationRow | None:
    """Return a message to people."""
    return value_of(
        NotificationRow, connection.execute(select(t.notification).where(t.notification.c.id == id)).first()
    )


def change_notification(connection: Connection, id: int, /, **values: Unpack[NotificationColumns]) -> None:
    """Change columns of a message to people."""
    connection.execute(update(t.notification).where(t.notification.c.id == id).values(**values))


def list_notifications(connection: Connection, tenant_id: int, limit: int = 100) -> list[NotificationRow]:
    """Return a tenant's newest messages to people, at most `limit`."""
    c = t.notification.c
    return values_of(
        NotificationRow,
        connection.execute(select(t.notification).where(c.tenant_id == tenant_id).order_by(c.id.desc()).limit(limit)),
    )


# Brakes


def pauses(connection: Connection, tenant_id: int, *, lock: bool = False) -> list[Document]:
    """stream, relay, since, why of each that holds."""
    c = t.suppression_state.c
    query = select(c.pauses).where(c.tenant_id == tenant_id)
    return list(connection.scalar(query.with_for_update() if lock else query) or [])


def set_pauses(connection: Connection, tenant_id: int, found: list[Document]) -> None:
    """Replace a tenant's pauses."""
    c = t.suppression_state.c
    connection.execute(update(t.suppression_state).where(c.tenant_id == tenant_id).values(pauses=found))


# What incidents are found from


def new_reply_patterns(connection: Connection, tenant_id: int, since: datetime, least: int) -> list[NewReplyPattern]:
    """id, reply pattern, example, first_seen_at, cause, n of replies that nobody was given before a time."""
    w, c = t.reply_pattern.c, t.flow_pattern_day.c
    query = (
        select(w.id, w.reply_pattern, w.example, w.first_seen_at, c.cause, func.sum(c.n).label("n"))
        .join(t.flow_pattern_day, c.pattern_id == w.id)
        .where(w.tenant_id == tenant_id, c.tenant_id == tenant_id, w.first_seen_at >= _naive(since))
        .group_by(w.id, c.cause)
        # Seen is not summary: what is loaded late was said on its own day.
        .having((func.sum(c.n) >= least) & (func.min(c.day) >= since.date()))
    )
    return values_of(NewReplyPattern, connection.execute(query))


def old_keys(connection: Connection, tenant_id: int, before: datetime, seen_since: datetime) -> list[OldKey]:
    """domain, selector, first_seen_at of keys that are published and were so for long."""
    c, d = t.dkim_key_seen.c, t.sending_domain.c
    query = (
        select(d.name.label("domain"), c.selector, c.first_seen_at)
        .join(t.sending_domain, d.id == c.domain_id)
        .where(c.tenant_id == tenant_id, c.first_seen_at < _naive(before), c.last_seen_at >= _naive(seen_since))
    )
    return values_of(OldKey, connection.execute(query))


def record_changes(connection: Connection, tenant_id: int, since: datetime) -> list[RecordChange]:
    """name, happened_at, title, document of records that changed since a time, the oldest first."""
    c, d = t.domain_history.c, t.sending_domain.c
    query = (
        select(d.name, c.happened_at, c.title, c.document)
        .join(t.sending_domain, d.id == c.domain_id)
        .where(c.tenant_id == tenant_id, c.kind == "record", c.happened_at >= _naive(since))
    )
    return values_of(RecordChange, connection.execute(query.order_by(c.happened_at, c.id).limit(1000)))


def lost_proofs(connection: Connection, tenant_id: int) -> list[LostProof]:
    """kind, subject, lost_at."""
    c = t.proof.c
    query = select(c.kind, c.subject, c.lost_at).where(c.tenant_id == tenant_id, c.state == "lost")
    return values_of(LostProof, connection.execute(query))
