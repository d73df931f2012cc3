"""What a terminal, a pipe and a spreadsheet get: tables, colours only on a terminal, CSV that carries no formula."""

import csv
import json
import os
import re
import sys
from collections.abc import Iterable, Sequence
from typing import TextIO

from pydantic import BaseModel

from rust_gauge.contract.common import spreadsheet_cell

_CODES = {
    "sound": "36",
    "tarnished": "33",
    "corroded": "38;5;166",
    "seized": "31",
    "fault": "31",
    "risk": "33",
    "note": "2",
    "held": "31",
    "clear": "36",
    "bold": "1",
    "dim": "2",
}
# Each condition has its own mark, so that nothing hangs on colour.
MARKS = {"sound": "=", "tarnished": "~", "corroded": "#", "seized": "/"}


_CONTROL = re.compile(r"\x1b\[[0-9;]*m|[\x00-\x08\x0b-\x1f\x7f-\x9f]")
_C1 = re.compile(r"[\x7f-\x9f]")  # json escapes the others itself


class Output:
    """Writes results to standard output and words about them to standard error."""

    def __init__(self, out: TextIO | None = None, err: TextIO | None = None) -> None:
        self.out = out or sys.stdout
        self.err = err or sys.stderr
        self.colour = self.out.isatty() and "NO_COLOR" not in os.environ and os.environ.get("TERM") != "dumb"

    def paint(self, text: str, name: str) -> str:
        """`text` in the colour of a condition or a level, where there is colour."""
        code = _CODES.get(name)
        return f"\x1b[{code}m{text}\x1b[0m" if self.colour and code else text

    def line(self, text: str = "") -> None:
        """Text for people. Records and messages come from strangers: what could steer a terminal is shown, not sent."""
        print(_CONTROL.sub(self._shown, text), file=self.out)

    def say(self, text: str) -> None:
        """Something about the result, not part of it."""
        print(_CONTROL.sub(self._shown, text), file=self.err)

    def _shown(self, found: re.Match[str]) -> str:
        piece = found.group()
        if len(piece) > 1 and self.colour:
            return piece  # a colour, most likely our own; a stranger's does no harm
        return "".join(f"\\x{ord(char):02x}" if not char.isprintable() else char for char in piece)

    def json(self, value: object) -> None:
        text = json.dumps(_plain(value), indent=2, ensure_ascii=False)
        print(_C1.sub(lambda found: f"\\u{ord(found.group()):04x}", text), file=self.out)

    def table(
        self, form: str, columns: Sequence[str], rows: Iterable[Sequence[object]], right: Sequence[int] = ()
    ) -> None:
        """Rows as `text`, `csv`, `ndjson` or `json`. `right`: columns of numbers. Cells may be (text, colour)."""
        if form == "text":
            self._text_table(columns, [list(row) for row in rows], right)
        elif form == "csv":
            writer = csv.writer(self.out, lineterminator="\n")
            writer.writerow(columns)
            writer.writerows([spreadsheet_cell(_bare(cell)) for cell in row] for row in rows)
        else:
            objects = [dict(zip(columns, (_value(cell) for cell in row), strict=True)) for row in rows]
            if form == "json":
                self.json(objects)
            else:
                for document_ in objects:
                    self.line(json.dumps(_plain(document_), ensure_ascii=False))

    def _text_table(self, columns: Sequence[str], rows: list[list[object]], right: Sequence[int]) -> None:
        cells = [[_bare(cell) for cell in row] for row in rows]
        widths = [max(len(name), *(len(row[i]) for row in cells), 0) for i, name in enumerate(columns)]
        header = "  ".join(_pad(name, widths[i], i in right) for i, name in enumerate(columns))
        self.line(self.paint(header.rstrip(), "dim"))
        for row, bare in zip(rows, cells, strict=True):
            parts = []
            for i, cell in enumerate(row):
                padded = _pad(bare[i], widths[i], i in right)
                parts.append(self.paint(padded, str(cell[1])) if isinstance(cell, tuple) else padded)
            self.line("  ".join(parts).rstrip())


def _pad(text: str, width: int, right: bool) -> str:
    return text.rjust(width) if right else text.ljust(width)


def _value(cell: object) -> object:
    return cell[0] if isinstance(cell, tuple) else cell


def _bare(cell: object) -> str:
    value = _value(cell)
    return "" if value is None else str(value)


def _plain(value: object) -> object:
    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    if isinstance(value, dict):
        return {key: _plain(part) for key, part in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(part) for part in value]
    return value if isinstance(value, str | int | float | bool | None) else str(value)


def plural(number: int, word: str) -> str:
    """`1 fault`, `2 faults`."""
    return f"{number:,} {word}{'' if number == 1 else 's'}"


def percent(value: float | None) -> str:
    """A fraction as people read it, with as many digits as it needs."""
    if value is None:
        return ""
    share = value * 100
    return f"{share:.2f} %" if share < 1 else f"{share:.1f} %"


def plate(value: float | None, margin: float | None, width: int = 10) -> str:
    """A reading as a strip of metal: what is left, its uncertain edge, what is gone."""
    if value is None:
        return "·" * width
    left = round(value / 100 * width)
    edge = min(width - left, max(0, round((margin or 0) / 100 * width)))
    return "█" * left + "▒" * edge + "░" * (width - left - edge)
