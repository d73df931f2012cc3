"""Every page in both themes, examined by axe-core (WCAG 2.2 A and AA, and its best practices)."""

import json
from pathlib import Path

import pytest
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
    "/settings/members",
    "/settings/audit-log",
    "/settings/account",
    "DOMAIN?view=setup",
    "/docs/suppression",
    "/docs?find=bounce",
    "/nowhere",
)
RUN = "async () => (await axe.run(document, {resultTypes: ['violations']})).violations"


def problems(page: Page) -> list[str]:
    """What axe finds on a page as it is now."""
    page.add_script_tag(path=str(AXE))
    found = page.evaluate(RUN)
    return [
        f"{each['id']}: {json.dumps(node['target'])} {node['html'][:160]}" for each in found for node in each["nodes"]
    ]


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_axe_finds_nothing_on_any_page(browser: Browser, office: Office, mail: str, theme: str) -> None:  # noqa: F811
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, base_url=office.world.url, color_scheme=theme, bypass_csp=True,  # type: ignore[arg-type]
    )  # fmt: skip
    assert context.request.post("/api/v1/session", data={"email": office.email, "password": PASSWORD}).ok
    page = context.new_page()
    found: list[str] = []
    for path in PAGES:
        page.goto(path.replace("DOMAIN", f"/domains/{office.slug}/{mail}"))
        expect(page.locator("main")).to_be_visible()
        expect(page.locator("[aria-busy=true]")).to_have_count(0)
        page.wait_for_load_state("networkidle")
        found += [f"{path}: {problem}" for problem in problems(page)]
    page.goto("/")
    page.get_by_role("button", name="Search").click()
    expect(page.get_by_role("dialog")).to_be_visible()
    found += [f"the palette: {problem}" for problem in problems(page)]
    context.close()
    assert not found, "\n".join(found)
