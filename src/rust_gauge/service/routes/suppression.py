"""Suppression under /api/v1: clearance, the list, what happened to it, the policy."""

from collections.abc import Iterator
from typing import Annotated, Literal

from fastapi import APIRouter, Body, Depends, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse

from rust_gauge.contract.common import Day, Page
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
    Reach,
    Reason,
    State,
    SuppressionEntry,
    SuppressionPolicy,
)
from rust_gauge.service import clearance, matching, suppression, suppression_settings
from rust_gauge.service.clearance import Question
from rust_gauge.service.routes.access import Asker, Ctx, Tenant
from rust_gauge.service.routes.api import Cursor, Limit, problems
from rust_gauge.store.accounts import Principal
from rust_gauge.store.suppression import Filter

router = APIRouter(prefix="/api/v1/tenants/{tenant}", tags=["suppression"], responses=problems)  # type: ignore[arg-type]
_Name = Annotated[str | None, Query(max_length=253)]
_PIECE = 256 * 1024


def origin_of(principal: Principal) -> str:
    """Whether a person or a program asks."""
    return "api" if principal.token_id is not None else "hand"


# Clearance


@router.post("/clearance", operation_id="ask_clearance", response_model=ClearanceResult)
def ask_clearance(context: Ctx, tenant: Tenant, body: Annotated[ClearanceRequest, Body()]) -> Response:
    """May I mail these? Each address is `clear` or `held`, and why, by the list as it is at this moment."""
    done = clearance.answer(context, tenant, body)
    return Response(clearance.encode(done), media_type="application/json")


def _question(stream: _Name = None, domain: _Name = None, relay: _Name = None, only_held: bool = False) -> Question:
    return Question(stream, domain, relay, only_held)


@router.post(
    "/clearance/stream",
    operation_id="stream_clearance",
    response_class=StreamingResponse,
    openapi_extra={
        "requestBody": {"required": True, "content": {"application/x-ndjson": {"schema": {"type": "string"}}}}
    },
)
async def stream_clearance(
    context: Ctx, tenant: Tenant, request: Request, question: Annotated[Question, Depends(_question)]
) -> StreamingResponse:
    """The same for millions: NDJSON in (a string, an object with `address`, or the bare address in each line), NDJSON
    out in the same order, however many there are. The answer begins when all was sent.
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


# The list


def _filter(
    context: Ctx,
    tenant: Tenant,
    text: Annotated[str, Query(max_length=320, description="Beginning of an address, or of a domain behind @")] = "",
    address: Annotated[str, Query(max_length=1000, description="Only this address, or @domain")] = "",
    state: Annotated[list[State], Query(description="held if none is named")] = [],  # noqa: B006
    reason: Annotated[list[Reason], Query()] = [],  # noqa: B006
    provider: _Name = None,
    stream: _Name = None,
    reach: Reach | None = None,
    origin: Annotated[str, Query(max_length=12)] = "",
    ends_within_days: Annotated[float | None, Query(gt=0, le=3650)] = None,
    came_back: bool = False,
) -> Filter:
    return suppression.filter_of(
        context, tenant, text=text, address=address, states=state, reasons=reason, provider=provider, stream=stream,
        reach=reach, origin=origin, ends_within_days=ends_within_days, came_back=came_back,
    )  # fmt: skip


Chosen = Annotated[Filter, Depends(_filter)]


@router.get("/suppression", operation_id="list_suppression")
def list_suppression(
    context: Ctx, tenant: Tenant, filter: Chosen, cursor: Cursor = None, limit: Limit = 100
) -> Page[SuppressionEntry]:
    """The suppression list, what changed last first: what is held, unless `state` says otherwise."""
    return suppression.list_entries(context, tenant, filter, cursor, limit)


@router.get("/suppression/count", operation_id="count_suppression")
def count_suppression(context: Ctx, tenant: Tenant, filter: Chosen) -> EntryCount:
    """How many entries there are, counted up to 100,000."""
    return suppression.count_entries(context, tenant, filter)


@router.get("/suppression/export", operation_id="export_suppression", response_class=StreamingResponse)
def export_suppression(
    context: Ctx, tenant: Tenant, filter: Chosen, format: Literal["csv", "ndjson"] = "csv"
) -> StreamingResponse:
    """The whole list, or what the filters leave of it. In CSV no cell can be taken for a formula."""
    kind = "text/csv; charset=utf-8" if format == "csv" else "application/x-ndjson"
    name = f'attachment; filename="suppression-{tenant.slug}.{format}"'
    lines = suppression.export(context, tenant, filter, format)
    return StreamingResponse(lines, media_type=kind, headers={"Content-Disposition": name})


@router.post("/suppression", operation_id="add_suppression")
def add_suppression(context: Ctx, tenant: Tenant, principal: Asker, body: NewEntries) -> EntriesMade:
    """Hold addresses, or whole domains. What is no address is told, the others are held."""
    return suppression.add_entries(context, tenant, body, principal.email, origin_of(principal))


@router.post("/suppression/lifts", operation_id="lift_suppression")
def lift_suppression(context: Ctx, tenant: Tenant, principal: Asker, body: Lift) -> Lifted:
    """Take entries off, with a reason. One from a complaint needs `despite_complaint`."""
    return suppression.lift(context, tenant, body, principal.email, origin_of(principal))


@router.post("/suppression/decisions", operation_id="decide_suppression")
def decide_suppression(context: Ctx, tenant: Tenant, principal: Asker, body: Decision) -> list[SuppressionEntry]:
    """Agree to proposals, or dismiss them."""
    return suppression.decide(context, tenant, body, principal.email)


@router.get("/suppression/status", operation_id="get_address_status")
def get_address_status(
    context: Ctx, tenant: Tenant, address: Annotated[str, Query(min_length=1, max_length=1000)]
) -> AddressStatus:
    """One address, or @domain: what stands, and everything that ever happened to its status."""
    return suppression.status_of(context, tenant, address)


@router.get("/suppression/changes", operation_id="list_suppression_changes")
async def list_suppression_changes(
    context: Ctx,
    tenant: Tenant,
    after: Annotated[int, Query(ge=0, le=2**63 - 1, description="`last` of the answer before; 0 for all")] = 0,
    limit: Limit = 500,
    wait: Annotated[float, Query(ge=0, le=55, description="Seconds to wait for a change where there is none")] = 0,
) -> ListChanges:
    """What changed, in order, each change once. Ask again with `last`: nothing is missed or told twice."""
    return await suppression.await_changes(context, tenant, after, limit, wait)


@router.get("/suppression/growth", operation_id="get_suppression_growth")
def get_suppression_growth(context: Ctx, tenant: Tenant, first: Day | None = None, last: Day | None = None) -> Growth:
    """How the list grew by reason, provider and stream, and what withholding spared; ninety days if none are named."""
    return suppression.growth(context, tenant, first, last)


# Policy and matching


@router.get("/suppression/policy", operation_id="get_suppression_policy")
def get_suppression_policy(context: Ctx, tenant: Tenant) -> PolicyView:
    """What events make of an address's status."""
    return suppression_settings.get_policy(context, tenant)


@router.put("/suppression/policy", operation_id="put_suppression_policy")
def put_suppression_policy(context: Ctx, tenant: Tenant, principal: Asker, body: SuppressionPolicy) -> PolicyView:
    """A policy of one's own. It holds for events from now on; entries stay as they are."""
    return suppression_settings.put_policy(context, tenant, body, principal.email)


@router.delete("/suppression/policy", operation_id="drop_suppression_policy")
def drop_suppression_policy(context: Ctx, tenant: Tenant, principal: Asker) -> PolicyView:
    """Go back to the shipped policy."""
    return suppression_settings.put_policy(context, tenant, None, principal.email)


@router.get("/suppression/matching", operation_id="get_suppression_matching")
def get_suppression_matching(context: Ctx, tenant: Tenant) -> MatchingView:
    """How addresses are compared, and whether they are kept in clear."""
    return suppression_settings.get_matching(context, tenant)


@router.put("/suppression/matching", operation_id="put_suppression_matching")
def put_suppression_matching(context: Ctx, tenant: Tenant, principal: Asker, body: MatchingSettings) -> MatchingView:
    """Compare addresses otherwise. The list is rewritten as a job; until it is done both ways hold."""
    return matching.put_matching(context, tenant, body)
