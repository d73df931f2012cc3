"""Mappings: where things stand in what a source sends, as data that people write. Any JSON becomes rows of events.

    unwrap   steps that open what is wrapped: text that holds JSON, base64; each at a JSONPath, in order
    rows     JSONPath of the things that happened; one document may hold many
    each     JSONPath inside a row, for one message to many recipients: a row for each match
    fields   for each field of an event where its value stands: a JSONPath in the row (`$`) or in the match of `each`
             (`@`), a constant, a table from the source's words to ours, a default

JSONPath is that of RFC 9535. A value that a table maps to null skips the row: not everything is an event.
"""

import base64
import binascii
import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any

from jsonpath_rfc9535 import JSONPathError, JSONPathQuery

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.patterns import compile_path

MAX_ROWS = 10_000  # of one document
_MAX_TEXT = 16 * 1024 * 1024  # octets of JSON within JSON; a nested document cannot grow by unpacking
_FORMS = ("", "seconds", "milliseconds", "rfc5322", "lower", "number")


class MappingError(RustGaugeError):
    """A mapping that cannot be used, or a document that it does not fit."""


def _path(text: str) -> JSONPathQuery:
    try:
        return compile_path("$" + text[1:] if text.startswith("@") else text)
    except (JSONPathError, RecursionError, ValueError) as error:
        remedy = "Use a JSONPath (RFC 9535) such as $.message.id"
        raise MappingError(f"{text[:100]!r} is not a JSONPath", why=str(error)[:200], remedy=remedy) from None


@dataclass(frozen=True, slots=True)
class Unwrap:
    """Decodes the value at `at`: `json` (a text that holds JSON), `base64` (to text), `base64-json` (both)."""

    at: str
    form: str

    def __post_init__(self) -> None:
        if self.form not in ("json", "base64", "base64-json"):
            raise MappingError(f"{self.form!r} is not a way to unwrap", remedy="Use json, base64 or base64-json")
        _path(self.at)


@dataclass(frozen=True, slots=True)
class FieldRule:
    """Where one field comes from. `table` maps the source's words; `otherwise` stands for what is missing in it."""

    path: str = ""
    constant: Any = None
    table: dict[str, Any] | None = None
    default: Any = None
    form: str = ""

    def __post_init__(self) -> None:
        if self.form not in _FORMS:
            raise MappingError(f"{self.form!r} is not a format", remedy=f"Use one of {', '.join(filter(None, _FORMS))}")
        if bool(self.path) == (self.constant is not None):
            raise MappingError("Give either a path or a constant")
        if self.path:
            if self.path[0] not in "$@":
                raise MappingError(f"{self.path[:100]!r} must start with $ or @")
            _path(self.path)


@dataclass(frozen=True, slots=True)
class Step:
    """How one field of a row came about: for people who look at a mapping."""

    field: str
    path: str
    found: Any
    value: Any


@dataclass(frozen=True, slots=True)
class MappedRow:
    """A row as an event's fields, with how each came about. `left_out` tells that a table maps it to nothing.

    `problem` says why this row, or this inner document, cannot be used; the others of its document can.
    """

    values: dict[str, Any]
    steps: tuple[Step, ...]
    left_out: bool = False
    problem: MappingError | None = None


class _LeaveOut(Exception):
    pass


@dataclass(frozen=True, slots=True)
class Mapping:
    """A mapping that was checked. MappingError says what cannot be used."""

    fields: dict[str, FieldRule]
    unwrap: tuple[Unwrap, ...] = ()
    rows: str = "$"
    each: str = ""
    _paths: dict[str, JSONPathQuery] = field(default_factory=dict, init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        texts = [self.rows, *([self.each] if self.each else []), *(step.at for step in self.unwrap)]
        texts += [rule.path for rule in self.fields.values() if rule.path]
        for text in texts:
            self._paths[text] = _path(text)
        if not self.each and any(rule.path.startswith("@") for rule in self.fields.values()):
            raise MappingError("A path that starts with @ needs `each`")

    def apply(self, document: Any) -> Iterator[MappedRow]:
        """Yield the rows of a document. MappingError when it does not fit at all."""
        broken: list[MappingError] = []
        for step in self.unwrap:
            document = self._open(document, step, broken)
        for error in broken:
            yield MappedRow({}, (), problem=error)
        count = 0
        for row in self._find(self.rows, document):
            if row is None:
                continue  # an inner document that could not be opened, and was reported
            inner = self._find(self.each, row) if self.each else [None]
            for match in inner:
                count += 1
                if count > MAX_ROWS:
                    raise MappingError(f"One document gives more than {MAX_ROWS} rows")
                try:
                    made = self._row(row, match)
                except MappingError as error:
                    made = MappedRow({}, (), problem=error)
                yield made

    def _find(self, text: str, value: Any) -> list[Any]:
        try:
            return list(self._paths[text].find(value).values())
        except (JSONPathError, RecursionError) as error:
            raise MappingError(f"{text} is not in the table", why=str(error)[:200]) from None

    def _open(self, document: Any, step: Unwrap, broken: list[MappingError]) -> Any:
        """Return the document with the values at the step's path decoded. Other values stay unchanged.

        An inner value that cannot be decoded becomes null, and its error is added to `broken`.
        """
        for node in self._paths[step.at].find(document):
            try:
                opened = _opened(node.value, step)
            except MappingError as error:
                if not node.location:
                    raise
                broken.append(error)
                opened = None
            if not node.location:
                return opened
            place = document
            for part in node.location[:-1]:
                place = place[part]
            place[node.location[-1]] = opened
        return document

    def _row(self, row: Any, match: Any) -> MappedRow:
        values: dict[str, Any] = {}
        steps: list[Step] = []
        left_out = False
        for name, rule in self.fields.items():
            found: Any = rule.constant
            if rule.path:
                found = _one(self._find(rule.path, match if rule.path.startswith("@") else row), name)
            try:
                value = _value(rule, found, name)
            except _LeaveOut:
                left_out, value = True, None
            steps.append(Step(name, rule.path, found, value))
            if value is not None and value != "":
                values[name] = value
        return MappedRow(values, tuple(steps), left_out)


def _opened(value: Any, step: Unwrap) -> Any:
    if not isinstance(value, str):
        return value
    if len(value) > _MAX_TEXT:
        raise MappingError(f"The value at {step.at} is too long to unwrap")
    try:
        text = value
        if step.form.startswith("base64"):
            text = base64.b64decode(value + "=" * (-len(value) % 4), validate=True).decode("utf-8")
        return json.loads(text) if step.form.endswith("json") else text
    except (ValueError, binascii.Error, RecursionError) as error:
        raise MappingError(f"The value at {step.at} cannot be read as {step.form}", why=str(error)[:200]) from None


def _one(found: list[Any], name: str) -> Any:
    if name == "tags":
        return found[0] if len(found) == 1 and isinstance(found[0], list) else found
    return found[0] if found else None


def _value(rule: FieldRule, found: Any, name: str) -> Any:
    if rule.table is not None:
        key = found if isinstance(found, str) else json.dumps(found)
        if key in rule.table:
            if rule.table[key] is None:
                raise _LeaveOut
            return rule.table[key]
        if name == "kind" and found not in (None, "") and not rule.default:
            remedy = "Add it to the table; map it to null to skip such rows"
            raise MappingError(f"{name}: the table has no entry for {key[:80]!r}", remedy=remedy)
        found = None  # a value that the table does not know counts as missing
    if found is None or found == "":
        return rule.default
    if rule.form in ("seconds", "milliseconds"):
        try:
            number = float(found) / (1000 if rule.form == "milliseconds" else 1)
            return datetime.fromtimestamp(number, UTC).isoformat()
        except (TypeError, ValueError, OverflowError, OSError):
            return found
    if rule.form == "rfc5322":
        try:
            date = parsedate_to_datetime(str(found)[:100])
            return (date.replace(tzinfo=UTC) if date.tzinfo is None else date).isoformat()
        except (TypeError, ValueError, IndexError, OverflowError):
            return found
    if rule.form == "lower":
        return str(found).lower()
    if rule.form == "number":
        try:
            return float(found)
        except (TypeError, ValueError):
            return found
    return found if not isinstance(found, bool) else str(found).lower()
