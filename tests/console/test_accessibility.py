"""Every page in both themes, examined by axe-core (WCAG 2.2 A and AA, and its best practices)."""

import json
from pathlib import Path

from playwright.sync_api import Browser, Page, expect

from tests.conftest import PASSWORD, Office
from tests.console.test_console import PAGES as CONSOLE_PAGES
from tests.console.test_console import mail  # noqa: F401

AXE = Path(__file__).resolve().parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"
PAGES = (
    *CONSOLE_PAGES,
    "/flow?view=causes",
    "/flow?view=trails",
    "/flow?view=compare",
    "/flow?view=feeds",
    "/flow?view=warmup",
    "/suppression?view=verifiers",
    "/bench",
    "/bench?view=placement",
    "/report",
    "/suppression?view=growth",
    "/settings/reports",
    "/settings/members",
    "/settings/audit-log",
    "/settings/account",
    "DOMAIN?view=setup",
    "/docs/suppression",
    "/docs?find=bounce",
    "/nowhere",
)
RUN = "async (options) => (await axe.run(document, options)).violations"
ALL: dict[str, object] = {"resultTypes": ["violations"]}
CONTRAST = ALL | {"runOnly": ["color-contrast"]}  # all that a theme can change


def problems(page: Page, where: str) -> list[str]:
    """What axe finds on a page as it is now, in both themes."""
    page.add_script_tag(path=str(AXE))
    found = []
    for theme, options in (("light", ALL), ("dark", CONTRAST)):
        page.emulate_media(color_scheme=theme)  # type: ignore[arg-type]
        for each in page.evaluate(RUN, options):
            found += [
                f"{where}, {theme}: {each['id']}: {json.dumps(node['target'])} {node['html'][:160]}"
                for node in each["nodes"]
            ]
    page.emulate_media(color_scheme="light")
    return found


def test_axe_finds_nothing_on_any_page_in_either_theme(browser: Browser, office: Office, mail: str) -> None:  # noqa: F811
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, base_url=office.world.url, bypass_csp=True, reduced_motion="reduce"
    )
    context.set_default_timeout(60_000)
    expect.set_options(timeout=60_000)
    assert context.request.post("/api/v1/session", data={"email": office.email, "password": PASSWORD}).ok
    page = context.new_page()
    found: list[str] = []
    for path in PAGES:
        page.goto(path.replace("DOMAIN", f"/domains/{office.slug}/{mail}"))
        expect(page.locator("main :is(h1, article)").first).to_be_visible()
        expect(page.locator("[aria-busy=true]")).to_have_count(0)
        found += problems(page, path)
    page.goto("/report")
    page.get_by_role("button", name="Share", exact=True).click()
    expect(page.get_by_role("button", name="Make a link")).to_be_visible()
    found += problems(page, "sharing a report")
    page.goto("/flow")
    page.get_by_role("button", name="About Delivered").click()
    expect(page.get_by_role("dialog", name="About Delivered")).to_be_visible()
    found += problems(page, "what a number is")
    page.goto("/")
    page.get_by_role("button", name="Views").click()
    expect(page.get_by_role("dialog", name="Views")).to_be_visible()
    found += problems(page, "saved views")
    page.goto("/")
    page.get_by_role("button", name="Search").click()
    expect(page.get_by_role("dialog")).to_be_visible()
    found += problems(page, "the palette")
    context.close()
    assert not found, "\n".join(found)
