"""Reports of receivers in a browser: uploaded, judged, opened, decided, rehearsed; a large file by a job."""

import gzip
import io
import threading
import zipfile
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from rust_gauge.client import Client
from rust_gauge.service.receiver_reports.judging import ask_for_due
from rust_gauge.service.worker import run_worker
from tests.conftest import Office
from tests.reports import DOMAIN, aggregate, record

YESTERDAY = datetime.now(UTC).date() - timedelta(days=1)


@pytest.fixture
def worker(office: Office) -> Iterator[None]:
    """A worker that does the jobs of the service."""
    stop = threading.Event()
    thread = threading.Thread(target=run_worker, args=(office.world.context, stop), daemon=True)
    thread.start()
    yield
    stop.set()
    thread.join()


@pytest.fixture
def domain(office: Office, client: Client) -> str:
    office.world.zone(DOMAIN, '@ IN TXT "v=spf1 ip4:192.0.2.9 -all"\n_dmarc IN TXT "v=DMARC1; p=none"\n')
    client.domains.add(office.slug, DOMAIN)
    return DOMAIN


def stranger(count: int) -> str:
    return record("198.51.100.9", count, spf_domain="crm.example", spf_result="pass", sign="crm.example")


def test_a_report_is_uploaded_and_its_sources_are_decided(
    page: Page, office: Office, domain: str, tmp_path: Path
) -> None:
    (tmp_path / "a.xml.gz").write_bytes(
        gzip.compress(aggregate(record("192.0.2.9", 90, spf=True), stranger(30), day=YESTERDAY))
    )
    page.goto(f"/domains/reports?tenant={office.slug}")
    expect(page.get_by_role("button", name="Last 30 days")).to_be_visible()
    expect(page.get_by_role("banner").get_by_role("button", name="Tenant")).to_be_visible()
    page.locator("input[type=file]").set_input_files(tmp_path / "a.xml.gz")
    expect(page.get_by_role("table", name="Uploaded reports")).to_contain_text("stored")
    ask_for_due(office.world.context)
    office.world.work()

    page.goto(f"/domains/{office.slug}/{DOMAIN}?view=reports")
    sources = page.get_by_role("table", name=f"Sources of {DOMAIN}")
    expect(sources).to_contain_text("crm.example")
    expect(page.get_by_role("region", name="Our streams")).to_contain_text("no stream of the plan")
    expect(page.get_by_text("30 messages of unknown sources")).to_be_visible()
    page.get_by_role("button", name="Missing subdomains").click()
    page.get_by_role("option", name="np=reject").click()
    expect(page.get_by_text("v=DMARC1; p=reject; np=reject")).to_be_visible()

    sources.get_by_role("button", name="crm.example").click()
    expect(page).to_have_url(f"{office.world.url}/domains/{office.slug}/{DOMAIN}?view=reports&source=crm.example")
    page.get_by_role("button", name="Mark as not ours").click()
    expect(sources).to_contain_text(f"decided by {office.email}")
    page.go_back()
    expect(sources).to_contain_text("Not ours")


def test_an_archive_is_stored_by_a_job(page: Page, office: Office, domain: str, worker: None, tmp_path: Path) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        for n in range(12):
            archive.writestr(f"{n}.xml", aggregate(record("192.0.2.9", 2), id=f"r{n}", day=YESTERDAY))
        archive.writestr("readme.txt", b"reports of November")
    (tmp_path / "november.zip").write_bytes(packed.getvalue())
    page.goto(f"/domains/reports?tenant={office.slug}")
    page.locator("input[type=file]").set_input_files(tmp_path / "november.zip")
    files = page.get_by_role("region", name="november.zip")
    expect(files).to_contain_text("12 stored; 1 set aside")
    expect(files.get_by_role("table")).to_contain_text("readme.txt")
