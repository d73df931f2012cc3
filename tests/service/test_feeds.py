"""Feeds over HTTP: tokens and signatures, packed bodies, mappings, rejected rows that are tried again."""

import gzip
import io
import json
from datetime import timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest
import zstandard

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import AlreadyThereError, Client, InvalidInputError, NotFoundError
from rust_gauge.contract.feeds import (
    FeedChange,
    FeedDefaults,
    FeedMapping,
    FeedSource,
    FieldSource,
    MadeFeed,
    NewFeed,
    UnwrapStep,
)
from rust_gauge.core.webhooks import headers_of
from tests.conftest import Office, assign
from tests.core.test_mtalog import LOG
from tests.rows import bounce, ndjson, row
from tests.service.test_intake import counts, right
from tests.vectors import notices as v

# A made-up service that wraps JSON into JSON and tells of several recipients at once.
MAPPING = FeedMapping(
    unwrap=[UnwrapStep(at="$.letters[*].inside", form="json")],
    rows="$.letters[*].inside",
    each="$.people[*]",
    fields={
        "kind": FieldSource(path="$.state", table={"back": "bounced", "there": "delivered", "seen": None}),
        "time": FieldSource(path="$.when", form="milliseconds"),
        "domain": FieldSource(path="$.house"),
        "recipient": FieldSource(path="@.box"),
        "diagnostic": FieldSource(path="@.words"),
        "message_id": FieldSource(path="$.number"),
    },
)


def letter(
    state: str = "back", *, when: Any = 1795161600000, box: str = "Kim <kim@tidepost.example>"
) -> dict[str, Any]:
    inside = {"state": state, "when": when, "house": "news.d.example", "number": "n1",
              "people": [{"box": box, "words": "550 5.1.1 no such mailbox"}]}  # fmt: skip
    return {"letters": [{"inside": json.dumps(inside)}]}


@pytest.fixture
def feed(office: Office, client: Client) -> MadeFeed:
    return client.feeds.add(office.slug, NewFeed(name="driftline", kind="http"))


def post(office: Office, feed: MadeFeed, body: bytes, **headers: str) -> httpx.Response:
    usual = {"Authorization": f"Bearer {feed.token}", "Content-Type": "application/x-ndjson"}
    chosen = {name.replace("_", "-"): value for name, value in headers.items()}
    return httpx.post(f"{office.world.url}/api/v1/intake/{feed.key}", content=body, headers={**usual, **chosen})


def test_a_feed_takes_events_with_its_token_and_tells_how_it_goes(
    office: Office, client: Client, feed: MadeFeed
) -> None:
    answer = post(office, feed, ndjson(row(1), bounce(2), row(1)))
    assert answer.status_code == 200
    assert (answer.json()["stored"], answer.json()["duplicates"]) == (2, 1)
    (seen,) = client.feeds.list(office.slug)
    assert (seen.stored_today, seen.rejected, seen.usual_lag is not None) == (2, 0, True)
    assert seen.summary.startswith("last event 0 s ago, usually")
    assert "token" not in seen.model_dump()


@pytest.mark.parametrize("token", ["", "Bearer", "Bearer rgf_wrong", "Basic eDp5"])
def test_without_its_token_nothing_is_taken(office: Office, feed: MadeFeed, token: str) -> None:
    assert post(office, feed, ndjson(row(1)), Authorization=token).status_code == 401
    wrong = httpx.post(f"{office.world.url}/api/v1/intake/nosuchfeed", content=b"", headers={"Authorization": token})
    assert wrong.status_code == 401


def test_a_signature_over_time_and_body_is_as_good_as_the_token(office: Office, feed: MadeFeed) -> None:
    body = ndjson(row(1))
    now = int(office.world.clock().timestamp())
    address = f"{office.world.url}/api/v1/intake/{feed.key}"
    kind = {"Content-Type": "application/x-ndjson"}
    good = headers_of([feed.secret], "m1", now, body)
    assert httpx.post(address, content=body, headers={**kind, **good}).json()["stored"] == 1
    assert httpx.post(address, content=body, headers={**kind, **good}).json()["duplicates"] == 1
    old = headers_of([feed.secret], "m1", now - 301, body)
    for headers in (old, {**good, "webhook-id": "m2"}, headers_of([feed.secret], "m1", now, body + b" ")):
        assert httpx.post(address, content=body, headers={**kind, **headers}).status_code == 401


@pytest.mark.parametrize(("encoding", "pack"), [("gzip", gzip.compress), ("zstd", zstandard.ZstdCompressor().compress)])
def test_packed_bodies_are_taken_and_bombs_are_not(office: Office, feed: MadeFeed, encoding: str, pack: Any) -> None:
    assert post(office, feed, pack(ndjson(row(1))), Content_Encoding=encoding).json()["stored"] == 1
    bomb = post(office, feed, pack(b" " * 140_000_000), Content_Encoding=encoding)
    assert (bomb.status_code, bomb.json()["type"]) == (413, "/problems/too-large")
    for broken in (b"nothing packed", pack(ndjson(row(1)))[:-9]):
        assert post(office, feed, broken, Content_Encoding=encoding).status_code in (400, 422)
    assert post(office, feed, b"", Content_Encoding="brotli").status_code == 415


def test_every_content_encoding_of_the_api_document_is_taken(office: Office, feed: MadeFeed) -> None:
    document = httpx.get(f"{office.world.url}/api/v1/openapi.json", timeout=60).json()
    parameters = document["paths"]["/api/v1/tenants/{tenant}/events"]["post"]["parameters"]
    (codings,) = (each["schema"]["enum"] for each in parameters if each["name"] == "Content-Encoding")
    pack = {"gzip": gzip.compress, "x-gzip": gzip.compress, "zstd": zstandard.ZstdCompressor().compress}
    assert {"gzip", "identity", ""} <= set(codings)
    for number, coding in enumerate(codings):
        body = ndjson(row(number))
        packed = pack[coding](body) if coding in pack else body
        assert post(office, feed, packed, Content_Encoding=coding).json()["stored"] == 1


def test_foreign_json_is_mapped_and_what_does_not_fit_is_kept(office: Office, client: Client) -> None:
    feed = client.feeds.add(
        office.slug, NewFeed(name="letters", kind="http", mapping=MAPPING, defaults=FeedDefaults(relay="driftline"))
    )
    later = letter(when="soon", box="jo@tidepost.example")
    body = ndjson(letter(), letter("seen"), later, {"letters": [{"inside": "{"}]}, "no json")
    answer = post(office, feed, body).json()
    assert (answer["stored"], answer["rejected"]) == (1, 3)
    (event,) = client.events.list(office.slug)
    assert (event.kind, event.recipient, event.relay, event.cause) == (
        "bounced", "kim@tidepost.example", "driftline", "no_such_mailbox",
    )  # fmt: skip
    assert event.time.isoformat() == "2026-11-20T08:00:00+00:00"
    rejected = list(client.feeds.rejected_rows(office.slug, "letters"))
    assert sorted(problem.what for each in rejected for problem in each.problems) == [
        "'soon' is not a valid time: not an RFC 3339 time such as 2026-11-20T08:00:00Z",
        "The value at $.letters[*].inside cannot be read as json",
        "This line is not valid JSON",
    ]  # fmt: skip


def test_a_corrected_mapping_replays_the_source_documents(office: Office, client: Client) -> None:
    """Rows that the mapping made, and that are no events, are kept as the document that they came from."""
    mapping = MAPPING.model_copy(deep=True)
    mapping.fields["domain"] = FieldSource(path="$.no.such.path")  # every row lacks its domain
    feed = client.feeds.add(office.slug, NewFeed(name="sources", kind="http", mapping=mapping))
    post(office, feed, ndjson(letter()))
    (kept,) = client.feeds.rejected_rows(office.slug, "sources")
    assert json.loads(kept.item) == letter()
    client.feeds.update(office.slug, "sources", FeedChange(mapping=MAPPING))
    assert client.feeds.replay(office.slug, "sources").stored == 1
    post(office, feed, ndjson(letter()))
    assert list(client.feeds.rejected_rows(office.slug, "sources")) == [], "a repeat adds nothing"


def test_refused_rows_are_tried_again_with_the_mapping_of_today(office: Office, client: Client) -> None:
    mapping = MAPPING.model_copy(deep=True)
    mapping.fields["kind"].table = {"there": "delivered"}  # forgets what `back` means
    feed = client.feeds.add(office.slug, NewFeed(name="letters", kind="http", mapping=mapping))
    assert post(office, feed, ndjson(letter())).json()["rejected"] == 1
    fixed = mapping.model_copy(deep=True)
    fixed.fields["domain"] = FieldSource(constant="other.d.example")
    client.feeds.update(office.slug, "letters", FeedChange(mapping=fixed))
    assert client.feeds.replay(office.slug, "letters").rejected == 1
    # Its kind is still not in the table: the document is kept again.
    assert client.feeds.get(office.slug, "letters").rejected == 1
    broken = client.feeds.add(office.slug, NewFeed(name="broken", kind="http", mapping=MAPPING))
    bad = {"letters": [{"inside": "{"}]}
    post(office, broken, ndjson(bad))
    easier = MAPPING.model_copy(update={"unwrap": [], "each": "", "rows": "$.letters[*]", "fields": {
        "kind": FieldSource(constant="delivered"), "time": FieldSource(constant="2026-11-20T08:00:00Z"),
        "domain": FieldSource(constant="news.d.example"), "recipient": FieldSource(constant="kim@tidepost.example"),
    }})  # fmt: skip
    client.feeds.update(office.slug, "broken", FeedChange(mapping=easier))
    done = client.feeds.replay(office.slug, "broken")
    assert (done.tried, done.stored, done.rejected) == (1, 1, 0)
    assert client.feeds.get(office.slug, "broken").rejected == 0
    with pytest.raises(NotFoundError):
        client.feeds.replay(office.slug, "broken", 999_999_999)
    assert client.feeds.delete_rejected_rows(office.slug, "letters") == 1


def test_a_feed_without_times_tells_an_event_once(office: Office, client: Client) -> None:
    mapping = FeedMapping(fields={"kind": FieldSource(constant="delivered"), "domain": FieldSource(path="$.d"),
                                  "recipient": FieldSource(path="$.r"), "message_id": FieldSource(path="$.m")})  # fmt: skip
    feed = client.feeds.add(office.slug, NewFeed(name="clockless", kind="http", mapping=mapping))
    body = ndjson({"d": "news.d.example", "r": "kim@tidepost.example", "m": "1"})
    assert post(office, feed, body).json()["stored"] == 1
    with office.world.clock.later(timedelta(hours=3)):
        assert post(office, feed, body).json()["duplicates"] == 1
    right(office)


def test_a_sample_becomes_events_field_by_field(office: Office, client: Client) -> None:
    result = client.feeds.test_mapping(office.slug, json.dumps(letter()), MAPPING)
    (one,) = result.rows
    assert one.event is not None
    assert (one.event["kind"], one.event["cause"], one.event["recipient"]) == (
        "bounced", "no_such_mailbox", "kim@tidepost.example",
    )  # fmt: skip
    kind = next(step for step in one.steps if step.field == "kind")
    assert (kind.path, kind.found, kind.value) == ("$.state", "back", "bounced")
    assert client.feeds.test_mapping(office.slug, json.dumps(letter("seen")), MAPPING).rows[0].left_out
    assert client.feeds.test_mapping(office.slug, "{", MAPPING).problem == "The sample is not valid JSON"
    assert "no row" in client.feeds.test_mapping(office.slug, "{}", MAPPING).problem
    assert counts(office) == {}


def test_a_paused_feed_takes_nothing(office: Office, client: Client, feed: MadeFeed) -> None:
    client.feeds.update(office.slug, "driftline", FeedChange(paused=True))
    assert post(office, feed, ndjson(row(1))).status_code == 503
    assert client.feeds.update(office.slug, "driftline", FeedChange(paused=False)).summary == "no events yet"
    assert post(office, feed, ndjson(row(1))).status_code == 200


@pytest.mark.parametrize(
    ("new", "why"),
    [
        (NewFeed(name="a", kind="mail"), "needs addresses"),
        (NewFeed(name="a", kind="log"), "needs a path"),
        (NewFeed(name="a", kind="log", source=FeedSource(path="/etc/passwd")), "may not be read"),
        (NewFeed(name="a", kind="mailbox", source=FeedSource(host="127.0.0.1", user="x")), "may not be contacted"),
        (NewFeed(name="a", kind="queue", source=FeedSource(host="10.0.0.1", queue="x")), "may not be contacted"),
        (
            NewFeed(name="a", kind="http", mapping=FeedMapping(fields={"kind": FieldSource(path="$[")})),
            "not a JSONPath",
        ),
    ],
)
def test_feeds_that_cannot_work_or_may_not_are_refused(office: Office, client: Client, new: NewFeed, why: str) -> None:
    with pytest.raises(InvalidInputError, match=why):
        client.feeds.add(office.slug, new)


def test_names_are_taken_once_and_a_feed_can_be_closed(office: Office, client: Client, feed: MadeFeed) -> None:
    with pytest.raises(AlreadyThereError):
        client.feeds.add(office.slug, NewFeed(name="driftline", kind="http"))
    post(office, feed, ndjson(row(1)))
    client.feeds.delete(office.slug, "driftline")
    assert client.feeds.list(office.slug) == []
    assert post(office, feed, ndjson(row(2))).status_code == 401
    assert len(list(client.events.list(office.slug))) == 1


def test_the_commands(office: Office, client: Client, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)

    def run(*words: str) -> tuple[int, str]:
        out = io.StringIO()
        status = main([*words, "--url", office.world.url, "--tenant", office.slug], Output(out, out))
        return status, out.getvalue()

    mapping, sample = tmp_path / "mapping.json", tmp_path / "sample.json"
    mapping.write_text(MAPPING.model_dump_json())
    sample.write_text(json.dumps(letter()))
    status, said = run("feed", "add", "letters", "--kind", "http", "--mapping", str(mapping), "--relay", "driftline")
    assert status == 0
    assert "rgf_" in said
    status, said = run("feed", "test-mapping", str(sample), "--feed", "letters")
    assert status == 0
    assert '"back" becomes "bounced"' in said
    sample.write_text(json.dumps(letter(when="soon")))
    assert run("feed", "test-mapping", str(sample), "--mapping", str(mapping))[0] == 3
    (feed,) = client.feeds.list(office.slug)
    token = said_token(run, office)
    with Client(office.world.url, token=token) as sender:
        sender.feeds.send(client.feeds.get(office.slug, "more").key, ndjson({"kind": "posted"}))
    assert "posted" in run("feed", "rejected", "more")[1]
    assert run("feed", "replay", "more") == (3, "1 retried: 0 stored, 0 duplicates, 1 rejected again.\n")
    assert run("feed", "pause", "letters")[1] == "Paused letters.\n"
    assert "paused" in run("feed", "list")[1]
    assert run("feed", "resume", "letters")[0] == 0
    assert run("feed", "update", "letters", "--mapping", str(mapping))[0] == 0
    assert json.loads(run("feed", "show", "letters", "--format", "json")[1])["key"] == feed.key
    assert run("feed", "remove", "letters", "--yes")[0] == 0
    mapping.write_text('{"fields": {}, "colour": 1}')
    assert run("feed", "add", "x", "--kind", "http", "--mapping", str(mapping))[0] == 2


def test_files_are_loaded_by_a_feed(
    office: Office, client: Client, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)
    client.feeds.add(office.slug, NewFeed(name="files", kind="http", defaults=FeedDefaults(domain="news.d.example")))
    monkeypatch.setattr(office.world.context.settings, "feed_folders", [tmp_path])
    assign(office, "folder", str(tmp_path))
    client.feeds.add(office.slug, NewFeed(name="log", kind="log", source=FeedSource(path=str(tmp_path / "none"))))

    def load(name: str, text: bytes, feed: str = "files") -> tuple[int, str]:
        (tmp_path / name).write_bytes(text)
        out = io.StringIO()
        words = [
            "event",
            "import",
            str(tmp_path / name),
            "--feed",
            feed,
            "--url",
            office.world.url,
            "--tenant",
            office.slug,
        ]
        return main(words, Output(io.StringIO(), out)), out.getvalue().splitlines()[-1]

    table = "kind;time;recipient;message_id;reply_code;diagnostic;tags\n"
    table += "delivered;2026-11-19T08:00:00Z;kim@tidepost.example;m1;250;fine;a,b\n"
    table += 'bounced;2026-11-19T08:00:01Z;"Jo <jo@tidepost.example>";m2;550;550 5.1.1 no such mailbox;\n'
    table += "posted;2026-11-19T08:00:02Z;x@tidepost.example;m3;;;\n"
    assert load("rows.csv", table.encode()) == (3, "2 stored, 0 duplicates, 1 rejected.")
    assert load("back.eml", v.DSN) == (0, "2 stored, 0 duplicates, 0 rejected.")
    assert load("mail.log", LOG.encode(), "log")[1].startswith("7 stored")
    assert load("mail.log", LOG.encode(), "log")[1].startswith("0 stored")
    assert load("rows.ndjson", ndjson(row(50)))[1].startswith("1 stored")
    assert (
        main(
            ["event", "import", str(tmp_path / "rows.csv"), "--url", office.world.url, "--tenant", office.slug],
            Output(io.StringIO(), io.StringIO()),
        )
        == 2
    )
    events = {event.message_id: event for event in client.events.list(office.slug)}
    assert (events["m1"].tags, events["m2"].recipient) == (["a", "b"], "jo@tidepost.example")
    right(office)


def said_token(run: Any, office: Office) -> str:
    """Opens the feed `more`, and reads its token from what the command says."""
    _, said = run("feed", "add", "more", "--kind", "http")
    return next(word for word in said.split() if word.startswith("rgf_"))
