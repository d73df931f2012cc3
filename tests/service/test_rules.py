"""Rules of a tenant's own: tried on the past, kept, applied to it with every counter following, used at intake."""

import io
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import Connection

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import Client, InvalidInputError, ProblemResponse
from rust_gauge.contract.rules import OwnRule, RulesBacktestRequest, RulesChange
from rust_gauge.core.replies.rules import Classifier
from rust_gauge.service.mailflow import rules
from rust_gauge.store import audits as store_settings
from rust_gauge.store import jobs, rejudge, tables
from rust_gauge.store.recount import counters, recount
from tests.conftest import Office
from tests.rows import bounce, ndjson, row

HARBOUR = OwnRule(name="harbour", cause="policy", words=["harbour closed"], fits=["550 harbour closed 7"])
GONE = OwnRule(name="gone", cause="no_such_mailbox", words=["berth is empty"])
OURS = OwnRule(name="ours", cause="reputation", words=["no such mailbox"], provider="tidepost.example")


def right(office: Office) -> None:
    held, wanted = office.world.context.store.transaction(
        lambda c: (counters(c, office.tenant.id), recount(c, office.tenant.id))
    )
    assert held == wanted


def keep(office: Office, client: Client, *rules: OwnRule, apply: bool = True) -> Any:
    version = client.cause_rules.get(office.slug).version
    kept = client.cause_rules.set(office.slug, RulesChange(version=version, rules=list(rules), apply=apply))
    office.world.work()
    return kept


def causes(office: Office, client: Client) -> dict[str, int]:
    found = [event.cause for event in client.events.list(office.slug, kinds=["bounced", "delayed"])]
    return {cause: found.count(cause) for cause in set(found)}


def test_a_rule_is_tried_then_kept_then_applied_to_the_past(office: Office, client: Client) -> None:
    rows = [bounce(n, diagnostic=f"550 harbour closed {n}") for n in range(5)]
    client.events.load(office.slug, ndjson(*rows, bounce(6), row(7)))
    trial = client.cause_rules.backtest(office.slug, RulesBacktestRequest(rules=[HARBOUR, GONE], days=30))
    (line,) = trial.rows
    assert (line.count, line.cause, line.new_cause, line.new_rule) == (5, "unclassified", "policy", "own:harbour")
    assert (trial.changed, trial.judged, trial.decided, trial.problems) == (5, 6, {"harbour": 5, "gone": 0}, [])
    assert causes(office, client) == {"unclassified": 5, "no_such_mailbox": 1}, "a trial changes nothing"

    kept = keep(office, client, HARBOUR)
    assert (kept.version, kept.application.state) == (1, "waiting")
    done = client.cause_rules.get(office.slug).application
    assert done is not None
    assert (done.state, done.judged, done.changed, done.days_done) == ("done", 6, 5, done.days)
    assert causes(office, client) == {"policy": 5, "no_such_mailbox": 1}
    assert {row.cause: row.count for row in client.flow.reply_patterns(office.slug)} == {
        "policy": 5,
        "no_such_mailbox": 1,
    }
    right(office)
    keep(office, client)
    assert causes(office, client) == {"unclassified": 5, "no_such_mailbox": 1}, "without the rule as before"
    right(office)


def test_what_comes_in_is_judged_by_them_too(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(1)))  # the process knows the tenant by now
    keep(office, client, OURS, apply=False)
    client.events.load(office.slug, ndjson(bounce(2), bounce(3, recipient="kim@kbox.example")))
    rules = {event.message_id: event.cause_rule for event in client.events.list(office.slug)}
    assert (rules["m2"], rules["m3"].partition(":")[0]) == ("own:ours", "rule"), "of that provider only"
    right(office)


def test_a_load_that_was_judged_by_older_rules_is_judged_anew(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    client.events.load(office.slug, ndjson(bounce(1, diagnostic="550 harbour closed 1")))
    plain = Classifier.classify
    changes: list[Any] = []

    def change_first(self: Classifier, *words: Any, **more: Any) -> Any:
        found = plain(self, *words, **more)
        if not changes:
            changes.append("begun")
            keep(office, client, HARBOUR)  # while the load is being read
        return found

    monkeypatch.setattr(Classifier, "classify", change_first)
    client.events.load(office.slug, ndjson(bounce(2, diagnostic="550 harbour closed 2")))
    assert causes(office, client) == {"policy": 2}
    right(office)


def test_suppression_follows_the_rules(office: Office, client: Client) -> None:
    client.events.load(
        office.slug,
        ndjson(
            bounce(1), bounce(2, diagnostic="550 the berth is empty"), row(3, kind="complained"),
            bounce(4), bounce(4, message_id="x", time="2026-11-19T10:00:00Z", diagnostic="550 5.1.1 user unknown"),
        ),
    )  # fmt: skip
    held = {entry.address: entry.reason for entry in client.suppression.list(office.slug)}
    assert set(held) == {f"person{n}@tidepost.example" for n in (1, 3, 4)}
    trial = client.cause_rules.backtest(office.slug, RulesBacktestRequest(rules=[OURS, GONE]))
    assert (trial.frees, trial.holds) == (2, 1)
    keep(office, client, OURS, GONE)
    entries = {entry.address: entry for entry in client.suppression.list(office.slug)}
    assert set(entries) == {f"person{n}@tidepost.example" for n in (2, 3, 4)}, "1 was refused for our sake"
    assert entries["person4@tidepost.example"].times == 1, "another bounce speaks against it"
    done = client.cause_rules.get(office.slug).application
    assert done is not None
    assert (done.entries_made, done.entries_lifted) == (1, 1)


def test_a_rule_that_states_a_permanence_is_rehearsed_truly(office: Office, client: Client) -> None:
    full = "452 4.2.2 mailbox is over quota"
    rows = [bounce(n, reply_code=452, diagnostic=full) for n in range(3)]
    rows += [row(n, kind="delayed", reply_code=452, diagnostic=full) for n in range(10, 14)]
    client.events.load(office.slug, ndjson(*rows))
    gone = OwnRule(name="gone", cause="mailbox_disabled", words=["is over quota"], permanence="permanent")
    trial = client.cause_rules.backtest(office.slug, RulesBacktestRequest(rules=[gone]))
    found = {(each.new_permanence, each.count) for each in trial.rows}
    assert (found, trial.holds, trial.changed) == ({("permanent", 3), ("transient", 4)}, 3, 7)
    keep(office, client, gone)
    done = client.cause_rules.get(office.slug).application
    assert done is not None
    assert (done.changed, done.entries_made) == (7, 3), "as it was rehearsed"
    right(office)


def test_what_a_source_stated_stays(office: Office, client: Client) -> None:
    client.events.load(
        office.slug,
        ndjson(
            bounce(1, cause="loop", diagnostic="550 harbour closed"),
            bounce(2, permanence="transient", diagnostic="550 harbour closed"),
        ),
    )
    keep(office, client, HARBOUR)
    found = {e.message_id: (e.cause, e.permanence, e.cause_rule) for e in client.events.list(office.slug)}
    assert found["m1"] == ("loop", "permanent", "stated")
    assert found["m2"] == ("policy", "transient", "own:harbour, permanence stated")
    right(office)


@settings(max_examples=8, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_counters_equal_a_recount_after_any_rules(office: Office, data: st.DataObject) -> None:
    texts = ["550 5.1.1 no such mailbox", "550 harbour closed", "451 the berth is empty", "", "421 4.7.0 too fast"]
    one = st.builds(
        lambda kind, number, minute, text, more: row(
            number, kind=kind, time=f"2026-11-{17 + minute % 3}T08:{minute % 60:02}:00Z", diagnostic=text, **more
        ),
        st.sampled_from(["bounced", "delayed", "delivered", "complained"]),
        st.integers(0, 4),
        st.integers(0, 90),
        st.sampled_from(texts),
        st.sampled_from([{}, {"message_id": ""}, {"tags": ["a"], "campaign": "b"}, {"reply_code": 550},
                         {"enhanced_code": "5.1.1"}, {"permanence": "permanent"}, {"cause": "content"}]),
    )  # fmt: skip
    rule = st.sampled_from([HARBOUR, GONE, OURS, OwnRule(name="codes", cause="policy", enhanced="5.1.1")])
    with office.client() as client:
        for _ in range(2):
            client.events.load(office.slug, ndjson(*data.draw(st.lists(one, min_size=1, max_size=12))))
            keep(office, client, *data.draw(st.lists(rule, unique_by=lambda each: each.name, max_size=4)))
            right(office)


def test_a_job_in_pieces_can_be_stopped_and_goes_on(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(rejudge, "PIECE", 3)
    rows = [bounce(n, diagnostic=f"550 harbour closed {n}") for n in range(10)]
    client.events.load(office.slug, ndjson(*rows))
    pieces: list[Any] = []
    advance = jobs.advance

    def stop_after_one(connection: Connection, job: jobs.Job, now: datetime, **values: Any) -> None:
        advance(connection, job, now, **values)
        pieces.append(values.get("result", {}).get("changed", 0))
        if pieces.count(3) == 1 and pieces[-1] == 3:  # only the first time: afterwards it goes on
            connection.execute(tables.job.update().where(tables.job.c.id == job.id).values(cancel_requested=True))

    monkeypatch.setattr(jobs, "advance", stop_after_one)
    keep(office, client, HARBOUR)
    stopped = client.cause_rules.get(office.slug).application
    assert stopped is not None
    assert (stopped.state, stopped.changed) == ("cancelled", 3)
    right(office)
    client.cause_rules.apply(office.slug)
    office.world.work()
    assert causes(office, client) == {"policy": 10}
    right(office)
    assert client.cause_rules.cancel(office.slug).application is not None, "there is nothing to stop any more"


@pytest.mark.parametrize(
    ("rule", "summary"),
    [
        ({"name": "a", "cause": "policy"}, "no condition"),
        ({"name": "A", "cause": "policy", "words": ["x"]}, "not a rule name"),
        ({"name": "a", "cause": "none", "words": ["x"]}, "must have a cause"),
        ({"name": "a", "cause": "policy", "pattern": "(x"}, "not a regular expression"),
        ({"name": "a", "cause": "policy", "words": ["X"]}, "lower case"),
        ({"name": "a", "cause": "policy", "code": "9xx"}, "not a reply code"),
        ({"name": "a", "cause": "policy", "words": ["x"], "fits": ["550 y"]}, "matched by no rule"),
        ({"name": "a", "cause": "policy", "words": ["x"], "fits_not": ["550 x"]}, "should not be matched"),
    ],
)
def test_a_rule_that_cannot_work_is_refused(office: Office, client: Client, rule: dict[str, Any], summary: str) -> None:
    with pytest.raises(InvalidInputError, match=summary):
        client.cause_rules.set(office.slug, RulesChange(version=0, rules=[OwnRule(**rule)]))
    assert client.cause_rules.get(office.slug).rules == []


def test_a_pattern_that_takes_too_long_is_refused_and_holds_nobody_up(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(1, diagnostic="550 " + "a" * 400 + "!")))
    slow = OwnRule(name="slow", cause="policy", pattern="(a+)+$")
    trial = client.cause_rules.backtest(office.slug, RulesBacktestRequest(rules=[slow]))
    assert trial.problems[0].startswith("slow: its pattern takes too long")
    with pytest.raises(InvalidInputError, match="too long"):
        client.cause_rules.set(office.slug, RulesChange(version=0, rules=[slow]))


def test_two_people_do_not_undo_each_others_rules(office: Office, client: Client) -> None:
    keep(office, client, HARBOUR)
    with pytest.raises(ProblemResponse, match="have changed since"):
        client.cause_rules.set(office.slug, RulesChange(version=0, rules=[GONE]))
    assert [rule.name for rule in client.cause_rules.get(office.slug).rules] == ["harbour"]


def test_the_command_takes_rules_from_a_file_and_writes_them(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)
    client.events.load(office.slug, ndjson(*(bounce(n, diagnostic=f"550 harbour closed {n}") for n in range(3))))
    file = tmp_path / "rules.toml"
    file.write_text('[[rule]]\nname = "harbour"\ncause = "policy"\nwords = ["harbour closed"]\nnot = ["550 open"]\n')

    def run(*words: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        return main(["rule", "--url", office.world.url, *words], Output(out, err)), out.getvalue(), err.getvalue()

    assert "No rules of your own" in run()[2]
    status, _, summary = run("backtest", str(file))
    assert (status, "3 of 3 bounces and delays" in summary) == (0, True)
    assert "Saved 1 rule, version 1." in run("import", str(file), "--no-wait")[2]
    office.world.work()
    assert "3 bounces and delays, 3 changed" in run("status")[2]
    written = run("export")[1]
    assert 'not = ["550 open"]' in written
    file.write_text(written)
    assert "0 of 3" in run("backtest", str(file))[2], "what is written can be read again"
    assert "greylist" in run("list", "--built-in")[1]
    file.write_text("rule = 3")
    assert run("import", str(file))[0] == 2


def test_of_two_alike_in_a_load_the_one_that_was_stored_is_counted(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(9)))
    alike = [bounce(1, diagnostic=text) for text in ("550 harbour closed", "", "550 5.1.1 no such mailbox")]
    client.events.load(office.slug, ndjson(bounce(9), *alike))
    right(office)


def test_a_stored_rule_that_is_not_allowed_any_more_leaves_the_others_in_force(office: Office, client: Client) -> None:
    good = OwnRule(name="good", cause="policy", words=["harbour is closed"])
    client.cause_rules.set(office.slug, RulesChange(version=0, rules=[good]))
    document = {"rules": [{"name": "big", "cause": "policy", "pattern": "(((a{99}){99}){99}){9}"}, good.model_dump()]}
    context = office.world.context
    context.store.transaction(
        lambda c: store_settings.put_setting(c, office.tenant.id, "cause_rules", document, context.clock())
    )
    found = rules.rules_of(context, office.tenant.id).classifier.classify("550 the harbour is closed")
    assert found.rule == "own:good"
