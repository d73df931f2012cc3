"""Which streams of ours are not aligned, at which receivers, since when, and what changed then."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date

from sqlalchemy import Connection

from rust_gauge.contract.receiver_reports import (
    SourceMail,
    StreamAlignment,
    StreamKey,
    StreamMail,
    StreamReceiver,
)
from rust_gauge.core.reports.streams import MailShown, streams_of
from rust_gauge.core.sending import SendingPath
from rust_gauge.service.domains.domains import find_domain
from rust_gauge.service.domains.relays import described_relays, sending_paths
from rust_gauge.service.receiver_reports.sources import add_mail, changes_then, failing_since
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.periods import period_of
from rust_gauge.store import receiver_reports as store_reports
from rust_gauge.store import report_sources as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.domains import DomainRow
from rust_gauge.store.receiver_reports import ResultRow

_KEYS = 50  # of one stream


@dataclass(slots=True)
class _Stream:
    """Mail of ours that may belong to the same streams."""

    sources: dict[str, None] = field(default_factory=dict)
    mail: SourceMail = field(default_factory=SourceMail)
    days: dict[date, SourceMail] = field(default_factory=lambda: defaultdict(SourceMail))
    at: dict[int, dict[date, SourceMail]] = field(default_factory=lambda: defaultdict(lambda: defaultdict(SourceMail)))
    keys: dict[tuple[str, str], StreamKey] = field(default_factory=dict)


def get_streams(context: Context, tenant: TenantAccess, name: str, days: int, last: date | None) -> StreamAlignment:
    """Return how each stream of a domain aligns, by what receivers reported. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    first, last = period_of(context, days, last)
    return context.store.read(lambda c: _read(c, tenant.id, row, first, last))


def _read(connection: Connection, tenant_id: int, row: DomainRow, first: date, last: date) -> StreamAlignment:
    paths = sending_paths(row, described_relays(connection, tenant_id))
    planned = {key for path in paths for key in path.keys}
    sums = store.own_mail(connection, row.id, first, last)
    results = store_reports.results_of(connection, {each.result_id for each in sums})
    found: dict[tuple[str, ...], _Stream] = defaultdict(_Stream)
    for each in sums:
        result = results[each.result_id]
        stream = found[streams_of(_shown(each.group_name, result), paths)]
        stream.sources[each.group_name] = None
        for mail in (stream.mail, stream.days[each.day], stream.at[each.receiver_id][each.day]):
            add_mail(mail, result.outcome, each.n)
        _add_keys(stream, result, each.n, each.day, planned)
    labels = store.receiver_names(connection, tenant_id)
    order = [path.stream for path in paths]
    return StreamAlignment(
        domain=row.name, first=first, last=last,
        streams=[
            _mail(connection, tenant_id, row.name, names, found[names], labels)
            for names in sorted(found, key=lambda names: (not names, [order.index(each) for each in names]))
        ],
        not_reported=_silent(paths, found),
    )  # fmt: skip


def _shown(source: str, result: ResultRow) -> MailShown:
    keys = tuple((domain, selector) for domain, selector, _ in result.signatures)
    return MailShown(source, result.header_from, result.envelope_from or result.spf_domain, keys)


def _add_keys(stream: _Stream, result: ResultRow, n: int, day: date, planned: set[tuple[str, str]]) -> None:
    for domain, selector, word in result.signatures:
        key = (domain, selector)
        if key not in stream.keys and len(stream.keys) >= _KEYS:
            continue
        made = StreamKey(domain=domain, selector=selector, planned=key in planned, first_day=day, last_day=day)
        seen = stream.keys.setdefault(key, made)
        seen.messages += n
        seen.passed += n if word == "pass" else 0
        seen.first_day, seen.last_day = min(seen.first_day, day), max(seen.last_day, day)


def _mail(
    connection: Connection, tenant_id: int, domain: str, names: Sequence[str], stream: _Stream,
    labels: dict[int, tuple[str, str]],
) -> StreamMail:  # fmt: skip
    failing = failing_since(stream.days)
    receivers = []
    for id, days in stream.at.items():
        missed = sum(mail.neither for mail in days.values())
        if missed and id in labels:
            receivers.append(
                StreamReceiver(
                    receiver=labels[id][0], label=labels[id][1], not_aligned=missed, failing_since=failing_since(days),
                    messages=sum(mail.messages for mail in days.values()),
                )
            )  # fmt: skip
    since = failing or min((each.failing_since for each in receivers if each.failing_since), default=None)
    return StreamMail(
        streams=list(names), sources=sorted(stream.sources), mail=stream.mail, failing_since=failing,
        not_aligned_at=sorted(receivers, key=lambda each: (-each.not_aligned, each.label)),
        changes=changes_then(connection, tenant_id, domain, since) if since else [],
        keys=sorted(stream.keys.values(), key=lambda key: (-key.messages, key.domain, key.selector)),
    )  # fmt: skip


def _silent(paths: Sequence[SendingPath], found: dict[tuple[str, ...], _Stream]) -> list[str]:
    """Return the streams of the plan that no reported mail can belong to."""
    reported = {name for names in found for name in names}
    return list(dict.fromkeys(path.stream for path in paths if path.stream not in reported))
