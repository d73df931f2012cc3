"""Calls of `client.events`."""

from collections.abc import Mapping
from typing import Any

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, make_call, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.events import Event, IntakeResult


def load_ndjson(tenant: str, lines: bytes) -> Call[IntakeResult]:
    path = f"/api/v1{tenant_path(tenant, 'events/stream')}"
    return Call("POST", path, TypeAdapter(IntakeResult), {}, lines, "application/x-ndjson", True)


def list_events(tenant: str, cursor: str | None, query: Mapping[str, Any]) -> Call[Page[Event]]:
    return make_call("GET", tenant_path(tenant, "events"), Page[Event], cursor=cursor, **query)
