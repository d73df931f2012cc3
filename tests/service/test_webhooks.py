"""Webhooks over the service, to a receiver on loopback: signed, tried again, given up, replayed."""

import io
from collections.abc import Iterator
from datetime import timedelta

import pytest

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import Client, InvalidInputError, NotFoundError
from rust_gauge.contract.webhooks import WebhookChange
from rust_gauge.core.webhooks import WebhookRefused, verify
from rust_gauge.service.webhooks import webhooks
from tests.conftest import Office
from tests.receiver import Receiver, receiving


@pytest.fixture(scope="module")
def desk(webhook_port: int) -> Iterator[Receiver]:
    with receiving(webhook_port) as made:
        yield made


@pytest.fixture(autouse=True)
def quiet(desk: Receiver) -> None:
    desk.got.clear()
    desk.headers.clear()
    desk.answer = 204


def tell(office: Office, subject: str = "proof.lost", **data: object) -> None:
    now = office.world.clock()
    office.world.context.store.transaction(lambda c: webhooks.tell(c, office.tenant.id, subject, data, now))


def test_a_call_is_signed_with_the_secret_that_was_shown_once(office: Office, client: Client, desk: Receiver) -> None:
    made = client.webhooks.add(office.slug, "desk", desk.url)
    assert "secret" not in client.webhooks.list(office.slug)[0].model_dump()
    tell(office, subject="proof.lost", name="glasswort.example")
    office.world.work()
    ((headers, body),) = desk.got
    message_id = verify(made.secret, headers, body, int(office.world.clock().timestamp()))
    (call,) = client.webhooks.calls(office.slug, made.id)
    assert (call.id, call.state, call.attempts) == (message_id, "delivered", 1)
    assert desk.bodies() == [
        {"type": "proof.lost", "timestamp": "2026-11-20T12:00:00Z", "data": {"name": "glasswort.example"}}
    ]


def test_while_a_secret_is_changed_calls_are_signed_with_both(office: Office, client: Client, desk: Receiver) -> None:
    made = client.webhooks.add(office.slug, "desk", desk.url)
    rotated = client.webhooks.rotate_secret(office.slug, made.id, overlap_hours=2)
    assert rotated.secret != made.secret
    tell(office)
    office.world.work()
    with office.world.clock.later(timedelta(hours=3)):
        tell(office)
        office.world.work()
        later = int(office.world.clock().timestamp())
    (first, second), now = desk.got, int(office.world.clock().timestamp())
    assert verify(made.secret, *first, now) == verify(rotated.secret, *first, now)
    assert verify(rotated.secret, *second, later)
    with pytest.raises(WebhookRefused):
        verify(made.secret, *second, later)


def test_only_chosen_subjects_are_told(office: Office, client: Client, desk: Receiver) -> None:
    client.webhooks.add(office.slug, "desk", desk.url, ["watch.agreed"])
    tell(office, "proof.lost")
    tell(office, "watch.agreed")
    office.world.work()
    assert [body["type"] for body in desk.bodies()] == ["watch.agreed"]


def test_a_call_is_tried_again_with_the_same_id_until_it_is_taken(
    office: Office, client: Client, desk: Receiver
) -> None:
    made = client.webhooks.add(office.slug, "desk", desk.url)
    desk.answer = 500
    tell(office)
    office.world.work()
    (call,) = client.webhooks.calls(office.slug, made.id)
    assert (call.state, call.attempts, call.response) == ("waiting", 1, "500")
    desk.answer = 200
    assert office.world.work() == 0  # not yet
    with office.world.clock.later(timedelta(seconds=11)):
        office.world.work()
    (call,) = client.webhooks.calls(office.slug, made.id)
    assert (call.state, call.attempts) == ("delivered", 2)
    first, second = desk.got
    assert first[0]["webhook-id"] == second[0]["webhook-id"]
    assert first[0]["webhook-signature"] != second[0]["webhook-signature"]  # a time of its own


def test_a_receiver_that_asks_for_time_gets_it(office: Office, client: Client, desk: Receiver) -> None:
    made = client.webhooks.add(office.slug, "desk", desk.url)
    desk.answer, desk.headers["Retry-After"] = 429, "120"
    tell(office)
    office.world.work()
    (call,) = client.webhooks.calls(office.slug, made.id)
    assert call.next_at is not None
    assert call.next_at - office.world.clock() == timedelta(seconds=120)


def test_what_nobody_takes_is_set_aside_and_can_be_replayed(office: Office, client: Client, desk: Receiver) -> None:
    made = client.webhooks.add(office.slug, "desk", desk.url)
    desk.answer = 503
    tell(office)
    for hours in range(0, 72, 3):
        with office.world.clock.later(timedelta(hours=hours)):
            office.world.work()
    (call,) = client.webhooks.calls(office.slug, made.id, state="dead")
    assert (call.attempts, client.webhooks.list(office.slug)[0].dead) == (9, 1)
    desk.answer = 204
    assert client.webhooks.replay(office.slug, made.id, call.id) == 1
    office.world.work()
    assert [call.state for call in client.webhooks.calls(office.slug, made.id)] == ["delivered"]
    assert client.webhooks.replay(office.slug, made.id) == 0
    with pytest.raises(NotFoundError):
        client.webhooks.replay(office.slug, made.id, call.id)


def test_gone_means_gone(office: Office, client: Client, desk: Receiver) -> None:
    made = client.webhooks.add(office.slug, "desk", desk.url)
    desk.answer = 410
    tell(office)
    office.world.work()
    (hook,) = client.webhooks.list(office.slug)
    assert (hook.paused, hook.dead) == (True, 1)
    tell(office)
    assert office.world.work() == 0
    assert client.webhooks.update(office.slug, made.id, WebhookChange(paused=False)).paused is False


def test_what_waits_while_it_is_paused_is_sent_when_it_goes_on(office: Office, client: Client, desk: Receiver) -> None:
    made = client.webhooks.add(office.slug, "desk", desk.url)
    tell(office)
    client.webhooks.update(office.slug, made.id, WebhookChange(paused=True))
    office.world.work()
    assert desk.got == []
    client.webhooks.update(office.slug, made.id, WebhookChange(paused=False, name="box office"))
    office.world.work()
    assert len(desk.got) == 1
    client.webhooks.delete(office.slug, made.id)
    assert client.webhooks.list(office.slug) == []


@pytest.mark.parametrize(
    ("url", "why"),
    [
        ("http://desk.glasswort.example/", "is not https"),
        ("https://192.0.2.7/", "not a public address"),
        ("https://127.0.0.1/", "not a public address"),
        ("https://[::1]:8443/x", "not a public address"),
        ("https://u:p@desk.glasswort.example/", "password"),
        ("ftp://desk.glasswort.example/", "is not a web address"),
        ("https:///x", "is not a web address"),
        ("https://desk.glasswort.example:99999/", "is not a web address"),
    ],
)
def test_addresses_that_are_not_called(office: Office, client: Client, url: str, why: str) -> None:
    with pytest.raises(InvalidInputError, match=why):
        client.webhooks.add(office.slug, "desk", url)


def test_a_name_that_leads_into_our_own_network_is_not_called(office: Office, client: Client) -> None:
    office.world.zone(f"{office.slug}.example", "desk IN A 127.0.0.1\n")
    made = client.webhooks.add(office.slug, "desk", f"https://desk.{office.slug}.example/")
    call = client.webhooks.test(office.slug, made.id)
    assert call.state == "waiting"
    assert "not a public address" in call.response
    gone = client.webhooks.add(office.slug, "none", f"https://gone.{office.slug}.example/")
    assert "has no address" in client.webhooks.test(office.slug, gone.id).response


def test_the_end_of_a_watch_is_told(office: Office, client: Client, desk: Receiver) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, '@ IN TXT "v=spf1 -all"\n')
    client.domains.add(office.slug, name)
    client.webhooks.add(office.slug, "desk", desk.url)
    watch = client.watches.start(office.slug, name, hours=1)
    with office.world.clock.later(timedelta(hours=2)):
        client.watches.recheck(office.slug, watch.id)
        office.world.work()
    (told,) = desk.bodies()
    assert (told["type"], told["data"]["domain"], told["data"]["watch"]) == ("watch.gave_up", name, watch.id)


def test_the_command(office: Office, client: Client, desk: Receiver, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)

    def run(*words: str) -> tuple[int, str]:
        out = io.StringIO()
        status = main(["webhook", *words, "--url", office.world.url, "--tenant", office.slug], Output(out, out))
        return status, out.getvalue()

    status, said = run("add", desk.url, "--name", "desk")
    assert status == 0
    assert "whsec_" in said
    (hook,) = client.webhooks.list(office.slug)
    id = str(hook.id)
    assert run("test", id) == (0, "delivered: 204\n")
    desk.answer = 500
    assert run("test", id)[0] == 3
    assert run("pause", id)[1] == f"Paused webhook {id}.\n"
    assert "paused" in run()[1]
    assert run("resume", id)[0] == 0
    assert "waiting" in run("calls", id)[1]
    assert run("replay", id)[1] == "0 calls will be retried.\n"
    assert run("remove", id, "--yes")[0] == 0
    assert client.webhooks.list(office.slug) == []
