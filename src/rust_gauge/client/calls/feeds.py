"""Calls of `client.feeds`."""

from urllib.parse import quote

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.events import IntakeResult
from rust_gauge.contract.feeds import (
    Feed,
    FeedChange,
    MadeFeed,
    MappingDryRun,
    MappingDryRunResult,
    NewFeed,
    RejectedRow,
    ReplayResult,
)


def _feed(tenant: str, name: str, rest: str = "") -> str:
    return tenant_path(tenant, f"feeds/{quote(name, safe='')}{rest}")


def list_feeds(tenant: str) -> Call[Page[Feed]]:
    return make_call("GET", tenant_path(tenant, "feeds"), Page[Feed])


def add_feed(tenant: str, new: NewFeed) -> Call[MadeFeed]:
    return make_call("POST", tenant_path(tenant, "feeds"), MadeFeed, new)


def get_feed(tenant: str, name: str) -> Call[Feed]:
    return make_call("GET", _feed(tenant, name), Feed)


def update_feed(tenant: str, name: str, change: FeedChange) -> Call[Feed]:
    return repeatable(make_call("PATCH", _feed(tenant, name), Feed, change))


def delete_feed(tenant: str, name: str) -> Call[None]:
    return make_call("DELETE", _feed(tenant, name), type(None))


def list_rejected_rows(tenant: str, name: str, cursor: str | None) -> Call[Page[RejectedRow]]:
    return make_call("GET", _feed(tenant, name, "/rejected-rows"), Page[RejectedRow], cursor=cursor)


def replay_rejected_rows(tenant: str, name: str, id: int | None) -> Call[ReplayResult]:
    return repeatable(make_call("POST", _feed(tenant, name, "/rejected-rows/replay"), ReplayResult, id=id))


def delete_rejected_rows(tenant: str, name: str) -> Call[int]:
    return make_call("DELETE", _feed(tenant, name, "/rejected-rows"), int)


def try_mapping(tenant: str, trial: MappingDryRun) -> Call[MappingDryRunResult]:
    return repeatable(make_call("POST", tenant_path(tenant, "mapping-dry-runs"), MappingDryRunResult, trial))


def send_to_feed(key: str, body: bytes, content_type: str) -> Call[IntakeResult]:
    path = f"/api/v1/intake/{quote(key, safe='')}"
    return Call("POST", path, TypeAdapter(IntakeResult), {}, body, content_type, True)


def hand_to_feed(tenant: str, name: str, body: bytes, content_type: str) -> Call[IntakeResult]:
    path = f"/api/v1{_feed(tenant, name, '/events')}"
    return Call("POST", path, TypeAdapter(IntakeResult), {}, body, content_type, True)
