"""Clearance under /api/v1: for programs, lists and MTAs."""

from collections.abc import Iterator
from typing import Annotated

from fastapi import Body, Depends, Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse

from rust_gauge.contract.checks import Gate, MadeGate, NewGate
from rust_gauge.contract.common import Page
from rust_gauge.contract.jobs import Job, ListCheckRequest
from rust_gauge.contract.suppression import ClearanceRequest, ClearanceResult
from rust_gauge.contract.warmup import ListCutRequest
from rust_gauge.service.clearance import clearance, gates, list_checks, list_cuts
from rust_gauge.service.clearance.answers import Question
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.routing import api_router

router = api_router()


@router.post("/tenants/{tenant}/list-checks", tags=["suppression"], status_code=201, operation_id="start_list_check")
def start_list_check(context: Ctx, tenant: Tenant, principal: Asker, body: ListCheckRequest) -> Job:
    """Create a job that checks a list before a send: upload the file in pieces, then run the job."""
    return list_checks.start(context, tenant, body, principal.email)


@router.post("/tenants/{tenant}/list-cuts", tags=["warmup"], status_code=201, operation_id="start_list_cut")
def start_list_cut(context: Ctx, tenant: Tenant, principal: Asker, body: ListCutRequest) -> Job:
    """Create a job that cuts a list into portions for a warm-up plan: upload the file in pieces, then run the job."""
    return list_cuts.start(context, tenant, body, principal.email)


@router.get("/tenants/{tenant}/gates", tags=["suppression"], operation_id="list_gates")
def list_gates(context: Ctx, tenant: Tenant) -> Page[Gate]:
    """List the gates: the doors through which MTAs ask about recipients."""
    return Page(items=gates.list_gates(context, tenant))


@router.post("/tenants/{tenant}/gates", tags=["suppression"], status_code=201, operation_id="add_gate")
def add_gate(context: Ctx, tenant: Tenant, body: NewGate) -> MadeGate:
    """Add a gate. Its key and the configuration line for the MTA are in this answer and are not shown again."""
    return gates.add_gate(context, tenant, body)


Id = Annotated[int, Path(ge=1, le=2**63)]


@router.delete("/tenants/{tenant}/gates/{id}", tags=["suppression"], status_code=204, operation_id="delete_gate")
def delete_gate(context: Ctx, tenant: Tenant, id: Id) -> None:
    """Remove a gate."""
    gates.delete_gate(context, tenant, id)


@router.post(
    "/tenants/{tenant}/clearance", tags=["suppression"], operation_id="get_clearance", response_model=ClearanceResult
)
def get_clearance(context: Ctx, tenant: Tenant, body: Annotated[ClearanceRequest, Body()]) -> Response:
    """Check addresses against the suppression list as it is now. Each one is `clear`, `held` or `later`, and why."""
    done = clearance.answer(context, tenant, body)
    return Response(clearance.encode(done), media_type="application/json")


_PIECE = 256 * 1024  # octets


_Name = Annotated[str | None, Query(max_length=253)]


def _question(
    stream: _Name = None, domain: _Name = None, relay: _Name = None, sending_ip: _Name = None, only_held: bool = False
) -> Question:
    return Question(stream, domain, relay, only_held, sending_ip)


@router.post(
    "/tenants/{tenant}/clearance/stream",
    tags=["suppression"],
    operation_id="stream_clearance",
    response_class=StreamingResponse,
)
async def stream_clearance(
    context: Ctx, tenant: Tenant, request: Request, question: Annotated[Question, Depends(_question)]
) -> StreamingResponse:
    """Check any number of addresses: NDJSON in (a string, an object with `address`, or the bare address in each line),
    NDJSON out in the same order. The answer begins after the whole request was received.
    """
    stream = clearance.Stream(context, tenant, question)
    try:
        async for piece in request.stream():
            await run_in_threadpool(stream.feed, piece)
        await run_in_threadpool(stream.end)
    except BaseException:
        stream.file.close()
        raise

    def answers() -> Iterator[bytes]:
        with stream.file as file:
            while piece := file.read(_PIECE):
                yield piece

    return StreamingResponse(answers(), media_type="application/x-ndjson")
