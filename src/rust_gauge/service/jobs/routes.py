"""Long work under /api/v1: files in pieces, progress, results."""

from typing import Annotated, Literal

from fastapi import APIRouter, Path, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse

from rust_gauge.contract.tasks import Task, TaskKind, TaskStart
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.parameters import problems
from rust_gauge.service.jobs import tasks

router = APIRouter(prefix="/api/v1", responses=problems)


@router.get("/tenants/{tenant}/tasks", tags=["suppression"], operation_id="list_tasks")
def list_tasks(context: Ctx, tenant: Tenant, kind: TaskKind | None = None) -> list[Task]:
    """Tasks of the last thirty days, newest first."""
    return tasks.list_tasks(context, tenant, kind)


Id = Annotated[int, Path(ge=1, le=2**63)]


@router.get("/tenants/{tenant}/tasks/{id}", tags=["suppression"], operation_id="get_task")
def get_task(context: Ctx, tenant: Tenant, id: Id) -> Task:
    """How far it is, and what came out."""
    return tasks.get(context, tenant, id)


@router.put(
    "/tenants/{tenant}/tasks/{id}/pieces/{number}",
    tags=["suppression"],
    operation_id="put_task_piece",
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
        }
    },
)
async def put_task_piece(
    context: Ctx, tenant: Tenant, id: Id, number: Annotated[int, Path(ge=0, le=20_000)], request: Request
) -> Task:
    """A piece of the file, numbered from 0. Sent again it takes the place of what was sent before."""
    octets = await request.body()
    return await run_in_threadpool(tasks.put_piece, context, tenant, id, number, octets)


@router.post("/tenants/{tenant}/tasks/{id}/run", tags=["suppression"], operation_id="run_task")
def run_task(context: Ctx, tenant: Tenant, id: Id, body: TaskStart) -> Task:
    """Begin, begin in earnest after a dry run, or go on after it was stopped."""
    return tasks.run(context, tenant, id, dry=body.dry)


@router.post("/tenants/{tenant}/tasks/{id}/stop", tags=["suppression"], operation_id="stop_task")
def stop_task(context: Ctx, tenant: Tenant, id: Id) -> Task:
    """Stop after the piece that is under way; one that was never run is dropped."""
    return tasks.stop(context, tenant, id)


@router.get(
    "/tenants/{tenant}/tasks/{id}/parts/{part}",
    tags=["suppression"],
    operation_id="get_task_part",
    response_class=StreamingResponse,
)
def get_task_part(
    context: Ctx, tenant: Tenant, id: Id, part: Literal["refused", "clear", "held", "doubtful"]
) -> StreamingResponse:
    """What came out, as CSV."""
    pieces = tasks.part(context, tenant, id, part)
    name = f'attachment; filename="{part}-{id}.csv"'
    return StreamingResponse(pieces, media_type="text/csv; charset=utf-8", headers={"Content-Disposition": name})
