"""Tests of alert channels: a message is sent at once, and what came of it is kept."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection

from rust_gauge.contract.worklist import ChannelTest
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import unknown_name
from rust_gauge.service.worklist import items, notifications
from rust_gauge.store import audits as store_settings
from rust_gauge.store.accounts import TenantAccess

SETTING = "alert_tests"


@dataclass(frozen=True, slots=True)
class Tested:
    """The newest test of a channel."""

    at: datetime
    taken: bool


def test_channel(context: Context, tenant: TenantAccess, name: str) -> ChannelTest:
    """Send a test to a channel now. ServiceProblem `not-found` for one that is not saved."""
    channels = {channel.name: channel for channel in items.get_settings(context, tenant).channels}
    if name not in channels:
        raise unknown_name(tenant.name, "alert channel", name, channels)
    taken, response = notifications.send_test(context, tenant, channels[name])
    now = context.clock()

    def write(connection: Connection) -> None:
        document = store_settings.get_setting(connection, tenant.id, SETTING) or {}
        kept = {channel: test for channel, test in document.items() if channel in channels}
        kept[name] = {"at": now.isoformat(), "taken": taken}
        store_settings.put_setting(connection, tenant.id, SETTING, kept, now)

    context.store.transaction(write)
    return ChannelTest(channel=name, at=now, taken=taken, response=response)


def tested(connection: Connection, tenant_id: int) -> dict[str, Tested]:
    """Return by channel: its newest test."""
    document = store_settings.get_setting(connection, tenant_id, SETTING) or {}
    return {name: Tested(datetime.fromisoformat(test["at"]), bool(test["taken"])) for name, test in document.items()}
