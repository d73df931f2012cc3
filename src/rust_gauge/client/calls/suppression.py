"""Calls of `client.suppression`."""

from collections.abc import Mapping
from datetime import date
from typing import Any

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.suppression import (
    AddressStatus,
    ClearanceRequest,
    ClearanceResult,
    Decision,
    EntriesMade,
    EntryCount,
    Growth,
    Lift,
    Lifted,
    ListChanges,
    MatchingSettings,
    MatchingView,
    NewEntries,
    PolicyView,
    SuppressionEntry,
    SuppressionPolicy,
)


def clearance(tenant: str, request: ClearanceRequest) -> Call[ClearanceResult]:
    return repeatable(make_call("POST", tenant_path(tenant, "clearance"), ClearanceResult, request))


def list_suppression(tenant: str, cursor: str | None, query: Mapping[str, Any]) -> Call[Page[SuppressionEntry]]:
    return make_call("GET", tenant_path(tenant, "suppression"), Page[SuppressionEntry], cursor=cursor, **query)


def count_suppression(tenant: str, query: Mapping[str, Any]) -> Call[EntryCount]:
    return make_call("GET", tenant_path(tenant, "suppression/count"), EntryCount, **query)


def add_suppression(tenant: str, new: NewEntries) -> Call[EntriesMade]:
    return repeatable(make_call("POST", tenant_path(tenant, "suppression"), EntriesMade, new))


def lift_suppression(tenant: str, lift: Lift) -> Call[Lifted]:
    return make_call("POST", tenant_path(tenant, "suppression/lifts"), Lifted, lift)


def decide_suppression(tenant: str, decision: Decision) -> Call[Page[SuppressionEntry]]:
    return repeatable(make_call("POST", tenant_path(tenant, "suppression/decisions"), Page[SuppressionEntry], decision))


def address_status(tenant: str, address: str) -> Call[AddressStatus]:
    return make_call("GET", tenant_path(tenant, "suppression/status"), AddressStatus, address=address)


def suppression_changes(tenant: str, after: int, limit: int, wait: float) -> Call[ListChanges]:
    path = tenant_path(tenant, "suppression/changes")
    return make_call("GET", path, ListChanges, after=after, limit=limit, wait=wait or None)


def suppression_growth(tenant: str, first: date | None, last: date | None) -> Call[Growth]:
    return make_call("GET", tenant_path(tenant, "suppression/growth"), Growth, first=first, last=last)


def get_suppression_policy(tenant: str) -> Call[PolicyView]:
    return make_call("GET", tenant_path(tenant, "suppression/policy"), PolicyView)


def set_suppression_policy(tenant: str, policy: SuppressionPolicy) -> Call[PolicyView]:
    return repeatable(make_call("PUT", tenant_path(tenant, "suppression/policy"), PolicyView, policy))


def reset_suppression_policy(tenant: str) -> Call[PolicyView]:
    return make_call("DELETE", tenant_path(tenant, "suppression/policy"), PolicyView)


def get_suppression_matching(tenant: str) -> Call[MatchingView]:
    return make_call("GET", tenant_path(tenant, "suppression/matching"), MatchingView)


def set_suppression_matching(tenant: str, settings: MatchingSettings) -> Call[MatchingView]:
    return repeatable(make_call("PUT", tenant_path(tenant, "suppression/matching"), MatchingView, settings))


def export_suppression(tenant: str, form: str, query: Mapping[str, Any]) -> tuple[str, dict[str, Any]]:
    """Path and query of a download."""
    chosen = {name: value for name, value in query.items() if value is not None}
    return f"/api/v1{tenant_path(tenant, 'suppression/export')}", {**chosen, "format": form}
