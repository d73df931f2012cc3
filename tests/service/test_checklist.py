"""The first hour: each step counts as done once it is, and not before."""

from datetime import timedelta

import pytest

from rust_gauge.client import Client, NotFoundError
from rust_gauge.contract.relays import RelayDescription
from rust_gauge.contract.worklist import AlertChannel, AlertSettings
from tests.conftest import TODAY, Office
from tests.receiver import receiving
from tests.rows import ndjson, row


def done(client: Client, office: Office) -> dict[str, bool]:
    return {step.step: step.done for step in client.worklist.checklist(office.slug).steps}


def test_a_new_tenant_has_nothing_and_each_step_is_done_by_doing_it(office: Office, client: Client) -> None:
    assert done(client, office) == dict.fromkeys(("domain", "relay", "events", "colleague", "channel"), False)
    client.domains.add(office.slug, "d.example")
    assert not done(client, office)["domain"], "it is added and not yet audited"
    client.audits.run(office.slug, "d.example")
    client.relays.set(office.slug, "office-1", RelayDescription(include="spf.driftline.example"))
    at = (TODAY - timedelta(hours=1)).isoformat()
    client.events.load(office.slug, ndjson(row(1, time=at)))
    client.people.invite(office.slug, "ruan@office.example", "viewer")
    assert done(client, office) == {"domain": True, "relay": True, "events": True, "colleague": True, "channel": False}
    checklist = client.worklist.checklist(office.slug)
    assert not checklist.done
    assert all(office.slug in step.path and office.slug in step.command for step in checklist.steps)


def test_a_channel_is_tested_when_the_other_side_took_it(office: Office, client: Client, webhook_port: int) -> None:
    with receiving(webhook_port) as desk:
        channel = AlertChannel(kind="chat", name="desk", url=desk.url)
        client.worklist.set_settings(office.slug, AlertSettings(channels=[channel]))
        desk.answer = 500
        failed = client.worklist.test_channel(office.slug, "desk")
        assert not failed.taken
        assert "500" in failed.response
        assert not done(client, office)["channel"]
        desk.answer = 204
        assert client.worklist.test_channel(office.slug, "desk").taken
        assert done(client, office)["channel"]
        assert "Test of the alert channel desk" in desk.bodies()[-1]["text"]
    with pytest.raises(NotFoundError, match="no alert channel"):
        client.worklist.test_channel(office.slug, "pager")
