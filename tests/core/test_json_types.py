"""Values of a request are of the type that its schema states, wherever they stand in it."""

from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any, Literal

import pytest
from pydantic import Field, ValidationError

from rust_gauge.contract.common import Model


class Inner(Model):
    yes: bool = True
    rate: float | None = None


class Outer(Model):
    yes: bool = True
    count: int = Field(0, ge=0)
    rate: float = 0.0
    at: datetime | None = None
    day: date | None = None
    inner: Inner = Inner()
    many: list[Inner] = Field(default_factory=list)
    named: dict[str, int] = Field(default_factory=dict)
    either: int | Literal["all"] = "all"


@pytest.mark.parametrize(
    "values",
    [
        {"yes": 0}, {"yes": 1}, {"yes": "true"}, {"yes": 1.0}, {"count": False}, {"count": "1"}, {"rate": True},
        {"rate": "0.5"}, {"at": 0}, {"at": 1.5}, {"at": False}, {"day": 0}, {"inner": {"yes": 0}},
        {"many": [{}, {"rate": False}]}, {"named": {"a": True}}, {"either": True},
    ],
    ids=str,
)  # fmt: skip
def test_a_value_of_another_type_is_refused(values: dict[str, Any]) -> None:
    with pytest.raises(ValidationError):
        Outer.model_validate(values)


def test_what_is_meant_is_taken() -> None:
    made = Outer.model_validate(
        {
            "yes": False, "count": 3.0, "rate": 1, "at": "2026-11-20T08:00:00Z", "day": "2026-11-20",
            "inner": {"rate": 2}, "many": [{"yes": False}], "named": {"a": 1}, "either": 3,
        }
    )  # fmt: skip
    assert (made.yes, made.count, made.rate, made.inner.rate, made.many[0].yes) == (False, 3, 1.0, 2.0, False)
    assert made.at == datetime(2026, 11, 20, 8, tzinfo=UTC)
    assert Outer(count=Decimal(7), at=made.at, day=date(2026, 11, 20)).count == 7, "sums as the database gives them"
    assert Outer.model_validate_json(made.model_dump_json()) == made
