"""The worklist over real parts: found, told by mail, chat and webhook, acknowledged, measured again, closed; lines, the pause."""

import io
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import replace
from datetime import datetime, timedelta
from email.parser import BytesParser
from email.policy import default
from pathlib import Path
from typing import Any

import pytest
from PIL import Image
from sqlalchemy import Connection

from rust_gauge.client import Client, ClientError, InvalidInputError, NotFoundError, ProblemResponse
from rust_gauge.contract.audits import AuditSettings, DnsListSetting
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.contract.relays import RelayDescription, RelayHost, RelayLines
from rust_gauge.contract.suppression import Sending
from rust_gauge.contract.worklist import AlertChannel, AlertSettings, StreamPauseChange, WorkAct
from rust_gauge.core.worklist import resolve
from rust_gauge.service import worker
from rust_gauge.service.client_reports import mailing
from rust_gauge.service.client_reports.pictures import MOST, WIDTH, Band, draw
from rust_gauge.service.readings import computation as readings
from rust_gauge.service.runtime.context import Context, make_context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.worklist import items as worklist
from rust_gauge.standins.mail_host import MailHost
from rust_gauge.store import readings as store_readings
from rust_gauge.store import worklist as store_worklist
from tests.conftest import TODAY, Office
from tests.receiver import Receiver, receiving
from tests.rows import bounce, ndjson, row

DOMAIN = "news.d.example"
SOON = AlertSettings(wait_minutes=0, resolve_hours=0)


def mail(office: Office, client: Client, days: int = 12, each: int = 100, bad: int = 0, **changes: Any) -> None:
    """Some days of mail; `bad` messages of the last three days bounce as `changes` says."""
    rows = []
    for back in range(days):
        at = (TODAY - timedelta(days=back, hours=1)).isoformat()
        for n in range(each):
            base = {"time": at, "message_id": f"{back}.{n}"}
            rows.append(bounce(n, **base, **changes) if back < 3 and n < bad else row(n, **base))
    client.events.load(office.slug, ndjson(*rows))
    office.world.work()


def copy_items(office: Office, times: int) -> None:
    """Add items like those that are there."""

    def write(connection: Connection) -> None:
        for each in store_worklist.items(connection, [office.tenant.id]):
            item = store_worklist.item_of(each)
            for number in range(times):
                copied = replace(item.incident, key=f"{item.incident.key}/{number}")
                store_worklist.add(connection, office.tenant.id, replace(item, incident=copied))

    office.world.context.store.transaction(write)


def look(office: Office) -> None:
    worklist.detect(office.world.context, office.tenant)


def test_a_list_gone_bad_is_one_item_with_its_remedy_and_closes_when_it_is_measured_well(
    office: Office, client: Client
) -> None:
    client.worklist.set_settings(office.slug, SOON)
    mail(office, client, bad=40)
    look(office)
    look(office)
    items = client.worklist.list(tenant=office.slug)
    (pull,) = [item for item in items if item.kind == "pull"]
    assert (pull.name, pull.state, pull.level) == (DOMAIN, "open", "stop")
    assert "invalid addresses" in pull.title.lower()
    assert "newsletter" in pull.remedy
    assert pull.since.date() >= TODAY.date() - timedelta(days=3)
    assert pull.mail > 200
    details = client.worklist.act(office.slug, pull.id, WorkAct(act="recheck"))
    assert details.state == "open"
    assert details.steps[-1].what == "rechecked"
    assert details.steps[-1].text.startswith("Still a problem")
    with office.world.clock.later(timedelta(days=25)):
        mail_later = [
            row(n, time=(TODAY + timedelta(days=day)).isoformat(), message_id=f"later{day}.{n}")
            for day in range(1, 25)
            for n in range(100)
        ]
        client.events.load(office.slug, ndjson(*mail_later))
        office.world.work()
        details = client.worklist.act(office.slug, pull.id, WorkAct(act="recheck"))
        assert details.state == "resolved"
        assert "the problem is gone" in details.steps[-1].text


def test_looks_at_the_same_time_find_each_incident_once(office: Office, client: Client) -> None:
    client.worklist.set_settings(office.slug, SOON)
    mail(office, client, bad=40)
    with ThreadPoolExecutor(6) as pool:
        list(pool.map(lambda _: client.worklist.detect(office.slug), range(12)))
    look(office)
    (pull,) = client.worklist.list(tenant=office.slug)
    steps = [step.what for step in client.worklist.get(office.slug, pull.id).steps]
    assert (steps.count("found"), steps.count("opened")) == (1, 1)


def test_a_fault_in_the_records_is_closed_by_measuring_again_after_it_was_mended(
    office: Office, client: Client
) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, '@ IN TXT "v=spf1 ip4:192.0.2.1 -all"\n@ IN TXT "v=spf1 ip4:192.0.2.2 -all"\n')
    client.domains.add(office.slug, name)
    client.audits.run(office.slug, name)
    client.worklist.set_settings(office.slug, SOON)
    look(office)
    look(office)
    (fault,) = [
        item
        for item in client.worklist.list(tenant=office.slug)
        if "spf-several-records" in str(item.id) or "2 SPF records" in item.title
    ]
    assert fault.record == "v=spf1 ip4:192.0.2.1 ip4:192.0.2.2 -all"
    office.world.zone(name, f'@ IN TXT "{fault.record}"\n')
    details = client.worklist.act(office.slug, fault.id, WorkAct(act="recheck"))
    assert details.state == "resolved"


ZONE = '@ IN TXT "v=spf1 ip4:192.0.2.1 -all"\n'
TWO = ZONE + '@ IN TXT "v=spf1 ip4:192.0.2.2 -all"\n'
REFUSED = {"reply_code": 550, "diagnostic": "550 5.7.26 mail is not authenticated"}


def test_a_broken_record_and_the_mail_that_fails_by_it_are_one_incident_told_once_and_mended_once(
    office: Office, client: Client
) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, ZONE)
    client.domains.add(office.slug, name)
    client.audits.run(office.slug, name)
    client.worklist.set_settings(office.slug, SOON)
    mail(office, client, bad=40, domain=name, **REFUSED)
    look(office)
    look(office)
    (first,) = [item for item in client.worklist.list(tenant=office.slug) if item.name == name]
    assert (first.kind, first.state) == ("pull", "open")
    office.world.zone(name, TWO)
    client.audits.run(office.slug, name)
    look(office)
    (item,) = [item for item in client.worklist.list(tenant=office.slug) if item.name == name]
    assert (item.id, item.kind, item.record) == (first.id, "fault", "v=spf1 ip4:192.0.2.1 ip4:192.0.2.2 -all")
    assert any("authentication" in line for line in item.evidence)
    assert any("changed: was" in line for line in item.evidence)
    steps = [step.what for step in client.worklist.get(office.slug, item.id).steps]
    assert steps.count("opened") == 1
    office.world.zone(name, f'@ IN TXT "{item.record}"\n')
    client.audits.run(office.slug, name)
    client.worklist.set_settings(office.slug, SOON.model_copy(update={"resolve_hours": 2}))
    look(office)
    (still,) = [item for item in client.worklist.list(tenant=office.slug) if item.name == name]
    assert (still.id, still.kind, still.state) == (item.id, "pull", "open"), (
        "the record is right, the newest mail is not"
    )
    client.worklist.set_settings(office.slug, SOON)
    assert client.worklist.act(office.slug, item.id, WorkAct(act="recheck")).state == "open"
    with office.world.clock.later(timedelta(hours=1)):
        good = [
            row(n, domain=name, message_id=f"g{n}", time=(TODAY + timedelta(seconds=n)).isoformat()) for n in range(400)
        ]
        client.events.load(office.slug, ndjson(*good))
        office.world.work()
        fixed = client.worklist.act(office.slug, item.id, WorkAct(act="recheck"))
        assert (fixed.state, "of the newest" in fixed.steps[-1].text) == ("resolved", True)
    with office.world.clock.later(timedelta(days=1)):
        look(office)
        look(office)
        # The reading remembers the failures for days: they only fade. And the change that fixed it is not reported.
        assert [item.kind for item in client.worklist.list(tenant=office.slug) if item.name == name] == []
    with office.world.clock.later(timedelta(days=3)):
        rows = [
            bounce(
                n, time=(TODAY + timedelta(days=3, hours=-1)).isoformat(), domain=name, message_id=f"a{n}", **REFUSED
            )
            for n in range(60)
        ]
        client.events.load(office.slug, ndjson(*rows))
        office.world.work()
        look(office)
        look(office)
        again = [item.kind for item in client.worklist.list(tenant=office.slug) if item.name == name]
        assert again == ["pull"], "mail fails again, for another reason"


def test_a_changed_record_is_told_for_a_day_with_what_it_was(
    office: Office, client: Client, told: tuple[Context, Receiver, list[Any]]
) -> None:
    _, receiver, _ = told
    name = f"{office.slug}.example"
    way = AlertChannel(kind="chat", name="c", url=receiver.url, template='{"say": "{what}: {title}"}')
    client.worklist.set_settings(office.slug, SOON.model_copy(update={"channels": [way]}))
    office.world.zone(name, ZONE)
    client.domains.add(office.slug, name)
    client.audits.run(office.slug, name)
    office.world.zone(name, '@ IN TXT "v=spf1 ip4:192.0.2.9 -all"\n')
    client.audits.run(office.slug, name)
    office.world.work()  # the audit asked for a look
    look(office)
    (item,) = [item for item in client.worklist.list(tenant=office.slug) if item.kind == "record"]
    assert item.title == f"{name} TXT changed"
    assert item.record == "v=spf1 ip4:192.0.2.1 -all"
    assert "192.0.2.9" in item.evidence[0]
    with office.world.clock.later(timedelta(hours=25)):
        look(office)
        look(office)
        assert client.worklist.get(office.slug, item.id).state == "resolved"
        office.world.work()
    says = [body["say"] for body in receiver.bodies() if "say" in body and name in body["say"]]
    assert [say for say in says if "TXT changed" in say] == [f"New: {name} TXT changed"]


def test_a_listed_address_is_one_incident_of_its_relay_however_many_domains_send_from_it(
    office: Office, client: Client
) -> None:
    names = [f"a.{office.slug}.example", f"b.{office.slug}.example"]
    office.world.zone(f"{office.slug}.example", 'a IN TXT "v=spf1 ip4:192.0.2.77 -all"\nb IN TXT "v=spf1 -all"\n')
    zone = f"{office.slug}-list.example"
    tests = '2.0.0.127 IN A 127.0.0.2\n2.0.0.127 IN TXT "test"\n'
    listed = '77.2.0.192 IN A 127.0.0.2\n77.2.0.192 IN TXT "mail to nobody"\n'
    office.world.zone(zone, tests + listed)
    client.relays.set(office.slug, "driftline", RelayDescription(hosts=[RelayHost(ip="192.0.2.77")]))
    client.audits.set_settings(office.slug, AuditSettings(lists=[DnsListSetting(zone=zone)]))
    for name in names:
        client.domains.add(office.slug, name)
        stream = {"name": "letters", "relay": "driftline", "header_from": name, "ips": ["192.0.2.77"]}
        client.domains.update(office.slug, name, DomainChange(streams=[StreamPath.model_validate(stream)]))
        client.audits.run(office.slug, name)
    client.worklist.set_settings(office.slug, SOON)
    look(office)
    look(office)
    (item,) = [item for item in client.worklist.list(tenant=office.slug) if "list" in item.title]
    assert (item.subject, item.name) == ("relay", "driftline")
    assert item.evidence[0] == f"sends for {names[0]}, {names[1]}"
    office.world.zone(zone, tests)
    assert client.worklist.act(office.slug, item.id, WorkAct(act="recheck")).state == "resolved"


def test_an_inherited_policy_is_one_incident_of_its_record_however_many_subdomains_it_holds_for(
    office: Office, client: Client
) -> None:
    owner = f"{office.slug}.example"
    names = [owner, f"a.{owner}", f"b.{owner}"]
    spf = "".join(f'{label} IN TXT "v=spf1 ip4:192.0.2.7 -all"\n' for label in ("@", "a", "b"))
    policy = '_dmarc IN TXT "v=DMARC1; p={}; rua=mailto:dmarc@{}"\n'
    office.world.zone(owner, spf + policy.format("rejct", owner).replace("; rua", "; sp=x; rua"))
    for name in names:
        client.domains.add(office.slug, name)
        client.audits.run(office.slug, name)
    client.worklist.set_settings(office.slug, SOON)
    look(office)
    look(office)
    (item,) = [item for item in client.worklist.list(tenant=office.slug) if "DMARC" in item.title]
    assert (item.subject, item.name) == ("domain", owner)
    assert item.evidence[0] == f"holds for {names[1]}, {names[2]}"
    office.world.zone(owner, spf + policy.format("reject", owner))
    assert client.worklist.act(office.slug, item.id, WorkAct(act="recheck")).state == "resolved"


def test_what_is_mended_closes_by_the_newest_mail_and_opens_again_when_it_rises(office: Office, client: Client) -> None:
    client.worklist.set_settings(office.slug, SOON)
    mail(office, client, each=300, bad=200)
    look(office)
    look(office)
    (pull,) = [item for item in client.worklist.list(tenant=office.slug) if item.kind == "pull"]
    with office.world.clock.later(timedelta(hours=30)):
        at = office.world.context.clock()
        good = [row(n, time=(at - timedelta(hours=1)).isoformat(), message_id=f"good{n}") for n in range(150)]
        client.events.load(office.slug, ndjson(*good))
        office.world.work()
        details = client.worklist.act(office.slug, pull.id, WorkAct(act="recheck"))
        assert (details.state, details.steps[-1].what) == ("resolved", "resolved")
        assert details.steps[-1].text.startswith("0 of the newest 150 messages")
        look(office)
        look(office)
        assert not [item for item in client.worklist.list(tenant=office.slug) if item.kind == "pull"]
    with office.world.clock.later(timedelta(days=3)):
        at = office.world.context.clock()
        bad = [bounce(n, time=(at - timedelta(hours=1)).isoformat(), message_id=f"bad{n}") for n in range(90)]
        client.events.load(office.slug, ndjson(*bad))
        office.world.work()
        look(office)
        look(office)
        (again,) = [item for item in client.worklist.list(tenant=office.slug) if item.kind == "pull"]
        assert (again.id, again.returns) == (pull.id, 1)


def test_lines_of_mail_without_stream_and_relay_are_told_too(office: Office, client: Client) -> None:
    client.worklist.set_settings(office.slug, SOON)
    mail(office, client, each=300, bad=60, stream="", relay="", diagnostic="552 5.3.4 message too big")
    look(office)
    look(office)
    crossed = {(line.subject, line.name) for line in client.worklist.lines(office.slug) if line.crossed}
    assert crossed == {("domain", DOMAIN), ("provider", "tidepost.example")}
    (item,) = client.worklist.list(tenant=office.slug)
    assert (item.kind, item.subject, item.name) == ("line", "domain", DOMAIN)
    assert any("Bounces at tidepost.example are above" in line for line in item.evidence)


@contextmanager
def mail_host(keep: Path) -> Iterator[MailHost]:
    host = MailHost(0, tls=False, keep=keep)
    threading.Thread(target=host.serve_forever, daemon=True).start()
    try:
        yield host
    finally:
        host.shutdown()
        host.server_close()


@pytest.fixture
def told(office: Office, webhook_port: int) -> Iterator[tuple[Context, Receiver, list[Any]]]:
    """A context whose own mail goes to a stand-in, and a receiver for chats and webhooks."""
    with receiving(webhook_port) as receiver:
        yield office.world.context, receiver, []


def test_each_incident_is_told_once_by_chat_and_webhook_and_again_when_it_is_mended(
    office: Office, client: Client, told: tuple[Context, Receiver, list[Any]]
) -> None:
    _, receiver, _ = told
    chat = AlertChannel(
        kind="chat", name="office chat", url=receiver.url, template='{"say": "{what}: {title} ({level})"}'
    )
    client.worklist.set_settings(office.slug, SOON.model_copy(update={"channels": [chat]}))
    hook = client.webhooks.add(office.slug, "desk", receiver.url, subjects=["worklist.opened", "worklist.resolved"])
    mail(office, client, bad=15)
    for _ in range(3):
        look(office)
    office.world.work()
    says = [body["say"] for body in receiver.bodies() if "say" in body]
    assert len([say for say in says if say.startswith("New: Bounces from invalid addresses")]) == 1
    opened = [body for body in receiver.bodies() if body.get("type") == "worklist.opened"]
    assert {body["data"]["kind"] for body in opened} >= {"pull"}
    assert len({body["data"]["id"] for body in opened}) == len(opened)
    assert {each.state for each in client.worklist.notifications(office.slug)} == {"delivered"}
    client.webhooks.delete(office.slug, hook.id)


def test_a_message_that_is_not_taken_is_tried_again_and_told_so(
    office: Office, client: Client, told: tuple[Context, Receiver, list[Any]]
) -> None:
    _, receiver, _ = told
    receiver.answer = 500
    chat = AlertChannel(kind="chat", name="c", url=receiver.url, quiet_from="11:00", quiet_to="13:00")
    client.worklist.set_settings(office.slug, SOON.model_copy(update={"channels": [chat]}))
    mail(office, client, bad=15)
    look(office)
    look(office)
    office.world.work()
    assert receiver.got == [], "these are quiet hours"
    with office.world.clock.later(timedelta(hours=2)):
        office.world.work()
        message = client.worklist.notifications(office.slug)[0]
        assert (message.state, message.attempts) == ("waiting", 1)
        assert "500" in message.response
        receiver.answer = 200
        with office.world.clock.later(timedelta(minutes=5)):
            office.world.work()
    assert client.worklist.notifications(office.slug)[0].state == "delivered"


def test_people_are_told_by_mail_with_the_remedy_once_for_one_incident(
    office: Office, client: Client, tmp_path: Path
) -> None:
    with mail_host(tmp_path) as host:
        settings = office.world.context.settings.model_copy(
            update={"mail_relays": {"own": f"127.0.0.1:{host.server_address[1]}"}, "mail_from": "gauge@skerry.example"}
        )
        context = make_context(settings, office.world.clock)
        way = AlertChannel(kind="mail", name="isla", to=["isla@skerry.example"])
        client.worklist.set_settings(office.slug, SOON.model_copy(update={"channels": [way]}))
        mail(office, client, bad=15)
        look(office)
        look(office)
        while worker.work_once(context):
            pass
        assert {each.state for each in client.worklist.notifications(office.slug)} == {"delivered"}
        context.close()
    (file,) = tmp_path.glob("*.eml")  # domain, stream and relay show the same incident: one notification
    message = BytesParser(policy=default).parsebytes(file.read_bytes())
    assert message["To"] == "isla@skerry.example"
    assert message["Subject"].lstrip().startswith("New: Bounces from invalid addresses at tidepost.example")
    text = message.get_content()
    assert "Remedy: Check the list of newsletter" in text
    assert "Bounces of relay office-1 are above the" in text
    assert f"/worklist/{office.slug}/" in text


@pytest.mark.parametrize(
    ("every", "now", "day"),
    [
        ("", "2026-11-23T09:00", None), ("week", "2026-11-23T05:00", None), ("week", "2026-11-23T06:00", "2026-11-23"),
        ("week", "2026-11-28T09:00", None), ("week", "2026-11-23T23:59", "2026-11-23"),
        ("month", "2026-11-01T06:00", "2026-11-01"), ("month", "2026-11-20T09:00", None), ("month", "2026-11-01T05:59", None),
    ],
)  # fmt: skip
def test_a_report_is_due_on_its_day_only(every: str, now: str, day: str | None) -> None:
    found = mailing.due_on(every, datetime.fromisoformat(now))
    assert (str(found) if found else None) == day


def test_the_report_goes_to_its_people_once_a_week(office: Office, client: Client, tmp_path: Path) -> None:
    monday = timedelta(days=-office.world.clock().weekday() % 7)
    with office.world.clock.later(monday), mail_host(tmp_path) as host:
        settings = office.world.context.settings.model_copy(
            update={"mail_relays": {"own": f"127.0.0.1:{host.server_address[1]}"}}
        )
        context = make_context(settings, office.world.clock)
        weekly = SOON.model_copy(update={"report_every": "week", "report_to": ["boss@skerry.example"]})
        client.worklist.set_settings(office.slug, weekly)
        mail(office, client, bad=40)
        look(office)
        look(office)
        for _ in range(2):
            mailing.ask_for_due(context)
            while worker.work_once(context):
                pass
        context.close()
        report = client.worklist.report(office.slug)
        first, *lines = report.text.splitlines()
        assert first.endswith(": 280 messages delivered in 7 days, 700 in the 7 days before.")
        heads = lines[lines.index("Mailbox providers, 7 days") + 1]
        assert heads.split("  ")[0] == "Provider"
        assert any("30.0 % (120 of 400)" in line for line in lines), "a rate stands with its counts"
        earlier = client.worklist.report(office.slug, days=7, last=office.world.clock().date() - timedelta(days=7))
        assert earlier.text.splitlines()[0].endswith(": 700 messages delivered in 7 days, 100 in the 7 days before.")
        with pytest.raises(InvalidInputError, match="is in the future"):
            client.worklist.report(office.slug, last=office.world.clock().date() + timedelta(days=1))
    (file,) = tmp_path.glob("*.eml")
    message = BytesParser(policy=default).parsebytes(file.read_bytes())
    assert message["To"] == "boss@skerry.example"
    text = message.get_body(("plain",)).get_content()  # type: ignore[union-attr]
    assert DOMAIN in text
    assert "1. Bounces of relay office-1 are above the stop line" in text
    assert "2. Bounces from invalid addresses at tidepost.example" in text
    assert f"/report?tenant={office.slug}" in text
    page = message.get_body(("related", "html"))
    assert page is not None
    html, picture = page.iter_parts()
    assert DOMAIN in html.get_content()
    assert f'src="cid:{picture["Content-ID"][1:-1]}"' in html.get_content()
    assert Image.open(io.BytesIO(picture.get_content())).width == 2 * WIDTH
    assert (report.title, report.text.split()) == (message["Subject"], text.split())
    assert "<svg" in report.html, "a page has its chart sharp"


def test_the_report_of_a_tenant_without_mail_says_so(office: Office, client: Client) -> None:
    report = client.worklist.report(office.slug, days=30)
    assert "Nothing to do." in report.text
    assert "No mail in these days." in report.html
    assert "<svg" not in report.html


@pytest.mark.parametrize(
    ("values", "condition"),
    [
        ([None] * 14, ""),
        ([50.0], "corroded"),
        ([None, 3.0, None, 99.9, 100.0], "sound"),
        ([0.0] * 380, "seized"),
        ([], ""),
    ],
)
def test_the_picture_holds_any_readings(values: list[float | None], condition: str) -> None:
    png, height = draw([Band("a" * 253, values, condition, "new")] * (MOST + 3), 7)
    picture = Image.open(io.BytesIO(png))
    assert picture.size == (2 * WIDTH, 2 * height)
    colour = {"sound": (42, 118, 109), "corroded": (172, 74, 26), "seized": (107, 31, 26)}.get(condition, (100, 97, 89))
    assert colour in {picture.getpixel((x, 80)) for x in range(2 * (WIDTH - 120), 2 * WIDTH)}


def test_people_look_after_items_assign_comment_and_put_off_with_a_reason(office: Office, client: Client) -> None:
    client.worklist.set_settings(office.slug, SOON)
    mail(office, client, bad=15)
    look(office)
    look(office)
    item = next(item for item in client.worklist.list(tenant=office.slug) if item.kind == "pull")
    acknowledged = client.worklist.act(office.slug, item.id, WorkAct(act="acknowledge"))
    assert (acknowledged.state, acknowledged.assigned_to) == ("acknowledged", office.email)
    assert [person.email for person in client.people.list(office.slug)] == [office.email]
    assert client.worklist.list(tenant=office.slug, assigned_to=office.email)[0].id == item.id
    client.worklist.act(office.slug, item.id, WorkAct(act="assign", to=office.email))
    with pytest.raises(InvalidInputError, match="a reason is required"):
        client.worklist.act(office.slug, item.id, WorkAct(act="comment"))
    with pytest.raises(InvalidInputError, match="until"):
        client.worklist.act(office.slug, item.id, WorkAct(act="snooze", text="not now", until=TODAY))
    off = client.worklist.act(
        office.slug,
        item.id,
        WorkAct(act="snooze", text="the list is cleaned on Monday", until=TODAY + timedelta(days=3)),
    )
    assert off.state == "snoozed"
    assert [step.what for step in off.steps][-3:] == ["acknowledge", "assign", "snooze"]
    assert item.id not in [each.id for each in client.worklist.list(tenant=office.slug)]
    assert [each.id for each in client.worklist.list(tenant=office.slug, state=["snoozed"])] == [item.id]
    with pytest.raises(NotFoundError):
        client.worklist.get(office.slug, 10**9)


def test_actions_on_several_items_name_what_they_could_not_change_and_can_be_undone(
    office: Office, client: Client
) -> None:
    client.worklist.set_settings(office.slug, SOON)
    mail(office, client, bad=15)
    look(office)
    look(office)
    copy_items(office, 2)
    found = client.worklist.list(tenant=office.slug)
    ids = [item.id for item in found]
    before = {item.id: (item.state, item.assigned_to, item.until) for item in found}
    assert len(ids) > 2

    def states() -> dict[int, tuple[str, str, datetime | None]]:
        rows = client.worklist.list(tenant=office.slug, state=["waiting", "open", "acknowledged", "snoozed"])
        return {item.id: (item.state, item.assigned_to, item.until) for item in rows}

    for act in (
        WorkAct(act="acknowledge"), WorkAct(act="assign", to=office.email),
        WorkAct(act="snooze", text="on Monday", until=TODAY + timedelta(days=3)),
    ):  # fmt: skip
        done = client.worklist.act_on_all(office.slug, [ids[0], 10**9, ids[0], *ids[1:]], act)
        assert [item.id for item in done.changed] == ids
        assert [problem.field for problem in done.problems] == ["ids.1"]
        assert states() != before
        assert len(client.worklist.act_on_all(office.slug, ids, WorkAct(act="undo")).changed) == len(ids)
        assert states() == before
    again = client.worklist.act_on_all(office.slug, ids, WorkAct(act="undo"))
    assert (again.changed, len(again.problems)) == ([], len(ids))
    assert "your last action is 'undo'" in again.problems[0].what

    client.worklist.act(office.slug, ids[0], WorkAct(act="acknowledge"))
    context = office.world.context
    with pytest.raises(ServiceProblem, match="the last action is"):
        worklist.act(context, office.tenant, ids[0], WorkAct(act="undo"), "second@d.example")
    assert worklist.act(context, office.tenant, ids[0], WorkAct(act="reopen"), "second@d.example").state == "open"
    with pytest.raises(ProblemResponse, match="neither acknowledged nor snoozed"):
        client.worklist.act(office.slug, ids[0], WorkAct(act="reopen"))
    undone = worklist.act(context, office.tenant, ids[0], WorkAct(act="undo"), "second@d.example")
    assert undone.state == "acknowledged"


def test_a_resolved_item_is_neither_acknowledged_nor_snoozed(office: Office, client: Client) -> None:
    client.worklist.set_settings(office.slug, SOON)
    mail(office, client, bad=15)
    look(office)
    look(office)
    (item,) = client.worklist.list(tenant=office.slug)

    def close(connection: Connection) -> None:
        row = store_worklist.get(connection, office.tenant.id, item.id, lock=True)
        assert row is not None
        store_worklist.change(connection, item.id, resolve(store_worklist.item_of(row), TODAY))

    office.world.context.store.transaction(close)
    for act in (WorkAct(act="acknowledge"), WorkAct(act="snooze", text="later", until=TODAY + timedelta(days=1))):
        done = client.worklist.act_on_all(office.slug, [item.id], act)
        assert done.changed == []
        assert "is resolved" in done.problems[0].what
    after = client.worklist.get(office.slug, item.id)
    assert (after.state, after.assigned_to) == ("resolved", "")


@pytest.mark.parametrize(
    ("acts", "match"),
    [
        (WorkAct(act="comment"), "a reason is required"),
        (WorkAct(act="snooze", text="later", until=TODAY), "until must be"),
        (WorkAct(act="assign", to="stranger@d.example"), "stranger@d.example"),
        (WorkAct(act="recheck"), "cannot be re-checked at once"),
    ],
)
def test_an_action_that_is_wrong_for_every_item_is_refused_as_a_whole(
    office: Office, client: Client, acts: WorkAct, match: str
) -> None:
    with pytest.raises(ClientError, match=match):
        client.worklist.act_on_all(office.slug, range(1, 30), acts)


def test_a_relays_own_lines_hold_and_one_unlucky_message_crosses_none(office: Office, client: Client) -> None:
    mail(office, client, each=300, bad=21)
    lines = {(line.subject, line.name, line.rate): line for line in client.worklist.lines(office.slug)}
    usual = lines["relay", "office-1", "bounces"]
    assert (usual.watch, usual.stop, usual.own) == (0.02, 0.05, False)
    assert usual.crossed == "watch"
    assert (usual.events, usual.mail, usual.days, usual.value) == (63, 2100, 7, 0.03), "counts divide to the rate"
    assert usual.estimate != usual.value
    strict = RelayDescription(lines=RelayLines(bounce_watch=0.01, bounce_stop=0.02))
    client.relays.set(office.slug, "office-1", strict)
    own = next(
        line for line in client.worklist.lines(office.slug) if line.subject == "relay" and line.rate == "bounces"
    )
    assert (own.stop, own.own, own.crossed) == (0.02, True, "stop")


def test_one_unlucky_message_crosses_no_line(office: Office, client: Client) -> None:
    mail(office, client, each=20, bad=1)
    assert not any(line.crossed for line in client.worklist.lines(office.slug))


def test_the_brake_holds_a_stream_over_its_relay_until_somebody_releases_it(office: Office, client: Client) -> None:
    client.worklist.set_settings(office.slug, SOON.model_copy(update={"auto_pause": True}))
    mail(office, client, bad=20)
    look(office)
    (pause,) = client.worklist.pauses(office.slug)
    assert (pause.stream, pause.relay) == ("newsletter", "office-1")
    ask = client.suppression.clearance
    held = ask(office.slug, ["fine@tidepost.example", "nobody"], stream="newsletter", relay="office-1",
               sending=Sending(domain=DOMAIN))  # fmt: skip
    assert [(answer.verdict, answer.reason) for answer in held.answers] == [("held", "paused"), ("held", "no_address")]
    assert ask(office.slug, ["fine@tidepost.example"], stream="newsletter").held == 1
    assert ask(office.slug, ["fine@tidepost.example"], stream="receipts", relay="office-1").held == 0
    assert ask(office.slug, ["fine@tidepost.example"], stream="newsletter", relay="other").held == 0
    released = StreamPauseChange(stream="newsletter", relay="office-1", why="the list was cleaned")
    assert client.worklist.resume_stream(office.slug, released) == []
    assert ask(office.slug, ["fine@tidepost.example"], stream="newsletter", relay="office-1").held == 0
    look(office)
    assert client.worklist.pauses(office.slug) == [], "somebody let it go on, knowing"
    with pytest.raises(NotFoundError):
        client.worklist.resume_stream(office.slug, released)
    by_hand = StreamPauseChange(stream="receipts", relay="", why="wrong prices in it")
    assert len(client.worklist.pause_stream(office.slug, by_hand)) == 1


@pytest.mark.parametrize(
    ("way", "what"),
    [
        (AlertChannel(kind="mail", name="x"), "at least one address"),
        (AlertChannel(kind="mail", name="x", to=["nobody"]), "channels.0.to"),
        (AlertChannel(kind="chat", name="x", url="http://10.0.0.1/"), "channels.0.url"),
        (AlertChannel(kind="chat", name="x", url="https://chat.example/", template="{title"), "not valid JSON"),
    ],
)
def test_a_way_that_cannot_work_is_refused(office: Office, client: Client, way: AlertChannel, what: str) -> None:
    with pytest.raises(InvalidInputError, match=what):
        client.worklist.set_settings(office.slug, AlertSettings(channels=[way]))


def test_the_past_is_gone_over_so_that_its_incidents_have_their_days(office: Office, client: Client) -> None:
    rows = []
    for back in range(60):
        at = (TODAY - timedelta(days=back, hours=1)).isoformat()
        for n in range(100):
            broken = 38 <= back <= 40 and n < 30
            reply = {"kind": "bounced", "reply_code": 550, "diagnostic": "550 5.7.26 mail is not authenticated"}
            rows.append(row(n, time=at, message_id=f"{back}.{n}", **(reply if broken else {})))
    client.events.load(office.slug, ndjson(*rows))
    readings.compute_readings(office.world.context, office.tenant.id, _domain_id(office))
    worklist.replay(office.world.context, office.tenant, TODAY.date() - timedelta(days=59), TODAY.date())
    found = {each.title: each for each in client.worklist.list(tenant=office.slug, state=["resolved"])}
    item = next(each for title, each in found.items() if "authentication" in title)
    assert item.found_at.date() == TODAY.date() - timedelta(days=40)
    assert item.resolved_at is not None
    assert item.resolved_at.date() < TODAY.date() - timedelta(days=20)
    assert client.worklist.notifications(office.slug) == []
    began = TODAY.date() - timedelta(days=40)
    assert client.worklist.list(tenant=office.slug, on=began - timedelta(days=1)) == []
    (then,) = client.worklist.list(tenant=office.slug, on=began)
    assert (then.id, then.title) == (item.id, item.title)
    assert client.worklist.list(tenant=office.slug, on=item.resolved_at.date())[0].id == item.id
    assert client.worklist.list(tenant=office.slug, on=item.resolved_at.date() + timedelta(days=1)) == []


def _domain_id(office: Office) -> int:
    names = office.world.context.store.transaction(lambda c: store_readings.names_of(c, office.tenant.id, 1))
    return next(id for id, name in names.items() if name == DOMAIN)


def test_a_line_that_is_soon_crossed_is_something_to_look_into(office: Office, client: Client) -> None:
    client.worklist.set_settings(office.slug, SOON)
    mail(office, client, each=200, bad=11)
    found = [line for line in client.worklist.lines(office.slug) if line.rate == "bounces" and line.subject == "stream"]
    assert [(line.crossed, line.next, line.next_on) for line in found] == [
        ("", "watch", (TODAY + timedelta(days=1)).date())
    ]
    look(office)
    said = [f"{item.title} {item.level} {item.evidence}" for item in client.worklist.list(tenant=office.slug)]
    assert any("are probably above the watch line" in each for each in said), said
