"""Words for what Pydantic finds: no error of any model of the contract reaches people in Pydantic's own words."""

import importlib
import pkgutil
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

import rust_gauge.contract as contract
from rust_gauge.contract.common import Model
from rust_gauge.contract.tokens import NewToken
from rust_gauge.contract.validation import explain, field_of

MODELS = sorted(
    {
        value
        for module in pkgutil.iter_modules(contract.__path__)
        for value in vars(importlib.import_module(f"rust_gauge.contract.{module.name}")).values()
        if isinstance(value, type) and issubclass(value, Model)
    },
    key=lambda model: model.__name__,
)
VALUES = (
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=5) | st.just([[]]) | st.just({"a": 1})
)


@st.composite
def documents(draw: st.DrawFn) -> tuple[type[Model], Any]:
    model = draw(st.sampled_from(MODELS))
    names = draw(st.lists(st.sampled_from([*model.model_fields, "no_such_field"]), max_size=4))
    return model, draw(st.fixed_dictionaries(dict.fromkeys(names, VALUES)))


@given(documents())
@settings(max_examples=300, deadline=None)
def test_every_mistake_has_words_of_ours(drawn: tuple[type[Model], Any]) -> None:
    model, document = drawn
    try:
        model.model_validate(document)
    except ValidationError as error:
        for details in error.errors():
            words = explain(details)
            assert words
            assert "Input" not in words.replace(repr(details["input"]), "")
            assert "Value error" not in words


@pytest.mark.parametrize(
    ("document", "field", "words"),
    [
        ({}, "name", "is required"),
        ({"name": "a", "tenent": "x"}, "tenent", "unknown field"),
        ({"name": ""}, "name", "must have at least 1 characters"),
        ({"name": 5}, "name", "must be a text, not 5"),
        ({"name": "a", "expires_in_days": "soon"}, "expires_in_days", "must be a whole number, not 'soon'"),
        ({"name": "a", "expires_in_days": 0}, "expires_in_days", "must be at least 1, not 0"),
    ],
)
def test_a_mistake_is_named_with_what_is_expected(document: dict[str, Any], field: str, words: str) -> None:
    with pytest.raises(ValidationError) as caught:
        NewToken.model_validate(document)
    (details,) = caught.value.errors()
    assert (field_of(details), explain(details)) == (field, words)
