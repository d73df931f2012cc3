"""What every resource uses: the base model, pages, problems."""

import re
from datetime import UTC, date, datetime
from typing import Annotated, Generic, TypeVar

from pydantic import AwareDatetime, BaseModel, BeforeValidator, ConfigDict, Field, GetCoreSchemaHandler
from pydantic_core import CoreSchema

from rust_gauge.contract.json_types import taken_literally

T = TypeVar("T")


class Model(BaseModel):
    """Base model. Unknown fields are rejected, so that a misspelled name is not silently ignored; and values are of the
    type that the OpenAPI document states: `false` is not a number, `0` is not a time, and `"1"` is neither.
    """

    model_config = ConfigDict(extra="forbid", defer_build=True)

    @classmethod
    def __get_pydantic_core_schema__(cls, source: type[BaseModel], handler: GetCoreSchemaHandler) -> CoreSchema:
        return taken_literally(handler(source))


class LooseModel(Model):
    """For what strangers' programs send and files hold, where numbers often are texts: those are converted."""

    @classmethod
    def __get_pydantic_core_schema__(cls, source: type[BaseModel], handler: GetCoreSchemaHandler) -> CoreSchema:
        return handler(source)


def _aware(value: object) -> object:
    return value.replace(tzinfo=UTC) if isinstance(value, datetime) and value.tzinfo is None else value


# Times as the store gives them are UTC without saying so.
UtcTime = Annotated[datetime, BeforeValidator(_aware)]

# What is asked for lies within bounds in which one can reckon: a week before the first day there is would be none.
_FIRST, _LAST = datetime(1970, 1, 1, tzinfo=UTC), datetime(2200, 1, 1, tzinfo=UTC)


def _written_out(value: object) -> object:
    """Refuse numbers, which would be taken for seconds since 1970."""
    if isinstance(value, int | float) or (isinstance(value, str) and _SECONDS.fullmatch(value)):
        raise ValueError(f"{value} is not a date. Expected, for example, 2026-11-20")
    return value


_SECONDS = re.compile(r"\s*[+-]?[\d_]*\.?[\d_]*\s*")
Day = Annotated[date, Field(ge=_FIRST.date(), le=_LAST.date()), BeforeValidator(_written_out)]
Moment = Annotated[AwareDatetime, Field(ge=_FIRST, le=_LAST), BeforeValidator(_written_out)]


# Where a spreadsheet would see a formula begin: at the start of a cell, or behind what some take for the end of one.
_FORMULA = re.compile(r"(\A|[;\t])('*)(?=[=+\-@\t\r\n])")
_NUMBER = re.compile(r"[+-]?\d+([.,]\d+)?|\+\d[\d ]*")  # a telephone number is none either


def spreadsheet_cell(text: str) -> str:
    """Return a CSV cell that no spreadsheet takes for a formula: such text gets an apostrophe in front."""
    return text if _NUMBER.fullmatch(text) else _FORMULA.sub(r"\1'\2", text)


class Page(Model, Generic[T]):
    """One page of a list. `next` is the cursor of the next page, absent on the last one."""

    items: list[T]
    next: str | None = None


class ProblemError(Model):
    """One invalid value in a request: where it is, what is wrong, and what to do."""

    line: int | None = Field(None, description="Line of the body, starting at 1")
    field: str = Field("", description="Field name; nested fields with dots")
    what: str
    remedy: str = ""


class Problem(BaseModel):
    """A problem as in RFC 9457, with what to do about it."""

    type: str = Field(examples=["/problems/not-found"])
    title: str
    status: int
    detail: str = ""
    remedy: str = Field("", description="What to do")
    instance: str = Field("", description="Request id, as in the service log")
    errors: list[ProblemError] = []
    errors_total: int = Field(0, description="Number of errors; `errors` has the first of them")
