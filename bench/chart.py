"""A chart of costs as SVG: each curve against its own first point, on a logarithmic axis."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from xml.sax.saxutils import escape

_WIDTH, _HEIGHT, _LEFT, _RIGHT, _TOP, _BOTTOM = 960, 420, 60, 400, 50, 50
_COLOURS = ("#0072b2", "#d55e00", "#009e73", "#cc79a7", "#56606b")  # told apart by colour-blind people, too
_DASHES = ("", "8 4", "2 3", "10 3 2 3", "5 5")
_ROW = 22  # the least distance of two labels


@dataclass(frozen=True)
class Curve:
    """What it is, and its cost of a unit at each step."""

    name: str
    costs: Sequence[float]


def draw(title: str, steps: Sequence[str], curves: Sequence[Curve]) -> str:
    """Return the SVG. The vertical axis is the cost of a unit over that at the first step."""
    ratios = [[cost / curve.costs[0] for cost in curve.costs] for curve in curves]
    highest = max(2.0, *(max(row) for row in ratios)) * 1.1
    lowest = min(0.5, *(min(row) for row in ratios)) / 1.1
    span = math.log(highest / lowest)

    def y_of(ratio: float) -> float:
        return _TOP + (_HEIGHT - _TOP - _BOTTOM) * (1 - math.log(ratio / lowest) / span)

    def x_of(step: int) -> float:
        return _LEFT + (_WIDTH - _LEFT - _RIGHT) * step / (len(steps) - 1)

    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {_WIDTH} {_HEIGHT}" font-family="sans-serif" '
        'font-size="13">',
        f'<rect width="{_WIDTH}" height="{_HEIGHT}" fill="#fff"/>',
        f'<text x="{_LEFT}" y="26" font-size="16">{escape(title)}</text>',
    ]
    for ratio in (0.1, 0.2, 0.5, 1, 2, 5, 10):
        if lowest <= ratio <= highest:
            y = y_of(ratio)
            out.append(f'<path d="M{_LEFT} {y:.1f}H{_WIDTH - _RIGHT}" stroke="{"#666" if ratio == 1 else "#ddd"}"/>')
            out.append(f'<text x="{_LEFT - 8}" y="{y + 4:.1f}" text-anchor="end">{ratio:g}</text>')
    for number, step in enumerate(steps):
        out.append(f'<text x="{x_of(number):.1f}" y="{_HEIGHT - 20}" text-anchor="middle">{escape(step)}</text>')
    for place, number in _label_places([y_of(row[-1]) for row in ratios]):
        row, colour, dash = ratios[number], _COLOURS[number % 5], _DASHES[number % 5]
        points = " ".join(f"{x_of(step):.1f},{y_of(ratio):.1f}" for step, ratio in enumerate(row))
        end = x_of(len(steps) - 1)
        out.append(
            f'<polyline points="{points}" fill="none" stroke="{colour}" stroke-width="2.5" stroke-dasharray="{dash}"/>'
        )
        out.append(f'<path d="M{end:.1f} {y_of(row[-1]):.1f}L{end + 18:.1f} {place:.1f}" stroke="{colour}"/>')
        out.append(f'<text x="{end + 22:.1f}" y="{place + 4:.1f}" fill="{colour}">{escape(curves[number].name)}</text>')
    return "\n".join([*out, "</svg>", ""])


def _label_places(wanted: Sequence[float]) -> list[tuple[float, int]]:
    """Return where each label goes, moved down where it would cover the one above it."""
    out: list[tuple[float, int]] = []
    free = float(_TOP)
    for y, number in sorted((y, number) for number, y in enumerate(wanted)):
        place = max(y, free)
        out.append((place, number))
        free = place + _ROW
    return out
