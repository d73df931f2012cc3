"""MTAs that ask about recipients; unsubscribing by link, page and mail; the application that is called."""

import asyncio
import contextlib
import json
import smtplib
import socket
import threading
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path

import httpx
import pytest

from rust_gauge.client import AlreadyThereError, Client
from rust_gauge.contract.checks import MadeGate, NewGate
from rust_gauge.contract.feeds import FeedDefaults, FeedSource, NewFeed
from rust_gauge.contract.suppression import Lift, NewEntries
from rust_gauge.core.suppression.delegation import MOST
from rust_gauge.launch.mariadb import free_port
from rust_gauge.service.clearance.gate_server import serve_gates
from rust_gauge.service.feeds.runner import Runner
from rust_gauge.standins.mail_host import MailHost
from rust_gauge.standins.member_desk import MemberDesk
from tests.conftest import Office, assign
from tests.gateways.servers import postfix
from tests.rows import bounce, ndjson, row
from tests.service.test_feed_runner import NEEDS_ROOT
from tests.waiting import until


@pytest.fixture
def gate_port(office: Office) -> Iterator[int]:
    stop, ready = threading.Event(), threading.Event()
    ports: list[int] = []

    def run() -> None:
        serve_gates(office.world.context, "127.0.0.1", 0, stop, lambda port: (ports.append(port), ready.set()))

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    assert ready.wait(20)
    yield ports[0]
    stop.set()
    thread.join(20)


@pytest.fixture
def gate(office: Office, client: Client) -> MadeGate:
    return client.addresses.add_gate(office.slug, NewGate(name="mta1", stream="newsletter", relay="office-1"))


def request(gate_key: str, recipient: str, **more: str) -> bytes:
    lines = {
        "request": "smtpd_access_policy", "protocol_state": "RCPT", "protocol_name": "ESMTP",
        "sender": "news@news.d.example", "recipient": recipient, "instance": "7b.1", "policy_context": gate_key, **more,
    }  # fmt: skip
    return "".join(f"{name}={value}\n" for name, value in lines.items()).encode() + b"\n"


def talk(port: int, *requests: bytes) -> list[str]:
    """Answers over one connection."""
    with socket.create_connection(("127.0.0.1", port), timeout=30) as connection, connection.makefile("rb") as file:
        out = []
        for each in requests:
            connection.sendall(each)
            out.append(file.readline().decode().strip())
            assert file.readline() == b"\n"
        return out


def test_a_gate_refuses_what_is_held_and_counts_it_as_withheld(
    office: Office, client: Client, gate: MadeGate, gate_port: int
) -> None:
    client.events.load(office.slug, ndjson(bounce(1), row(2, kind="unsubscribed"), row(3)))
    asked = [request(gate.key, f"person{n}@tidepost.example", instance=f"7b.{n}") for n in (1, 2, 3, 1)]
    answers = talk(gate_port, *asked)
    assert answers[0] == (
        "action=550 5.7.1 Not sent: invalid address: a permanent bounce: the mailbox does not exist "
        "(550 5.1.1 no such mailbox)"
    )
    assert answers[1].startswith("action=550 5.7.1 Not sent: unsubscribed")
    assert answers[2] == "action=DUNNO"
    until(lambda: client.suppression.growth(office.slug).saved.withheld >= 2)
    events = list(client.events.list(office.slug, kinds=["withheld"]))
    assert {(event.recipient, event.domain, event.stream, event.relay) for event in events} == {
        (f"person{n}@tidepost.example", "news.d.example", "newsletter", "office-1") for n in (1, 2)
    }
    (shown,) = client.addresses.gates(office.slug)
    assert shown.last_used_at is not None


@pytest.mark.parametrize(
    ("changes", "action"),
    [
        ({"policy_context": "guess"}, "action=450 4.3.0 Unknown gate: check policy_context"),
        ({"protocol_state": "DATA"}, "action=DUNNO"),
        ({"request": "something_else"}, "action=DUNNO"),
        ({"recipient": "postmaster"}, "action=DUNNO"),
        ({"recipient": "nobody@"}, "action=DUNNO"),
        ({"recipient": "person1@tidepost.example", "sender": ""}, "action=550"),
    ],
)
def test_what_a_gate_says_to_other_questions(
    office: Office, client: Client, gate: MadeGate, gate_port: int, changes: dict[str, str], action: str
) -> None:
    client.events.load(office.slug, ndjson(bounce(1)))
    merged = {"recipient": "person1@tidepost.example", **changes}
    (answer,) = talk(gate_port, request(gate.key, merged.pop("recipient"), **merged))
    assert answer.startswith(action)


def test_a_request_that_never_ends_is_cut_off_and_others_go_on(
    office: Office, client: Client, gate: MadeGate, gate_port: int
) -> None:
    with socket.create_connection(("127.0.0.1", gate_port), timeout=30) as connection:
        connection.sendall(b"x" * (MOST + 100_000))
        with contextlib.suppress(ConnectionResetError):
            assert connection.recv(10) == b""
    assert talk(gate_port, request(gate.key, "a@tidepost.example")) == ["action=DUNNO"]


def test_many_connections_get_their_own_answers(office: Office, client: Client, gate: MadeGate, gate_port: int) -> None:
    client.suppression.add(office.slug, NewEntries(addresses=[f"p{n}@a.example" for n in range(0, 60, 3)]))

    async def one(number: int) -> bool:
        reader, writer = await asyncio.open_connection("127.0.0.1", gate_port)
        held = []
        for _ in range(3):
            writer.write(request(gate.key, f"p{number}@a.example"))
            held.append((await reader.readuntil(b"\n\n")).startswith(b"action=550"))
        writer.close()
        return held == [number % 3 == 0] * 3

    async def all_of_them() -> list[bool]:
        return await asyncio.gather(*map(one, range(60)))

    assert asyncio.run(all_of_them()) == [True] * 60


def test_gates_have_names_and_can_be_closed(office: Office, client: Client, gate: MadeGate, gate_port: int) -> None:
    assert gate.key in gate.line
    with pytest.raises(AlreadyThereError):
        client.addresses.add_gate(office.slug, NewGate(name="mta1"))
    client.addresses.delete_gate(office.slug, gate.id)
    assert client.addresses.gates(office.slug) == []
    assert talk(gate_port, request(gate.key, "a@tidepost.example"))[0].startswith("action=450")


@NEEDS_ROOT
def test_a_bounce_from_a_real_postfix_makes_the_same_postfix_refuse_the_next_message(
    office: Office, client: Client, gate: MadeGate, gate_port: int, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    settings = office.world.context.settings
    smtp_port = free_port()
    monkeypatch.setattr(settings, "smtp_port", smtp_port)
    source = FeedSource(addresses=["@bounce.d.example"])
    assign(office, "mail", *source.addresses)
    client.feeds.add(
        office.slug, NewFeed(name="returns", kind="mail", source=source, defaults=FeedDefaults(domain="news.d.example"))
    )
    runner = Runner(office.world.context)
    runner.start_mail()
    provider = MailHost(0, refused=("nobody",), later=(), tls=False, keep=None)
    threading.Thread(target=provider.serve_forever, daemon=True).start()
    line = gate.line.replace(":PORT", f":{gate_port}")
    more = (
        f"transport_maps = inline:{{ {{bounce.d.example = smtp:[127.0.0.1]:{smtp_port}}} }}\n"
        f"smtpd_recipient_restrictions = {line}, permit_mynetworks, reject\n"
    )
    text = b"From: news@news.d.example\r\nSubject: x\r\n\r\nx\r\n"
    try:
        with postfix(provider.server_address[1], more) as mta:  # type: ignore[arg-type]

            def send(who: str) -> dict[str, tuple[int, bytes]]:
                with smtplib.SMTP("127.0.0.1", mta.port, timeout=20) as session:
                    return session.sendmail(
                        "return@bounce.d.example", [f"{who}@tidepost.example", "ok@tidepost.example"], text
                    )

            assert send("nobody") == {}, "nothing is known of it yet"
            until(lambda: client.suppression.clearance(office.slug, ["nobody@tidepost.example"]).held)
            refused = send("nobody")  # at once: there is no window
            assert set(refused) == {"nobody@tidepost.example"}
            code, said = refused["nobody@tidepost.example"]
            assert code == 550
            assert b"invalid address" in said
            assert send("kim") == {}
    finally:
        provider.shutdown()
        provider.server_close()
        runner.close()


# Unsubscribing


def links(office: Office, client: Client, recipient: str, stream: str = "newsletter") -> str:
    """The address to post to."""
    (made,) = client.addresses.unsubscribe_links(office.slug, [recipient], domain="news.d.example", stream=stream)
    assert made.list_unsubscribe_post == "List-Unsubscribe=One-Click"
    assert recipient not in made.list_unsubscribe
    path = made.list_unsubscribe.split(">")[0].partition("/unsubscribe/")[2]
    return f"{office.world.url}/unsubscribe/{path}"


ONE_CLICK = {"List-Unsubscribe": "One-Click"}


def test_one_click_holds_the_stream_alone_at_once_and_following_the_link_does_nothing(
    office: Office, client: Client
) -> None:
    client.events.load(office.slug, ndjson(row(1), row(1, stream="receipts", message_id="r")))
    url = links(office, client, "person1@tidepost.example")
    page = httpx.get(url)
    assert (page.status_code, "newsletter" in page.text) == (200, True)
    assert client.suppression.clearance(office.slug, ["person1@tidepost.example"], stream="newsletter").held == 0
    answer = httpx.post(url, data=ONE_CLICK, follow_redirects=False)
    assert (answer.status_code, "set-cookie" in answer.headers) == (200, False)
    for stream, held in (("newsletter", 1), ("receipts", 0)):
        assert client.suppression.clearance(office.slug, ["person1@tidepost.example"], stream=stream).held == held
    httpx.post(url, data=ONE_CLICK)
    (event,) = client.events.list(office.slug, kinds=["unsubscribed"])
    assert (event.stream, event.domain) == ("newsletter", "news.d.example")
    shown = client.addresses.unsubscribes(office.slug)
    assert (shown.asked, shown.by_method, shown.late, shown.mailed_after) == (1, {"post": 1}, 0, 0)
    assert shown.lines[0].seconds == 0


def test_forms_in_both_encodings_and_the_page_unsubscribe_and_others_do_not(office: Office, client: Client) -> None:
    url = links(office, client, "a@tidepost.example", "")
    assert httpx.post(url, data={"x": "y"}).status_code == 400
    assert httpx.post(url).status_code == 400
    assert client.suppression.clearance(office.slug, ["a@tidepost.example"]).held == 0
    assert httpx.post(url, files={"List-Unsubscribe": (None, "One-Click")}).status_code == 200
    assert client.suppression.clearance(office.slug, ["a@tidepost.example"]).held == 1, "no stream: from everything"
    other = links(office, client, "b@tidepost.example")
    assert httpx.post(other, data={**ONE_CLICK, "way": "page"}).status_code == 200
    assert client.addresses.unsubscribes(office.slug).by_method == {"post": 1, "page": 1}


@pytest.mark.parametrize(
    "spoil", [lambda t: t[:-2], lambda t: "A" * len(t), lambda t: t[:-1] + ("A" if t[-1] != "A" else "B")]
)
def test_a_link_that_was_not_made_here_does_nothing(
    office: Office, client: Client, spoil: Callable[[str], str]
) -> None:
    url = links(office, client, "a@tidepost.example")
    head, _, token = url.rpartition("/")
    for response in (httpx.get(f"{head}/{spoil(token)}"), httpx.post(f"{head}/{spoil(token)}", data=ONE_CLICK)):
        assert (response.status_code, "not good" in response.text) == (404, True)
    assert client.suppression.clearance(office.slug, ["a@tidepost.example"], stream="newsletter").held == 0


def test_mail_to_the_unsubscribe_mailbox_does_the_same(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    settings, port = office.world.context.settings, free_port()
    monkeypatch.setattr(settings, "smtp_port", port)
    monkeypatch.setattr(settings, "unsubscribe_mailbox", "leave@bounce.d.example")
    (made,) = client.addresses.unsubscribe_links(
        office.slug, ["c@tidepost.example"], domain="news.d.example", stream="newsletter"
    )
    mailto = made.list_unsubscribe.partition("<mailto:")[2].rstrip(">")
    mailbox, _, subject = mailto.partition("?subject=")
    runner = Runner(office.world.context)
    runner.start_mail()
    try:
        with smtplib.SMTP("127.0.0.1", port, timeout=20) as session:
            folded = f"Subject: Re: {subject[:60]}\r\n"  # cut off: taken, and no harm done
            for head in (folded, f"Subject: Re:\r\n {subject}\r\n"):
                session.sendmail("c@tidepost.example", [mailbox], f"From: c@tidepost.example\r\n{head}\r\nbye\r\n")
    finally:
        runner.close()
    assert client.suppression.clearance(office.slug, ["c@tidepost.example"], stream="newsletter").held == 1
    assert client.addresses.unsubscribes(office.slug).by_method == {"mailto": 1}


def test_mail_that_goes_on_for_more_than_two_days_is_told(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(row(1, kind="unsubscribed", time="2026-11-10T08:00:00Z")))
    client.events.load(office.slug, ndjson(row(1, time="2026-11-11T08:00:00Z", message_id="soon after")))
    assert client.addresses.unsubscribes(office.slug).mailed_after == 0
    client.events.load(office.slug, ndjson(row(1, time="2026-11-13T08:00:00Z", message_id="too late")))
    shown = client.addresses.unsubscribes(office.slug)
    assert (shown.mailed_after, shown.lines[0].way) == (1, "event")


# The application


def test_the_example_application_marks_its_member_for_the_stream_and_frees_it_again(
    office: Office, client: Client, webhook_port: int, tmp_path: Path
) -> None:
    hook = client.webhooks.add(office.slug, "desk", f"http://127.0.0.1:{webhook_port}/hook", ["suppression.changed"])
    desk = MemberDesk(webhook_port, tmp_path / "members.json", hook.secret)
    thread = threading.Thread(target=desk.serve_forever, daemon=True)
    thread.start()
    clock = office.world.clock.now
    try:
        office.world.clock.now = datetime.now(UTC)  # the application's clock is real
        client.events.load(office.slug, ndjson(bounce(1)))
        httpx.post(links(office, client, "person2@tidepost.example"), data=ONE_CLICK)
        office.world.work()
        members = httpx.get(f"http://127.0.0.1:{webhook_port}/members.json").json()
        assert {address: list(member["held"]) for address, member in members.items()} == {
            "person1@tidepost.example": ["tenant"], "person2@tidepost.example": ["stream newsletter"],
        }  # fmt: skip
        page = httpx.get(f"http://127.0.0.1:{webhook_port}/").text
        assert "no stream newsletter: unsubscribed" in page
        client.suppression.lift(office.slug, Lift(address="person1@tidepost.example", why="a typing mistake"))
        office.world.work()
        assert json.loads((tmp_path / "members.json").read_text())["person1@tidepost.example"]["held"] == {}
    finally:
        office.world.clock.now = clock
        desk.shutdown()
        thread.join(10)
        desk.server_close()


def test_the_example_application_takes_nothing_that_is_not_signed(tmp_path: Path) -> None:
    desk = MemberDesk(0, tmp_path / "members.json", "whsec_" + "QUFB" * 8)
    thread = threading.Thread(target=desk.serve_forever, daemon=True)
    thread.start()
    try:
        url = f"http://127.0.0.1:{desk.server_address[1]}/"
        headers = {"webhook-id": "a", "webhook-timestamp": str(int(time.time())), "webhook-signature": "v1,QUFB"}
        for sent in ({}, headers):
            assert httpx.post(url, content=b'{"type": "suppression.changed"}', headers=sent).status_code == 401
        assert desk.members == {}
    finally:
        desk.shutdown()
        thread.join(10)
        desk.server_close()
