"""The typed columns that functions of the store take are those of the tables."""

from datetime import date, datetime
from typing import Any, get_args, get_type_hints, is_typeddict

import pytest

from rust_gauge.store import columns
from rust_gauge.store import tables as t

TYPED = {name: value for name, value in vars(columns).items() if is_typeddict(value)}
TYPES = {int: int, float: float, bool: bool, str: str, bytes: bytes, datetime: datetime, date: date}


def table_of(typed: Any) -> Any:
    return getattr(t, typed.__doc__.split("`")[1])


@pytest.mark.parametrize("name", TYPED)
def test_typed_columns_are_the_columns_of_their_table(name: str) -> None:
    table = table_of(TYPED[name])
    hints = get_type_hints(TYPED[name])
    assert hints.keys() == {column.name for column in table.c}
    for column in table.c:
        hint = hints[column.name]
        kinds = set(get_args(hint)) or {hint}
        assert (type(None) in kinds) == column.nullable, column.name
        wanted = TYPES.get(column.type.python_type)
        assert wanted is None or wanted in kinds, column.name


def test_no_column_gives_decimals() -> None:
    """A Decimal of a value that is read is taken for a sum and loses its fraction."""
    numbers = [
        column for table in t.metadata.tables.values() for column in table.c if hasattr(column.type, "asdecimal")
    ]
    assert numbers
    assert [f"{column.table.name}.{column.name}" for column in numbers if column.type.asdecimal] == []
