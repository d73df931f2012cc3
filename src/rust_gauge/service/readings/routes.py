"""Readings under /api/v1: the wall, series, explanations, forecasts, annotations, settings."""

from typing import Annotated

from fastapi import Path, Query, Response

from rust_gauge.contract.common import Day, Page
from rust_gauge.contract.readings import (
    Annotation,
    Condition,
    Explanation,
    Forecast,
    ForecastRequest,
    Headroom,
    NewAnnotation,
    PullsShown,
    ReadingSeries,
    ReadingSettings,
    ReadingSettingsView,
    Subject,
    Wall,
    WallOrder,
)
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.parameters import Cursor
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.readings import annotations, explanation, forecast, series, settings, wall
from rust_gauge.service.readings.wall import WallQuery
from rust_gauge.service.runtime.problems import ServiceProblem

router = api_router()


@router.get("/wall", tags=["readings"], operation_id="get_wall", response_model=Wall)
def get_wall(
    context: Ctx,
    principal: Asker,
    days: Annotated[int, Query(ge=1, le=190)] = 7,
    tenant: Annotated[str | None, Query(max_length=40, description="Only this tenant")] = None,
    subject: Subject = "domain",
    last: Annotated[Day | None, Query(description="Day; default: today")] = None,
    search: Annotated[str, Query(max_length=253, description="Part of the name")] = "",
    condition: Annotated[Condition | None, Query(description="Of the reading over all providers")] = None,
    order: Annotated[WallOrder, Query(description="`worst`: lowest reading first")] = "name",
    cursor: Cursor = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 500,
) -> Response:
    """List readings of all domains (or streams, relays, sending addresses) that you can see, by mailbox provider."""
    chosen = tuple(allowed for allowed in principal.tenants if tenant in (None, allowed.slug))
    if tenant is not None and not chosen:
        raise ServiceProblem("not-found", f"There is no tenant {tenant}")
    query = WallQuery(days, subject, last, search, condition, order, cursor, limit)
    found = wall.get_wall(context, chosen, query)
    return Response(wall.wall_json(found), media_type="application/json")


First = Annotated[Day | None, Query(description="First day, UTC")]


Last = Annotated[Day | None, Query(description="Last day, UTC")]


Provider = Annotated[str | None, Query(max_length=253, description="Provider, or (others); default: all")]


SubjectName = Annotated[str, Query(min_length=1, max_length=253, description="Name of the subject")]


@router.get("/tenants/{tenant}/readings", tags=["readings"], operation_id="list_readings", response_model=ReadingSeries)
def list_readings(
    context: Ctx, tenant: Tenant, name: SubjectName, subject: Subject = "domain", provider: Provider = None,
    first: First = None, last: Last = None,
    pulls: Annotated[
        PullsShown, Query(description="`heaviest`: of days before the last only the heaviest pull; much smaller")
    ] = "all",
) -> Response:  # fmt: skip
    """Return a subject's readings by day; the last 90 days if no dates are given."""
    found = series.show_series(context, tenant, subject, name, provider, first, last, pulls)
    return Response(found.model_dump_json(), media_type="application/json")


@router.get("/tenants/{tenant}/readings/explanation", tags=["readings"], operation_id="explain_reading")
def explain_reading(
    context: Ctx, tenant: Tenant, name: SubjectName, first: Day, last: Day, subject: Subject = "domain",
    provider: Provider = None,
) -> Explanation:  # fmt: skip
    """Explain the difference of a reading between two days: factors, providers, streams, and what else happened."""
    return explanation.explain_reading(context, tenant, subject, name, provider, first, last)


@router.post("/tenants/{tenant}/readings/forecast", tags=["readings"], operation_id="forecast_reading")
def forecast_reading(
    context: Ctx,
    tenant: Tenant,
    name: SubjectName,
    body: ForecastRequest,
    subject: Subject = "domain",
    provider: Provider = None,
) -> Forecast:
    """Forecast readings: unchanged, and with less volume, a cleaned list or a repaired key."""
    return forecast.forecast_reading(context, tenant, subject, name, provider, body)


@router.get("/tenants/{tenant}/readings/headroom", tags=["readings"], operation_id="get_headroom")
def get_headroom(context: Ctx, tenant: Tenant, name: SubjectName, subject: Subject = "domain") -> Page[Headroom]:
    """Return the headroom: how many more complaints or bounces today until a line, and when it is reached at the
    present pace.
    """
    return Page(items=forecast.get_headroom(context, tenant, subject, name))


@router.get("/tenants/{tenant}/reading-settings", tags=["readings"], operation_id="get_reading_settings")
def get_reading_settings(context: Ctx, tenant: Tenant) -> ReadingSettingsView:
    """Return the parameters of the tenant's readings."""
    return settings.get_settings(context, tenant)


@router.put("/tenants/{tenant}/reading-settings", tags=["readings"], operation_id="set_reading_settings")
def set_reading_settings(context: Ctx, tenant: Tenant, principal: Asker, body: ReadingSettings) -> ReadingSettingsView:
    """Change the parameters. Past readings are computed again as a job, which compares the old with the new."""
    return settings.put_settings(context, tenant, body, principal.email)


@router.delete("/tenants/{tenant}/reading-settings", tags=["readings"], operation_id="reset_reading_settings")
def reset_reading_settings(context: Ctx, tenant: Tenant, principal: Asker) -> ReadingSettingsView:
    """Restore the default parameters."""
    return settings.put_settings(context, tenant, None, principal.email)


@router.get("/tenants/{tenant}/annotations", tags=["readings"], operation_id="list_annotations")
def list_annotations(
    context: Ctx, tenant: Tenant, first: First = None, last: Last = None,
    domain: Annotated[str | None, Query(max_length=253, description="Only annotations of this domain")] = None,
) -> Page[Annotation]:  # fmt: skip
    """List what happened: annotations, changed records, findings, shifts, outages, new addresses, changed policies."""
    return Page(items=annotations.list_annotations(context, tenant, first, last, domain))


@router.post("/tenants/{tenant}/annotations", tags=["readings"], status_code=201, operation_id="add_annotation")
def add_annotation(context: Ctx, tenant: Tenant, principal: Asker, body: NewAnnotation) -> Annotation:
    """Add an annotation to the time axis."""
    return annotations.add_annotation(context, tenant, body, principal.email)


@router.delete(
    "/tenants/{tenant}/annotations/{id}", tags=["readings"], status_code=204, operation_id="delete_annotation"
)
def delete_annotation(context: Ctx, tenant: Tenant, id: Annotated[int, Path(ge=1, le=2**63)]) -> None:
    """Delete an annotation."""
    annotations.delete_annotation(context, tenant, id)
