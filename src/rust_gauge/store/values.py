"""Rows as typed values: what queries give to the layers above."""

from collections.abc import Callable, Iterable
from dataclasses import fields
from decimal import Decimal
from operator import attrgetter
from typing import Any, TypeVar, cast

from sqlalchemy import Row

T = TypeVar("T")


def values_of(kind: Callable[..., T], rows: Iterable[Row[*tuple[Any, ...]]]) -> list[T]:
    """Return rows as values of a dataclass whose fields are named as the columns; sums become whole numbers."""
    names = [field.name for field in fields(cast(Any, kind))]
    if len(names) == 1:
        return [kind(_plain(getattr(row, names[0]))) for row in rows]
    get = attrgetter(*names)
    return [kind(*map(_plain, get(row))) for row in rows]


def value_of(kind: Callable[..., T], row: Row[*tuple[Any, ...]] | None) -> T | None:
    """Return one row as a value; None where there is none."""
    return None if row is None else values_of(kind, [row])[0]


def _plain(value: Any) -> Any:
    return int(value) if isinstance(value, Decimal) else value
