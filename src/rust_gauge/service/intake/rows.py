"""Rows as they are handed in, and each as an event or with what is wrong with it."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from pydantic import ValidationError

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.events import NewEvent
from rust_gauge.contract.validation import explain
from rust_gauge.core.errors import EventError
from rust_gauge.core.mailflow import Event, Kind, make_event
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.service.runtime.poison import unexpected
from rust_gauge.service.runtime.problems import ServiceProblem

Refusal = tuple[Any, list[ProblemError]]
"""A row that cannot be used, and what is wrong with it."""


@dataclass(frozen=True, slots=True)
class Rows:
    """Rows that were handed in: each as JSON text or as a value, and the line where it stood (from 1)."""

    items: Sequence[Any]
    lines: Sequence[int]
    are_text: bool

    def __len__(self) -> int:
        return len(self.items)

    def part(self, start: int, end: int) -> "Rows":
        """Return some of the rows, with their lines."""
        return Rows(self.items[start:end], self.lines[start:end], self.are_text)


def rows_of(values: Sequence[Any]) -> Rows:
    """Rows of parsed values."""
    return Rows(values, range(1, len(values) + 1), are_text=False)


def split_body(body: bytes, content_type: str, max_rows: int) -> Rows:
    """The rows of a request's body. ServiceProblem when the body as a whole cannot be used."""
    kind = content_type.partition(";")[0].strip().lower()
    if kind not in ("application/x-ndjson", "application/ndjson", "application/json"):
        raise ServiceProblem(
            "unsupported-type", f"Content type not supported: {kind or 'an unnamed type'}",
            remedy="Send NDJSON (application/x-ndjson), or a JSON array; logs, CSV and mail go to a feed of kind http",
        )  # fmt: skip
    try:
        body.decode("utf-8")
    except UnicodeDecodeError as error:
        line = body.count(b"\n", 0, error.start) + 1
        raise ServiceProblem(
            "not-utf-8", f"Octet {error.start + 1}, in line {line}, is not UTF-8", remedy="Nothing was stored"
        ) from None
    body = body.removeprefix(b"\xef\xbb\xbf")
    if kind == "application/json":
        try:
            value = json.loads(body)
        except (ValueError, RecursionError) as error:
            raise ServiceProblem("not-json", str(error)) from None
        rows = rows_of(value if isinstance(value, list) else [value])
    else:
        rows = split_lines(body)
    if len(rows) > max_rows:
        raise ServiceProblem("too-large", f"{len(rows)} rows in one request; the limit is {max_rows}")
    return rows


def split_lines(body: bytes) -> Rows:
    """The lines of NDJSON that are not empty."""
    texts = body.removesuffix(b"\n").split(b"\n")
    if any(not text or text.isspace() for text in texts):
        numbered = [(line, text) for line, text in enumerate(texts, 1) if text and not text.isspace()]
        return Rows([text for _, text in numbered], [line for line, _ in numbered], are_text=True)
    return Rows(texts, range(1, len(texts) + 1), are_text=True)


def read_row(
    item: Any, is_text: bool, line: int, now: datetime, *, judged: bool = True
) -> tuple[Event | None, tuple[Any, ...], list[ProblemError]]:
    """A row as an event, and what rows sent the same way have in common; or what is wrong with it."""
    try:
        new = NewEvent.model_validate_json(item) if is_text else NewEvent.model_validate(item)
        event = to_event(new, now, judged=judged)
    except ValidationError as error:
        return None, (), [_problem(line, details) for details in error.errors(include_url=False)[:5]]
    except EventError as error:
        what = f"{error.what} ({error.why})" if error.why else error.what
        return None, (), [ProblemError(line=line, field=error.field, what=what, remedy=error.remedy)]
    except Exception as error:
        return None, (), [ProblemError(line=line, what=unexpected("row", error))]
    path = (new.domain, new.stream, new.relay, new.sending_ip, new.campaign, tuple(new.tags))
    return event, path, []


def to_event(new: NewEvent, now: datetime, *, judged: bool = True) -> Event:
    """The contract's event as the core's, by the built-in rules if it is judged. EventError when a value is wrong."""
    values = new.model_dump(exclude={"kind", "cause", "permanence"})
    return make_event(
        now=now,
        judged=judged,
        kind=Kind(new.kind),
        cause=Cause(new.cause) if new.cause else None,
        permanence=Permanence(new.permanence) if new.permanence and new.permanence != "none" else None,
        **values,
    )


def _problem(line: int, details: Any) -> ProblemError:
    """One of Pydantic's findings in our words."""
    field = ".".join(str(part) for part in details["loc"])
    kind, given = details["type"], str(details.get("input"))[:60]
    if kind == "json_invalid":
        return ProblemError(line=line, what="This line is not valid JSON", remedy=str(details["msg"]))
    if kind in ("model_type", "model_attributes_type"):
        return ProblemError(
            line=line, what="This is not a JSON object", remedy="An event is an object with named fields"
        )
    if kind == "missing":
        return ProblemError(line=line, field=field, what=f"{field} is missing")
    if kind == "extra_forbidden":
        return ProblemError(line=line, field=field, what=f"{field[:60]} is not a field of an event")
    if kind == "literal_error":
        allowed = str(details["ctx"]["expected"]).replace("'", "")
        return ProblemError(
            line=line, field=field, what=f"{given!r} is not a valid {field}", remedy=f"Allowed: {allowed}"
        )
    if kind == "timezone_aware":
        remedy = "Write it as 2026-11-20T08:00:00Z"
        return ProblemError(line=line, field=field, what="time has no UTC offset", remedy=remedy)
    return ProblemError(line=line, field=field, what=f"{given!r} is not a valid {field}: {explain(details)}")
