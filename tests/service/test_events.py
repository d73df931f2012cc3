"""Taking events in: exactly once, nothing good lost beside something bad, counters that equal a recount."""

import json
import threading
from collections import Counter
from typing import Any

import httpx
import pytest
from sqlalchemy import Connection, text

from rust_gauge.client import Client, InvalidInputError
from rust_gauge.core.names import parse_address
from rust_gauge.store.events import EventQuery, find_events
from tests.conftest import TODAY, Office
from tests.rows import bounce, ndjson, row


def post(office: Office, body: bytes, kind: str = "application/x-ndjson", **headers: str) -> httpx.Response:
    return httpx.post(
        f"{office.world.url}/api/v1/tenants/{office.slug}/events",
        content=body,
        headers={"Authorization": f"Bearer {office.token}", "Content-Type": kind, **headers},
        timeout=60,
    )


def recount(office: Office) -> tuple[Counter[Any], Counter[Any], Counter[Any]]:
    """What the events give when they are counted again, and what the two counters say."""
    keys = "domain_id, provider_id, stream_id, relay_id, kind, cause, permanence"
    where = "WHERE tenant_id = :tenant"
    with office.world.context.store.engine.connect() as connection:

        def counted(sql: str) -> Counter[Any]:
            rows = connection.execute(text(sql), {"tenant": office.tenant.id})
            return Counter({tuple(map(str, r[:-1])): int(r[-1]) for r in rows})

        hour = "DATE_FORMAT(occurred_at, '%Y-%m-%d %H:00:00')"
        events = counted(f"SELECT {hour}, {keys}, COUNT(*) FROM event {where} GROUP BY {hour}, {keys}")
        hours = counted(f"SELECT hour, {keys}, n FROM flow_hour {where}")
        days = counted(f"SELECT day, {keys}, n FROM flow_day {where}")
    return events, hours, days


def assert_counters_equal_a_recount(office: Office) -> None:
    events, hours, days = recount(office)
    assert hours == events
    by_day: Counter[Any] = Counter()
    for key, n in events.items():
        by_day[(key[0][:10], *key[1:])] += n
    assert days == by_day


def test_the_same_file_twice_counts_once(office: Office, client: Client) -> None:
    body = ndjson(*(row(n) for n in range(50)), *(bounce(n) for n in range(50, 60)))
    first = client.events.load(office.slug, body)
    assert (first.received, first.stored, first.duplicates, first.rejected) == (60, 60, 0, 0)
    before = client.flow.show(office.slug, last=TODAY.date())
    again = client.events.load(office.slug, body)
    assert (again.stored, again.duplicates) == (0, 60)
    assert client.flow.show(office.slug, last=TODAY.date()) == before
    assert_counters_equal_a_recount(office)


def test_a_row_that_stands_twice_in_one_load_counts_once(office: Office, client: Client) -> None:
    result = client.events.load(office.slug, ndjson(row(1), row(2), row(1), row(1)))
    assert (result.stored, result.duplicates) == (2, 2)
    assert_counters_equal_a_recount(office)


def test_one_bad_line_in_ten_thousand_loses_no_other(office: Office, client: Client) -> None:
    rows: list[Any] = [row(n) for n in range(10_000)]
    rows[6543] = row(6543, kind="posted")
    result = client.events.load(office.slug, ndjson(*rows))
    assert (result.received, result.stored, result.rejected) == (10_000, 9_999, 1)
    (rejection,) = result.rejections
    assert (rejection.line, rejection.field) == (6544, "kind")
    assert "posted" in rejection.what
    assert "bounced" in rejection.remedy
    assert_counters_equal_a_recount(office)


@pytest.mark.parametrize(
    ("line", "field", "words"),
    [
        ("{not json", "", "not valid JSON"),
        ("[1]", "", "not a JSON object"),
        ('"text"', "", "not a JSON object"),
        (json.dumps(row(kind="posted")), "kind", "posted"),
        (json.dumps(row(time="yesterday")), "time", "yesterday"),
        (json.dumps(row(time="2026-11-20T08:00:00")), "time", "no UTC offset"),
        (json.dumps(row(time=1763625600)), "time", "a number is ambiguous"),
        (json.dumps(row(time="1763625600")), "time", "RFC 3339"),
        (json.dumps(row(time=None)), "time", "None"),
        (json.dumps(row(time="2026-11-21T08:00:00Z")), "time", "future"),
        (json.dumps(row(time="1970-01-01T00:00:00Z")), "time", "2000"),
        (json.dumps(row(domain="nodot")), "domain", "not a domain name"),
        (json.dumps(row(recipient="nobody")), "recipient", "not a mailbox address"),
        (json.dumps(row(colour="red")), "colour", "not a field of an event"),
        (json.dumps({"kind": "delivered"}), "time", "missing"),
        (json.dumps(row(reply_code=99)), "reply_code", "99"),
        (json.dumps(row(enhanced_code="5.1")), "enhanced_code", "5.1"),
        (json.dumps(row(stream="x" * 61)), "stream", "60"),
        (json.dumps(row(stream="a\nb")), "stream", "pattern"),
        (json.dumps(row(sending_ip="1.2.3.4.5")), "sending_ip", "is not an IP address"),
        (json.dumps(row(recipient="\ud800@a.example")), "", "not valid JSON"),
    ],
)
def test_each_bad_row_is_a_problem_that_names_line_field_and_reason(
    office: Office, line: str, field: str, words: str
) -> None:
    response = post(office, line.encode() + b"\n")
    problem = response.json()
    assert response.status_code == 422
    assert response.headers["content-type"] == "application/problem+json"
    assert (problem["type"], problem["errors_total"]) == ("/problems/nothing-stored", 1)
    error = problem["errors"][0]
    assert (error["line"], error["field"]) == (1, field)
    assert words in error["what"] + error["remedy"]
    assert recount(office)[0] == Counter()


@pytest.mark.parametrize(
    ("body", "kind", "status", "slug"),
    [
        (ndjson(row(1)) + b'{"kind": "\xff"}\n', "application/x-ndjson", 400, "not-utf-8"),
        (json.dumps(row(1)).encode("utf-16"), "application/json", 400, "not-utf-8"),
        (b"[{", "application/json", 400, "not-json"),
        (b"[" * 100_000, "application/json", 400, "not-json"),
        (ndjson(row(1)), "text/csv", 415, "unsupported-type"),
        (ndjson(row(1)), "", 415, "unsupported-type"),
        (b"x" * 2_000_001, "application/x-ndjson", 413, "too-large"),
        (b"{}\n" * 12_001, "application/x-ndjson", 413, "too-large"),
    ],
    ids=["latin", "utf16", "cut", "deep", "csv", "untyped", "long", "many"],
)
def test_a_body_that_cannot_be_used_stores_nothing(
    office: Office, body: bytes, kind: str, status: int, slug: str
) -> None:
    response = post(office, body, kind)
    assert (response.status_code, response.json()["type"]) == (status, f"/problems/{slug}")
    assert recount(office)[0] == Counter()


def test_a_body_without_a_declared_length_is_limited_too(office: Office) -> None:
    def endless() -> Any:
        for _ in range(300):
            yield b" " * 10_000

    response = httpx.post(
        f"{office.world.url}/api/v1/tenants/{office.slug}/events",
        content=endless(),
        headers={"Authorization": f"Bearer {office.token}", "Content-Type": "application/x-ndjson"},
    )
    assert response.status_code == 413


def test_a_json_array_an_object_and_an_empty_body_are_taken(office: Office) -> None:
    assert post(office, json.dumps([row(1), row(2)]).encode(), "application/json").json()["stored"] == 2
    assert post(office, json.dumps(row(3)).encode(), "application/json; charset=utf-8").json()["stored"] == 1
    assert post(office, b"").json()["received"] == 0
    assert post(office, b"\xef\xbb\xbf" + ndjson(row(4))).json()["stored"] == 1


def test_lines_are_numbered_as_the_file_has_them(office: Office) -> None:
    result = post(office, b"\n\r\n" + ndjson(row(1), "oops", row(2))).json()
    assert (result["stored"], [each["line"] for each in result["rejections"]]) == (2, [4])


def test_the_provider_is_found_from_the_mx_and_cached(office: Office, client: Client) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, "@ IN MX 10 mx.kestrelbox.example.\n")
    client.events.load(office.slug, ndjson(row(1, recipient=f"a@{name}")))
    office.world.zone(name, "@ IN MX 10 mx.tidepost.example.\n")
    client.events.load(office.slug, ndjson(row(2, recipient=f"b@{name}")))
    assert {event.provider for event in client.events.list(office.slug)} == {"kestrelbox.example"}


def test_mail_to_a_domain_that_nobody_answers_for_is_stored_all_the_same(office: Office, client: Client) -> None:
    from rust_gauge.standins.dns_world import Behaviour

    name = f"{office.slug}-down.example"
    office.world.zone(name, "@ IN MX 10 mx\n")
    office.world.dns.behave(name, Behaviour(fail="servfail"))
    assert client.events.load(office.slug, ndjson(row(1, recipient=f"a@{name}"))).stored == 1
    (event,) = client.events.list(office.slug)
    assert event.provider == "(unresolved)"


def test_a_trail_shows_what_happened_newest_first_page_by_page(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(*(row(n, recipient="a@tidepost.example") for n in range(230)), row(999)))
    trail = list(client.events.list(office.slug, recipient="A@Tidepost.example"))
    assert [event.message_id for event in trail] == [f"m{n}" for n in reversed(range(230))]
    (one,) = client.events.list(office.slug, message_id="m7")
    assert (one.recipient, one.relay, one.provider) == ("a@tidepost.example", "office-1", "tidepost.example")
    bounced = list(client.events.list(office.slug, kinds=["bounced"]))
    assert bounced == []


def test_a_cursor_that_is_none_of_ours_is_refused(office: Office) -> None:
    url = f"{office.world.url}/api/v1/tenants/{office.slug}/events"
    for cursor in ("x", "W10", "WzEsMl0", "WyJhIiwgImIiXQ"):
        response = httpx.get(url, params={"cursor": cursor}, headers={"Authorization": f"Bearer {office.token}"})
        assert (response.status_code, response.json()["type"]) == (400, "/problems/bad-cursor")


def test_loads_at_the_same_moment_leave_every_counter_right(office: Office) -> None:
    body = ndjson(*(row(n) for n in range(400)), *(bounce(n) for n in range(400, 460)))
    results: list[dict[str, Any]] = []
    threads = [threading.Thread(target=lambda: results.append(post(office, body).json())) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert sum(result["stored"] for result in results) == 460
    assert sum(result["duplicates"] for result in results) == 5 * 460
    assert_counters_equal_a_recount(office)


def test_a_database_that_is_down_is_a_clear_problem_and_nothing_is_half_written(office: Office) -> None:
    from sqlalchemy.exc import OperationalError

    from rust_gauge.service.suppression import holding

    def broken(*_: object) -> None:
        raise OperationalError("x", {}, Exception(2013, "Lost connection"))

    # The connection is lost after events and counters were written, before the commit.
    keep = holding.follow
    holding.follow = broken  # type: ignore[assignment]
    try:
        response = post(office, ndjson(row(1)))
    finally:
        holding.follow = keep
    assert (response.status_code, response.json()["type"]) == (503, "/problems/database-unavailable")
    assert response.headers["retry-after"]
    assert recount(office) == (Counter(), Counter(), Counter())


def test_the_client_gives_a_refused_load_as_an_exception_with_its_places(office: Office, client: Client) -> None:
    with pytest.raises(InvalidInputError) as caught:
        client.events.load(office.slug, ndjson(row(kind="posted"), row(domain="x")))
    assert [error.line for error in caught.value.problem.errors] == [1, 2]


def test_a_page_of_events_reads_that_page_and_not_all_events(office: Office, client: Client) -> None:
    """Counted by the server: the optimiser had begun with the few names, and sorted all events of the tenant."""
    client.events.load(office.slug, ndjson(*(row(n) for n in range(4000))))
    for query, most in (
        (EventQuery(office.tenant.id, limit=50), 1000),
        (EventQuery(office.tenant.id, recipient=parse_address("person7@tidepost.example"), limit=50), 100),
    ):

        def read(connection: Connection, query: EventQuery = query) -> int:
            before = _rows_read(connection)
            assert find_events(connection, query)
            return _rows_read(connection) - before

        assert office.world.context.store.transaction(read) < most


def _rows_read(connection: Connection) -> int:
    """How many rows this connection has read from tables and indexes so far."""
    status = connection.exec_driver_sql("SHOW SESSION STATUS LIKE 'Handler_read%%'")
    return sum(int(value) for _, value in status)
