"""Reports of receivers that come by mail: taken by the listener, and whether they are authentic."""

import gzip
import smtplib

import pytest

from rust_gauge.client import Client
from rust_gauge.contract.feeds import FeedSource, NewFeed
from rust_gauge.launch.mariadb import free_port
from rust_gauge.service.feeds.runner import Runner
from rust_gauge.service.receiver_reports.storing import store_report
from rust_gauge.standins.dns_world import Behaviour
from tests.conftest import Office, assign
from tests.core.test_dkim_messages import EDWARDS, published, signed
from tests.reports import DOMAIN, RECEIVER, aggregate, record
from tests.reports import report_mail as mail


def by(domain: str, message: bytes) -> bytes:
    return signed(message, EDWARDS, domain=domain, selector="r1")


@pytest.fixture
def keys(office: Office) -> None:
    for name in (RECEIVER, "osiers.example"):
        office.world.zone(name, f'r1._domainkey IN TXT "{published(EDWARDS)}"\n')
        office.world.dns.behave(name, Behaviour())


CASES = [
    ("signed", by(RECEIVER, mail("a")), "signed", RECEIVER),
    ("signed by a subdomain of its organisation", by(RECEIVER, mail("b", header_from=f"x@mail.{RECEIVER}")), "signed",
     RECEIVER),
    ("signed by somebody else", by("osiers.example", mail("c")), "other", "osiers.example"),
    ("not signed", mail("d"), "unsigned", RECEIVER),
    ("changed on its way", by(RECEIVER, mail("e")).replace(b"This is", b"That is"), "failed", RECEIVER),
    ("a file", gzip.compress(aggregate(record("192.0.2.9", 7), id="f")), "not_mail", ""),
]  # fmt: skip


@pytest.mark.parametrize(("octets", "state", "domain"), [case[1:] for case in CASES], ids=[case[0] for case in CASES])
def test_whether_a_report_is_authentic(
    office: Office, client: Client, keys: None, octets: bytes, state: str, domain: str
) -> None:
    client.domains.add(office.slug, DOMAIN)
    assert client.reports.add(office.slug, octets).state == "stored"
    (found,) = client.reports.list(office.slug)
    assert (found.authentic, found.authentic_domain) == (state, domain)


def test_a_key_without_an_answer_is_not_held_against_a_report(office: Office, client: Client, keys: None) -> None:
    client.domains.add(office.slug, DOMAIN)
    office.world.dns.behave(RECEIVER, Behaviour(fail="servfail"))
    message = signed(mail("g"), EDWARDS, domain=RECEIVER, selector="r2")  # a name that nobody asked for yet
    assert store_report(office.world.context, office.tenant.id, message, "mail").state == "stored"
    office.world.dns.behave(RECEIVER, Behaviour())
    (found,) = client.reports.list(office.slug)
    assert found.authentic == "no_answer"


def test_reports_are_taken_by_smtp(
    office: Office, client: Client, runner: Runner, keys: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    client.domains.add(office.slug, DOMAIN)
    port = free_port()
    monkeypatch.setattr(office.world.context.settings, "smtp_port", port)
    address = f"dmarc@{office.slug}.example"
    assign(office, "mail", address)
    client.feeds.add(office.slug, NewFeed(name="reports", kind="reports", source=FeedSource(addresses=[address])))
    assert runner.start_mail() == port
    with smtplib.SMTP("127.0.0.1", port, timeout=20) as session:
        session.sendmail("", [address], by(RECEIVER, mail("h")))
        session.sendmail("", [address], by(RECEIVER, mail("h")))
        session.sendmail("", [address], b"Subject: hello\r\n\r\nnothing here\r\n")
        with pytest.raises(smtplib.SMTPRecipientsRefused):
            session.sendmail("", [f"other@{office.slug}.example"], mail("i"))
    (found,) = client.reports.list(office.slug)
    assert (found.arrived_by, found.authentic, found.messages) == ("mail", "signed", 7)
    (aside,) = client.reports.rejected(office.slug)
    assert aside.problem == "No report found"
    assert client.feeds.get(office.slug, "reports").rejected == 1
