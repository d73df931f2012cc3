"""The console as a person uses it: sign in, see the wall, open a domain, fix a record, re-check."""

import csv
from datetime import timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from playwright.sync_api import BrowserContext, Page, expect

from rust_gauge.contract.preferences import Preferences
from rust_gauge.contract.worklist import WorkAct
from tests.conftest import PASSWORD, Office
from tests.rows import bounce, ndjson, row


@pytest.fixture
def mail(office: Office) -> str:
    """Two hundred messages to tidepost, a tenth of them to nobody, from a domain with two SPF records."""
    name = f"{office.slug}.example"
    office.world.zone(name, '@ IN TXT "v=spf1 ip4:192.0.2.1 ~all"\n@ IN TXT "v=spf1 mx ~all"\n@ IN MX 10 mx\n')
    now = office.world.clock()
    times = [(now - timedelta(minutes=n + 1)).isoformat() for n in range(200)]
    with office.client() as client:
        client.domains.add(office.slug, name)
        client.audits.run(office.slug, name)
        client.events.load(
            office.slug,
            ndjson(
                *(row(n, time=t, domain=name) for n, t in enumerate(times[:180])),
                *(bounce(n, time=t, domain=name) for n, t in enumerate(times[180:], 180)),
            ),
        )
    office.world.work()
    with office.client() as client:
        client.worklist.detect(office.slug)  # otherwise every few minutes, and tests' clocks stand still
    return name


def test_a_person_signs_in_sees_the_empty_wall_and_signs_out(visit: BrowserContext, office: Office) -> None:
    page = visit.new_page()
    page.goto("/")
    page.get_by_label("Email address").fill(office.email)
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("Address and password do not match")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="Wall")).to_be_visible()
    expect(page.get_by_text("No domains yet")).to_be_visible()
    page.get_by_role("button", name="Isla Mackay").click()
    page.get_by_role("option", name="Sign out").click()
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()


def test_a_domain_is_added_audited_mended_and_measured_again(page: Page, office: Office) -> None:
    name = f"{office.slug}.example"
    servers = "@ IN NS ns1\n@ IN NS ns2\nns1 IN A 192.0.2.1\nns2 IN A 192.0.2.2\nmx IN A 192.0.2.5\n@ IN MX 10 mx\n"
    office.world.zone(name, f'@ IN TXT "v=spf1 ip4:192.0.2.256 -all"\n{servers}')
    page.goto("/domains")
    page.get_by_label("Sending domain").fill("nodot")
    page.get_by_role("button", name="Add domain").click()
    expect(page.get_by_role("alert")).to_contain_text("one label")
    page.get_by_label("Sending domain").fill(name)
    page.get_by_role("button", name="Add domain").click()
    page.get_by_role("link", name=name).click()
    page.get_by_role("button", name="Run audit").click()
    page.get_by_role("link", name="syntax error").click()
    expect(page.get_by_role("tab", name="Records (1 fault)")).to_have_attribute("aria-selected", "true")
    assert "view=records" in page.url  # the view can be shared
    expect(page.locator("mark").first).to_have_text("192.0.2.256")
    expect(page.get_by_role("region", name="Findings")).to_contain_text("syntax error")
    dmarc = f'_dmarc IN TXT "v=DMARC1; p=reject; rua=mailto:r@{name}"\n'
    office.world.zone(name, f'@ IN TXT "v=spf1 ip4:192.0.2.2 -all"\n{servers}{dmarc}')
    page.get_by_role("button", name="Re-check").click()
    expect(page.get_by_role("region", name="Findings")).not_to_contain_text("syntax error")
    expect(page.locator("mark")).to_have_count(0)
    page.get_by_role("tab", name="History").click()
    changes = page.get_by_role("region", name="What changed")
    expect(changes).to_contain_text(f"{name} TXT changed")
    expect(changes.locator("del").first).to_have_text("56")
    beside = page.get_by_role("region", name="Compare two audits")
    expect(beside).to_contain_text("The SPF record")


def test_a_stream_is_described_and_what_would_happen_to_it_is_said(page: Page, office: Office, mail: str) -> None:
    page.goto(f"/domains/{office.slug}/{mail}?view=streams")
    page.get_by_role("button", name="Add a stream").click()
    page.get_by_label("Stream", exact=True).fill("newsletter")
    page.get_by_label("Envelope domain").fill("bounce.relay.example")
    page.get_by_label("DKIM domain (d=)").fill("relay.example")
    page.get_by_role("button", name="Save stream").click()
    table = page.get_by_role("table", name="Alignment of streams")
    expect(table).to_contain_text("delivered, because no policy applies")
    expect(table).to_contain_text("another organisation")


def test_an_address_is_tried_against_a_record_before_it_is_published(page: Page, office: Office, mail: str) -> None:
    page.goto(f"/domains/{office.slug}/{mail}?view=tests")
    page.get_by_label("Sending IP").fill("192.0.2.9")
    page.get_by_label("Record to test").fill("v=spf1 ip4:192.0.2.0/24 -all")
    page.get_by_role("button", name="Test", exact=True).click()
    steps = page.get_by_role("list", name=f"Steps for {mail}")
    expect(steps).to_contain_text("ip4:192.0.2.0/24 match")
    page.get_by_label("Message source").fill(f"From: a@{mail}\nSubject: x\n\nHello\n")
    page.get_by_role("button", name="Examine").click()
    expect(page.get_by_role("region", name="Message test")).to_contain_text("not signed with DKIM")


def test_many_domains_are_audited_as_a_job(page: Page, office: Office) -> None:
    page.goto("/domains")
    page.get_by_label("Domain names").fill("a.example\nb.example nodot")
    page.get_by_role("button", name="Start audit").click()
    card = page.get_by_role("region", name="Batch audit")
    expect(card).to_contain_text("waiting, 0 of 3")
    office.world.work()
    expect(card).to_contain_text("done, 3 of 3")
    with page.expect_download() as download:
        card.get_by_role("button", name="Export CSV").click()
    assert "nodot" in Path(download.value.path()).read_text()


def test_the_wall_leads_to_the_fault_and_its_remedy(page: Page, office: Office, mail: str) -> None:
    page.goto("/")
    worklist = page.get_by_role("complementary", name="Worklist")
    expect(worklist).to_contain_text(f"2 SPF records on {mail}")
    expect(worklist.locator("code").first).to_contain_text("v=spf1")
    page.get_by_role("link", name=f"{mail}, tidepost.example").click()
    expect(page.get_by_role("heading", name=mail)).to_be_visible()
    expect(page.get_by_role("region", name="Reading", exact=True)).to_contain_text("tidepost.example")
    assert "provider=tidepost.example" in page.url  # the view can be shared
    expect(page.get_by_role("region", name="Factors")).to_contain_text("Invalid addresses, tidepost.example")
    expect(page.get_by_role("table", name="Mail flow by mailbox provider")).to_contain_text("10.0 %")
    page.get_by_role("tab", name="Records").click()
    expect(page.get_by_role("region", name="Records")).to_contain_text("With more than one SPF record")


def test_the_chart_has_its_table_and_the_table_its_export(
    page: Page, office: Office, mail: str, tmp_path: Path
) -> None:
    page.goto(f"/domains/{office.slug}/{mail}")
    reading = page.get_by_role("region", name="Reading", exact=True)
    reading.get_by_role("button", name="Show table").click()
    expect(page.get_by_role("table", name="Readings by day")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("region", name="Reading", exact=True).get_by_role("button", name="Export CSV").click()
    path = tmp_path / "readings.csv"
    download.value.save_as(path)
    rows = list(csv.DictReader(path.open()))
    assert rows[0]["Day"] == f"{office.world.clock():%Y-%m-%d}"
    assert float(rows[0]["Reading"]) < 100


def test_flow_sorts_and_says_why_mail_bounced(page: Page, office: Office, mail: str) -> None:
    page.goto(f"/flow?tenant={office.slug}")
    page.get_by_role("tab", name="Causes").click()
    expect(page.get_by_role("table", name="Causes")).to_contain_text("no such mailbox")
    page.get_by_role("tab", name="Trails").click()
    page.get_by_label("Address, <message id> or words of a reply").fill("no such mailbox")
    page.get_by_role("button", name="Find").click()
    expect(page.get_by_role("table", name="Events")).to_contain_text("no such mailbox")
    page.get_by_role("tab", name="Providers").click()
    header = page.get_by_role("button", name="Delivered", exact=True)
    header.click()
    head = page.get_by_role("columnheader", name="Delivered", exact=True)
    expect(head).to_have_attribute("aria-sort", "descending")
    expect(head).to_contain_text("Delivered ↓")


def test_an_address_is_found_looked_at_and_lifted(page: Page, office: Office, mail: str) -> None:
    page.goto("/suppression")
    table = page.get_by_role("table", name="Suppression list")
    expect(table).to_contain_text("person199@tidepost.example")
    page.get_by_label("Address begins with, or @domain").fill("person199")
    expect(table.get_by_role("row")).to_have_count(2)
    table.get_by_role("button", name="person199@tidepost.example").click()
    page.get_by_label("Reason for lifting").fill("a typo")
    page.get_by_role("button", name="Lift").click()
    expect(page.get_by_role("table", name="History")).to_contain_text("lifted")
    expect(page.get_by_text("No matching entries")).to_be_visible()


def test_addresses_are_cleared_or_held_before_a_send(page: Page, office: Office, mail: str) -> None:
    page.goto("/suppression?view=pre-send")
    page.get_by_label("Addresses", exact=True).fill("person198@tidepost.example\nfine@tidepost.example")
    page.get_by_role("button", name="Check 2 addresses").click()
    answers = page.get_by_role("table", name="Results")
    expect(answers.get_by_role("row").nth(1)).to_contain_text("held")
    expect(answers.get_by_role("row").nth(2)).to_contain_text("clear")


PAGES = (
    "/",
    "/domains",
    "/domains/reports",
    "/flow",
    "/worklist",
    "/readings",
    "/settings/alerts",
    "/settings/stream-pauses",
    "/settings/factors",
    "/settings/webhooks",
    "/settings/tokens",
    "/settings/retention",
    "/settings/recipient-data",
    "/settings/glossary",
    "/suppression",
    "/suppression?view=growth",
    "/suppression?view=pre-send",
    "/suppression?view=policy",
    "/suppression?view=unsubscribes",
    "/suppression?view=import-export",
    "DOMAIN",
    "DOMAIN?view=records",
    "DOMAIN?view=streams",
    "DOMAIN?view=tests",
    "DOMAIN?view=history",
    "DOMAIN?view=reports",
)


@pytest.mark.parametrize("width", [390, 1280])
def test_no_page_is_wider_than_its_window(page: Page, office: Office, mail: str, width: int) -> None:
    page.set_viewport_size({"width": width, "height": 844})
    wide = []
    for path in PAGES:
        page.goto(path.replace("DOMAIN", f"/domains/{office.slug}/{mail}"))
        expect(page.get_by_role("heading", level=1)).to_be_visible()
        expect(page.locator("[aria-busy]")).to_have_count(0)
        if page.evaluate("document.documentElement.scrollWidth") > width:
            wide.append(path)
    assert wide == []


def test_the_theme_can_be_chosen_and_is_kept(page: Page) -> None:
    page.goto("/")
    page.get_by_role("button", name="Isla Mackay").click()
    page.get_by_role("option", name="Theme: dark").click()
    colour = "getComputedStyle(document.body).backgroundColor"
    assert page.evaluate(colour) == "rgb(22, 25, 27)"
    page.reload()
    expect(page.get_by_role("heading", name="Wall")).to_be_visible()
    assert page.evaluate(colour) == "rgb(22, 25, 27)"


def test_a_page_that_does_not_exist_says_so(page: Page) -> None:
    page.goto("/nowhere")
    expect(page.get_by_text("Page not found")).to_be_visible()
    page.goto("/domains/strangers/a.example")
    expect(page.get_by_role("alert")).to_contain_text("There is no tenant strangers")


def test_a_session_that_ran_out_leads_to_signing_in(page: Page, office: Office) -> None:
    page.goto("/domains")
    expect(page.get_by_role("heading", name="Domains", exact=True)).to_be_visible()
    page.wait_for_load_state("networkidle")  # an answer that is still on its way would lead there before the click
    with office.world.clock.later(timedelta(hours=13)):
        page.get_by_role("link", name="Suppression").click()
        expect(page.get_by_role("button", name="Sign in")).to_be_visible()


def test_back_leads_to_the_view_before(page: Page, office: Office, mail: str) -> None:
    page.goto("/flow")
    page.get_by_role("tab", name="Causes").click()
    page.get_by_role("tab", name="Trails").click()
    expect(page).to_have_url(f"{office.world.url}/flow?view=trails")
    page.go_back()
    expect(page.get_by_role("tab", name="Causes", selected=True)).to_be_visible()
    page.go_back()
    expect(page.get_by_role("tab", name="Providers", selected=True)).to_be_visible()
    page.go_forward()
    expect(page.get_by_role("tab", name="Causes", selected=True)).to_be_visible()


def test_anything_is_found_and_opened_by_the_keyboard_alone(page: Page, office: Office, mail: str) -> None:
    page.goto("/")
    expect(page.get_by_role("heading", name="Wall")).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type(mail)
    expect(page.get_by_role("menuitem", name=mail).first).to_be_visible()
    expect(page.locator("[role=menuitem][data-focused]")).to_contain_text(mail)  # the first one is chosen
    page.keyboard.press("Enter")
    expect(page).to_have_url(f"{office.world.url}/domains/{office.slug}/{mail}")
    page.keyboard.press("Control+k")
    page.keyboard.type("glossary")
    expect(page.get_by_role("menuitem", name="Glossary").first).to_be_visible()


def test_an_open_page_follows_what_happens(page: Page, office: Office, mail: str) -> None:
    page.goto("/worklist")
    first = page.get_by_role("list", name="Items").get_by_role("link").first
    expect(first).to_be_visible()
    title = first.locator("b").inner_text()
    with office.client() as client:
        item = next(item for item in client.worklist.list(tenant=office.slug) if item.title == title)
        client.worklist.act(office.slug, item.id, WorkAct(act="acknowledge", text=""))
    same = page.get_by_role("list", name="Items").get_by_role("link").filter(has_text=title)  # further down by now
    expect(same).to_contain_text("acknowledged")


def test_a_view_is_saved_found_again_and_taken_back(page: Page, office: Office, mail: str) -> None:
    page.goto("/flow?view=causes&days=30")
    page.get_by_role("button", name="Views").click()
    page.get_by_label("Save this view as").fill("Causes, a month")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("View “Causes, a month” saved.")).to_be_visible()
    page.goto("/")
    expect(page.get_by_role("heading", name="Wall")).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type("causes, a m")
    expect(page.locator("[role=menuitem][data-focused]")).to_contain_text("Causes, a month")
    page.keyboard.press("Enter")
    expect(page).to_have_url(f"{office.world.url}/flow?view=causes&days=30")
    expect(page.get_by_role("tab", name="Causes", selected=True)).to_be_visible()
    page.goto("/settings/account")
    page.get_by_role("button", name="Delete view Causes, a month").click()
    expect(page.get_by_role("table", name="Saved views")).to_be_hidden()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("table", name="Saved views")).to_contain_text("Causes, a month")


def test_moments_are_shown_in_the_persons_time_zone(page: Page, office: Office, mail: str) -> None:
    with office.client() as client:
        client.account.set_preferences(Preferences(time_zone="Asia/Kolkata"))
        event = next(iter(client.events.list(office.slug)))
    page.goto("/flow?view=trails")
    there = event.time.astimezone(ZoneInfo("Asia/Kolkata"))
    expect(page.get_by_role("columnheader", name="Time (Asia/Kolkata)")).to_be_visible()
    expect(page.get_by_role("table").first).to_contain_text(f"{there:%Y-%m-%d %H:%M:%S}")
