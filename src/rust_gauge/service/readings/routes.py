"""Readings under /api/v1: the wall, series, what moved them, what would follow, notes, settings."""

from typing import Annotated

from fastapi import APIRouter, Path, Query, Response

from rust_gauge.contract.common import Day
from rust_gauge.contract.readings import (
    Ahead,
    AheadResult,
    Mark,
    Moved,
    NewMark,
    ReadingSeries,
    ReadingSettings,
    ReadingSettingsView,
    Room,
    Subject,
    Wall,
)
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.parameters import problems
from rust_gauge.service.readings import annotations, explanation, forecast, series, settings, wall
from rust_gauge.service.runtime.problems import ServiceProblem

router = APIRouter(prefix="/api/v1", responses=problems)


@router.get("/wall", tags=["readings"], operation_id="show_wall", response_model=Wall)
def show_wall(
    context: Ctx,
    principal: Asker,
    days: Annotated[int, Query(ge=1, le=190)] = 7,
    tenant: Annotated[str | None, Query(max_length=40, description="Only this tenant")] = None,
    subject: Subject = "domain",
    last: Annotated[Day | None, Query(description="The day it is of, today if none is named")] = None,
) -> Response:
    """All domains (or streams, relays, sending addresses) that the asker may see, by mailbox provider."""
    chosen = tuple(allowed for allowed in principal.tenants if tenant in (None, allowed.slug))
    if tenant is not None and not chosen:
        raise ServiceProblem("not-found", f"There is no tenant {tenant}")
    found = wall.show_wall(context, chosen, days, subject, last)
    return Response(wall.wall_json(found), media_type="application/json")


First = Annotated[Day | None, Query(description="First day, UTC")]


Last = Annotated[Day | None, Query(description="Last day, UTC")]


Provider = Annotated[str | None, Query(max_length=253, description="A provider, or (others); else overall")]


SubjectName = Annotated[str, Query(min_length=1, max_length=253, description="Name of the subject")]


@router.get("/tenants/{tenant}/readings", tags=["readings"], operation_id="show_readings")
def show_readings(
    context: Ctx, tenant: Tenant, name: SubjectName, subject: Subject = "domain", provider: Provider = None,
    first: First = None, last: Last = None,
) -> ReadingSeries:  # fmt: skip
    """A subject's readings, a day each; the last 90 days if no dates are given."""
    return series.show_series(context, tenant, subject, name, provider, first, last)


@router.get("/tenants/{tenant}/readings/moved", tags=["readings"], operation_id="show_moved")
def show_moved(
    context: Ctx, tenant: Tenant, name: SubjectName, first: Day, last: Day, subject: Subject = "domain",
    provider: Provider = None,
) -> Moved:  # fmt: skip
    """What moved a reading between two days: factors, providers, streams, and what else happened then."""
    return explanation.show_moved(context, tenant, subject, name, provider, first, last)


@router.post("/tenants/{tenant}/readings/ahead", tags=["readings"], operation_id="look_ahead")
def look_ahead(
    context: Ctx, tenant: Tenant, name: SubjectName, body: Ahead, subject: Subject = "domain", provider: Provider = None
) -> AheadResult:
    """The readings that would follow: as it goes, and with less volume, a cleaned list, a mended key."""
    return forecast.look_ahead(context, tenant, subject, name, provider, body)


@router.get("/tenants/{tenant}/readings/room", tags=["readings"], operation_id="show_room")
def show_room(context: Ctx, tenant: Tenant, name: SubjectName, subject: Subject = "domain") -> list[Room]:
    """How many more complaints or bounces today until a line, and when it is reached at the present pace."""
    return forecast.show_room(context, tenant, subject, name)


@router.get("/tenants/{tenant}/readings/settings", tags=["readings"], operation_id="get_reading_settings")
def get_reading_settings(context: Ctx, tenant: Tenant) -> ReadingSettingsView:
    """The parameters of the tenant's readings."""
    return settings.get_settings(context, tenant)


@router.put("/tenants/{tenant}/readings/settings", tags=["readings"], operation_id="put_reading_settings")
def put_reading_settings(context: Ctx, tenant: Tenant, principal: Asker, body: ReadingSettings) -> ReadingSettingsView:
    """Other parameters. The past is computed anew as a task, which shows old beside new."""
    return settings.put_settings(context, tenant, body, principal.email)


@router.delete("/tenants/{tenant}/readings/settings", tags=["readings"], operation_id="drop_reading_settings")
def drop_reading_settings(context: Ctx, tenant: Tenant, principal: Asker) -> ReadingSettingsView:
    """Back to the parameters that are shipped."""
    return settings.put_settings(context, tenant, None, principal.email)


@router.get("/tenants/{tenant}/marks", tags=["readings"], operation_id="list_marks")
def list_marks(
    context: Ctx, tenant: Tenant, first: First = None, last: Last = None,
    domain: Annotated[str | None, Query(max_length=253, description="Only what is about this domain")] = None,
) -> list[Mark]:  # fmt: skip
    """What happened: notes, changed records, findings, shifts, outages, new addresses, changed policies."""
    return annotations.list_marks(context, tenant, first, last, domain)


@router.post("/tenants/{tenant}/marks", tags=["readings"], status_code=201, operation_id="add_mark")
def add_mark(context: Ctx, tenant: Tenant, principal: Asker, body: NewMark) -> Mark:
    """A note on the time axis."""
    return annotations.add_mark(context, tenant, body, principal.email)


@router.delete("/tenants/{tenant}/marks/{id}", tags=["readings"], status_code=204, operation_id="drop_mark")
def drop_mark(context: Ctx, tenant: Tenant, id: Annotated[int, Path(ge=1, le=2**63)]) -> None:
    """Take a note away."""
    annotations.drop_mark(context, tenant, id)
