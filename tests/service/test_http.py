"""What every answer has: problems, ids, headers, health, the document, the console's pages."""

import httpx
import pytest
from jsonschema import Draft202012Validator
from referencing import Registry, Resource
from referencing.jsonschema import DRAFT202012

from rust_gauge.client import Client
from rust_gauge.contract.events import NewEvent
from rust_gauge.contract.feeds import NewFeed
from rust_gauge.service.http import application as service_app
from rust_gauge.store.migrate import is_current
from tests.conftest import Office, World


def test_health_and_readiness(world: World) -> None:
    assert httpx.get(f"{world.url}/healthz").json()["status"] == "running"
    assert httpx.get(f"{world.url}/readyz").json() == {"status": "ready"}


@pytest.mark.parametrize(("path", "status"), [("/", 200), ("/healthz", 200), ("/readyz", 200), ("/api/v1/wall", 405)])
def test_head_is_answered_where_it_makes_sense(world: World, path: str, status: int) -> None:
    answer = httpx.head(f"{world.url}{path}")
    assert (answer.status_code, answer.content) == (status, b"")


def test_every_answer_has_an_id_and_guards_the_browser(world: World) -> None:
    answers = [httpx.get(f"{world.url}{path}") for path in ("/healthz", "/api/v1/session", "/")]
    ids = {answer.headers["x-request-id"] for answer in answers}
    assert len(ids) == 3
    for answer in answers:
        assert answer.headers["x-content-type-options"] == "nosniff"
        assert "default-src 'self'" in answer.headers["content-security-policy"]
    assert answers[1].headers["cache-control"] == "no-store"
    assert answers[1].json()["instance"] == answers[1].headers["x-request-id"]


@pytest.mark.parametrize(
    ("method", "path", "status", "slug"),
    [
        ("GET", "/api/v1/nothing", 404, "not-found"),
        ("PUT", "/api/v1/session", 405, "method-not-allowed"),
        ("GET", "/api/v1/wall?days=0", 422, "invalid-request"),
        ("GET", "/api/v1/wall?days=x", 422, "invalid-request"),
    ],
)
def test_problems_are_rfc_9457_documents(office: Office, method: str, path: str, status: int, slug: str) -> None:
    headers = {"Authorization": f"Bearer {office.token}"}
    answer = httpx.request(method, office.world.url + path, headers=headers)
    assert answer.status_code == status
    assert answer.headers["content-type"] == "application/problem+json"
    problem = answer.json()
    assert (problem["type"], problem["status"]) == (f"/problems/{slug}", status)
    assert problem["title"] in httpx.get(office.world.url + problem["type"]).text


@pytest.mark.parametrize(
    ("body", "slug"), [(b"{", "not-json"), (b"[]", "invalid-request"), (b'{"email": "a"}', "invalid-request")]
)
def test_a_body_that_is_wrong_names_its_fields(world: World, body: bytes, slug: str) -> None:
    answer = httpx.post(f"{world.url}/api/v1/session", content=body, headers={"Content-Type": "application/json"})
    assert answer.json()["type"] == f"/problems/{slug}"


def test_a_long_body_is_refused_before_it_is_read(world: World) -> None:
    body = b'{"email": "' + b"x" * 3_000_000 + b'"}'
    answer = httpx.post(f"{world.url}/api/v1/session", content=body, headers={"Content-Type": "application/json"})
    assert (answer.status_code, answer.json()["type"]) == (413, "/problems/too-large")


def test_the_document_is_openapi_3_1_with_examples(world: World) -> None:
    document = httpx.get(f"{world.url}/api/v1/openapi.json", timeout=60).json()
    assert document["openapi"].startswith("3.1")
    bodies = document["paths"]["/api/v1/tenants/{tenant}/events/stream"]["post"]["requestBody"]["content"]
    assert NewEvent.model_validate_json(bodies["application/x-ndjson"]["example"]).kind == "bounced"


def test_every_example_is_one_that_its_schema_accepts(world: World) -> None:
    schemas = httpx.get(f"{world.url}/api/v1/openapi.json", timeout=60).json()["components"]["schemas"]
    registry = Registry().with_resource("urn:api", Resource({"components": {"schemas": schemas}}, DRAFT202012))
    without, wrong = [], {}
    for name, schema in schemas.items():
        examples = schema.get("examples", [schema["example"]] if "example" in schema else [])
        if not examples:
            without.append(name)
        validator = Draft202012Validator({"$ref": f"urn:api#/components/schemas/{name}"}, registry=registry)
        for error in (error for example in examples for error in validator.iter_errors(example)):
            wrong[name] = error.message
    assert (without, wrong) == ([], {})


def test_no_path_leads_out_of_the_consoles_folder(world: World) -> None:
    for path in ("/../app.py", "/%2e%2e/app.py", "/..%2fapp.py", "/assets/..%2f..%2fapp.py"):
        answer = httpx.get(world.url + path)
        assert "create_app" not in answer.text


def test_an_error_of_ours_shows_no_traceback(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object) -> None:
        raise RuntimeError("secret detail")

    monkeypatch.setattr("rust_gauge.service.accounts.sessions.sign_in", broken)
    answer = httpx.post(f"{world.url}/api/v1/session", json={"email": "a@b.example", "password": "x"})
    assert (answer.status_code, answer.json()["type"]) == (500, "/problems/internal")
    assert "secret" not in answer.text
    assert answer.headers["x-request-id"] == answer.json()["instance"]


def test_an_old_schema_is_not_ready(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    assert is_current(world.context.store)
    monkeypatch.setattr(service_app, "is_current", lambda store: False)
    assert httpx.get(f"{world.url}/readyz").status_code == 503


def test_metrics_say_what_goes_on_to_this_machine_only(office: Office, client: Client) -> None:
    client.domains.add(office.slug, "d.example")
    client.feeds.add(office.slug, NewFeed(name="box", kind="http"))
    url = f"{office.world.url}/metrics"
    found = {
        name: value for line in httpx.get(url).text.splitlines() if not line.startswith("#")
        for name, _, value in [line.rpartition(" ")]
    }  # fmt: skip
    assert float(found["rustgauge_database_up"]) == 1
    route = "/api/v1/tenants/{tenant}/domains"
    assert float(found[f'rustgauge_requests_total{{method="POST",route="{route}",status="201"}}']) >= 1
    assert found[f'rustgauge_feed_failing{{feed="box",tenant="{office.slug}"}}'] == "0.0"
    assert 0 < float(found["rustgauge_disk_used_ratio"]) < 1
    assert "rustgauge_jobs_oldest_seconds" in found
    forwarded = httpx.get(url, headers={"X-Forwarded-For": "127.0.0.1"})
    assert (forwarded.status_code, forwarded.json()["remedy"]) == (401, "Set metrics_token")
