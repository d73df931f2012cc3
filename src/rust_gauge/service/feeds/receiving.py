"""Taking in what a feed brings: documents, CSV, messages and logs become rows, and rows become events."""

import hashlib
import json
import secrets
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import orjson
from sqlalchemy import Connection

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.events import IntakeResult
from rust_gauge.contract.feeds import FeedMapping
from rust_gauge.core.mailflow.mapping import MappingError
from rust_gauge.core.mtalog import LogReader
from rust_gauge.core.names import hide_in_document
from rust_gauge.core.reports import TlsReport
from rust_gauge.core.roles import Role
from rust_gauge.core.webhooks import WebhookRefused, verify
from rust_gauge.service.bench.catching import catch_feed
from rust_gauge.service.bench.trays import find_tray
from rust_gauge.service.feeds.feeds import find_feed
from rust_gauge.service.feeds.formats import FormError, rows_of_csv, rows_of_log, rows_of_notice, split_mbox
from rust_gauge.service.feeds.formats import Rows as FormRows
from rust_gauge.service.feeds.mapping import make_mapping
from rust_gauge.service.intake import intake
from rust_gauge.service.intake.rows import Refusal, Rows, rows_of, split_body
from rust_gauge.service.receiver_reports.storing import AnyReport, Way, store_reports
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.poison import unexpected
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt
from rust_gauge.store import feeds as store_feeds
from rust_gauge.store import suppression_state
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.feeds import FeedRow
from rust_gauge.store.hiding import hide_in_problems

_ITEM = 64 * 1024  # characters of a rejected row that are kept


def feed_for(context: Context, key: str, authorization: str, headers: dict[str, str], body: bytes) -> FeedRow:
    """The feed of an address, when the request proves that it may: its token, or its signature over time and body."""
    row = context.store.transaction(lambda c: store_feeds.feed_of_key(c, key))
    rejected = ServiceProblem("not-signed-in", "The feed's token or a signature with its key is required")
    if row is None:
        raise rejected
    scheme, _, token = authorization.partition(" ")
    if scheme.lower() == "bearer":
        if not secrets.compare_digest(hashlib.sha256(token.strip().encode()).digest(), bytes(row.token_digest)):
            raise rejected
        return row
    if "webhook-signature" not in headers:
        raise rejected
    try:
        verify(decrypt(context.settings, row.secret), headers, body, int(context.clock().timestamp()))
    except WebhookRefused as error:
        raise ServiceProblem("not-signed-in", str(error), remedy=error.remedy) from None
    return row


def receive(
    context: Context, row: FeedRow, body: bytes, content_type: str, position: Mapping[str, Any] | None = None
) -> IntakeResult:
    """Store what a feed received, in the format that its content type states. ServiceProblem `feed-paused` if it is
    paused.
    """
    if row.paused:
        raise ServiceProblem("feed-paused", f"The feed {row.name} is paused", remedy="Retry later")
    if row.kind == "reports":
        return take_reports(context, row, [body], "post", position)
    kind = content_type.partition(";")[0].strip().lower()
    if kind in ("message/rfc822", "application/mbox"):
        raws = [body] if kind == "message/rfc822" else list(split_mbox(body))
        return take_mail(context, row, [(raw, "") for raw in raws], position)
    if kind == "text/plain" and row.kind in ("log", "http"):
        return take_log(context, row, body.decode("utf-8", "replace"), position)
    if kind == "text/csv":
        return _take_csv(context, row, body, position)
    rows = split_body(body, content_type or "application/json", context.settings.max_event_rows)
    if row.mapping is None:
        return take_rows(context, row, rows, position)
    documents = [(line, parsed(item, rows.are_text)) for line, item in zip(rows.lines, rows.items, strict=True)]
    return take_documents(context, row, documents, position)


def receive_by_name(context: Context, tenant: TenantAccess, name: str, body: bytes, content_type: str) -> IntakeResult:
    """The same for a person or program that may see the tenant, as the command line."""
    return receive(context, find_feed(context, tenant, name), body, content_type)


def take_mail(
    context: Context, row: FeedRow, messages: Sequence[tuple[bytes, str]], position: Mapping[str, Any] | None = None
) -> IntakeResult:
    """Notices, each with the envelope recipient that it came to. What is no notice counts for nothing.

    Messages of a feed with a tray are caught there.
    """
    if row.kind == "reports":
        return take_reports(context, row, [raw for raw, _ in messages], "mail", position)
    if row.defaults.get("tray"):
        return _catch(context, row, messages, position)
    now = context.clock()
    values: list[Any] = []
    lines: list[int] = []
    aside: list[tuple[Any, list[ProblemError]]] = []
    for number, (raw, sent_to) in enumerate(messages, 1):
        made = _notice(raw, sent_to, now, row)
        values += made.values
        lines += [number] * len(made.values)
        aside += [(item, [ProblemError(line=number, what=why)]) for item, why in made.aside]
    return take_rows(context, row, Rows(values, lines, are_text=False), position, aside)


def take_reports(
    context: Context, row: FeedRow, reports: Sequence[bytes], way: Way, position: Mapping[str, Any] | None = None,
    only: type[AnyReport] | None = None,
) -> IntakeResult:  # fmt: skip
    """Store reports of receivers. One that is not read is set aside; those that are known are counted."""
    done = store_reports(context, row.tenant_id, reports, way, row.id, only)
    if position is not None:
        context.store.transaction(lambda c: store_feeds.update_feed(c, row.id, position=position, error=""))
    states = Counter(each.state for each in done)
    problems = [ProblemError(what=each.problem, remedy=each.remedy) for each in done if each.state == "rejected"]
    return IntakeResult(
        received=len(done), stored=states["stored"] + states["not_ours"], duplicates=states["duplicate"],
        rejected=states["rejected"], rejections=problems[:200],
    )  # fmt: skip


def receive_tls_report(context: Context, key: str, body: bytes) -> IntakeResult:
    """Store a TLS report that came to the address of a feed of kind reports (RFC 8460 §3). Senders prove nothing, so
    the address is the secret, and nothing but TLS reports is taken. ServiceProblem `not-found` or `feed-paused`."""
    row = context.store.transaction(lambda c: store_feeds.feed_of_key(c, key))
    if row is None or row.kind != "reports":
        raise ServiceProblem("not-found", "No feed of kind reports has this address")
    if row.paused:
        raise ServiceProblem("feed-paused", f"The feed {row.name} is paused", remedy="Retry later")
    return take_reports(context, row, [body], "post", only=TlsReport)


def _catch(
    context: Context, row: FeedRow, messages: Sequence[tuple[bytes, str]], position: Mapping[str, Any] | None
) -> IntakeResult:
    """Put messages into the feed's tray. One that it does not take is set aside as rejected."""
    tenant = TenantAccess(row.tenant_id, row.slug, row.tenant_name, Role.OPERATOR)
    rejected = catch_feed(context, find_tray(context, tenant, row.defaults["tray"]), messages)
    aside = [(raw[:_ITEM].decode("utf-8", "replace"), [ProblemError(what=why)]) for raw, why in rejected]
    result = take_rows(context, row, Rows([], [], are_text=False), position, aside)
    stored = len(messages) - len(rejected)
    return result.model_copy(update={"received": len(messages), "stored": stored})


def _notice(raw: bytes, sent_to: str, now: datetime, row: FeedRow) -> FormRows:
    """Read one message. Whatever goes wrong sets this message aside, and the next is read."""
    try:
        return rows_of_notice(raw, sent_to, now, row.defaults.get("domain", ""))
    except Exception as error:
        why = unexpected("message", error, feed=row.name, tenant=row.slug)
        return FormRows(aside=[(raw[:20_000].decode("utf-8", "replace"), why)])


def take_log(context: Context, row: FeedRow, text: str, position: Mapping[str, Any] | None = None) -> IntakeResult:
    """Lines of a log. What is known of open messages goes on from piece to piece."""
    reader = LogReader(
        relay=row.defaults.get("relay", ""), domain=row.defaults.get("domain", ""), state=row.position.get("open")
    )
    made = rows_of_log(text, reader, context.clock())
    kept = {**(row.position if position is None else position), "open": reader.state()}
    aside = [(item, [ProblemError(what=why)]) for item, why in made.aside]
    return take_rows(context, row, rows_of(made.values), kept, aside)


def _take_csv(context: Context, row: FeedRow, body: bytes, position: Mapping[str, Any] | None) -> IntakeResult:
    try:
        found = list(rows_of_csv(body.decode("utf-8")))
    except UnicodeDecodeError as error:
        raise ServiceProblem("not-utf-8", f"Octet {error.start + 1} is not UTF-8", remedy="Convert it first") from None
    except FormError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
    if len(found) > context.settings.max_event_rows:
        raise ServiceProblem("too-large", f"{len(found)} rows in one request", remedy="Split it into smaller requests")
    if row.mapping is not None:
        return take_documents(context, row, found, position)
    lines, values = [line for line, _ in found], [value for _, value in found]
    return take_rows(context, row, Rows(values, lines, are_text=False), position)


def parsed(item: Any, is_text: bool) -> Any:
    if not is_text:
        return item
    try:
        return orjson.loads(item)
    except ValueError:
        return BrokenDocument(item.decode("utf-8", "replace"))


class BrokenDocument(str):
    """A line that is not JSON."""


def take_documents(
    context: Context, row: FeedRow, documents: Sequence[tuple[int, Any]], position: Mapping[str, Any] | None = None
) -> IntakeResult:
    """Map documents and take their rows in. One that does not fit is kept as rejected, whole."""
    mapping = make_mapping(FeedMapping.model_validate(row.mapping))
    values: list[Any] = []
    lines: list[int] = []
    rejected: list[tuple[Any, list[ProblemError]]] = []
    sources: dict[int, Any] = {}  # what came, by line: a corrected mapping starts from it again
    for line, document in documents:
        if isinstance(document, BrokenDocument):
            rejected.append((str(document), [ProblemError(line=line, what="This line is not valid JSON")]))
            continue
        sources[line] = orjson.dumps(document).decode() if mapping.unwrap else document
        problems: list[ProblemError] = []
        try:
            for made in mapping.apply(document):
                if made.problem is not None:
                    problems.append(_problem(line, made.problem))
                elif not made.left_out:
                    values.append(made.values)
                    lines.append(line)
        except MappingError as error:
            problems.append(_problem(line, error))
        except Exception as error:
            why = unexpected("document", error, feed=row.name, tenant=row.slug)
            problems.append(ProblemError(line=line, what=why))
        if problems:
            rejected.append((_source(sources[line]), problems))
    return take_rows(context, row, Rows(values, lines, are_text=False), position, rejected, sources)


def _problem(line: int, error: MappingError) -> ProblemError:
    return ProblemError(line=line, what=error.what, remedy=error.remedy or error.why)


def _source(document: Any) -> str:
    return document if isinstance(document, str) else orjson.dumps(document).decode()


def take_rows(
    context: Context,
    row: FeedRow,
    rows: Rows,
    position: Mapping[str, Any] | None = None,
    refused_documents: Sequence[tuple[Any, list[ProblemError]]] = (),
    sources: Mapping[int, Any] | None = None,
) -> IntakeResult:
    """Store rows of events' fields: defaults, times for those without, events, rejected rows, position.

    `sources` are the documents that mapped rows come from, by line: they are kept in place of the rows.
    """
    tenant = TenantAccess(row.tenant_id, row.slug, row.tenant_name, Role.OPERATOR)
    rows = _with_defaults(context, row, rows)
    now = context.clock()

    def keep(connection: Connection, rejected: list[Refusal]) -> None:
        documents: dict[str, list[ProblemError]] = {}
        for item, problems in refused_documents:
            documents.setdefault(item, []).extend(problems)
        rows_only = []
        for item, problems in rejected:
            line = problems[0].line if problems else None
            if sources is not None and line is not None and line in sources:
                documents.setdefault(_source(sources[line]), []).extend(problems)
            else:
                rows_only.append((item, problems))
        kept = [_kept("row", item, problems, now) for item, problems in rows_only]
        kept += [_kept("document", item, problems, now) for item, problems in documents.items()]
        if kept and suppression_state.hides_addresses(connection, row.tenant_id):
            kept = [
                {**each, "item": hide_in_document(each["item"]), "problems": hide_in_problems(each["problems"])}
                for each in kept
            ]
        store_feeds.keep_rejected_rows(connection, row.tenant_id, row.id, kept)
        if position is not None:
            store_feeds.update_feed(connection, row.id, position=position, error="")

    if not len(rows):
        context.store.transaction(lambda c: keep(c, []))
        result = IntakeResult(received=0, stored=0, duplicates=0, rejected=0, rejections=[])
    else:
        result = intake.take_in(context, tenant, rows, row.id, keep)
    if refused_documents:
        more = [problem for _, problems in refused_documents for problem in problems]
        result = result.model_copy(
            update={
                "received": result.received + len(refused_documents),
                "rejected": result.rejected + len(refused_documents),
                "rejections": [*result.rejections, *more][:200],
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


def _with_defaults(context: Context, row: FeedRow, rows: Rows) -> Rows:
    """Rows with the feed's defaults; a row without a time gets that of its first arrival."""
    defaults = {name: value for name, value in row.defaults.items() if value and name != "tray"}
    timeless: list[tuple[int, bytes]] = []
    items: list[Any] = []
    if not defaults and rows.are_text and row.mapping is None:
        return rows  # nothing to add; a row without a time is rejected with its line
    for item in rows.items:
        value = parsed(item, rows.are_text)
        if not isinstance(value, dict):
            items.append(item if rows.are_text else value)
            continue
        value = {**defaults, **{name: part for name, part in value.items() if part not in ("", None)}}
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
