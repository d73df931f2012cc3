"""From events to flow, readings and the wall; naming providers; jobs."""

from datetime import date, timedelta

import httpx
import pytest

from rust_gauge.client import Client, InvalidInputError, NotFoundError
from rust_gauge.service.jobs import worker
from rust_gauge.store import jobs
from tests.conftest import TODAY, Office
from tests.rows import bounce, ndjson, row
from tests.service.test_audits import put_off_others

DOMAIN = "news.d.example"


def load_a_day(office: Office, client: Client) -> None:
    """600 messages: 100 to kbox, of which ten complain; 500 to tidepost, of which twenty do not exist."""
    client.events.load(
        office.slug,
        ndjson(
            *(row(n, recipient=f"k{n}@kbox.example") for n in range(100)),
            *(row(200 + n, kind="complained", recipient=f"k{n}@kbox.example") for n in range(10)),
            *(row(1000 + n, recipient=f"t{n}@tidepost.example") for n in range(480)),
            *(bounce(2000 + n) for n in range(20)),
        ),
    )


def test_flow_shows_each_provider_beside_the_period_before(office: Office, client: Client) -> None:
    load_a_day(office, client)
    flow = client.flow.show(office.slug, domain=DOMAIN, first=TODAY.date(), last=TODAY.date())
    assert flow.providers[0].counts.delivered == 0
    assert {each.provider: each.before.delivered for each in flow.providers} == {
        "tidepost.example": 480,
        "kestrelbox.example": 100,
    }
    week = client.flow.show(office.slug)
    assert (week.first_day, week.last_day) == (date(2026, 11, 14), date(2026, 11, 20))
    tidepost, kestrelbox = week.providers
    assert tidepost.permanent is not None
    assert (tidepost.permanent.count, tidepost.permanent.total) == (20, 500)
    assert kestrelbox.complaints is not None
    assert kestrelbox.complaints.value == 0.1
    assert week.total.counts.delivered == 580
    assert [(cause.cause, cause.permanent) for cause in week.causes] == [("no_such_mailbox", 20)]


def test_readings_follow_events_and_their_pulls_add_up(office: Office, client: Client) -> None:
    load_a_day(office, client)
    assert office.world.work() >= 1
    series = client.readings.series(office.slug, DOMAIN)
    assert [reading.day for reading in series.readings] == [date(2026, 11, 19), date(2026, 11, 20)]
    last = series.readings[-1]
    assert last.value is not None
    assert last.provisional
    assert not series.readings[0].provisional
    assert round(10 * last.value) + sum(round(10 * pull.points) for pull in last.pulls) == 1000
    assert {(pull.factor, pull.provider) for pull in last.pulls[:2]} == {
        ("complaints", "kestrelbox.example"),
        ("bad_addresses", "tidepost.example"),
    }
    one = client.readings.series(office.slug, DOMAIN, provider="kestrelbox.example")
    assert (one.readings[-1].value or 0) < last.value
    with pytest.raises(NotFoundError, match="no readings of its own"):
        client.readings.series(office.slug, DOMAIN, provider="unheard-of.example")


def test_the_wall_has_domains_as_rows_and_providers_as_columns(office: Office, client: Client) -> None:
    load_a_day(office, client)
    office.world.work()
    wall = client.readings.wall(days=14)
    assert [column.provider for column in wall.columns] == [
        "(all)",
        "tidepost.example",
        "kestrelbox.example",
        "(others)",
    ]
    (domain,) = wall.rows
    assert (domain.domain, domain.delivered, domain.faults) == (DOMAIN, 580, None)
    assert domain.heaviest is not None
    assert (domain.heaviest.factor, domain.heaviest.provider) == ("bad_addresses", "tidepost.example")
    assert [len(cell.trend) for cell in domain.cells] == [14] * 4
    assert domain.cells[-1].value is None


def test_a_provider_is_called_what_the_tenant_calls_it(office: Office, client: Client) -> None:
    load_a_day(office, client)
    url = f"{office.world.url}/api/v1/tenants/{office.slug}/providers"
    headers = {"Authorization": f"Bearer {office.token}"}
    assert httpx.patch(f"{url}/tidepost.example", json={"label": "Tidepost"}, headers=headers).status_code == 200
    assert [provider.label for provider in client.flow.providers(office.slug)] == ["Tidepost", "kestrelbox.example"]
    assert client.flow.show(office.slug).providers[0].label == "Tidepost"
    office.world.work()
    assert client.readings.series(office.slug, DOMAIN, provider="Tidepost").label == "Tidepost"
    httpx.patch(f"{url}/tidepost.example", json={"label": ""}, headers=headers)
    assert not any(provider.named for provider in client.flow.providers(office.slug))
    assert httpx.patch(f"{url}/unheard-of.example", json={"label": "x"}, headers=headers).status_code == 404


@pytest.mark.parametrize(
    ("first", "last"), [(date(2026, 11, 20), date(2026, 11, 19)), (date(2020, 1, 1), date(2026, 1, 1))]
)
def test_a_period_that_is_none_is_refused(office: Office, client: Client, first: date, last: date) -> None:
    with pytest.raises(InvalidInputError):
        client.flow.show(office.slug, first=first, last=last)


def test_a_new_day_brings_new_readings_without_new_mail(office: Office, client: Client) -> None:
    put_off_others(office)
    load_a_day(office, client)
    office.world.work()
    with office.world.clock.later(timedelta(days=1)):
        worker.tick(office.world.context)
        office.world.work()
        readings = client.readings.series(office.slug, DOMAIN).readings
    assert readings[-1].day == TODAY.date() + timedelta(days=1)
    assert readings[-1].mail < readings[-2].mail


def test_requests_for_the_same_work_join_while_they_wait(office: Office) -> None:
    context, now = office.world.context, office.world.clock()
    office.world.work()
    for _ in range(3):
        context.store.transaction(lambda c: jobs.enqueue(c, "readings", office.tenant.id, 7, now))
    assert context.store.transaction(lambda c: jobs.waiting(c, "readings", office.tenant.id)) == 1
    job = context.store.transaction(lambda c: jobs.claim(c, now))
    assert job is not None
    assert context.store.transaction(lambda c: jobs.claim(c, now)) is None
    context.store.transaction(lambda c: jobs.enqueue(c, "readings", office.tenant.id, 7, now))
    assert context.store.transaction(lambda c: jobs.waiting(c, "readings", office.tenant.id)) == 2
    office.world.work()
    # A worker that died loses its job when the lease runs out.
    assert context.store.transaction(lambda c: jobs.claim(c, now + timedelta(minutes=3))) is not None
    context.store.transaction(lambda c: jobs.finish(c, job, now))


def test_a_job_that_fails_is_tried_again_later_and_given_up_in_the_end(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    context, clock = office.world.context, office.world.clock
    office.world.work()

    def broken(*_: object) -> None:
        raise RuntimeError("broken")

    monkeypatch.setitem(worker.KINDS, "readings", broken)
    context.store.transaction(lambda c: jobs.enqueue(c, "readings", office.tenant.id, 8, clock()))
    runs = 0
    for _ in range(jobs.MAX_ATTEMPTS + 3):
        with clock.later(timedelta(hours=3 * (runs + 1))):
            runs += worker.work_once(context)
    assert runs == jobs.MAX_ATTEMPTS
    assert context.store.transaction(lambda c: jobs.waiting(c, "readings", office.tenant.id)) == 0
