"""Who may see what: sign-in, tokens, tenants kept apart, pages of other sites kept out."""

from datetime import timedelta

import httpx
import pytest

from rust_gauge.client import Client, NotAllowedError, NotFoundError
from tests.conftest import PASSWORD, Office, World
from tests.rows import bounce, ndjson


@pytest.fixture
def other(world: World, request: pytest.FixtureRequest) -> Office:
    from tests.conftest import office as make

    return make.__wrapped__(world)  # type: ignore[attr-defined, no-any-return]


def sign_in(office: Office, password: str = PASSWORD, **headers: str) -> tuple[httpx.Client, httpx.Response]:
    http = httpx.Client(base_url=office.world.url)
    return http, http.post("/api/v1/session", json={"email": office.email, "password": password}, headers=headers)


def test_a_person_signs_in_and_out(office: Office) -> None:
    http, response = sign_in(office)
    assert response.status_code == 200
    assert [tenant["slug"] for tenant in response.json()["tenants"]] == [office.slug]
    cookie = response.headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=strict" in cookie
    assert http.get("/api/v1/session").json()["email"] == office.email
    assert http.delete("/api/v1/session").status_code == 204
    assert http.get("/api/v1/session").status_code == 401


def test_a_session_is_worthless_after_signing_out_even_if_the_cookie_was_kept(office: Office) -> None:
    http, _ = sign_in(office)
    kept = dict(http.cookies)
    http.delete("/api/v1/session")
    assert httpx.get(f"{office.world.url}/api/v1/session", cookies=kept).status_code == 401


def test_a_session_ends_by_itself(office: Office) -> None:
    http, _ = sign_in(office)
    with office.world.clock.later(timedelta(hours=13)):
        assert http.get("/api/v1/session").status_code == 401


@pytest.mark.parametrize("email", ["", "x@nowhere.example"])
def test_a_wrong_password_and_an_unknown_address_look_the_same(office: Office, email: str) -> None:
    body = {"email": email or office.email, "password": "wrong"}
    response = httpx.post(f"{office.world.url}/api/v1/session", json=body)
    assert (response.status_code, response.json()["type"]) == (401, "/problems/wrong-password")
    assert "wrong" not in response.text.replace("wrong-password", "")


def test_guessing_is_stopped_and_forgiven_after_a_while(office: Office) -> None:
    for _ in range(10):
        assert sign_in(office, "guess")[1].status_code == 401
    assert sign_in(office)[1].status_code == 429
    with office.world.clock.later(timedelta(minutes=16)):
        assert sign_in(office)[1].status_code == 200


@pytest.mark.parametrize(
    "headers",
    [{"Origin": "https://evil.example"}, {"Sec-Fetch-Site": "cross-site"}, {"Origin": "null"}],
)
def test_another_sites_page_can_change_nothing_with_the_cookie(office: Office, headers: dict[str, str]) -> None:
    http, _ = sign_in(office)
    path = f"/api/v1/tenants/{office.slug}/domains"
    refused = http.post(path, json={"name": "d.example"}, headers=headers)
    assert (refused.status_code, refused.json()["type"]) == (403, "/problems/cross-site")
    assert http.post(path, json={"name": "d.example"}, headers={"Origin": office.world.url}).status_code == 201
    assert sign_in(office, **headers)[1].status_code == 403


ROUTES = [
    ("GET", "domains", None),
    ("POST", "domains", {"name": "a.example"}),
    ("GET", "domains/d.example", None),
    ("PATCH", "domains/d.example", {"selectors": []}),
    ("DELETE", "domains/d.example", None),
    ("POST", "domains/d.example/audits", None),
    ("GET", "domains/d.example/audits", None),
    ("GET", "domains/d.example/audits/newest", None),
    ("GET", "domains/d.example/audits/1", None),
    ("GET", "domains/d.example/audits/compare", None),
    ("GET", "domains/d.example/history", None),
    ("POST", "spf-trials", {"ip": "192.0.2.1"}),
    ("POST", "message-checks", None),
    ("GET", "relays", None),
    ("POST", "proofs", {"subject": "d.example"}),
    ("GET", "proofs", None),
    ("POST", "proofs/1/check", None),
    ("POST", "proofs/1/code", {"code": "ABC"}),
    ("GET", "senders", None),
    ("GET", "update-servers", None),
    ("PUT", "update-servers/d.example", {"address": "192.0.2.53", "key_name": "k.example", "secret": "QUJD"}),
    ("DELETE", "update-servers/d.example", None),
    ("POST", "domains/d.example/plan/changes", {}),
    ("POST", "domains/d.example/publications", {}),
    ("GET", "domains/d.example/publications", None),
    ("POST", "publications/1/roll-back", None),
    ("POST", "domains/d.example/watches", {}),
    ("GET", "domains/d.example/watches", None),
    ("GET", "watches/1", None),
    ("POST", "watches/1/stop", None),
    ("GET", "flow/causes", None),
    ("GET", "flow/days", None),
    ("GET", "flow/names", None),
    ("GET", "flow/comparison", None),
    ("GET", "wordings", None),
    ("GET", "shifts", None),
    ("GET", "shifts/1", None),
    ("GET", "flow-settings", None),
    ("PUT", "flow-settings", {}),
    ("GET", "recipient-data", None),
    ("GET", "erasures", None),
    ("POST", "erasures", {"address": "a@b.example"}),
    ("GET", "cause-rules", None),
    ("GET", "cause-rules/shipped", None),
    ("PUT", "cause-rules", {"version": 0, "rules": []}),
    ("POST", "cause-rules/trial", {"rules": []}),
    ("POST", "cause-rules/application", None),
    ("DELETE", "cause-rules/application", None),
    ("GET", "feeds", None),
    ("POST", "feeds", {"name": "a", "kind": "http"}),
    ("GET", "feeds/a", None),
    ("PATCH", "feeds/a", {"paused": True}),
    ("DELETE", "feeds/a", None),
    ("GET", "feeds/a/refused", None),
    ("POST", "feeds/a/refused/replay", None),
    ("POST", "feeds/a/events", {}),
    ("DELETE", "feeds/a/refused", None),
    ("POST", "mapping-trials", {"sample": "{}"}),
    ("GET", "webhooks", None),
    ("POST", "webhooks", {"name": "desk", "url": "https://desk.example/"}),
    ("PATCH", "webhooks/1", {"paused": True}),
    ("DELETE", "webhooks/1", None),
    ("POST", "webhooks/1/test", None),
    ("GET", "webhooks/1/calls", None),
    ("POST", "webhooks/1/replay", None),
    ("POST", "watches/1/look", None),
    ("GET", "watch-settings", None),
    ("PUT", "watch-settings", {}),
    ("PUT", "relays/office-1", {}),
    ("DELETE", "relays/office-1", None),
    ("GET", "domains/d.example/plan", None),
    ("POST", "domains/d.example/plan/checks", None),
    ("PUT", "domains/d.example/plan/settings", {}),
    ("POST", "domains/d.example/plan/keys", {"selector": "s1"}),
    ("POST", "feedback-reports", None),
    ("POST", "batches", {"names": ["a.example"]}),
    ("GET", "batches", None),
    ("GET", "batches/1", None),
    ("POST", "batches/1/cancel", None),
    ("POST", "batches/1/resume", None),
    ("GET", "batches/1/results", None),
    ("GET", "audit-settings", None),
    ("PUT", "audit-settings", {"lists": []}),
    ("GET", "readings?name=d.example", None),
    ("GET", "readings/moved?name=d.example&first=2026-11-01&last=2026-11-02", None),
    ("POST", "readings/ahead?name=d.example", {}),
    ("GET", "readings/room?name=d.example", None),
    ("GET", "readings/settings", None),
    ("PUT", "readings/settings", {}),
    ("DELETE", "readings/settings", None),
    ("GET", "worklist/1", None),
    ("POST", "worklist/1", {"act": "mind"}),
    ("POST", "worklist-look", None),
    ("GET", "people", None),
    ("GET", "lines", None),
    ("GET", "alert-settings", None),
    ("PUT", "alert-settings", {}),
    ("GET", "told", None),
    ("GET", "reports", None),
    ("POST", "reports", None),
    ("GET", "brakes", None),
    ("POST", "brakes", {"stream": "a", "relay": "b", "why": "c"}),
    ("POST", "brakes/releases", {"stream": "a", "relay": "b", "why": "c"}),
    ("GET", "marks", None),
    ("POST", "marks", {"day": "2026-11-20", "text": "x"}),
    ("DELETE", "marks/1", None),
    ("POST", "events", []),
    ("GET", "events", None),
    ("GET", "flow", None),
    ("GET", "providers", None),
    ("PATCH", "providers/tidepost.example", {"label": "x"}),
    ("GET", "suppression", None),
    ("GET", "suppression/count", None),
    ("GET", "suppression/export", None),
    ("POST", "suppression", {"addresses": ["person1@tidepost.example"]}),
    ("POST", "suppression/lifts", {"address": "person1@tidepost.example", "why": "a guess"}),
    ("POST", "suppression/decisions", {"ids": ["x"], "confirm": True}),
    ("GET", "suppression/status", None),
    ("GET", "suppression/changes", None),
    ("GET", "suppression/growth", None),
    ("GET", "suppression/policy", None),
    ("PUT", "suppression/policy", {"rules": [{"name": "all", "act": "nothing"}]}),
    ("DELETE", "suppression/policy", None),
    ("GET", "suppression/matching", None),
    ("PUT", "suppression/matching", {"fold_case": False}),
    ("POST", "clearance/stream", None),
    ("POST", "suppression/imports", {}),
    ("POST", "suppression/policy/trials", {"policy": {"rules": [{"name": "all", "act": "nothing"}]}}),
    ("POST", "list-checks", {}),
    ("GET", "tasks", None),
    ("GET", "tasks/1", None),
    ("PUT", "tasks/1/pieces/0", None),
    ("POST", "tasks/1/run", {}),
    ("POST", "tasks/1/stop", None),
    ("GET", "tasks/1/parts/clear", None),
    ("POST", "address-checks", {"addresses": ["person1@tidepost.example"]}),
    ("GET", "address-words", None),
    ("PUT", "address-words", {}),
    ("POST", "unsubscribe-links", {"recipients": ["person1@tidepost.example"], "domain": "d.example"}),
    ("GET", "unsubscribes", None),
    ("GET", "gates", None),
    ("POST", "gates", {"name": "mta"}),
    ("DELETE", "gates/1", None),
    ("POST", "clearance", {"addresses": ["person1@tidepost.example"]}),
]


@pytest.mark.parametrize(("method", "path", "body"), ROUTES, ids=[f"{m} {p}" for m, p, _ in ROUTES])
def test_no_route_works_for_a_stranger_or_for_another_tenant(
    office: Office, other: Office, method: str, path: str, body: object
) -> None:
    url = f"{office.world.url}/api/v1/tenants/{office.slug}/{path}"
    for headers, status in (
        ({}, 401),
        ({"Authorization": "Bearer rgt_guess"}, 401),
        ({"Authorization": f"Bearer {other.token}"}, 404),
    ):
        response = httpx.request(method, url, json=body, headers=headers)
        assert response.status_code == status
        assert response.headers["content-type"] == "application/problem+json"


def test_every_route_of_a_tenant_is_in_the_table_above(world: World) -> None:
    paths = httpx.get(f"{world.url}/api/v1/openapi.json", timeout=60).json()["paths"]
    filled = {
        (method.upper(), path.partition("/tenants/{tenant}/")[2])
        for path, methods in paths.items()
        if "{tenant}" in path
        for method in methods
    }
    table = {
        (
            m,
            p.partition("?")[0]
            .replace("update-servers/d.example", "update-servers/{zone}")
            .replace("d.example", "{name}")
            .replace("tidepost.example", "{provider}")
            .replace("relays/office-1", "relays/{relay}")
            .replace("feeds/a", "feeds/{name}")
            .replace("/1", "/{id}")
            .replace("pieces/0", "pieces/{number}")
            .replace("parts/clear", "parts/{part}"),
        )
        for m, p, _ in ROUTES
    }
    assert table == filled


def test_what_one_tenant_loads_no_other_can_find(office: Office, other: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(1)))
    client.domains.add(office.slug, "d.example")
    with other.client() as theirs:
        answers = theirs.suppression.clearance(other.slug, ["person1@tidepost.example"])
        assert answers.held == 0
        assert list(theirs.events.list(other.slug)) == []
        assert list(theirs.domains.list(other.slug)) == []
        assert theirs.readings.wall().rows == []
        with pytest.raises(NotFoundError):
            theirs.readings.wall(tenant=office.slug)


def test_a_token_is_listed_without_its_secret_and_can_be_dropped(office: Office, world: World) -> None:
    http, _ = sign_in(office)
    made = http.post("/api/v1/tokens", json={"name": "load", "tenant": office.slug, "expires_in_days": 1})
    assert made.status_code == 201
    secret, id = made.json()["secret"], made.json()["id"]
    listed = http.get("/api/v1/tokens")
    assert secret not in listed.text
    assert [token["name"] for token in listed.json()] == ["test", "load"]
    with Client(world.url, token=secret) as client:
        assert [tenant.slug for tenant in client.who().tenants] == [office.slug]
        with world.clock.later(timedelta(days=2)), pytest.raises(NotAllowedError):
            client.who()
        client.who()
        http.delete(f"/api/v1/tokens/{id}")
        with pytest.raises(NotAllowedError):
            client.who()


def test_a_token_cannot_make_tokens_nor_one_for_a_strangers_tenant(office: Office, other: Office) -> None:
    with office.client() as client, pytest.raises(NotFoundError):
        client.tokens.make("more")
    http, _ = sign_in(office)
    assert http.post("/api/v1/tokens", json={"name": "x", "tenant": other.slug}).status_code == 404
    theirs = sign_in(other)[0].get("/api/v1/tokens").json()[0]["id"]
    assert http.delete(f"/api/v1/tokens/{theirs}").status_code == 404
