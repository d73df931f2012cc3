"""What a terminal, a pipe and a spreadsheet get: tables, colours only on a terminal, CSV that carries no formula."""

import csv
import json
import math
import os
import re
import shutil
import sys
from collections.abc import Callable, Iterable, Sequence
from typing import Any, TextIO

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
        # A pipe gets whole cells; a terminal gets rows that fit.
        self.width = shutil.get_terminal_size().columns if self.out.isatty() else 0

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
        """A document of the API, indented."""
        self._data(json.dumps(_plain(value), indent=2, ensure_ascii=False))

    def ndjson(self, value: object) -> None:
        """A document of the API on one line."""
        self._data(json.dumps(_plain(value), ensure_ascii=False))

    def _data(self, text: str) -> None:
        # JSON escapes the other control characters itself.
        print(_C1.sub(lambda found: f"\\u{ord(found.group()):04x}", text), file=self.out)

    def items(
        self,
        form: str,
        items: Iterable[BaseModel],
        kind: type[BaseModel],
        columns: Sequence[str],
        row: Callable[[Any], Sequence[object]],
        right: Sequence[int] = (),
        empty: str = "",
    ) -> None:
        """A list: a table for people, or the documents of the API (`json`, `ndjson`, `csv` with their field names).

        `empty` is said where a table for people would have no rows.
        """
        if form == "ndjson":
            for item in items:
                self.ndjson(item)
        elif form == "json":
            self.json(list(items))
        elif form == "csv":
            self._csv(list(kind.model_fields), ([_flat(value) for value in _plain_fields(item)] for item in items))
        else:
            rows = [row(item) for item in items]
            if rows or not empty:
                self.table(columns, rows, right)
            else:
                self.say(empty)

    def document(self, form: str, value: BaseModel, show: Callable[[], None]) -> None:
        """One document: as the API has it, or as `show` writes it for people."""
        if form == "text":
            show()
        elif form == "ndjson":
            self.ndjson(value)
        else:
            self.json(value)

    def rows(
        self, form: str, columns: Sequence[str], rows: Iterable[Sequence[object]], right: Sequence[int] = ()
    ) -> None:
        """Rows that are no documents of the API by themselves, under stable names."""
        if form == "text":
            self.table(columns, rows, right)
        elif form == "csv":
            self._csv(columns, ([_bare(cell) for cell in row] for row in rows))
        else:
            objects = [dict(zip(columns, (_value(cell) for cell in row), strict=True)) for row in rows]
            if form == "json":
                self.json(objects)
            else:
                for one in objects:
                    self.ndjson(one)

    def _csv(self, columns: Sequence[str], rows: Iterable[Sequence[str]]) -> None:
        writer = csv.writer(self.out, lineterminator="\n")
        writer.writerow(columns)
        writer.writerows([spreadsheet_cell(cell) for cell in row] for row in rows)

    def table(self, columns: Sequence[str], rows: Iterable[Sequence[object]], right: Sequence[int] = ()) -> None:
        """A table for people. `right`: columns of numbers. Cells may be (text, colour).

        On a terminal the widest columns are cut so that a row takes one line.
        """
        whole = [list(row) for row in rows]
        cells = [[_one_line(_bare(cell)) for cell in row] for row in whole]
        widths = [max(len(name), *(len(row[i]) for row in cells), 0) for i, name in enumerate(columns)]
        widths = _fitted(widths, [len(name) for name in columns], self.width) if self.width else widths
        header = "  ".join(_pad(name, widths[i], i in right) for i, name in enumerate(columns))
        self.line(self.paint(header.rstrip(), "dim"))
        for row, bare in zip(whole, cells, strict=True):
            parts = []
            for i, cell in enumerate(row):
                padded = _pad(_cut(bare[i], widths[i]), widths[i], i in right)
                parts.append(self.paint(padded, str(cell[1])) if isinstance(cell, tuple) else padded)
            self.line("  ".join(parts).rstrip())


def _fitted(widths: list[int], least: list[int], width: int) -> list[int]:
    """Cut the widest columns until a row fits; none below its head or eight characters."""
    widths = list(widths)
    while sum(widths) + 2 * (len(widths) - 1) > width:
        room = [(w, i) for i, w in enumerate(widths) if w > max(8, least[i])]
        if not room:
            break
        widest, at = max(room)
        others = [w for w, i in room if i != at]
        over = sum(widths) + 2 * (len(widths) - 1) - width
        widths[at] = max(max(8, least[at]), max(others, default=0) - 1, widest - over)
    return widths


def _cut(text: str, width: int) -> str:
    return text if len(text) <= width else text[: width - 1] + "…"


def _one_line(text: str) -> str:
    return " ↵ ".join(text.splitlines()) if "\n" in text or "\r" in text else text


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


def _plain_fields(item: BaseModel) -> list[object]:
    return list(item.model_dump(mode="json").values())


def _flat(value: object) -> str:
    """A cell of CSV: a list of texts parted by blanks, what is nested as JSON."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list) and all(isinstance(part, str) and " " not in part for part in value):
        return " ".join(value)
    return json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict) else str(value)


def plural(number: int, word: str) -> str:
    """`1 fault`, `2 faults`."""
    return f"{number:,} {word}{'' if number == 1 else 's'}"


def both_forms(name: str, unicode_name: str) -> str:
    """`xn--bcher-kva.example (bücher.example)` for an internationalised name, the name alone for others."""
    return f"{name} ({unicode_name})" if unicode_name else name


def percent(value: float | None) -> str:
    """A fraction as people read it, with as many digits as it needs."""
    if value is None:
        return ""
    return f"{bare_percent(value)} %"


def bare_percent(value: float) -> str:
    """A fraction in percent, without the sign: one decimal, two below 1, and two digits of what is below 0.01."""
    share = value * 100
    if 0 < share < 0.01:
        return f"{share:.{min(7, 1 - math.floor(math.log10(share)))}f}"
    return f"{share:.2f}" if share < 0.995 else f"{share:.1f}"


def plate(value: float | None, margin: float | None, width: int = 10) -> str:
    """A reading as a strip of metal: what is left, its uncertain edge, what is gone."""
    if value is None:
        return "·" * width
    left = round(value / 100 * width)
    edge = min(width - left, max(0, round((margin or 0) / 100 * width)))
    return "█" * left + "▒" * edge + "░" * (width - left - edge)
