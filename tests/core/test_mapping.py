"""Mappings: wrapped, foreign JSON becomes rows. The services in the samples are made up."""

import base64
import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.mailflow.mapping import FieldRule, Mapping, MappingError, Unwrap

# Driftline's: JSON in a text in an envelope, one message to many recipients.
INNER = {
    "what": "returned",
    "sent": {"ref": "a1@news.d.example", "from": "news.d.example", "at": 1763539200},
    "to": [{"box": "Kim <kim@tidepost.example>", "reply": "550 5.1.1 unknown"}, {"box": "jo@tidepost.example"}],
}
ENVELOPE = {
    "batch": [
        {"kind": "Note", "payload": json.dumps(INNER)},
        {"kind": "Note", "payload": json.dumps({**INNER, "what": "queued"})},
    ]
}
DRIFTLINE = Mapping(
    unwrap=(Unwrap("$.batch[*].payload", "json"),),
    rows="$.batch[*].payload",
    each="$.to[*]",
    fields={
        "kind": FieldRule("$.what", table={"returned": "bounced", "taken": "delivered", "queued": None}),
        "time": FieldRule("$.sent.at", form="seconds"),
        "domain": FieldRule("$.sent.from"),
        "message_id": FieldRule("$.sent.ref"),
        "recipient": FieldRule("@.box"),
        "diagnostic": FieldRule("@.reply", default="no reply was given"),
        "relay": FieldRule(constant="driftline"),
    },
)


def test_wrapped_json_becomes_a_row_for_each_recipient() -> None:
    rows = list(DRIFTLINE.apply(json.loads(json.dumps(ENVELOPE))))
    first, second, third, _ = rows
    assert first.values == {
        "kind": "bounced", "time": "2025-11-19T08:00:00+00:00", "domain": "news.d.example", "relay": "driftline",
        "message_id": "a1@news.d.example", "recipient": "Kim <kim@tidepost.example>", "diagnostic": "550 5.1.1 unknown",
    }  # fmt: skip
    assert second.values["diagnostic"] == "no reply was given"
    assert (first.left_out, third.left_out) == (False, True)
    assert next((step.field, step.path, step.found) for step in first.steps) == ("kind", "$.what", "returned")


@pytest.mark.parametrize(
    ("form", "found", "value"),
    [
        ("milliseconds", 1763539200500, "2025-11-19T08:00:00.500000+00:00"),
        ("seconds", "1763539200", "2025-11-19T08:00:00+00:00"),
        ("seconds", "soon", "soon"),
        ("seconds", 1e40, 1e40),
        ("rfc5322", "Wed, 19 Nov 2025 08:00:00 GMT", "2025-11-19T08:00:00+00:00"),
        ("rfc5322", "soon", "soon"),
        ("lower", "BOUNCED", "bounced"),
        ("number", "2.5", 2.5),
        ("number", "x", "x"),
        ("", 7, 7),
    ],
)
def test_forms(form: str, found: Any, value: Any) -> None:
    (row,) = Mapping({"f": FieldRule("$.v", form=form)}).apply({"v": found})
    assert row.values == {"f": value}


def test_base64_is_unwrapped_and_the_whole_document_can_be() -> None:
    wrapped = base64.b64encode(json.dumps({"k": "delivered"}).encode()).decode()
    mapping = Mapping({"kind": FieldRule("$.k")}, unwrap=(Unwrap("$", "base64-json"),))
    assert [row.values for row in mapping.apply(wrapped)] == [{"kind": "delivered"}]
    inner = Mapping({"diagnostic": FieldRule("$.d")}, unwrap=(Unwrap("$.d", "base64"),))
    assert [row.values for row in inner.apply({"d": "NTUwIG5v"})] == [{"diagnostic": "550 no"}]


def test_tags_are_gathered() -> None:
    mapping = Mapping({"tags": FieldRule("$.labels[*].name")})
    (row,) = mapping.apply({"labels": [{"name": "a"}, {"name": "b"}]})
    assert row.values == {"tags": ["a", "b"]}


@pytest.mark.parametrize(
    ("make", "why"),
    [
        (lambda: Mapping({"kind": FieldRule("$.a[")}), "not a JSONPath"),
        (lambda: Mapping({"kind": FieldRule("a.b")}), "must start with"),
        (lambda: Mapping({"kind": FieldRule()}), "either a path or a constant"),
        (lambda: Mapping({"kind": FieldRule("$.a", constant="x")}), "either a path or a constant"),
        (lambda: Mapping({"kind": FieldRule("@.a")}), "needs `each`"),
        (lambda: Mapping({"kind": FieldRule("$.a", form="upper")}), "not a format"),
        (lambda: Unwrap("$.a", "zip"), "not a way to unwrap"),
    ],
)
def test_mappings_that_cannot_be_used_say_why(make: Any, why: str) -> None:
    with pytest.raises(MappingError, match=why):
        make()


@pytest.mark.parametrize("document", [{"batch": [{"payload": "{"}]}, {"batch": [{"payload": "[" * 5000}]}])
def test_a_document_that_does_not_fit_says_where(document: Any) -> None:
    (row,) = DRIFTLINE.apply(document)
    assert row.problem is not None
    assert "batch" in row.problem.what


def test_one_bad_inner_document_rejects_only_itself() -> None:
    mapping = Mapping(
        fields={"kind": FieldRule(path="$.kind", table={"back": "bounced"}), "recipient": FieldRule(path="$.to")},
        unwrap=(Unwrap("$.batch[*].payload", "json"),), rows="$.batch[*].payload",
    )  # fmt: skip
    good = json.dumps({"kind": "back", "to": "kim@tidepost.example"})
    odd = json.dumps({"kind": "perhaps", "to": "jo@tidepost.example"})
    rows = list(mapping.apply({"batch": [{"payload": good}, {"payload": "{"}, {"payload": odd}, {"payload": good}]}))
    assert [row.values.get("kind") for row in rows if row.problem is None] == ["bounced", "bounced"]
    assert "'perhaps'" in " ".join(row.problem.what for row in rows if row.problem), "an unknown word is named"


JSON = st.recursive(st.none() | st.booleans() | st.floats(allow_nan=False) | st.text(max_size=20) | st.integers(),
                    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4))  # fmt: skip


@given(JSON)
def test_any_document_is_mapped_or_refused(document: Any) -> None:
    try:
        rows = list(DRIFTLINE.apply({"batch": document}))
    except MappingError:
        return
    assert all(isinstance(row.values, dict) for row in rows)
