"""Schedules: when runs start by themselves, what keeps them from it, and what the worklist says of what they show."""

import smtplib
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from rust_gauge.client import AlreadyThereError, Client, InvalidInputError, NotFoundError
from rust_gauge.contract.bench import NewTray
from rust_gauge.contract.placement import (
    NewSchedule,
    Outlet,
    Rhythm,
    RunSummary,
    Schedule,
    ScheduleAlert,
    ScheduleChange,
    Seed,
)
from rust_gauge.contract.worklist import AlertSettings, WorkAct, WorkItem
from rust_gauge.gateways.bench_in import BenchIn
from rust_gauge.service.placement import schedules as service
from rust_gauge.service.worklist import items
from rust_gauge.standins.seed_host import SeedHost
from rust_gauge.store import tables as t
from tests.conftest import Office
from tests.service.placing import TRUST
from tests.vectors.assay_messages import message

DAILY = Rhythm(every="daily", hours=[9])


def new_schedule(name: str = "weekly", **more: Any) -> NewSchedule:
    return NewSchedule(**{"name": name, "outlet": "office", "rhythm": DAILY, **more})


@pytest.fixture
def schedule(office: Office, client: Client, seeds: list[Seed], outlet: Outlet) -> Schedule:
    return client.placement.add_schedule(office.slug, new_schedule(), message())


def tick(office: Office, at: datetime | None = None, hours: float = 0) -> int:
    """Start what is due, so many hours from now or at a time."""
    later = timedelta(hours=hours) if at is None else at - office.world.clock.now
    with office.world.clock.later(later):
        started = service.run_due(office.world.context)
        office.world.work()
    return started


def runs(office: Office, client: Client) -> list[RunSummary]:
    return list(client.placement.runs(office.slug))


def test_a_schedule_runs_at_its_times_once_and_not_while_it_is_paused(
    office: Office, client: Client, schedule: Schedule
) -> None:
    assert (schedule.when, schedule.has_message) == ("Daily at 09:00 (UTC)", True)
    assert schedule.next_at is not None
    first = schedule.next_at
    assert tick(office, first - timedelta(minutes=1)) == 0
    assert (tick(office, first), tick(office, first + timedelta(minutes=1))) == (1, 0)
    (run,) = runs(office, client)
    assert (run.schedule, run.why) == ("weekly", "on time")
    now = client.placement.schedule(office.slug, "weekly")
    assert (now.next_at, now.last_run, now.ran_at) == (first + timedelta(days=1), run.id, first)
    # Nobody was there for days: one run, not one for each day.
    assert tick(office, first + timedelta(days=5, hours=1)) == 1
    paused = client.placement.update_schedule(office.slug, "weekly", ScheduleChange(enabled=False))
    assert (paused.enabled, paused.next_at) == (False, None)
    assert tick(office, first + timedelta(days=9)) == 0
    with office.world.clock.later(timedelta(days=30)):
        resumed = client.placement.update_schedule(office.slug, "weekly", ScheduleChange(enabled=True))
        assert resumed.next_at is not None and resumed.next_at > office.world.clock.now
    client.placement.delete_schedule(office.slug, "weekly")
    assert len(runs(office, client)) == 2
    with pytest.raises(NotFoundError):
        client.placement.schedule(office.slug, "weekly")


def test_seeds_and_providers_are_left_out(office: Office, client: Client, seeds: list[Seed], outlet: Outlet) -> None:
    for name, more in {
        "all": {},
        "one-provider": {"without_providers": ["kestrelbox.example"]},
        "one-seed": {"lists": ["weekly"], "without_seeds": [seeds[0].id, seeds[1].id]},
    }.items():
        client.placement.add_schedule(office.slug, new_schedule(name, **more), message())
    sent = {
        name: {copy.address for copy in client.placement.run_schedule(office.slug, name).results}
        for name in ("all", "one-provider", "one-seed")
    }
    assert sent == {
        "all": set(TRUST), "one-provider": {"one@tidepost.example", "two@tidepost.example"},
        "one-seed": {"lost@kbox.example"},
    }  # fmt: skip


def test_a_change_of_a_record_starts_a_run(office: Office, client: Client, seeds: list[Seed], outlet: Outlet) -> None:
    client.placement.add_schedule(
        office.slug, new_schedule(rhythm=None, after_records=True), message({"From": "a@news.glasswort.example"})
    )
    assert client.placement.schedule(office.slug, "weekly").when == "After a change of records"
    assert tick(office) == 0
    add_change(office, "glasswort.example", "The DMARC record changed")  # the domain above the envelope's
    add_change(office, "other.example", "The SPF record changed")
    assert (tick(office, hours=2), tick(office, hours=3)) == (1, 0)
    (run,) = runs(office, client)
    assert run.why == "after a change of glasswort.example: The DMARC record changed"


def add_change(office: Office, domain: str, title: str) -> None:
    """A record that changed in an hour."""
    now = office.world.clock.now
    values = {"origin": "added", "selectors": [], "created_at": now}
    with office.world.context.store.engine.begin() as connection:
        made = connection.execute(t.sending_domain.insert().values(tenant_id=office.tenant.id, name=domain, **values))
        connection.execute(
            t.domain_history.insert().values(
                tenant_id=office.tenant.id, domain_id=made.inserted_primary_key[0], kind="record", title=title, audit_id=0,
                happened_at=now + timedelta(hours=1), document={},
            )
        )  # fmt: skip


def test_another_message_of_the_template_starts_a_run_and_the_same_one_does_not(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    client.trays.add(office.slug, NewTray(name="staging", series_header="X-Template"))
    client.placement.add_schedule(
        office.slug, new_schedule(rhythm=None, after_template=True, tray="staging", template="spring")
    )
    assert tick(office) == 0  # nothing there yet
    put = client.trays.put
    put(office.slug, "staging", message({"X-Template": "spring", "Subject": "Spring is here"}))
    assert (tick(office), tick(office, hours=0.1)) == (1, 0)
    put(office.slug, "staging", message({"X-Template": "spring", "Subject": "Spring is here", "Date": "later"}))
    put(office.slug, "staging", message({"X-Template": "summer", "Subject": "Summer is here"}))
    assert tick(office, hours=0.2) == 0
    put(office.slug, "staging", message({"X-Template": "spring", "Subject": "Spring, free tickets"}))
    assert tick(office, hours=0.3) == 1
    assert [(run.subject, run.why) for run in runs(office, client)] == [
        ("Spring, free tickets", "after a change of the message"), ("Spring is here", "after a change of the message"),
    ]  # fmt: skip


def test_a_message_mailed_to_the_address_of_a_schedule_is_copied_from_then_on(
    office: Office, client: Client, schedule: Schedule, bench: BenchIn
) -> None:
    address = client.placement.schedule(office.slug, "weekly").address
    assert address.endswith("@bench.skerry.example")
    with smtplib.SMTP("localhost", office.world.context.settings.bench_port, timeout=60) as session:
        session.sendmail("anybody@elsewhere.example", [address], message({"Subject": "Second"}))
        session.sendmail("anybody@elsewhere.example", [address], message({"Subject": "Third"}))
        with pytest.raises(smtplib.SMTPDataError, match="no header"):
            session.sendmail("anybody@elsewhere.example", [address], b"\r\nno header")
    assert client.placement.run_schedule(office.slug, "weekly").subject == "Third"


def test_a_copy_of_a_schedule_has_its_message_and_is_paused(office: Office, client: Client, schedule: Schedule) -> None:
    made = client.placement.copy_schedule(office.slug, "weekly", "weekly-2")
    same = {"name": "weekly-2", "enabled": False, "next_at": None}
    ignored = {"address", "created_at"}
    assert made.model_dump(exclude=ignored) == {**schedule.model_dump(exclude=ignored), **same}
    assert made.address != schedule.address or not made.address
    with pytest.raises(AlreadyThereError):
        client.placement.copy_schedule(office.slug, "weekly", "weekly-2")


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"rhythm": None}, "rhythm"),
        ({"rhythm": Rhythm(every="weekly", hours=[9])}, "rhythm.weekdays"),
        ({"rhythm": Rhythm(every="daily")}, "rhythm.hours"),
        ({"rhythm": Rhythm(every="hourly", time_zone="Nowhere/Town")}, "rhythm.time_zone"),
        ({"alert": ScheduleAlert(after_minutes=90)}, "alert.after_minutes"),
        ({"template": "spring"}, "template"),
    ],
)
def test_settings_that_cannot_work_are_refused(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet, change: dict[str, Any], field: str
) -> None:
    with pytest.raises(InvalidInputError) as caught:
        client.placement.add_schedule(office.slug, new_schedule(**change))
    assert [error.field for error in caught.value.problem.errors] == [field]


@pytest.mark.parametrize(
    "change",
    [
        {"outlet": "other"}, {"tray": "none"}, {"lists": ["none"]}, {"seeds": [10**6]}, {"without_seeds": [10**6]},
        {"without_providers": ["none.example"]},
    ],
)  # fmt: skip
def test_what_the_tenant_does_not_have_is_refused(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet, change: dict[str, Any]
) -> None:
    with pytest.raises(NotFoundError):
        client.placement.add_schedule(office.slug, new_schedule(**change))


def open_items(office: Office, client: Client) -> list[WorkItem]:
    return [
        item for item in client.worklist.list(tenant=office.slug) if item.kind in ("placement", "schedule", "seeds")
    ]


def detect(office: Office, hours: float) -> None:
    with office.world.clock.later(timedelta(hours=hours)):
        items.detect(office.world.context, office.tenant)


def test_a_schedule_that_cannot_start_is_an_item_until_it_can(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    client.worklist.set_settings(office.slug, AlertSettings(wait_minutes=0))
    client.placement.add_schedule(office.slug, new_schedule())  # without a message
    assert tick(office, hours=24) == 0
    assert client.placement.schedule(office.slug, "weekly").problem.startswith("No message was handed in yet")
    detect(office, 24.1)
    (item,) = open_items(office, client)
    assert (item.kind, item.title) == ("schedule", "The schedule weekly cannot start")
    client.placement.hand_in_to_schedule(office.slug, "weekly", message())
    with office.world.clock.later(timedelta(hours=25)):
        done = client.worklist.act(office.slug, item.id, WorkAct(act="recheck"))
    assert done.state == "resolved"


def test_copies_in_spam_open_one_item_after_the_waiting_time_and_good_ones_close_it(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet, monkeypatch: pytest.MonkeyPatch
) -> None:
    client.worklist.set_settings(office.slug, AlertSettings(wait_minutes=0, resolve_hours=0))
    alert = ScheduleAlert(share=0.5, copies=1, after_minutes=20)
    client.placement.add_schedule(
        office.slug, new_schedule(alert=alert), message({"From": "Desk <a@news.glasswort.example>"})
    )
    monkeypatch.setitem(TRUST, "one@tidepost.example", "Spam")
    assert tick(office, hours=24) == 1
    tick(office, hours=24.01)  # copies are found
    detect(office, 24.2)
    assert open_items(office, client) == []  # the relay may still have copies in its queue
    for hours in (24.4, 24.6, 24.8):
        detect(office, hours)
    found = {item.title: item for item in open_items(office, client)}
    assert set(found) == {
        "Test copies in spam or missing at tidepost.example: news.glasswort.example",
        "Test copies in spam or missing at kestrelbox.example: news.glasswort.example",
    }
    item = found["Test copies in spam or missing at tidepost.example: news.glasswort.example"]
    assert "2 of 2 copies of run" in item.text
    assert "between 34 and 100 %" in item.text
    assert len([n for n in client.worklist.notifications(office.slug) if n.item_id == item.id]) <= 1
    for address in TRUST:
        monkeypatch.setitem(TRUST, address, "INBOX")
    assert tick(office, hours=48) == 1
    tick(office, hours=48.01)
    detect(office, 48.5)
    detect(office, 48.6)
    assert {item.state for item in open_items(office, client)} <= {"resolved"}


def test_a_seed_that_cannot_be_read_is_an_item_where_schedules_need_it(
    office: Office, client: Client, schedule: Schedule, seeds: list[Seed], provider: SeedHost
) -> None:
    client.worklist.set_settings(office.slug, AlertSettings(wait_minutes=0, resolve_hours=0))
    provider.boxes["one@tidepost.example"].locked = True
    client.placement.check_seed(office.slug, seeds[0].id)
    detect(office, 0.1)
    (item,) = open_items(office, client)
    assert item.title == "The seed one@tidepost.example cannot be read"
    assert "Sign in on the web" in item.remedy
    provider.boxes["one@tidepost.example"].locked = False
    assert client.worklist.act(office.slug, item.id, WorkAct(act="recheck")).state == "resolved"


def test_two_processes_start_one_run(office: Office, client: Client, schedule: Schedule) -> None:
    from concurrent.futures import ThreadPoolExecutor

    assert schedule.next_at is not None
    with office.world.clock.later(schedule.next_at - office.world.clock.now), ThreadPoolExecutor(4) as pool:
        started = list(pool.map(lambda _: service.run_due(office.world.context), range(4)))
    assert (sum(started), len(runs(office, client))) == (1, 1)


def test_a_day_of_many_runs_is_one_point(office: Office, client: Client, schedule: Schedule) -> None:
    """Beyond 400 runs a chart has a point for each day, with the same sums."""
    from rust_gauge.service.placement import history

    for _ in range(3):
        client.placement.run_schedule(office.slug, "weekly")
        office.world.work()
    tick(office, hours=0.01)
    by_run = client.placement.history(office.slug, days=7)
    assert (by_run.by, by_run.runs) == ("run", 3)
    before = history._BY_RUN
    try:
        history._BY_RUN = 2  # type: ignore[misc]
        by_day = client.placement.history(office.slug, days=7)
    finally:
        history._BY_RUN = before  # type: ignore[misc]
    assert (by_day.by, by_day.runs) == ("day", 3)
    for runs_of, day_of in zip(by_run.providers, by_day.providers, strict=True):
        (point,) = day_of.points
        assert (point.judged, point.inbox) == (
            sum(each.judged for each in runs_of.points), sum(each.inbox for each in runs_of.points)
        )  # fmt: skip
        assert point.at == datetime.combine(office.world.clock.now.date(), datetime.min.time(), UTC)
