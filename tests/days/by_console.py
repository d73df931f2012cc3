"""The twelve pieces in the console. Each walk is what a person opens, presses and reads."""

import re
import shutil

from playwright.sync_api import expect

from tests.days.by_terminal import LOG, MAPPING, SAMPLE
from tests.days.walking import Walk


def subdomain(walk: Walk) -> None:
    zone = walk.folder / "var" / "demo" / "zones" / "glasswort.example.zone"
    with walk.step("Open the domain's Setup: the plan says which record was pasted wrongly, and how") as page:
        walk.open("/domains/glasswort/boxoffice.glasswort.example?view=setup")
        walk.sees("of 9 records are published as planned", "the zone name appears twice")
        walk.sees("a space was pasted before the value")
    with walk.step("Choose the form that the DNS panel wants, and copy a value") as page:
        page.get_by_role("button", name="Copy value").first.click()
        expect(page.get_by_text("Copied").first).to_be_visible()
    walk.picture("01-subdomain")
    with walk.step("Paste the value without the space (here: in the zone file), press Re-check") as page:
        zone.write_text(zone.read_text().replace('TXT " v=spf1', 'TXT "v=spf1'))
        page.get_by_role("button", name="Re-check").click()
        walk.sees("4 of 9 records are published as planned")


def failing_key(walk: Walk) -> None:
    with walk.step("Open the worklist: the item names the key and what is wrong in it") as page:
        walk.open("/worklist?tenant=glasswort")
        page.get_by_text("The DKIM key at selector d2").first.click()
        expect(page.get_by_role("button", name="Copy record")).to_be_visible()
    with walk.step("Open the domain's records: the wrong characters are marked where they are"):
        walk.open("/domains/glasswort/news.glasswort.example?view=records")
        walk.sees("a backslash and a quote inside the key")
    walk.picture("02-failing-key")


def server(walk: Walk) -> None:
    log = walk.folder / "web-server.log"
    log.write_text(LOG.replace("4A1B2C3D", "5B1B2C3D").replace("07:0", "06:0"))
    with walk.step("Add a feed for the server") as page:
        walk.open("/flow?tenant=copperline&view=feeds")
        page.get_by_role("button", name="Add a feed").click()
        page.get_by_label("Name", exact=True).fill("tram-server")
        page.get_by_label("Default relay").fill("tram-web")
        page.get_by_role("button", name="Add", exact=True).click()
        page.get_by_role("button", name="Continue to the feed").click()
    with walk.step("Import its mail log"):
        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="Upload file", exact=True).click()
        chooser.value.set_files(log)
        walk.sees("4 events stored")
    with walk.step("Find what became of a message: the reply says that it is not authenticated"):
        walk.open("/flow?tenant=copperline&view=trails&find=ben%40kbox.example")
        walk.sees("This mail is not authenticated")
    walk.picture("03-server")
    with walk.step("Open the domain's Setup: one merged SPF record, ready to copy"):
        walk.open("/domains/copperline/copperline.example?view=setup")
        walk.sees("several SPF records are a permanent error")


def pipeline(walk: Walk) -> None:
    with walk.step("Add a feed for the relay's reports") as page:
        walk.open("/flow?tenant=marram&view=feeds")
        page.get_by_role("button", name="Add a feed").click()
        page.get_by_label("Name", exact=True).fill("driftline-reports")
        page.get_by_role("button", name="Add", exact=True).click()
        page.get_by_role("button", name="Continue to the feed").click()
        expect(page.get_by_label("Sample data from the source")).to_be_visible()
    with walk.step("Paste a sample and the mapping; test it until every field is right"):
        mapping = walk.folder / "driftline.json"
        mapping.write_text(MAPPING)
        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="Import mapping (JSON)", exact=True).click()
        chooser.value.set_files(mapping)
        page.get_by_label("Sample data from the source").fill(SAMPLE)
        page.get_by_role("button", name="Test mapping").click()
        walk.sees("becomes")
    walk.picture("04-pipeline")
    with walk.step("See the rates beside each relay's own lines, and how far away the next one is"):
        walk.open("/worklist?tenant=glasswort")
        walk.sees("Stop line", "Estimate")
    with walk.step("See which addresses are held, and by which reply"):
        walk.open("/suppression?tenant=glasswort")
        expect(page.get_by_role("cell", name="invalid address").first).to_be_visible()
    with walk.step("See the signed calls to the application"):
        walk.open("/settings/webhooks?tenant=marram")
        walk.sees("member desk")


def person(walk: Walk) -> None:
    with walk.step("Search words of the reply") as page:
        walk.open("/flow?tenant=glasswort&view=trails&find=over%20quota")
        walk.sees("Replies with")
    with walk.step("Open the recipient's trail: accepted, delayed, bounced, each with its reply"):
        address = page.get_by_role("table").get_by_role("button").filter(has_text="@").first
        name = address.inner_text()
        address.click()
        walk.sees(f"Trail of {name}")
    walk.picture("05-person")


def brought_list(walk: Walk) -> None:
    with walk.step("Drop the file: what it would do to each provider's rates, before anything is sent") as page:
        walk.open("/suppression?tenant=thornfield&view=pre-send")
        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="Choose file", exact=True).first.click()
        brought = walk.folder / "brought.csv"  # a name of its own: the commands checked the same list before
        shutil.copy(walk.folder / "var" / "demo" / "spring-catalogue.csv", brought)
        chooser.value.set_files(brought)
        walk.sees("brought.csv, just now")
        expect(page.get_by_role("button", name="Cancel", exact=True)).to_have_count(0)
        summary = page.locator("p").filter(has_text="Without cleaning").inner_text()
        numbers = re.match(r"Of (\d+) rows (\d+) .* (\d+) are doubtful; (\d+) are clear.* about (\d+) would", summary)
        assert numbers, summary
        rows, held, doubtful, clear, bounces = map(int, numbers.groups())
        assert rows == held + doubtful + clear, summary  # how many of each depends on the day
        assert 0 < bounces <= held + doubtful, summary
    walk.picture("06-brought-list")
    with walk.step("Take the clean part away"):
        with page.expect_download() as download:
            page.get_by_text("Download the clear part").first.click()
        assert download.value.suggested_filename.endswith(".csv")


def another_score(walk: Walk) -> None:
    with walk.step("Open the tray with the same message by four paths") as page:
        walk.open("/bench/glasswort/paths?tenant=glasswort")
        walk.sees("One newsletter, four paths")
    with walk.step("Choose two and compare: what changed, and which change did what"):
        boxes = page.get_by_role("checkbox")
        boxes.nth(1).check(force=True)
        boxes.nth(2).check(force=True)
        page.get_by_role("button", name="Compare").click()
        walk.sees("Close comparison")
    walk.picture("07-another-score")


def staging(walk: Walk) -> None:
    with walk.step("Open the staging tray: what the tests sent, each with its mark") as page:
        walk.open("/bench/marram/booking-staging?tenant=marram")
        walk.sees("Booking application, staging")
    with walk.step("Open a message: findings with their reasons"):
        page.get_by_text("Reset your password").first.click()
        walk.sees("No DKIM signature")
    walk.picture("08-staging")
    with walk.step("See the SMTP conversation in which it came"):
        page.get_by_role("tab", name="Arrival").click()
        walk.sees("MAIL FROM")


def landing(walk: Walk) -> None:
    with walk.step("Open placement: the day it turned, beside the annotation of that week"):
        walk.open("/bench?tenant=glasswort&view=placement")
        walk.sees("Worse since", "in the inbox before")
    walk.picture("09-landing")
    with walk.step("Open the readings of the domain"):
        walk.open("/domains/glasswort/news.glasswort.example?days=30")
        walk.sees("corroded")


def warm_up(walk: Walk) -> None:
    with walk.step("Open the plan: today's ceilings, what was sent, and the step that holds itself back"):
        walk.open("/flow?tenant=halyard&view=warmup")
        walk.sees("Waits at this step: deferrals", "messages were sent today")
    walk.picture("10-warm-up")


def proving(walk: Walk) -> None:
    with walk.step(
        "Open the domains: every From domain in use, proven or not, aligned or not, limits used today"
    ) as page:
        walk.open("/domains?tenant=copperline")
        table = page.get_by_role("table", name="Senders")
        expect(table.get_by_text("not aligned").first).to_be_visible()
        expect(table.get_by_text("cobble: ").first).to_be_visible()
    table.scroll_into_view_if_needed()
    walk.picture("11-proving")
    with walk.step("Open one: its streams, and what each lacks"):
        table.get_by_role("link", name="copperline.example").first.click()
        walk.sees("visitors")


def monday(walk: Walk) -> None:
    with walk.step("Open the wall: all domains of all clients"):
        walk.open("/")
        walk.sees("copperline.example")
    with walk.step("Open the worklist: what to do first") as page:
        walk.open("/worklist")
        expect(page.get_by_text("problems to fix").first).to_be_visible()
    with walk.step("Open the client's report, which is written already") as page:
        walk.open("/report?tenant=copperline&days=7")
        frame = page.frame_locator("iframe")
        expect(frame.get_by_text("messages delivered in 7 days").first).to_be_visible()
    walk.picture("12-monday")
    with walk.step("Share it by a link that needs no account"):
        page.get_by_role("button", name="Share", exact=True).click()
        page.get_by_role("button", name="Make a link").click()
        walk.sees("/shared-report/")
