"""Old events go and counters stay; what is kept of one person can be had and erased."""

from datetime import timedelta

import pytest
from sqlalchemy import text

from rust_gauge.client import Client, InvalidInputError
from rust_gauge.contract.flow import FlowSettings
from rust_gauge.contract.recipients import ErasureRequest
from rust_gauge.service.mailflow import retention
from rust_gauge.store import audits as store_settings
from rust_gauge.store import jobs
from rust_gauge.store import retention as store
from rust_gauge.store.partitions import ensure_partitions, partition_ends
from rust_gauge.store.recount import counters, recount
from tests.conftest import TODAY, Office
from tests.rows import bounce, ndjson, row

OLD = (TODAY - timedelta(days=60)).isoformat()


def held(office: Office) -> dict[str, object]:
    return dict(office.world.context.store.transaction(lambda c: counters(c, office.tenant.id)))


def test_old_events_go_and_their_counters_stay(office: Office, client: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(store, "PIECE", 3)
    client.events.load(office.slug, ndjson(*(row(n, time=OLD, message_id=f"o{n}") for n in range(7)), row(9)))
    before = held(office)
    client.flow.set_settings(office.slug, FlowSettings(keep_events_days=30))
    office.world.work()
    assert [event.message_id for event in client.events.list(office.slug, since=TODAY - timedelta(days=99))] == ["m9"]
    assert held(office) == before
    with pytest.raises(InvalidInputError) as refused:
        client.events.load(office.slug, ndjson(row(1, time=OLD, message_id="o1")))
    assert "before the retention period" in refused.value.problem.errors[0].what
    assert held(office) == before, "what was dropped does not count twice"


def test_a_row_that_is_too_old_is_refused_whichever_way_it_is_read(office: Office, client: Client) -> None:
    client.flow.set_settings(office.slug, FlowSettings(keep_events_days=30))
    result = client.events.load(office.slug, ndjson(row(1), row(2, time=OLD), bounce(3, time=OLD), bounce(4)))
    assert (result.stored, [refusal.line for refusal in result.rejections]) == (2, [2, 3])


def test_partitions_go_when_nobody_needs_them(office: Office, client: Client) -> None:
    context = office.world.context
    ensure_partitions(context.store, TODAY)
    there = context.store.transaction(partition_ends)
    (_, end) = there[0]
    long_ago = (TODAY - timedelta(days=390)).isoformat()
    client.events.load(office.slug, ndjson(row(1, time=long_ago), row(2)))
    before = held(office)
    assert store.drop_partitions(context.store, end - timedelta(days=1), TODAY) == 0
    assert store.drop_partitions(context.store, end, TODAY) == 1
    assert context.store.transaction(partition_ends) == there[1:]
    assert there[1][1] - end == timedelta(days=7)
    left = client.events.list(office.slug, since=TODAY - timedelta(days=399))
    assert [event.message_id for event in left] == ["m2"]
    assert held(office) == before


def test_all_that_is_kept_of_a_person_can_be_had(office: Office, client: Client) -> None:
    kim = "Kim@tidepost.example"
    client.events.load(office.slug, ndjson(row(1, recipient=kim), bounce(2, recipient=kim), row(3)))
    found = client.recipients.data(office.slug, "kim@tidepost.example")
    assert [event.kind for event in found.events] == ["bounced", "delivered"]
    assert [(entry.reason, change.change) for entry, change in zip(found.entries, found.changes, strict=True)] == [
        ("invalid_address", "made")
    ]
    assert client.recipients.data(office.slug, "nobody@tidepost.example").events == []
    with pytest.raises(InvalidInputError):
        client.recipients.data(office.slug, "no address")


@pytest.mark.parametrize("again", [False, True])
def test_a_person_is_erased_and_every_counter_stays(office: Office, client: Client, again: bool) -> None:
    kim = "kimberley@tidepost.example"
    reply = "550 5.1.1 <kimberley@tidepost.example>: kimberley is no such mailbox"
    rows = [
        row(1, recipient=kim, message_id="kims"), row(2, recipient=kim, message_id="kims", kind="delayed", diagnostic="451 later, kimberley"),
        bounce(3, recipient=kim, message_id="kims", diagnostic=reply), row(4),
    ]  # fmt: skip
    client.events.load(office.slug, ndjson(*rows))
    before = held(office)
    done = client.recipients.erase(
        office.slug, ErasureRequest(address=kim.upper(), reason="ticket 812", may_be_mailed_again=again)
    )
    assert (done.events, done.others) == (3, 1)
    assert client.recipients.data(office.slug, kim).events == []
    with office.world.context.store.engine.begin() as connection:
        for table in ("event", "suppression_entry", "reply_pattern", "rejected_row"):
            rows_left = connection.execute(text(f"SELECT * FROM {table} WHERE tenant_id = {office.tenant.id}")).all()
            assert "kimberley" not in repr([tuple(each) for each in rows_left]).lower(), table
    assert held(office) == before
    assert office.world.context.store.transaction(lambda c: recount(c, office.tenant.id)) == before
    answer = client.suppression.clearance(office.slug, [kim])
    assert answer.held == (0 if again else 1), "who may not be mailed is still known by a digest"
    client.events.load(office.slug, ndjson(*rows))
    assert held(office) == before, "told again it is known, and brings nothing back"
    assert client.recipients.data(office.slug, kim).events == []
    (kept,) = client.recipients.erasures(office.slug)
    assert (kept.reason, kept.events) == ("ticket 812", 3)


def test_once_a_day_those_who_have_more_than_they_keep_are_asked_for(office: Office, client: Client) -> None:
    context = office.world.context
    client.events.load(office.slug, ndjson(row(1, time=OLD), row(2)))

    def due() -> int:
        context.memory.pop("retention", None)
        retention.ask_for_due(context)
        return context.store.transaction(lambda c: jobs.waiting(c, "retention", office.tenant.id))

    assert due() == 0
    with context.store.engine.begin() as connection:
        store_settings.put_setting(connection, office.tenant.id, "flow", {"keep_events_days": 50}, TODAY)
    assert due() == 1
    office.world.work()
    assert due() == 0
    retention.ask_for_due(context)  # again on the same day: nothing is looked at
    assert [event.message_id for event in client.events.list(office.slug, since=TODAY - timedelta(days=99))] == ["m2"]
