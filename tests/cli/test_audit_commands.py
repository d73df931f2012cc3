"""audit, trial, message, compare, history and batch from the command line; formats that pipelines read."""

import gzip
import io
import json
import re
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.core.dkim import sign_message
from rust_gauge.launch.mariadb import free_port
from tests.conftest import Office
from tests.core.test_dkim_messages import MESSAGE, published, rsa_key
from tests.core.test_reports import ROW, TLS_JSON, report

BROKEN = """$ORIGIN d.example.
$TTL 600
@ IN SOA ns1 hostmaster 1 3600 600 86400 60
@ IN NS ns1
@ IN NS ns2
@ IN MX 10 mx
mx IN A 192.0.2.25
@ IN TXT "v=spf1 ipv4:192.0.2.1 include:mx.d.example -all"
_dmarc IN TXT "v=DMARC1; p=reject; sp=none; rua=mailto:r@d.example"
"""
RIGHT = BROKEN.replace("ipv4:192.0.2.1 include:mx.d.example", "mx").replace(" sp=none;", "")


@pytest.fixture
def run(capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch):  # type: ignore[no-untyped-def]
    monkeypatch.setenv("RUSTGAUGE_URL", "http://127.0.0.1:9")  # nothing is there: no service is needed

    def command(*words: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        status = main(list(words), Output(out, err))
        return status, out.getvalue(), err.getvalue()

    return command


@pytest.fixture
def zone(tmp_path: Path) -> str:
    path = tmp_path / "d.example.zone"
    path.write_text(BROKEN)
    return str(path)


def test_a_zone_file_is_audited_without_a_service(run, zone: str) -> None:  # type: ignore[no-untyped-def]
    status, out, _ = run("audit", "d.example", "--zone-file", zone)
    assert status == 3
    assert "FAULT  The SPF record of d.example has a syntax error: ipv4:192.0.2.1" in out
    assert re.search(r"\n +\^{14} column 8\n", out)
    assert "v=spf1 ip4:192.0.2.1 -all" in out
    assert "leaves out include:mx.d.example" in " ".join(out.split())
    assert "└─ include:mx.d.example  1  dead" in out
    assert "RISK   The DMARC record of d.example leaves its subdomains unprotected" in out


@pytest.mark.parametrize(("level", "status"), [("fault", 3), ("never", 0)])
def test_the_exit_status_goes_by_level(run, zone: str, level: str, status: int) -> None:  # type: ignore[no-untyped-def]
    assert run("audit", "d.example", "--zone-file", zone, "--fail-on", level)[0] == status


def test_what_is_right_exits_with_0_even_for_notes(run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    (tmp_path / "d.example.zone").write_text(RIGHT)
    status, out, _ = run("audit", "d.example", "--zone-file", str(tmp_path), "--fail-on", "note")
    assert (status, "No faults, risks or notes." in out) == (0, True)


def test_sarif_points_into_the_zone_file(run, zone: str) -> None:  # type: ignore[no-untyped-def]
    document = json.loads(run("audit", "d.example", "--zone-file", zone, "--format", "sarif")[1])
    assert document["version"] == "2.1.0"
    (one,) = document["runs"]
    rules = [rule["id"] for rule in one["tool"]["driver"]["rules"]]
    syntax = next(result for result in one["results"] if result["ruleId"] == "spf-syntax")
    assert rules[syntax["ruleIndex"]] == "spf-syntax"
    assert syntax["level"] == "error"
    physical = syntax["locations"][0]["physicalLocation"]
    assert physical["artifactLocation"]["uri"].endswith("d.example.zone")
    line = BROKEN.splitlines()[physical["region"]["startLine"] - 1]
    region = physical["region"]
    assert line[region["startColumn"] - 1 : region["endColumn"] - 1] == "ipv4:192.0.2.1"
    for result in one["results"]:
        for place in result["locations"]:
            assert place["physicalLocation"]["region"]["startColumn"] >= 1
    assert {result["level"] for result in one["results"]} <= {"error", "warning", "note"}


def test_junit_has_a_case_for_each_point_and_fails_from_the_level_asked_about(run, zone: str) -> None:  # type: ignore[no-untyped-def]
    root = ET.fromstring(run("audit", "d.example", "--zone-file", zone, "--format", "junit")[1])
    (suite,) = root
    cases = {case.get("name"): case for case in suite}
    assert int(suite.get("failures", 0)) == 1
    assert cases["SPF"].find("failure") is not None
    assert cases["DMARC"].find("failure") is None  # a risk, and faults were asked about
    assert cases["DNSSEC"].find("skipped") is not None
    strict = ET.fromstring(run("audit", "d.example", "--zone-file", zone, "--format", "junit", "--fail-on", "risk")[1])
    assert int(strict[0].get("failures", 0)) == 2


def test_other_formats_hold_a_row_a_finding(run, zone: str) -> None:  # type: ignore[no-untyped-def]
    csv = run("audit", "d.example", "--zone-file", zone, "--format", "csv")[1]
    assert csv.startswith("domain,level,rule,name,type,column,length,title")
    (line,) = run("audit", "d.example", "--zone-file", zone, "--format", "ndjson")[1].splitlines()
    whole = json.loads(run("audit", "d.example", "--zone-file", zone, "--format", "json")[1])
    assert [f["rule"] for f in json.loads(line)["findings"]] == [f["rule"] for f in whole["findings"]]
    assert len(csv.splitlines()) == len(whole["findings"]) + 1
    assert run("audit", "--zone-file", zone, "--format", "json")[1].startswith("[")  # mx.d.example is there too


def test_an_audit_is_recorded_and_played_back(run, zone: str, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    kept = str(tmp_path / "answers.json")
    _, first, said = run("audit", "d.example", "--zone-file", zone, "--record-to", kept, "--format", "csv")
    assert "answers were written" in said
    assert run("audit", "--answers", kept, "--format", "csv")[1] == first


@pytest.mark.parametrize(
    ("words", "status"),
    [
        (("audit", "--zone-file", "nowhere.zone"), 2),
        (("audit", "--answers", "nowhere.json"), 2),
        (("audit", "--zone-file", "x", "--answers", "y"), 2),
        (("audit", "--resolver", "nonsense"), 2),
        (("audit", "not a domain", "--live", "--resolver", "127.0.0.1:9"), 2),
        (("audit",), 2),
        (("audit", "check-spf", "nonsense", "a@d.example", "--live", "--resolver", "127.0.0.1:9"), 2),
        (("audit", "check-message", "nowhere.eml", "--live"), 2),
    ],
)
def test_wrong_words_are_told_without_a_traceback(run, words: tuple[str, ...], status: int) -> None:  # type: ignore[no-untyped-def]
    got, _, said = run(*words)
    assert got == status
    assert "Traceback" not in said
    assert said.startswith("rustgauge: ")


def test_a_connection_is_tried_against_a_zone_file(run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    (tmp_path / "d.example.zone").write_text(RIGHT)
    status, out, _ = run(
        "audit", "check-spf", "192.0.2.25", "a@d.example", "--helo", "mx.d.example", "--zone-file", str(tmp_path)
    )
    assert (status, "MAIL FROM d.example: pass" in out) == (0, True)
    assert "mx  match" in out
    status, out, _ = run("audit", "check-spf", "198.51.100.1", "a@d.example", "--zone-file", str(tmp_path))
    assert (status, "-all of d.example matches" in out) == (3, True)
    record = "v=spf1 ip4:198.51.100.0/24 -all"
    assert (
        run("audit", "check-spf", "198.51.100.1", "a@d.example", "--record", record, "--zone-file", str(tmp_path))[0]
        == 0
    )
    done = json.loads(
        run(
            "audit", "check-spf", "192.0.2.25", "--helo", "d.example", "--zone-file", str(tmp_path), "--format", "json"
        )[1]
    )
    assert (done["postmaster"], done["mail_from"]["result"]) == (True, "pass")


def test_a_message_is_checked_against_a_zone_file(run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    key = published(rsa_key())
    (tmp_path / "d.example.zone").write_text(RIGHT + f's1._domainkey IN TXT "{key[:250]}" "{key[250:]}"\n')
    message = sign_message(MESSAGE, rsa_key(), domain="d.example", selector="s1")
    good, bad = tmp_path / "good.eml", tmp_path / "bad.eml"
    good.write_bytes(b"From booking Fri Nov 20 08:00:00 2026\n" + message.replace(b"\r\n", b"\n"))
    bad.write_bytes(message + b"-- \r\nsent by a list\r\n")
    words = ("--zone-file", str(tmp_path / "d.example.zone"), "--ip", "192.0.2.25", "--mail-from", "b@d.example")
    status, out, _ = run("audit", "check-message", str(good), *words)
    assert status == 0
    assert "DKIM d=d.example s=s1 rsa-sha256: pass" in out
    assert "DMARC by the tree walk (DMARCbis): pass" in out
    _, out, _ = run("audit", "check-message", str(bad), *words)
    assert "were appended, starting with: -- sent by a list" in out


def test_with_a_service_audits_are_compared_and_batches_run(
    office: Office, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("RUSTGAUGE_URL", office.world.url)
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)
    name = f"{office.slug}.example"

    def command(*words: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        return main(list(words), Output(out, err)), out.getvalue(), err.getvalue()

    office.world.zone(name, '@ IN TXT "v=spf1 -all"\n')
    command("domain", "add", name)
    command("audit", name)
    office.world.zone(name, '@ IN TXT "v=spf1 +all"\n')
    assert command("audit", name)[0] == 3
    status, out, _ = command("audit", "compare", name)
    assert status == 3
    assert "- v=spf1 -all" in out
    assert "+ v=spf1 +all" in out
    assert f"{name} TXT changed" in command("domain", "history", name)[1]
    assert json.loads(command("audit", "compare", name, "--format", "json")[1])["appeared"]
    assert command("audit", "check-spf", "192.0.2.1", f"a@{name}")[0] == 0
    seen = tmp_path / "report.xml"
    seen.write_bytes(report(ROW.format(ip="192.0.2.9", count=7).replace("marram.example", name).replace("S1", "s9")))
    status, out, _ = command("audit", "read-report", str(seen))
    assert status == 0
    assert "7 of 7 messages aligned" in out
    assert f"new selector s9 of {name}" in out
    assert (
        json.loads(command("audit", "read-report", str(seen), "--format", "json")[1])["sources"][0]["source_ip"]
        == "192.0.2.9"
    )
    seen.write_bytes(gzip.compress(TLS_JSON))
    status, out, _ = command("audit", "read-report", str(seen))
    assert status == 3
    assert "512 of 542 sessions encrypted" in out
    assert "certificate-expired: 20 sessions to mx1.marram.example 198.51.100.7" in out
    assert json.loads(command("audit", "read-report", str(seen), "--format", "json")[1])["kind"] == "tls"
    assert command("audit", "read-report", str(tmp_path / "nowhere"))[0] == 2
    names = tmp_path / "names.txt"
    names.write_text(f"# ours\n{name}\nnot a domain\n")
    assert "Started job" in command("audit", "batch", str(names), "--no-wait")[2]
    office.world.work()
    id = str(json.loads(command("job", "list", "--kind", "batch", "--format", "json")[1])[0]["id"])
    status, out, _ = command("audit", "batch-results", id)
    assert status == 3
    assert name in out
    assert "not audited" in out
    assert len(command("audit", "batch-results", id, "--format", "csv")[1].splitlines()) == 3
    assert command("audit", "batch", str(tmp_path / "nowhere"))[0] == 2
    assert "is done" in command("job", "cancel", id)[2]
    assert f"job {id}: batch" in command("job", "show", id)[1]


def test_a_name_in_none_of_the_zones_is_an_error_and_no_answer_is_no_result(run, zone: str) -> None:  # type: ignore[no-untyped-def]
    status, out, said = run("audit", "other.test", "--zone-file", zone)
    assert (status, out) == (2, "")
    assert "other.test is in none of the given zones: d.example" in said
    assert run("audit", "x.d.example", "--zone-file", zone)[0] in (0, 3)
    silent = ("--live", "--resolver", f"127.0.0.1:{free_port()}", "--timeout", "0.05")
    for level in ("fault", "risk", "note"):
        assert run("audit", "d.example", *silent, "--fail-on", level)[0] == 4, level
    assert run("audit", "d.example", *silent, "--fail-on", "never")[0] == 0
    shown = run("audit", "d.example", *silent)[1]
    assert "not measured: no usable answer (timeout)" in shown
    assert "not published" not in shown


def test_an_internationalised_name_is_shown_in_both_forms(run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    (tmp_path / "z.zone").write_text(RIGHT.replace("d.example", "xn--bcher-kva.example"))
    _, out, _ = run("audit", "bücher.example", "--zone-file", str(tmp_path))
    assert out.startswith("xn--bcher-kva.example (bücher.example)  ")
