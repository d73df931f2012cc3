"""`rustgauge dmarc`, as somebody works with reports of receivers in a terminal."""

import gzip
import io
import json
import tarfile
import threading
from pathlib import Path
from typing import Any

import pytest

from rust_gauge.client import Client
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.contract.relays import RelayDescription, RelayHost
from rust_gauge.service.receiver_reports.judging import ask_for_due
from rust_gauge.service.worker import run_worker
from tests.conftest import Office
from tests.reports import DOMAIN, aggregate, record


@pytest.fixture
def folder(office: Office, client: Client, tmp_path: Path) -> Path:
    """Files as somebody has them: reports, one twice, one of somebody else, and one that is none."""
    client.domains.add(office.slug, DOMAIN)
    made = tmp_path / "reports"
    (made / "older").mkdir(parents=True)
    mail = [
        record("192.0.2.9", 90, spf=True, dkim=True), record("192.0.2.9", 10, spf_result="fail"),
        record("198.51.100.9", 6, spf_domain="crm.example", spf_result="pass", sign="crm.example"),
    ]  # fmt: skip
    (made / "a.xml").write_bytes(aggregate(*mail))
    (made / "older" / "a-again.xml.gz").write_bytes(gzip.compress(aggregate(*mail)))
    (made / "b.xml").write_bytes(aggregate(record("192.0.2.9", 5), domain="other.example"))
    (made / "c.xml").write_bytes(b"<html></html>")
    (made / ".hidden").write_bytes(b"nothing")
    return made


@pytest.fixture
def stored(office: Office, run: Any, folder: Path) -> None:
    status, _, _ = run("dmarc", "add", str(folder))
    assert status == 3
    ask_for_due(office.world.context)
    office.world.work()


def test_a_folder_is_stored_and_each_file_says_what_became_of_it(run: Any, folder: Path) -> None:
    status, out, err = run("dmarc", "add", str(folder), "--format", "json")
    assert status == 3
    assert {Path(row["file"]).name: row["state"] for row in json.loads(out)} == {
        "a.xml": "stored", "a-again.xml.gz": "duplicate", "b.xml": "not_ours", "c.xml": "rejected",
    }  # fmt: skip
    assert "4 files: 1 stored, 1 about domains that are not yours here, 1 set aside" in err
    status, out, _ = run("dmarc", "rejected")
    assert status == 3
    assert "its root is <html>" in out
    assert run("dmarc", "replay")[0] == 3


def test_an_archive_is_stored_by_a_job(run: Any, office: Office, client: Client, tmp_path: Path) -> None:
    client.domains.add(office.slug, DOMAIN)
    path = tmp_path / "november.tar"
    with tarfile.open(path, "w") as archive:
        for n in range(25):
            octets = aggregate(record("192.0.2.9", 2), id=f"r{n}") if n else b"no report"
            entry = tarfile.TarInfo(f"r{n}.xml")
            entry.size = len(octets)
            archive.addfile(entry, io.BytesIO(octets))
    stop = threading.Event()
    worker = threading.Thread(target=run_worker, args=(office.world.context, stop), daemon=True)
    worker.start()
    try:
        status, out, err = run("dmarc", "add", str(path))
    finally:
        stop.set()
        worker.join()
    assert status == 3
    assert "r0.xml: No report found" in out
    assert "1 file: 1 set aside" in err and "24 stored" in err
    assert "report files" in run("job", "list", "--kind", "report_files")[1]


def test_streams_are_shown_with_where_they_are_not_aligned(run: Any, office: Office, client: Client) -> None:
    streams = [StreamPath(name="receipts", relay="mta1", selector="m1"), StreamPath(name="minutes", relay="cobble")]
    client.domains.add(office.slug, DOMAIN)
    client.domains.update(office.slug, DOMAIN, DomainChange(streams=streams))
    client.relays.set(office.slug, "mta1", RelayDescription(own=True, hosts=[RelayHost(ip="192.0.2.9")]))
    client.reports.add(office.slug, aggregate(record("192.0.2.9", 90, dkim=True), record("192.0.2.9", 30)))
    ask_for_due(office.world.context)
    office.world.work()
    status, out, _ = run("dmarc", "streams", DOMAIN)
    assert status == 3
    assert "receipts is not aligned at:" in out and "Tidepost" in out and "75.0 %" in out
    assert "Not in any report: minutes" in out


def test_a_file_that_does_not_exist_is_said(run: Any, office: Office) -> None:
    status, _, err = run("dmarc", "add", "/nowhere/report.xml")
    assert (status, "does not exist" in err) == (2, True)


def test_sources_reports_and_receivers_are_shown(run: Any, office: Office, stored: None) -> None:
    status, out, _ = run("dmarc", DOMAIN)
    assert status == 3  # an unknown source
    assert "crm.example" in out and "90.0 %" in out and "which is not a relay here" in out
    status, out, _ = run("dmarc", "source", DOMAIN, "crm.example")
    assert status == 0
    assert "crm.example/k1 pass" in out and "198.51.100.9" in out
    status, out, _ = run("dmarc", "list")
    assert status == 0
    assert "not a domain of yours" in out
    number = json.loads(run("dmarc", "list", "--domain", DOMAIN, "--format", "json")[1])[0]["id"]
    status, out, _ = run("dmarc", "show", str(number))
    assert "106 messages, 90 passed" in out and "both" in out and "neither" in out
    status, out, _ = run("dmarc", "receivers")
    assert (status, "Tidepost" in out) == (0, True)
    assert json.loads(run("dmarc", "domains", "--format", "json")[1])[0]["unknown"]["messages"] == 6


def test_a_source_is_marked_and_claimed(run: Any, office: Office, stored: None) -> None:
    status, out, _ = run("dmarc", "mark", DOMAIN, "crm.example", "not-ours", "--note", "ended in May")
    assert (status, f"not ours, decided by {office.email}" in out) == (0, True)
    status, out, err = run("dmarc", "claim", DOMAIN, "crm.example", "--relay", "crm", "--stream", "letters")
    assert (status, "ours" in out, "plan show" in err) == (0, True, True)
    assert "198.51.100.9" in run("relay", "show", "crm")[1]


def test_a_policy_is_rehearsed_and_a_path_is_begun(run: Any, office: Office, stored: None) -> None:
    office.world.zone(DOMAIN, '_dmarc IN TXT "v=DMARC1; p=none"\n')
    status, out, _ = run("dmarc", "rehearse", DOMAIN, "--p", "quarantine", "--pct", "50")
    assert "3 messages of unknown sources" in out
    assert "pct=50" in out
    status, out, _ = run("dmarc", "path", DOMAIN, "--start", "--quiet-days", "7", "--aligned-share", "95")
    assert status == 0
    assert "waits at watch" in out and "95 %" in out and "days with reports" in out
    status, out, err = run("dmarc", "path", DOMAIN, "--stage", "quarantine")
    assert "In the record plan now" in err
    status, out, _ = run("dmarc", "path", DOMAIN, "--stop")
    assert "(not watched" in run("dmarc", "path", DOMAIN)[1]


def test_a_report_is_taken_out_again(run: Any, office: Office, stored: None, tmp_path: Path) -> None:
    number = json.loads(run("dmarc", "list", "--domain", DOMAIN, "--format", "json")[1])[0]["id"]
    status, _, _ = run("dmarc", "original", str(number), str(tmp_path / "it"))
    assert (status, (tmp_path / "it").read_bytes()[:5]) == (0, b"<?xml")
    assert run("dmarc", "delete", str(number), "--yes")[0] == 0
    assert json.loads(run("dmarc", "list", "--domain", DOMAIN, "--format", "json")[1]) == []
    status, out, _ = run("dmarc", "retention", "--row-days", "100")
    assert (status, "100 days; originals: 90 days" in out) == (0, True)
