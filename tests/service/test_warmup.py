"""Warm-up plans: steps, what holds them back at a provider, and what clearance lets through."""

from dataclasses import asdict
from datetime import UTC, date, datetime, timedelta
from typing import Any

import pytest

from rust_gauge.client import AlreadyThereError, Client, InvalidInputError, NotFoundError
from rust_gauge.contract.suppression import Sending
from rust_gauge.contract.warmup import (
    NewWarmupPlan,
    WarmupOverrule,
    WarmupPlan,
    WarmupPlanChange,
    WarmupShare,
    WarmupTiming,
)
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.warmup.judging import judge_due
from rust_gauge.service.worklist.place import place_of
from rust_gauge.service.worklist.warmup_signs import warmup_problems
from rust_gauge.store.warmup import Course
from tests.conftest import Office
from tests.rows import bounce, ndjson, row

DOMAIN = "news.d.example"
ALL_DAY = list(range(24))


def plan(**changes: Any) -> NewWarmupPlan:
    settings = {
        "name": "spring", "domain": DOMAIN, "shape": "custom", "ceilings": [100, 200, 400, 800], "hours": ALL_DAY,
        "shares": [WarmupShare(provider="tidepost.example", share=0.5)],
    }  # fmt: skip
    return NewWarmupPlan.model_validate({**settings, **changes})


@pytest.fixture
def known(office: Office, client: Client) -> None:
    """Mail of long ago, so that the provider is known."""
    past = (office.world.clock.now - timedelta(days=40)).isoformat()
    client.events.load(office.slug, ndjson(row(1, time=past, domain="old.d.example", recipient="a@tidepost.example")))


def load(
    office: Office, client: Client, day: date, n: int, *, deferred: int = 0, first: int = 0, **changes: Any
) -> None:
    """Mail of a day to the provider with a track of its own; some of it was deferred first."""
    at = datetime(day.year, day.month, day.day, 9, tzinfo=UTC)
    name = f"{day}-{first}"
    rows = [
        row(k, time=(at + timedelta(seconds=k)).isoformat(), message_id=f"{name}-{k}",
            recipient=f"p{name}-{k}@tidepost.example", **changes)
        for k in range(n)
    ]  # fmt: skip
    rows += [
        bounce(k, kind="delayed", time=(at + timedelta(seconds=k - 3600)).isoformat(), message_id=f"{name}-{k}",
               recipient=f"p{name}-{k}@tidepost.example", reply_code=451, diagnostic="451 4.7.1 Try later: reputation",
               **changes)
        for k in range(deferred)
    ]  # fmt: skip
    assert client.events.load(office.slug, ndjson(*rows)).rejected == 0


def track(found: WarmupPlan, provider: str = "tidepost.example") -> Any:
    return next(each for each in found.tracks if each.provider == provider)


def tomorrow(office: Office) -> date:
    office.world.clock.now += timedelta(days=1)
    judge_due(office.world.context)
    return office.world.clock.now.date()


@pytest.fixture(autouse=True)
def _same_day(office: Office) -> Any:
    now = office.world.clock.now
    yield
    office.world.clock.now = now


def test_a_plan_has_ceilings_for_each_provider(office: Office, client: Client, known: None) -> None:
    found = client.warmup.add(office.slug, plan())
    assert (found.state, found.steps, found.per_day) == ("running", [100, 200, 400, 800], 100)
    assert [(each.provider, each.per_day, each.step) for each in found.tracks] == [
        ("tidepost.example", 50, 1), ("(others)", 50, 1),
    ]  # fmt: skip
    assert track(found).per_hour == 3  # a quarter more than an even share of 24 hours
    assert found.ends_on == found.starts_on + timedelta(days=3)
    load(office, client, found.day, 20)
    again = client.warmup.get(office.slug, "spring")
    assert (again.sent, track(again).sent) == (20, 20)
    assert client.warmup.list(office.slug) == [again]


def test_it_goes_on_where_a_step_was_used_and_waits_where_it_was_not(
    office: Office, client: Client, known: None
) -> None:
    day = client.warmup.add(office.slug, plan()).day
    load(office, client, day, 45)
    tomorrow(office)
    found = client.warmup.get(office.slug, "spring")
    assert (track(found).step, track(found).per_day, track(found).turn) == (2, 100, "next")
    others = track(found, "(others)")
    assert (others.step, others.turn) == (1, "wait")
    steps = [each for each in client.readings.annotations(office.slug, domain=DOMAIN) if each.kind == "warmup_step"]
    assert [(each.day, each.text) for each in steps] == [
        (day, "warm-up spring: step 1 at tidepost.example, others"),
        (day + timedelta(days=1), "warm-up spring: step 2 at tidepost.example"),
    ]
    elsewhere = client.readings.annotations(office.slug, domain="old.d.example")
    assert not any(each.kind == "warmup_step" for each in elsewhere)
    assert others.why == "Waits at this step: only 0 of 50 messages were sent on the last day"
    assert found.per_day == 150


def test_it_waits_and_steps_back_by_what_the_provider_does_and_says_why(
    office: Office, client: Client, known: None
) -> None:
    day = client.warmup.add(office.slug, plan()).day
    load(office, client, day, 50)
    day = tomorrow(office)
    load(office, client, day, 100, deferred=16)
    day = tomorrow(office)
    found = track(client.warmup.get(office.slug, "spring"))
    assert (found.step, found.turn) == (2, "wait")
    assert found.why == "Waits at this step: deferrals: 16 of 100 (16.00 %), above 5 %"
    assert [(each.rate, each.count, each.total, each.line) for each in found.reasons] == [("deferrals", 16, 100, 0.05)]
    load(office, client, day, 100, deferred=90, first=1000)
    tomorrow(office)
    found = track(client.warmup.get(office.slug, "spring"))
    assert (found.step, found.turn) == (1, "back")
    days = client.warmup.days(office.slug, "spring").days
    mine = [each for each in days if each.provider == "tidepost.example"]
    assert [(each.step, each.sent, each.deferred, each.turn) for each in mine] == [
        (1, 50, 0, "start"), (2, 100, 16, "next"), (2, 100, 90, "wait"), (1, 0, 0, "back"),
    ]  # fmt: skip


def test_days_that_nobody_judged_are_judged_one_after_another(office: Office, client: Client, known: None) -> None:
    day = client.warmup.add(office.slug, plan()).day
    office.world.clock.now += timedelta(days=3)
    for n in range(3):
        load(office, client, day + timedelta(days=n), 50 * 2**n)
    judge_due(office.world.context)
    found = client.warmup.get(office.slug, "spring")
    assert track(found).step == 4
    assert [each.step for each in client.warmup.days(office.slug, "spring").days if each.provider != "(others)"] == [
        1, 2, 3, 4,
    ]  # fmt: skip


def test_a_plan_that_is_written_down_late_is_judged_by_what_was_sent_since(
    office: Office, client: Client, known: None
) -> None:
    today = office.world.clock.now.date()
    for n in range(2):
        load(office, client, today - timedelta(days=2 - n), 50 * 2**n)
    found = client.warmup.add(office.slug, plan(starts_on=today - timedelta(days=2)))
    assert track(found).step == 3


def test_a_person_overrules_with_a_reason(office: Office, client: Client, known: None) -> None:
    client.warmup.add(office.slug, plan())
    body = WarmupOverrule(step=3, provider="tidepost.example", reason="The provider allowed it by mail")
    found = client.warmup.overrule(office.slug, "spring", body)
    mine = track(found)
    assert (mine.step, mine.per_day, mine.turn, mine.decided_by) == (3, 200, "set", "Isla Mackay")
    assert mine.why == "Set by a person: The provider allowed it by mail"
    assert track(found, "(others)").step == 1
    with pytest.raises(InvalidInputError, match="Step 5 does not exist"):
        client.warmup.overrule(office.slug, "spring", WarmupOverrule(step=5, reason="more"))


def test_a_paused_plan_takes_no_step(office: Office, client: Client, known: None) -> None:
    day = client.warmup.add(office.slug, plan()).day
    client.warmup.update(office.slug, "spring", WarmupPlanChange(paused=True))
    load(office, client, day, 50)
    tomorrow(office)
    found = client.warmup.get(office.slug, "spring")
    assert (found.state, track(found).step) == ("paused", 1)
    client.warmup.update(office.slug, "spring", WarmupPlanChange(paused=False))
    assert track(client.warmup.get(office.slug, "spring")).step == 1


def test_new_steps_take_effect_at_once_and_a_shorter_plan_goes_on_at_its_last_step(
    office: Office, client: Client, known: None
) -> None:
    client.warmup.add(office.slug, plan())
    client.warmup.overrule(office.slug, "spring", WarmupOverrule(step=4, reason="for the test"))
    found = client.warmup.update(office.slug, "spring", WarmupPlanChange(ceilings=[1000, 3000]))
    assert (track(found).step, track(found).per_day) == (2, 1500)


def test_a_plan_ends_when_the_last_step_was_good_everywhere(office: Office, client: Client, known: None) -> None:
    day = client.warmup.add(office.slug, plan()).day
    client.warmup.overrule(office.slug, "spring", WarmupOverrule(step=4, reason="for the test"))
    load(office, client, day, 400)
    tomorrow(office)
    assert client.warmup.get(office.slug, "spring").state == "done"
    # Nothing is held back any more.
    asked = [f"x{n}@tidepost.example" for n in range(500)]
    assert client.suppression.clearance(office.slug, asked, domain=DOMAIN).clear == 500


def test_a_move_to_another_relay_leads_to_what_the_old_one_sent(office: Office, client: Client, known: None) -> None:
    today = office.world.clock.now.date()
    load(office, client, today - timedelta(days=3), 120, relay="office-1")
    found = client.warmup.add(
        office.slug,
        NewWarmupPlan(name="move", relay="office-2", move_from="office-1", start=10, days=5, hours=ALL_DAY),
    )
    assert found.steps[-1] == 120
    assert track(found).share == 1.0
    answer = client.suppression.clearance(office.slug, [f"x{n}@tidepost.example" for n in range(20)], relay="office-2")
    assert answer.clear == 1
    assert answer.answers[-1].why.endswith("until then it may go by office-1")


# Clearance


def asked(n: int, host: str = "tidepost.example", first: int = 0) -> list[str]:
    return [f"x{first + k}@{host}" for k in range(n)]


def test_clearance_lets_go_what_fits_and_says_when_the_rest_may_go(office: Office, client: Client, known: None) -> None:
    client.warmup.add(office.slug, plan(hours=[12, 13, 15]))  # now is noon
    answer = client.suppression.clearance(office.slug, asked(60), domain=DOMAIN)
    assert (answer.clear, answer.later, answer.held) == (21, 39, 0)  # an hour takes 1.25 times a third of 50
    later = [each for each in answer.answers if each.verdict == "later"]
    assert {each.reason for each in later} == {"warm_up"}
    now = office.world.clock.now
    times = [each.not_before for each in later]
    # 21 in the next hour and 8 in the one after that: 50 today. The rest waits for tomorrow.
    assert times[:21] == [now + timedelta(hours=1)] * 21
    assert times[21:29] == [now + timedelta(hours=3)] * 8
    assert times[29:] == [now + timedelta(days=1)] * 10
    # Another provider's mail has room of its own.
    assert client.suppression.clearance(office.slug, asked(5, "fenlandnet.example"), domain=DOMAIN).clear == 5
    # Mail that the plan is not about is not held back.
    assert client.suppression.clearance(office.slug, asked(60), domain="old.d.example").clear == 60
    assert client.suppression.clearance(office.slug, asked(60)).clear == 60


def test_what_was_let_go_counts_and_questions_alone_use_nothing_up(office: Office, client: Client, known: None) -> None:
    client.warmup.add(office.slug, plan(hours=[12]))
    purpose = Sending(domain=DOMAIN)
    for _ in range(2):
        assert client.suppression.clearance(office.slug, asked(60), domain=DOMAIN).clear == 50
    assert client.suppression.clearance(office.slug, asked(30), sending=purpose).clear == 30
    assert client.suppression.clearance(office.slug, asked(30, first=100), sending=purpose).clear == 20
    assert client.suppression.clearance(office.slug, asked(30), domain=DOMAIN).clear == 0
    assert track(client.warmup.get(office.slug, "spring")).sent == 50
    # Its events count nothing twice.
    load(office, client, office.world.clock.now.date(), 50)
    assert track(client.warmup.get(office.slug, "spring")).sent == 50


def test_a_list_in_pieces_is_held_back_as_one(office: Office, client: Client, known: None) -> None:
    client.warmup.add(office.slug, plan(hours=[12]))
    answers = list(client.suppression.clear_all(office.slug, asked(90), batch=20, domain=DOMAIN))
    clear = sum(each.verdict == "clear" for each in answers)
    assert clear == 50


def test_a_plan_that_does_not_hold_back_is_only_watched(office: Office, client: Client, known: None) -> None:
    client.warmup.add(office.slug, plan(hold_back=False))
    assert client.suppression.clearance(office.slug, asked(500), domain=DOMAIN).clear == 500
    client.warmup.update(office.slug, "spring", WarmupPlanChange(hold_back=True))
    assert client.suppression.clearance(office.slug, asked(500), domain=DOMAIN).later > 400
    client.warmup.delete(office.slug, "spring")
    assert client.suppression.clearance(office.slug, asked(500), domain=DOMAIN).clear == 500


# What is refused


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"domain": ""}, "needs a domain, stream, relay or sending IP"),
        ({"sending_ip": "192.0.2.300"}, "`192.0.2.300` is not an IP address"),
        ({"sending_ip": "192.0.2.3", "relay": "office-1"}, "counted by domain only"),
        ({"move_from": "office-1"}, "needs another relay"),
        ({"ceilings": [100]}, "at least two ceilings"),
        ({"ceilings": [100, 90]}, "Step 2 has 90 messages a day, fewer than the 100"),
        ({"shape": "even"}, "needs a target"),
        ({"shape": "even", "start": 50, "target": 20}, "does not grow"),
        ({"time_zone": "Faroe"}, "'Faroe' is not a time zone"),
        ({"starts_on": "2020-01-01"}, "too far away"),
        ({"shape": "even", "target": 500, "ends_on": "2026-11-20"}, "are 1 days"),
        ({"shares": [{"provider": "tidepost.example", "share": 0.7}] * 2}, "named twice"),
    ],
)
def test_a_plan_that_cannot_be_is_refused(
    office: Office, client: Client, known: None, changes: dict[str, Any], words: str
) -> None:
    with pytest.raises(InvalidInputError, match=words):
        client.warmup.add(office.slug, plan(**changes))


def test_names_are_unique_and_unknown_ones_lead_to_the_nearest(office: Office, client: Client, known: None) -> None:
    client.warmup.add(office.slug, plan())
    with pytest.raises(AlreadyThereError):
        client.warmup.add(office.slug, plan())
    with pytest.raises(NotFoundError, match="has no warm-up plan sprng"):
        client.warmup.get(office.slug, "sprng")
    with pytest.raises(NotFoundError, match="no mailbox provider tidepst"):
        client.warmup.add(office.slug, plan(name="other", shares=[WarmupShare(provider="tidepst.example", share=0.5)]))


def test_a_preview_stores_nothing(office: Office, client: Client) -> None:
    found = client.warmup.preview(office.slug, WarmupTiming(start=50, target=20_000, days=7))
    assert found.steps == [50, 130, 360, 1000, 2700, 7300, 20_000]
    assert client.warmup.list(office.slug) == []
    until = WarmupTiming(target=500, starts_on=date(2026, 12, 1), ends_on=date(2026, 12, 14))
    assert len(client.warmup.preview(office.slug, until).steps) == 14


# Readings, the wall and the worklist


def test_growth_that_a_plan_foresees_pulls_no_reading(office: Office, client: Client, known: None) -> None:
    today = office.world.clock.now.date()
    for n in range(10):
        load(office, client, today - timedelta(days=9 - n), 40 * (n + 1) - (400 if n == 9 else 0))
    office.world.work()
    without = client.readings.series(office.slug, DOMAIN).readings[-1]
    pull = next(each for each in without.pulls if each.factor == "volume")
    assert pull.points > 0.3
    client.warmup.add(
        office.slug, plan(ceilings=[80 * (n + 1) for n in range(12)], starts_on=today - timedelta(days=9))
    )
    office.world.work()
    foreseen = client.readings.series(office.slug, DOMAIN).readings[-1]
    assert next((each.points for each in foreseen.pulls if each.factor == "volume"), 0.0) < 0.1
    client.warmup.delete(office.slug, "spring")
    office.world.work()
    again = client.readings.series(office.slug, DOMAIN).readings[-1]
    assert next(each.points for each in again.pulls if each.factor == "volume") == pull.points


def test_a_ceiling_holds_on_until_the_next_one_and_not_for_ever() -> None:
    course = Course(DOMAIN, {7: {date(2026, 11, 2): 10, date(2026, 11, 4): 30}})
    still = timedelta(days=3)
    assert course.line(7, date(2026, 11, 1), 8, still) == [0, 10, 10, 30, 30, 30, 0, 0]
    assert course.line(7, date(2026, 11, 5), 3, still) == [30, 30, 0]
    assert course.line(0, date(2026, 11, 1), 2, still) == [0, 0]


def test_a_ceiling_that_is_passed_and_a_plan_that_is_held_back_are_items(
    office: Office, client: Client, known: None
) -> None:
    day = client.warmup.add(office.slug, plan()).day
    load(office, client, day, 50)
    tomorrow(office)
    load(office, client, office.world.clock.now.date(), 130, deferred=50)
    found = {row["key"]: row for row in incidents(office)}
    passed = found["warmup:spring:passed:tidepost.example"]
    assert passed["level"] == "investigate"
    assert passed["text"] == "130 messages on 2026-11-21, 30 more than the ceiling of 100 (step 2 of 4)."
    tomorrow(office)
    found = {row["key"]: row for row in incidents(office)}
    assert found["warmup:spring:passed:tidepost.example"]["text"].startswith("130 messages on 2026-11-21")
    held = found["warmup:spring:held:tidepost.example"]
    assert (held["title"], held["level"]) == ("spring stepped back at tidepost.example", "fix")
    assert held["evidence"] == ("deferrals: 50 of 130 (38.46 %), above 20 %",)
    assert "replies" in held["remedy"]
    assert set(found) == {"warmup:spring:passed:tidepost.example", "warmup:spring:held:tidepost.example"}


def incidents(office: Office) -> list[dict[str, Any]]:
    context = office.world.context

    def read(unit: UnitOfWork) -> list[dict[str, Any]]:
        place = place_of(unit.connection, office.tenant, unit.now.date(), [])
        return [asdict(incident) for incident in warmup_problems(unit, place)]

    return context.unit(office.tenant.id, read)


def test_the_wall_shows_todays_ceilings_beside_what_was_sent(office: Office, client: Client, known: None) -> None:
    day = client.warmup.add(office.slug, plan()).day
    load(office, client, day, 20)
    office.world.work()
    rows = {row.name: row for row in client.readings.wall(tenant=office.slug).rows}
    (shown,) = rows[DOMAIN].warmup
    assert (shown.plan, shown.steps, shown.per_day, shown.sent) == ("spring", 4, 100, 20)
    assert [(cell.provider, cell.per_day, cell.sent) for cell in shown.cells] == [
        ("tidepost.example", 50, 20), ("(others)", 50, 0),
    ]  # fmt: skip
    assert rows["old.d.example"].warmup == []
    past = client.readings.wall(tenant=office.slug, last=day - timedelta(days=1))
    assert all(row.warmup == [] for row in past.rows)
