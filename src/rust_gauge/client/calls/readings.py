"""Calls of `client.readings`."""

from datetime import date

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.readings import (
    Annotation,
    Explanation,
    Forecast,
    ForecastRequest,
    Headroom,
    NewAnnotation,
    ReadingSeries,
    ReadingSettings,
    ReadingSettingsView,
    Wall,
)


def wall(
    days: int, tenant: str | None, subject: str, last: date | None, search: str, condition: str | None, order: str,
    limit: int, cursor: str | None,
) -> Call[Wall]:  # fmt: skip
    return make_call(
        "GET", "/wall", Wall, days=days, tenant=tenant, subject=subject, last=last and last.isoformat(),
        search=search or None, condition=condition, order=order, limit=limit, cursor=cursor,
    )  # fmt: skip


def readings(
    tenant: str, name: str, subject: str, provider: str | None, first: date | None, last: date | None
) -> Call[ReadingSeries]:
    return make_call(
        "GET",
        tenant_path(tenant, "readings"),
        ReadingSeries,
        name=name,
        subject=subject,
        provider=provider,
        first=first,
        last=last,
    )


def explain_reading(
    tenant: str, name: str, subject: str, provider: str | None, first: date, last: date
) -> Call[Explanation]:
    return make_call(
        "GET",
        tenant_path(tenant, "readings/explanation"),
        Explanation,
        name=name,
        subject=subject,
        provider=provider,
        first=first,
        last=last,
    )


def forecast_reading(
    tenant: str, name: str, subject: str, provider: str | None, wanted: ForecastRequest
) -> Call[Forecast]:
    path = tenant_path(tenant, "readings/forecast")
    return repeatable(make_call("POST", path, Forecast, wanted, name=name, subject=subject, provider=provider))


def get_headroom(tenant: str, name: str, subject: str) -> Call[Page[Headroom]]:
    return make_call("GET", tenant_path(tenant, "readings/headroom"), Page[Headroom], name=name, subject=subject)


def get_reading_settings(tenant: str) -> Call[ReadingSettingsView]:
    return make_call("GET", tenant_path(tenant, "reading-settings"), ReadingSettingsView)


def set_reading_settings(tenant: str, settings: ReadingSettings) -> Call[ReadingSettingsView]:
    return repeatable(make_call("PUT", tenant_path(tenant, "reading-settings"), ReadingSettingsView, settings))


def reset_reading_settings(tenant: str) -> Call[ReadingSettingsView]:
    return repeatable(make_call("DELETE", tenant_path(tenant, "reading-settings"), ReadingSettingsView))


def list_annotations(tenant: str, first: date | None, last: date | None, domain: str | None) -> Call[Page[Annotation]]:
    return make_call("GET", tenant_path(tenant, "annotations"), Page[Annotation], first=first, last=last, domain=domain)


def add_annotation(tenant: str, new: NewAnnotation) -> Call[Annotation]:
    return make_call("POST", tenant_path(tenant, "annotations"), Annotation, new)


def delete_annotation(tenant: str, id: int) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"annotations/{id}"), type(None))
