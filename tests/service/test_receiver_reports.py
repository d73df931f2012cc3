"""Reports of receivers: each is stored once or set aside, sources are judged, and policies are tried on them."""

import gzip
import io
import json
import os
import zipfile
from dataclasses import replace
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest
from sqlalchemy import Connection, func, select

from rust_gauge.client import Client, InvalidInputError, NotFoundError, UnavailableError
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.contract.feeds import FeedSource, NewFeed
from rust_gauge.contract.jobs import Job, ReportFilesRequest
from rust_gauge.contract.plans import PlanSettings
from rust_gauge.contract.receiver_reports import (
    PathSettings,
    RehearsalPolicy,
    ReportRetention,
    SourceClaim,
    SourceDecision,
    SourceMail,
    SourceOverview,
)
from rust_gauge.contract.recipients import ErasureRequest
from rust_gauge.contract.relays import RelayDescription, RelayHost, RelayInbound
from rust_gauge.core.dns import DnsProgram, DnsQuestion
from rust_gauge.service.accounts import ownership
from rust_gauge.service.feeds.runner import Runner
from rust_gauge.service.receiver_reports import files, judging, keeping, storing
from rust_gauge.service.receiver_reports.judging import ask_for_due
from rust_gauge.service.receiver_reports.paths import follow_due
from rust_gauge.service.receiver_reports.sources import failing_since
from rust_gauge.service.receiver_reports.storing import store_reports
from rust_gauge.standins.dns_world import Behaviour
from rust_gauge.store import jobs as store_jobs
from rust_gauge.store import receiver_reports, tables, tenant_removal
from tests.changes import noted
from tests.conftest import Office, World, assign, make_office
from tests.reports import DAY, DOMAIN, FAILURE, aggregate, record, tls
from tests.rows import ndjson, row


@pytest.fixture
def domain(office: Office, client: Client) -> str:
    client.domains.add(office.slug, DOMAIN)
    return DOMAIN


@pytest.fixture
def zones(office: Office) -> None:
    office.world.zone(
        DOMAIN,
        '@ IN TXT "v=spf1 ip4:192.0.2.0/28 -all"\n_dmarc IN TXT "v=DMARC1; p=none; rua=mailto:d@wrack.example"\n'
        "old-web IN A 192.0.2.150\n",
    )
    office.world.zone("150.2.0.192.in-addr.arpa", "@ IN PTR old-web.wrack.example.\n")
    office.world.zone("5.113.0.203.in-addr.arpa", "")


@pytest.fixture
def other(world: World) -> Office:
    return make_office(world)


def judge(office: Office) -> None:
    """What the worker does within a minute."""
    ask_for_due(office.world.context)
    office.world.work()


def by_name(found: SourceOverview) -> dict[str, tuple[str, int]]:
    return {source.name: (source.verdict, source.mail.messages) for source in found.sources}


def test_a_report_is_stored_once_however_it_comes(office: Office, client: Client, domain: str) -> None:
    octets = aggregate(record("192.0.2.9", 7, dkim=True), record("203.0.113.5", 3))
    first = client.reports.add(office.slug, octets)
    assert (first.state, first.kind, first.domain, first.receiver, first.records) == (
        "stored", "aggregate", DOMAIN, "tidepost.example", 2,
    )  # fmt: skip
    again = client.reports.add(office.slug, gzip.compress(octets))
    assert (again.state, again.id) == ("duplicate", first.id)
    (listed,) = client.reports.list(office.slug)
    assert (listed.messages, listed.passed, listed.ours, listed.authentic) == (10, 7, True, "not_mail")
    whole = client.reports.get(office.slug, listed.id)
    assert [(each.source_ip, each.count, each.dkim_aligned) for each in whole.rows] == [
        ("192.0.2.9", 7, True), ("203.0.113.5", 3, False),
    ]  # fmt: skip
    assert whole.policy is not None and whole.policy.p == "none"
    assert b"".join(client.reports.original(office.slug, listed.id)) == octets
    before = noted(office, "reports")
    assert before > 0
    client.reports.delete(office.slug, listed.id)
    assert noted(office, "reports") > before, "readings are computed from reports: none may be shown from before"


def test_the_same_id_of_another_receiver_or_period_is_another_report(
    office: Office, client: Client, domain: str
) -> None:
    made = [
        aggregate(record("192.0.2.9", 7)),
        aggregate(record("192.0.2.9", 7), receiver="kestrelbox.example"),
        aggregate(record("192.0.2.9", 7), day=DAY - timedelta(days=1)),
    ]
    assert [client.reports.add(office.slug, each).state for each in made] == ["stored"] * 3
    found = client.reports.overview(office.slug, DOMAIN)
    assert (found.reports, found.receivers, sum(s.mail.messages for s in found.sources)) == (3, 2, 21)


def test_periods_of_a_receiver_that_overlap_are_shown(office: Office, client: Client, domain: str) -> None:
    one = client.reports.add(office.slug, aggregate(record("192.0.2.9", 7), id="a"))
    two = client.reports.add(office.slug, aggregate(record("192.0.2.9", 7), id="b"))
    assert one.id and two.id
    assert client.reports.get(office.slug, two.id).overlaps == [one.id]


def test_what_is_no_report_is_set_aside_and_can_be_read_again(office: Office, client: Client, domain: str) -> None:
    done = client.reports.add(office.slug, b"<html>not a report</html>")
    assert (done.state, done.problem) == ("rejected", "Not an aggregate report: its root is <html>, not <feedback>")
    assert done.remedy
    client.reports.add(office.slug, b"<html>not a report</html>")
    (aside,) = client.reports.rejected(office.slug)
    assert aside.problem == done.problem
    result = client.reports.replay(office.slug)
    assert (result.tried, result.stored, result.rejected) == (1, 0, 1)
    client.reports.delete_rejected(office.slug, aside.id)
    assert list(client.reports.rejected(office.slug)) == []
    with pytest.raises(NotFoundError):
        client.reports.replay(office.slug, aside.id)


def test_a_report_about_a_domain_of_nobody_is_filed_when_the_domain_is_added(office: Office, client: Client) -> None:
    done = client.reports.add(office.slug, aggregate(record("192.0.2.9", 7)))
    assert done.state == "not_ours"
    (listed,) = client.reports.list(office.slug, ours=False)
    assert (listed.domain, listed.messages) == (DOMAIN, 7)
    client.domains.add(office.slug, DOMAIN)
    client.reports.replay(office.slug)
    assert client.reports.overview(office.slug, DOMAIN).sources[0].mail.messages == 7
    assert [each.ours for each in client.reports.list(office.slug)] == [True]


def test_mail_below_a_domain_counts_there_and_names_that_nobody_added_are_listed(
    office: Office, client: Client, domain: str
) -> None:
    client.domains.add(office.slug, "news.wrack.example")
    client.reports.add(
        office.slug,
        aggregate(
            record("192.0.2.9", 7, header_from="news.wrack.example"), record("192.0.2.9", 2),
            record("203.0.113.5", 4, header_from="shop.wrack.example"),
        ),
    )  # fmt: skip
    assert sum(s.mail.messages for s in client.reports.overview(office.slug, "news.wrack.example").sources) == 7
    found = client.reports.overview(office.slug, DOMAIN)
    assert sum(s.mail.messages for s in found.sources) == 6
    assert [(each.name, each.messages) for each in found.unknown_names] == [("shop.wrack.example", 4)]


def test_sources_are_judged_and_decisions_are_remembered(
    office: Office, client: Client, domain: str, zones: None
) -> None:
    client.reports.add(
        office.slug,
        aggregate(
            record("192.0.2.9", 70, spf=True, dkim=True), record("192.0.2.150", 8, spf_result="softfail"),
            record("203.0.113.5", 3, spf_result="fail"),
            record("198.51.100.7", 5, dkim=True, spf_domain="alumni.example", spf_result="pass"),
            record("198.51.100.9", 6, spf_domain="crm.example", spf_result="pass", sign="crm.example"),
        ),
    )  # fmt: skip
    assert client.reports.overview(office.slug, DOMAIN).not_judged == 5
    judge(office)
    found = client.reports.overview(office.slug, DOMAIN)
    assert found.not_judged == 0
    assert by_name(found) == {
        "192.0.2.0/24": ("ours", 70), "old-web.wrack.example": ("ours", 8), "203.0.113.0/24": ("not_ours", 3),
        "198.51.100.0/24": ("forwarded", 5), "crm.example": ("unknown", 6),
    }  # fmt: skip
    assert {v.verdict: v.mail.messages for v in found.by_verdict} == {
        "ours": 78, "unknown": 6, "forwarded": 5, "not_ours": 3,
    }  # fmt: skip
    (day,) = [each for each in found.days if each.ours.messages]
    assert (day.day, day.ours.messages, day.unknown.messages, day.not_ours.neither) == (DAY, 78, 6, 3)

    client.reports.decide(office.slug, DOMAIN, "crm.example", SourceDecision(verdict="not_ours", note="left in May"))
    client.reports.add(office.slug, aggregate(
        record("198.51.100.9", 6, spf_domain="crm.example", spf_result="pass", sign="crm.example"), id="next"))  # fmt: skip
    judge(office)
    source = client.reports.source(office.slug, DOMAIN, "crm.example")
    assert (source.verdict, source.mail.messages, source.decided_by) == ("not_ours", 12, office.email)
    found = client.reports.overview(office.slug, DOMAIN)
    assert {v.verdict: v.mail.messages for v in found.by_verdict} == {
        "ours": 78, "unknown": 0, "forwarded": 5, "not_ours": 15,
    }  # fmt: skip
    assert sum(each.not_ours.messages for each in found.days) == 15
    client.reports.decide(office.slug, DOMAIN, "crm.example", SourceDecision(verdict=None))
    assert client.reports.source(office.slug, DOMAIN, "crm.example").verdict == "unknown"


def test_a_claimed_source_becomes_a_relay_and_part_of_the_plan(
    office: Office, client: Client, domain: str, zones: None
) -> None:
    client.reports.add(office.slug, aggregate(record("192.0.2.150", 8, spf_result="softfail")))
    judge(office)
    done = client.reports.claim(
        office.slug,
        DOMAIN,
        "old-web.wrack.example",
        SourceClaim(relay="old web", stream="forms", note="the old web server"),
    )
    assert (done.verdict, done.name) == ("ours", "old web")
    (relay,) = [each for each in client.relays.list(office.slug) if each.name == "old web"]
    assert [(host.ip, host.helo) for host in relay.hosts] == [("192.0.2.150", "old-web.wrack.example")]
    plan = client.plans.get(office.slug, DOMAIN)
    assert any("192.0.2.150" in record.value for record in plan.records if record.type == "TXT")


def test_a_helo_name_is_looked_up(office: Office, client: Client, domain: str, zones: None) -> None:
    said = "<spf><domain>{}.wrack.example</domain><scope>helo</scope><result>none</result></spf></auth_results>"
    rows = [record(ip, 8, spf_result="softfail").replace("</auth_results>", said.format(name))
            for ip, name in (("198.51.100.7", "shop"), ("198.51.100.8", "shop"), ("2001:db8::9", "six"))]  # fmt: skip
    office.world.zone("100.51.198.in-addr.arpa", "")
    office.world.zone("8.b.d.0.1.0.0.2.ip6.arpa", "")
    office.world.zone(DOMAIN, "shop IN A 198.51.100.7\nsix IN AAAA 2001:db8::9\n")
    client.reports.add(office.slug, aggregate(*rows))
    judge(office)
    found = client.reports.source(office.slug, DOMAIN, "shop.wrack.example")
    assert (found.verdict, [each.ip for each in found.by_address]) == ("ours", ["198.51.100.7"])
    assert any(each.kind == "own_helo" and "DNS gives that name" in each.text for each in found.evidence)
    names = by_name(client.reports.overview(office.slug, DOMAIN))
    assert names["six.wrack.example"] == ("ours", 8)
    assert names["198.51.100.0/24"][0] != "ours"
    client.reports.claim(office.slug, DOMAIN, "shop.wrack.example", SourceClaim(relay="shop host"))
    (relay,) = [each for each in client.relays.list(office.slug) if each.name == "shop host"]
    assert [(host.ip, host.helo) for host in relay.hosts] == [("198.51.100.7", "shop.wrack.example")]


def test_a_path_says_when_the_record_is_not_known(office: Office, client: Client, domain: str, zones: None) -> None:
    name = "unanswered.test"
    client.domains.add(office.slug, name)
    office.world.zone(name, "")
    office.world.dns.behave(name, Behaviour(fail="servfail"))
    path = client.reports.path(office.slug, name)
    assert (path.record_state, path.stage, path.next_stage, path.stages) == ("no_answer", None, None, [])
    assert path.summary.startswith("DNS gave no answer for _dmarc.unanswered.test (servfail): the stage")
    with pytest.raises(UnavailableError, match="the stage of unanswered"):
        client.reports.set_path(office.slug, name, PathSettings())
    assert client.reports.rehearse(office.slug, name, RehearsalPolicy(p="reject")).record == ""


def test_a_path_follows_what_dns_says(office: Office, client: Client, domain: str, zones: None) -> None:
    world = office.world
    client.reports.set_path(office.slug, DOMAIN, PathSettings())
    first = client.reports.path(office.slug, DOMAIN)
    assert (first.record_state, first.stage) == ("published", "watch")
    world.zone(DOMAIN, '_dmarc IN TXT "v=DMARC1; p=none"\n_dmarc IN TXT "v=DMARC1; p=reject"\n')
    path = client.reports.path(office.slug, DOMAIN)
    assert (path.record_state, path.stage, path.next_stage, path.stages) == ("several", None, None, [])
    assert path.summary == f"{DOMAIN} publishes several DMARC records, and receivers use none of them: publish one"
    world.zone(DOMAIN, "")
    path = client.reports.path(office.slug, DOMAIN)
    assert (path.record_state, path.stage, path.next_stage) == ("none", None, "watch")
    assert path.stages[0].record == "v=DMARC1; p=none; rua=mailto:d@wrack.example"  # with what it had
    world.zone(DOMAIN, '_dmarc IN TXT "v=DMARC1; p=quarantine; pct=100; rua=mailto:d@wrack.example"\n')
    assert client.reports.path(office.slug, DOMAIN).stage == "quarantine"
    world.context.resolver._cache.clear()
    world.dns.behave(DOMAIN, Behaviour(fail="servfail"))
    path = client.reports.path(office.slug, DOMAIN)
    assert (path.record_state, path.stage, path.published, path.ready) == (
        "no_answer", "quarantine", "v=DMARC1; p=quarantine; pct=100; rua=mailto:d@wrack.example", False,
    )  # fmt: skip
    assert "is not known now; on 20" in path.summary
    world.dns.behave(DOMAIN, Behaviour())


def test_each_report_of_a_file_is_stored(office: Office, client: Client, domain: str, zones: None) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        for number in range(3):
            archive.writestr(f"{number}.xml", aggregate(record(f"192.0.2.{number + 1}", 5), id=f"r-{number}"))
        archive.writestr("damaged.xml", b"<feedback><oops>")
    stored = client.reports.add(office.slug, packed.getvalue())
    assert stored.state == "stored"
    assert stored.oddities[-1] == "The file holds further reports: 2 were stored, 1 set aside"
    assert sorted(each.report_id for each in client.reports.list(office.slug)) == ["r-0", "r-1", "r-2"]
    assert [each.problem for each in client.reports.rejected(office.slug)] == ["The XML is malformed"]
    assert client.reports.add(office.slug, packed.getvalue()).state == "duplicate"


def test_a_policy_is_tried_on_past_mail(office: Office, client: Client, domain: str, zones: None) -> None:
    client.reports.add(
        office.slug,
        aggregate(
            record("192.0.2.9", 70, spf=True), record("192.0.2.150", 8, spf_result="softfail"),
            record("203.0.113.5", 3, spf_result="fail"), record("198.51.100.9", 6, sign="crm.example"),
        ),
    )  # fmt: skip
    judge(office)
    found = client.reports.rehearse(office.slug, DOMAIN, RehearsalPolicy(p="reject"))
    assert {g.verdict: (g.messages, g.rejected) for g in found.groups} == {
        "ours": (78, 8), "unknown": (6, 6), "forwarded": (0, 0), "not_ours": (3, 3),
    }  # fmt: skip
    assert [(s.source, s.verdict, s.rejected) for s in found.to_fix] == [
        ("old-web.wrack.example", "ours", 8), ("crm.example", "unknown", 6),
    ]  # fmt: skip
    assert [(r.receiver, r.rejected, r.ours_hit) for r in found.receivers] == [("tidepost.example", 17, 8)]
    assert found.record == "v=DMARC1; p=reject; rua=mailto:d@wrack.example"
    assert (found.quiet_days, found.days_with_reports) == (2, 1)
    assert "8 of 78 messages of ours" in found.summary
    nothing = client.reports.rehearse(office.slug, DOMAIN, RehearsalPolicy(p="reject", days=1))
    assert "nothing is known" in nothing.summary


def test_a_policy_for_subdomains_that_do_not_exist_hits_these_only(
    office: Office, client: Client, domain: str, zones: None
) -> None:
    office.world.zone(DOMAIN, '@ IN TXT "v=spf1 ip4:192.0.2.0/28 -all"\nshop IN A 192.0.2.80\n')
    client.reports.add(
        office.slug,
        aggregate(
            record("192.0.2.9", 10), record("192.0.2.9", 7, header_from=f"shop.{DOMAIN}"),
            record("203.0.113.5", 4, header_from=f"xyzzy.{DOMAIN}"),
            record("203.0.113.5", 2, header_from=f"off.{DOMAIN}.", spf=True),
        ),
    )  # fmt: skip
    judge(office)
    tried = RehearsalPolicy(p="none", sp="quarantine", np="reject")
    found = client.reports.rehearse(office.slug, DOMAIN, tried)
    assert found.missing_names == [f"xyzzy.{DOMAIN}", f"off.{DOMAIN}"]
    assert found.names_not_measured == 0
    sums = [(g.messages, g.quarantined, g.rejected) for g in found.groups if g.messages]
    assert [sum(column) for column in zip(*sums, strict=True)] == [23, 7, 4]
    assert "np=reject" in found.record
    assert client.reports.rehearse(office.slug, DOMAIN, RehearsalPolicy(p="none", np="")).missing_names == []


def test_streams_that_are_not_aligned_are_named_with_receivers_and_what_changed(
    office: Office, client: Client, domain: str, zones: None
) -> None:
    client.relays.set(office.slug, "mta1", RelayDescription(own=True, hosts=[RelayHost(ip="192.0.2.9")]))
    streams = [StreamPath(name="receipts", relay="mta1", selector="m1"),
               StreamPath(name="news", header_from=f"news.{DOMAIN}", relay="mta1", selector="m1"),
               StreamPath(name="minutes", relay="cobble")]  # fmt: skip
    client.domains.update(office.slug, DOMAIN, DomainChange(streams=streams))
    for back in range(10):
        day = DAY - timedelta(days=back)
        for receiver, good in (("tidepost.example", back > 3), ("kestrelbox.example", True)):
            receipts = record("192.0.2.9", 40, dkim=good)
            news = record("192.0.2.9", 5, header_from=f"news.{DOMAIN}", dkim=True)
            octets = aggregate(receipts, news, day=day, id=f"{receiver}{day}", receiver=receiver)
            assert client.reports.add(office.slug, octets).state == "stored"
    judge(office)
    found = client.reports.streams(office.slug, DOMAIN)
    assert [(each.streams, each.mail.messages, each.mail.neither) for each in found.streams] == [
        (["receipts"], 800, 160), (["news"], 100, 0),
    ]  # fmt: skip
    receipts, news = found.streams
    assert receipts.failing_since == DAY - timedelta(days=3)
    assert [(at.receiver, at.not_aligned, at.messages, at.failing_since) for at in receipts.not_aligned_at] == [
        ("tidepost.example", 160, 400, DAY - timedelta(days=3))
    ]
    assert [(key.selector, key.messages, key.passed) for key in receipts.keys] == [("m1", 640, 640)]
    assert (news.failing_since, news.not_aligned_at, found.not_reported) == (None, [], ["minutes"])


def test_a_subdomain_without_a_record_has_the_path_of_the_domain_above(
    office: Office, client: Client, domain: str, zones: None
) -> None:
    office.world.zone(DOMAIN, '_dmarc IN TXT "v=DMARC1; p=reject; sp=quarantine; rua=mailto:d@wrack.example"\n')
    name = f"news.{DOMAIN}"
    client.domains.add(office.slug, name)
    path = client.reports.path(office.slug, name)
    assert (path.governed_by, path.governing_policy, path.next_stage, path.stages) == (DOMAIN, "quarantine", None, [])
    with pytest.raises(InvalidInputError, match=r"that of wrack\.example holds"):
        client.reports.set_path(office.slug, name, PathSettings())
    tried = client.reports.rehearse(office.slug, name, RehearsalPolicy(p="reject"))
    assert tried.record == "v=DMARC1; p=reject; rua=mailto:d@wrack.example"
    office.world.zone(DOMAIN, '_dmarc IN TXT "v=DMARC1; p=reject"\n_dmarc.news IN TXT "v=DMARC1; p=none"\n')
    path = client.reports.path(office.slug, name)
    assert (path.governed_by, path.stage) == ("", "watch")


def test_subdomains_that_nobody_added_are_one_item(office: Office, client: Client, domain: str, zones: None) -> None:
    many_days(client, office, 3, record("192.0.2.9", 30, header_from=f"shop.{DOMAIN}", dkim=True),
              record("203.0.113.5", 30, header_from=f"xyzzy.{DOMAIN}"))  # fmt: skip
    judge(office)
    found = items(client, office)[f"2 subdomains send below {DOMAIN}, and nobody added them"]
    assert (found.level, found.text) == (
        "investigate",
        f"180 messages since {DAY - timedelta(days=2)}; 90 passed DMARC.",
    )
    client.domains.add(office.slug, f"shop.{DOMAIN}")
    left = items(client, office)
    assert f"xyzzy.{DOMAIN} sends below {DOMAIN}, and nobody added it" in left


def test_mail_that_is_reported_while_a_source_is_judged_is_judged_next(
    office: Office, client: Client, domain: str, zones: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    client.reports.add(office.slug, aggregate(record("192.0.2.9", 7), id="first"))
    look_up = judging._look_up

    def meanwhile(*given: Any) -> None:
        monkeypatch.setattr(judging, "_look_up", look_up)
        client.reports.add(office.slug, aggregate(record("192.0.2.9", 7), id="second"))
        look_up(*given)

    monkeypatch.setattr(judging, "_look_up", meanwhile)
    judge(office)
    assert client.reports.overview(office.slug, DOMAIN).not_judged == 1
    judge(office)
    assert client.reports.overview(office.slug, DOMAIN).not_judged == 0


def send_files(office: Office, client: Client, octets: bytes, name: str = "reports.zip") -> Job:
    job = client.jobs.start_report_files(office.slug, ReportFilesRequest(name=name))
    for number, at in enumerate(range(0, len(octets), 100_000)):
        client.jobs.send(office.slug, job.id, number, octets[at : at + 100_000])
    return client.jobs.run(office.slug, job.id)


def test_an_archive_of_reports_is_stored_by_a_job(office: Office, client: Client, domain: str) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for n in range(45):
            octets = aggregate(record("192.0.2.9", 2), id=f"r{n}")
            archive.writestr(f"r{n}.xml.gz" if n % 2 else f"r{n}.xml", gzip.compress(octets) if n % 2 else octets)
        archive.writestr("again.xml", aggregate(record("192.0.2.9", 2), id="r7"))
        archive.writestr("readme.txt", b"these are the reports of November")
    job = send_files(office, client, packed.getvalue())
    office.world.work()
    job = client.jobs.get(office.slug, job.id)
    assert (job.state, job.result["counts"], job.result["files"]) == (
        "done", {"stored": 45, "duplicate": 1, "rejected": 1}, 47,
    )  # fmt: skip
    assert [problem["file"] for problem in job.result["problems"]] == ["readme.txt"]
    assert job.done == job.total == len(packed.getvalue())
    assert sum(s.mail.messages for s in client.reports.overview(office.slug, DOMAIN).sources) == 90
    assert len(list(client.reports.list(office.slug))) == 45


def many_rows(rows: int) -> bytes:
    return gzip.compress(aggregate(*(record(f"198.51.{n // 250}.{n % 250}", 1) for n in range(rows)), id="large"))


def test_a_large_report_shows_its_progress_and_is_whole_or_not_there(
    office: Office, client: Client, domain: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(storing, "_AT_ONCE", 400)
    monkeypatch.setattr(files, "_LARGE", 1000)
    job = send_files(office, client, many_rows(1000), "large.xml.gz")
    seen: list[float] = []
    advance = store_jobs.advance

    def cancelled_half_way(connection: Connection, held: Any, now: Any, **progress: Any) -> None:
        seen.append(progress["done"])
        if len(seen) == 3:  # two parts are stored
            raise store_jobs.CancelRequested
        advance(connection, held, now, **progress)

    monkeypatch.setattr(store_jobs, "advance", cancelled_half_way)
    office.world.work()
    assert client.jobs.get(office.slug, job.id).state == "cancelled"
    assert 0 == seen[0] < seen[1] < seen[2]
    assert list(client.reports.list(office.slug)) == []
    assert client.reports.overview(office.slug, DOMAIN).sources == []

    monkeypatch.setattr(store_jobs, "advance", advance)
    client.jobs.run(office.slug, job.id)
    office.world.work()
    done = client.jobs.get(office.slug, job.id)
    assert (done.state, done.result["counts"]) == ("done", {"stored": 1})
    (listed,) = client.reports.list(office.slug)
    assert (listed.records, listed.messages, listed.oddities) == (1000, 1000, [])
    assert client.reports.add(office.slug, many_rows(1000)).state == "duplicate"


def test_a_large_report_whose_worker_died_is_stored_anew(
    office: Office, client: Client, domain: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(storing, "_AT_ONCE", 400)
    context, octets = office.world.context, many_rows(1000)
    delete = receiver_reports.delete_reports
    monkeypatch.setattr(receiver_reports, "delete_reports", lambda connection, ids: 0)  # as if it could not any more

    def dies(share: float) -> None:
        raise MemoryError

    with pytest.raises(MemoryError):
        storing.store_in_parts(context, office.tenant.id, octets, dies)
    (half,) = client.reports.list(office.slug)
    assert half.oddities == ["It is still being stored; some of its rows are missing"]
    monkeypatch.setattr(receiver_reports, "delete_reports", delete)
    assert storing.store_in_parts(context, office.tenant.id, octets, lambda share: None).state == "stored"
    (whole,) = client.reports.list(office.slug)
    assert (whole.messages, whole.oddities) == (1000, [])
    assert sum(s.mail.messages for s in client.reports.overview(office.slug, DOMAIN).sources) == 1000


def test_a_worker_that_lost_its_job_sets_no_report_aside(office: Office, client: Client, domain: str) -> None:
    def lost(connection: Connection) -> None:
        raise store_jobs.ClaimLost("Job 7 is not this worker's any more")

    context = replace(office.world.context, store=office.world.context.store.guarded(lost))
    with pytest.raises(store_jobs.ClaimLost):
        store_reports(context, office.tenant.id, [aggregate(record("192.0.2.9", 1))], "upload")
    assert list(client.reports.rejected(office.slug)) == []


def test_a_file_that_holds_nothing_is_said(office: Office, client: Client) -> None:
    empty = io.BytesIO()
    with zipfile.ZipFile(empty, "w"):
        pass
    job = send_files(office, client, empty.getvalue())
    office.world.work()
    failed = client.jobs.get(office.slug, job.id)
    assert (failed.state, failed.error) == ("failed", "The file holds no reports.")


def test_a_deleted_report_leaves_no_trace_in_sums(office: Office, client: Client, domain: str, zones: None) -> None:
    keep = client.reports.add(office.slug, aggregate(record("192.0.2.9", 7), id="keep"))
    gone = client.reports.add(office.slug, aggregate(record("192.0.2.9", 5), record("203.0.113.5", 3), id="gone"))
    judge(office)
    assert gone.id and keep.id
    client.reports.delete(office.slug, gone.id)
    found = client.reports.overview(office.slug, DOMAIN)
    assert sum(s.mail.messages for s in found.sources) == 7
    assert sum(d.ours.messages + d.unknown.messages + d.not_ours.messages for d in found.days) == 7
    with pytest.raises(NotFoundError):
        client.reports.get(office.slug, gone.id)


def test_reports_go_when_the_tenant_wants_it(office: Office, client: Client, domain: str) -> None:
    old = client.reports.add(office.slug, aggregate(record("192.0.2.9", 7), day=DAY - timedelta(days=60)))
    new = client.reports.add(office.slug, aggregate(record("192.0.2.9", 5)))
    assert old.id and new.id
    client.reports.set_retention(office.slug, ReportRetention(row_days=30, original_days=0))
    with office.world.clock.later(timedelta(hours=2)):
        keeping.ask_for_due(office.world.context)
        office.world.work()
    assert [each.id for each in client.reports.list(office.slug)] == [new.id]
    assert not client.reports.get(office.slug, new.id).has_original
    with pytest.raises(NotFoundError):
        b"".join(client.reports.original(office.slug, new.id))


def test_tls_and_failure_reports_are_stored(office: Office, client: Client, domain: str) -> None:
    one = client.reports.add(office.slug, json.dumps(tls(DOMAIN, failed=30)).encode())
    two = client.reports.add(office.slug, FAILURE)
    assert (one.state, one.kind, two.state, two.kind) == ("stored", "tls", "stored", "failure")
    assert one.id and two.id
    whole = client.reports.get(office.slug, one.id)
    assert (whole.messages, whole.passed, whole.tls[0].failed) == (542, 512, 30)
    failure = client.reports.get(office.slug, two.id)
    assert failure.failure is not None
    assert (failure.failure.source_ip, failure.failure.failure) == ("203.0.113.77", "dmarc")
    client.reports.add(office.slug, aggregate(record("203.0.113.77", 5), record("203.0.113.200", 5)))
    client.reports.add(office.slug, FAILURE.replace(b"203.0.113.77", b"198.51.100.1").replace(b"<f1@", b"<f2@"))
    judge(office)
    source = client.reports.source(office.slug, DOMAIN, "203.0.113.0/24")
    assert (source.failures, [each.id for each in source.newest_failures]) == (1, [two.id])


def test_a_receiver_that_stops_is_noticed(office: Office, client: Client, domain: str) -> None:
    for back in range(10):
        for name, stopped in (("tidepost.example", 0), ("kestrelbox.example", 5)):
            day = DAY - timedelta(days=back + stopped)
            client.reports.add(office.slug, aggregate(record("192.0.2.9", 1), receiver=name, day=day))
    found = {each.receiver: each for each in client.reports.receivers(office.slug)}
    assert found["tidepost.example"].silent_since is None
    assert found["tidepost.example"].usual_days == 1
    assert found["kestrelbox.example"].silent_since is not None


def test_reports_come_by_mail_folder_and_post(
    office: Office, client: Client, domain: str, runner: Runner, tmp_path: Path
) -> None:
    folder = tmp_path / "reports"
    folder.mkdir()
    for n in range(3):
        (folder / f"{n}.xml").write_bytes(aggregate(record("192.0.2.9", 1), id=f"f{n}"))
    (folder / "broken.xml").write_bytes(b"<feedback>")
    for file in folder.iterdir():
        os.utime(file, (1_700_000_000, 1_700_000_000))
    assign(office, ownership.FOLDER, str(folder))
    client.feeds.add(office.slug, NewFeed(name="folder", kind="reports", source=FeedSource(path=str(folder))))
    runner.step()
    assert len(list(client.reports.list(office.slug))) == 3
    assert len(list(client.reports.rejected(office.slug))) == 1
    feed = client.feeds.get(office.slug, "folder")
    assert (feed.stored_today, feed.rejected, feed.error) == (3, 1, "")
    runner.step()
    assert len(list(client.reports.list(office.slug))) == 3

    posted = client.feeds.add(office.slug, NewFeed(name="posted", kind="reports"))
    url = f"{office.world.url}/api/v1/tls-reports/{posted.key}"
    body = gzip.compress(json.dumps(tls(DOMAIN)).encode())
    answer = httpx.post(url, content=body, headers={"content-type": "application/tlsrpt+gzip"})
    assert (answer.status_code, answer.json()["stored"]) == (201, 1)
    assert httpx.post(url, content=body).json()["duplicates"] == 1
    other = httpx.post(url, content=aggregate(record("192.0.2.9", 1), id="posted"))
    assert other.json()["rejections"][0]["what"] == "Only TLS reports are taken here"
    assert httpx.post(f"{office.world.url}/api/v1/tls-reports/nobody", content=body).status_code == 404


def test_reports_of_another_tenant_are_not_seen(office: Office, client: Client, other: Office, domain: str) -> None:
    done = client.reports.add(office.slug, aggregate(record("192.0.2.9", 7)))
    them = other.client()
    assert list(them.reports.list(other.slug)) == []
    assert done.id
    with pytest.raises(NotFoundError):
        them.reports.get(other.slug, done.id)


def many_days(
    client: Client, office: Office, days: int, *records: str, until: date = DAY, id: str = "d", receiver: str = ""
) -> None:
    for back in range(days):
        day = until - timedelta(days=back)
        octets = aggregate(*records, day=day, id=f"{id}{day}", receiver=receiver or "tidepost.example")
        assert client.reports.add(office.slug, octets).state == "stored"


def items(client: Client, office: Office) -> dict[str, Any]:
    client.worklist.detect(office.slug)
    return {
        item.title: item
        for item in client.worklist.list(tenant=office.slug)
        if item.kind in ("source", "path", "receiver")
    }


def test_unknown_unaligned_and_broken_sources_are_items(
    office: Office, client: Client, domain: str, zones: None
) -> None:
    many_days(
        client, office, 20, record("192.0.2.9", 40, spf=True, dkim=True), until=DAY - timedelta(days=7), id="good"
    )  # fmt: skip
    many_days(
        client, office, 7, record("192.0.2.9", 40, spf_result="fail"), record("192.0.2.150", 6, spf_result="softfail"),
        record("198.51.100.9", 6, sign="crm.example"), record("203.0.113.5", 90, spf_result="fail"), id="bad",
    )  # fmt: skip
    judge(office)
    found = items(client, office)
    assert {title: item.level for title, item in found.items()} == {
        "Mail of 192.0.2.0/24 does not align with wrack.example any more": "fix",
        "old-web.wrack.example sends as wrack.example without alignment": "fix",
        "Unknown source crm.example sends as wrack.example": "investigate",
    }
    broke = found["Mail of 192.0.2.0/24 does not align with wrack.example any more"]
    assert "0.0 % of 280 messages aligned" in broke.text and "100.0 % of 800" in broke.text
    client.reports.decide(office.slug, DOMAIN, "crm.example", SourceDecision(verdict="not_ours"))
    assert "Unknown source crm.example sends as wrack.example" not in items(client, office)


def test_a_receiver_that_stopped_is_an_item(office: Office, client: Client, domain: str) -> None:
    many_days(client, office, 9, record("192.0.2.9", 1), until=DAY - timedelta(days=6))
    assert [title for title in items(client, office) if "stopped" in title] == ["Tidepost stopped reporting"]


def test_the_path_goes_on_when_its_conditions_are_met_and_back_when_it_breaks(
    office: Office, client: Client, domain: str, zones: None
) -> None:
    path = client.reports.path(office.slug, DOMAIN)
    assert (path.running, path.stage, path.next_stage, path.ready) == (False, "watch", "trial", False)
    path = client.reports.set_path(office.slug, DOMAIN, PathSettings(quiet_days=7, stage_days=7))
    assert path.running
    assert [(s.stage, s.state) for s in path.stages] == [
        ("watch", "current"), ("trial", "next"), ("quarantine", "later"), ("reject", "later"),
    ]  # fmt: skip
    assert path.stages[1].record == "v=DMARC1; p=quarantine; pct=10; t=y; rua=mailto:d@wrack.example"
    many_days(client, office, 10, record("192.0.2.9", 99, spf=True), record("192.0.2.9", 1), until=DAY)
    judge(office)
    with office.world.clock.later(timedelta(days=1)):
        path = client.reports.path(office.slug, DOMAIN)
        assert {c.kind: c.met for c in path.conditions} == {
            "reports": True, "aligned": True, "unknown": True, "days": False,
        }  # fmt: skip
    with office.world.clock.later(timedelta(days=7)):
        many_days(client, office, 7, record("192.0.2.9", 99, spf=True), until=DAY + timedelta(days=7), id="e")
        assert client.reports.path(office.slug, DOMAIN).ready
        assert "wrack.example is ready for trial" in items(client, office)
        client.reports.choose_stage(office.slug, DOMAIN, "trial")
        (dmarc,) = [r for r in client.plans.get(office.slug, DOMAIN).records if r.name == f"_dmarc.{DOMAIN}"]
        assert dmarc.value == path.stages[1].record
        office.world.zone(DOMAIN, f'@ IN TXT "v=spf1 ip4:192.0.2.0/28 -all"\n_dmarc IN TXT "{dmarc.value}"\n')
        office.world.context.resolver.run(_forget(), fresh=True)
        follow_due(office.world.context)
        path = client.reports.path(office.slug, DOMAIN)
        assert (path.stage, path.next_stage, path.ready, path.broken) == ("trial", "quarantine", False, "")
        many_days(client, office, 1, record("192.0.2.9", 99, spf_result="fail"), until=DAY + timedelta(days=8), id="x")
        path = client.reports.path(office.slug, DOMAIN)
        assert path.broken.startswith("99 of 297 messages of ours did not align")
        assert path.return_record == "v=DMARC1; p=none; rua=mailto:d@wrack.example"
        broken = items(client, office)[f"Mail of ours fails at {DOMAIN}, which is at trial"]
        assert (broken.level, broken.record) == ("stop", path.return_record)
        client.reports.stop_path(office.slug, DOMAIN)
        assert not client.reports.path(office.slug, DOMAIN).running


def _forget() -> DnsProgram[None]:
    """Ask again, so that nothing old is remembered."""
    yield (DnsQuestion(f"_dmarc.{DOMAIN}", "TXT"),)


def test_sources_of_reports_that_come_months_late_are_judged_once(office: Office, client: Client, domain: str) -> None:
    client.reports.add(office.slug, aggregate(record("192.0.2.9", 7), day=DAY - timedelta(days=200)))
    judge(office)
    assert client.reports.overview(office.slug, DOMAIN, days=300).not_judged == 0


def test_tls_sessions_are_summed_and_enforce_is_rehearsed(office: Office, client: Client, domain: str) -> None:
    for back, failed in ((0, 0), (1, 30), (2, 0)):
        report = tls(DOMAIN, failed=failed, day=DAY - timedelta(days=back))
        assert client.reports.add(office.slug, json.dumps(report).encode()).state == "stored"
    found = client.reports.tls(office.slug, DOMAIN)
    assert (found.successful, found.failed, len(found.days)) == (3 * 512, 30, 3)
    (failure,) = found.failures
    assert (failure.result, failure.sessions, failure.mx, failure.blocks) == (
        "certificate-expired", 30, [f"mx1.{DOMAIN}"], True,
    )  # fmt: skip
    assert found.rehearsal.kept_back == 30
    assert "30 of 1,566 sessions" in found.rehearsal.summary
    assert [(p.kind, p.text) for p in found.policies] == [("sts", ["version: STSv1"])]
    assert "nothing is known" in client.reports.tls(office.slug, DOMAIN, days=1).rehearsal.summary


def test_a_policy_file_is_served_by_host_and_changes_step_by_step(
    office: Office, client: Client, domain: str, zones: None
) -> None:
    url = f"{office.world.url}/.well-known/mta-sts.txt"
    host = {"host": f"mta-sts.{DOMAIN}"}
    assert httpx.get(url, headers=host).status_code == 404
    inbound = [RelayInbound(priority=10, host="mx1.wrack.example")]
    client.relays.set(office.slug, "office", RelayDescription(own=True, inbound=inbound))
    stream = StreamPath(name="letters", relay="office")
    client.domains.update(office.slug, DOMAIN, DomainChange(streams=[stream]))
    client.plans.set_settings(office.slug, DOMAIN, PlanSettings(mta_sts="testing", mta_sts_host="sts.wrack.example"))
    served = client.plans.serve_sts_policy(office.slug, DOMAIN)
    assert (served.served, served.steps) == (served.planned, [])
    answer = httpx.get(url, headers=host)
    assert (answer.status_code, answer.headers["content-type"]) == (200, "text/plain; charset=utf-8")
    assert answer.text == "version: STSv1\r\nmode: testing\r\nmx: mx1.wrack.example\r\nmax_age: 604800\r\n"
    records = [r.value for r in client.plans.get(office.slug, DOMAIN).records if r.name == f"_mta-sts.{DOMAIN}"]
    assert records == [f"v=STSv1; id={served.id};"]

    client.plans.set_settings(office.slug, DOMAIN, PlanSettings(mta_sts="enforce", mta_sts_host="sts.wrack.example"))
    waiting = client.plans.sts_policy(office.slug, DOMAIN)
    assert ("mode: testing" in waiting.served, [step.kind for step in waiting.steps]) == (True, ["policy"])
    with office.world.clock.later(timedelta(hours=1)):
        client.plans.serve_sts_policy(office.slug, DOMAIN)
    assert "mode: enforce" in httpx.get(url, headers=host).text
    assert client.plans.sts_policy(office.slug, DOMAIN).id != served.id


def test_reports_are_compared_with_what_our_events_say(
    office: Office, client: Client, domain: str, zones: None
) -> None:
    rows = [row(n, kind="delivered", domain=DOMAIN, time=f"{DAY}T09:00:00Z", recipient=f"p{n}@tidepost.example")
            for n in range(40)]  # fmt: skip
    client.events.load(office.slug, ndjson(*rows))
    client.reports.add(office.slug, aggregate(record("192.0.2.9", 200, spf=True, dkim=True)))
    judge(office)
    (found,) = client.reports.overview(office.slug, DOMAIN).by_receiver
    assert (found.receiver, found.reported, found.sent, found.unexplained) == ("tidepost.example", 200, 40, True)
    assert "What receivers reported" in client.worklist.report(office.slug).text


def test_failure_reports_about_a_person_are_exported_and_erased(office: Office, client: Client, domain: str) -> None:
    about = FAILURE.replace(b"Auth-Failure: dmarc", b"Auth-Failure: dmarc\nOriginal-Rcpt-To: Kim@tidepost.example")
    client.reports.add(office.slug, about)
    client.reports.add(office.slug, FAILURE.replace(b"<f1@", b"<f2@"))
    assert len(client.recipients.data(office.slug, "kim@tidepost.example").failures) == 1
    done = client.recipients.erase(office.slug, ErasureRequest(address="kim@tidepost.example"))
    assert done.others == 1
    assert [each.kind for each in client.reports.list(office.slug)] == ["failure"]
    assert client.recipients.data(office.slug, "kim@tidepost.example").failures == []


def test_nothing_of_a_removed_tenant_is_left(world: World) -> None:
    gone = make_office(world)
    with gone.client() as client:
        client.domains.add(gone.slug, DOMAIN)
        client.reports.add(
            gone.slug, aggregate(record("192.0.2.9", 7), record("192.0.2.9", 1, header_from=f"x.{DOMAIN}"))
        )
        client.reports.add(gone.slug, json.dumps(tls(DOMAIN)).encode())
    store = world.context.store
    ids = store.transaction(lambda c: receiver_reports.known_domains(c, gone.tenant.id)).values()

    def count(connection: Connection) -> dict[str, int]:
        of = (
            tables.report_row,
            tables.report_source_day,
            tables.report_receiver_day,
            tables.report_name,
            tables.tls_row,
        )
        return {
            table.name: int(connection.scalar(select(func.count()).where(table.c.domain_id.in_(ids))) or 0)
            for table in of
        }

    assert all(store.transaction(count).values())
    for table in tenant_removal.tables_of_tenants():
        store.transaction(lambda c, table=table: tenant_removal.delete_piece(c, table, gone.tenant.id))  # type: ignore[misc]
    assert not any(store.transaction(count).values())


@pytest.mark.parametrize(
    ("shares", "since"),
    [
        ([], None), ([0.0, 0.0], None), ([0.0, 0.5, 0.9], 1), ([0.5, 0.0, 0.9], 2), ([0.9, 0.9], 0), ([0.9, 0.1], None),
        ([0.0, 0.5, None, 0.9], 1),
    ],
)  # fmt: skip
def test_since_when_a_source_fails(shares: list[float | None], since: int | None) -> None:
    days = {
        DAY + timedelta(days=n): SourceMail(messages=0 if share is None else 10, neither=round(10 * (share or 0)))
        for n, share in enumerate(shares)
    }
    assert failing_since(days) == (None if since is None else DAY + timedelta(days=since))


def test_reports_that_are_stored_together_count_as_if_they_came_alone(
    office: Office, client: Client, other: Office, domain: str, zones: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    other.client().domains.add(other.slug, DOMAIN)
    made = [
        aggregate(
            record("192.0.2.9", n + 1, spf=True), record("192.0.2.9", 2), record(f"203.0.113.{n % 3}", 5),
            record("203.0.113.5", 4, header_from=f"shop{n % 2}.{DOMAIN}"),
            id=f"r{n % 9}", day=DAY - timedelta(days=n % 4), receiver=("tidepost.example", "kestrelbox.example")[n % 2],
        )
        for n in range(12)
    ] + [b"<no/>", json.dumps(tls(DOMAIN)).encode(), FAILURE]  # fmt: skip
    monkeypatch.setattr(storing, "_AT_ONCE", 13)  # so that some are written before others are read
    together = store_reports(office.world.context, office.tenant.id, made, "mail")
    alone = [store_reports(office.world.context, other.tenant.id, [each], "mail")[0] for each in made]
    assert [each.state for each in together] == [each.state for each in alone]
    judge(office)
    one, two = (
        who.client().reports.overview(who.slug, DOMAIN).model_dump(exclude={"sources": {"__all__": {"evidence"}}})
        for who in (office, other)
    )
    assert one == two
    assert one["by_verdict"] and sum(each["messages"] for each in one["unknown_names"]) > 0
    for who in (office, other):
        listed = [
            (each.report_id, each.records, each.messages, each.passed) for each in who.client().reports.list(who.slug)
        ]
        assert len(listed) == sum(each.state == "stored" for each in together)
    for report in client.reports.list(office.slug):
        assert b"".join(client.reports.original(office.slug, report.id)) in made


def test_a_report_that_cannot_be_stored_spoils_no_other(
    office: Office, client: Client, domain: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    plain = receiver_reports.put_originals

    def fails(connection: Connection, originals: list[tuple[int, bytes]]) -> None:
        if any(b"bad" in octets for _, octets in originals):
            raise ValueError("made up")
        plain(connection, originals)

    monkeypatch.setattr(receiver_reports, "put_originals", fails)
    made = [aggregate(record("192.0.2.9", 1), id=name) for name in ("one", "bad", "two")]
    done = store_reports(office.world.context, office.tenant.id, made, "mail")
    assert [each.state for each in done] == ["stored", "rejected", "stored"]
    assert len(list(client.reports.list(office.slug))) == 2


def test_half_a_surrogate_in_a_tls_report_is_no_text(office: Office, client: Client, domain: str) -> None:
    octets = json.dumps({**tls(DOMAIN), "organization-name": "Tide\ud800post"}).encode()
    assert client.reports.add(office.slug, octets).state == "stored"
    assert [each.label for each in client.reports.list(office.slug)] == ["Tide?post"]
