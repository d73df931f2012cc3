"""Who may see what: sign-in, tokens, tenants kept apart, pages of other sites kept out."""

from datetime import timedelta

import httpx
import pytest

from rust_gauge.client import Client, NotAllowedError, NotFoundError
from tests.conftest import PASSWORD, Office, World, make_office
from tests.rows import bounce, ndjson


@pytest.fixture
def other(world: World) -> Office:
    return make_office(world)


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
    for _ in range(5):
        assert sign_in(office, "guess")[1].status_code == 401
    stopped = sign_in(office)[1]
    assert (stopped.status_code, stopped.headers["retry-after"]) == (429, "2")
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
    made = http.post("/api/v1/tokens", json={"name": "load", "tenants": [office.slug], "expires_in_days": 1})
    assert made.status_code == 201
    secret, id = made.json()["secret"], made.json()["id"]
    listed = http.get("/api/v1/tokens")
    assert secret not in listed.text
    assert [token["name"] for token in listed.json()["items"]] == ["test", "load"]
    with Client(world.url, token=secret) as client:
        assert [tenant.slug for tenant in client.who().tenants] == [office.slug]
        with world.clock.later(timedelta(days=2)), pytest.raises(NotAllowedError):
            client.who()
        client.who()
        http.delete(f"/api/v1/tokens/{id}")
        with pytest.raises(NotAllowedError):
            client.who()


def test_a_token_cannot_make_tokens_nor_one_for_a_strangers_tenant(office: Office, other: Office) -> None:
    with office.client() as client, pytest.raises(NotAllowedError, match="token cannot"):
        client.tokens.add("more")
    http, _ = sign_in(office)
    assert http.post("/api/v1/tokens", json={"name": "x", "tenants": [other.slug]}).status_code == 404
    theirs = sign_in(other)[0].get("/api/v1/tokens").json()["items"][0]["id"]
    assert http.delete(f"/api/v1/tokens/{theirs}").status_code == 404
