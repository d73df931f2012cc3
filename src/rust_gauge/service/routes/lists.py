"""Around the suppression list, under /api/v1: tasks and their files, checks, unsubscribe links, gates."""

from typing import Annotated, Literal

from fastapi import APIRouter, Path, Query, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse

from rust_gauge.contract.checks import (
    AddressCheck,
    AddressCheckRequest,
    AddressWords,
    Gate,
    MadeGate,
    MailLinks,
    MailLinksRequest,
    NewGate,
    Unsubscribes,
)
from rust_gauge.contract.suppression import RehearsalRequest
from rust_gauge.contract.tasks import ImportRequest, ListCheckRequest, Task, TaskKind, TaskStart
from rust_gauge.service import checks, gates, imports, list_checks, policy_trials, tasks, unsubscribing
from rust_gauge.service.routes.access import Asker, Ctx, Tenant
from rust_gauge.service.routes.api import problems

router = APIRouter(prefix="/api/v1/tenants/{tenant}", tags=["suppression"], responses=problems)  # type: ignore[arg-type]
Id = Annotated[int, Path(ge=1, le=2**63)]


@router.post("/suppression/imports", status_code=201, operation_id="start_import")
def start_import(context: Ctx, tenant: Tenant, principal: Asker, body: ImportRequest) -> Task:
    """Put a list on the suppression list: start here, send the file by pieces, then run the task."""
    return imports.start(context, tenant, body, principal.email)


@router.post("/list-checks", status_code=201, operation_id="start_list_check")
def start_list_check(context: Ctx, tenant: Tenant, principal: Asker, body: ListCheckRequest) -> Task:
    """Look at a list before a send: start here, send the file by pieces, then run the task."""
    return list_checks.start(context, tenant, body, principal.email)


@router.post("/suppression/policy/trials", status_code=201, operation_id="start_policy_trial")
def start_policy_trial(context: Ctx, tenant: Tenant, principal: Asker, body: RehearsalRequest) -> Task:
    """Try a policy on the past, beside the one that holds. Begins at once."""
    return policy_trials.start(context, tenant, body, principal.email)


@router.get("/tasks", operation_id="list_tasks")
def list_tasks(context: Ctx, tenant: Tenant, kind: TaskKind | None = None) -> list[Task]:
    """Tasks of the last thirty days, newest first."""
    return tasks.list_tasks(context, tenant, kind)


@router.get("/tasks/{id}", operation_id="get_task")
def get_task(context: Ctx, tenant: Tenant, id: Id) -> Task:
    """How far it is, and what came out."""
    return tasks.get(context, tenant, id)


@router.put(
    "/tasks/{id}/pieces/{number}",
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


@router.post("/tasks/{id}/run", operation_id="run_task")
def run_task(context: Ctx, tenant: Tenant, id: Id, body: TaskStart) -> Task:
    """Begin, begin in earnest after a dry run, or go on after it was stopped."""
    return tasks.run(context, tenant, id, dry=body.dry)


@router.post("/tasks/{id}/stop", operation_id="stop_task")
def stop_task(context: Ctx, tenant: Tenant, id: Id) -> Task:
    """Stop after the piece that is under way; one that was never run is dropped."""
    return tasks.stop(context, tenant, id)


@router.get("/tasks/{id}/parts/{part}", operation_id="get_task_part", response_class=StreamingResponse)
def get_task_part(
    context: Ctx, tenant: Tenant, id: Id, part: Literal["refused", "clear", "held", "doubtful"]
) -> StreamingResponse:
    """What came out, as CSV."""
    pieces = tasks.part(context, tenant, id, part)
    name = f'attachment; filename="{part}-{id}.csv"'
    return StreamingResponse(pieces, media_type="text/csv; charset=utf-8", headers={"Content-Disposition": name})


@router.post("/address-checks", operation_id="check_addresses")
def check_addresses(context: Ctx, tenant: Tenant, body: AddressCheckRequest) -> list[AddressCheck]:
    """Look at addresses: form, domain, kind, history. `good`, `doubtful`, `bad` or `unknown`, with reasons."""
    return checks.check(context, tenant, body)


@router.get("/address-words", operation_id="get_address_words")
def get_address_words(context: Ctx, tenant: Tenant) -> AddressWords:
    """What addresses are held against, beside what the service knows itself."""
    return checks.get_words(context, tenant)


@router.put("/address-words", operation_id="put_address_words")
def put_address_words(context: Ctx, tenant: Tenant, body: AddressWords) -> AddressWords:
    """Lists and settings of one's own."""
    return checks.put_words(context, tenant, body)


@router.post("/unsubscribe-links", operation_id="make_unsubscribe_links")
def make_unsubscribe_links(context: Ctx, tenant: Tenant, body: MailLinksRequest) -> list[MailLinks]:
    """Values of List-Unsubscribe and List-Unsubscribe-Post for recipients of a stream."""
    return unsubscribing.links(context, tenant, body)


@router.get("/unsubscribes", operation_id="show_unsubscribes")
def show_unsubscribes(context: Ctx, tenant: Tenant, days: Annotated[int, Query(ge=1, le=400)] = 30) -> Unsubscribes:
    """How unsubscriptions went, against the two days that are allowed."""
    return unsubscribing.overview(context, tenant, days)


@router.get("/gates", operation_id="list_gates")
def list_gates(context: Ctx, tenant: Tenant) -> list[Gate]:
    """Ways in for MTAs that ask about recipients."""
    return gates.list_gates(context, tenant)


@router.post("/gates", status_code=201, operation_id="add_gate")
def add_gate(context: Ctx, tenant: Tenant, body: NewGate) -> MadeGate:
    """A gate. Its key and the line for the MTA are shown this once."""
    return gates.add_gate(context, tenant, body)


@router.delete("/gates/{id}", status_code=204, operation_id="drop_gate")
def drop_gate(context: Ctx, tenant: Tenant, id: Id) -> None:
    """Close a gate."""
    gates.drop_gate(context, tenant, id)
