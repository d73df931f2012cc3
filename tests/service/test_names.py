"""Names that do not exist are refused with the nearest known one, and so are parameters that a call does not have."""

from typing import Any

import httpx
import pytest

from rust_gauge.client import Client
from rust_gauge.contract.feeds import FeedDefaults, NewFeed
from rust_gauge.contract.relays import RelayDescription
from tests.conftest import Office
from tests.rows import ndjson, row


@pytest.fixture
def furnished(office: Office, client: Client) -> Office:
    """An office with one of everything that has a name."""
    client.domains.add(office.slug, "news.d.example")
    client.relays.set(office.slug, "office-1", RelayDescription(own=True))
    client.feeds.add(office.slug, NewFeed(name="driftline", kind="http", defaults=FeedDefaults()))
    client.events.load(office.slug, ndjson(*(row(n, campaign="spring", tags=["vip"]) for n in range(3))))
    return office


def ask(office: Office, method: str, path: str, query: dict[str, Any], body: Any = None) -> httpx.Response:
    return httpx.request(
        method,
        f"{office.world.url}/api/v1/tenants/{office.slug}/{path}",
        params=query,
        json=body,
        headers={"Authorization": f"Bearer {office.token}"},
    )


@pytest.mark.parametrize(
    ("method", "path", "query", "nearest"),
    [
        ("GET", "domains/new.d.example", {}, "news.d.example"),
        ("POST", "domains/new.d.example/audits", {}, "news.d.example"),
        ("GET", "domains/new.d.example/plan", {}, "news.d.example"),
        ("GET", "flow", {"domain": "new.d.example"}, "news.d.example"),
        ("GET", "flow", {"stream": "newsleter"}, "newsletter"),
        ("GET", "flow", {"relay": "ofice-1"}, "office-1"),
        ("GET", "flow", {"campaign": "sprong"}, "spring"),
        ("GET", "flow", {"tag": "vip1"}, "vip"),
        ("GET", "events", {"domain": "new.d.example"}, "news.d.example"),
        ("GET", "events", {"stream": "newsleter"}, "newsletter"),
        ("GET", "events", {"relay": "ofice-1"}, "office-1"),
        ("GET", "events", {"provider": "tidepos.example"}, "tidepost.example"),
        ("GET", "readings", {"name": "new.d.example"}, "news.d.example"),
        ("GET", "readings", {"name": "newsleter", "subject": "stream"}, "newsletter"),
        ("GET", "readings", {"name": "ofice-1", "subject": "relay"}, "office-1"),
        ("GET", "readings/headroom", {"name": "new.d.example"}, "news.d.example"),
        ("GET", "suppression", {"stream": "newsleter"}, "newsletter"),
        ("GET", "suppression", {"provider": "tidepos.example"}, "tidepost.example"),
        ("GET", "feeds/driftlin", {}, "driftline"),
        ("GET", "feeds/driftlin/rejected-rows", {}, "driftline"),
        ("DELETE", "relays/ofice-1", {}, "office-1"),
    ],
    ids=lambda value: str(value)[:40],
)
def test_an_unknown_name_is_refused_with_the_nearest_known_one(
    furnished: Office, method: str, path: str, query: dict[str, Any], nearest: str
) -> None:
    answer = ask(furnished, method, path, query)
    problem = answer.json()
    assert (answer.status_code, problem["type"]) == (404, "/problems/not-found")
    assert problem["remedy"] == f"Did you mean {nearest}?"


def test_an_item_is_assigned_to_members_only(furnished: Office, client: Client) -> None:
    near = furnished.email.replace("office", "ofice")
    answer = httpx.get(
        f"{furnished.world.url}/api/v1/worklist",
        params={"assigned_to": near},
        headers={"Authorization": f"Bearer {furnished.token}"},
    )
    assert answer.status_code == 404
    assert answer.json()["remedy"] == f"Did you mean {furnished.email}?"
    assert client.worklist.list(assigned_to=furnished.email) == []


def test_a_rename_of_an_unknown_provider_is_refused_with_the_nearest(furnished: Office) -> None:
    answer = ask(furnished, "PATCH", "providers/tidepos.example", {}, {"label": "Tidepost"})
    assert answer.status_code == 404
    assert answer.json()["remedy"] == "Did you mean tidepost.example?"


@pytest.mark.parametrize(
    ("path", "parameter", "near"),
    [("suppression", "reasons", "reason"), ("events", "recipients", "recipient"), ("flow", "streams", "stream")],
)
def test_a_misspelt_parameter_is_refused(office: Office, path: str, parameter: str, near: str) -> None:
    answer = ask(office, "GET", path, {parameter: "x"})
    assert (answer.status_code, answer.json()["type"]) == (422, "/problems/invalid-request")
    assert answer.json()["errors"] == [
        {
            "line": None,
            "field": parameter,
            "what": "Unknown parameter",
            "remedy": f"Did you mean {near}?",
        }
    ]


def test_every_route_of_the_api_refuses_an_unknown_parameter(office: Office) -> None:
    document = httpx.get(f"{office.world.url}/api/v1/openapi.json", timeout=60).json()
    taken = []
    http = httpx.Client(timeout=60)  # one for all: making one reads every certificate authority
    for path, operations in document["paths"].items():
        for method, operation in operations.items():
            filled = path.replace("{tenant}", office.slug).replace("{name}", "d.example")
            for parameter in operation.get("parameters", []):
                filled = filled.replace("{" + parameter["name"] + "}", "1")
            if path.startswith("/api/v1/"):
                answer = http.request(
                    method.upper(),
                    office.world.url + filled,
                    params={"no_such_parameter": "1"},
                    headers={"Authorization": f"Bearer {office.token}"},
                )
                if answer.status_code != 422 or "no_such_parameter" not in answer.text:
                    taken.append((method, path, answer.status_code))
    http.close()
    assert taken == []
