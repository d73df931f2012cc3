"""`rustgauge assay FILE`: without a service, with an exit status for a pipeline, in the formats that it reads."""

import io
import json
import xml.etree.ElementTree as ET
from collections.abc import Callable
from datetime import UTC, datetime
from email.utils import format_datetime
from pathlib import Path

import pytest

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.contract.assays import Assay
from tests.vectors.assay_messages import APPLIES, message

Run = Callable[..., tuple[int, str, str]]
ZONE = """$ORIGIN news.glasswort.example.
$TTL 600
@ IN SOA ns1 hostmaster 1 3600 600 86400 60
@ IN NS ns1
@ IN TXT "v=spf1 ip4:192.0.2.9 -all"
_dmarc IN TXT "v=DMARC1; p=reject"
"""


@pytest.fixture
def run(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Run:
    monkeypatch.setenv("RUSTGAUGE_URL", "http://127.0.0.1:9")  # nothing is there
    monkeypatch.chdir(tmp_path)

    def command(*words: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        return main(["assay", *words], Output(out, err)), out.getvalue(), err.getvalue()

    return command


def write(name: str, raw: bytes) -> str:
    Path(name).write_bytes(raw)
    return name


def test_a_good_message_passes(run: Run) -> None:
    status, out, _ = run(write("good.eml", message({"Date": None, "Subject": "Hello"})), "--fail-on", "never")
    assert status == 0
    assert "Mark 96 of 100: 1 finding, 4 points off" in out
    assert "Not checked: SPF, DKIM and DMARC: DNS was not asked" in out


@pytest.mark.parametrize(
    ("rule", "words", "expected"),
    [
        ("html-script", (), 3),
        ("html-form", (), 0),
        ("html-form", ("--fail-on", "risk"), 3),
        ("html-lang-missing", ("--fail-on", "risk"), 0),
        ("html-lang-missing", ("--fail-on", "note"), 3),
        ("html-script", ("--fail-on", "never"), 0),
        ("html-form", ("--least-mark", "96"), 3),
        ("html-form", ("--least-mark", "90"), 0),
    ],
)
def test_the_exit_status_is_for_the_pipeline(run: Run, rule: str, words: tuple[str, ...], expected: int) -> None:
    today = format_datetime(datetime.now(UTC)).encode()  # the clock of the command is the machine's
    raw = APPLIES[rule]().replace(b"Mon, 30 Nov 2026 09:00:00 +0000", today)
    status, out, _ = run(write("a.eml", raw), *words, "--format", "json")
    assay = Assay.model_validate_json(out)
    assert {finding.rule for finding in assay.findings} == {rule}
    assert status == expected
    assert round(assay.mark + sum(finding.points for finding in assay.findings), 1) == 100


def test_authentication_is_evaluated_from_a_zone_file(run: Run) -> None:
    Path("news.glasswort.example.zone").write_text(ZONE)
    path = write("a.eml", message())
    known = (
        "--zone-file",
        "news.glasswort.example.zone",
        "--ip",
        "192.0.2.9",
        "--mail-from",
        "b@news.glasswort.example",
    )
    _, out, _ = run(path, *known, "--format", "json")
    assay = Assay.model_validate_json(out)
    assert assay.authentication is not None
    assert assay.authentication.dmarc[0].result == "pass"
    assert "dkim-missing" in {finding.rule for finding in assay.findings}
    assert run(path, *known[:2], "--ip", "192.0.2.300")[0] == 2


def test_sarif_and_junit_name_rule_and_place(run: Run) -> None:
    path = write("a.eml", APPLIES["link-text-differs"]())
    status, out, _ = run(path, "--format", "sarif")
    result = next(r for r in json.loads(out)["runs"][0]["results"] if r["ruleId"] == "link-text-differs")
    assert (status, result["level"]) == (3, "error")
    location = result["locations"][0]
    assert location["physicalLocation"]["artifactLocation"]["uri"] == "a.eml"
    assert location["logicalLocations"][0]["fullyQualifiedName"].startswith("part 1.2, line 1, column ")
    _, out, _ = run(path, "--format", "junit")
    case = next(case for case in ET.fromstring(out).iter("testcase") if case.get("name") == "links")
    failure = case.find("failure")
    assert failure is not None
    assert failure.get("type") == "link-text-differs"
    assert run(path, "--format", "csv")[1].startswith("rule,group,level,points")


def test_what_is_no_message_is_said_in_a_line(run: Run) -> None:
    status, out, err = run(write("empty.eml", b""))
    assert (status, out) == (2, "")
    assert "This is not a message" in err
    status, _, err = run("missing.eml")
    assert status == 2
    assert "missing.eml cannot be read" in err


def test_messages_are_compared_with_the_first(run: Run) -> None:
    first, second = write("a.eml", APPLIES["link-plain-http"]()), write("b.eml", message())
    status, out, _ = run("compare", first, second)
    assert status == 0
    assert "b.eml against a.eml: mark" in out
    assert "Because this changed: links" in out
    assert run("compare", second, first)[0] == 3, "the mark is lower"
    assert json.loads(run("compare", first, second, "--format", "json")[1])[0]["against"] == "a.eml"
    assert run("compare", first)[0] == 2


def test_support_is_told_by_family(run: Run) -> None:
    path = write("a.eml", message(html='<p style="border-radius: 4px">Hello</p>'))
    status, out, _ = run("support", path, "--format", "csv")
    assert status == 3
    assert "Round corners" in out
    assert run("support", path, "--family", "desktop")[0] == 0
    assert run("support", path, "--family", "nobody")[0] == 2
    assert run("support", write("b.eml", message(html=None)))[0] == 0
