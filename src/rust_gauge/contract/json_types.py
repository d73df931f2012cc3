"""JSON's types taken literally: what Pydantic converts on the quiet (`false` to 0, 0 to 1970, `"1"` to 1) is refused.

A body that means something else than it says is a mistake of whoever wrote it, and is better told than stored.
"""

from collections.abc import Callable
from typing import Any

from pydantic_core import CoreSchema, PydanticKnownError, core_schema

_INSIDE = ("schema", "items_schema", "keys_schema", "values_schema", "fields", "choices", "definitions",
           "lax_schema", "strict_schema", "json_schema", "python_schema", "steps")  # fmt: skip


def _refusing(kind: Any, *types: type) -> Callable[[Any], Any]:
    """Return a validator that refuses values of these very types with Pydantic's own error."""

    def check(value: Any) -> Any:
        if type(value) in types:
            raise PydanticKnownError(kind)
        return value

    return check


_CHECKS = {
    "bool": _refusing("bool_type", int, float, str),
    "int": _refusing("int_type", bool, str),
    "float": _refusing("float_type", bool, str),
    "datetime": _refusing("datetime_type", bool, int, float),
    "date": _refusing("date_type", bool, int, float),
}
_OURS = set(_CHECKS.values())


def taken_literally(schema: CoreSchema) -> CoreSchema:
    """Return the schema of a model with a check before each boolean, number and time."""
    found: CoreSchema = _walk(schema)
    return found


def _walk(node: Any) -> Any:
    if isinstance(node, list | tuple):
        return type(node)(_walk(each) for each in node)
    if not isinstance(node, dict):
        return node
    kind = node.get("type")
    if kind == "function-before" and node["function"]["function"] in _OURS:
        return node
    if isinstance(kind, str) and kind in _CHECKS:
        return core_schema.no_info_before_validator_function(_CHECKS[kind], node)
    if not isinstance(kind, str):  # fields or choices by name
        return {name: _walk(each) for name, each in node.items()}
    return {name: _walk(each) if name in _INSIDE else each for name, each in node.items()}
