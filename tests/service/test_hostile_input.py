"""Anything may come in: it is stored or rejected with a reason, in bounded time, and never as a traceback."""

import json
from typing import Any

import httpx
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rust_gauge.service.intake.rows import read_row
from tests.conftest import TODAY, Office
from tests.rows import row

JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=30),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=8,
)
FIELDS = [*row(), "id", "reply_code", "enhanced_code", "diagnostic", "cause", "permanence", "sending_ip", "attempt"]


@given(st.dictionaries(st.sampled_from(FIELDS), JSON, max_size=4))
def test_any_value_in_any_field_is_taken_or_refused_with_that_field(changes: dict[str, Any]) -> None:
    event, _, errors = read_row({**row(), **changes}, False, 7, TODAY)
    assert (event is None) == bool(errors)
    for error in errors:
        assert error.line == 7
        assert error.what
        assert error.field.partition(".")[0] in changes


@given(st.binary(max_size=200))
def test_any_octets_as_a_line_are_taken_or_refused(line: bytes) -> None:
    event, _, errors = read_row(line, True, 1, TODAY)
    assert event is not None or errors


@given(st.text(max_size=4000), st.integers(200, 599))
def test_any_diagnostic_gives_an_event_with_a_cause(text: str, code: int) -> None:
    event, _, errors = read_row(row(kind="bounced", diagnostic=text, reply_code=code), False, 1, TODAY)
    assert event is not None or errors[0].field == "diagnostic"


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=25, deadline=None)
@given(st.lists(st.dictionaries(st.sampled_from(FIELDS), JSON, max_size=2) | JSON, max_size=5))
def test_no_load_makes_the_service_fail(office: Office, rows: list[Any]) -> None:
    values = [{**row(n), **each} if isinstance(each, dict) else each for n, each in enumerate(rows)]
    try:
        body = json.dumps(values, allow_nan=True).encode()
    except UnicodeEncodeError:
        return
    answer = httpx.post(
        f"{office.world.url}/api/v1/tenants/{office.slug}/events",
        content=body,
        headers={"Authorization": f"Bearer {office.token}", "Content-Type": "application/json"},
        timeout=60,
    )
    assert answer.status_code in (200, 400, 422)
    if answer.status_code == 200:
        result = answer.json()
        assert result["stored"] + result["duplicates"] + result["rejected"] == result["received"] == len(values)


LONG = "x" * 5000


@pytest.mark.parametrize(
    ("method", "path", "query"),
    [
        ("GET", "domains", {"limit": 0}),
        ("GET", "domains", {"limit": 10_000}),
        ("GET", "domains", {"cursor": LONG}),
        ("GET", f"domains/{LONG[:900]}", {}),
        ("GET", "events", {"recipient": LONG}),
        ("GET", "events", {"recipient": "nobody"}),
        ("GET", "events", {"kind": "posted"}),
        ("GET", "events", {"since": "yesterday"}),
        ("GET", "events", {"since": "2026-11-20T00:00:00"}),
        ("GET", "suppression", {"address": "nobody"}),
        ("GET", "suppression", {"cursor": "WzEsMl0"}),
        ("GET", "flow", {"first": "2026-13-01"}),
        ("GET", "domains/d.example/audits/0", {}),
        ("GET", "readings", {"name": "d.example", "provider": LONG}),
        ("GET", "readings", {"name": LONG}),
        ("GET", "readings", {"name": "d.example", "last": "0001-01-01"}),
        ("GET", "readings", {"name": "d.example", "first": "9999-12-31"}),
        ("GET", "readings/explanation", {"name": "d.example", "first": "0001-01-01", "last": "0001-01-02"}),
        ("GET", "annotations", {"last": "0001-01-01"}),
        ("GET", "flow", {"last": "0001-01-01"}),
        ("GET", "events", {"since": "0001-01-01T00:00:00+14:00"}),
        ("GET", "events", {"until": "9999-12-31T23:59:59-14:00"}),
        ("GET", "events", {"ip": "192.0.2.300"}),
        ("GET", "suppression/growth", {"first": "0001-01-01"}),
        ("GET", "../../wall", {"last": "0001-01-01"}),
        ("GET", "../../worklist", {"on": "9999-12-31"}),
    ],
    ids=lambda value: str(value)[:40],
)
def test_a_parameter_that_is_wrong_is_a_clear_problem(
    office: Office, method: str, path: str, query: dict[str, Any]
) -> None:
    answer = httpx.request(
        method,
        f"{office.world.url}/api/v1/tenants/{office.slug}/{path}",
        params=query,
        headers={"Authorization": f"Bearer {office.token}"},
    )
    assert answer.status_code in (400, 404, 422)
    problem = answer.json()
    assert problem["title"]
    assert problem["status"] == answer.status_code
    assert len(answer.text) < 3000  # what was sent is not thrown back whole


@pytest.mark.parametrize("value", ["0", "0.5", "1700000000", "-1", " 7 ", "1e3", "", "."])
@pytest.mark.parametrize(
    "query", ["worklist?on={}", "tenants/{tenant}/audit-log?until={}", "tenants/{tenant}/flow?last={}"]
)
def test_a_number_is_not_a_date(office: Office, query: str, value: str) -> None:
    path = query.format(value, tenant=office.slug)
    answer = httpx.get(f"{office.world.url}/api/v1/{path}", headers={"Authorization": f"Bearer {office.token}"})
    assert answer.status_code == 422, answer.text
