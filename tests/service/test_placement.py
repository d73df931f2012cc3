"""Placement from end to end: seeds and outlets with what goes wrong there, runs, and where copies land."""

from collections import Counter
from datetime import timedelta
from typing import Any

import httpx
import pytest

from rust_gauge.client import AlreadyThereError, Client, InvalidInputError, NotFoundError
from rust_gauge.contract.bench import NewTray, ReceiverRule, TrayChange
from rust_gauge.contract.flow import FlowSettings
from rust_gauge.contract.placement import (
    NewOutlet,
    NewRun,
    NewShare,
    Outlet,
    OutletChange,
    OutletField,
    Seed,
    SeedChange,
    SeedFolder,
    SharedRun,
)
from rust_gauge.gateways.bench_in import BenchIn
from rust_gauge.service.bench.certificate import tls_context
from rust_gauge.service.placement import keeping
from rust_gauge.standins.seed_host import SeedHost
from rust_gauge.store.placement import placed_by_series
from rust_gauge.store.placement_days import days_between
from rust_gauge.store.seeds import update_seed
from tests.changes import noted
from tests.conftest import TODAY, Office
from tests.gateways.servers import free_port
from tests.service.placing import TRUST, new_outlet, new_seed, outcomes, settled
from tests.vectors.assay_messages import message


def test_copies_are_sent_and_found_where_they_lie(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    assert [seed.problem for seed in seeds] == [None] * 3
    assert (outlet.problem, seeds[0].seen_folders) == (None, ["INBOX", "Spam"])
    run = client.placement.start(office.slug, NewRun(outlet="office", wait_minutes=60), message())
    assert (run.state, set(outcomes(run).values())) == ("running", {"queued"})
    run = settled(office, client, run)
    assert outcomes(run) == {
        "one@tidepost.example": "inbox", "two@tidepost.example": "spam", "lost@kbox.example": "sent",
    }  # fmt: skip
    assert run.state == "running"
    before = noted(office, "placement")
    assert before > 0
    run = settled(office, client, run, hours=1.1)
    assert noted(office, "placement") > before
    assert (outcomes(run)["lost@kbox.example"], run.state) == ("missing", "done")
    placed = {each.provider: each for each in run.providers}
    assert run.copies == {"inbox": 1, "spam": 1, "missing": 1}
    inbox = placed["tidepost.example"].inbox
    assert inbox is not None and (inbox.count, inbox.total) == (1, 2)
    assert inbox.low < 0.1 < 0.9 < inbox.high
    (copy,) = (each for each in run.results if each.outcome == "inbox")
    assert {each.method: each.result for each in copy.verified} == {"spf": "pass", "dmarc": "pass"}
    assert copy.hops[-1].by_host == "mx.tidepost.example"
    assert (copy.changes, copy.folder) == ([], "INBOX")
    assert copy.seconds is not None and copy.seconds < 5
    (shown,) = client.placement.runs(office.slug)
    assert (shown.id, shown.copies, shown.subject) == (run.id, run.copies, run.subject)


def test_the_turn_of_a_provider_is_told_with_what_changed_then(
    office: Office,
    client: Client,
    seeds: list[Seed],
    outlet: Outlet,
    provider: SeedHost,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    client.placement.delete_seed(office.slug, next(seed.id for seed in seeds if seed.address.startswith("lost")))
    monkeypatch.setitem(TRUST, "two@tidepost.example", "INBOX")
    day = office.world.clock.now.date()
    for number in range(14):
        with office.world.clock.later(timedelta(days=number)):
            if number == 8:
                monkeypatch.setitem(TRUST, "one@tidepost.example", "Spam")
                monkeypatch.setitem(TRUST, "two@tidepost.example", "Spam")
            raw = message({"Subject": "Spring" if number < 8 else "Spring, free tickets"})
            client.placement.start(office.slug, NewRun(outlet="office"), raw)
            office.world.work()
            with office.world.clock.later(timedelta(days=number, seconds=20)):
                office.world.work()
    with office.world.clock.later(timedelta(days=14)):
        found = client.placement.history(office.slug, days=30)
    assert (found.runs, found.outlets) == (14, ["office"])
    (tide,) = found.providers
    assert [(point.inbox, point.spam) for point in tide.points] == [(2, 0)] * 8 + [(0, 2)] * 6
    turn = tide.turn
    assert turn is not None and turn.worse
    assert turn.at.date() == day + timedelta(days=8)
    assert [(change.kind, change.text) for change in turn.changes if change.kind == "content"] == [
        ("content", "Spring before, Spring, free tickets then")
    ]
    assert client.placement.history(office.slug, days=30, outlet="other").runs == 0


def test_a_run_takes_its_message_from_a_tray_or_from_mail_to_its_address(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet, bench: BenchIn
) -> None:
    import smtplib

    client.trays.add(office.slug, NewTray(name="staging"))
    caught = client.trays.put(office.slug, "staging", message({"Subject": "From a tray"}))
    run = client.placement.start(office.slug, NewRun(outlet="office", tray="staging", message=caught.id))
    assert (run.state, run.subject, run.address) == ("running", "From a tray", "")
    awaiting = client.placement.start(office.slug, NewRun(outlet="office", seeds=[seeds[0].id]))
    assert awaiting.state == "awaiting"
    assert awaiting.address.endswith("@bench.skerry.example")
    port = office.world.context.settings.bench_port
    with smtplib.SMTP("localhost", port, timeout=60) as session:
        session.sendmail("anybody@elsewhere.example", [awaiting.address], message({"Subject": "By mail"}))
        with pytest.raises(smtplib.SMTPRecipientsRefused):  # once only
            session.sendmail("anybody@elsewhere.example", [awaiting.address], message())
    run = settled(office, client, awaiting)
    assert (run.subject, outcomes(run), run.state) == ("By mail", {"one@tidepost.example": "inbox"}, "done")
    with pytest.raises(AlreadyThereError):
        client.placement.hand_in(office.slug, run.id, message())


def test_the_history_of_a_template_has_its_placement_beside_the_marks(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    client.trays.add(office.slug, NewTray(name="staging", series_header="X-Template"))
    caught = client.trays.put(office.slug, "staging", message({"X-Template": "spring"}))
    for new in (
        NewRun(outlet="office", tray="staging", message=caught.id),
        NewRun(outlet="office", seeds=[seeds[0].id]),
    ):
        run = client.placement.start(office.slug, new, None if new.message else message({"Subject": "Other"}))
        settled(office, client, run)
    history = client.trays.history(office.slug, "staging", "spring")
    (placed,) = history.placement
    assert (placed.run, placed.outlet) == (run.id - 1, "office")
    assert placed.inbox is not None and (placed.inbox.count, placed.inbox.total) == (1, 2)
    assert [point.id for point in history.points] == [caught.id]
    store = office.world.context.store
    found = store.transaction(lambda c: placed_by_series(c, office.tenant.id, TODAY - timedelta(days=1)))
    assert found == {"spring": (2, 1), "Other": (1, 0)}


@pytest.mark.parametrize(
    ("change", "kind", "words"),
    [
        ({"password": "wrong"}, "sign-in", "application password"),
        ({"folders": [SeedFolder(folder="Offers", means="other")]}, "folder", "Choose folders"),
        ({"address": "full@tidepost.example"}, "full", "Delete old messages"),
        ({"user": "banned@tidepost.example"}, "sign-in", "may be locked"),
        ({"address": "locked@tidepost.example"}, "locked", "Sign in on the web"),
    ],
)
def test_a_seed_that_cannot_be_used_says_why_and_what_to_do(
    office: Office, client: Client, provider: SeedHost, change: dict[str, Any], kind: str, words: str
) -> None:
    seed = client.placement.add_seed(office.slug, new_seed(provider, **change))
    assert seed.problem is not None
    assert seed.problem.kind == kind
    assert words in seed.problem.remedy
    assert "secret" not in seed.model_dump_json()


def test_a_seed_that_cannot_be_read_is_never_counted_as_missing_mail(
    office: Office, client: Client, provider: SeedHost, outlet: Outlet
) -> None:
    seed = client.placement.add_seed(office.slug, new_seed(provider))
    run = client.placement.start(office.slug, NewRun(outlet="office", wait_minutes=10), message())
    provider.boxes["one@tidepost.example"].password = "changed"
    run = settled(office, client, run, hours=0.5)
    assert outcomes(run) == {"one@tidepost.example": "sent"}  # it may still be read
    run = settled(office, client, run, hours=1.5)
    assert (outcomes(run), run.state) == ({"one@tidepost.example": "unread"}, "done")
    assert "refuses to sign in" in run.results[0].problem
    assert (run.providers[0].inbox, run.providers[0].missing) == (None, None)
    now = client.placement.seed(office.slug, seed.id)
    assert now.problem is not None and now.problem.kind == "sign-in"
    provider.boxes["one@tidepost.example"].password = "secret"
    assert client.placement.check_seed(office.slug, seed.id).problem is None


def test_a_refused_copy_has_the_reply_and_the_others_go_on(
    office: Office, client: Client, provider: SeedHost, outlet: Outlet
) -> None:
    client.placement.add_seed(office.slug, new_seed(provider, "full@tidepost.example"))
    client.placement.add_seed(office.slug, new_seed(provider, "third@tidepost.example"))
    client.placement.add_seed(office.slug, new_seed(provider, "gone@tidepost.example"))
    run = settled(office, client, client.placement.start(office.slug, NewRun(outlet="office"), message()))
    replies = {copy.address: (copy.outcome, copy.reply) for copy in run.results}
    assert replies["full@tidepost.example"] == ("refused", "552 5.2.2 Mailbox full")
    assert replies["gone@tidepost.example"] == ("refused", "550 5.1.1 No such mailbox")
    assert replies["third@tidepost.example"][0] == "inbox"


@pytest.mark.parametrize(
    ("change", "kind", "words"),
    [
        ({}, "", ""),
        ({"password": "wrong"}, "authentication", "application password"),
        ({"security": "tls"}, "tls", "465"),
        ({"port": 1}, "unreachable", "Check host and port"),
    ],
)
def test_an_outlet_is_tested_when_it_is_saved(
    office: Office, client: Client, bench: BenchIn, monkeypatch: pytest.MonkeyPatch, change: dict[str, Any], kind: str,
    words: str,
) -> None:  # fmt: skip
    settings = office.world.context.settings
    monkeypatch.setattr(settings, "placement_hosts", ["localhost"])
    tray = client.trays.add(office.slug, NewTray(name="staging"))
    tls_context(office.world.context)
    monkeypatch.setattr(settings, "tls_ca_file", settings.var_dir / "bench" / "certificate.pem")
    values = {"host": "localhost", "port": settings.bench_port, "user": tray.smtp_user, "password": tray.password,
              "mail_from": "b@d.example", **change}  # fmt: skip
    made = client.placement.add_outlet(office.slug, NewOutlet(name="bench", **values))
    assert (made.problem.kind if made.problem else "") == kind
    assert words in (made.problem.remedy if made.problem else "")
    assert tray.password not in made.model_dump_json()


def test_an_outlet_without_starttls_and_a_sender_that_is_refused(
    office: Office, client: Client, provider: SeedHost
) -> None:
    made = client.placement.add_outlet(office.slug, new_outlet(provider, security="starttls"))
    assert made.problem is not None and made.problem.kind == "no-tls"
    fixed = client.placement.update_outlet(office.slug, "office", OutletChange(security="none"))
    assert fixed.problem is None
    refused = client.placement.update_outlet(office.slug, "office", OutletChange(mail_from="forbidden@d.example"))
    assert refused.problem is not None and refused.problem.kind == "sender-refused"
    assert "550 5.7.1 Not your address" in refused.problem.what
    with pytest.raises(InvalidInputError, match="needs the password again"):
        client.placement.update_outlet(office.slug, "office", OutletChange(password="x"))
        client.placement.update_outlet(office.slug, "office", OutletChange(host="localhost"))


def test_an_outlet_that_does_not_work_says_nothing_about_providers(
    office: Office, client: Client, seeds: list[Seed], provider: SeedHost
) -> None:
    client.placement.add_outlet(office.slug, new_outlet(provider, port=free_port()))
    run = settled(office, client, client.placement.start(office.slug, NewRun(outlet="office"), message()))
    assert (run.copies, run.state) == ({"not_sent": 3}, "done")
    assert "Nobody answers" in run.results[0].problem
    assert all(each.inbox is None for each in run.providers)


def test_receivers_that_answer_with_difficulty_are_told_apart(
    office: Office, client: Client, bench: BenchIn, provider: SeedHost, monkeypatch: pytest.MonkeyPatch
) -> None:
    settings = office.world.context.settings
    tray = client.trays.add(office.slug, NewTray(name="staging"))
    rule = ReceiverRule(recipients="two@*", action="refuse", reply="550 5.7.1 Spam", stage="data")
    grey = ReceiverRule(recipients="third@*", action="greylist", seconds=300)  # says nothing about the provider
    client.trays.update(office.slug, "staging", TrayChange(receiver=[rule, grey]))
    monkeypatch.setattr(settings, "tls_ca_file", settings.var_dir / "bench" / "certificate.pem")
    outlet = NewOutlet(
        name="bench", host="localhost", port=settings.bench_port, user=tray.smtp_user, password=tray.password,
        mail_from="b@d.example", from_name="Desk", from_address="desk@d.example",
        extra=[OutletField(name="X-Campaign", value="spring")],
    )  # fmt: skip
    assert client.placement.add_outlet(office.slug, outlet).problem is None
    for address in ("one@tidepost.example", "two@tidepost.example", "third@tidepost.example"):
        client.placement.add_seed(office.slug, new_seed(provider, address))
    run = client.placement.start(office.slug, NewRun(outlet="bench", keep_custom=False), message({"X-Template": "a"}))
    run = settled(office, client, run)
    assert outcomes(run) == {
        "one@tidepost.example": "sent", "two@tidepost.example": "refused", "third@tidepost.example": "not_sent",
    }  # fmt: skip
    (caught,) = client.trays.messages(office.slug, "staging")
    fields = {field.name: field.value for field in client.trays.message(office.slug, "staging", caught.id).fields}
    assert (fields["From"], fields["To"]) == ("Desk <desk@d.example>", "one@tidepost.example")
    assert fields["X-Campaign"] == "spring"
    assert "X-Template" not in fields


def test_seeds_are_chosen_by_number_by_list_or_all_that_are_on(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    off = client.placement.update_seed(office.slug, seeds[0].id, SeedChange(enabled=False, lists=["weekly", "rare"]))
    assert (off.enabled, off.lists) == (False, ["rare", "weekly"])

    def chosen(**values: Any) -> set[int | None]:
        return {copy.seed for copy in client.placement.start(office.slug, NewRun(outlet="office", **values)).results}

    on = {seeds[1].id, seeds[2].id}
    assert chosen() == on
    assert chosen(lists=["weekly"]) == on
    assert chosen(seeds=[seeds[0].id]) == {seeds[0].id}  # named: it takes part although it is off
    with pytest.raises(InvalidInputError, match="No seed is chosen"):
        chosen(lists=["rare"])
    with pytest.raises(NotFoundError, match="no seed list daily"):
        chosen(lists=["daily"])


def test_a_new_run_is_looked_for_soon_while_an_old_one_waits(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    old = client.placement.start(office.slug, NewRun(outlet="office", wait_minutes=600), message())
    for hours in (0, 0.01, 5):  # the next look for it would be minutes away
        with office.world.clock.later(timedelta(hours=hours)):
            office.world.work()
    with office.world.clock.later(timedelta(hours=5, seconds=10)):
        new = client.placement.start(office.slug, NewRun(outlet="office", seeds=[seeds[0].id]), message())
        office.world.work()
    with office.world.clock.later(timedelta(hours=5, seconds=20)):
        office.world.work()
    assert client.placement.run(office.slug, new.id).state == "done"
    assert client.placement.run(office.slug, old.id).state == "running"


def test_one_seed_that_fails_in_an_unexpected_way_spoils_no_other(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    run = client.placement.start(office.slug, NewRun(outlet="office", wait_minutes=10), message())
    store = office.world.context.store
    store.transaction(lambda c: update_seed(c, seeds[1].id, password="not encrypted by any key"))
    run = settled(office, client, run)
    assert (outcomes(run)["one@tidepost.example"], outcomes(run)["two@tidepost.example"]) == ("inbox", "sent")
    run = settled(office, client, run, hours=1.5)
    assert (outcomes(run)["two@tidepost.example"], run.state) == ("unread", "done")


def test_a_later_change_of_the_outlet_is_not_a_change_on_the_way(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    run = client.placement.start(office.slug, NewRun(outlet="office", seeds=[seeds[0].id]), message())
    client.placement.update_outlet(office.slug, "office", OutletChange(from_name="New", from_address="new@d.example"))
    run = settled(office, client, run)
    assert [(copy.outcome, copy.changes) for copy in run.results] == [("inbox", [])]


def test_a_cancelled_run_sends_and_looks_no_more(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    run = client.placement.start(office.slug, NewRun(outlet="office"), message())
    assert client.placement.cancel(office.slug, run.id).state == "cancelled"
    assert set(outcomes(settled(office, client, run, hours=3)).values()) == {"queued"}
    client.placement.delete_run(office.slug, run.id)
    with pytest.raises(NotFoundError):
        client.placement.run(office.slug, run.id)


def test_deleting_a_seed_or_an_outlet_keeps_what_was_found(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    run = settled(office, client, client.placement.start(office.slug, NewRun(outlet="office"), message()))
    waiting = client.placement.start(office.slug, NewRun(outlet="office"))
    for seed in seeds:
        client.placement.delete_seed(office.slug, seed.id)
    client.placement.delete_outlet(office.slug, "office")
    kept = settled(office, client, run, hours=2)
    assert (kept.outlet, kept.copies) == ("office", {"inbox": 1, "spam": 1, "unread": 1})
    with pytest.raises(NotFoundError, match="was deleted"):
        client.placement.hand_in(office.slug, waiting.id, message())


@pytest.mark.parametrize(
    ("field", "values"),
    [("address", {"address": "no address"}), ("security", {"host": "imap.tidepost.example"})],
)
def test_settings_that_cannot_work_are_refused(
    office: Office, client: Client, provider: SeedHost, field: str, values: dict[str, str]
) -> None:
    with pytest.raises(InvalidInputError) as caught:
        client.placement.add_seed(office.slug, new_seed(provider).model_copy(update=values))
    assert [error.field for error in caught.value.problem.errors] == [field]


def test_what_is_no_message_starts_nothing(office: Office, client: Client, seeds: list[Seed], outlet: Outlet) -> None:
    run = client.placement.start(office.slug, NewRun(outlet="office"))
    for raw in (b"", b"\r\nno header", b"Subject: no From\r\n\r\nx"):
        with pytest.raises(InvalidInputError):
            client.placement.hand_in(office.slug, run.id, raw)
    assert client.placement.run(office.slug, run.id).state == "awaiting"


def test_the_counts_of_a_run_equal_its_copies(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    run = client.placement.start(office.slug, NewRun(outlet="office", wait_minutes=1), message())
    for hours in (0, 0.01, 0.1, 2):
        with office.world.clock.later(timedelta(hours=hours)):
            office.world.work()
        found = client.placement.run(office.slug, run.id)
        counted: dict[str, int] = {}
        for copy in found.results:
            counted[copy.outcome] = counted.get(copy.outcome, 0) + 1
        assert found.copies == counted


def test_a_copy_without_its_mark_is_found_by_its_message_id_and_never_counted_as_missing(
    office: Office, client: Client, provider: SeedHost, outlet: Outlet
) -> None:
    for name in ("stripped", "bare"):
        client.placement.add_seed(office.slug, new_seed(provider, f"{name}@tidepost.example"))
    raw = message({"Subject": "This week at Glasswort"})
    run = settled(office, client, client.placement.start(office.slug, NewRun(outlet="office", wait_minutes=10), raw))
    copies = {copy.address.partition("@")[0]: copy for copy in run.results}
    assert (copies["stripped"].outcome, copies["bare"].outcome) == ("inbox", "sent")
    assert "found by its Message-ID" in copies["stripped"].problem
    assert [change.where for change in copies["stripped"].changes] == ["Placement-Mark"]
    run = settled(office, client, run, hours=0.5)
    bare = next(copy for copy in run.results if copy.address.startswith("bare"))
    assert (bare.outcome, run.state) == ("unread", "done")
    assert "without Placement-Mark" in bare.problem


def test_a_full_mailbox_says_nothing_about_the_provider(
    office: Office, client: Client, provider: SeedHost, outlet: Outlet
) -> None:
    client.placement.add_seed(office.slug, new_seed(provider, "lost@kbox.example"))
    run = client.placement.start(office.slug, NewRun(outlet="office", wait_minutes=10), message())
    provider.boxes["lost@kbox.example"].used = 0.99
    run = settled(office, client, run, hours=0.5)
    assert outcomes(run) == {"lost@kbox.example": "unread"}
    assert "99 % full" in run.results[0].problem


def test_the_assay_of_a_run_is_of_what_the_seeds_get(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    awaiting = client.placement.start(office.slug, NewRun(outlet="office"))
    with pytest.raises(NotFoundError, match="was not examined"):
        client.placement.assay(office.slug, awaiting.id)
    run = settled(office, client, client.placement.hand_in(office.slug, awaiting.id, message()))
    found = client.placement.assay(office.slug, run.id)
    assert (found.mark, found.subject) == (run.mark, run.subject)
    assert found.findings and found.text


def test_a_run_is_shared_by_a_link_that_shows_no_seed_and_can_be_revoked(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    run = settled(
        office, client, client.placement.start(office.slug, NewRun(outlet="office", title="Spring"), message())
    )
    made = client.placement.share(office.slug, run.id, NewShare(days=3, note="for the client"))
    link = office.world.url + made.url[made.url.index("/shared/") :]
    page = httpx.get(link)
    assert (page.status_code, page.headers["x-robots-tag"]) == (200, "noindex, nofollow")
    assert "Spring" in page.text and "1 of 2 copies landed in the inbox" in page.text
    data = httpx.get(link + "/data")
    shared = SharedRun.model_validate(data.json())
    assert [(copy.provider, copy.number, copy.outcome) for copy in shared.copies] == [
        ("kestrelbox.example", 1, "sent"), ("tidepost.example", 1, "inbox"), ("tidepost.example", 2, "spam"),
    ]  # fmt: skip
    for seed in seeds:
        assert seed.address not in page.text + data.text
    (listed,) = client.placement.shares(office.slug, run.id)
    assert (listed.note, listed.opened, listed.id) == ("for the client", 2, made.id)
    with office.world.clock.later(timedelta(days=3, minutes=1)):
        assert httpx.get(link).status_code == 404
    client.placement.delete_share(office.slug, run.id, made.id)
    assert [httpx.get(link + end).status_code for end in ("", "/data")] == [404, 404]
    with pytest.raises(NotFoundError):
        client.placement.delete_share(office.slug, run.id, made.id)


def test_what_is_older_than_a_tenant_keeps_is_deleted_with_its_sums(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    old = settled(office, client, client.placement.start(office.slug, NewRun(outlet="office"), message()))
    client.flow.set_settings(office.slug, FlowSettings(keep_placement_days=10))
    with office.world.clock.later(timedelta(days=9)):
        new = client.placement.start(office.slug, NewRun(outlet="office"), message())
        office.world.work()
    with office.world.clock.later(timedelta(days=11)):
        keeping.forget_old(office.world.context)
        assert [run.id for run in client.placement.runs(office.slug)] == [new.id]
        with pytest.raises(NotFoundError):
            client.placement.run(office.slug, old.id)
        context, day = office.world.context, office.world.clock.now.date()
        first, last = day - timedelta(days=60), day + timedelta(days=20)
        rows = context.store.transaction(lambda c: days_between(c, office.tenant.id, first, last, ""))
    assert {row.day for row in rows} == {new.started_at.date()} if new.started_at else set()


def test_the_sums_of_days_equal_a_recount_whatever_happens_to_copies(
    office: Office, client: Client, seeds: list[Seed], outlet: Outlet
) -> None:
    """Sent, found, missing, cancelled, deleted: charts and readings count what the copies say."""
    start = client.placement.start
    settled(office, client, start(office.slug, NewRun(outlet="office", wait_minutes=10), message()), hours=0.5)
    settled(office, client, start(office.slug, NewRun(outlet="office"), message()))
    deleted = settled(office, client, start(office.slug, NewRun(outlet="office"), message()))
    client.placement.delete_run(office.slug, deleted.id)
    client.placement.cancel(office.slug, start(office.slug, NewRun(outlet="office"), message()).id)
    start(office.slug, NewRun(outlet="office"))  # awaits its message: counts nowhere
    expected: Counter[tuple[str, str]] = Counter()
    for run in client.placement.runs(office.slug):
        if run.started_at is not None:
            for copy in client.placement.run(office.slug, run.id).results:
                expected[copy.provider, copy.outcome] += 1
    day = office.world.clock.now.date()
    store = office.world.context.store
    rows = store.transaction(lambda c: days_between(c, office.tenant.id, day, day + timedelta(days=1), ""))
    assert {(row.provider, row.outcome): row.copies for row in rows if row.copies} == expected
