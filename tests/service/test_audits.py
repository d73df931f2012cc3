"""Audits over the service: snapshots, history, streams, trials, messages, settings, schedule, batches."""

import gzip
from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import Connection

from rust_gauge.client import Client, InvalidInputError, NotFoundError
from rust_gauge.contract.audits import AuditSettings, BulkRule, DnsListSetting
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.core.dkim import sign_message
from rust_gauge.service.domains import audits, batches
from rust_gauge.service.worker import tick
from rust_gauge.standins.dns_world import Behaviour
from rust_gauge.store import jobs as store_jobs
from rust_gauge.store import tables
from tests.conftest import Office, forget_others
from tests.core.test_dkim_messages import MESSAGE, published, rsa_key
from tests.core.test_reports import ROW, report
from tests.core.test_tag_lists import RSA_2048
from tests.rows import ndjson, row

GOOD = '@ IN MX 10 mx\nmx IN A 192.0.2.25\n_dmarc IN TXT "v=DMARC1; p=reject"\n'


def serve(office: Office, spf: str, more: str = GOOD) -> str:
    name = f"{office.slug}.example"
    office.world.zone(name, f'@ IN TXT "{spf}"\n' + more)
    return name


def watched(office: Office, client: Client, spf: str = "v=spf1 ip4:192.0.2.0/24 -all", more: str = GOOD) -> str:
    name = serve(office, spf, more)
    client.domains.add(office.slug, name)
    return name


def test_an_audit_holds_what_pages_show(office: Office, client: Client) -> None:
    name = watched(office, client, "v=spf1 ip4:192.0.2.0/24 a:mx.{0} include:spf.{0} -all".format(f"{office.slug}.example"),
                   GOOD + 'spf IN TXT "v=spf1 ip4:198.51.100.0/28 -all"\n')  # fmt: skip
    audit = client.audits.run(office.slug, name)
    assert audit.spf is not None
    assert (audit.spf.lookups, audit.spf.ipv4_addresses) == (2, 256 + 16)
    assert [node.term for node in audit.spf.nodes] == [f"a:mx.{name}", f"include:spf.{name}"]
    assert [(o.inner, o.outer) for o in audit.spf.overlaps] == [("192.0.2.25/32", "192.0.2.0/24")]
    assert audit.dmarc is not None
    assert audit.dmarc.by_list.policy == "reject"
    assert {check.key for check in audit.checks} >= {"spf", "dkim", "dmarc", "mx", "bulk"}
    assert client.audits.newest(office.slug, name) == audit


def test_a_changed_record_is_in_the_history_and_in_the_comparison(office: Office, client: Client) -> None:
    name = watched(office, client, "v=spf1 +all")
    first = client.audits.run(office.slug, name)
    with pytest.raises(NotFoundError):
        client.audits.compare(office.slug, name)
    serve(office, "v=spf1 -all")
    second = client.audits.run(office.slug, name)
    done = client.audits.compare(office.slug, name)
    assert (done.before.id, done.after.id) == (first.id, second.id)
    (change,) = done.records
    assert (change.before, change.after) == (["v=spf1 +all"], ["v=spf1 -all"])
    assert "spf-everyone" in {finding.rule for finding in done.gone}
    assert done.appeared == []
    assert "fault" in [before.state for before, after in done.checks if before.key == after.key == "spf"]
    entries = list(client.audits.history(office.slug, name))
    assert {entry.kind for entry in entries} == {"record", "gone"}
    record = next(entry for entry in entries if entry.kind == "record")
    assert record.change == change
    assert client.audits.compare(office.slug, name, before=second.id, after=first.id).records[0].after == [
        "v=spf1 +all"
    ]


def test_a_server_that_fails_for_a_while_changes_no_record(office: Office, client: Client) -> None:
    name = watched(office, client)
    client.audits.run(office.slug, name)
    office.world.dns.behave(name, Behaviour(fail="servfail"))
    failed = client.audits.run(office.slug, name)
    office.world.dns.behave(name, Behaviour())
    client.audits.run(office.slug, name)
    assert "dns-no-answer" in {finding.rule for finding in failed.findings}
    assert not {"spf-missing", "dmarc-missing", "mx-missing"} & {finding.rule for finding in failed.findings}
    assert [entry.kind for entry in client.audits.history(office.slug, name) if entry.kind == "record"] == []


def test_a_record_is_gone_only_if_it_was_asked_for(office: Office, client: Client) -> None:
    name = watched(office, client)
    client.domains.update(office.slug, name, DomainChange(selectors=["s1", "s2"]))
    client.audits.run(office.slug, name)
    client.domains.update(office.slug, name, DomainChange(selectors=[]))
    client.audits.run(office.slug, name)
    entries = list(client.audits.history(office.slug, name))
    assert [entry.title for entry in entries if "_domainkey" in entry.title and entry.kind == "record"] == []


def test_audits_by_schedule_are_quiet_until_something_changes(office: Office, client: Client) -> None:
    world = office.world
    forget_others(office)
    name = watched(office, client)
    client.audits.run(office.slug, name)
    tick(world.context)
    world.work()
    with world.clock.later(timedelta(hours=26)):
        tick(world.context)
        world.work()
        (only,) = client.audits.list(office.slug, name)
        assert only.checked_at == world.clock()
        serve(office, "v=spf1 ~all")
        with world.clock.later(timedelta(hours=26)):
            tick(world.context)
            world.work()
            newest = client.audits.newest(office.slug, name)
            assert newest.cause == "schedule"
            assert len(list(client.audits.list(office.slug, name))) == 2


def test_a_domain_may_be_audited_only_when_asked(office: Office, client: Client) -> None:
    name = watched(office, client)
    forget_others(office)
    client.domains.update(office.slug, name, DomainChange(audit_every_hours=0))
    with office.world.clock.later(timedelta(days=40)):
        tick(office.world.context)
        office.world.work()
    assert list(client.audits.list(office.slug, name)) == []


def test_streams_are_tried_and_their_mail_is_counted(office: Office, client: Client) -> None:
    name = watched(office, client)
    stream = StreamPath(
        name="newsletter", envelope="bounce.relay.example", dkim_domain="relay.example", relay="driftline"
    )
    changed = client.domains.update(office.slug, name, DomainChange(streams=[stream]))
    assert changed.streams[0].header_from == name
    client.events.load(
        office.slug, ndjson(*[row(n, domain=name, stream="newsletter", kind="accepted") for n in range(7)])
    )
    audit = client.audits.run(office.slug, name)
    (result,) = audit.streams
    assert (result.by_list.result, result.by_list.disposition) == ("fail", "reject")
    finding = next(f for f in audit.findings if f.rule == "stream-not-aligned")
    assert (finding.scope, finding.mail) == ("stream:newsletter", 7)


@pytest.mark.parametrize(
    "change",
    [
        DomainChange(streams=[StreamPath(name="x", envelope="no dots")]),
        DomainChange(streams=[StreamPath(name="x", ips=["300.1.1.1"])]),
    ],
)
def test_a_stream_that_cannot_be_is_refused(office: Office, client: Client, change: DomainChange) -> None:
    name = watched(office, client)
    with pytest.raises(InvalidInputError):
        client.domains.update(office.slug, name, change)
    assert client.domains.get(office.slug, name).streams == []


def test_keys_are_known_from_when_they_were_first_seen_and_where_else(office: Office, client: Client) -> None:
    key = f's1._domainkey IN TXT "v=DKIM1; p={RSA_2048[:200]}" "{RSA_2048[200:]}"\n'
    name = serve(office, "v=spf1 -all", GOOD + key)
    other = f"other-{office.slug}.example"
    office.world.zone(other, '@ IN TXT "v=spf1 -all"\n' + GOOD + key)
    for each in (name, other):
        client.domains.add(office.slug, each, selectors=["s1"])
    first = client.audits.run(office.slug, name).keys[0].first_seen
    client.audits.run(office.slug, other)
    with office.world.clock.later(timedelta(days=500)):
        audit = client.audits.run(office.slug, name)
    assert audit.keys[0].first_seen == first
    rules = {finding.rule: finding for finding in audit.findings}
    assert rules["dkim-key-shared"].evidence == [other]
    assert "500 days" in rules["dkim-key-old"].title


def test_lists_of_the_tenants_own_choice_are_asked(office: Office, client: Client) -> None:
    name = watched(office, client)
    zone = f"bl-{office.slug}.example"
    office.world.zone(zone, "2.0.0.127 IN A 127.0.0.2\n25.2.0.192 IN A 127.0.0.4\n")
    settings = client.audits.settings(office.slug)
    assert settings.bulk_rules
    chosen = DnsListSetting(zone=zone, label="Harbour list", codes={"127.0.0.4": "open relay"})
    saved = client.audits.set_settings(office.slug, settings.model_copy(update={"lists": [chosen]}))
    assert saved.lists == [chosen]
    client.domains.update(office.slug, name, DomainChange(streams=[StreamPath(name="all", ips=["192.0.2.25"])]))
    audit = client.audits.run(office.slug, name)
    finding = next(f for f in audit.findings if f.rule == "listed-ip")
    assert finding.evidence == ["127.0.0.4: open relay"]
    assert [(each.state, each.label) for each in audit.lists] == [("listed", "Harbour list")]
    with pytest.raises(InvalidInputError):
        bad = AuditSettings.model_construct(
            lists=[DnsListSetting.model_construct(zone="nodot", kind="ip", label="", codes={})]
        )
        client.audits.set_settings(office.slug, bad)


def test_bulk_rules_are_judged_by_what_was_measured(office: Office, client: Client) -> None:
    name = watched(office, client)
    rows = [row(n, domain=name, kind="delivered") for n in range(300)]
    rows += [row(n, domain=name, kind="complained") for n in range(2)]
    client.events.load(office.slug, ndjson(*rows))
    points = {point.key: point for point in client.audits.run(office.slug, name).bulk}
    assert points["complaints-ceiling"].state == "not_met"
    assert points["one-click"].state == "not_applicable", "it is required from 5,000 messages a day on"
    assert (points["dmarc"].state, points["ptr"].state) == ("not_applicable", "unmeasured")


def test_tls_is_judged_by_what_logs_and_feeds_tell(office: Office, client: Client) -> None:
    name = watched(office, client)
    settings = client.audits.settings(office.slug)
    rule = BulkRule(key="tls", text="TLS", measure="tls", since="2026-01-01", limit=0.99)
    client.audits.set_settings(office.slug, settings.model_copy(update={"bulk_rules": [rule]}))
    client.events.load(office.slug, ndjson(*(row(n, domain=name) for n in range(50))))

    def point() -> tuple[str, str]:
        (found,) = client.audits.run(office.slug, name).bulk
        return found.state, found.detail

    assert point()[0] == "unmeasured", "deliveries that do not say so are no evidence"
    client.events.load(office.slug, ndjson(*(row(n, domain=name, tags=["tls"]) for n in range(100, 299))))
    assert point()[0] == "met"
    client.events.load(office.slug, ndjson(*(row(n, domain=name, tags=["no-tls"]) for n in range(300, 310))))
    state, detail = point()
    assert (state, "199 of 209 deliveries" in detail) == ("not_met", True), detail


# Would this pass?


def test_an_address_is_tried_against_what_is_published_and_before_it_is(office: Office, client: Client) -> None:
    name = serve(office, "v=spf1 ip4:192.0.2.0/24 -all")
    passed = client.audits.check_spf(office.slug, "192.0.2.9", mail_from=f"a@{name}", helo=f"mx.{name}")
    assert (passed.mail_from.result, passed.mail_from.term) == ("pass", "ip4:192.0.2.0/24")
    assert passed.helo is not None
    assert passed.helo.result == "none"
    other = client.audits.check_spf(office.slug, "198.51.100.9", mail_from=f"a@{name}")
    assert (other.mail_from.result, other.mail_from.steps[-1].term) == ("fail", "-all")
    record = "v=spf1 ip4:198.51.100.0/24 -all"
    assert (
        client.audits.check_spf(office.slug, "198.51.100.9", mail_from=f"a@{name}", record=record).mail_from.result
        == "pass"
    )
    assert client.audits.check_spf(office.slug, "192.0.2.9", helo=name).postmaster
    with pytest.raises(InvalidInputError):
        client.audits.check_spf(office.slug, "192.0.2", mail_from=f"a@{name}")


def test_a_message_is_checked_with_the_reason_for_each_result(office: Office, client: Client) -> None:
    key = published(rsa_key())
    name = serve(office, "v=spf1 ip4:192.0.2.0/24 -all", GOOD + f'odd7._domainkey IN TXT "{key[:250]}" "{key[250:]}"\n')
    raw = MESSAGE.replace(b"@d.example>", b"@" + name.encode() + b">")
    message = sign_message(raw, rsa_key(), domain=name, selector="odd7")
    good = client.audits.check_message(office.slug, message, ip="192.0.2.9", mail_from=f"b@{name}")
    assert (good.header_from, good.signatures[0].result, [each.result for each in good.dmarc]) == (
        name,
        "pass",
        ["pass", "pass"],
    )
    changed = message.replace(b"leaves", b"sinks")
    bad = client.audits.check_message(office.slug, changed, ip="198.51.100.1", mail_from="b@other.example")
    assert (bad.signatures[0].reason, bad.dmarc[0].result, bad.dmarc[0].disposition) == (
        "body-changed",
        "fail",
        "reject",
    )
    assert client.audits.check_message(office.slug, message).spf is None
    assert client.audits.check_message(office.slug, b"no header\n").problems
    client.domains.add(office.slug, name)
    assert client.audits.run(office.slug, name).keys == []
    client.audits.check_message(office.slug, message)
    assert [(key.selector, key.source) for key in client.audits.run(office.slug, name).keys] == [("odd7", "message")]
    _one_click(office, client, name, raw)
    with pytest.raises(InvalidInputError):
        client.audits.check_message(office.slug, b" ")
    with pytest.raises(InvalidInputError):
        client.audits.check_message(office.slug, message, ip="nonsense")


def _one_click(office: Office, client: Client, name: str, raw: bytes) -> None:
    """The bulk-sender rule goes by the newest message that was examined, and by what its signature covers."""
    rows = [row(n, domain=name, kind="delivered", recipient=f"p{n}@tidepost.example") for n in range(600)]
    client.events.load(office.slug, ndjson(*rows))
    settings = client.audits.settings(office.slug)
    rule = BulkRule(key="one-click", text="One click", measure="one_click", since="2026-01-01", above=1)
    client.audits.set_settings(office.slug, settings.model_copy(update={"bulk_rules": [rule]}))

    def state() -> str:
        return next(point for point in client.audits.run(office.slug, name).bulk if point.key == "one-click").state

    assert state() == "not_met"  # the newest message had no such fields
    offer = b"List-Unsubscribe: <https://d.example/u>\r\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\r\n" + raw
    fields = ["from", "list-unsubscribe", "list-unsubscribe-post"]
    signed = sign_message(offer, rsa_key(), domain=name, selector="odd7", headers=fields)
    assert client.audits.check_message(office.slug, signed).one_click
    assert state() == "met"
    half = sign_message(offer, rsa_key(), domain=name, selector="odd7", headers=fields[:2])
    assert not client.audits.check_message(office.slug, half).one_click
    assert state() == "not_met"


def test_selectors_in_a_feedback_report_are_looked_at_from_then(office: Office, client: Client) -> None:
    key = published(rsa_key())
    name = watched(office, client, more=GOOD + f's9._domainkey IN TXT "{key[:250]}" "{key[250:]}"\n')
    row = ROW.format(ip="192.0.2.9", count=7).replace("marram.example", name).replace("S1", "s9")
    done = client.audits.read_feedback_report(
        office.slug, gzip.compress(report(row, ROW.format(ip="192.0.2.8", count=2)))
    )
    assert (done.reporter, done.messages, done.aligned) == ("Tidepost", 9, 9)
    assert [(source.source_ip, source.messages) for source in done.sources] == [("192.0.2.9", 7), ("192.0.2.8", 2)]
    assert done.sources[0].signatures == [f"{name} s9 pass", "driftline.example (no selector told) fail"]
    assert [(selector.domain, selector.selector) for selector in done.new_selectors] == [
        (name, "s9")
    ]  # of watched domains only
    again = client.audits.read_feedback_report(office.slug, report(row))
    assert again.kind == "aggregate"
    assert again.new_selectors == []
    assert [(key.selector, key.source) for key in client.audits.run(office.slug, name).keys] == [("s9", "report")]
    with pytest.raises(InvalidInputError, match="No report found"):
        client.audits.read_feedback_report(office.slug, b"hello")


# Many domains


def test_a_batch_runs_as_a_job_and_one_bad_name_spoils_nothing(office: Office, client: Client) -> None:
    names = [f"b{n}.{office.slug}.example" for n in range(60)]
    office.world.zone(f"{office.slug}.example", "".join(f'b{n} IN TXT "v=spf1 -all"\n' for n in range(60)))
    again = [names[0].upper(), f"{names[0]}."]  # the same domain, which is audited once
    made = client.audits.start_batch(office.slug, [*names, *again, "no domain", "dead.example"])
    assert (made.state, made.total) == ("waiting", 62)
    office.world.work()
    done = client.jobs.get(office.slug, made.id)
    assert (done.state, done.done) == ("done", 62)
    results = list(client.audits.batch_results(office.slug, made.id))
    assert [result.name for result in results] == [*names, "no domain", "dead.example"]
    assert results[60].problem
    assert {finding.rule for finding in results[0].findings} >= {"dmarc-missing", "mx-missing"}
    assert "dns-name-missing" in {finding.rule for finding in results[61].findings}
    assert any(reason.startswith("MTA-STS") or "not" in reason for reason in results[0].not_checked)
    assert [batch.id for batch in client.jobs.list(office.slug, kind="batch")] == [made.id]


def test_a_batch_is_stopped_and_resumes_where_it_was(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(batches, "CHUNK", 5)
    monkeypatch.setattr(batches, "AT_ONCE", 1)
    made = client.audits.start_batch(office.slug, [f"c{n}.example" for n in range(40)])
    add = store_jobs.add_results

    def add_and_ask_to_stop(connection: Connection, id: int, rows: list[dict[str, Any]]) -> int:
        done = add(connection, id, rows)
        if rows:
            connection.execute(tables.job.update().where(tables.job.c.id == id).values(cancel_requested=True))
        return done

    monkeypatch.setattr(store_jobs, "add_results", add_and_ask_to_stop)
    office.world.work()
    stopped = client.jobs.get(office.slug, made.id)
    assert (stopped.state, stopped.done) == ("cancelled", 5)
    monkeypatch.setattr(store_jobs, "add_results", add)
    assert client.jobs.run(office.slug, made.id).state == "waiting"
    office.world.work()
    assert client.jobs.get(office.slug, made.id).state == "done"
    assert len({result.number for result in client.audits.batch_results(office.slug, made.id)}) == 40


def test_a_batch_that_waits_is_stopped_at_once(office: Office, client: Client) -> None:
    made = client.audits.start_batch(office.slug, ["a.example"])
    assert client.jobs.cancel(office.slug, made.id).state == "cancelled"
    office.world.work()
    assert client.jobs.get(office.slug, made.id).done == 0
    with pytest.raises(NotFoundError):
        client.jobs.get(office.slug, made.id + 10_000)


def test_a_slow_server_spoils_no_other_domain_of_a_batch(office: Office, client: Client) -> None:
    good, slow = f"good-{office.slug}.example", f"slow-{office.slug}.example"
    for name in (good, slow):
        office.world.zone(name, '@ IN TXT "v=spf1 -all"\n' + GOOD)
    office.world.dns.behave(slow, Behaviour(fail="silent"))
    made = client.audits.start_batch(office.slug, [slow, good])
    office.world.work()
    rules = {r.name: {f.rule for f in r.findings} for r in client.audits.batch_results(office.slug, made.id)}
    assert rules[good] <= {"dmarc-no-reports", "dns-one-server"}
    assert "dns-no-answer" in rules[slow]
    assert not {"spf-missing", "dmarc-missing", "mx-missing"} & rules[slow]


def test_the_built_in_rules_for_bulk_mail_are_dated_and_readable() -> None:
    rules = audits.bulk_rules(None)
    assert len(rules) >= 8
    assert all(rule.since >= "2020" for rule in rules)
