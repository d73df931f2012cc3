"""Imports: any form and encoding, dry first, stopped, killed and gone on with, exact; checks of lists; trials."""

import csv
import io
import json
import threading
from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Any

import httpx
import pytest
from sqlalchemy import Connection

from rust_gauge.client import Client, InvalidInputError, NotFoundError, ProblemResponse
from rust_gauge.contract.jobs import FileLayout, ImportRequest, Job, ListCheckRequest
from rust_gauge.contract.suppression import Lift, NewEntries, PolicyBacktestRequest, PolicyRule, SuppressionPolicy
from rust_gauge.service.suppression import imports as service
from rust_gauge.store import jobs as store_jobs
from rust_gauge.store import tables
from tests.conftest import Office, another
from tests.rows import bounce, ndjson, row


def given(client: Client, office: Office, octets: bytes, *, size: int = 1000, **request: Any) -> Job:
    """An import with its file."""
    job = client.jobs.start_import(office.slug, ImportRequest(**request))
    for number, start in enumerate(range(0, len(octets), size)):
        client.jobs.send(office.slug, job.id, number, octets[start : start + size])
    return job


def done(client: Client, office: Office, job: Job, *, dry: bool = False) -> Job:
    client.jobs.run(office.slug, job.id, dry=dry)
    office.world.work()
    return client.jobs.get(office.slug, job.id)


def counts(job: Job) -> dict[str, int]:
    return {name: n for name, n in job.result["counts"].items() if n}


def held(client: Client, office: Office) -> dict[str, str]:
    return {entry.address: entry.reason for entry in client.suppression.list(office.slug)}


@pytest.mark.parametrize(
    ("text", "encoding", "form"),
    [
        ("ann@a.example\nbo@b.example\n", "utf-8", "plain"),
        ("ann@a.example\r\nbo@b.example", "utf-16", "plain"),
        ("email,reason\nann@a.example,complaint\nbo@b.example,bounced\n", "utf-8-sig", "csv"),
        ('Name;E-Mail;Date\nÅsa;ann@a.example;2026-01-02\n"Bö; Ö";bo@b.example;2026-02-03\n', "cp1252", "csv"),
        ("Ann\tann@a.example\nBo\tbo@b.example\n", "utf-16-le", "csv"),
        ('{"recipient": "ann@a.example"}\n{"recipient": "bo@b.example", "x": 1}\n', "utf-8", "ndjson"),
        ('"name","address"\n"two\nlines","ann@a.example"\n"x","bo@b.example"\n', "utf-8", "csv"),
    ],
)
@pytest.mark.parametrize("size", [7, 1000])
def test_a_list_is_read_in_any_form_and_encoding(
    office: Office, client: Client, text: str, encoding: str, form: str, size: int
) -> None:
    job = done(client, office, given(client, office, text.encode(encoding), size=size))
    assert (job.state, job.error) == ("done", "")
    assert job.result["layout"]["form"] == form
    assert counts(job) == {"rows": 2, "new": 2}
    assert set(held(client, office)) == {"ann@a.example", "bo@b.example"}


def test_columns_say_reason_and_times_and_what_cannot_be_used_is_told_beside_what_can(
    office: Office, client: Client
) -> None:
    lines = (
        "who,why,from,to,remark\n"
        "Ann@a.example,unsubscribed,2025-05-01,,at the desk\n"
        "bo@b.example,hard bounce,2025-06-01T10:00:00Z,2027-01-01,\n"
        "nobody,,,,\n"
        "cy@c.example,no such word,,,\n"
        "di@d.example,,2099-01-01,,\n"
        "ed@e.example,,,2020-01-01,\n"
        "short\n"
        "@gone.example,domain_invalid,,,\n"
        "ANN@a.example,unsubscribed,,,again\n"
    )
    layout = FileLayout(columns={"address": "who", "reason": "why", "since": "from", "until": "to", "note": "remark"})
    job = done(client, office, given(client, office, lines.encode(), layout=layout, reason="invalid_address"))
    assert counts(job) == {"rows": 9, "new": 3, "rejected": 5, "duplicates": 1}
    assert held(client, office) == {
        "Ann@a.example": "unsubscribed", "bo@b.example": "invalid_address", "@gone.example": "domain_invalid",
    }  # fmt: skip
    (ann,) = client.suppression.list(office.slug, address="ann@a.example")
    assert (f"{ann.since:%Y-%m-%d}", ann.note, ann.origin, ann.made_by) == (
        "2025-05-01", "at the desk", "import", f"import {job.id}",
    )  # fmt: skip
    rejected = list(csv.DictReader(io.StringIO(b"".join(client.jobs.part(office.slug, job.id, "rejected")).decode())))
    assert [(line["row"], line["address"]) for line in rejected] == [
        ("4", "nobody"), ("5", "cy@c.example"), ("6", "di@d.example"), ("7", "ed@e.example"), ("8", "short"),
    ]  # fmt: skip
    assert client.suppression.clearance(office.slug, ["any@gone.example"]).held == 1


def test_a_dry_run_tells_what_would_happen_and_does_nothing(office: Office, client: Client) -> None:
    client.suppression.add(office.slug, NewEntries(addresses=["there@a.example"]))
    lines = b"new@a.example\nthere@a.example\nnobody\nnew@a.example\n"
    job = given(client, office, lines)
    dry = done(client, office, job, dry=True)
    assert (dry.state, dry.result["dry"]) == ("done", True)
    assert counts(dry) == {"rows": 4, "new": 1, "standing": 1, "rejected": 1, "duplicates": 1}
    assert set(held(client, office)) == {"there@a.example"}
    real = done(client, office, job)
    assert counts(real) == {"rows": 4, "new": 1, "standing": 1, "rejected": 1, "duplicates": 1}
    assert set(held(client, office)) == {"there@a.example", "new@a.example"}
    with pytest.raises(ProblemResponse, match="done"):
        client.jobs.run(office.slug, job.id)


@pytest.mark.parametrize(
    ("standing", "until", "since"), [("keep", "2027-01-01", "2026-11-20"), ("widen", None, "2020-01-01"),
                                     ("replace", "2026-12-01", "2020-01-01")],
)  # fmt: skip
def test_an_entry_that_stands_is_left_widened_or_replaced(
    office: Office, client: Client, standing: str, until: str | None, since: str
) -> None:
    client.suppression.add(office.slug, NewEntries(addresses=["a@a.example"], until="2027-01-01T00:00:00Z"))  # type: ignore[arg-type]
    end = "" if standing == "widen" else "2026-12-01"
    lines = f"address,since,until\na@a.example,2020-01-01,{end}\n"
    done(client, office, given(client, office, lines.encode(), standing=standing))
    (entry,) = client.suppression.list(office.slug)
    assert (f"{entry.since:%Y-%m-%d}", entry.until and f"{entry.until:%Y-%m-%d}") == (since, until)


def test_what_somebody_lifted_stays_clear_unless_it_is_asked_for(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(1)))
    client.suppression.lift(office.slug, Lift(address="person1@tidepost.example", why="a mistake"))
    first = done(client, office, given(client, office, b"person1@tidepost.example\n", reason="invalid_address"))
    assert counts(first) == {"rows": 1, "stayed_clear": 1}
    again = given(client, office, b"person1@tidepost.example\n", reason="invalid_address", lifted="hold_again")
    assert counts(done(client, office, again)) == {"rows": 1, "came_back": 1}
    assert held(client, office) == {"person1@tidepost.example": "invalid_address"}


def test_an_import_that_is_stopped_and_killed_goes_on_and_is_exact(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(service, "PIECE", 100)
    lines = "".join(f"p{n % 950}@a.example\n" for n in range(1000)) + "nobody\n"
    job = given(client, office, lines.encode(), size=333)
    advance, pieces = store_jobs.advance, []

    def sometimes(connection: Connection, of: store_jobs.Job, now: datetime, **values: Any) -> None:
        pieces.append(values["position"])
        if len(pieces) == 3:
            connection.execute(tables.job.update().where(tables.job.c.id == job.id).values(cancel_requested=True))
        advance(connection, of, now, **values)
        if len(pieces) == 6:
            raise MemoryError("killed after it was written, before it was committed")

    monkeypatch.setattr(store_jobs, "advance", sometimes)
    stopped = done(client, office, job)
    assert (stopped.state, counts(stopped)["rows"]) == ("cancelled", 200)
    running = done(client, office, stopped)
    assert (running.state, counts(running)["rows"]) == ("waiting", 400), "the worker tries again later"
    with office.world.clock.later(timedelta(minutes=5)):
        office.world.work()
    over = client.jobs.get(office.slug, job.id)
    assert (over.state, counts(over)) == ("done", {"rows": 1001, "new": 950, "duplicates": 50, "rejected": 1})
    assert client.suppression.count(office.slug).count == 950
    numbers = [item.number for item in client.suppression.changes(office.slug, limit=1000).items]
    assert len(numbers) == 950
    assert client.suppression.growth(office.slug).days[-1].active == 950
    rejected = b"".join(client.jobs.part(office.slug, job.id, "rejected")).splitlines()
    assert len(rejected) == 2


def test_two_imports_an_event_and_a_lift_at_the_same_moment_leave_one_right_state(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(service, "PIECE", 20)
    addresses = [f"person{n}@tidepost.example" for n in range(200)]
    text = "\n".join(addresses).encode()
    jobs = [given(client, office, text, reason="invalid_address") for _ in range(2)]
    for job in jobs:
        client.jobs.run(office.slug, job.id)

    def load() -> None:
        with office.client() as mine:
            for start in range(0, 200, 50):
                mine.events.load(office.slug, ndjson(*(bounce(n) for n in range(start, start + 50))))

    def lift() -> None:
        with office.client() as mine:
            for address in addresses[::7]:
                try:
                    mine.suppression.lift(office.slug, Lift(address=address, why="at the same moment"))
                except NotFoundError:
                    continue

    threads = [threading.Thread(target=work) for work in (office.world.work, office.world.work, load, lift)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(120)
    assert {client.jobs.get(office.slug, job.id).state for job in jobs} == {"done"}
    changes: list[Any] = []
    while page := client.suppression.changes(office.slug, after=changes[-1].number if changes else 0).items:
        changes += page
    assert len({change.number for change in changes}) == len(changes)
    state: dict[str, str] = {}
    for change in changes:
        assert state.get(change.address) != change.state, "made while it stood, or lifted while it did not"
        state[change.address] = change.state
    assert set(state) == set(addresses)
    standing = set(held(client, office))
    assert standing == {address for address, found in state.items() if found == "held"}
    answers = client.suppression.clearance(office.slug, addresses).answers
    assert {answer.address for answer in answers if answer.verdict == "held"} == standing
    assert client.suppression.growth(office.slug).days[-1].active == len(standing)


@pytest.mark.parametrize(
    ("octets", "what"),
    [(b"\x00\x01\x02\x03" * 50, "not a text"), (b"name,town\nx,y\n", "No column contains addresses"),
     (b'{"a": 1}\n', "No field contains addresses"), (b"\n \n", "empty")],
)  # fmt: skip
def test_a_file_that_is_no_list_fails_with_the_reason(office: Office, client: Client, octets: bytes, what: str) -> None:
    job = done(client, office, given(client, office, octets))
    assert job.state == "failed"
    assert what in job.error


def test_pieces_come_in_any_order_and_a_missing_one_is_told(office: Office, client: Client) -> None:
    job = client.jobs.start_import(office.slug, ImportRequest())
    with pytest.raises(InvalidInputError, match="No piece"):
        client.jobs.run(office.slug, job.id)
    client.jobs.send(office.slug, job.id, 1, b"ple\n")
    failed = done(client, office, job)
    assert (failed.state, "Piece 0" in failed.error) == ("failed", True)
    other = client.jobs.start_import(office.slug, ImportRequest())
    client.jobs.send(office.slug, other.id, 1, b"a.example\n")
    client.jobs.send(office.slug, other.id, 0, b"a@")
    assert done(client, office, other).state == "done"
    with pytest.raises(ProblemResponse, match="accepts no more pieces"):
        client.jobs.send(office.slug, other.id, 2, b"x")


# Checks of lists


@pytest.fixture
def spring(office: Office, client: Client) -> Iterator[Job]:
    office.world.zone("typo.example", "@ IN MX 0 .\n")
    client.events.load(office.slug, ndjson(bounce(1), *(row(n) for n in range(2, 12)), row(20, kind="unsubscribed")))
    lines = (
        "name,email\n"
        "Gone,person1@tidepost.example\nFine,person2@tidepost.example\nLeft,person20@tidepost.example\n"
        "Info,info@tidepost.example\nNull,x@typo.example\nNone,x@nowhere-at-all.example\n=1+1,person3@tidepost.example\n"
    )
    job = client.jobs.start_list_check(office.slug, ListCheckRequest(name="spring", stream="newsletter"))
    client.jobs.send(office.slug, job.id, 0, lines.encode())
    yield done(client, office, job)


def test_a_list_is_looked_at_before_a_send_and_cut_in_three(office: Office, client: Client, spring: Job) -> None:
    result = spring.result
    assert result["counts"] == {"rows": 7, "held": 4, "clear": 2, "doubtful": 1, "would_bounce": 3}
    assert result["why"] == {"invalid_address": 1, "unsubscribed": 1, "null_mx": 1, "no_domain": 1}
    assert result["doubts"] == {"role": 1}
    tide = result["by_provider"]["tidepost.example"]
    assert (tide["rows"], tide["held"], tide["would_bounce"]) == (5, 2, 1)
    parts = {
        part: list(csv.DictReader(io.StringIO(b"".join(client.jobs.part(office.slug, spring.id, part)).decode())))
        for part in ("clear", "held", "doubtful")
    }
    assert [line["name"] for line in parts["clear"]] == ["Fine", "=1+1"], "cells come back as they came"
    assert {line["name"]: line["why"] for line in parts["held"]}["Null"] == "null_mx"
    assert parts["doubtful"][0]["detail"]


def test_a_hold_in_another_stream_is_counted_for_what_it_is(office: Office, client: Client) -> None:
    mail = [row(n, domain="news.d.example", stream=name) for n, name in enumerate(("news", "tickets"), 1)]
    client.events.load(office.slug, ndjson(*mail))
    entries = NewEntries(
        addresses=["kim@tidepost.example"], reason="unsubscribed", scope="stream", scope_name="tickets"
    )
    client.suppression.add(office.slug, entries)
    for stream, counts in (("news", (0, 1)), ("tickets", (1, 0))):
        request = ListCheckRequest(stream=stream, check_addresses=False)
        job = client.jobs.start_list_check(office.slug, request)
        client.jobs.send(office.slug, job.id, 0, b"kim@tidepost.example\n")
        result = done(client, office, job).result
        assert (result["counts"].get("held", 0), result["counts"].get("doubtful", 0)) == counts, stream
    assert result["why"] == {"unsubscribed": 1}


# Trials of a policy


def test_a_policy_is_tried_on_the_past_beside_the_one_that_holds(office: Office, client: Client) -> None:
    rows = [bounce(1), bounce(1, message_id="b", time="2026-11-19T10:00:00Z"), row(2), bounce(3, message_id="c")]
    rows += [row(3, message_id="d", time="2026-11-19T11:00:00Z")]
    client.events.load(office.slug, ndjson(*rows))
    policy = SuppressionPolicy(rules=[PolicyRule(name="patient", act="hold", kinds=["bounced"], times=2)])
    job = client.jobs.start_policy_backtest(office.slug, PolicyBacktestRequest(policy=policy, days=30))
    office.world.work()
    result = client.jobs.get(office.slug, job.id).result
    assert result["recipients"] == 2
    ours, holding = result["ours"], result["holding"]
    assert (ours["held"], ours["wrongly"], ours["bounces_spared"], ours["bounces"]) == (1, 0, 0, 3)
    assert (holding["held"], holding["wrongly"], holding["bounces_spared"], holding["deliveries_lost"]) == (2, 1, 1, 1)
    assert [line["name"] for line in result["providers"]] == ["tidepost.example"]


def test_a_job_of_one_tenant_is_nobody_elses(office: Office, client: Client, spring: Job) -> None:
    url = f"{office.world.url}/api/v1/tenants/{office.slug}/jobs/{spring.id}"
    assert httpx.get(url).status_code == 401
    assert json.loads(httpx.get(url, headers={"Authorization": f"Bearer {office.token}"}).content)["state"] == "done"


@pytest.mark.parametrize("form", ["csv", "ndjson"])
def test_what_is_exported_is_imported_again_with_its_scope(office: Office, client: Client, form: str) -> None:
    client.events.load(office.slug, ndjson(row(1, domain="news.d.example", stream="news")))
    add = client.suppression.add
    add(office.slug, NewEntries(addresses=["ann@a.example"], reason="complaint", note="=asked; by phone"))
    add(office.slug, NewEntries(addresses=["ann@a.example"], reason="unsubscribed", scope="stream", scope_name="news"))
    until = office.world.clock() + timedelta(days=30)
    add(
        office.slug,
        NewEntries(addresses=["bo@b.example"], scope="domain", scope_name="news.d.example", until=until),
    )
    add(office.slug, NewEntries(addresses=["@gone.example"], reason="domain_invalid"))
    add(office.slug, NewEntries(addresses=["cy@c.example"]))
    (cy,) = client.suppression.list(office.slug, address="cy@c.example")
    client.suppression.lift(office.slug, Lift(ids=[cy.id], why="a mistake"))
    exported = b"".join(client.suppression.export(office.slug, form=form, state=["held", "ended"]))

    def shown(of: Office, read: Client) -> set[tuple[object, ...]]:
        names = ("address", "reason", "scope", "scope_name", "since", "until", "note")
        return {tuple(getattr(entry, name) for name in names) for entry in read.suppression.list(of.slug)}

    with another(office.world) as (other, reader):
        reader.events.load(other.slug, ndjson(row(1, domain="news.d.example", stream="news")))
        job = done(reader, other, given(reader, other, exported))
        assert counts(job) == {"rows": 5, "new": 4, "rejected": 1}, "what ended is not held again"
        assert shown(other, reader) == shown(office, client)
        again = done(reader, other, given(reader, other, exported))
        assert counts(again) == {"rows": 5, "standing": 4, "rejected": 1}
    with another(office.world) as (other, reader):
        job = done(reader, other, given(reader, other, exported))
        assert counts(job) == {"rows": 5, "new": 2, "rejected": 3}, "an unknown stream or domain is not all mail"


def test_a_column_named_state_of_somebody_elses_list_means_nothing(office: Office, client: Client) -> None:
    text = b"email,state,scope\nann@a.example,Ohio,x\n"
    assert counts(done(client, office, given(client, office, text))) == {"rows": 1, "new": 1}
