"""Feeds: configured ways in for events. What arrives is mapped, taken in, and what cannot be is kept with its reason.

Everything that belongs to one delivery (events, counters, refused rows, the feed's position) is one transaction, so a
feed that is cut off anywhere goes on where it was, and nothing counts twice.
"""

import hashlib
import json
import secrets
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from statistics import median
from typing import Any

import orjson
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.common import Page, ProblemError
from rust_gauge.contract.events import IntakeResult
from rust_gauge.contract.feeds import (
    Feed,
    FeedChange,
    FeedDefaults,
    FeedMapping,
    FeedSource,
    MadeFeed,
    MappingTrial,
    MappingTrialResult,
    NewFeed,
    RefusedRow,
    ReplayResult,
    TrialRow,
    TrialStep,
)
from rust_gauge.core.mailflow.mapping import FieldRule, Mapping, MappingError, Unwrap
from rust_gauge.core.mtalog import LogReader
from rust_gauge.core.roles import Role
from rust_gauge.core.webhooks import WebhookRefused, secret_text, verify
from rust_gauge.service.feeds.formats import FormError, rows_of_csv, rows_of_log, rows_of_notice, split_mbox
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.intake import intake
from rust_gauge.service.intake.rows import Refusal, Rows, read_row, rows_of, split_body
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt, encrypt
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store import feeds as store_feeds
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.engine import AnyRow

TOKEN_PREFIX = "rgf_"  # noqa: S105 - what tokens of feeds begin with
_MAX_FEEDS = 200
_ITEM = 64 * 1024  # characters of a refused row that are kept
_KEEP_LOADS = timedelta(days=40)


def add_feed(context: Context, tenant: TenantAccess, new: NewFeed) -> MadeFeed:
    """Open a way in. Its token and key are in this answer only."""
    _check(context, new.kind, new.source, new.mapping)
    token, secret = TOKEN_PREFIX + secrets.token_urlsafe(30), secret_text(secrets.token_bytes(32))
    now = context.clock()

    def write(connection: Connection) -> None:
        if len(store_feeds.list_feeds(connection, tenant.id)) >= _MAX_FEEDS:
            raise ServiceProblem("too-large", f"{_MAX_FEEDS} feeds are there already", remedy="Drop some")
        store_feeds.add_feed(
            connection, tenant_id=tenant.id, name=new.name, kind=new.kind, feed_key=secrets.token_hex(12),
            token_digest=hashlib.sha256(token.encode()).digest(), secret=encrypt(context.settings, secret),
            password=encrypt(context.settings, new.password) if new.password else "", source=new.source.model_dump(),
            mapping=new.mapping.model_dump() if new.mapping else None, defaults=new.defaults.model_dump(), position={},
            paused=False, trouble="", created_at=now,
        )  # fmt: skip

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem("already-there", f"There is a feed {new.name}", remedy="Choose another name") from None
    return MadeFeed(token=token, secret=secret, **get_feed(context, tenant, new.name).model_dump())


def _check(context: Context, kind: str, source: FeedSource, mapping: FeedMapping | None) -> None:
    """ServiceProblem `invalid-request` for settings that cannot work."""
    try:
        if mapping is not None:
            make_mapping(mapping)
    except MappingError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
    missing = {
        "mail": not source.addresses,
        "mailbox": not (source.path or (source.host and source.user)),
        "log": not source.path,
        "queue": not (source.host and source.queue),
    }.get(kind, False)
    if missing:
        needed = {
            "mail": "addresses",
            "mailbox": "a path, or host and user",
            "log": "a path",
            "queue": "host and queue",
        }
        raise ServiceProblem("invalid-request", f"A feed of kind {kind} needs {needed[kind]}")
    if kind in ("mailbox", "log") and source.path and not context.settings.may_read(source.path):
        remedy = "Whoever runs the service names folders in feed_folders"
        raise ServiceProblem("invalid-request", f"{source.path[:200]} is not to be read", remedy=remedy)
    if kind in ("mailbox", "queue") and source.host and not _may_reach(context, source):
        where = f"{source.host}:{source.port}" if source.port else source.host
        remedy = "Whoever runs the service names it in feed_hosts"
        raise ServiceProblem("invalid-request", f"{where[:200]} is not to be reached", remedy=remedy)


def _may_reach(context: Context, source: FeedSource) -> bool:
    """Mailboxes and queues are inside as a rule, so each has to be named: a tenant must not look around with them."""
    names = {source.host.lower(), f"{source.host.lower()}:{source.port}"}
    return bool(names & set(context.settings.feed_hosts))


def make_mapping(mapping: FeedMapping) -> Mapping:
    """The core's mapping. MappingError says what cannot be used."""
    return Mapping(
        {name: FieldRule(**rule.model_dump()) for name, rule in mapping.fields.items()},
        tuple(Unwrap(step.at, step.form) for step in mapping.unwrap),
        mapping.rows,
        mapping.each,
    )


def list_feeds(context: Context, tenant: TenantAccess) -> list[Feed]:
    return context.unit(tenant.id, lambda unit: feeds_of(unit, tenant))


def feeds_of(unit: UnitOfWork, tenant: TenantAccess) -> list[Feed]:
    """The same, inside a transaction."""
    return _shown(unit, tenant, store_feeds.list_feeds(unit.connection, tenant.id))


def get_feed(context: Context, tenant: TenantAccess, name: str) -> Feed:
    row = _row(context, tenant, name)
    return context.unit(tenant.id, lambda unit: _shown(unit, tenant, [row]))[0]


def _row(context: Context, tenant: TenantAccess, name: str) -> AnyRow:
    rows = context.store.transaction(lambda c: store_feeds.list_feeds(c, tenant.id, name))
    if not rows:
        raise ServiceProblem("not-found", f"{tenant.name} has no feed {name[:60]}", remedy="See the list of feeds")
    return rows[0]


def change_feed(context: Context, tenant: TenantAccess, name: str, change: FeedChange) -> Feed:
    """New settings; what is left out stays."""
    row = _row(context, tenant, name)
    source = change.source or FeedSource.model_validate(row.source)
    given = change.model_dump(exclude_unset=True)
    values: dict[str, Any] = {key: given[key] for key in ("source", "defaults", "paused") if given.get(key) is not None}
    if "mapping" in given:
        values["mapping"] = given["mapping"]
    if change.source is not None or change.mapping is not None:
        _check(context, row.kind, source, change.mapping)
    if change.password is not None:
        values["password"] = encrypt(context.settings, change.password) if change.password else ""
    if values:
        context.store.transaction(lambda c: store_feeds.change_feed(c, row.id, **{**values, "trouble": ""}))
    return get_feed(context, tenant, name)


def drop_feed(context: Context, tenant: TenantAccess, name: str) -> None:
    """Close a way in; what came by it stays."""
    row = _row(context, tenant, name)
    context.store.transaction(lambda c: store_feeds.drop_feed(c, row.id))


def _shown(unit: UnitOfWork, tenant: TenantAccess, rows: Sequence[AnyRow]) -> list[Feed]:
    connection, now = unit.connection, unit.now
    today = now.replace(hour=0, minute=0, second=0, microsecond=0)
    refused = store_feeds.count_refused(connection, [row.id for row in rows])
    stored = store_feeds.stored_since(connection, tenant.id, today)
    out = []
    for row in rows:
        loads = store_feeds.recent_loads(connection, tenant.id, row.id)
        lags = [(each.arrived_at - each.newest).total_seconds() for each in loads if each.newest]
        last = loads[0] if loads else None
        out.append(
            Feed(
                name=row.name, kind=row.kind, source=FeedSource.model_validate(row.source),
                mapping=FeedMapping.model_validate(row.mapping) if row.mapping else None,
                defaults=FeedDefaults.model_validate(row.defaults), paused=row.paused, key=row.feed_key,
                position=_position(row.position), created_at=row.created_at,
                last_arrival_at=last.arrived_at if last else None, last_event_at=last.newest if last else None,
                usual_lag=median(lags) if lags else None, lag=lags[0] if lags else None,
                stored_today=stored.get(row.id, 0), refused=refused.get(row.id, 0), trouble=row.trouble,
                said=_said(row, last, lags, now),
            )
        )  # fmt: skip
    return out


def _position(position: dict[str, Any]) -> str:
    if "offset" in position:
        return f"octet {position['offset']:,}"
    if "uid" in position:
        return f"message {position['uid']}"
    return ""


def _said(row: AnyRow, last: AnyRow | None, lags: list[float], now: datetime) -> str:
    if row.paused:
        return "paused"
    if row.trouble:
        return str(row.trouble)
    if last is None:
        return "nothing has come yet"
    age = (now - last.arrived_at.replace(tzinfo=UTC)).total_seconds()
    return f"last event {_time(age)} ago, usually {_time(median(lags))} late" if lags else f"last {_time(age)} ago"


def _time(seconds: float) -> str:
    if seconds < 90:
        return f"{max(0, round(seconds))} s"
    if seconds < 5400:
        return f"{round(seconds / 60)} min"
    return f"{round(seconds / 3600)} h" if seconds < 172_800 else f"{round(seconds / 86400)} days"


# Taking in


def feed_for(context: Context, key: str, authorization: str, headers: dict[str, str], body: bytes) -> AnyRow:
    """The feed of an address, when the request proves that it may: its token, or its signature over time and body."""
    row = context.store.transaction(lambda c: store_feeds.feed_of_key(c, key))
    refused = ServiceProblem("not-signed-in", "This needs the feed's token, or a signature with its key")
    if row is None:
        raise refused
    scheme, _, token = authorization.partition(" ")
    if scheme.lower() == "bearer":
        if not secrets.compare_digest(hashlib.sha256(token.strip().encode()).digest(), bytes(row.token_digest)):
            raise refused
        return row
    if "webhook-signature" not in headers:
        raise refused
    try:
        verify(decrypt(context.settings, row.secret), headers, body, int(context.clock().timestamp()))
    except WebhookRefused as error:
        raise ServiceProblem("not-signed-in", str(error), remedy=error.remedy) from None
    return row


def receive(
    context: Context, row: AnyRow, body: bytes, content_type: str, position: dict[str, Any] | None = None
) -> IntakeResult:
    """Take in what came by a feed, in the form that its type states. ServiceProblem `feed-paused` when it is paused."""
    if row.paused:
        raise ServiceProblem("feed-paused", f"The feed {row.name} is paused", remedy="Send it again later")
    kind = content_type.partition(";")[0].strip().lower()
    if kind in ("message/rfc822", "application/mbox"):
        raws = [body] if kind == "message/rfc822" else list(split_mbox(body))
        return take_mail(context, row, [(raw, "") for raw in raws], position)
    if kind == "text/plain" and row.kind == "log":
        return take_log(context, row, body.decode("utf-8", "replace"), position)
    if kind == "text/csv":
        return _take_csv(context, row, body, position)
    rows = split_body(body, content_type or "application/json", context.settings.max_event_rows)
    if row.mapping is None:
        return take_rows(context, row, rows, position)
    documents = [(line, _parsed(item, rows.are_text)) for line, item in zip(rows.lines, rows.items, strict=True)]
    return take_documents(context, row, documents, position)


def receive_by_name(context: Context, tenant: TenantAccess, name: str, body: bytes, content_type: str) -> IntakeResult:
    """The same for a person or program that may see the tenant, as the command line."""
    return receive(context, _row(context, tenant, name), body, content_type)


def take_mail(
    context: Context, row: AnyRow, messages: Sequence[tuple[bytes, str]], position: dict[str, Any] | None = None
) -> IntakeResult:
    """Notices, each with the envelope recipient that it came to. What is no notice counts for nothing."""
    now = context.clock()
    values: list[Any] = []
    lines: list[int] = []
    aside: list[tuple[Any, list[ProblemError]]] = []
    for number, (raw, sent_to) in enumerate(messages, 1):
        made = rows_of_notice(raw, sent_to, now, row.defaults.get("domain", ""))
        values += made.values
        lines += [number] * len(made.values)
        aside += [(item, [ProblemError(line=number, what=why)]) for item, why in made.aside]
    return take_rows(context, row, Rows(values, lines, are_text=False), position, aside)


def take_log(context: Context, row: AnyRow, text: str, position: dict[str, Any] | None = None) -> IntakeResult:
    """Lines of a log. What is known of open messages goes on from piece to piece."""
    reader = LogReader(
        relay=row.defaults.get("relay", ""), domain=row.defaults.get("domain", ""), state=row.position.get("open")
    )
    made = rows_of_log(text, reader, context.clock())
    kept = {**(row.position if position is None else position), "open": reader.state()}
    return take_rows(context, row, rows_of(made.values), kept)


def _take_csv(context: Context, row: AnyRow, body: bytes, position: dict[str, Any] | None) -> IntakeResult:
    try:
        found = list(rows_of_csv(body.decode("utf-8")))
    except UnicodeDecodeError as error:
        raise ServiceProblem("not-utf-8", f"Octet {error.start + 1} is not UTF-8", remedy="Convert it first") from None
    except FormError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
    if len(found) > context.settings.max_event_rows:
        raise ServiceProblem("too-large", f"{len(found)} rows in one request", remedy="Send it in pieces")
    if row.mapping is not None:
        return take_documents(context, row, found, position)
    lines, values = [line for line, _ in found], [value for _, value in found]
    return take_rows(context, row, Rows(values, lines, are_text=False), position)


def _parsed(item: Any, is_text: bool) -> Any:
    if not is_text:
        return item
    try:
        return orjson.loads(item)
    except ValueError:
        return _Broken(item.decode("utf-8", "replace"))


class _Broken(str):
    """A line that is no JSON."""


def take_documents(
    context: Context, row: AnyRow, documents: Sequence[tuple[int, Any]], position: dict[str, Any] | None = None
) -> IntakeResult:
    """Map documents and take their rows in. One that does not fit is kept as refused, whole."""
    mapping = make_mapping(FeedMapping.model_validate(row.mapping))
    values: list[Any] = []
    lines: list[int] = []
    refused: list[tuple[Any, list[ProblemError]]] = []
    for line, document in documents:
        if isinstance(document, _Broken):
            refused.append((str(document), [ProblemError(line=line, what="This line is no JSON")]))
            continue
        try:
            kept = orjson.dumps(document).decode() if mapping.unwrap else ""
            for made in mapping.apply(document):
                if not made.left_out:
                    values.append(made.values)
                    lines.append(line)
        except MappingError as error:
            item = kept or orjson.dumps(document).decode()
            refused.append((item, [ProblemError(line=line, what=error.what, remedy=error.remedy or error.why)]))
    return take_rows(context, row, Rows(values, lines, are_text=False), position, refused)


def take_rows(
    context: Context,
    row: AnyRow,
    rows: Rows,
    position: dict[str, Any] | None = None,
    refused_documents: Sequence[tuple[Any, list[ProblemError]]] = (),
) -> IntakeResult:
    """Take rows in that are events' fields: defaults, times for those without, events, refused rows, position."""
    tenant = TenantAccess(row.tenant_id, row.slug, row.tenant_name, Role.OPERATOR)
    rows = _with_defaults(context, row, rows)
    now = context.clock()

    def keep(connection: Connection, refused: list[Refusal]) -> None:
        kept = [_kept("row", item, problems, now) for item, problems in refused]
        kept += [_kept("document", item, problems, now) for item, problems in refused_documents]
        store_feeds.keep_refused(connection, row.tenant_id, row.id, kept)
        if position is not None:
            store_feeds.change_feed(connection, row.id, position=position, trouble="")

    if not len(rows):
        context.store.transaction(lambda c: keep(c, []))
        result = IntakeResult(received=0, stored=0, repeated=0, refused=0, refusals=[])
    else:
        result = intake.take_in(context, tenant, rows, row.id, keep)
    if refused_documents:
        more = [problem for _, problems in refused_documents for problem in problems]
        result = result.model_copy(
            update={
                "received": result.received + len(refused_documents),
                "refused": result.refused + len(refused_documents),
                "refusals": [*result.refusals, *more][:200],
            }
        )
    return result


def _kept(form: str, item: Any, problems: list[ProblemError], now: datetime) -> dict[str, Any]:
    text = (
        item if isinstance(item, str) else item.decode("utf-8", "replace") if isinstance(item, bytes) else _json(item)
    )
    found = [problem.model_dump() for problem in problems[:20]]
    return {"arrived_at": now, "form": form, "item": text[:_ITEM], "problems": found}


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, default=str)


def _with_defaults(context: Context, row: AnyRow, rows: Rows) -> Rows:
    """Rows with the feed's defaults; a row without a time gets that of its first arrival."""
    defaults = {name: value for name, value in row.defaults.items() if value}
    timeless: list[tuple[int, bytes]] = []
    items: list[Any] = []
    if not defaults and rows.are_text and row.mapping is None:
        return rows  # nothing to add; a row without a time is refused with its line
    for item in rows.items:
        value = _parsed(item, rows.are_text)
        if not isinstance(value, dict):
            items.append(item if rows.are_text else value)
            continue
        value = {**defaults, **{name: each for name, each in value.items() if each not in ("", None)}}
        if row.mapping is not None and "time" not in value:
            text = orjson.dumps(value, option=orjson.OPT_SORT_KEYS, default=str)
            timeless.append((len(items), hashlib.blake2b(text, digest_size=16).digest()))
        items.append(value)
    if timeless:
        now = context.clock()
        digests = [digest for _, digest in timeless]
        told = context.store.transaction(lambda c: store_feeds.times_told(c, row.id, digests, now))
        for index, digest in timeless:
            items[index]["time"] = told[digest].replace(tzinfo=UTC).isoformat()
    if rows.are_text:
        items = [item if isinstance(item, bytes) else orjson.dumps(item, default=str) for item in items]
    return Rows(items, rows.lines, rows.are_text)


# Refused rows


def list_refused(context: Context, tenant: TenantAccess, name: str, cursor: str | None, limit: int) -> Page[RefusedRow]:
    """Newest first."""
    row = _row(context, tenant, name)
    position = read_cursor(cursor, int)
    rows = context.store.transaction(
        lambda c: store_feeds.list_refused(c, row.id, position[0] if position else None, limit + 1)
    )
    items = [
        RefusedRow(
            id=each.id, arrived_at=each.arrived_at, item=each.item,
            problems=[ProblemError.model_validate(problem) for problem in each.problems],
        )
        for each in rows[:limit]
    ]  # fmt: skip
    return Page(items=items, next=write_cursor(rows[limit - 1].id) if len(rows) > limit else None)


def replay(context: Context, tenant: TenantAccess, name: str, id: int | None) -> ReplayResult:
    """Try refused rows again, with the mapping as it is now. What is refused again is kept again."""
    row = _row(context, tenant, name)
    taken = context.store.transaction(lambda c: store_feeds.list_refused(c, row.id, None, store_feeds.MAX_KEPT))
    taken = [each for each in reversed(taken) if id is None or each.id == id]
    if id is not None and not taken:
        raise ServiceProblem("not-found", f"The feed {name} keeps no refused row {id}")
    totals = {"tried": len(taken), "stored": 0, "repeated": 0, "refused": 0}
    for form in ("document", "row"):
        some = [each for each in taken if each.form == form]
        if not some:
            continue
        values = [
            (number, _parsed(each.item.encode("utf-8", "surrogatepass"), True)) for number, each in enumerate(some, 1)
        ]
        if form == "document" and row.mapping is not None:
            result = take_documents(context, row, values)
        else:
            items = [str(value) if isinstance(value, _Broken) else value for _, value in values]
            result = take_rows(context, row, rows_of(items))
        for key in ("stored", "repeated", "refused"):
            totals[key] += getattr(result, key)
    ids = [each.id for each in taken]  # only now: what was cut off in between is still there, and tried once more
    context.store.transaction(lambda c: store_feeds.take_refused(c, row.id, ids, len(ids) + 1))
    return ReplayResult(**totals)


def drop_refused(context: Context, tenant: TenantAccess, name: str) -> int:
    """Forget what was refused. Gives how many rows."""
    row = _row(context, tenant, name)
    return context.store.transaction(lambda c: store_feeds.drop_refused(c, row.id))


def try_mapping(context: Context, tenant: TenantAccess, trial: MappingTrial) -> MappingTrialResult:
    """A sample becoming events, field by field; nothing is stored."""
    try:
        document = json.loads(trial.sample)
    except (ValueError, RecursionError):
        lines = [line for line in trial.sample.splitlines() if line.strip()]
        try:
            document = json.loads(lines[0]) if lines else None
        except (ValueError, RecursionError) as error:
            return MappingTrialResult(problem="The sample is no JSON", remedy=str(error)[:200])
    if trial.mapping is None:
        documents = document if isinstance(document, list) else [document]
        return MappingTrialResult(rows=[_tried(context, each, [], trial.defaults) for each in documents[:100]])
    try:
        mapping = make_mapping(trial.mapping)
        many = isinstance(document, list) and trial.mapping.rows == "$" and not trial.mapping.unwrap
        made = [row for each in (document if many else [document]) for row in mapping.apply(each)][:100]
    except MappingError as error:
        return MappingTrialResult(problem=str(error), remedy=error.remedy)
    rows = []
    for row in made:
        steps = [TrialStep(field=s.field, path=s.path, found=s.found, value=s.value) for s in row.steps]
        if row.left_out:
            rows.append(TrialRow(left_out=True, steps=steps, event=None, problems=[]))
        else:
            rows.append(_tried(context, row.values, steps, trial.defaults))
    problem = "" if rows else "The paths find no row in this sample"
    return MappingTrialResult(problem=problem, rows=rows, remedy="" if rows else "Look at `rows` and `each`")


def _tried(context: Context, value: Any, steps: list[TrialStep], defaults: FeedDefaults) -> TrialRow:
    now = context.clock()
    if isinstance(value, dict):
        value = {**{k: v for k, v in defaults.model_dump().items() if v}, **value}
        if steps:
            value.setdefault("time", now.isoformat())
    event, _, problems = read_row(value, False, 1, now)
    if event is None:
        return TrialRow(left_out=False, steps=steps, event=None, problems=problems)
    shown = {
        "kind": str(event.kind), "time": event.occurred_at.isoformat(), "domain": event.domain,
        "recipient": str(event.recipient), "stream": event.stream, "relay": event.relay,
        "message_id": event.message_id, "cause": str(event.cause), "permanence": str(event.permanence),
        "cause_rule": event.cause_rule, "diagnostic": event.diagnostic, "campaign": event.campaign,
        "tags": list(event.tags), "sending_ip": event.sending_ip, "remote_host": event.remote_host,
    }  # fmt: skip
    return TrialRow(left_out=False, steps=steps, event={k: v for k, v in shown.items() if v}, problems=[])


def forget_old(context: Context) -> None:
    """What the worker does from time to time."""
    before = context.clock() - _KEEP_LOADS
    context.store.transaction(lambda c: store_feeds.drop_old(c, before))
