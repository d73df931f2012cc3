"""Calls of `client.flow`."""

from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.flow import (
    Causes,
    Flow,
    FlowComparison,
    FlowDays,
    FlowNames,
    FlowSettings,
    Provider,
    ProviderChange,
    ReplyPattern,
    Shift,
    ShiftDetails,
)


def flow(tenant: str, query: Mapping[str, Any]) -> Call[Flow]:
    return make_call("GET", tenant_path(tenant, "flow"), Flow, **query)


def flow_days(tenant: str, query: Mapping[str, Any]) -> Call[FlowDays]:
    return make_call("GET", tenant_path(tenant, "flow/days"), FlowDays, **query)


def causes(tenant: str, query: Mapping[str, Any]) -> Call[Causes]:
    return make_call("GET", tenant_path(tenant, "flow/causes"), Causes, **query)


def flow_names(tenant: str) -> Call[FlowNames]:
    return make_call("GET", tenant_path(tenant, "flow/names"), FlowNames)


def compare_flow(tenant: str, query: Mapping[str, Any]) -> Call[FlowComparison]:
    return make_call("GET", tenant_path(tenant, "flow/comparison"), FlowComparison, **query)


def reply_patterns(tenant: str, query: Mapping[str, Any]) -> Call[Page[ReplyPattern]]:
    return make_call("GET", tenant_path(tenant, "reply-patterns"), Page[ReplyPattern], **query)


def list_shifts(tenant: str, days: int) -> Call[Page[Shift]]:
    return make_call("GET", tenant_path(tenant, "shifts"), Page[Shift], days=days)


def get_shift(tenant: str, id: int) -> Call[ShiftDetails]:
    return make_call("GET", tenant_path(tenant, f"shifts/{id}"), ShiftDetails)


def get_flow_settings(tenant: str) -> Call[FlowSettings]:
    return make_call("GET", tenant_path(tenant, "flow-settings"), FlowSettings)


def set_flow_settings(tenant: str, settings: FlowSettings) -> Call[FlowSettings]:
    return repeatable(make_call("PUT", tenant_path(tenant, "flow-settings"), FlowSettings, settings))


def list_providers(tenant: str) -> Call[Page[Provider]]:
    return make_call("GET", tenant_path(tenant, "providers"), Page[Provider])


def rename_provider(tenant: str, provider: str, label: str) -> Call[Provider]:
    change = ProviderChange.model_construct(label=label)
    return repeatable(
        make_call("PATCH", tenant_path(tenant, f"providers/{quote(provider, safe='')}"), Provider, change)
    )
