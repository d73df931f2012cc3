"""Signing in with an account at an OpenID Connect issuer: the stand-in that ships with the product."""

import threading
from collections.abc import Iterator
from datetime import timedelta
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx
import pytest

from rust_gauge.contract.people import TenantSettings
from rust_gauge.service.accounts import issuers
from rust_gauge.service.runtime.settings import SignInIssuer
from rust_gauge.standins.issuer import IssuerStandIn
from tests.conftest import PASSWORD, Office, World
from tests.service.test_people import person


@pytest.fixture
def issuer(world: World, office: Office) -> Iterator[IssuerStandIn]:
    """An issuer that vouches for the domain of the office's account."""
    domain = office.email.rpartition("@")[2]
    people = {office.email: "Isla", f"nobody@{domain}": "Nobody", "isla@tidepost.example": "Isla at home"}
    made = IssuerStandIn(0, people, "rust gauge", "se:cret%", (world.url,))
    now = int(world.clock().timestamp())
    made.claims = {"iat": now, "exp": now + 300}
    threading.Thread(target=made.serve_forever, daemon=True).start()
    known = world.context.settings.sign_in_issuers
    known["office"] = SignInIssuer(
        issuer=made.address, client_id="rust gauge", client_secret="se:cret%", title="Skerry ID", domains=[domain]
    )  # type: ignore[arg-type]
    kept, world.context.settings.public_url = world.context.settings.public_url, world.url
    yield made
    world.context.settings.public_url = kept
    del known["office"]
    made.shutdown()
    made.server_close()


def leave(world: World, browser: httpx.Client, **query: Any) -> str:
    """Begin to sign in; return the address of the issuer."""
    answer = browser.get(f"{world.url}/api/v1/session/issuers/office", params=query)
    assert answer.status_code == 302, answer.text
    return str(answer.headers["location"])


def choose(address: str, email: str) -> str:
    """Sign in at the issuer; return where it sends the browser."""
    answer = httpx.get(f"{address.replace('/authorize', '/approve')}&{urlencode({'person': email})}")
    return str(answer.headers["location"])


def arrive(world: World, browser: httpx.Client, email: str, **query: Any) -> str:
    """Go all the way; return the page that is shown."""
    return str(browser.get(choose(leave(world, browser, **query), email)).headers["location"])


def who(world: World, browser: httpx.Client) -> Any:
    return browser.get(f"{world.url}/api/v1/session").json()


def test_a_verified_address_of_a_vouched_domain_signs_in(office: Office, world: World, issuer: IssuerStandIn) -> None:
    options = httpx.get(f"{world.url}/api/v1/session/options").json()
    assert options["issuers"] == [{"name": "office", "title": "Skerry ID"}]
    with httpx.Client() as browser:
        assert arrive(world, browser, office.email, page="/worklist?tenant=x") == "/worklist?tenant=x"
        assert who(world, browser)["email"] == office.email
        assert not who(world, browser)["second_factor"]
        (identity,) = browser.get(f"{world.url}/api/v1/identities").json()["items"]
        assert (identity["title"], identity["email"]) == ("Skerry ID", office.email)
    with httpx.Client() as browser:  # it is linked now, whatever address the issuer states later
        issuer.claims["email"] = "new-name@elsewhere.example"
        assert arrive(world, browser, office.email) == "/"
        assert who(world, browser)["email"] == office.email


@pytest.mark.parametrize("claims", [{"email_verified": False}, {"email_verified": "true"}, {"email": ""}])
def test_an_address_that_is_not_verified_signs_nobody_in(
    office: Office, world: World, issuer: IssuerStandIn, claims: dict[str, Any]
) -> None:
    issuer.claims |= claims
    with httpx.Client() as browser:
        assert arrive(world, browser, office.email) == "/?problem=no-account"
        assert who(world, browser)["status"] == 401


def test_others_link_their_account_first(office: Office, world: World, issuer: IssuerStandIn) -> None:
    with httpx.Client() as browser:
        assert arrive(world, browser, "isla@tidepost.example") == "/?problem=no-account"
        browser.post(f"{world.url}/api/v1/session", json={"email": office.email, "password": PASSWORD})
        page = "/settings?section=account"
        assert arrive(world, browser, "isla@tidepost.example", link=True, page=page) == page
    with httpx.Client() as browser:
        assert arrive(world, browser, "isla@tidepost.example") == "/"
        (identity,) = browser.get(f"{world.url}/api/v1/identities").json()["items"]
        origin = {"Origin": world.url}
        assert browser.delete(f"{world.url}/api/v1/identities/{identity['id']}", headers=origin).status_code == 204
    with httpx.Client() as browser:
        assert arrive(world, browser, "isla@tidepost.example") == "/?problem=no-account"
        answer = browser.get(f"{world.url}/api/v1/session/issuers/office", params={"link": True})
        assert answer.status_code == 401


def test_a_tenant_that_requires_a_second_factor_believes_the_issuer_that_saw_one(
    office: Office, world: World, issuer: IssuerStandIn
) -> None:
    import pyotp

    with person(office) as client:
        secret = client.account.start_second_factor().secret
        client.account.confirm_second_factor(pyotp.TOTP(secret).at(world.clock()))
        client.people.set_settings(office.slug, TenantSettings(name="Glasswort", second_factor=True))
    with httpx.Client() as browser:
        arrive(world, browser, office.email)
        assert [tenant["slug"] for tenant in who(world, browser)["locked"]] == [office.slug]
        check, origin = f"{world.url}/api/v1/session/second-factor/check", {"Origin": world.url}
        assert browser.post(check, json={"code": "000000"}, headers=origin).status_code == 422
        with world.clock.later(timedelta(seconds=30)):
            code = pyotp.TOTP(secret).at(world.clock())
            assert browser.post(check, json={"code": code}, headers=origin).status_code == 204
        assert who(world, browser)["locked"] == []
    issuer.claims["amr"] = ["pwd", "mfa"]
    with httpx.Client() as browser:
        arrive(world, browser, office.email)
        assert who(world, browser)["locked"] == []


_WRONG: dict[str, dict[str, Any]] = {
    "another issuer": {"iss": "https://other.example"},
    "another audience": {"aud": "someone else"},
    "several audiences, authorised for another": {"aud": ["rust gauge", "x"], "azp": "x"},
    "expired": {"exp": 1_700_000_000},
    "another nonce": {"nonce": "x"},
    "nobody": {"sub": ""},
    "not a text": {"sub": 7},
}


@pytest.mark.parametrize("claims", _WRONG.values(), ids=_WRONG)
def test_a_token_that_is_not_for_this_signs_nobody_in(
    office: Office, world: World, issuer: IssuerStandIn, claims: dict[str, Any]
) -> None:
    issuer.claims |= claims
    with httpx.Client() as browser:
        assert arrive(world, browser, office.email) == "/?problem=issuer-failed"
        assert who(world, browser)["status"] == 401


def test_what_comes_back_belongs_to_the_browser_that_set_out(
    office: Office, world: World, issuer: IssuerStandIn
) -> None:
    with httpx.Client() as victim, httpx.Client() as other:
        back = choose(leave(world, other), office.email)
        assert victim.get(back).headers["location"] == "/?problem=issuer-failed"  # signed in as somebody else: no
        leave(world, victim)
        assert victim.get(back).headers["location"] == "/?problem=issuer-failed"
        back = choose(leave(world, other), office.email)
        with world.clock.later(timedelta(minutes=11)):
            assert other.get(back).headers["location"] == "/?problem=issuer-failed"
        query = parse_qs(urlsplit(leave(world, other)).query)
        refused = other.get(
            f"{world.url}/api/v1/session/issuers/office/return?error=access_denied&state={query['state'][0]}"
        )
        assert refused.headers["location"] == "/?problem=issuer-failed"


def test_a_code_works_once(office: Office, world: World, issuer: IssuerStandIn) -> None:
    with httpx.Client() as browser:
        address = leave(world, browser)
        cookies = dict(browser.cookies)
        back = choose(address, office.email)
        assert browser.get(back).headers["location"] == "/"
        again = httpx.get(back, cookies=cookies)
        assert again.headers["location"] == "/?problem=issuer-failed"


def test_a_new_key_of_the_issuer_is_found(office: Office, world: World, issuer: IssuerStandIn) -> None:
    with httpx.Client() as browser:
        assert arrive(world, browser, office.email) == "/"
        issuer.renew_key()
        with world.clock.later(timedelta(minutes=1)):
            assert arrive(world, browser, office.email) == "/"
        issuer.renew_key()  # at once: a stranger's token must not make us ask the issuer each time
        with world.clock.later(timedelta(minutes=1)):
            assert arrive(world, browser, office.email) == "/?problem=issuer-failed"


def test_an_issuer_that_is_away_is_a_problem(office: Office, world: World, issuer: IssuerStandIn) -> None:
    known = world.context.settings.sign_in_issuers
    known["office"] = known["office"].model_copy(update={"issuer": "http://127.0.0.1:1"})
    answer = httpx.get(f"{world.url}/api/v1/session/issuers/office")
    assert (answer.status_code, answer.json()["type"]) == (502, "/problems/issuer-failed")
    assert httpx.get(f"{world.url}/api/v1/session/issuers/another").status_code == 404


@pytest.mark.parametrize(
    ("page", "shown"),
    [("/readings?tenant=a#b", "/readings?tenant=a#b"), ("//evil.example", "/"), ("/\\evil.example", "/"),
     ("https://evil.example", "/"), ("/a\r\nSet-Cookie: x", "/"), ("", "/"), ("/" + "a" * 600, "/")],
)  # fmt: skip
def test_the_page_afterwards_is_one_of_ours(page: str, shown: str) -> None:
    assert issuers.own_page(page) == shown


@pytest.mark.parametrize("address", ["http://id.skerry.example", "ftp://id.skerry.example", "id.skerry.example"])
def test_an_issuer_has_an_https_address(address: str) -> None:
    with pytest.raises(ValueError, match="is not an https address"):
        SignInIssuer(issuer=address, client_id="x")
