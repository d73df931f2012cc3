"""Forecast readings, unchanged and with a change; and the headroom until a line."""

from collections.abc import Mapping
from dataclasses import replace
from datetime import timedelta

from rust_gauge.contract.readings import Forecast, ForecastDay, ForecastRequest, Headroom, Subject
from rust_gauge.core.reputation import NAMES, NO_VALUE, Elsewhere, Readings, Surroundings, elsewhere, over_providers
from rust_gauge.core.reputation.forecast import Change, forecast, headroom
from rust_gauge.core.reputation.reading import Measures
from rust_gauge.service.providers.providers import columns_of
from rust_gauge.service.readings.computation import part_of
from rust_gauge.service.readings.examination import Examined, examine, provider_id_of, readings_between
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.tables import ALL_PROVIDERS

_COUNTED = ("complaints", "invalid_addresses")
_AHEAD_MOST = 60  # days in which a line may be reached


def forecast_reading(
    context: Context, tenant: TenantAccess, subject: Subject, name: str, provider: str | None, wanted: ForecastRequest
) -> Forecast:
    """Return forecast readings, unchanged and with a change."""
    today = context.clock().date()

    found = examine(context, tenant, subject, name)
    columns = found.place.columns if found else context.store.read(lambda c: columns_of(c, tenant.id, today))
    provider_id = provider_id_of(tenant, columns, provider)
    if found is None or (provider_id != ALL_PROVIDERS and provider_id not in found.providers):
        raise ServiceProblem("not-found", f"{name} has no mail to forecast from")
    change = Change(wanted.volume, {str(name): share for name, share in wanted.remains.items()})
    changed = wanted.volume != 1.0 or any(share != 1.0 for share in wanted.remains.values())
    sides = []
    for none in (None, change) if changed else (None,):
        readings = _forecast(found, wanted.days, none)
        if provider_id == ALL_PROVIDERS:
            sides.append(over_providers(readings))
        else:
            sides.append(part_of(readings, [found.providers.index(provider_id)]))

    def value(readings: Readings, at: int) -> float | None:
        return None if readings.tenths[0, at] == NO_VALUE else int(readings.tenths[0, at]) / 10

    days = [
        ForecastDay(
            day=today + timedelta(days=at + 1), unchanged=value(sides[0], at),
            with_change=value(sides[1], at) if changed else None,
            margin=None if value(sides[-1], at) is None else int(sides[-1].margin[0, at]) / 10,
        )
        for at in range(wanted.days)
    ]  # fmt: skip
    now = readings_between(found, provider_id, today, today)
    is_sound = bool(now) and now[0].value is not None and now[0].value >= 80
    again = next((day.day for day in days if ((day.with_change if changed else day.unchanged) or 0) >= 80), None)
    return Forecast(changed=changed, days=days, sound_again=None if is_sound else again)


def _forecast(found: Examined, days: int, change: Change | None) -> Readings:
    """Return forecast readings. Those without a change are computed once, for the longest time that is asked for: the
    first days of a longer forecast are those of a shorter one."""

    def compute(days: int) -> Readings:
        return forecast(found.counted.counts, found.around, days, change, found.place.factors)

    if change is not None or days > _AHEAD_MOST:
        return compute(days)
    whole = found.once("forecast", lambda: compute(_AHEAD_MOST))
    measures = whole.measures
    assert measures is not None
    first = Measures(measures.value[..., :days], measures.low[..., :days], measures.high[..., :days])
    return Readings(
        whole.tenths[:, :days], whole.margin[:, :days], whole.pulls[..., :days], whole.mail[:, :days], first
    )


def get_headroom(context: Context, tenant: TenantAccess, subject: Subject, name: str) -> list[Headroom]:
    """At each provider, how many more complaints and bounces until a line, and when it is reached at this pace."""
    found = examine(context, tenant, subject, name)
    if found is None:
        raise ServiceProblem("not-found", f"{name} has no mail")
    return found.once("headroom", lambda: _headroom(found))


def _headroom(found: Examined) -> list[Headroom]:
    factors, today = found.place.factors, found.place.today
    beside = elsewhere(found.counted.counts, found.around, factors)
    pace = _forecast(found, _AHEAD_MOST, None).measures
    measures = found.readings.measures
    assert pace is not None and measures is not None
    around = _apart(found.around, beside)
    room = {
        name: headroom(found.counted.counts, around, name, [factor.watch, factor.stop], factors)
        for name in _COUNTED
        for factor in (factors[NAMES.index(name)],)
    }
    out = []
    for row, provider in enumerate(found.providers):
        if found.readings.tenths[row, -1] == NO_VALUE:
            continue
        for factor_name in _COUNTED:
            at = NAMES.index(factor_name)
            factor = factors[at]
            now = float(measures.value[at, row, -1])
            if now != now or (factor_name == "complaints" and not found.around.reports[row]):
                continue  # nothing is reported there
            later = pace.value[at, row]
            dates = [
                None if now >= line or not (later >= line).any()
                else today + timedelta(days=int((later >= line).argmax()) + 1)
                for line in (factor.watch, factor.stop)
            ]  # fmt: skip
            out.append(
                Headroom(
                    factor=factor_name, provider=found.place.columns.name(provider),
                    label=found.place.columns.label(provider), measure=now, watch=factor.watch, stop=factor.stop,
                    to_watch=room[factor_name][row][0], to_stop=room[factor_name][row][1],
                    watch_on=dates[0], stop_on=dates[1],
                )
            )  # fmt: skip
    return out


def _apart(around: Surroundings, beside: Mapping[str, Elsewhere]) -> Surroundings:
    """Return the context of series that are each looked at by themselves."""
    return replace(around, sender=None, foreseen=None, elsewhere=dict(beside))
