"""Outside verifiers: asked after own checks, within budgets, never twice; their records; new recipients."""

import threading
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import httpx
import pytest

from rust_gauge.client import AlreadyThereError, Client, InvalidInputError, NotFoundError
from rust_gauge.contract.feeds import FieldSource
from rust_gauge.contract.jobs import ListCheckRequest
from rust_gauge.contract.recipients import ErasureRequest
from rust_gauge.contract.suppression import MatchingSettings, NewEntries
from rust_gauge.contract.verification import (
    NewRecipientSource,
    NewVerifier,
    VerificationSettings,
    VerifierChange,
    VerifierDryRun,
)
from rust_gauge.service.verification import following
from rust_gauge.standins.verifier import VerifierDesk
from tests.conftest import Office
from tests.rows import bounce, ndjson, row

HOST = "tidepost.example"
WORDS = {"open": "good", "closed": "bad", "unsure": "unknown", "full": "doubtful"}


def says(address: str) -> tuple[str, str]:
    word = address.partition("@")[0].rstrip("0123456789")
    return {"gone": ("closed", "no such mailbox"), "odd": ("unsure", "")}.get(word, ("open", ""))


@pytest.fixture
def desks(office: Office, monkeypatch: pytest.MonkeyPatch) -> Iterator[list[VerifierDesk]]:
    made = [VerifierDesk(0, "k1", say=says) for _ in range(2)]
    for desk in made:
        threading.Thread(target=desk.serve_forever, daemon=True).start()
    monkeypatch.setattr(office.world.context.settings, "verifier_hosts", [f"127.0.0.1:{desk.port}" for desk in made])
    yield made
    for desk in made:
        desk.shutdown()
        desk.server_close()


def verifier(desk: VerifierDesk, name: str = "pinmarsh", **changes: Any) -> NewVerifier:
    settings = {
        "name": name, "secret": "k1", "price": 0.002,
        "request": {
            "url": f"http://127.0.0.1:{desk.port}/mailbox?address={{address}}",
            "headers": [{"name": "Authorization", "value": "Bearer {secret}"}],
        },
        "answer": {
            "fields": {
                "verdict": FieldSource(path="$.mailbox.state", table=WORDS), "detail": FieldSource(path="$.mailbox.note")
            }
        },
    }  # fmt: skip
    return NewVerifier.model_validate({**settings, **changes})


def many(desk: VerifierDesk, **changes: Any) -> NewVerifier:
    """A verifier that takes many addresses in one request."""
    request = {
        "method": "POST", "url": f"http://127.0.0.1:{desk.port}/mailboxes", "body": {"ask": "{addresses}"},
        "at_once": 3, "headers": [{"name": "Authorization", "value": "Bearer {secret}"}],
    }  # fmt: skip
    answer = {
        "rows": "$", "each": "$.answers[*]",
        "fields": {"verdict": FieldSource(path="@.mailbox.state", table=WORDS), "address": FieldSource(path="@.address")},
    }  # fmt: skip
    return verifier(desk, request=request, answer=answer, **changes)


def verdicts(client: Client, office: Office, *names: str) -> dict[str, str]:
    found = client.verification.check(office.slug, [f"{name}@{HOST}" for name in names])
    return {each.address.partition("@")[0]: each.verdict for each in found}


def test_what_own_checks_leave_open_is_asked_and_paid_for_once(
    office: Office, client: Client, desks: list[VerifierDesk]
) -> None:
    client.verification.add_verifier(office.slug, verifier(desks[0]))
    client.suppression.add(office.slug, NewEntries(addresses=[f"held@{HOST}"]))
    recent = (office.world.clock.now - timedelta(days=2)).isoformat()
    client.events.load(office.slug, ndjson(row(1, time=recent, recipient=f"known@{HOST}")))
    found = verdicts(client, office, "fine1", "gone1", "odd1", "held", "known")
    assert found == {"fine1": "good", "gone1": "bad", "odd1": "unknown", "held": "bad", "known": "good"}
    assert desks[0].asked == 3  # what is held, and what mail was delivered to, cost nothing
    assert verdicts(client, office, "fine1", "gone1", "odd1") == {"fine1": "good", "gone1": "bad", "odd1": "unknown"}
    assert desks[0].asked == 3
    shown = client.verification.verifier(office.slug, "pinmarsh")
    assert (shown.asked_today, shown.spent_today, shown.problem) == (3, 0.006, "")
    gauge = client.verification.gauge(office.slug)
    assert (gauge.own, gauge.reused, gauge.paid, gauge.unpaid) == (2, 3, 3, 0)
    assert (gauge.spent, gauge.saved) == (0.006, 0.010)
    check = client.verification.check(office.slug, [f"gone1@{HOST}"])[0]
    assert check.found[-1].detail == "pinmarsh said bad on 2026-11-20 (no such mailbox)"


def test_a_verdict_is_paid_for_again_after_the_chosen_time(
    office: Office, client: Client, desks: list[VerifierDesk]
) -> None:
    client.verification.add_verifier(office.slug, verifier(desks[0]))
    client.verification.set_settings(office.slug, VerificationSettings(reuse_days=30))
    verdicts(client, office, "fine1")
    with office.world.clock.later(timedelta(days=29)):
        verdicts(client, office, "fine1")
    assert desks[0].asked == 1
    with office.world.clock.later(timedelta(days=31)):
        verdicts(client, office, "fine1")
    assert desks[0].asked == 2


def test_a_budget_ends_and_the_next_verifier_goes_on(office: Office, client: Client, desks: list[VerifierDesk]) -> None:
    client.verification.add_verifier(office.slug, verifier(desks[0], budget_day=0.005))  # two checks
    client.verification.add_verifier(office.slug, verifier(desks[1], "second", budget_month=0.002))
    found = verdicts(client, office, "a1", "b1", "c1", "d1")
    assert list(found.values()).count("good") == 3
    assert list(found.values()).count("unknown") == 1
    assert (desks[0].asked, desks[1].asked) == (2, 1)
    left = client.verification.check(office.slug, [f"{name}@{HOST}" for name in found])
    open_ones = [each for each in left if each.verdict == "unknown"]
    assert [each.found[-1].word for each in open_ones] == ["not_verified"]
    with office.world.clock.later(timedelta(days=1)):
        assert set(verdicts(client, office, *found).values()) == {"good"}
    assert (desks[0].asked, desks[1].asked) == (3, 1)


def test_no_answer_costs_nothing_and_says_why(office: Office, client: Client, desks: list[VerifierDesk]) -> None:
    client.verification.add_verifier(office.slug, verifier(desks[0]))
    client.verification.add_verifier(office.slug, verifier(desks[1], "second"))
    desks[0].down = True
    assert verdicts(client, office, "fine1", "gone1") == {"fine1": "good", "gone1": "bad"}
    first = client.verification.verifier(office.slug, "pinmarsh")
    assert (first.spent_today, first.failed_today) == (0, 2)
    assert first.problem.startswith("It answered 503")
    assert client.verification.verifier(office.slug, "second").spent_today == 0.004
    client.verification.update_verifier(office.slug, "second", VerifierChange(enabled=False))
    assert verdicts(client, office, "new1") == {"new1": "unknown"}


def test_many_addresses_go_in_one_request(office: Office, client: Client, desks: list[VerifierDesk]) -> None:
    client.verification.add_verifier(office.slug, many(desks[0]))
    names = [f"fine{n}" for n in range(5)] + ["gone7"]
    found = verdicts(client, office, *names)
    assert [found[name] for name in names] == ["good"] * 5 + ["bad"]
    assert client.verification.verifier(office.slug, "pinmarsh").asked_today == 6


def test_the_order_of_preference_can_be_changed_and_a_second_opinion_asked_for(
    office: Office, client: Client, desks: list[VerifierDesk]
) -> None:
    client.verification.add_verifier(office.slug, verifier(desks[0]))
    client.verification.add_verifier(office.slug, verifier(desks[1], "second"))
    client.verification.update_verifier(office.slug, "second", VerifierChange(place=1))
    assert [each.name for each in client.verification.verifiers(office.slug)] == ["second", "pinmarsh"]
    verdicts(client, office, "fine1")
    assert (desks[0].asked, desks[1].asked) == (0, 1)
    client.verification.set_settings(office.slug, VerificationSettings(cross_check=1.0, ask_next_if_unknown=True))
    assert verdicts(client, office, "odd1") == {"odd1": "unknown"}
    assert (desks[0].asked, desks[1].asked) == (1, 2)


def test_records_and_disagreements_come_from_the_mail_that_followed(
    office: Office, client: Client, desks: list[VerifierDesk]
) -> None:
    client.verification.add_verifier(office.slug, verifier(desks[0]))
    client.verification.add_verifier(
        office.slug,
        verifier(desks[1], "second", answer={"fields": {"verdict": FieldSource(constant="good")}}),
    )
    client.verification.set_settings(office.slug, VerificationSettings(cross_check=1.0))
    verdicts(client, office, "fine1", "fine2", "gone1", "gone2")
    now = office.world.clock.now
    with office.world.clock.later(timedelta(days=1)):
        at = (now + timedelta(hours=5)).isoformat()
        client.events.load(
            office.slug,
            ndjson(row(1, time=at, recipient=f"fine1@{HOST}"), bounce(2, time=at, recipient=f"fine2@{HOST}"),
                   bounce(3, time=at, recipient=f"gone1@{HOST}"),
                   bounce(4, time=at, recipient=f"gone2@{HOST}", reply_code=452, diagnostic="452 4.2.2 mailbox full")),
        )  # fmt: skip
        assert following.follow(office.world.context, office.tenant.id) == 6  # a full mailbox says nothing
        records = {each.name: {line.verdict: line for line in each.record}
                   for each in client.verification.verifiers(office.slug)}  # fmt: skip
        good, bad = records["pinmarsh"]["good"], records["pinmarsh"]["bad"]
        assert (good.given, good.mailed, good.invalid) == (2, 2, 1)
        assert (bad.given, bad.mailed, bad.invalid) == (2, 1, 1)
        assert (records["second"]["good"].mailed, records["second"]["good"].invalid) == (3, 2)
        found = {each.address: each for each in client.verification.disagreements(office.slug)}
    assert set(found) == {f"fine2@{HOST}", f"gone1@{HOST}", f"gone2@{HOST}"}
    assert found[f"gone1@{HOST}"].text == (
        "pinmarsh said bad, second said good; mail bounced: no such address on 2026-11-20"
    )
    assert found[f"gone2@{HOST}"].outcome is None


def test_a_trial_shows_what_was_answered_and_stores_nothing(
    office: Office, client: Client, desks: list[VerifierDesk]
) -> None:
    settings = verifier(desks[0])
    tried = client.verification.try_verifier(
        office.slug,
        VerifierDryRun(settings=settings.model_dump(exclude={"name", "secret"}), secret="k1", address=f"gone1@{HOST}"),  # type: ignore[arg-type]
    )
    assert (tried.verdict, tried.word, tried.detail, tried.problem) == ("bad", "closed", "no such mailbox", "")
    client.verification.add_verifier(office.slug, settings)
    read = client.verification.try_verifier(
        office.slug, VerifierDryRun(name="pinmarsh", answer='{"mailbox": {"state": "full"}}')
    )
    assert read.verdict == "doubtful"
    wrong = client.verification.try_verifier(office.slug, VerifierDryRun(name="pinmarsh", answer='{"box": 1}'))
    assert wrong.problem == "The answer has no verdict"
    assert client.verification.verifier(office.slug, "pinmarsh").asked_today == 0


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"request": {"url": "http://198.51.100.1/{address}"}}, "is not https"),
        ({"request": {"url": "https://10.0.0.1/{address}"}}, "not a public address"),
        ({"request": {"url": "https://v.example/check"}}, "which address is asked about"),
        ({"answer": {"fields": {"detail": FieldSource(path="$.a")}}}, "where the verdict is"),
        ({"answer": {"fields": {"verdict": FieldSource(path="nonsense")}}}, "must start with"),
        ({"request": {"url": "https://v.example/{address}", "at_once": 5}}, "only with {addresses}"),
    ],
)
def test_a_verifier_that_cannot_work_is_refused(
    office: Office, client: Client, desks: list[VerifierDesk], changes: dict[str, Any], words: str
) -> None:
    with pytest.raises(InvalidInputError) as caught:
        client.verification.add_verifier(office.slug, verifier(desks[0], **changes))
    assert words in f"{caught.value}"


def test_names_are_unique_and_secrets_never_shown(office: Office, client: Client, desks: list[VerifierDesk]) -> None:
    made = client.verification.add_verifier(office.slug, verifier(desks[0]))
    assert "k1" not in made.model_dump_json()
    with pytest.raises(AlreadyThereError):
        client.verification.add_verifier(office.slug, verifier(desks[0]))
    with pytest.raises(NotFoundError, match="has no verifier pinmrsh"):
        client.verification.verifier(office.slug, "pinmrsh")
    client.verification.update_verifier(office.slug, "pinmarsh", VerifierChange(secret="other"))
    assert verdicts(client, office, "fine1") == {"fine1": "unknown"}
    assert client.verification.verifier(office.slug, "pinmarsh").problem.startswith("It answered 401")
    client.verification.delete_verifier(office.slug, "pinmarsh")
    assert client.verification.verifiers(office.slug) == []


# Lists and new recipients


def test_a_list_check_asks_verifiers_if_it_is_told_to(
    office: Office, client: Client, desks: list[VerifierDesk]
) -> None:
    client.verification.add_verifier(office.slug, many(desks[0], budget_day=1))
    job = client.jobs.start_list_check(office.slug, ListCheckRequest(name="l", verify=True))
    text = "".join(f"{name}@{HOST}\n" for name in ("fine1", "gone1", "odd1"))
    client.jobs.send(office.slug, job.id, 0, text.encode())
    client.jobs.run(office.slug, job.id)
    office.world.work()
    counts = client.jobs.get(office.slug, job.id).result["counts"]
    assert (counts["clear"], counts["held"], counts["doubtful"]) == (1, 1, 1)


def test_new_recipients_are_checked_as_they_come_in(office: Office, client: Client, desks: list[VerifierDesk]) -> None:
    client.verification.add_verifier(office.slug, verifier(desks[0]))
    done = client.verification.add_recipients(office.slug, [f"fine1@{HOST}", f"gone1@{HOST}", "nothing"])
    assert (done.accepted, done.known) == (3, 0)
    assert client.verification.add_recipients(office.slug, [f"fine1@{HOST}"]).known == 1
    source = client.verification.add_source(office.slug, NewRecipientSource(name="form", path="$.people[*].mail"))
    posted = httpx.post(
        f"{office.world.url}/api/v1/new-recipients/{source.key}",
        json={"people": [{"mail": f"fine2@{HOST}"}, {"mail": 3}]},
    )
    assert (posted.status_code, posted.json()) == (202, {"accepted": 1, "known": 0})
    office.world.work()
    found = {each.address: each for each in client.verification.new_recipients(office.slug)}
    assert {address: each.verdict for address, each in found.items()} == {
        f"fine1@{HOST}": "good", f"gone1@{HOST}": "bad", "nothing": "bad", f"fine2@{HOST}": "good",
    }  # fmt: skip
    assert found[f"fine2@{HOST}"].source == "form"
    assert [each.address for each in client.verification.new_recipients(office.slug, verdict="bad")] == [
        "nothing", f"gone1@{HOST}",
    ]  # fmt: skip
    client.verification.delete_source(office.slug, "form")
    assert httpx.post(f"{office.world.url}/api/v1/new-recipients/{source.key}", json={}).status_code == 404


@pytest.mark.parametrize(
    ("octets", "words"),
    [(b"not json", "not JSON"), (b"{}", "$.email finds no address in the body"), (b"[[[", "not JSON")],
)
def test_what_a_form_posts_wrongly_is_refused(office: Office, client: Client, octets: bytes, words: str) -> None:
    source = client.verification.add_source(office.slug, NewRecipientSource(name="form"))
    answer = httpx.post(f"{office.world.url}/api/v1/new-recipients/{source.key}", content=octets)
    assert answer.status_code == 422
    assert words in answer.json()["detail"]
    with pytest.raises(InvalidInputError):
        client.verification.add_source(office.slug, NewRecipientSource(name="other", path="email"))


def test_new_recipients_wait_for_a_budget_if_the_tenant_wants_it(
    office: Office, client: Client, desks: list[VerifierDesk]
) -> None:
    client.verification.add_verifier(office.slug, verifier(desks[0], budget_day=0.002))
    client.verification.set_settings(office.slug, VerificationSettings(when_spent="wait"))
    client.verification.add_recipients(office.slug, [f"fine1@{HOST}", f"fine2@{HOST}"])
    office.world.work()
    waiting = [each for each in client.verification.new_recipients(office.slug) if each.checked_at is None]
    assert [each.address for each in waiting] == [f"fine2@{HOST}"]
    with office.world.clock.later(timedelta(days=1)):
        client.verification.add_recipients(office.slug, [f"gone9@{HOST}"])
        office.world.work()
        left = [each.address for each in client.verification.new_recipients(office.slug) if each.checked_at is None]
    assert left == [f"gone9@{HOST}"]


def test_nothing_of_a_person_stays_after_an_erasure_and_digests_hide_addresses(
    office: Office, client: Client, desks: list[VerifierDesk]
) -> None:
    client.verification.add_verifier(office.slug, verifier(desks[0]))
    client.verification.add_recipients(office.slug, [f"gone1@{HOST}"])
    office.world.work()
    assert client.recipients.data(office.slug, f"gone1@{HOST}").verdicts == ["2026-11-20 12:00 bad: no such mailbox"]
    client.recipients.erase(office.slug, ErasureRequest(address=f"gone1@{HOST}"))
    assert client.recipients.data(office.slug, f"gone1@{HOST}").verdicts == []
    assert list(client.verification.new_recipients(office.slug)) == []
    client.suppression.set_matching(office.slug, MatchingSettings(digests_only=True))
    office.world.work()
    client.verification.add_recipients(office.slug, [f"gone2@{HOST}"])
    office.world.work()
    (hidden,) = client.verification.new_recipients(office.slug)
    assert hidden.address.startswith("#")
    assert "gone2" not in hidden.model_dump_json()
