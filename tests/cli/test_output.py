"""What a terminal, a pipe and a spreadsheet get."""

import csv
import io
import json
import re
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.cli.output import Output, percent, plural
from rust_gauge.cli.progress import Progress
from rust_gauge.contract.common import ProblemError

COLUMNS = ("name", "n", "state")
ROWS = [("a.example", 1200, ("sound", "sound")), ("longer.example", None, ("seized", "seized"))]


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


def written(form: str, rows: object = ROWS, out: io.StringIO | None = None) -> str:
    stream = out or io.StringIO()
    Output(stream, io.StringIO()).rows(form, COLUMNS, rows, right=(1,))  # type: ignore[arg-type]
    return stream.getvalue()


def test_a_text_table_lines_up_its_columns() -> None:
    head, first, second = written("text").splitlines()
    assert head.index("state") == first.index("sound") == second.index("seized")
    assert first[: head.index("state")].rstrip().endswith("1200")
    assert second.split() == ["longer.example", "seized"]


def test_colour_does_not_move_the_columns(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TERM", "xterm")
    monkeypatch.delenv("NO_COLOR", raising=False)
    coloured = written("text", out=Terminal())
    assert "\x1b[36m" in coloured
    plain = coloured.replace("\x1b[36m", "").replace("\x1b[31m", "").replace("\x1b[2m", "").replace("\x1b[0m", "")
    assert [line.rstrip() for line in plain.splitlines()] == written("text").splitlines()


@pytest.mark.parametrize("term", ["dumb"])
def test_a_dumb_terminal_gets_no_colour(term: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TERM", term)
    assert "\x1b" not in written("text", out=Terminal())


def test_json_and_ndjson_keep_values_as_they_are() -> None:
    wanted = [
        {"name": "a.example", "n": 1200, "state": "sound"},
        {"name": "longer.example", "n": None, "state": "seized"},
    ]
    assert json.loads(written("json")) == wanted
    assert [json.loads(line) for line in written("ndjson").splitlines()] == wanted


def test_models_and_dates_can_be_written_as_json() -> None:
    stream = io.StringIO()
    Output(stream).json({"day": date(2026, 11, 20), "errors": [ProblemError(line=1, field="f", what="w")]})
    assert json.loads(stream.getvalue()) == {
        "day": "2026-11-20",
        "errors": [{"line": 1, "field": "f", "what": "w", "remedy": ""}],
    }


def test_an_empty_table_has_its_head_alone() -> None:
    assert written("text", []).splitlines() == ["name  n  state"]
    assert written("csv", []) == "name,n,state\n"
    assert written("json", []) == "[]\n"
    assert written("ndjson", []) == ""


@given(st.text(st.characters(codec="utf-8", exclude_characters="\r\0"), max_size=40))
def test_no_cell_of_a_csv_begins_a_formula_and_none_is_lost(text: str) -> None:
    rows = list(csv.reader(io.StringIO(written("csv", [(text, 1, "x")]))))
    cell = rows[1][0]
    # One apostrophe before what begins a formula, at the start or behind a separator; nothing else is changed.
    assert cell == text or re.sub(r"(\A|[;\t])'(?='*[=+\-@\t\n])", r"\1", cell) == text
    assert not cell or cell[0] not in "=+@\t" or cell.replace(".", "").lstrip("+-").isdigit()


@pytest.mark.parametrize("text", ["-3", "+0.5", "1e5"])
def test_numbers_stay_numbers_in_a_csv(text: str) -> None:
    assert list(csv.reader(io.StringIO(written("csv", [(text, 1, "x")]))))[1][0] == text


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (None, ""),
        (0.0, "0.00 %"),
        (0.00314, "0.31 %"),
        (0.00996, "1.0 %"),
        (0.0001, "0.01 %"),
        (0.0000301, "0.0030 %"),
        (0.00000005, "0.0000050 %"),
        (0.0214, "2.1 %"),
        (1.0, "100.0 %"),
    ],
)
def test_a_share_is_a_percentage_with_the_digits_it_needs(value: float | None, text: str) -> None:
    assert percent(value) == text


@pytest.mark.parametrize(("n", "text"), [(0, "0 faults"), (1, "1 fault"), (1200, "1,200 faults")])
def test_words_agree_with_their_numbers(n: int, text: str) -> None:
    assert plural(n, "fault") == text


def test_progress_is_drawn_on_a_terminal_and_taken_away_again(monkeypatch: pytest.MonkeyPatch) -> None:
    now = iter(range(100))
    monkeypatch.setattr("time.monotonic", lambda: float(next(now)))
    stream = Terminal()
    progress = Progress("Loading", 200, stream)
    progress.advance(50, "50 stored")
    progress.advance(50, "100 stored")
    progress.close()
    text = stream.getvalue()
    assert " 25% 50 stored" in text
    assert " 50% 100 stored" in text
    assert " s left" in text
    assert text.endswith("\r\x1b[2K")


def test_progress_without_a_total_shows_what_was_done(monkeypatch: pytest.MonkeyPatch) -> None:
    now = iter(range(100))
    monkeypatch.setattr("time.monotonic", lambda: float(next(now)))
    stream = Terminal()
    Progress("Checking", 0, stream).advance(10, "10 addresses")
    assert "Checking 10 addresses" in stream.getvalue()


def test_progress_says_nothing_into_a_file() -> None:
    stream = io.StringIO()
    progress = Progress("Loading", 100, stream)
    progress.advance(100, "x")
    progress.close()
    assert stream.getvalue() == ""


@pytest.mark.parametrize("text", ["\x1b]0;title\x07", "\x1b[2J", "\x9b2J", "a\rb", "\x00"])
def test_what_strangers_publish_cannot_steer_a_terminal(text: str) -> None:
    for colour in (False, True):
        out = io.StringIO()
        output = Output(out, out)
        output.colour = colour
        output.line(f"record: {text}")
        output.json({"record": text})
        written = out.getvalue()
        assert not any(char in written for char in "\x1b\x9b\x07\r\x00")
        assert json.loads(written.partition("\n")[2])["record"] == text
