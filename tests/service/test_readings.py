"""From events to flow, readings and the wall; naming providers; jobs."""

from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta
from typing import Any

import httpx
import pytest

from rust_gauge.client import Client, InvalidInputError, NotFoundError
from rust_gauge.contract.readings import FactorSettings, ForecastRequest, NewAnnotation, ReadingSettings
from rust_gauge.contract.suppression import NewEntries
from rust_gauge.service import worker
from rust_gauge.service.readings import computation
from rust_gauge.service.readings import settings as reading_settings
from rust_gauge.service.receiver_reports.judging import ask_for_due
from rust_gauge.store import audits as store_settings
from rust_gauge.store import jobs, tables
from rust_gauge.store.jobs import Job
from tests.conftest import TODAY, Office, forget_others
from tests.reports import aggregate, record
from tests.rows import bounce, ndjson, row

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
    assert {provider.provider: provider.before.delivered for provider in flow.providers} == {
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


def test_complaints_are_counted_of_mail_to_those_that_report_them_overall_too(office: Office, client: Client) -> None:
    forget_complaints(office)
    load_a_day(office, client)
    week = client.flow.show(office.slug)
    silent = [each for each in week.providers if not each.reports_complaints]
    assert silent, "somebody reports nothing"
    assert week.total.complaints is not None
    told = [each.complaints for each in week.providers if each.complaints is not None]
    assert week.total.complaints.total == sum(each.total for each in told) < week.total.counts.delivered
    assert week.total.complaints.count == sum(each.count for each in told)


def forget_complaints(office: Office) -> None:
    """Whether a provider reports complaints is known from all tenants: those of other tests must not tell."""
    c = tables.flow_sum_day.c
    office.world.context.store.transaction(
        lambda connection: connection.execute(tables.flow_sum_day.delete().where(c.tenant_id != office.tenant.id))
    )


def test_readings_follow_events_and_their_pulls_add_up(office: Office, client: Client) -> None:
    forget_complaints(office)
    load_a_day(office, client)
    assert office.world.work() >= 1
    series = client.readings.series(office.slug, DOMAIN)
    assert [reading.day for reading in series.readings] == [date(2026, 11, 19), date(2026, 11, 20)]
    last = series.readings[-1]
    assert last.value is not None
    assert last.provisional
    assert not series.readings[0].provisional
    assert round(10 * last.value) + sum(round(10 * pull.points) for pull in last.pulls) == 1000
    pulls = {(pull.factor, pull.provider): pull for pull in last.pulls}
    own, bounces, assumed = (
        pulls["complaints", "kestrelbox.example"], pulls["invalid_addresses", "tidepost.example"],
        pulls["complaints", "tidepost.example"],
    )  # fmt: skip
    assert (own.count, own.total, own.elsewhere) == (10, 100, False)
    assert (bounces.count, bounces.total) == (20, 500)
    assert (assumed.count, assumed.total, assumed.elsewhere) == (10, 100, True), "reported by another provider only"
    assert all(pull.points >= 1 for pull in (own, bounces, assumed))
    one = client.readings.series(office.slug, DOMAIN, provider="kestrelbox.example")
    assert (one.readings[-1].value or 0) < 60
    with pytest.raises(NotFoundError, match=r"no readings at provider unheard-of\.example"):
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
    assert (domain.name, domain.delivered, domain.faults) == (DOMAIN, 580, None)
    assert domain.heaviest is not None
    assert domain.heaviest.factor == "complaints"
    assert [len(cell.trend) for cell in domain.cells] == [14] * 4
    assert domain.cells[-1].value is None


def test_the_wall_of_an_earlier_day_is_as_it_was(office: Office, client: Client) -> None:
    days_of_mail(office, client, 20)
    before = client.readings.wall(days=7)
    with office.world.clock.later(timedelta(days=3)):
        at = TODAY + timedelta(days=3, hours=-1)
        rows = [bounce(n, time=at.isoformat(), message_id=f"later{n}") for n in range(90)]
        client.events.load(office.slug, ndjson(*rows))
        office.world.work()
        then, now = client.readings.wall(days=7, last=TODAY.date()), client.readings.wall(days=7)
        assert (then.day, now.day) == (TODAY.date(), TODAY.date() + timedelta(days=3))
        assert (then.rows[0].cells[0].trend, then.rows[0].delivered) == (before.rows[0].cells[0].trend, 700)
        assert (now.rows[0].cells[0].value or 100) < (then.rows[0].cells[0].value or 0) - 20
        assert now.rows[0].heaviest is not None
        assert now.rows[0].heaviest.measured
        assert client.readings.wall(last=TODAY.date() - timedelta(days=60)).rows == []
        with pytest.raises(InvalidInputError, match="in the future"):
            client.readings.wall(last=TODAY.date() + timedelta(days=4))


def test_streams_relays_and_addresses_have_readings_of_their_own(office: Office, client: Client) -> None:
    load_a_day(office, client)
    client.events.load(
        office.slug, ndjson(*(bounce(5000 + n, sending_ip="192.0.2.7", relay="other") for n in range(60)))
    )
    with office.world.clock.later(timedelta(minutes=6)):  # they are computed a while after the load
        office.world.work()
    for subject, names in (("stream", ["newsletter"]), ("relay", ["office-1", "other"]), ("ip", ["192.0.2.7"])):
        wall = client.readings.wall(subject=subject)  # type: ignore[arg-type]
        assert [row.name for row in wall.rows] == names
    (address,) = wall.rows
    assert (address.cells[0].value or 100) < 60
    series = client.readings.series(office.slug, "other", subject="relay")
    assert series.readings[-1].pulls[0].factor == "invalid_addresses"
    better = client.readings.series(office.slug, "office-1", subject="relay").readings[-1]
    assert (better.value or 0) > (series.readings[-1].value or 100)
    (pull, *_) = client.readings.series(office.slug, "192.0.2.7", subject="ip").readings[-1].pulls
    events = list(client.events.list(office.slug, ip="192.0.2.7", kinds=pull.kinds, causes=pull.causes))
    assert len(events) == 60
    assert list(client.events.list(office.slug, ip="192.0.2.8")) == []
    with pytest.raises(InvalidInputError, match="is not an IP address"):
        list(client.events.list(office.slug, ip="192.0.2"))
    with pytest.raises(NotFoundError, match="no relay nobody"):
        client.readings.series(office.slug, "nobody", subject="relay")


def test_questions_about_a_subject_at_the_same_time_get_the_same_and_the_next_one_gets_what_is_new(
    office: Office, client: Client
) -> None:
    days_of_mail(office, client, 12)
    with ThreadPoolExecutor(8) as pool:
        found = list(pool.map(lambda _: client.readings.series(office.slug, DOMAIN), range(16)))
        with pytest.raises(NotFoundError):
            list(pool.map(lambda _: client.readings.series(office.slug, "nobody.example"), range(16)))
    assert len({series.readings[-1].value for series in found}) == 1
    at = TODAY - timedelta(hours=1)
    client.events.load(office.slug, ndjson(*(bounce(n, time=at.isoformat(), message_id=f"x{n}") for n in range(90))))
    assert (client.readings.series(office.slug, DOMAIN).readings[-1].value or 0) < (found[0].readings[-1].value or 0)


def test_each_change_of_a_policy_stays_on_the_time_axis(office: Office, client: Client) -> None:
    client.readings.set_settings(office.slug, ReadingSettings())
    with office.world.clock.later(timedelta(days=1)):
        policy = client.suppression.policy(office.slug).policy
        client.suppression.set_policy(office.slug, policy)
        client.suppression.set_policy(office.slug, policy)
        annotations = client.readings.annotations(office.slug)
        assert [(annotation.kind, annotation.text, annotation.by, annotation.id) for annotation in annotations] == [
            ("policy", "reading settings changed", office.email, None),
            ("policy", "suppression policy changed", office.email, None),
            ("policy", "suppression policy changed", office.email, None),
        ]
        assert [annotation.day for annotation in annotations] == [TODAY.date(), *[TODAY.date() + timedelta(days=1)] * 2]


def days_of_mail(office: Office, client: Client, days: int, **last: Any) -> None:
    """A hundred messages a day up to today; `last` changes thirty of the last day's."""
    rows = []
    for back in range(days):
        at = TODAY - timedelta(days=back, hours=1)
        for n in range(100):
            more = last if back == 0 and n < 30 else {}
            rows.append(row(n, time=at.isoformat(), message_id=f"{back}.{n}", **more))
    client.events.load(office.slug, ndjson(*rows))
    office.world.work()


BROKEN = {
    "kind": "bounced",
    "reply_code": 550,
    "diagnostic": "550 5.7.26 mail is not authenticated",
    "stream": "alerts",
}


def test_a_pull_leads_to_its_events(office: Office, client: Client) -> None:
    days_of_mail(office, client, 20, **BROKEN)
    pull = client.readings.series(office.slug, DOMAIN).readings[-1].pulls[0]
    assert pull.factor == "authentication"
    events = list(client.events.list(office.slug, domain=DOMAIN, kinds=pull.kinds, causes=pull.causes))
    assert len(events) == 30
    assert {(event.kind, event.cause) for event in events} == {("bounced", "authentication")}


def test_what_receivers_report_of_our_own_mail_pulls_at_that_provider(office: Office, client: Client) -> None:
    days_of_mail(office, client, 20)
    office.world.zone(DOMAIN, '@ IN TXT "v=spf1 ip4:192.0.2.9 -all"\n')
    for back in range(1, 6):
        day = TODAY.date() - timedelta(days=back)
        ours = [record("192.0.2.9", 60, header_from=DOMAIN), record("192.0.2.9", 40, header_from=DOMAIN, spf=True)]
        forged = record("203.0.113.5", 5000, header_from=DOMAIN)
        report = aggregate(*ours, forged, id=f"r{back}", day=day, domain=DOMAIN)
        assert client.reports.add(office.slug, report).state == "stored"
        elsewhere = aggregate(*ours, id=f"x{back}", day=day, domain=DOMAIN, receiver="unheard-of.example")
        assert client.reports.add(office.slug, elsewhere).state == "stored"
    before = client.readings.series(office.slug, DOMAIN, provider="tidepost.example").readings[-1]
    ask_for_due(office.world.context)
    office.world.work()
    after = client.readings.series(office.slug, DOMAIN, provider="tidepost.example").readings[-1]
    (pull,) = (pull for pull in after.pulls if pull.factor == "alignment")
    assert (pull.count, pull.total, pull.kinds) == (300, 500, []), "of our own mail, at this provider"
    assert pull.points > 3
    assert round((before.value or 0) - (after.value or 0), 1) > 3
    whole = client.readings.series(office.slug, DOMAIN).readings[-1]
    assert {pull.provider for pull in whole.pulls if pull.factor == "alignment"} == {"tidepost.example"}


@pytest.mark.parametrize("factor", sorted(computation.EVENTS_OF))
def test_the_events_of_every_factor_can_be_asked_for(factor: str, office: Office, client: Client) -> None:
    kinds, causes = computation.EVENTS_OF[factor]
    assert bool(kinds) == (factor not in ("held", "copies", "placement", "reported", "alignment"))  # what is no event
    assert list(client.events.list(office.slug, kinds=kinds, causes=causes)) == []


def test_what_moved_it_names_factor_provider_stream_and_what_else_happened(office: Office, client: Client) -> None:
    days_of_mail(office, client, 20, **BROKEN)
    today = TODAY.date()
    client.readings.add_annotation(office.slug, NewAnnotation(day=today, text="a new key", domain=DOMAIN))
    client.readings.add_annotation(
        office.slug, NewAnnotation(day=today, text="of another domain", domain="other.example")
    )
    moved = client.readings.explain(office.slug, DOMAIN, today - timedelta(days=1), today)
    assert moved.first.value is not None
    assert moved.last.value is not None
    assert moved.moves[0].factor == "authentication"
    assert moved.moves[0].provider == "tidepost.example"
    assert round(sum(move.change for move in moved.moves), 1) == pytest.approx(
        moved.first.value - moved.last.value, abs=0.5
    )
    by_stream = {
        stream.stream: (stream.before, stream.after) for stream in moved.streams if stream.factor == "authentication"
    }
    assert by_stream == {"alerts": (0.0, pytest.approx(30 / 7, abs=0.1))}
    assert [annotation.text for annotation in moved.annotations if annotation.kind == "annotation"] == ["a new key"]
    (one, *_) = moved.factors
    assert (one.factor, one.providers, one.days) == ("authentication", 1, 7)
    assert (one.count_before, one.total_before, one.count_after, one.total_after) == (0, 700, 30, 700)
    assert sum(each.change for each in moved.factors) == pytest.approx(
        sum(move.change for move in moved.moves), abs=0.01
    )
    with pytest.raises(InvalidInputError, match="first must be before"):
        client.readings.explain(office.slug, DOMAIN, today, today)
    (note,) = [
        annotation
        for annotation in client.readings.annotations(office.slug, domain=DOMAIN)
        if annotation.kind == "annotation"
    ]
    assert note.id is not None
    client.readings.delete_annotation(office.slug, note.id)
    with pytest.raises(NotFoundError):
        client.readings.delete_annotation(office.slug, note.id)


def test_a_mended_key_is_foreseen_to_bring_it_back_and_room_is_told(office: Office, client: Client) -> None:
    days_of_mail(office, client, 20, **BROKEN)
    found = client.readings.forecast(office.slug, DOMAIN, ForecastRequest(remains={"authentication": 0}, days=20))
    assert len(found.days) == 20
    assert found.changed
    assert (found.days[8].with_change or 0) > (found.days[8].unchanged or 0)
    plain = client.readings.forecast(office.slug, DOMAIN, ForecastRequest(days=20))
    assert not plain.changed
    assert {day.with_change for day in plain.days} == {None}
    assert [day.unchanged for day in plain.days] == [day.unchanged for day in found.days]
    assert all(day.margin is not None for day in plain.days)
    rooms = {room.factor: room for room in client.readings.headroom(office.slug, DOMAIN)}
    bad = rooms["invalid_addresses"]
    assert bad.to_watch is not None
    assert bad.to_stop is not None
    assert 0 < bad.to_watch < bad.to_stop


def test_a_first_audit_is_not_a_fall_and_counts_whole_faults(office: Office, client: Client) -> None:
    name = f"{office.slug}.example"
    mail = [
        row(n, domain=name, time=(TODAY - timedelta(days=back, hours=1)).isoformat(), message_id=f"{back}.{n}")
        for back in range(12)
        for n in range(60)
    ]
    client.events.load(office.slug, ndjson(*mail))
    office.world.zone(name, '@ IN TXT "v=spf1 ip4:192.0.2.1 -all"\n@ IN TXT "v=spf1 ip4:192.0.2.2 -all"\n')
    client.domains.add(office.slug, name)
    found = client.audits.run(office.slug, name)
    office.world.work()

    def pulled() -> list[float]:
        """Points that record faults take, by day."""
        days = client.readings.series(office.slug, name).readings
        return [sum(pull.points for pull in day.pulls if pull.factor == "record_faults") for day in days]

    first, *_, before, last = pulled()
    assert found.faults == 1
    assert last == pytest.approx(before, abs=0.1) and last == pytest.approx(first, abs=0.5) and last > 0
    (measure,) = {p.measure for p in client.readings.series(office.slug, name).readings[-1].pulls if p.unit == "faults"}
    assert measure == 1, "a whole number, whatever risks there are"


def test_other_settings_compute_the_past_anew_and_show_old_beside_new(office: Office, client: Client) -> None:
    days_of_mail(office, client, 20, **BROKEN)
    before = client.readings.wall().rows[0].cells[0].value
    view = client.readings.set_settings(
        office.slug, ReadingSettings(factors={"authentication": FactorSettings(weight=0.1)})
    )
    assert view.job is not None
    assert {factor.name: factor.changed for factor in view.factors if factor.changed} == {"authentication": ["weight"]}
    office.world.work()
    job = client.jobs.get(office.slug, view.job)
    assert job.state == "done"
    (change,) = job.result["changes"]
    assert (change["name"], change["before"]) == (DOMAIN, before)
    assert change["after"] > change["before"]
    assert client.readings.wall().rows[0].cells[0].value == change["after"]
    shown = client.readings.settings(office.slug).last_change
    assert shown is not None
    assert shown.why == "settings"
    assert [(each.name, each.before, each.after) for each in shown.changes] == [(DOMAIN, before, change["after"])]
    with pytest.raises(InvalidInputError, match="below the stop line"):
        client.readings.set_settings(office.slug, ReadingSettings(factors={"complaints": FactorSettings(watch=0.5)}))
    assert client.readings.reset_settings(office.slug).settings.factors == {}
    office.world.work()
    assert client.readings.wall().rows[0].cells[0].value == before


def test_an_upgrade_that_changes_the_arithmetic_shows_old_beside_new_once(office: Office, client: Client) -> None:
    """The migration leaves the readings of before; whichever process asks first has them computed again."""
    days_of_mail(office, client, 20)
    now = client.readings.wall().rows[0].cells[0].value
    left = {"why": "arithmetic", "before": {DOMAIN: 41.5, "gone.example": None}}
    context = office.world.context
    id = office.tenant.id
    context.store.transaction(lambda c: store_settings.put_setting(c, id, "reading_change", left, TODAY))
    assert client.readings.settings(office.slug).last_change is None
    with ThreadPoolExecutor(4) as pool:
        asked = list(pool.map(lambda _: reading_settings.ask_after_upgrades(context), range(4)))
    assert sum(asked) == 1
    office.world.work()
    shown = client.readings.settings(office.slug).last_change
    assert shown is not None
    assert shown.why == "arithmetic"
    assert [(each.name, each.before, each.after) for each in shown.changes] == [
        ("gone.example", None, None), (DOMAIN, 41.5, now),
    ]  # fmt: skip
    assert reading_settings.ask_after_upgrades(context) == 0


def test_a_providers_outage_is_recognised_over_all_senders_and_is_nobodys_fault(office: Office, client: Client) -> None:
    rows = []
    for sender in range(4):
        for back in range(20):
            for n in range(40):
                at = (TODAY - timedelta(days=back, hours=1)).isoformat()
                base = {"domain": f"s{sender}.example", "recipient": f"p{n}@outage.example", "time": at,
                        "message_id": f"{sender}.{back}.{n}"}  # fmt: skip
                if back == 0 and n < 32:
                    rows.append(row(n, **base, kind="delayed", cause="rate_limited"))
                rows.append(row(n, **base))
    office.world.zone("outage.example", "@ IN MX 10 mx\nmx IN A 192.0.2.9\n")
    client.events.load(office.slug, ndjson(*rows))
    office.world.work()
    wall = client.readings.wall()
    blamed = {row.name: row.cells[1].value for row in wall.rows}
    computation.look_at_providers(office.world.context)
    office.world.work()
    wall = client.readings.wall()
    column = next(column for column in wall.columns if column.provider == "outage.example")
    assert column.outage == pytest.approx(0.78, abs=0.05)
    for each in wall.rows:
        value = each.cells[1].value
        assert value is not None
        assert value > (blamed[each.name] or 100), "it stood lower while the outage was counted against it"
        assert value > 97
    assert any(annotation.kind == "outage" for annotation in client.readings.annotations(office.slug))


def test_late_complaints_reopen_the_days_that_they_belong_to(office: Office, client: Client) -> None:
    days_of_mail(office, client, 20)
    late = [
        row(n, kind="complained", time=(TODAY - timedelta(days=3)).isoformat(), message_id=f"3.{n}") for n in range(8)
    ]
    before = {reading.day: reading.value for reading in client.readings.series(office.slug, DOMAIN).readings}
    client.events.load(office.slug, ndjson(*late))
    office.world.work()
    after = {reading.day: reading.value for reading in client.readings.series(office.slug, DOMAIN).readings}
    day = TODAY.date() - timedelta(days=3)
    assert after[day] < before[day] - 10
    kept = client.readings.wall(days=7).rows[0].cells[0].trend
    assert kept[-4] == after[day], "what is kept is what is shown"


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
    forget_others(office)
    load_a_day(office, client)
    office.world.work()
    with office.world.clock.later(timedelta(days=1)):
        worker.tick(office.world.context)
        office.world.work()
        found = client.readings.series(office.slug, DOMAIN).readings
    assert found[-1].day == TODAY.date() + timedelta(days=1)
    assert found[-1].mail < found[-2].mail


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
    again = context.store.transaction(lambda c: jobs.claim(c, now + timedelta(minutes=3)))
    assert again is not None
    assert (again.id, again.claim) == (job.id, job.claim + 1)
    context.store.transaction(lambda c: jobs.finish(c, again, now))


def test_a_job_that_fails_is_tried_again_later_and_given_up_in_the_end(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    context, clock = office.world.context, office.world.clock
    office.world.work()

    tries = []

    def broken(_: object, job: Job) -> None:
        if job.tenant_id == office.tenant.id:
            tries.append(job)
        raise RuntimeError("broken")

    monkeypatch.setitem(worker.KINDS, "readings", broken)
    context.store.transaction(lambda c: jobs.enqueue(c, "readings", office.tenant.id, 8, clock()))
    for n in range(jobs.MAX_ATTEMPTS + 3):
        with clock.later(timedelta(hours=3 * (n + 1))):
            while worker.work_once(context):  # jobs of others are due as well
                pass
    assert len(tries) == jobs.MAX_ATTEMPTS
    assert context.store.transaction(lambda c: jobs.waiting(c, "readings", office.tenant.id)) == 0


def test_mail_to_addresses_that_were_held_is_found_and_pulls(office: Office, client: Client) -> None:
    days_of_mail(office, client, 20)
    with office.world.clock.later(-timedelta(days=1)):
        held = [f"person{n}@tidepost.example" for n in range(20)]
        client.suppression.add(office.slug, NewEntries(addresses=held, note="they asked"))
    context = office.world.context
    context.store.transaction(lambda c: jobs.enqueue(c, "held", office.tenant.id, 0, context.clock()))
    office.world.work()
    pulls = {pull.factor: pull for pull in client.readings.series(office.slug, DOMAIN).readings[-1].pulls}
    assert pulls["held"].measure > 0.01
    assert pulls["held"].points > 5
    heaviest = client.readings.wall().rows[0].heaviest
    assert heaviest is not None
    assert (heaviest.factor, heaviest.points) == ("held", pulls["held"].points)
