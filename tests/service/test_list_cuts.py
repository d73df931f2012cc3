"""Cutting a list for a warm-up plan."""

import csv
import io
import zipfile
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from rust_gauge.client import Client, InvalidInputError, NotFoundError
from rust_gauge.contract.jobs import FileLayout, Job
from rust_gauge.contract.suppression import NewEntries
from rust_gauge.contract.warmup import ListCutRequest, NewWarmupPlan, WarmupShare
from tests.conftest import Office
from tests.rows import ndjson, row

DOMAIN = "news.d.example"


@pytest.fixture(autouse=True)
def plan(office: Office, client: Client) -> None:
    """A plan with two steps and two hours a day; half of the mail goes to one provider."""
    past = (office.world.clock.now - timedelta(days=40)).isoformat()
    client.events.load(office.slug, ndjson(row(1, time=past, domain="old.d.example", recipient="a@tidepost.example")))
    client.warmup.add(
        office.slug,
        NewWarmupPlan(
            name="spring", domain=DOMAIN, shape="custom", ceilings=[16, 32], hours=[13, 14],
            shares=[WarmupShare(provider="tidepost.example", share=0.5)],
        ),
    )  # fmt: skip


def cut(office: Office, client: Client, text: str | bytes, **request: Any) -> Job:
    made = client.warmup.start_cut(office.slug, ListCutRequest(plan="spring", **request))
    client.jobs.send(office.slug, made.id, 0, text.encode() if isinstance(text, str) else text)
    client.jobs.run(office.slug, made.id)
    office.world.work()
    return client.jobs.get(office.slug, made.id)


def part(office: Office, client: Client, job: Job, name: str) -> str:
    return b"".join(client.jobs.part(office.slug, job.id, name)).decode()


def people(n: int, host: str = "tidepost.example", first: int = 0) -> list[tuple[str, str]]:
    """Address and the day of the last open: the later a row is, the newer."""
    start = datetime(2026, 6, 1, tzinfo=UTC)
    return [(f"p{first + k}@{host}", f"{start + timedelta(days=k):%Y-%m-%d}") for k in range(n)]


def table(rows: list[tuple[str, str]]) -> str:
    return "email,opened\r\n" + "".join(f"{address},{opened}\r\n" for address, opened in rows)


def test_a_list_is_cut_by_hour_and_provider_the_most_engaged_first(office: Office, client: Client) -> None:
    job = cut(office, client, table([*people(20), *people(3, "fenlandnet.example")]), engagement="opened")
    assert (job.state, job.error) == ("done", "")
    assert job.result["counts"] == {"rows": 23, "removed": 0, "cut": 23}
    # 8 a day for this provider at the first step, 5 of them in an hour; 16 and 10 at the second.
    assert [(each["part"], each["messages"], each["by_provider"]) for each in job.result["portions"]] == [
        ("20261120T13", 8, {"tidepost.example": 5, "Others": 3}), ("20261120T14", 3, {"tidepost.example": 3}),
        ("20261121T13", 10, {"tidepost.example": 10}), ("20261121T14", 2, {"tidepost.example": 2}),
    ]  # fmt: skip
    assert part(office, client, job, "20261120T13").split("\r\n") == [
        "email,opened", *(f"{a},{d}" for a, d in people(20)[15:]), *(f"{a},{d}" for a, d in people(3, "fenlandnet.example")),
        "",
    ]  # fmt: skip
    last = list(csv.reader(io.StringIO(part(office, client, job, "20261121T14"))))
    assert last == [["email", "opened"], ["p0@tidepost.example", "2026-06-01"], ["p1@tidepost.example", "2026-06-02"]]
    calendar = list(csv.DictReader(io.StringIO(part(office, client, job, "calendar"))))
    assert calendar[0] == {"starts_at": "2026-11-20T13:00:00Z", "file": "20261120T13.csv", "messages": "8",
                           "tidepost.example": "5", "Others": "3"}  # fmt: skip
    events = part(office, client, job, "icalendar").replace("\r\n ", "")
    assert events.count("BEGIN:VEVENT") == 4
    assert "SUMMARY:spring: send 8 messages" in events
    assert "DTSTART:20261120T130000Z\r\nDTEND:20261120T140000Z" in events


def test_all_rows_are_in_one_portion_removed_or_left(office: Office, client: Client) -> None:
    client.suppression.add(office.slug, NewEntries(addresses=["p3@tidepost.example", "p9@fenlandnet.example"]))
    rows = [*people(60), *people(60, "fenlandnet.example"), ("not an address", ""), ("p5@tidepost.example", "x")]
    job = cut(office, client, table(rows), engagement="opened", portions="day")
    found = [
        line[0]
        for portion in job.result["portions"]
        for line in list(csv.reader(io.StringIO(part(office, client, job, portion["part"]))))[1:]
    ]
    removed = list(csv.reader(io.StringIO(part(office, client, job, "removed"))))
    assert removed[0] == ["email", "opened", "why", "detail"]
    assert [line[0] for line in removed[1:]] == ["p3@tidepost.example", "p9@fenlandnet.example", "not an address"]
    assert [line[2] for line in removed[1:]] == ["manual", "manual", "no_address"]
    assert sorted([*found, *(line[0] for line in removed[1:])]) == sorted(address for address, _ in rows)
    assert job.result["counts"] == {"rows": 122, "removed": 3, "cut": 119}
    assert [each["messages"] for each in job.result["portions"]][:2] == [16, 32]


def test_what_was_sent_today_takes_room(office: Office, client: Client) -> None:
    now = office.world.clock.now
    sent = [row(n, time=(now - timedelta(minutes=n)).isoformat(), recipient=f"s{n}@tidepost.example") for n in range(6)]
    client.events.load(office.slug, ndjson(*sent))
    job = cut(office, client, table(people(10)), engagement="opened")
    assert [each["messages"] for each in job.result["portions"]] == [2, 8]


def test_a_list_begins_on_the_day_that_is_asked_for(office: Office, client: Client) -> None:
    job = cut(office, client, table(people(4)), engagement="opened", starts_on="2026-12-01")
    assert [each["part"] for each in job.result["portions"]] == ["20261201T13"]


def test_without_a_column_opens_and_clicks_of_events_decide(office: Office, client: Client) -> None:
    now = office.world.clock.now
    opened = [
        row(n, kind="opened", time=(now - timedelta(days=30 - n)).isoformat(), recipient=f"p{n}@tidepost.example")
        for n in (2, 7)
    ]
    client.events.load(office.slug, ndjson(*opened))
    job = cut(office, client, "".join(f"p{n}@tidepost.example\n" for n in range(9)))
    first = part(office, client, job, "20261120T13").splitlines()
    assert first == ["p0@tidepost.example", "p1@tidepost.example", "p2@tidepost.example", "p3@tidepost.example",
                     "p7@tidepost.example"]  # fmt: skip
    assert job.result["portions"][0]["file"] == "20261120T13.txt"


def test_everything_is_in_one_archive(office: Office, client: Client) -> None:
    job = cut(office, client, table(people(10)), engagement="opened")
    octets = b"".join(client.jobs.archive(office.slug, job.id))
    with zipfile.ZipFile(io.BytesIO(octets)) as found:
        assert found.testzip() is None
        assert sorted(found.namelist()) == ["20261120T13.csv", "20261120T14.csv", "20261121T13.csv", "calendar.csv",
                                            "calendar.ics"]  # fmt: skip
        assert found.read("20261120T13.csv").decode() == part(office, client, job, "20261120T13")


def test_a_file_in_pieces_keeps_its_own_form(office: Office, client: Client) -> None:
    text = "adresse;name;opened\r\n" + "".join(
        f'p{n}@tidepost.example;"Ann; {n}";{n}\r\n' for n in range(8)
    )  # fmt: skip
    made = client.warmup.start_cut(office.slug, ListCutRequest(plan="spring", engagement="3", portions="day"))
    octets = text.encode()
    for number in range(0, len(octets), 50):
        client.jobs.send(office.slug, made.id, number // 50, octets[number : number + 50])
    client.jobs.run(office.slug, made.id)
    office.world.work()
    job = client.jobs.get(office.slug, made.id)
    assert part(office, client, job, "20261120") == text


def test_what_cannot_be_cut_is_refused(office: Office, client: Client) -> None:
    with pytest.raises(NotFoundError, match="has no warm-up plan summer"):
        client.warmup.start_cut(office.slug, ListCutRequest(plan="summer"))
    failed = cut(office, client, table(people(3)), engagement="clicks")
    assert (failed.state, failed.error) == ("failed", "engagement: Unknown column clicks. Columns: email, opened")
    far = cut(office, client, table(people(40_000)), layout=FileLayout())
    assert far.state == "done"
    assert far.result["counts"]["left"] > 0
    assert part(office, client, far, "left").count("\r\n") == far.result["counts"]["left"] + 1
    with pytest.raises(InvalidInputError):
        client.warmup.start_cut(office.slug, ListCutRequest.model_construct(plan="spring", portions="week"))
