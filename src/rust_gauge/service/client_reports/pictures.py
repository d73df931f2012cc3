"""Readings as a PNG, for messages: mail clients run no script, and many show no SVG.

One band a domain: its name, its readings over two periods with the lines between conditions, and how it stands.
"""

import io
from collections.abc import Sequence
from dataclasses import dataclass

from PIL import Image, ImageDraw, ImageFont

_DENSE = 2  # pixels of the picture for one as it is shown, for dense screens
_SCALE = 2 * _DENSE  # as it is drawn, before it is made smaller: that smooths slanted lines
WIDTH = 640  # pixels: mail programs show no more
_BAND, _TOP, _NAME, _VALUE = 64, 22, 200, 120  # heights of a band and of the head, widths at the sides
_PAPER, _INK, _SOFT, _LINE, _FILL = "#FFFDF9", "#22262A", "#646159", "#DDD6CA", "#F6F3EE"
_COLOURS = {"sound": "#2A766D", "tarnished": "#86641A", "corroded": "#AC4A1A", "seized": "#6B1F1A"}
_FLOORS = (80, 60, 35)  # of the conditions
MOST = 12  # lines in one chart that can still be told apart


@dataclass(frozen=True, slots=True)
class Band:
    """A domain's readings by day, None where there is none; today last. `name` up to a line's width."""

    name: str
    values: Sequence[float | None]
    condition: str
    change: str


def draw(bands: Sequence[Band], days: int) -> tuple[bytes, int]:
    """(PNG, height in pixels as it is shown) of at most `MOST` bands; the last `days` are set off from those before."""
    bands = bands[:MOST]
    height = _TOP + _BAND * len(bands) + 6
    image = Image.new("RGB", (WIDTH * _SCALE, height * _SCALE), _PAPER)
    pen = ImageDraw.Draw(image)
    small, plain, large = (ImageFont.load_default(size * _SCALE) for size in (10, 12, 20))
    left, right = _NAME, WIDTH - _VALUE
    length = max((len(band.values) for band in bands), default=1)

    def at(x: float, y: float) -> tuple[float, float]:
        return x * _SCALE, y * _SCALE

    def across(day: int) -> float:
        return left + (right - left) * day / max(1, length - 1)

    middle = across(max(0, length - days))
    pen.text(at(left, 5), f"{days} days before", _SOFT, small)
    pen.text(at(middle + 4, 5), f"the last {days} days", _SOFT, small)
    for n, band in enumerate(bands):
        top = _TOP + n * _BAND
        floor, room = top + _BAND - 8, _BAND - 14

        def up(value: float, floor: float = floor, room: float = room) -> float:
            return floor - room * value / 100

        pen.rectangle([at(middle, up(100)), at(right, floor)], fill=_FILL)
        for value in _FLOORS:
            pen.line([at(left, up(value)), at(right, up(value))], _LINE, 2)
        pen.line([at(left, floor), at(right, floor)], _SOFT, 2)
        colour = _COLOURS.get(band.condition, _SOFT)
        run: list[tuple[float, float]] = []
        for day, reading in enumerate([*band.values, None]):
            if reading is not None:
                run.append(at(across(day), up(reading)))
                continue
            if len(run) > 1:
                pen.line(run, _INK, 7, joint="curve")
            elif run:
                x, y = run[0]
                pen.ellipse([x - 8, y - 8, x + 8, y + 8], fill=_INK)
            run = []
        pen.text(at(8, top + _BAND / 2 - 6), _fitting(band.name, plain, (_NAME - 16) * _SCALE), _INK, plain)
        last = next((value for value in reversed(band.values) if value is not None), None)
        pen.rectangle([at(right + 10, up(100)), at(right + 14, floor)], fill=colour)
        pen.text(at(right + 22, top + 8), "-" if last is None else f"{last:.0f}", _INK, large)
        pen.text(at(right + 52, top + 16), band.change, _SOFT, small)
        pen.text(at(right + 22, top + 36), band.condition, colour, plain)
    out = io.BytesIO()
    image.resize((WIDTH * _DENSE, height * _DENSE), Image.Resampling.LANCZOS).save(out, "PNG", optimize=True)
    return out.getvalue(), height


def _fitting(text: str, font: ImageFont.FreeTypeFont | ImageFont.ImageFont, width: float) -> str:
    """The text, shortened in its middle where it is wider: the ends of names tell them apart."""
    if font.getlength(text) <= width:
        return text
    keep = len(text)
    while keep > 4 and font.getlength(text[: keep // 2] + "..." + text[-keep // 2 :]) > width:
        keep -= 1
    return text[: keep // 2] + "..." + text[-keep // 2 :]
