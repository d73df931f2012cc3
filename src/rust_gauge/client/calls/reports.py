"""Calls of `client.reports`."""

from collections.abc import Mapping
from typing import Any

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, domain_path, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.receiver_reports import (
    PathAdvance,
    PathSettings,
    PolicyPath,
    Receiver,
    Rehearsal,
    RehearsalPolicy,
    RejectedReport,
    ReportDetails,
    ReportedDomain,
    ReportReplay,
    ReportRetention,
    ReportSummary,
    Source,
    SourceClaim,
    SourceDecision,
    SourceDetails,
    SourceOverview,
    StoredReport,
    StreamAlignment,
    TlsOverview,
)

_REPORTS = "receiver-reports"


def add_report(tenant: str, octets: bytes) -> Call[StoredReport]:
    path = f"/api/v1{tenant_path(tenant, _REPORTS)}"
    return Call("POST", path, TypeAdapter(StoredReport), {}, octets, "application/octet-stream", True)


def list_reports(tenant: str, cursor: str | None, wanted: Mapping[str, Any]) -> Call[Page[ReportSummary]]:
    return make_call("GET", tenant_path(tenant, _REPORTS), Page[ReportSummary], cursor=cursor, **wanted)


def get_report(tenant: str, id: int) -> Call[ReportDetails]:
    return make_call("GET", tenant_path(tenant, f"{_REPORTS}/{id}"), ReportDetails)


def original_path(tenant: str, id: int) -> str:
    return tenant_path(tenant, f"{_REPORTS}/{id}/original")


def delete_report(tenant: str, id: int) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"{_REPORTS}/{id}"), type(None))


def list_rejected(tenant: str, cursor: str | None) -> Call[Page[RejectedReport]]:
    return make_call("GET", tenant_path(tenant, f"{_REPORTS}/rejected"), Page[RejectedReport], cursor=cursor)


def replay(tenant: str, id: int | None) -> Call[ReportReplay]:
    return make_call("POST", tenant_path(tenant, f"{_REPORTS}/rejected/replay"), ReportReplay, id=id)


def delete_rejected(tenant: str, id: int) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"{_REPORTS}/rejected/{id}"), type(None))


def list_receivers(tenant: str, days: int) -> Call[Page[Receiver]]:
    return make_call("GET", tenant_path(tenant, "receivers"), Page[Receiver], days=days)


def list_domains(tenant: str, days: int, last: object) -> Call[Page[ReportedDomain]]:
    return make_call("GET", tenant_path(tenant, "reported-domains"), Page[ReportedDomain], days=days, last=last)


def get_tls(tenant: str, domain: str, days: int, last: object) -> Call[TlsOverview]:
    return make_call("GET", domain_path(tenant, domain) + "/tls", TlsOverview, days=days, last=last)


def get_retention(tenant: str) -> Call[ReportRetention]:
    return make_call("GET", tenant_path(tenant, "report-retention"), ReportRetention)


def set_retention(tenant: str, settings: ReportRetention) -> Call[ReportRetention]:
    return repeatable(make_call("PUT", tenant_path(tenant, "report-retention"), ReportRetention, settings))


def overview(tenant: str, domain: str, days: int, last: object) -> Call[SourceOverview]:
    return make_call("GET", domain_path(tenant, domain) + "/sources", SourceOverview, days=days, last=last)


def streams(tenant: str, domain: str, days: int, last: object) -> Call[StreamAlignment]:
    path = domain_path(tenant, domain) + "/stream-alignment"
    return make_call("GET", path, StreamAlignment, days=days, last=last)


def get_source(tenant: str, domain: str, source: str, days: int, last: object) -> Call[SourceDetails]:
    path = domain_path(tenant, domain) + "/source"
    return make_call("GET", path, SourceDetails, source=source, days=days, last=last)


def claim(tenant: str, domain: str, source: str, body: SourceClaim) -> Call[Source]:
    return make_call("POST", domain_path(tenant, domain) + "/source/claim", Source, body, source=source)


def decide(tenant: str, domain: str, source: str, body: SourceDecision) -> Call[Source]:
    return make_call("POST", domain_path(tenant, domain) + "/source/decision", Source, body, source=source)


def rehearse(tenant: str, domain: str, body: RehearsalPolicy) -> Call[Rehearsal]:
    return repeatable(make_call("POST", domain_path(tenant, domain) + "/rehearsal", Rehearsal, body))


def get_path(tenant: str, domain: str) -> Call[PolicyPath]:
    return make_call("GET", domain_path(tenant, domain) + "/policy-path", PolicyPath)


def set_path(tenant: str, domain: str, settings: PathSettings) -> Call[PolicyPath]:
    return repeatable(make_call("PUT", domain_path(tenant, domain) + "/policy-path", PolicyPath, settings))


def stop_path(tenant: str, domain: str) -> Call[None]:
    return make_call("DELETE", domain_path(tenant, domain) + "/policy-path", type(None))


def choose_stage(tenant: str, domain: str, body: PathAdvance) -> Call[PolicyPath]:
    return make_call("POST", domain_path(tenant, domain) + "/policy-path/stage", PolicyPath, body)
