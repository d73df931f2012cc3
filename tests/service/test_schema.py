"""Calls made up from the OpenAPI document (a short form of `make attack`): each answer is one that it declares.

As an admin of a tenant that has a domain, events, a feed and an annotation; names that exist are used in most calls.
"""

import datetime
from typing import Any

import attack.serializers  # noqa: F401  how bodies of our own kinds are sent
import pytest
import schemathesis
from attack.schema import NOT_CALLED
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis.errors import Unsatisfiable
from schemathesis.checks import not_a_server_error
from schemathesis.generation import GenerationMode
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from rust_gauge.contract.feeds import NewFeed
from rust_gauge.contract.readings import NewAnnotation
from rust_gauge.service.app import create_app
from tests.conftest import World, make_office
from tests.rows import bounce, ndjson, row

CHECKS = [not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance]
MADE_UP = 5  # one in so many names of a path is not one that exists


@pytest.mark.parametrize("mode", [GenerationMode.POSITIVE, GenerationMode.NEGATIVE], ids=lambda mode: mode.value)
def test_every_call_is_answered_as_the_document_says(world: World, mode: GenerationMode) -> None:
    office = make_office(world)  # of its own: nothing of what is made up here is in the way of another test
    with office.client() as client:
        client.domains.add(office.slug, "news.d.example")
        client.events.load(office.slug, ndjson(*(row(n) for n in range(20)), bounce(30)))
        client.feeds.add(office.slug, NewFeed(name="web", kind="http"))
        client.readings.add_annotation(office.slug, NewAnnotation(day=datetime.date(2026, 11, 20), text="a new key"))
    names: dict[str, Any] = {"tenant": office.slug, "name": "news.d.example", "relay": "office-1", "id": 1}
    schema = schemathesis.openapi.from_dict(create_app(None).openapi())
    called, wrong = 0, []
    for found in schema.get_all_operations():
        operation = found.ok()  # type: ignore[union-attr]
        if operation.definition.raw["operationId"] in NOT_CALLED:
            continue

        @seed(20261130)
        @settings(max_examples=1, database=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
        @given(operation.as_strategy(mode))
        def call(case: Any) -> None:
            nonlocal called
            called += 1
            for name, value in names.items():
                if name in case.path_parameters and called % MADE_UP:
                    case.path_parameters[name] = "web" if "/feeds/" in case.path and name == "name" else value
            case.call_and_validate(
                world.url, headers={"Authorization": f"Bearer {office.token}"}, checks=CHECKS, timeout=60
            )

        try:
            call()
        except Unsatisfiable:  # nothing about it can be wrong
            continue
        except Exception as error:  # each operation by itself, and all of them in one report
            wrong.append(f"{operation.label}: {error}")
    assert not wrong, "\n\n".join(wrong)
    assert called > 150
