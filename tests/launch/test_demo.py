"""The demo: its DNS, its mail, its story; and that loading it twice changes no number."""

import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import replace
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path

import pytest
from sqlalchemy import Connection, func, select, text

from rust_gauge.client import Client
from rust_gauge.contract.audits import DnsListSetting
from rust_gauge.contract.domains import NewDomain
from rust_gauge.contract.events import NewEvent
from rust_gauge.contract.relays import RelayDescription
from rust_gauge.core.audit import AuditRequest, Stream, audit_domain
from rust_gauge.core.dns import drive
from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.roles import Role
from rust_gauge.core.transport import DnsList
from rust_gauge.demo import counted, load
from rust_gauge.demo.bench import load_bench
from rust_gauge.demo.generator import day_counts, day_rows
from rust_gauge.demo.limits import load_limits
from rust_gauge.demo.placement import PASSWORD, SEED_HOSTS, load_placement, write_host
from rust_gauge.demo.scenario import FLOWS, INCIDENTS, PROVIDERS, TENANTS, Tenant
from rust_gauge.demo.verification import KEY, load_verification
from rust_gauge.demo.warmup import load_warmup
from rust_gauge.demo.zones import LISTS, NAME_SERVERS, RELAY_DESCRIPTIONS, SELECTORS, streams_of, write_zones
from rust_gauge.gateways import outlet_out, seed_mailbox
from rust_gauge.gateways.resolver import Resolver, ResolverSettings
from rust_gauge.service.bench.examining import examine_next
from rust_gauge.service.domains import domains as service_domains
from rust_gauge.service.intake.rows import to_event
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.standins.seed_host import Box, by_rules
from rust_gauge.standins.verifier import VerifierDesk
from rust_gauge.store import tables
from rust_gauge.store.accounts import TenantAccess
from tests.conftest import Office, World, forget_tenant
from tests.rows import ndjson

ANCHOR = date(2026, 11, 20)
NOW = datetime(2027, 1, 1, tzinfo=UTC)


@pytest.fixture(scope="module", autouse=True)
def nothing_stays(world: World) -> Iterator[None]:
    """The demo's tenants go again: whoever looks ahead afterwards would have to compute all their readings."""
    yield

    def forget(connection: Connection) -> None:
        slugs = [tenant.slug for tenant in TENANTS]
        for (id,) in connection.execute(select(tables.tenant.c.id).where(tables.tenant.c.slug.in_(slugs))).all():
            forget_tenant(connection, id)

    world.context.store.transaction(forget)


@pytest.fixture(scope="module")
def zones(tmp_path_factory: pytest.TempPathFactory) -> Path:
    directory = tmp_path_factory.mktemp("demo") / "zones"
    write_zones(directory)
    return directory


@contextmanager
def served(zones: Path, world: World) -> Iterator[None]:
    """Serve the demo's zones for a while."""
    for path in zones.glob("*.zone"):
        (world.zones / path.name).write_text(path.read_text())
    world.dns.reload()
    try:
        yield
    finally:
        for path in zones.glob("*.zone"):
            if path.stem not in ("tidepost.example", "kbox.example"):
                (world.zones / path.name).unlink()
        world.zone("tidepost.example", "@ IN MX 10 mx1\nmx1 IN A 192.0.2.5\n")
        world.zone("kbox.example", "@ IN MX 10 mx.kestrelbox.example.\n")


def found(zones: Path, world: World, domain: str) -> set[str]:
    """The rules of all findings of a domain, over the wire."""
    reach = dict.fromkeys(NAME_SERVERS, ("127.0.0.1", world.dns.port))
    resolver = Resolver(ResolverSettings((("127.0.0.1", world.dns.port),), timeout=20, reach=reach))
    with served(zones, world), closing(resolver):
        streams = tuple(
            Stream(header_from=domain, **{**stream, "ips": tuple(stream["ips"])})  # type: ignore[arg-type, dict-item]
            for stream in streams_of(domain)
        )
        lists = tuple(DnsList(str(row["zone"]), str(row["kind"])) for row in LISTS)
        request = AuditRequest(domain, tuple(SELECTORS[domain]), streams=streams, lists=lists, ask_pages=False)
        return {finding.rule for finding in drive(audit_domain(request), resolver.answer_all).findings}


@pytest.mark.parametrize(
    ("domain", "rules"),
    [
        ("copperline.example", {"spf-several-records", "dkim-key-short", "dmarc-missing", "listed-ip"}),
        ("members.copperline.example", {"spf-neutral", "dmarc-missing"}),
        ("news.glasswort.example", {"dkim-key-unreadable", "dmarc-only-watching"}),
        ("catalogue.thornfieldseeds.example", {"spf-lookups-close", "dkim-testing", "listed-ip"}),
        ("marramferries.example", set()),
        ("mail.marramferries.example", set()),
        ("alerts.marramferries.example", set()),
        ("departures.marramferries.example", set()),
        ("reminders.halyardclinic.example", set()),
    ],
)
def test_each_planted_mistake_is_found_and_nothing_else(
    zones: Path, world: World, domain: str, rules: set[str]
) -> None:
    assert found(zones, world, domain) == rules


def test_the_scenario_hangs_together() -> None:
    tenants = {tenant.slug for tenant in TENANTS}
    domains = {flow.domain for flow in FLOWS}
    assert {flow.tenant for flow in FLOWS} == tenants
    assert domains == set(SELECTORS)
    assert len(domains) == 13
    assert all(set(incident.domains) <= domains for incident in INCIDENTS)
    assert {incident.provider for incident in INCIDENTS} <= {"", *(provider.name for provider in PROVIDERS)}


def test_a_day_comes_out_the_same_each_time_and_is_all_good_events() -> None:
    day = ANCHOR - timedelta(days=3)
    rows = list(day_rows(day, ANCHOR, "halyard"))
    assert rows == list(day_rows(day, ANCHOR, "halyard"))
    events = [to_event(NewEvent.model_validate(row), NOW) for row in rows]
    assert len({event.identity for event in events}) == len(events)
    assert {Kind.ACCEPTED, Kind.DELIVERED, Kind.OPENED} <= {event.kind for event in events}


@pytest.mark.parametrize(
    ("tenant", "domain", "age", "cause"),
    [
        ("copperline", "copperline.example", 10, "authentication"),
        ("marram", "alerts.marramferries.example", 16, "authentication"),
        ("thornfield", "catalogue.thornfieldseeds.example", 42, "blocklisted"),
    ],
)
def test_the_story_is_in_the_mail_of_its_day_and_not_before(tenant: str, domain: str, age: int, cause: str) -> None:
    def share(days_back: range) -> float:
        counts: Counter[str] = Counter()
        for back in days_back:
            for key, n in day_counts(ANCHOR - timedelta(days=back), ANCHOR, tenant):
                if key.domain == domain and key.kind in (Kind.DELIVERED, Kind.BOUNCED):
                    counts[str(key.cause)] += n
        return counts[cause] / max(1, counts.total())

    assert share(range(age, age + 3)) > 0.05
    assert share(range(60, 67)) == 0


def test_counts_of_a_day_are_much_like_its_events() -> None:
    day = ANCHOR - timedelta(days=5)
    counted = sum(n for key, n in day_counts(day, ANCHOR, "marram") if key.kind is Kind.DELIVERED)
    made = sum(row["kind"] == "delivered" for row in day_rows(day, ANCHOR, "marram"))
    assert counted == pytest.approx(made, rel=0.02)


def test_loading_the_demo_twice_changes_no_number(
    zones: Path, world: World, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setattr(load, "TENANTS", (Tenant("halyard", "Halyard Clinic"),))
    monkeypatch.setattr(load, "HISTORY_DAYS", 8)
    monkeypatch.setattr(load, "EVENT_DAYS", 4)
    settings = world.context.settings.model_copy(update={"var_dir": tmp_path})
    context = type(world.context)(world.context.store, world.context.resolver, settings, world.clock)
    assert isinstance(settings, Settings)

    def numbers() -> list[tuple[object, ...]]:
        with world.context.store.engine.connect() as connection:
            tenant = connection.execute(text("SELECT id FROM tenant WHERE slug = 'halyard'")).scalar_one()
            queries = (
                "SELECT COUNT(*) FROM event WHERE tenant_id = :t",
                "SELECT SUM(n), COUNT(*) FROM flow_hour WHERE tenant_id = :t",
                "SELECT SUM(n), COUNT(*) FROM flow_day WHERE tenant_id = :t",
                "SELECT COUNT(*), SUM(times) FROM suppression_entry WHERE tenant_id = :t",
                "SELECT COUNT(*), SUM(tenths) FROM reading_series WHERE tenant_id = :t",
                "SELECT COUNT(*) FROM audit WHERE tenant_id = :t",
            )
            return [tuple(connection.execute(text(query), {"t": tenant}).one()) for query in queries]

    summary: list[str] = []
    load.load_demo(context, "isla@demo.example", "a long password", "rgt_demo_token", summary.append)
    first = numbers()
    assert all(row[0] for row in first)
    load.load_demo(context, "isla@demo.example", "a long password", "rgt_demo_token", summary.append)
    assert numbers() == first
    assert summary[-1] == "Demo data: nothing new."


def test_placement_turned_at_one_provider_and_an_outlet_was_refused(
    zones: Path, world: World, office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(world.context.settings, "placement_hosts", SEED_HOSTS)
    # Nobody answers at the demo's hosts here: none of sixteen sessions has to wait its ten seconds.
    for gateway in (seed_mailbox, outlet_out):
        monkeypatch.setattr(gateway, "_STEP", 0.2)
    tenant = replace(office.tenant, slug="glasswort")
    with served(zones, world):
        added = load_placement(world.context, tenant)
        assert load_placement(world.context, tenant) == 0
    found = list(client.placement.runs(office.slug))
    assert len(found) == added >= 34  # two a week for ninety days, some by another relay as well, and one that goes on
    now = world.clock()

    def share(provider: str, outlet: str, since: int, until: int) -> float:
        """In the inbox, of copies to a provider by an outlet, between so many days ago."""
        rates = [
            each.inbox for run in found for each in run.providers
            if each.inbox and each.provider == provider and run.outlet == outlet
            and since <= (now - run.created_at).days < until
        ]  # fmt: skip
        return sum(rate.count for rate in rates) / sum(rate.total for rate in rates)

    assert share("kestrelbox.example", "driftline", 12, 91) > 0.85
    assert share("kestrelbox.example", "driftline", 0, 10) < 0.5
    assert share("tidepost.example", "driftline", 0, 10) > 0.85
    refused = [run for run in found if run.copies.get("refused", 0) > 5]
    assert {run.outlet for run in refused} == {"cobble"}
    turns = {each.provider: each.turn for each in client.placement.history(office.slug).providers if each.turn}
    assert set(turns) == {"kestrelbox.example"}
    assert any("6,200 addresses" in change.text for change in turns["kestrelbox.example"].changes)
    seeds = client.placement.seeds(office.slug)
    assert {seed.provider for seed in seeds} == {provider.name for provider in PROVIDERS}


def test_the_providers_of_the_demo_file_by_rules_that_can_be_changed(tmp_path: Path) -> None:
    path = tmp_path / "seed-host.json"
    write_host(path)
    box = Box("seed1@tidepost.example", PASSWORD)
    sort = by_rules(path)
    assert sort(box, b"From: news@news.glasswort.example\r\n\r\n") == "INBOX"
    path.write_text(path.read_text().replace('"to": "*@k*box.example"', '"to": "*"').replace("0.75", "1"))
    assert sort(box, b"From: Theatre <news@news.glasswort.example>\r\n\r\n") == "Spam"
    assert sort(box, b"From: desk@marramferries.example\r\n\r\n") == "INBOX"


def test_what_lies_on_the_bench_has_marks_that_differ_for_stated_reasons(
    zones: Path, world: World, office: Office, client: Client
) -> None:
    settings = client.audits.settings(office.slug)
    lists = [DnsListSetting.model_validate(row) for row in LISTS]
    client.audits.set_settings(office.slug, settings.model_copy(update={"lists": lists}))
    world.context.resolver._cache.clear()  # what earlier tests asked, when other zones were served
    with served(zones, world):
        for slug in ("marram", "glasswort"):
            load_bench(world.context, replace(office.tenant, slug=slug), zones / "keys")
        while examine_next(world.context):
            pass
    drafts = list(client.trays.messages(office.slug, "office-bench"))
    assert len(drafts) == 12
    assert {each.worst for each in drafts} == {"fault", "risk", "note"}
    newest = list(client.trays.messages(office.slug, "paths", subject="This week at Glasswort"))
    footer, tracked, broken_key, listed, foreign, best = [each.id for each in newest if "issue" not in each.subject]
    done = client.trays.compare(office.slug, "paths", [best, foreign, listed, broken_key])
    reasons = [[(point.rule, point.because) for point in each.points] for each in done.comparisons]
    assert reasons == [
        [("spf-fail", ["authentication"])], [("address-listed", ["route"])], [("dkim-fail", ["authentication"])],
    ]  # fmt: skip
    (pair,) = client.trays.compare(office.slug, "paths", [tracked, footer]).comparisons
    assert {change.kind for change in pair.changes} >= {"links", "text", "html text"}
    points = {point.rule: point.because for point in pair.points}
    assert points["link-plain-http"] == ["links"]
    assert len(points["postal-address-missing"]) > 1, "text and structure changed together"
    series = client.trays.history(office.slug, "paths", "This week at Glasswort, issue …")
    assert (series.share_of_path, [rule.rule for rule in series.rules]) == (1.0, ["address-listed"])


def test_a_relay_has_limits_and_a_region_refuses_a_sender_that_nobody_proved(
    zones: Path, world: World, office: Office, client: Client
) -> None:
    for name in ("driftline", "cobble"):
        client.relays.set(office.slug, name, RelayDescription.model_validate(RELAY_DESCRIPTIONS[name]))
    with served(zones, world):
        for slug in ("glasswort", "copperline", "glasswort", "copperline"):  # the second time changes nothing
            load_limits(world.context, replace(office.tenant, slug=slug))
    usage = client.relays.usage(office.slug, "driftline")
    (reply,) = usage.unproven
    assert (reply.region, reply.address, reply.replies) == ("south", "surveys@news.glasswort.example", 14)
    assert {(hit.stated, hit.stated_per, hit.replies) for hit in usage.hits} == {(60, "hour", 9)}
    restricted = {limit.region: limit.uses for limit in usage.limits if limit.restricted}
    assert {use.per: use.used for use in restricted["south"]} == {"hour": 0, "day": 14}
    (west,) = client.relays.usage(office.slug, "cobble").limits
    assert (west.region, west.hold_back) == ("west", True)


def forget_providers(world: World) -> None:
    """Forget what earlier tests, without these zones, found of recipient domains: the clock stands still."""
    world.context.memory.clear()
    with world.context.store.engine.begin() as connection:
        connection.execute(tables.recipient_domain.delete())
        connection.execute(tables.provider_day.delete())


def test_the_clinic_is_held_back_at_the_provider_that_defers(
    zones: Path, world: World, office: Office, client: Client, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    tenant = replace(office.tenant, slug="halyard")
    forget_providers(world)
    anchor = world.clock().date()
    first = anchor - timedelta(days=26)
    with served(zones, world):
        for n in range(26):
            events = [
                row for row in day_rows(first + timedelta(days=n), anchor, "halyard")
                if row["stream"] == "reminders" and row["kind"] not in ("opened", "clicked")
            ]  # fmt: skip
            client.events.load(office.slug, ndjson(*events))
        load_warmup(world.context, tenant, anchor, tmp_path)
        load_warmup(world.context, tenant, anchor, tmp_path)
        world.work()
    (plan,) = client.warmup.list(office.slug)
    held = [each.provider for each in plan.tracks if any(reason.rate == "deferrals" for reason in each.reasons)]
    assert held == ["orchardmail.example"]
    (job,) = client.jobs.list(office.slug, kind="list_cut")
    assert (job.state, job.error) == ("done", "")
    assert job.result["counts"]["rows"] == 5000
    assert job.result["counts"]["cut"] + job.result["counts"]["removed"] == 5000


def test_verdicts_of_the_demo_are_compared_with_later_mail(
    zones: Path, world: World, office: Office, client: Client, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    tenant = replace(office.tenant, slug="thornfield")
    forget_providers(world)
    anchor = world.clock().date()
    with served(zones, world), VerifierDesk(0, KEY, wrong=0.1) as desk:
        threading.Thread(target=desk.serve_forever, daemon=True).start()
        monkeypatch.setattr(world.context.settings, "verifier_hosts", [f"127.0.0.1:{desk.port}"])
        for n in range(20):
            events = [
                row for row in day_rows(anchor - timedelta(days=20 - n), anchor, "thornfield")
                if row["kind"] in ("delivered", "bounced")
            ]  # fmt: skip
            client.events.load(office.slug, ndjson(*events))
        load_verification(world.context, tenant, desk.port, tmp_path)
        world.work()
        desk.shutdown()
    shown = client.verification.verifiers(office.slug)
    assert [each.name for each in shown] == ["pinmarsh", "goosander"]
    lines = {line.verdict: line for line in shown[0].record}
    assert lines["good"].mailed > 100
    assert 0 < lines["good"].invalid < 0.3 * lines["good"].mailed
    assert lines["bad"].invalid > 0.5 * lines["bad"].mailed
    assert len(client.verification.disagreements(office.slug)) > 0
    (job,) = client.jobs.list(office.slug, kind="list_check")
    assert (job.state, job.result["counts"]["rows"]) == ("done", 600)
    gauge = client.verification.gauge(office.slug)
    assert gauge.paid > 500
    assert gauge.own > 0
    assert gauge.saved > 0
    assert all(each.spent_today <= (each.budget_day or 0) for each in shown)


def test_mail_that_is_counted_only_is_added_hour_by_hour_and_once(
    world: World, office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Two days and a morning, the same again, an hour later, and after somebody removed the domain."""
    tenant = TenantAccess(office.tenant.id, "marram", "Marram Ferries", Role.ADMIN)
    monkeypatch.setattr(counted, "HISTORY_DAYS", 2)
    context, morning = world.context, datetime.combine(ANCHOR, time(7, 40), UTC)

    def delivered() -> Counter[datetime]:
        c = tables.flow_hour.c
        query = select(c.hour, func.sum(c.n)).where(c.tenant_id == tenant.id, c.kind == Count.DELIVERED.number)
        rows = context.store.transaction(lambda connection: connection.execute(query.group_by(c.hour)).all())
        return Counter({hour: int(n) for hour, n in rows})

    assert counted.add_counted(context, tenant, ANCHOR, morning) == 0, "its domain is not there yet"
    service_domains.add_domain(context, tenant, NewDomain(name="departures.marramferries.example"))
    assert counted.add_counted(context, tenant, ANCHOR, morning) > 0
    first = delivered()
    assert (min(first), max(first), len(first)) == (
        datetime.combine(ANCHOR - timedelta(days=2), time()), datetime.combine(ANCHOR, time(6)), 2 * 24 + 7,
    )  # fmt: skip
    assert counted.add_counted(context, tenant, ANCHOR, morning) == 0
    assert delivered() == first
    assert counted.add_counted(context, tenant, ANCHOR, morning + timedelta(hours=1)) > 0
    assert set(delivered() - first) == {datetime.combine(ANCHOR, time(7))}
