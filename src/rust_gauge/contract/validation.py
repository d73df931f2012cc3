"""Plain messages for what Pydantic finds wrong with a value, for the API and the command line."""

from collections.abc import Callable, Mapping
from typing import Any

_LONGEST = 60  # characters of a wrong value that are quoted


def field_of(error: Mapping[str, Any], skip: int = 0) -> str:
    """Return the name of the field, dotted. `skip`: leading parts that are not names, such as `body`."""
    return ".".join(str(part) for part in error["loc"][skip:])


def explain(error: Mapping[str, Any]) -> str:
    """Return what is wrong, without the name of the field: "must be a whole number, not 'x'".

    `error`: one of `ValidationError.errors()`.
    """
    kind, context = error["type"], error.get("ctx") or {}
    if kind == "value_error":
        return str(context.get("error") or error["msg"]).removeprefix("Value error, ")
    write = _WORDS.get(kind) or next((w for prefix, w in _FAMILIES.items() if kind.startswith(prefix)), None)
    return write(error, context) if write else str(error["msg"])


def _quoted(error: Mapping[str, Any]) -> str:
    return repr(error.get("input"))[:_LONGEST]


def _must_be(what: str) -> Callable[[Mapping[str, Any], Mapping[str, Any]], str]:
    return lambda error, _: f"must be {what}, not {_quoted(error)}"


def _choice(error: Mapping[str, Any], context: Mapping[str, Any]) -> str:
    return f"{_quoted(error)} is not allowed. Allowed: {str(context['expected']).replace(chr(39), '')}"


def _bound(words: str, name: str) -> Callable[[Mapping[str, Any], Mapping[str, Any]], str]:
    return lambda error, context: f"must be {words} {context[name]}, not {_quoted(error)}"


_WORDS: dict[str, Callable[[Mapping[str, Any], Mapping[str, Any]], str]] = {
    "missing": lambda *_: "is required",
    "extra_forbidden": lambda *_: "unknown field",
    "literal_error": _choice,
    "enum": _choice,
    "string_type": _must_be("a text"),
    "string_too_long": lambda _, context: f"must have at most {context['max_length']} characters",
    "string_too_short": lambda _, context: f"must have at least {context['min_length']} characters",
    "string_pattern_mismatch": lambda error, context: (
        f"{_quoted(error)} does not match the pattern {context['pattern']}"
    ),
    "too_long": lambda _, context: f"must have at most {context['max_length']} items",
    "too_short": lambda _, context: f"must have at least {context['min_length']} items",
    "greater_than": _bound("greater than", "gt"),
    "greater_than_equal": _bound("at least", "ge"),
    "less_than": _bound("less than", "lt"),
    "less_than_equal": _bound("at most", "le"),
    "timezone_aware": lambda *_: "must have a UTC offset, for example 2026-11-20T08:00:00Z",
    "model_type": _must_be("an object"),
    "model_attributes_type": _must_be("an object"),
    "dict_type": _must_be("an object"),
    "list_type": _must_be("a list"),
}
_FAMILIES: dict[str, Callable[[Mapping[str, Any], Mapping[str, Any]], str]] = {
    "int_": _must_be("a whole number"),
    "float_": _must_be("a number"),
    "bool_": _must_be("true or false"),
    "datetime_": _must_be("a time such as 2026-11-20T08:00:00Z"),
    "date_": _must_be("a date such as 2026-11-20"),
    "finite_number": _must_be("a finite number"),
}
