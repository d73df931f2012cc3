"""Calls of `client.audits`."""

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, domain_path, make_call, repeatable, tenant_path
from rust_gauge.contract.audits import (
    Audit,
    AuditComparison,
    AuditSettings,
    AuditSummary,
    BatchRequest,
    BatchResult,
    HistoryEntry,
    MessageCheck,
    ReceiverReport,
    SpfCheck,
    SpfCheckRequest,
)
from rust_gauge.contract.common import Page
from rust_gauge.contract.jobs import Job


def run_audit(tenant: str, name: str) -> Call[Audit]:
    return make_call("POST", domain_path(tenant, name) + "/audits", Audit)


def get_newest_audit(tenant: str, name: str) -> Call[Audit]:
    return make_call("GET", domain_path(tenant, name) + "/audits/newest", Audit)


def get_audit(tenant: str, name: str, id: int) -> Call[Audit]:
    return make_call("GET", f"{domain_path(tenant, name)}/audits/{id}", Audit)


def list_audits(tenant: str, name: str, cursor: str | None) -> Call[Page[AuditSummary]]:
    return make_call("GET", domain_path(tenant, name) + "/audits", Page[AuditSummary], cursor=cursor)


def compare_audits(tenant: str, name: str, before: int | None, after: int | None) -> Call[AuditComparison]:
    return make_call("GET", domain_path(tenant, name) + "/audits/compare", AuditComparison, before=before, after=after)


def list_history(tenant: str, name: str, cursor: str | None) -> Call[Page[HistoryEntry]]:
    return make_call("GET", domain_path(tenant, name) + "/history", Page[HistoryEntry], cursor=cursor)


def check_spf(tenant: str, request: SpfCheckRequest) -> Call[SpfCheck]:
    return repeatable(make_call("POST", tenant_path(tenant, "spf-checks"), SpfCheck, request))


def check_message(tenant: str, raw: bytes, ip: str, helo: str, mail_from: str) -> Call[MessageCheck]:
    query = {name: value for name, value in (("ip", ip), ("helo", helo), ("mail_from", mail_from)) if value}
    path = f"/api/v1{tenant_path(tenant, 'message-checks')}"
    return Call("POST", path, TypeAdapter(MessageCheck), query, raw, "message/rfc822", True)


def read_feedback_report(tenant: str, octets: bytes) -> Call[ReceiverReport]:
    path = f"/api/v1{tenant_path(tenant, 'feedback-reports')}"
    return Call("POST", path, TypeAdapter(ReceiverReport), {}, octets, "application/octet-stream", True)


def start_batch(tenant: str, request: BatchRequest) -> Call[Job]:
    return make_call("POST", tenant_path(tenant, "batches"), Job, request)


def list_batch_results(tenant: str, id: int, cursor: str | None) -> Call[Page[BatchResult]]:
    return make_call("GET", tenant_path(tenant, f"batches/{id}/results"), Page[BatchResult], cursor=cursor)


def get_audit_settings(tenant: str) -> Call[AuditSettings]:
    return make_call("GET", tenant_path(tenant, "audit-settings"), AuditSettings)


def set_audit_settings(tenant: str, settings: AuditSettings) -> Call[AuditSettings]:
    return repeatable(make_call("PUT", tenant_path(tenant, "audit-settings"), AuditSettings, settings))
