"""Items of the worklist, what happened to them, and messages about them."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any, Unpack

from sqlalchemy import Connection, func, select, update
from sqlalchemy.exc import IntegrityError

from rust_gauge.core.worklist import Item, Level, State, Trouble
from rust_gauge.store import tables as t
from rust_gauge.store.columns import Document, ToldColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class ItemRow:
    """An item of the worklist."""

    id: int
    tenant_id: int
    item_key: str
    state: str
    level: str
    trouble: Document
    found_at: datetime
    seen_at: datetime
    told_at: datetime | None
    well_since: datetime | None
    closed_at: datetime | None
    until: datetime | None
    returns: int
    assigned_to: str


@dataclass(frozen=True, slots=True)
class StepRow:
    """Something that happened to an item."""

    id: int
    item_id: int
    at: datetime
    by: str
    what: str
    text: str


@dataclass(frozen=True, slots=True)
class ToldRow:
    """A message to people about an item."""

    id: int
    tenant_id: int
    item_id: int
    way: Document
    what: str
    title: str
    body: str
    state: str
    attempts: int
    said: str
    made_at: datetime
    next_at: datetime | None
    finished_at: datetime | None


@dataclass(frozen=True, slots=True)
class NewWording:
    """A reply that nobody was given before."""

    id: int
    wording: str
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
    told = dict(row.trouble)
    trouble = Trouble(
        row.item_key, told["kind"], told["subject"], told["name"], told["title"], told["text"], Level(row.level),
        datetime.fromisoformat(told["since"]), int(told["mail"]), told["remedy"], told["record"],
        tuple(told["evidence"]), told["remeasure"], told.get("topic", ""), tuple(told.get("domains", ())),
        float(told.get("measure", 0.0)), tuple(told.get("parts", ())),
    )  # fmt: skip
    found_at, seen_at = _aware(row.found_at), _aware(row.seen_at)
    assert found_at is not None
    assert seen_at is not None
    return Item(
        trouble, State(row.state), found_at, seen_at, _aware(row.told_at), _aware(row.well_since),
        _aware(row.closed_at), _aware(row.until), row.returns,
    )  # fmt: skip


def _values(item: Item) -> Document:
    trouble = item.trouble
    return {
        "state": str(item.state), "level": str(trouble.level),
        "trouble": {
            "kind": trouble.kind, "subject": trouble.subject, "name": trouble.name, "title": trouble.title[:500],
            "text": trouble.text, "since": trouble.since.isoformat(), "mail": trouble.mail, "remedy": trouble.remedy,
            "record": trouble.record, "evidence": list(trouble.evidence), "remeasure": trouble.remeasure,
            "topic": trouble.topic, "domains": list(trouble.domains), "measure": trouble.measure,
            "parts": list(trouble.parts),
        },
        "found_at": _naive(item.found_at), "seen_at": _naive(item.seen_at), "told_at": _naive(item.told_at),
        "well_since": _naive(item.well_since), "closed_at": _naive(item.closed_at), "until": _naive(item.until),
        "returns": item.returns,
    }  # fmt: skip


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
    """Keep a new item. None where another look found the same at the same time."""
    values = {"tenant_id": tenant_id, "item_key": item.trouble.key[:400], "assigned_to": "", **_values(item)}
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


def add_step(connection: Connection, item_id: int, at: datetime, by: str, what: str, text: str = "") -> None:
    """Record a step of an item: who did what, with up to 2,000 characters of text."""
    values = {"item_id": item_id, "at": _naive(at), "by": by, "what": what, "text": text[:2000]}
    connection.execute(t.work_step.insert().values(**values))


def reread(connection: Connection, row: ItemRow) -> ItemRow:
    """Return an item as it stands now."""
    found = connection.execute(select(t.work_item).where(t.work_item.c.id == row.id)).one()
    return values_of(ItemRow, [found])[0]


def steps(connection: Connection, item_id: int) -> list[StepRow]:
    """Return the steps of an item, oldest first."""
    c = t.work_step.c
    return values_of(StepRow, connection.execute(select(t.work_step).where(c.item_id == item_id).order_by(c.id)))


def lived_on(connection: Connection, tenant_ids: Sequence[int], day: date) -> dict[int, tuple[str, str]]:
    """By item that lived on a day, as far as people were told: (title, text) as they were by then."""
    i, c = t.work_item.c, t.work_step.c
    query = (
        select(c.item_id, c.at, c.what, c.text)
        .join(t.work_item, i.id == c.item_id)
        .where(i.tenant_id.in_(tenant_ids), c.at < day + timedelta(days=1))
        .where(c.what.in_(("found", "opened", "again", "worse", "closed")))
        .order_by(c.id)
    )
    lives: dict[int, dict[str, str]] = {}
    for row in connection.execute(query):
        known = lives.setdefault(row.item_id, {})
        if row.what == "closed":
            if row.at.date() < day:
                known.pop("text", None)
        else:
            known["title" if row.what == "found" else "text"] = row.text
    return {id: (known.get("title", ""), known["text"]) for id, known in lives.items() if "text" in known}


# Messages


def add_told(connection: Connection, **values: Unpack[ToldColumns]) -> int:
    """Add a message to people; return its id."""
    key: Any = connection.execute(t.told.insert().values(**values)).inserted_primary_key
    return int(key[0])


def get_told(connection: Connection, id: int) -> ToldRow | None:
    """Return a message to people."""
    return value_of(ToldRow, connection.execute(select(t.told).where(t.told.c.id == id)).first())


def change_told(connection: Connection, id: int, /, **values: Unpack[ToldColumns]) -> None:
    """Change columns of a message to people."""
    connection.execute(update(t.told).where(t.told.c.id == id).values(**values))


def list_told(connection: Connection, tenant_id: int, limit: int = 100) -> list[ToldRow]:
    """Return a tenant's newest messages to people, at most `limit`."""
    c = t.told.c
    return values_of(
        ToldRow, connection.execute(select(t.told).where(c.tenant_id == tenant_id).order_by(c.id.desc()).limit(limit))
    )


# Brakes


def brakes(connection: Connection, tenant_id: int, *, lock: bool = False) -> list[Document]:
    """stream, relay, since, why of each that holds."""
    c = t.suppression_state.c
    query = select(c.brakes).where(c.tenant_id == tenant_id)
    return list(connection.scalar(query.with_for_update() if lock else query) or [])


def set_brakes(connection: Connection, tenant_id: int, found: list[Document]) -> None:
    """Replace a tenant's brakes."""
    c = t.suppression_state.c
    connection.execute(update(t.suppression_state).where(c.tenant_id == tenant_id).values(brakes=found))


# What troubles are found from


def new_wordings(connection: Connection, tenant_id: int, since: datetime, least: int) -> list[NewWording]:
    """id, wording, example, first_seen_at, cause, n of replies that nobody was given before a time."""
    w, c = t.wording.c, t.flow_wording_day.c
    query = (
        select(w.id, w.wording, w.example, w.first_seen_at, c.cause, func.sum(c.n).label("n"))
        .join(t.flow_wording_day, c.wording_id == w.id)
        .where(w.tenant_id == tenant_id, c.tenant_id == tenant_id, w.first_seen_at >= _naive(since))
        .group_by(w.id, c.cause)
        # Seen is not said: what is loaded late was said on its own day.
        .having((func.sum(c.n) >= least) & (func.min(c.day) >= since.date()))
    )
    return values_of(NewWording, connection.execute(query))


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
