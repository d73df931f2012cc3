"""Taking events in: the fast path has the same result as the slow one, and counters equal a recount whatever comes when."""

import json
import random
import threading
from datetime import timedelta
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import text

from rust_gauge.client import Client
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.service.intake import names
from rust_gauge.service.intake.names import KnownNames, known_names
from rust_gauge.service.intake.reader import Reader
from rust_gauge.service.intake.rows import rows_of
from rust_gauge.store.intake import Load
from rust_gauge.store.recount import counters, recount
from tests.conftest import TODAY, Office, World
from tests.rows import START, bounce, ndjson, row

USUAL = st.fixed_dictionaries(
    {
        "kind": st.sampled_from(["accepted", "delivered", "opened", "clicked", "withheld"]),
        "time": st.sampled_from(
            ["2026-11-19T08:00:00Z", "2026-11-19T08:00:00+00:00", "2026-11-19T10:30:59.25+02:00", "2026-11-20T12:09:30Z",
             "2026-11-20T12:10:30Z", "2026-11-19 08:00:00Z", "1999-12-31T23:59:59Z", "2026-13-01T00:00:00Z", "soon", 7]
        )
        | st.builds(
            "{}T{}:{}{}{}".format,
            st.sampled_from(["2026-11-18", "2026-11-19", "2026-11-20", "2000-01-01", "0001-01-01", "9999-12-31"]),
            st.sampled_from(["00:00", "12:09", "12:10", "14:10", "23:59", "24:00"]),
            st.sampled_from(["00", "59", "60"]),
            st.from_regex(r"(\.[0-9]{0,8})?", fullmatch=True) | st.just(",5"),
            st.sampled_from(["Z", "z", "+00:00", "-00:00", "+02:00", "-09:30", "+14:00", "+14:59", "-23:59", "+24:00", "+0200", ""]),
        ),
        "domain": st.just("news.d.example"),
        "stream": st.just("newsletter"),
        "relay": st.just("office-1"),
        "recipient": st.sampled_from(
            ["person@tidepost.example", "Per.Son+x@TidePost.example", "<person@tidepost.example>", '"a b"@tidepost.example',
             "jörg@tidepost.example", "a..b@tidepost.example", "x" * 65 + "@tidepost.example", "nobody", 7]
        ),
    },
    optional={
        "message_id": st.text(max_size=300) | st.just(5),
        "id": st.text(max_size=20),
        "remote_host": st.sampled_from(["mx1.tidepost.example", "a\\b", "x\x1fy", "", 3]),
        "diagnostic": st.sampled_from(["250 taken", "back\\slash", "two\nlines", "x" * 4001, "\x1e", None]),
        "reply_code": st.integers(100, 700) | st.just("250") | st.just(True),
        "enhanced_code": st.sampled_from(["2.0.0", "9.9.9", 2]),
        "attempt": st.integers(-1, 20_000) | st.just(1.5),
        "seconds_taken": st.sampled_from([0, 1, 2.5, -1, 1e9, "3"]),
        "colour": st.just("red"),
        "tags": st.sampled_from([["blue"], ["blue", "red"], ["red", "blue"], [], [""], ["x"] * 11, "blue", [1], None]),
    },
)  # fmt: skip


def taken(world: World, tenant_id: int, values: list[dict[str, Any]], *, short: bool) -> tuple[bytes, int]:
    """The packet that these rows give, and how many are refused."""
    known = known_names(world.context, tenant_id) if short else KnownNames(world.context, tenant_id)
    load = Load(tenant_id, 0, known.names)
    reader = Reader(load, known, TODAY)
    for value in values:
        reader.read(rows_of([value]), 0, 1)
    return b"".join(load.packets), len(reader.rejected)


@settings(max_examples=300, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(value=USUAL)
def test_the_short_way_gives_the_very_same_row(office: Office, value: dict[str, Any]) -> None:
    for plain in (row(1), row(2, tags=["blue"]), row(3, tags=["red", "blue"])):
        taken(office.world, office.tenant.id, [plain], short=True)  # from now on the short way is open
    by_short, refused = taken(office.world, office.tenant.id, [value], short=True)
    by_long, refused_by_long = taken(office.world, office.tenant.id, [value], short=False)
    assert (by_short, refused) == (by_long, refused_by_long)


def test_rows_as_relays_send_them_take_the_short_way(office: Office) -> None:
    usual = [
        row(1, time="2026-11-19T08:00:00.25Z"), row(2, time="2026-11-19T10:00:00.123456+02:00"), row(3, tags=["blue"]),
        row(4, time="2026-11-18T23:30:00-09:30", seconds_taken=2),
    ]  # fmt: skip
    known = known_names(office.world.context, office.tenant.id)
    taken(office.world, office.tenant.id, [row(9), row(10, tags=["blue"])], short=True)
    reader = Reader(Load(office.tenant.id, 0, known.names), known, TODAY)
    assert reader._short_way(rows_of(usual), 0, len(usual)) == []


@pytest.mark.parametrize(("said", "kept"), [("x" * 4000, "x" * 4000), ("y" * 4001, "y" * 3994 + " [cut]")])
def test_a_reply_that_is_too_long_is_cut_and_marked_and_its_event_kept(office: Office, said: str, kept: str) -> None:
    with office.client() as client:
        result = client.events.load(office.slug, ndjson(bounce(1, diagnostic=said)))
        assert (result.stored, result.rejected) == (1, 0)
        (event,) = client.events.list(office.slug)
        assert event.diagnostic == kept


def right(office: Office) -> None:
    """Every counter equals a recount."""
    held, wanted = office.world.context.store.transaction(
        lambda c: (counters(c, office.tenant.id), recount(c, office.tenant.id))
    )
    assert held == wanted


def counts(office: Office) -> dict[str, int]:
    rows = office.world.context.store.transaction(
        lambda c: c.execute(
            text("SELECT kind, SUM(n) FROM flow_day WHERE tenant_id = :t GROUP BY kind"), {"t": office.tenant.id}
        ).all()
    )
    return {str(Count.from_number(kind)): int(n) for kind, n in rows}


def delay(number: int, minutes: int = 0, **changes: Any) -> dict[str, Any]:
    time = (START + timedelta(minutes=minutes)).isoformat()
    return row(number, kind="delayed", time=time, reply_code=451, diagnostic="451 4.7.1 greylisted", **changes)


@pytest.mark.parametrize(
    ("rows", "wanted"),
    [
        ([delay(1), delay(1, 5), delay(1, 9), row(1)], {"delayed": 1, "delayed_again": 2, "delivered": 1}),
        ([row(1), bounce(1, time="2026-11-19T09:00:00Z")], {"delivered": 1, "bounced": 1, "returned": 1}),
        ([bounce(1), bounce(1, time="2026-11-19T08:00:02Z")], {"bounced": 1, "bounced_again": 1}),
        ([row(1), row(1, kind="complained", time="2026-11-20T08:00:00Z")], {"delivered": 1, "complained": 1}),
        ([bounce(1), bounce(1, recipient="other@tidepost.example")], {"bounced": 2}),
        ([bounce(1, message_id=""), bounce(2, message_id="", recipient="person1@tidepost.example")], {"bounced": 2}),
        ([delay(1), bounce(1, time="2026-11-19T20:00:00Z")], {"delayed": 1, "bounced": 1}),
        ([row(1, kind="opened"), row(1, kind="opened", time="2026-11-19T09:00:00Z")], {"opened": 2}),
    ],
)
def test_each_message_counts_once_in_whichever_order_it_is_told(
    office: Office, client: Client, rows: list[dict[str, Any]], wanted: dict[str, int]
) -> None:
    order = list(rows)
    random.Random(len(rows)).shuffle(order)
    for each in order:  # a load of its own for each
        client.events.load(office.slug, ndjson(each))
    assert counts(office) == wanted
    right(office)
    client.events.load(office.slug, ndjson(*rows))
    assert counts(office) == wanted


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_counters_equal_a_recount_after_any_loads(office: Office, data: st.DataObject) -> None:
    one = st.builds(
        lambda kind, number, minutes, more: {
            **(bounce(number) if kind == "bounced" else delay(number) if kind == "delayed" else row(number, kind=kind)),
            "time": (START + timedelta(minutes=minutes)).isoformat(),
            **more,
        },
        st.sampled_from(["accepted", "delivered", "delayed", "bounced", "complained", "unsubscribed", "opened"]),
        st.integers(0, 5),
        st.integers(0, 1600),
        st.sampled_from([{}, {"seconds_taken": 3.0}, {"campaign": "spring", "tags": ["a", "b"]}, {"sending_ip": "192.0.2.1"},
                         {"message_id": ""}]),
    )  # fmt: skip
    for load in data.draw(st.lists(st.lists(one, min_size=1, max_size=12), min_size=1, max_size=6)):
        body = "\n".join(json.dumps(each) for each in load).encode()
        with office.client() as client:
            client.events.load(office.slug, body)
    right(office)


@pytest.mark.parametrize("order", [[0, 1], [1, 0], None], ids=["accepted first", "delivered first", "one load"])
def test_a_delivery_without_its_time_is_timed_by_the_accepted_event(
    office: Office, client: Client, order: list[int] | None
) -> None:
    told = [
        row(1, kind="accepted", time="2026-11-19T08:00:00Z"),
        row(1, kind="delivered", time="2026-11-19T08:01:30Z"),
        row(2, kind="delivered", time="2026-11-19T08:05:00Z"),  # nobody says when it was accepted
        row(3, kind="delivered", time="2026-11-19T08:05:00Z", seconds_taken=4),
        row(3, kind="accepted", time="2026-11-19T08:00:00Z"),
        row(4, kind="accepted", time="2026-11-19T09:00:00Z"),
        row(4, kind="delivered", time="2026-11-19T08:05:00Z"),  # before it was accepted: a clock is wrong
    ]
    for load in [told] if order is None else [[told[n]] for n in order] + [told[2:]]:
        client.events.load(office.slug, ndjson(*load))
    right(office)
    found = {each.recipient: each.seconds_taken for each in client.events.list(office.slug, kinds=["delivered"])}
    assert found == {f"person{n}@tidepost.example": seconds for n, seconds in ((1, 90), (2, None), (3, 4), (4, None))}
    client.events.load(office.slug, ndjson(*told))  # a repeat adds nothing
    right(office)
    total = client.flow.show(office.slug, first=START.date(), last=TODAY.date()).total
    assert total.seconds_p95 == pytest.approx(90, rel=0.2)


def test_a_load_that_stands_half_there_adds_the_other_half(office: Office, client: Client) -> None:
    rows = [row(n, seconds_taken=n / 2) for n in range(20)] + [bounce(n) for n in range(20, 30)]
    client.events.load(office.slug, ndjson(*rows[::2]))
    result = client.events.load(office.slug, ndjson(*rows, *rows[:3]))
    assert (result.received, result.stored, result.duplicates) == (33, 15, 18)
    right(office)
    assert counts(office) == {"delivered": 20, "bounced": 10}


def test_tags_are_kept_and_come_back(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(row(1, campaign="spring \\ 1", tags=["variant b", "blue", "blue"])))
    (event,) = client.events.list(office.slug)
    assert (event.campaign, event.tags) == ("spring \\ 1", ["blue", "variant b"])


def test_two_loads_side_by_side_with_new_names_in_the_middle_count_right(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each stops in the middle, with names and replies of its own half learned, until the other has got there, too."""
    meet = threading.Barrier(2)
    plain = names.providers_for

    def together(context: Any, domains: Any) -> Any:
        if any(domain.startswith("middle") for domain in domains):
            meet.wait(30)
        return plain(context, domains)

    monkeypatch.setattr(names, "providers_for", together)

    def rows_for(load: str) -> list[dict[str, Any]]:
        def one(n: int, **changes: Any) -> dict[str, Any]:
            middle = f"middle{load}.example" if n >= 4 else "tidepost.example"
            reply = f"550 5.7.1 refused by {load} for reason {'abcdefghij'[n]}"
            return bounce(
                n, message_id=f"{load}{n}", recipient=f"{load}{n}@{middle}", diagnostic=reply, stream=f"{load}-{n // 4}",
                tags=[f"{load}{n}"], **changes,
            )  # fmt: skip

        return [*(one(n) for n in range(8)), *(one(n, kind="delayed", reply_code=451) for n in range(8))]

    errors: list[BaseException] = []

    def send(load: str) -> None:
        try:
            with office.client() as own:
                assert own.events.load(office.slug, ndjson(*rows_for(load))).stored == 16
        except BaseException as error:
            errors.append(error)

    threads = [threading.Thread(target=send, args=(load,)) for load in ("north", "south")]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert errors == []
    right(office)
    events = list(client.events.list(office.slug))
    replies = {row.example for row in client.flow.reply_patterns(office.slug, first=START.date(), last=TODAY.date())}
    assert len(events) == 32
    assert sum("reason" in reply for reply in replies) >= 16, "each reply is kept under its own reply_pattern"


def test_a_late_complaint_counts_where_its_mail_was_delivered(office: Office, client: Client) -> None:
    sent = row(1, relay="office-1", stream="receipts", time="2026-11-12T08:00:00Z")
    late = [
        row(1, kind=kind, relay="", stream="", time=f"2026-11-{day}T09:00:00Z")
        for kind, day in (("complained", 18), ("complained", 19), ("unsubscribed", 19))
    ]
    lone = row(2, kind="complained", relay="office-2", time="2026-11-18T10:00:00Z")
    for each in (late[1], late[0], sent, late[2], lone):
        client.events.load(office.slug, ndjson(each))
    right(office)
    with office.world.context.store.engine.connect() as connection:
        found = connection.execute(
            text(
                "SELECT f.kind, r.name AS relay, s.name AS stream, CAST(f.hour AS CHAR) AS hour, f.n FROM flow_hour f "
                "JOIN relay r ON r.id = f.relay_id JOIN stream s ON s.id = f.stream_id "
                "WHERE f.tenant_id = :t AND f.kind <> 1 ORDER BY f.kind, f.hour"
            ),
            {"t": office.tenant.id},
        ).all()
    assert [(str(Count.from_number(each.kind)), each.relay, each.hour[:13], each.n) for each in found] == [
        ("complained", "office-1", "2026-11-12 08", 1),
        ("complained", "office-2", "2026-11-18 10", 1),
        ("unsubscribed", "office-1", "2026-11-12 08", 1),
        ("complained_again", "", "2026-11-19 09", 1),
    ]
    (all_mail, *_) = client.flow.days(office.slug, first="2026-11-12", last="2026-11-12").series
    assert (all_mail.delivered, all_mail.complained) == ([1], [1])
