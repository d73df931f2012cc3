"""Calls of `client.jobs`."""

from typing import Any

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.jobs import ImportRequest, Job, JobStart, ListCheckRequest, ReportFilesRequest
from rust_gauge.contract.suppression import PolicyBacktestRequest


def start_import(tenant: str, request: ImportRequest) -> Call[Job]:
    return make_call("POST", tenant_path(tenant, "suppression/imports"), Job, request)


def start_report_files(tenant: str, request: ReportFilesRequest) -> Call[Job]:
    return make_call("POST", tenant_path(tenant, "report-files"), Job, request)


def start_list_check(tenant: str, request: ListCheckRequest) -> Call[Job]:
    return make_call("POST", tenant_path(tenant, "list-checks"), Job, request)


def start_policy_backtest(tenant: str, request: PolicyBacktestRequest) -> Call[Job]:
    return make_call("POST", tenant_path(tenant, "suppression/policy/backtests"), Job, request)


def list_jobs(tenant: str, kind: str | None) -> Call[Page[Job]]:
    return make_call("GET", tenant_path(tenant, "jobs"), Page[Job], kind=kind)


def get_job(tenant: str, id: int) -> Call[Job]:
    return make_call("GET", tenant_path(tenant, f"jobs/{id}"), Job)


def add_job_piece(tenant: str, id: int, number: int, octets: bytes) -> Call[Job]:
    path = f"/api/v1{tenant_path(tenant, f'jobs/{id}/pieces/{number}')}"
    return Call("PUT", path, TypeAdapter(Job), body=octets, content_type="application/octet-stream")


def run_job(tenant: str, id: int, start: JobStart) -> Call[Job]:
    return repeatable(make_call("POST", tenant_path(tenant, f"jobs/{id}/run"), Job, start))


def cancel_job(tenant: str, id: int) -> Call[Job]:
    return repeatable(make_call("POST", tenant_path(tenant, f"jobs/{id}/cancel"), Job))


def job_archive(tenant: str, id: int) -> tuple[str, dict[str, Any]]:
    """Path and query of a download."""
    return f"/api/v1{tenant_path(tenant, f'jobs/{id}/archive')}", {}


def task_part(tenant: str, id: int, part: str) -> tuple[str, dict[str, Any]]:
    """Path and query of a download."""
    return f"/api/v1{tenant_path(tenant, f'jobs/{id}/parts/{part}')}", {}
