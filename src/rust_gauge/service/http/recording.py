"""What of the API goes into the audit log: every call that changes something, and reading about one recipient.

What was there before a change is read by the GET of the same address, as the same person.
"""

from typing import Any

import orjson
from fastapi import Request, Response
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool

from rust_gauge.service.runtime.audit_log import record
from rust_gauge.store.accounts import Principal, TenantAccess

# Change nothing that somebody would ask about later: mail data, questions that need a body, dry runs.
# (Signing in and accepting are recorded by their use cases, which know whose they are.)
_NAMES = """
    receive load_events stream_events send_to_feed check_message assay_message read_feedback_report run_audit
    add_caught_message recheck_caught_message learn_text_model
    check_seed check_outlet put_placement_message put_placement_schedule_message run_placement_schedule
    start_batch
    check_plan preview_publication forecast_reading backtest_cause_rules start_policy_backtest try_mapping
    check_addresses get_clearance stream_clearance add_job_piece run_job run_detection start_list_check
    recheck_watch recheck_proof compare_audits check_spf look_at_invitation sign_in sign_out accept_invitation
    add_receiver_report receive_tls_report replay_reports rehearse_policy
    check_second_factor start_passkey start_passkey_sign_in sign_in_with_passkey
"""
_NOT_RECORDED = frozenset(_NAMES.split())
_READS_RECORDED = frozenset({"get_recipient_data", "export_suppression", "get_address_status"})
_PEOPLE = frozenset({"people", "session", "installation"})


def is_recorded(route: APIRoute) -> bool:
    """Return whether a call of this route goes into the audit log."""
    operation = route.operation_id or ""
    if operation in _READS_RECORDED:
        return True
    return bool((route.methods or set()) & {"POST", "PUT", "PATCH", "DELETE"}) and operation not in _NOT_RECORDED


_READERS: dict[str, APIRoute] = {}  # by path: the route that says what is there


def know_reader(route: APIRoute) -> None:
    """Remember the GET of a path, for whatever changes the same."""
    if "GET" in (route.methods or set()):
        _READERS[route.path] = route


async def state_before(request: Request, route: APIRoute) -> Any:
    """Return what the GET of the same address says now; None where there is none, or it fails."""
    if not (route.methods or set()) & {"PUT", "PATCH", "DELETE"}:
        return None
    reader = _READERS.get(route.path)
    if reader is None:
        return None
    scope = {
        **request.scope,
        "method": "GET",
        "route": reader,
        "query_string": b"",
        "state": dict(request.scope["state"]),
    }
    try:
        return _json(await reader.get_route_handler()(Request(scope, _nothing)))
    except Exception:  # the call itself will say what is wrong
        return None


async def record_call(request: Request, route: APIRoute, response: Response, before: Any) -> None:
    """Write what was done, once it is done."""
    principal: Principal | None = getattr(request.state, "principal", None)
    if response.status_code >= 400 or principal is None:
        return
    tenant: TenantAccess | None = getattr(request.state, "tenant", None)
    tags = {str(tag) for tag in route.tags}
    after = None
    if "GET" not in (route.methods or set()):
        after = await _body(request)
        after = _json(response) if after is None else after
    prefix = f"/api/v1/tenants/{tenant.slug}" if tenant else "/api/v1"
    subject = request.url.path.removeprefix(prefix)
    made = _json(response)
    if route.status_code == 201 and isinstance(made, dict) and made.get("id") is not None:
        subject += f"/{made['id']}"
    await run_in_threadpool(
        record, request.app.state.context, route.operation_id or route.name, principal=principal,
        tenant_id=tenant.id if tenant else None, address=request.client.host if request.client else "",
        request_id=getattr(request.state, "request_id", ""), subject=subject, before=before, after=after,
        about_people=bool(tags & _PEOPLE),
    )  # fmt: skip


async def _nothing() -> dict[str, Any]:
    return {"type": "http.request", "body": b"", "more_body": False}


async def _body(request: Request) -> Any:
    """Return the JSON body of a request that was read; None where it had none."""
    try:
        octets = getattr(request, "_body", b"")
        return orjson.loads(octets) if octets else None
    except ValueError:
        return None


def _json(response: Response) -> Any:
    try:
        return orjson.loads(response.body) if getattr(response, "body", b"") else None
    except ValueError:
        return None
