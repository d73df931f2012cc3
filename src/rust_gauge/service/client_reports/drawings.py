"""Charts of a report as SVG, for the page: sharp on any screen and on paper, and without a script.

Each says in its title what it shows; the tables beside them have the same values.
"""

from collections.abc import Sequence
from datetime import date
from html import escape

from rust_gauge.contract.client_reports import ReportDomain, ReportMailDay

MOST_BANDS = 12  # readings in one chart that can still be told apart
_WIDTH = 760
_INK, _SOFT, _LINE, _FILL, _BEFORE = "#22262A", "#646159", "#DDD6CA", "#F6F3EE", "#B9B1A3"
_CONDITIONS = {"sound": "#2A766D", "tarnished": "#86641A", "corroded": "#AC4A1A", "seized": "#6B1F1A"}
_FLOORS = (80, 60, 35)  # of the conditions
_BAND, _NAME, _VALUE, _HEAD = 56, 210, 130, 20
_ROOM, _AXIS, _LEFT = 150, 22, 64  # of the chart of days


def draw_readings(domains: Sequence[ReportDomain], days: int) -> str:
    """Return a band for each domain, at most `MOST_BANDS`: readings of both periods, the last one set off."""
    shown = domains[:MOST_BANDS]
    height = _HEAD + _BAND * len(shown) + 4
    left, right = _NAME, _WIDTH - _VALUE
    length = max((len(each.trend) for each in shown), default=1)

    def across(day: float) -> float:
        return round(left + (right - left) * day / max(1, length - 1), 1)

    middle = across(max(0, length - days))
    parts = [_text(left, 12, f"{days} days before"), _text(middle + 4, 12, f"last {days} days")]
    for n, domain in enumerate(shown):
        top = _HEAD + n * _BAND
        floor, room = top + _BAND - 8, _BAND - 14

        def up(value: float, floor: float = floor, room: float = room) -> float:
            return round(floor - room * value / 100, 1)

        parts.append(_rect(middle, up(100), right - middle, room, _FILL))
        parts += [_line(left, up(value), right, up(value), _LINE, 0.7) for value in _FLOORS]
        parts.append(_line(left, floor, right, floor, _SOFT, 0.7))
        parts.append(_text(0, top + _BAND / 2 + 4, _short(domain.name, 32), _INK, 12))
        parts += _curve([None if v is None else (across(at), up(v)) for at, v in enumerate(domain.trend)], _INK)
        colour = _CONDITIONS.get(domain.condition, _SOFT)
        value = "-" if domain.end is None else f"{domain.end:.0f}"
        change = f"{domain.change:+d}" if domain.change else "0" if domain.change == 0 else "new"
        parts.append(_rect(right + 8, up(100), 4, room, colour))
        parts.append(_text(right + 20, top + 24, value, _INK, 20))
        parts.append(_text(right + 52, top + 24, change, _SOFT, 12))
        parts.append(_text(right + 20, top + 42, domain.condition, colour, 12))
    return _svg(height, f"Readings by day of {len(shown)} domains, {length} days", parts)


def draw_days(by_day: Sequence[ReportMailDay], days: int, colour: str) -> str:
    """Return bars of the period's messages by day; a line has those of the period before, day for day."""
    before, period = by_day[:-days], by_day[-days:]
    most = _rounded_up(max((each.delivered for each in by_day), default=0))
    floor = 14 + _ROOM
    step = (_WIDTH - _LEFT) / max(1, len(period))

    def up(n: float) -> float:
        return round(floor - _ROOM * n / most, 1)

    parts = [_line(_LEFT, up(n), _WIDTH, up(n), _LINE, 0.7) for n in (most / 2, most)]
    parts += [_text(_LEFT - 8, up(n) + 4, f"{n:,.0f}", anchor="end") for n in (0, most / 2, most)]
    for at, each in enumerate(period):
        x = _LEFT + at * step + 0.15 * step
        parts.append(_rect(x, up(each.delivered), 0.7 * step, floor - up(each.delivered), colour))
    shift = len(period) - len(before)
    line = [
        (round(_LEFT + (at + shift + 0.5) * step, 1), up(each.delivered)) if each.delivered else None
        for at, each in enumerate(before)
    ]
    parts += _curve(line, _BEFORE, 2)
    parts.append(_line(_LEFT, floor, _WIDTH, floor, _SOFT, 0.7))
    every = max(1, -(-len(period) // 8))
    for at in range(0, len(period), every):
        parts.append(_text(_LEFT + (at + 0.5) * step, floor + 16, _day(period[at].day), anchor="middle"))
    title = f"Messages delivered by day, {days} days as bars, the {days} days before as a line"
    return _svg(floor + _AXIS, title, parts)


def _svg(height: float, title: str, parts: Sequence[str]) -> str:
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" role="img" aria-label="{escape(title)}" width="{_WIDTH}" '
        f'height="{height:g}" viewBox="0 0 {_WIDTH} {height:g}">{"".join(parts)}</svg>'
    )


def _text(
    x: float, y: float, text: str, fill: str = _SOFT, size: int = 11, anchor: str = "start"
) -> str:  # fmt: skip
    return (
        f'<text x="{x:.1f}" y="{y:.1f}" fill="{fill}" font-size="{size}" text-anchor="{anchor}">{escape(text)}</text>'
    )


def _line(x1: float, y1: float, x2: float, y2: float, colour: str, width: float) -> str:
    return f'<path d="M{x1:g} {y1:g}L{x2:g} {y2:g}" stroke="{colour}" stroke-width="{width:g}"/>'


def _rect(x: float, y: float, width: float, height: float, fill: str) -> str:
    return f'<rect x="{x:.1f}" y="{y:.1f}" width="{width:.1f}" height="{max(0, height):.1f}" fill="{fill}"/>'


def _curve(points: Sequence[tuple[float, float] | None], colour: str, width: float = 1.8) -> list[str]:
    """Return a line through points, broken where there is none; a point alone is a dot."""
    parts, run = [], list[tuple[float, float]]()
    for point in (*points, None):
        if point is not None:
            run.append(point)
            continue
        if len(run) > 1:
            d = "M" + "L".join(f"{x:g} {y:g}" for x, y in run)
            parts.append(f'<path d="{d}" fill="none" stroke="{colour}" stroke-width="{width:g}"/>')
        elif run:
            parts.append(f'<circle cx="{run[0][0]:g}" cy="{run[0][1]:g}" r="2" fill="{colour}"/>')
        run = []
    return parts


def _rounded_up(n: int) -> int:
    """Return the next 1, 2, 4, 5 or 10 times a power of ten, an even number: the top of an axis with a middle."""
    power = 1
    while power * 10 < n:
        power *= 10
    return next((each * power for each in (1, 2, 4, 5, 10) if each * power >= n and each * power > 1), 2)


def _short(text: str, most: int) -> str:
    """Return a name, shortened in its middle where it is long: the ends of names tell them apart."""
    return text if len(text) <= most else f"{text[: most // 2 - 1]}…{text[-most // 2 :]}"


def _day(day: date) -> str:
    return f"{day.day} {day:%b}"
