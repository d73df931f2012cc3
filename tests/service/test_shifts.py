"""Shifts from counters to what people see: found when events come in, shown with what is behind them, told, ended."""

import io
from datetime import timedelta
from typing import Any

import httpx
import pytest

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import Client, NotFoundError
from rust_gauge.contract.flow import FlowSettings
from tests.conftest import TODAY, Office
from tests.receiver import receiving
from tests.rows import bounce, ndjson, row


def at(hours: float, **changes: Any) -> dict[str, Any]:
    return {"time": (TODAY - timedelta(hours=hours)).isoformat(), **changes}


@pytest.fixture
def steady(office: Office, client: Client) -> Office:
    """Three weeks of mail with a bounce now and then."""
    rows = [
        (bounce if n % 50 == 7 else row)(n, **at(n / 4, relay=f"office-{n // 3 % 2 + 1}", stream="receipts"))
        for n in range(24 * 4 * 21)
    ]
    client.events.load(office.slug, ndjson(*rows))
    office.world.work()
    with office.world.clock.later(timedelta(seconds=30)):
        office.world.work()
    return office


def surge(office: Office, client: Client) -> None:
    reply = "550 5.7.1 192.0.2.1 is on a blocklist"
    rows = [bounce(9000 + n, **at(0.4 - n / 100, relay="office-1", diagnostic=reply)) for n in range(30)]
    client.events.load(office.slug, ndjson(*rows))
    with office.world.clock.later(timedelta(minutes=1)):
        office.world.work()


def test_a_surge_is_found_within_minutes_with_what_is_behind_it(steady: Office, client: Client) -> None:
    assert client.flow.shifts(steady.slug) == []
    surge(steady, client)
    found = {(shift.what, shift.name, shift.rate): shift for shift in client.flow.shifts(steady.slug)}
    shift = found["relay", "office-1", "permanent"]
    assert shift.ended_at is None
    assert shift.found_at - TODAY == timedelta(minutes=1)
    assert ("relay", "office-1", "unwanted") in found
    assert "through office-1 since 20 Nov 1" in shift.summary
    assert shift.chance_years > 1
    details = client.flow.shift(steady.slug, shift.id)
    assert details.causes[0].cause == "blocklisted"
    assert ("domain", "news.d.example", 31) in [(part.what, part.name, part.count) for part in details.parts]
    assert {example.cause for example in details.examples} == {"blocklisted"}
    seen = list(client.events.list(steady.slug, kinds=["bounced"], relay="office-1", since=shift.began_at))
    since = shift.began_at.strftime("%Y-%m-%dT%H:%M:%SZ")
    assert details.events == {"kind": ["bounced"], "relay": "office-1", "since": since}
    assert len(seen) == shift.seen.count
    with pytest.raises(NotFoundError):
        client.flow.shift(steady.slug, 10**9)


def test_it_is_told_once_and_when_it_is_over(steady: Office, client: Client, webhook_port: int) -> None:
    with receiving(webhook_port) as desk:
        client.webhooks.add(steady.slug, "desk", desk.url, ["shift.found", "shift.over"])
        surge(steady, client)
        with steady.world.clock.later(timedelta(minutes=2)):
            steady.world.work()
        about = [(body["type"], body["data"]["what"], body["data"]["rate"]) for body in desk.bodies()]
        assert ("shift.found", "relay", "permanent") in about
        assert len(about) == len(set(about))
        desk.got.clear()
        again = [row(20_000 + n, **at(-1 - n / 60, relay="office-1")) for n in range(400)]
        with steady.world.clock.later(timedelta(hours=8)):
            client.events.load(steady.slug, ndjson(*again))
            with steady.world.clock.later(timedelta(minutes=1)):
                steady.world.work()
            more = {(body["type"], body["data"]["rate"]) for body in desk.bodies()}
            assert more >= {("shift.over", "permanent"), ("shift.over", "unwanted")}
            assert all(shift.ended_at for shift in client.flow.shifts(steady.slug) if shift.name == "office-1")


def test_events_that_come_late_can_explain_a_shift_away(steady: Office, client: Client) -> None:
    surge(steady, client)
    assert client.flow.shifts(steady.slug)
    late = [row(30_000 + n, **at(0.4, relay="office-1", recipient=f"late{n}@tidepost.example")) for n in range(1500)]
    client.events.load(steady.slug, ndjson(*late))
    with steady.world.clock.later(timedelta(minutes=2)):
        steady.world.work()
    left = {shift.rate for shift in client.flow.shifts(steady.slug)}
    assert left == {"unwanted"}, "thirty bounces in fifteen hundred are what is usual; that they speak of us is not"


def test_how_many_false_alarms_are_borne_is_a_setting(steady: Office, client: Client) -> None:
    client.flow.set_settings(steady.slug, FlowSettings(false_alarms_a_year=1e-30 + 1e-9))
    rows = [bounce(9000 + n, **at(0.4 - n / 100, relay="office-1")) for n in range(6)]
    client.events.load(steady.slug, ndjson(*rows))
    with steady.world.clock.later(timedelta(minutes=1)):
        steady.world.work()
    assert client.flow.shifts(steady.slug) == []
    response = httpx.put(
        f"{steady.world.url}/api/v1/tenants/{steady.slug}/flow-settings", json={"keep_events_days": 3},
        headers={"Authorization": f"Bearer {steady.token}"},
    )  # fmt: skip
    assert response.status_code == 422


def test_the_commands_show_them(steady: Office, client: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("RUSTGAUGE_TOKEN", steady.token)

    def run(*words: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        return main([words[0], "--url", steady.world.url, *words[1:]], Output(out, err)), out.getvalue(), err.getvalue()

    assert run("flow", "shifts")[:2] == (0, "")
    surge(steady, client)
    status, said, _ = run("flow", "shifts")
    assert (status, "office-1" in said) == (3, True)
    id = next(shift.id for shift in client.flow.shifts(steady.slug) if shift.rate == "unwanted")
    status, said, _ = run("flow", "shift", str(id))
    assert status == 0
    assert "More reputation refusals" in said
    assert "550 5.7.1 192.0.2.1 is on a blocklist" in said
    assert "400 days" in run("flow", "settings")[1]
    assert "90 days" in run("flow", "settings", "--retention-days", "90", "--false-alarms", "2")[1]
    assert run("flow", "settings", "--retention-days", "3")[0] == 1
    address = client.flow.shift(steady.slug, id).examples[0].recipient
    assert "1 events, 0 suppression entries" in run("recipient", "show", address)[1]
    assert run("recipient", "erase", address, "--yes")[0] == 2
    assert "Erased from 1 events" in run("recipient", "erase", address, "--yes", "--reason", "ticket 812")[2]
    assert "ticket 812" in run("recipient", "erasures")[1]
