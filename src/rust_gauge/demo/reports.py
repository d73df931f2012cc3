"""The demo's reports of receivers: half a year of aggregate reports, and TLS reports, that tell the story of the mail.

A forwarder passes on some of everybody's mail. A forger uses Marram Ferries in three waves, and is refused since
`p=reject`. Key a1 is broken for two days. An old web server of Thornfield, which nobody remembers, sends its forms
without a signature. A seat-plan service sends as the theatre, and nobody has said whose it is. Two receivers begin to
report later, and Northgate stops.
"""

import gzip
import json
import random
from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.feeds import FeedSource, NewFeed
from rust_gauge.contract.readings import NewAnnotation
from rust_gauge.contract.receiver_reports import PathSettings
from rust_gauge.core.reports.path import Stage
from rust_gauge.demo.scenario import FLOWS, HISTORY_DAYS, PROVIDERS, RELAYS, Flow
from rust_gauge.service.feeds import feeds
from rust_gauge.service.readings import annotations
from rust_gauge.service.receiver_reports.judging import run_tenant
from rust_gauge.service.receiver_reports.storing import store_reports
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import policy_paths
from rust_gauge.store import receiver_reports as store
from rust_gauge.store.accounts import TenantAccess

_REPORTING = ("tidepost.example", "kestrelbox.example", "fenlandnet.example", "northgate.example")
_LATER = {"fenlandnet.example": 75, "northgate.example": 75}  # days ago these began to report
_SILENT = ("northgate.example", 12)  # its last report is of so many days ago
_POLICIES = {"marram": "marramferries.example", "thornfield": "thornfieldseeds.example",
             "glasswort": "glasswort.example", "halyard": "halyardclinic.example"}  # fmt: skip
# The way of Marram Ferries: (days ago, stage) from which on it was published.
WAY = ((HISTORY_DAYS, Stage.WATCH), (149, Stage.TRIAL), (114, Stage.QUARANTINE), (74, Stage.REJECT))
_PUBLISHED = {"thornfield": "quarantine", "glasswort": "none", "halyard": "quarantine"}
_SELECTORS = {
    "marramferries.example": "m1", "mail.marramferries.example": "d1", "alerts.marramferries.example": "a1",
    "departures.marramferries.example": "a1",
    "thornfieldseeds.example": "t1", "catalogue.thornfieldseeds.example": "c1", "glasswort.example": "g1",
    "tickets.glasswort.example": "g1", "news.glasswort.example": "d1", "halyardclinic.example": "h1",
    "reminders.halyardclinic.example": "r1",
}  # fmt: skip
_FORWARDER, _FORWARDED_AS, _FORWARDED = "203.0.113.130", "islandalumni.example", 0.012
_FORGED = ((60, 50), (30, 24), (6, 2))  # days ago
_OLD_WEB = "192.0.2.150"
_SEATPLAN, _SEATPLAN_SINCE = "203.0.113.140", 9
_KEY_BROKEN = (17, 16)  # days ago, at alerts.marramferries.example
_UNSIGNED_THEN = 0.22
_CERTIFICATE = (23, 21)  # days ago the MX of Marram Ferries had one that was expired
_AT_ONCE = 60  # reports in one transaction
_TLS_DAYS = 40


def load_reports(context: Context, tenant: TenantAccess, anchor: date) -> int:
    """Bring in reports up to yesterday; those that are there are known. Return how many were new."""
    if tenant.slug not in _POLICIES:
        return 0
    _feed(context, tenant)
    today = context.clock().date()
    newest = context.store.transaction(lambda c: _newest(c, tenant.id))
    first = anchor - timedelta(days=HISTORY_DAYS)
    if newest is not None:
        first = max(first, newest)
    elif tenant.slug == "marram":
        _annotate(context, tenant, anchor)
    batch: list[bytes] = []
    stored = 0
    for n in range((today - first).days):
        day = first + timedelta(days=n)
        batch += _of_day(tenant.slug, day, anchor)
        if len(batch) >= _AT_ONCE or day == today - timedelta(days=1):
            stored += sum(each.state == "stored" for each in store_reports(context, tenant.id, batch, "upload"))
            batch = []
    if stored:
        context.store.transaction(lambda c: _path(c, tenant, anchor, context.clock()))
        run_tenant(context, tenant.id)
    return stored


def _newest(connection: Connection, tenant_id: int) -> date | None:
    found = store.list_reports(connection, tenant_id, limit=1, kind="aggregate")
    return found[0].begins_at.date() if found else None


def _feed(context: Context, tenant: TenantAccess) -> None:
    """Where TLS reports can be posted; those of the past were uploaded."""
    if any(feed.kind == "reports" for feed in feeds.list_feeds(context, tenant)):
        return
    feeds.add_feed(context, tenant, NewFeed(name="receiver-reports", kind="reports", source=FeedSource()))


def _annotate(context: Context, tenant: TenantAccess, anchor: date) -> None:
    """The stages on the time axis of readings, beside what they changed."""
    for age, stage in WAY[1:]:
        text = f"DMARC: {'; '.join(f'{name}={value}' for name, value in stage.tags.items() if value)}"
        note = NewAnnotation(day=anchor - timedelta(days=age), text=text, domain=_POLICIES[tenant.slug])
        annotations.add_annotation(context, tenant, note, "Isla")


def _path(connection: Connection, tenant: TenantAccess, anchor: date, now: datetime) -> None:
    """Marram Ferries went all the way; the clinic is about to."""
    stages = {"marram": (WAY[-1][1], WAY[-1][0]), "halyard": (Stage.QUARANTINE, 40)}
    if tenant.slug in stages:
        stage, age = stages[tenant.slug]
        name = _POLICIES[tenant.slug]
        policy_paths.put_path(
            connection, domain_id=store.known_domains(connection, tenant.id)[name], tenant_id=tenant.id,
            stage=stage.value, stage_since=anchor - timedelta(days=age), published="",
            settings=PathSettings().model_dump(), started_by="isla@skerry.example", started_at=now, checked_at=None,
        )  # fmt: skip


def _of_day(slug: str, day: date, anchor: date) -> Iterator[bytes]:
    age = (anchor - day).days
    for name in _REPORTING:
        if (name == _SILENT[0] and age < _SILENT[1]) or age > _LATER.get(name, age):
            continue
        records = list(_records(slug, name, day, age))
        if records:
            yield gzip.compress(_aggregate(slug, name, day, age, records), 1, mtime=0)
    if slug == "marram" and age <= _TLS_DAYS:
        for name in _REPORTING[:2]:
            yield gzip.compress(json.dumps(_tls(name, day, age)).encode(), 1, mtime=0)


def _policy(slug: str, age: int) -> Stage:
    if slug != "marram":
        return Stage.WATCH if _PUBLISHED[slug] == "none" else Stage.QUARANTINE
    return [stage for since, stage in WAY if age <= since][-1]


def _records(slug: str, receiver: str, day: date, age: int) -> Iterator[str]:
    rng = random.Random(f"{slug} {receiver} {day}")  # noqa: S311 - made-up mail
    share = next(provider.share for provider in PROVIDERS if provider.name == receiver)
    policy = _policy(slug, age)
    refused = "reject" if policy is Stage.REJECT else "quarantine" if policy is Stage.QUARANTINE else "none"
    apart = random.Random(f"{slug} {receiver} {day} counted")  # noqa: S311 - what is drawn for others stays
    for flow in FLOWS:
        if flow.tenant == slug and age <= flow.first_day:
            draw = apart if flow.counted else rng
            n = round(flow.week[day.weekday()] * share * draw.uniform(0.9, 1.1))
            yield from _of_flow(flow, n, age, refused, draw)
    domain = _POLICIES[slug]
    if slug == "marram" and receiver != "northgate.example" and any(last <= age <= first for first, last in _FORGED):
        for number in rng.sample(range(160, 176), 7):
            yield _record(f"203.0.113.{number}", rng.randint(8, 60), domain, "fail", domain, (), refused)
    if slug == "thornfield" and receiver != "northgate.example":
        n = rng.randint(3, 9)
        yield _record(_OLD_WEB, n, domain, "softfail", "old-web.thornfieldseeds.example", (), refused)
    if slug == "glasswort" and age <= _SEATPLAN_SINCE:
        name = "seatplan.example"
        yield _record(_SEATPLAN, rng.randint(12, 40), domain, "pass", name, ((name, "s2", "pass"),), "none")


def _of_flow(flow: Flow, n: int, age: int, refused: str, rng: random.Random) -> Iterator[str]:
    """Mail of a stream at one receiver: most of it straight from its relay, some passed on by others."""
    if n < 2:
        return
    passed_on = sum(rng.random() < _FORWARDED for _ in range(n)) if n < 400 else round(n * _FORWARDED)
    addresses = next(relay.addresses for relay in RELAYS if relay.name == flow.relay)
    domain, selector = flow.domain, _SELECTORS[flow.domain]
    signed = ((domain, selector, "pass"),)
    direct = n - passed_on
    broken = flow.domain.startswith("alerts.") and _KEY_BROKEN[1] <= age <= _KEY_BROKEN[0]
    lost = round(direct * _UNSIGNED_THEN) if broken else 0
    each = (direct - lost) // len(addresses)
    failed = ((domain, selector, "fail"),)
    for number, ip in enumerate(addresses):
        count = each + ((direct - lost) % len(addresses) if number == 0 else 0)
        if count:
            yield _record(ip, count, domain, "pass", domain, failed if broken else signed, "none", spf=True,
                          dkim=not broken)  # fmt: skip
    if lost:  # sent by the second queue, whose envelope is the host's
        yield _record(addresses[0], lost, domain, "pass", "skerry.example", failed, refused)
    if passed_on:
        kept = passed_on - passed_on // 8
        if kept:
            yield _record(_FORWARDER, kept, domain, "pass", _FORWARDED_AS, signed, "none", dkim=True)
        if passed_on - kept:
            yield _record(_FORWARDER, passed_on - kept, domain, "pass", _FORWARDED_AS, failed, "none",
                          reason="forwarded")  # fmt: skip


def _record(
    ip: str, count: int, header_from: str, spf_result: str, spf_domain: str,
    signatures: tuple[tuple[str, str, str], ...], disposition: str, *, spf: bool = False, dkim: bool = False,
    reason: str = "",
) -> str:  # fmt: skip
    shown = "".join(
        f"<dkim><domain>{domain}</domain><selector>{selector}</selector><result>{result}</result></dkim>"
        for domain, selector, result in signatures
    )
    why = f"<reason><type>{reason}</type></reason>" if reason else ""
    return (
        f"<record><row><source_ip>{ip}</source_ip><count>{count}</count><policy_evaluated><disposition>{disposition}"
        f"</disposition><dkim>{'pass' if dkim else 'fail'}</dkim><spf>{'pass' if spf else 'fail'}</spf>{why}"
        f"</policy_evaluated></row><identifiers><header_from>{header_from}</header_from></identifiers><auth_results>"
        f"{shown}<spf><domain>{spf_domain}</domain><result>{spf_result}</result></spf></auth_results></record>"
    )


def _aggregate(slug: str, receiver: str, day: date, age: int, records: list[str]) -> bytes:
    begin = int(datetime.combine(day, time(), UTC).timestamp())
    label = next(provider.label for provider in PROVIDERS if provider.name == receiver)
    tags = _policy(slug, age).tags
    return (
        f'<?xml version="1.0"?><feedback><report_metadata><org_name>{label}</org_name><email>dmarc-reports@{receiver}'
        f"</email><report_id>{receiver.partition('.')[0]}-{slug}-{day:%Y%m%d}</report_id><date_range><begin>{begin}"
        f"</begin><end>{begin + 86_399}</end></date_range></report_metadata><policy_published><domain>"
        f"{_POLICIES[slug]}</domain><adkim>r</adkim><aspf>r</aspf><p>{tags['p']}</p><sp>{tags['p']}</sp>"
        f"<pct>{tags['pct'] or 100}</pct></policy_published>{''.join(records)}</feedback>"
    ).encode()


def _tls(receiver: str, day: date, age: int) -> dict[str, object]:
    rng = random.Random(f"tls {receiver} {day}")  # noqa: S311 - made-up sessions
    n = rng.randint(180, 320)
    failed = n // 5 if _CERTIFICATE[1] <= age <= _CERTIFICATE[0] else 0
    domain = _POLICIES["marram"]
    details = [{"result-type": "certificate-expired", "receiving-mx-hostname": "mx1.skerry.example",
                "sending-mta-ip": "203.0.113.101", "failed-session-count": failed}]  # fmt: skip
    return {
        "organization-name": next(provider.label for provider in PROVIDERS if provider.name == receiver),
        "date-range": {"start-datetime": f"{day}T00:00:00Z", "end-datetime": f"{day}T23:59:59Z"},
        "contact-info": f"tls-reports@{receiver}",
        "report-id": f"tls-{receiver.partition('.')[0]}-{day:%Y%m%d}",
        "policies": [
            {
                "policy": {
                    "policy-type": "sts", "policy-domain": domain, "mx-host": ["mx1.skerry.example"],
                    "policy-string": ["version: STSv1", "mode: enforce", "mx: mx1.skerry.example", "max_age: 604800"],
                },
                "summary": {"total-successful-session-count": n - failed, "total-failure-session-count": failed},
                "failure-details": details if failed else [],
            }
        ],
    }  # fmt: skip
