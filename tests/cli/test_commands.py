"""The command line against the running service: what it prints, where, and its exit status."""

import csv
import io
import json
import subprocess
import sys
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output, plate
from rust_gauge.client import Client
from rust_gauge.contract.relays import RelayDescription, RelayLimit
from rust_gauge.core.roles import Role
from rust_gauge.service.worker import run_worker
from rust_gauge.store import accounts as store_accounts
from tests.conftest import Office, close_office, make_office
from tests.rows import bounce, ndjson, row


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


def broken_zone(office: Office) -> str:
    name = f"{office.slug}.example"
    office.world.zone(
        name, '@ IN TXT "v=spf1 ip4:192.0.2.1 ~all"\n@ IN TXT "v=spf1 mx ~all"\n@ IN MX 10 mx\nmx IN A 192.0.2.5\n'
    )
    return name


def test_from_adding_a_domain_to_its_audit(office: Office, run) -> None:  # type: ignore[no-untyped-def]
    name = broken_zone(office)
    assert run("domain", "list")[2].startswith("No domains yet")
    added = run("domain", "add", name, "--selector", "s1")
    assert added == (0, "", f"Added {name} to {office.slug}. Next: rustgauge audit {name}\n")
    status, out, _ = run("audit", name)
    assert status == 3
    assert f"FAULT  2 SPF records on {name}" in out
    assert "Publish:" in out
    assert "v=spf1 ip4:192.0.2.1 mx ~all" in out or "v=spf1 mx ip4:192.0.2.1 ~all" in out
    assert "\x1b" not in out
    assert "2 faults, 2 risks" in run("domain", "list")[1]
    assert run("audit", "show", name)[0] == 3


def test_an_audit_as_json_and_csv_says_the_same(office: Office, run) -> None:  # type: ignore[no-untyped-def]
    name = broken_zone(office)
    run("domain", "add", name)
    status, out, _ = run("audit", name, "--format", "json")
    audit = json.loads(out)
    assert (status, audit["domain"]) == (3, name)
    rows = list(csv.DictReader(io.StringIO(run("audit", "show", name, "--format", "csv")[1])))
    assert [row["rule"] for row in rows] == [finding["rule"] for finding in audit["findings"]]


def test_colour_is_for_terminals_and_can_be_refused(
    office: Office,
    run,
    monkeypatch: pytest.MonkeyPatch,  # type: ignore[no-untyped-def]
) -> None:
    name = broken_zone(office)
    run("domain", "add", name)
    monkeypatch.setenv("TERM", "xterm")
    monkeypatch.delenv("NO_COLOR", raising=False)
    assert "\x1b[31mFAULT" in run("audit", name, out=Terminal())[1]
    monkeypatch.setenv("NO_COLOR", "1")
    assert "\x1b" not in run("audit", name, out=Terminal())[1]


def test_a_wrong_character_is_pointed_at(office: Office, run) -> None:  # type: ignore[no-untyped-def]
    name = f"{office.slug}.example"
    office.world.zone(name, '@ IN TXT "v=spf1 ip4:192.0.2.256 -all"\n')
    run("domain", "add", name)
    lines = run("audit", name)[1].splitlines()
    marked = next(i for i, line in enumerate(lines) if "^" in line)
    start, carets = lines[marked].index("^"), lines[marked].count("^")
    assert lines[marked - 1][start : start + carets] == "192.0.2.256"


def test_a_file_is_loaded_twice_and_counts_once(office: Office, run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "events.ndjson"
    path.write_bytes(ndjson(*(row(n) for n in range(5200)), "oops", bounce(9000)))
    status, out, err = run("event", "import", str(path))
    assert (status, out) == (3, "")
    assert err.startswith("line 5201: This line is n")
    assert err.endswith("5,201 stored, 0 duplicates, 1 rejected.\n")
    status, out, _ = run("event", "import", str(path), "--format", "json")
    assert json.loads(out)["duplicates"] == 5201


def test_a_file_of_bad_rows_only_is_told_row_by_row(run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "events.ndjson"
    path.write_bytes(ndjson(row(kind="posted"), row(domain="x")))
    status, out, err = run("event", "import", str(path))
    assert (status, out) == (3, "")
    assert [line.split(":")[0] for line in err.splitlines()] == [
        "line 1", "line 2", "0 stored, 0 duplicates, 2 rejected.",
    ]  # fmt: skip


def test_a_file_that_is_not_utf8_or_not_there_is_refused_whole(office: Office, run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "events.ndjson"
    path.write_bytes(ndjson(row(1)) + b"\xe9\n")
    status, out, err = run("event", "import", str(path))
    assert (status, out) == (2, "")
    assert "not UTF-8: octet 1 of line 2" in err
    with office.client() as client:
        assert list(client.events.list(office.slug)) == []
    assert "cannot be read" in run("event", "import", str(tmp_path / "none"))[2]


def test_flow_readings_and_the_wall_show_what_was_loaded(office: Office, run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    # The command counts days back from the real today, so the mail has to be of these days.
    now = datetime.now(UTC)
    office.world.clock.now, kept = now, office.world.clock.now
    try:
        path = tmp_path / "events.ndjson"
        times = [(now - timedelta(minutes=n + 1)).isoformat() for n in range(400)]
        path.write_bytes(ndjson(*(row(n, time=t) for n, t in enumerate(times[:380])),
                                *(bounce(n, time=t) for n, t in enumerate(times[380:], 380))))  # fmt: skip
        assert run("event", "import", str(path))[0] == 0
        office.world.work()
        flow = run("flow", "--domain", "news.d.example")[1]
        assert "tidepost.example" in flow
        assert "5.0 % (3.3-7.6)" in flow
        assert "no such mailbox" in flow
        rows = [json.loads(line) for line in run("flow", "--format", "ndjson")[1].splitlines()]
        assert rows[0]["counts"]["delivered"] == 380
        reading = run("reading", "news.d.example")[1]
        assert "invalid addresses, tidepost.example" in reading
        assert "100 - " in reading
        series = json.loads(run("reading", "news.d.example", "--format", "json")[1])
        assert series["readings"][-1]["provisional"]
        wall, legend = run("wall")[1:]
        assert "news.d.example" in wall
        assert "= sound" in legend
        assert json.loads(run("wall", "--format", "json")[1])["rows"][0]["name"] == "news.d.example"
    finally:
        office.world.clock.now = kept


def test_clearance_of_a_file_keeps_order_and_tells_by_its_status(office: Office, run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    with office.client() as client:
        client.events.load(office.slug, ndjson(bounce(1)))
    path = tmp_path / "list.txt"
    path.write_text("fine@tidepost.example\n\nPerson1@tidepost.example\n=cmd@tidepost.example\n")
    status, out, err = run("clearance", "--file", str(path))
    assert status == 3
    assert [line.split()[1] for line in out.splitlines()[1:]] == ["clear", "held", "clear"]
    assert err == "2 clear, 1 held.\n"
    out = run("clearance", "--file", str(path), "--format", "csv")[1]
    assert "'=cmd@tidepost.example" in out  # no formula reaches a spreadsheet
    assert run("clearance", "fine@tidepost.example", "--only-held")[0] == 0
    assert run("clearance")[0] == 2
    assert "person1@tidepost.example" in run("suppression", "list")[1]


def test_a_trail_reads_from_old_to_new(office: Office, run) -> None:  # type: ignore[no-untyped-def]
    with office.client() as client:
        address = "a@tidepost.example"
        client.events.load(
            office.slug, ndjson(row(1, recipient=address, kind="accepted"), bounce(2, recipient=address))
        )
    out = run("trail", "A@tidepost.example")[1]
    assert [line.split()[2] for line in out.splitlines()[1:]] == ["accepted", "bounced"]
    assert "550 5.1.1 no such mailbox" in out
    assert run("trail")[0] == 2


def test_what_goes_wrong_is_said_with_what_to_do(office: Office, run, monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    status, out, err = run("audit", "nowhere.example")
    assert (status, out) == (1, "")
    assert "no domain nowhere.example" in err
    assert "Add the domain first" in err
    status, _, err = run("domain", "add", "not a domain")
    assert status == 1
    assert "not a domain name" in err
    monkeypatch.setenv("RUSTGAUGE_TOKEN", "rgt_old")
    status, _, err = run("domain", "list")
    assert status == 1
    assert "RUSTGAUGE_TOKEN" in err
    monkeypatch.setattr("time.sleep", lambda _: None)
    err_stream = io.StringIO()
    assert main(["domain", "list", "--url", "http://127.0.0.1:9"], Output(io.StringIO(), err_stream)) == 1
    assert "Check that the service is running" in err_stream.getvalue()


def test_the_installed_command_tells_its_version() -> None:
    command = Path(sys.executable).with_name("rustgauge")
    done = subprocess.run([command, "--version"], capture_output=True, text=True, check=True)
    assert done.stdout.startswith("rustgauge 0.")


@pytest.mark.parametrize(
    ("value", "margin", "strip"),
    [(100, 0, "██████████"), (54, 12, "█████▒░░░░"), (0, None, "░░░░░░░░░░"), (None, None, "··········")],
)
def test_a_plate_shows_what_is_left_and_how_sure_that_is(value: float, margin: float, strip: str) -> None:
    assert plate(value, margin) == strip


def test_the_list_is_kept_from_the_terminal(office: Office, run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    with office.client() as client:
        client.events.load(office.slug, ndjson(row(1), row(2, kind="complained")))
    assert run("suppression", "add", "Kim@kbox.example", "nobody", "--note", "asked by phone")[::2] == (
        3, "nobody: it has no @\n1 held, 0 already on the list, 1 rejected.\n",
    )  # fmt: skip
    assert "asked by phone" in run("suppression", "list", "kim")[1]
    status, out, _ = run("suppression", "show", "person2@tidepost.example")
    assert (status, "complaint" in out) == (3, True)
    assert out.startswith("person2@tidepost.example: held, the recipient reported")
    rejected = run("suppression", "remove", "person2@tidepost.example", "--reason", "wrote to us")
    assert (rejected[0], "complaint" in rejected[2]) == (1, True)
    assert (
        run("suppression", "remove", "person2@tidepost.example", "--reason", "wrote to us", "--despite-complaint")[0]
        == 0
    )
    changes = [json.loads(line) for line in run("suppression", "changes")[1].splitlines()]
    assert [change["change"] for change in changes] == ["made", "made", "lifted"]
    target = tmp_path / "all.csv"
    assert run("suppression", "export", str(target))[0] == 0
    assert [line["address"] for line in csv.DictReader(target.open())] == ["Kim@kbox.example"]
    assert "manual" in run("suppression", "growth")[1]
    assert "complaint" in run("suppression", "policy")[1]
    policy = tmp_path / "policy.json"
    policy.write_text(run("suppression", "policy", "--format", "json")[1])
    assert run("suppression", "policy", "--set", str(policy))[0] == 0
    assert run("suppression", "policy", "--set", str(target))[0] == 2
    assert run("suppression", "policy", "--reset")[0] == 0
    out = run("suppression", "unsubscribe-link", "a@tidepost.example", "--domain", "news.d.example")[1]
    assert out.splitlines()[1] == "List-Unsubscribe-Post: List-Unsubscribe=One-Click"
    assert "0 unsubscriptions in 30 days" in run("suppression", "unsubscribes")[2]
    assert "check_policy_service" in run("clearance", "add-gate", "mta1")[1]
    assert "mta1" in run("clearance", "gates")[1]
    assert (
        run("clearance", "remove-gate", "mta1", "--yes")[0],
        run("clearance", "remove-gate", "mta1", "--yes")[0],
    ) == (0, 2)
    assert run("address", "check", "person1@tidepost.example", "nobody")[0] == 3


def test_a_csv_file_is_cut_in_two_with_the_reason(office: Office, run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    with office.client() as client:
        client.events.load(office.slug, ndjson(bounce(1)))
    path = tmp_path / "spring.csv"
    path.write_text('name,E-Mail\n"Gone, Ann",person1@tidepost.example\nFine,fine@tidepost.example\nOdd,nobody\n')
    status, _, err = run("clearance", "split", str(path))
    assert (status, "1 clear" in err, "2 held" in err) == (3, True, True)
    assert (tmp_path / "spring.clear.csv").read_text().splitlines() == ["name,E-Mail", "Fine,fine@tidepost.example"]
    held = list(csv.DictReader((tmp_path / "spring.held.csv").open()))
    assert [(line["name"], line["held_reason"]) for line in held] == [
        ("Gone, Ann", "invalid_address"),
        ("Odd", "no_address"),
    ]
    assert run("clearance", "split", str(path), "--column", "nope")[0] == 2
    assert run("clearance", "split", str(tmp_path / "none.csv"))[0] == 2


def test_lists_come_in_and_are_checked_from_the_terminal(office: Office, run, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    stop = threading.Event()
    worker = threading.Thread(target=run_worker, args=(office.world.context, stop), daemon=True)
    worker.start()
    try:
        path = tmp_path / "old.csv"
        path.write_text("Mail;When\nann@tidepost.example;2026-01-02\nnobody;\n")
        dry = run("suppression", "import", str(path), "--dry-run", "--reason", "complaint", "--column", "since=When")
        assert (dry[0], "Dry run" in dry[2], "1 new, 1 rejected" in dry[2]) == (3, True, True)
        assert "address from Mail, since from When" in dry[2] or "since from When, address from Mail" in dry[2]
        done = run(
            "suppression", "import", str(path), "--reason", "complaint", "--rejected-to", str(tmp_path / "no.csv")
        )
        assert "1 new" in done[2]
        assert "nobody" in (tmp_path / "no.csv").read_text()
        path.write_text("ann@tidepost.example\nbo@tidepost.example\n")
        checked = run("clearance", "check-list", str(path), "--clear-to", str(tmp_path / "yes.csv"))
        assert (checked[0], "2 rows: 1 clear, 1 held" in checked[2]) == (3, True)
        assert (tmp_path / "yes.csv").read_text().splitlines() == ["address", "bo@tidepost.example"]
        assert run("suppression", "import", str(tmp_path / "none.csv"))[0] == 2
    finally:
        stop.set()
        worker.join(20)


def test_the_tenant_is_the_one_that_added_the_domain(office: Office, run: Any) -> None:
    """A domain of somebody else's events does not make a command ambiguous."""
    world = office.world
    other = make_office(world)
    account = world.context.store.transaction(lambda c: store_accounts.principal_of_email(c, office.email))
    assert account is not None
    world.context.store.transaction(lambda c: store_accounts.grant(c, account.account_id, other.tenant.id, Role.ADMIN))
    with office.client() as client:
        client.domains.add(office.slug, "both.example")
        client.events.load(other.slug, ndjson(bounce(1, domain="both.example")))
        assert run("domain", "show", "both.example", "--format", "json")[0] == 0
        client.domains.add(other.slug, "both.example")
    status, _, said = run("domain", "show", "both.example")
    assert (status, "several tenants have both.example" in said) == (2, True), said
    close_office(other)


def test_the_limits_of_a_relay_are_shown_and_clearance_says_later(office: Office, run: Any, client: Client) -> None:
    now = office.world.clock.now
    limits = [
        RelayLimit(region="north", per_hour=10, per_day=100, hold_back=True),
        RelayLimit(region="south", per_second=50),
    ]
    client.relays.set(office.slug, "office-1", RelayDescription(limits=limits))
    rows = [row(n, time=(now - timedelta(minutes=5)).isoformat()) for n in range(9)]
    client.events.load(office.slug, ndjson(*rows))
    status, out, _ = run("relay", "usage", "office-1")
    assert status == 0
    assert "10 an hour" in out and "holds mail back" in out and "50 a second" in out
    status, out, err = run("clearance", "check", "a@d.example", "b@d.example", "--relay", "office-1")
    assert (status, "1 clear, 0 held, 1 later." in err) == (3, True)
    assert "not before 2026-11-20" in out
    client.events.load(office.slug, ndjson(row(20, time=(now - timedelta(minutes=4)).isoformat())))
    assert run("relay", "usage", "office-1")[0] == 3
