"""Signing in without a password, in a browser: a passkey of Chromium's own authenticator, and an issuer."""

from urllib.parse import urlsplit

from playwright.sync_api import BrowserContext, expect

from rust_gauge.standins.issuer import IssuerStandIn
from tests.conftest import PASSWORD, Office, World
from tests.service.test_issuers import issuer

__all__ = ["issuer"]  # the fixture


def test_a_passkey_is_added_and_signs_in(visit: BrowserContext, office: Office, world: World) -> None:
    port = urlsplit(world.url).port
    kept, world.context.settings.port = world.context.settings.port, port or 0
    origin = f"http://localhost:{port}"
    page = visit.new_page()
    devices = visit.new_cdp_session(page)
    devices.send("WebAuthn.enable")
    options = {"protocol": "ctap2", "transport": "internal", "hasResidentKey": True, "hasUserVerification": True,
               "isUserVerified": True, "automaticPresenceSimulation": True}  # fmt: skip
    devices.send("WebAuthn.addVirtualAuthenticator", {"options": options})
    try:
        page.goto(f"{origin}/settings/account")
        page.get_by_label("Email address").fill(office.email)
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in", exact=True).click()
        page.get_by_label("Name").fill("laptop")
        page.get_by_label("Your password").fill(PASSWORD)
        page.get_by_role("button", name="Add passkey").click()
        expect(page.get_by_role("table", name="Passkeys")).to_contain_text("laptop")
        visit.clear_cookies()
        page.goto(f"{origin}/settings/account")
        page.get_by_role("button", name="Sign in with a passkey").click()
        expect(page.get_by_role("table", name="Passkeys")).to_contain_text("just now")
    finally:
        world.context.settings.port = kept


def test_an_account_elsewhere_signs_in_and_comes_back_to_the_page(
    visit: BrowserContext, office: Office, issuer: IssuerStandIn
) -> None:
    page = visit.new_page()
    page.goto("/settings/account")
    page.get_by_role("button", name="Sign in with Skerry ID").click()
    expect(page.get_by_role("heading", name="Skerry ID")).to_be_visible()
    page.get_by_role("link", name="Nobody").click()
    expect(page.get_by_text("No account here is linked to yours there")).to_be_visible()
    page.goto("/settings/account")
    page.get_by_role("button", name="Sign in with Skerry ID").click()
    page.get_by_role("link", name="Isla", exact=True).click()
    expect(page.get_by_role("table", name="Linked accounts")).to_contain_text(office.email)
    page.get_by_role("button", name="Unlink").click()
    expect(page.get_by_role("table", name="Linked accounts")).to_have_count(0)
