"""Every page in both themes, examined by axe-core (WCAG 2.2 A and AA, and its best practices)."""

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from rust_gauge.core.roles import Role
from tests.conftest import PASSWORD, Office, World, make_office
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


@contextmanager
def signed_in(browser: Browser, office: Office, *, width: int) -> Iterator[Page]:
    """Open a page of an office's account, without animations."""
    context = browser.new_context(
        viewport={"width": width, "height": 800}, base_url=office.world.url, bypass_csp=True, reduced_motion="reduce"
    )
    context.set_default_timeout(60_000)
    expect.set_options(timeout=60_000)
    assert context.request.post("/api/v1/session", data={"email": office.email, "password": PASSWORD}).ok
    yield context.new_page()
    context.close()


def show(page: Page, path: str) -> None:
    """Open an address and wait for its content."""
    page.goto(path)
    expect(page.locator("main :is(h1, article)").first).to_be_visible()
    expect(page.locator("[aria-busy=true]")).to_have_count(0)


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


WIDTHS = (390, 640)  # a telephone; and 1,280 pixels at 200 %
SPACING = (
    "*{line-height:1.5!important;letter-spacing:.12em!important;word-spacing:.16em!important}"
    "p{margin-bottom:2em!important}"
)  # what WCAG 2.2 (1.4.12) lets people set
# In the new width, and once more for what is measured after that.
LAID_OUT = """async (width) => {
  if (innerWidth !== width || document.documentElement.clientWidth > width) return false;
  await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
  return true;
}"""
OUTSIDE = """() => {
  const width = document.documentElement.clientWidth;
  const clipped = (element) => {
    for (let at = element.parentElement; at && at !== document.body; at = at.parentElement)
      if (/auto|scroll/.test(getComputedStyle(at).overflowX)) return true;
    return false;
  };
  const found = document.documentElement.scrollWidth > width ? [`the page is ${document.documentElement.scrollWidth} wide`] : [];
  for (const element of document.querySelectorAll('body *')) {
    const {left, right, width: wide} = element.getBoundingClientRect();
    if (wide && (right > width + 1 || left < -1) && !clipped(element))
      found.push(`${element.tagName} ${(element.textContent ?? '').trim().slice(0, 40)}: ${left} to ${right}`);
  }
  return found.slice(0, 5);
}"""


def test_no_page_is_wider_than_the_window(browser: Browser, office: Office, mail: str) -> None:  # noqa: F811
    """On a telephone and at 200 % (WCAG 2.2, 1.4.10), and with wider text: nothing lies outside, but what scrolls by
    itself, such as a table."""
    with signed_in(browser, office, width=1280) as page:
        found: list[str] = []
        for path in PAGES:
            show(page, path.replace("DOMAIN", f"/domains/{office.slug}/{mail}"))
            for width in WIDTHS:
                page.set_viewport_size({"width": width, "height": 800})
                page.wait_for_function(LAID_OUT, arg=width)
                found += [f"{path}, {width}: {each}" for each in page.evaluate(OUTSIDE)]
            page.add_style_tag(content=SPACING)
            found += [f"{path}, wide text: {each}" for each in page.evaluate(OUTSIDE)]
    assert not found, "\n".join(found)


def test_axe_finds_nothing_on_any_page_in_either_theme(browser: Browser, office: Office, mail: str) -> None:  # noqa: F811
    with signed_in(browser, office, width=1280) as page:
        found: list[str] = []
        for path in PAGES:
            show(page, path.replace("DOMAIN", f"/domains/{office.slug}/{mail}"))
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
    assert not found, "\n".join(found)


@pytest.mark.parametrize("role", [Role.ADMIN, Role.VIEWER])
def test_axe_finds_nothing_where_there_is_nothing_yet_on_a_telephone(
    browser: Browser, world: World, role: Role
) -> None:
    """Empty pages of a new tenant, for who may fill them and for who may only read."""
    office = make_office(world, role)
    with signed_in(browser, office, width=390) as page:
        found: list[str] = []
        for path in PAGES:
            if "DOMAIN" in path:
                continue
            show(page, path)
            found += problems(page, f"{path}, {role}")
    assert not found, "\n".join(found)
