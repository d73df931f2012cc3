"""`rustgauge tray` and the commands for an assay's rules, as somebody works with them in a terminal."""

import json
import smtplib
import ssl
from pathlib import Path
from typing import Any

import pytest

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.tray import receiver_rule
from rust_gauge.gateways.bench_in import BenchIn
from tests.conftest import Office
from tests.vectors.assay_messages import message

CODE = message({"Subject": "Your code"}, text="Your code is 481516. It is valid for ten minutes.\n", html=None)


@pytest.fixture
def tray(office: Office, run: Any) -> dict[str, Any]:
    """A tray, with its password."""
    status, out, _ = run("tray", "add", "staging", "--title", "Booking", "--keep-days", "3", "--format", "json")
    assert status == 0
    made: dict[str, Any] = json.loads(out)
    return made


def put(run: Any, directory: Path, octets: bytes, *more: str) -> str:
    """Put a message into the tray; return its number."""
    path = directory / "message.eml"
    path.write_bytes(octets)
    status, out, err = run("tray", "put", "staging", str(path), "--format", "json", *more)
    assert status == 0, err
    return str(json.loads(out)["id"])


def test_a_tray_is_added_shown_changed_and_removed(run: Any, office: Office) -> None:
    status, out, err = run("tray", "add", "staging", "--receiver", "full@*=full", "--series-header", "X-Template")
    assert status == 0
    assert "(shown only once)" in out
    assert "How to send to it: rustgauge tray connection staging" in err
    assert "receiver    full@*: full" in out
    assert "1 rule" in run("tray", "list")[1]
    out = run(
        "tray", "update", "staging", "--keep-days", "1", "--receiver", "late@*=delay:5", "--sending-ip", "192.0.2.9"
    )[1]
    assert "keeps       1 day, 2,000 messages" in out
    assert "receiver    late@*: delay 5 s" in out
    assert "full@*" not in out
    shown = run("tray", "show", "staging")[1]
    assert ("sending IP  192.0.2.9" in shown, "template    X-Template" in shown) == (True, True)
    assert "receiver" not in run("tray", "update", "staging", "--receiver", "")[1]
    assert "password (shown only once): " in run("tray", "rotate", "staging")[1]
    assert run("tray", "remove", "staging", "--yes")[0] == 0
    assert "No trays yet. Add one: rustgauge tray add NAME" in run("tray", "list")[2]


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("full@*=full", ("full@*", "full", 0, "")),
        ("*=slow:0.5", ("*", "slow", 0.5, "")),
        ("*=greylist:300", ("*", "greylist", 300, "")),
        ("gone*=refuse:550 5.1.1 No such mailbox", ("gone*", "refuse", 0, "550 5.1.1 No such mailbox")),
        ("*=delay:30:451 4.2.0 Try later: busy", ("*", "delay", 30, "451 4.2.0 Try later: busy")),
    ],
)
def test_a_rule_of_a_receiver_is_read(text: str, values: tuple[str, str, float, str]) -> None:
    rule = receiver_rule(text)
    assert (rule.recipients, rule.action, rule.seconds, rule.reply) == values


@pytest.mark.parametrize("text", ["full", "=full", "a=explode", "a"])
def test_what_is_no_rule_of_a_receiver_says_how_one_is_written(text: str) -> None:
    with pytest.raises(UsageError, match="Write PATTERN=ACTION"):
        receiver_rule(text)


def test_a_message_is_sent_awaited_read_and_deleted(
    bench: BenchIn, tray: dict[str, Any], run: Any, capfdbinary: pytest.CaptureFixture[bytes]
) -> None:
    snippet = run("tray", "connection", "staging", "--for", "smtplib")[1]
    assert "import smtplib" in snippet
    assert "There are no settings for carrier" in run("tray", "connection", "staging", "--for", "carrier")[2]
    host, port = "localhost", json.loads(run("tray", "connection", "staging", "--format", "json")[1])["starttls_port"]
    trusted = ssl.create_default_context(cadata=run("tray", "connection", "staging", "--certificate")[1])
    with smtplib.SMTP(host, port, timeout=60) as session:
        session.starttls(context=trusted)
        session.login(tray["smtp_user"], tray["password"])
        session.sendmail("news@d.example", ["kim@tidepost.example"], CODE)
    status, out, _ = run("tray", "wait", "staging", "--recipient", "kim@tidepost.example", "--subject", "code")
    assert status == 0
    assert "code        481516" in out
    assert "envelope    news@d.example to kim@tidepost.example" in out
    number = out.split()[1]
    assert "Your code is 481516." in run("tray", "read", "staging", number)[1]
    told = run("tray", "conversation", "staging", number)[1]
    assert "TLSv1" in told.splitlines()[0]
    assert "→ MAIL FROM:<news@d.example>" in told
    assert tray["password"] not in told
    capfdbinary.readouterr()
    assert run("tray", "source", "staging", number)[0] == 0
    assert CODE.strip() in capfdbinary.readouterr().out
    assert run("tray", "delete", "staging", number)[0] == 0
    assert "No messages." in run("tray", "messages", "staging")[2]


def test_waiting_in_vain_has_a_status_of_its_own(tray: dict[str, Any], run: Any) -> None:
    status, out, err = run("tray", "wait", "staging", "--subject", "never", "--timeout", "0")
    assert (status, out) == (3, "")
    assert "No matching message arrived in the tray staging" in err


def test_messages_are_examined_compared_and_followed_by_template(
    tray: dict[str, Any], run: Any, tmp_path: Path
) -> None:
    good = put(run, tmp_path, message(), "--mail-from", "bounce@news.glasswort.example")
    bad = put(run, tmp_path, message({"List-Unsubscribe": None, "List-Unsubscribe-Post": None}))
    assert "This message did not come by SMTP." in run("tray", "conversation", "staging", good)[1]
    status, out, _ = run("tray", "assay", "staging", bad, "--fail-on", "risk", "--format", "sarif")
    assert status == 3
    found = {result["ruleId"] for result in json.loads(out)["runs"][0]["results"]}
    assert "unsubscribe-missing" in found
    assert run("tray", "assay", "staging", bad, "--fail-on", "never")[0] == 0
    assert run("tray", "assay", "staging", bad, "--fail-on", "never", "--least-mark", "100")[0] == 3
    status, out, _ = run("tray", "compare", "staging", good, bad)
    assert status == 3
    assert "List-Unsubscribe" in out
    assert run("tray", "compare", "staging", bad, good)[0] == 0
    (template,) = json.loads(run("tray", "templates", "staging", "--format", "json")[1])
    assert template["count"] == 2
    told = run("tray", "history", "staging", template["series"])[1]
    assert "2 messages, 2 examined" in told
    assert "unsubscribe-missing: 0 to " in told
    assert "Deleted 2 messages." in run("tray", "empty", "staging", "--yes")[2]


def test_rules_and_words_are_adjusted_one_by_one(tray: dict[str, Any], run: Any, tmp_path: Path) -> None:
    assert run("assay", "adjust", "subject-missing", "--points", "9", "--level", "fault")[0] == 0
    assert run("assay", "adjust", "date-missing", "--off")[0] == 0
    assert run("assay", "adjust", "--add-word", "half price", "--open-unsubscribe", "on")[0] == 0
    rules = {rule["rule"]: rule for rule in json.loads(run("assay", "rules", "--format", "json")[1])}
    assert (rules["subject-missing"]["points"], rules["subject-missing"]["level"]) == (9, "fault")
    assert rules["date-missing"]["off"]
    number = put(run, tmp_path, message({"Subject": None, "Date": None}))
    out = run("tray", "assay", "staging", number, "--format", "json")[1]
    points = {finding["rule"]: finding["points"] for finding in json.loads(out)["findings"]}
    assert points["subject-missing"] == 9
    assert "date-missing" not in points
    run("assay", "adjust", "subject-missing", "--reset")
    rules = {rule["rule"]: rule for rule in json.loads(run("assay", "rules", "--format", "json")[1])}
    assert rules["subject-missing"]["points"] == rules["subject-missing"]["shipped_points"]
    assert rules["date-missing"]["off"]
    assert run("assay", "adjust", "--off")[0] == 2
    assert "Silent: " in run("assay", "model")[1]
