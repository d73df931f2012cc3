"""`client.readings`: readings, the wall, explanations and forecasts."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from datetime import date

from rust_gauge.client.calls import readings as calls
from rust_gauge.client.synchronous.part import Part
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
    Subject,
    Wall,
    WallOrder,
)


class Readings(Part):
    """Readings, the wall, explanations and forecasts."""

    def series(
        self,
        tenant: str,
        name: str,
        *,
        subject: Subject = "domain",
        provider: str | None = None,
        first: date | None = None,
        last: date | None = None,
    ) -> ReadingSeries:
        """Return a reading per day of a domain, stream, relay or sending address; ninety days without dates."""
        return self._client.send(calls.readings(tenant, name, subject, provider, first, last))

    def wall(
        self,
        *,
        days: int = 7,
        tenant: str | None = None,
        subject: Subject = "domain",
        last: date | None = None,
        search: str = "",
        condition: str | None = None,
        order: WallOrder = "name",
        limit: int = 500,
        cursor: str | None = None,
    ) -> Wall:
        """Return a page of subjects by mailbox provider, with the trend of up to 190 days that end on a day.

        At most 1,000 subjects; `next` of the answer is the cursor of the next page.
        """
        call = calls.wall(days, tenant, subject, last, search, condition, order, limit, cursor)
        return self._client.send(call)

    def explain(
        self,
        tenant: str,
        name: str,
        first: date,
        last: date,
        *,
        subject: Subject = "domain",
        provider: str | None = None,
    ) -> Explanation:
        """Explain the difference of a reading between two days, with what else happened."""
        return self._client.send(calls.explain_reading(tenant, name, subject, provider, first, last))

    def forecast(
        self,
        tenant: str,
        name: str,
        wanted: ForecastRequest,
        *,
        subject: Subject = "domain",
        provider: str | None = None,
    ) -> Forecast:
        """Return the forecast readings, unchanged and with a change."""
        return self._client.send(calls.forecast_reading(tenant, name, subject, provider, wanted))

    def headroom(self, tenant: str, name: str, *, subject: Subject = "domain") -> list[Headroom]:
        """Return the headroom: how many more complaints or bounces today until a line."""
        return (self._client.send(calls.get_headroom(tenant, name, subject))).items

    def settings(self, tenant: str) -> ReadingSettingsView:
        """Return the parameters of a tenant's readings."""
        return self._client.send(calls.get_reading_settings(tenant))

    def set_settings(self, tenant: str, settings: ReadingSettings) -> ReadingSettingsView:
        """Change the parameters. `job` in the answer computes past readings again."""
        return self._client.send(calls.set_reading_settings(tenant, settings))

    def reset_settings(self, tenant: str) -> ReadingSettingsView:
        """Restore the default parameters."""
        return self._client.send(calls.reset_reading_settings(tenant))

    def annotations(
        self, tenant: str, *, first: date | None = None, last: date | None = None, domain: str | None = None
    ) -> list[Annotation]:
        """Return what happened: annotations, changed records, findings, shifts, outages."""
        return (self._client.send(calls.list_annotations(tenant, first, last, domain))).items

    def add_annotation(self, tenant: str, new: NewAnnotation) -> Annotation:
        """Add an annotation to the time axis."""
        return self._client.send(calls.add_annotation(tenant, new))

    def delete_annotation(self, tenant: str, id: int) -> None:
        """Delete an annotation."""
        self._client.send(calls.delete_annotation(tenant, id))
