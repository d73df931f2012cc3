"""The suppression list under /api/v1: entries, policy, matching, imports, address checks."""

from typing import Annotated, Literal

from fastapi import Depends, Query
from fastapi.responses import StreamingResponse

from rust_gauge.contract.checks import AddressCheck, AddressCheckRequest, AddressWords
from rust_gauge.contract.common import Day, Page
from rust_gauge.contract.jobs import ImportRequest, Job
from rust_gauge.contract.suppression import (
    AddressStatus,
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
    PolicyBacktestRequest,
    PolicyView,
    Reason,
    Scope,
    State,
    SuppressionEntry,
    SuppressionPolicy,
)
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.parameters import Cursor, Limit
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.suppression import (
    address_checks,
    changes,
    editing,
    entries,
    growth,
    imports,
    matching,
    policy,
    policy_trials,
)
from rust_gauge.store.accounts import Principal
from rust_gauge.store.suppression_list import Filter

router = api_router()


@router.post(
    "/tenants/{tenant}/suppression/imports", tags=["suppression"], status_code=201, operation_id="start_import"
)
def start_import(context: Ctx, tenant: Tenant, principal: Asker, body: ImportRequest) -> Job:
    """Create a job that imports addresses into the suppression list: upload the file in pieces, then run the job."""
    return imports.start(context, tenant, body, principal.email)


@router.post(
    "/tenants/{tenant}/suppression/policy/backtests",
    tags=["suppression"],
    status_code=201,
    operation_id="start_policy_backtest",
)
def start_policy_backtest(context: Ctx, tenant: Tenant, principal: Asker, body: PolicyBacktestRequest) -> Job:
    """Backtest a policy against the present one on past events. The job starts at once."""
    return policy_trials.start(context, tenant, body, principal.email)


@router.post("/tenants/{tenant}/address-checks", tags=["suppression"], operation_id="check_addresses")
def check_addresses(context: Ctx, tenant: Tenant, body: AddressCheckRequest) -> Page[AddressCheck]:
    """Check addresses: form, domain, kind, history. The result is `good`, `doubtful`, `bad` or `unknown`, with
    reasons.
    """
    return Page(items=address_checks.check(context, tenant, body))


@router.get("/tenants/{tenant}/address-words", tags=["suppression"], operation_id="get_address_words")
def get_address_words(context: Ctx, tenant: Tenant) -> AddressWords:
    """Return the lists that addresses are checked against, in addition to the service's own knowledge."""
    return address_checks.get_words(context, tenant)


@router.put("/tenants/{tenant}/address-words", tags=["suppression"], operation_id="set_address_words")
def set_address_words(context: Ctx, tenant: Tenant, body: AddressWords) -> AddressWords:
    """Replace the tenant's own lists and settings for address checks."""
    return address_checks.put_words(context, tenant, body)


_Name = Annotated[str | None, Query(max_length=253)]


def _filter(
    context: Ctx,
    tenant: Tenant,
    text: Annotated[str, Query(max_length=320, description="Start of an address, or of a domain after @")] = "",
    address: Annotated[str, Query(max_length=1000, description="Only this address, or @domain")] = "",
    state: Annotated[list[State], Query(description="Default: held")] = [],  # noqa: B006
    reason: Annotated[list[Reason], Query()] = [],  # noqa: B006
    provider: _Name = None,
    stream: _Name = None,
    scope: Scope | None = None,
    origin: Annotated[str, Query(max_length=12)] = "",
    ends_within_days: Annotated[float | None, Query(gt=0, le=3650)] = None,
    came_back: bool = False,
) -> Filter:
    return entries.filter_of(
        context, tenant, text=text, address=address, states=state, reasons=reason, provider=provider, stream=stream,
        scope=scope, origin=origin, ends_within_days=ends_within_days, came_back=came_back,
    )  # fmt: skip


Chosen = Annotated[Filter, Depends(_filter)]


@router.get("/tenants/{tenant}/suppression", tags=["suppression"], operation_id="list_suppression")
def list_suppression(
    context: Ctx, tenant: Tenant, filter: Chosen, cursor: Cursor = None, limit: Limit = 100
) -> Page[SuppressionEntry]:
    """List suppression entries, last changed first. Only held addresses, unless `state` says otherwise."""
    return entries.list_entries(context, tenant, filter, cursor, limit)


@router.get("/tenants/{tenant}/suppression/count", tags=["suppression"], operation_id="count_suppression")
def count_suppression(context: Ctx, tenant: Tenant, filter: Chosen) -> EntryCount:
    """Count the entries, up to 100,000."""
    return entries.count_entries(context, tenant, filter)


@router.get(
    "/tenants/{tenant}/suppression/export",
    tags=["suppression"],
    operation_id="export_suppression",
    response_class=StreamingResponse,
)
def export_suppression(
    context: Ctx, tenant: Tenant, filter: Chosen, format: Literal["csv", "ndjson"] = "csv"
) -> StreamingResponse:
    """Export the whole list, or what matches the filters. No CSV cell starts a formula."""
    kind = "text/csv; charset=utf-8" if format == "csv" else "application/x-ndjson"
    name = f'attachment; filename="suppression-{tenant.slug}.{format}"'
    lines = entries.export(context, tenant, filter, format)
    return StreamingResponse(lines, media_type=kind, headers={"Content-Disposition": name})


def origin_of(principal: Principal) -> str:
    """Return whether a person or a program makes the request."""
    return "api" if principal.token_id is not None else "hand"


@router.post("/tenants/{tenant}/suppression", tags=["suppression"], operation_id="add_suppression")
def add_suppression(context: Ctx, tenant: Tenant, principal: Asker, body: NewEntries) -> EntriesMade:
    """Suppress addresses or whole domains. Invalid addresses are reported; the others are suppressed."""
    return editing.add_entries(context, tenant, body, principal.email, origin_of(principal))


@router.post("/tenants/{tenant}/suppression/lifts", tags=["suppression"], operation_id="lift_suppression")
def lift_suppression(context: Ctx, tenant: Tenant, principal: Asker, body: Lift) -> Lifted:
    """Remove entries, with a reason. An entry from a complaint also needs `despite_complaint`."""
    return editing.lift(context, tenant, body, principal.email, origin_of(principal))


@router.post("/tenants/{tenant}/suppression/decisions", tags=["suppression"], operation_id="decide_suppression")
def decide_suppression(context: Ctx, tenant: Tenant, principal: Asker, body: Decision) -> Page[SuppressionEntry]:
    """Accept or dismiss proposals."""
    return Page(items=editing.decide(context, tenant, body, principal.email))


@router.get("/tenants/{tenant}/suppression/status", tags=["suppression"], operation_id="get_address_status")
def get_address_status(
    context: Ctx, tenant: Tenant, address: Annotated[str, Query(min_length=1, max_length=1000)]
) -> AddressStatus:
    """Return one address, or @domain: its status, and every change of its status."""
    return entries.status_of(context, tenant, address)


@router.get("/tenants/{tenant}/suppression/changes", tags=["suppression"], operation_id="list_suppression_changes")
async def list_suppression_changes(
    context: Ctx,
    tenant: Tenant,
    after: Annotated[int, Query(ge=0, le=2**63 - 1, description="`last` of the previous response; 0 for all")] = 0,
    limit: Limit = 500,
    wait: Annotated[float, Query(ge=0, le=55, description="Seconds to wait for a change if there is none")] = 0,
) -> ListChanges:
    """List changes in order, each exactly once. Ask again with `last` to continue."""
    return await changes.await_changes(context, tenant, after, limit, wait)


@router.get("/tenants/{tenant}/suppression/growth", tags=["suppression"], operation_id="get_suppression_growth")
def get_suppression_growth(context: Ctx, tenant: Tenant, first: Day | None = None, last: Day | None = None) -> Growth:
    """Return how the list grew by reason, provider and stream, and how many bounces it avoided; the last ninety days
    if no dates are given.
    """
    return growth.growth(context, tenant, first, last)


@router.get("/tenants/{tenant}/suppression/policy", tags=["suppression"], operation_id="get_suppression_policy")
def get_suppression_policy(context: Ctx, tenant: Tenant) -> PolicyView:
    """Return the suppression policy: what happens to an address after which events."""
    return policy.get_policy(context, tenant)


@router.put("/tenants/{tenant}/suppression/policy", tags=["suppression"], operation_id="set_suppression_policy")
def set_suppression_policy(context: Ctx, tenant: Tenant, principal: Asker, body: SuppressionPolicy) -> PolicyView:
    """Set the tenant's own policy. It applies to events from now on; existing entries are unchanged."""
    return policy.put_policy(context, tenant, body, principal.email)


@router.delete("/tenants/{tenant}/suppression/policy", tags=["suppression"], operation_id="reset_suppression_policy")
def reset_suppression_policy(context: Ctx, tenant: Tenant, principal: Asker) -> PolicyView:
    """Restore the default policy."""
    return policy.put_policy(context, tenant, None, principal.email)


@router.get("/tenants/{tenant}/suppression/matching", tags=["suppression"], operation_id="get_suppression_matching")
def get_suppression_matching(context: Ctx, tenant: Tenant) -> MatchingView:
    """Return how addresses are compared and whether they are stored in clear."""
    return policy.get_matching(context, tenant)


@router.put("/tenants/{tenant}/suppression/matching", tags=["suppression"], operation_id="set_suppression_matching")
def set_suppression_matching(context: Ctx, tenant: Tenant, principal: Asker, body: MatchingSettings) -> MatchingView:
    """Change how addresses are compared. The list is rewritten as a job; until it is done, both ways apply."""
    return matching.put_matching(context, tenant, body)
