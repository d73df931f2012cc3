"""`rustgauge address` with outside verifiers, as somebody works with it in a terminal."""

import json
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from rust_gauge.standins.verifier import VerifierDesk
from tests.conftest import Office

HOST = "tidepost.example"


@pytest.fixture
def desk(office: Office, monkeypatch: pytest.MonkeyPatch) -> Iterator[VerifierDesk]:
    made = VerifierDesk(0, "k1")
    threading.Thread(target=made.serve_forever, daemon=True).start()
    monkeypatch.setattr(office.world.context.settings, "verifier_hosts", [f"127.0.0.1:{made.port}"])
    yield made
    made.shutdown()
    made.server_close()


@pytest.fixture
def added(run: Any, desk: VerifierDesk, tmp_path: Path) -> str:
    document = {
        "name": "pinmarsh", "price": 0.002, "budget_day": 1,
        "request": {"url": f"http://127.0.0.1:{desk.port}/mailbox?address={{address}}",
                    "headers": [{"name": "Authorization", "value": "Bearer {secret}"}]},
        "answer": {"fields": {"verdict": {"path": "$.mailbox.state", "table": {"open": "good", "closed": "bad"}},
                              "detail": {"path": "$.mailbox.note"}}},
    }  # fmt: skip
    (tmp_path / "verifier.json").write_text(json.dumps(document))
    (tmp_path / "key").write_text("k1\n")
    status, out, _ = run(
        "address", "add-verifier", str(tmp_path / "verifier.json"), "--secret-file", str(tmp_path / "key")
    )
    assert status == 0
    return str(out)


def test_a_verifier_is_added_tried_asked_and_removed(run: Any, desk: VerifierDesk, added: str, tmp_path: Path) -> None:
    assert "pinmarsh (on), number 1 in the order" in added
    assert "k1" not in added
    status, out, _ = run("address", "try-verifier", "pinmarsh", f"ann200@{HOST}")
    assert (status, "verdict     bad (closed) no such mailbox" in out) == (0, True)
    (tmp_path / "answer.json").write_text('{"box": 1}')
    status, out, _ = run("address", "try-verifier", "pinmarsh", "--answer", str(tmp_path / "answer.json"))
    assert (status, "The answer has no verdict" in out) == (3, True)
    status, out, _ = run("address", "verify", f"ann2@{HOST}", f"bo300@{HOST}")
    assert status == 3
    assert "pinmarsh said good on 2026-11-20" in out
    assert "pinmarsh said bad on 2026-11-20 (no such mailbox)" in out
    out = run("address", "verifiers")[1]
    assert "0.002" in out
    assert "no mail yet" in out
    assert "0.0040 EUR spent" in run("address", "gauge")[2]
    assert "No verdict of the last 180 days" in run("address", "disagreements")[2]
    status, out, _ = run("address", "update-verifier", "pinmarsh", "--budget-day", "none", "--no-on", "--price", "0.01")
    assert "pinmarsh (off)" in out
    assert "of no limit" in out
    assert "is not an amount" in run("address", "update-verifier", "pinmarsh", "--budget-day", "much")[2]
    assert run("address", "remove-verifier", "pinmarsh", "--yes")[0] == 0
    assert "No verifiers yet" in run("address", "verifiers")[2]


def test_what_holds_for_all_is_shown_and_set(run: Any, tmp_path: Path) -> None:
    assert "for 90 days" in run("address", "verification")[1]
    document = json.loads(run("address", "verification", "--format", "json")[1])
    (tmp_path / "all.json").write_text(json.dumps({**document, "reuse_days": 30, "when_spent": "wait"}))
    out = run("address", "verification", "--set", str(tmp_path / "all.json"))[1]
    assert "for 30 days" in out
    assert "new recipients wait" in out


def test_recipients_are_handed_in_and_listed(
    run: Any, office: Office, desk: VerifierDesk, added: str, tmp_path: Path
) -> None:
    (tmp_path / "new.txt").write_text(f"ann1@{HOST}\nbo300@{HOST}\n")
    assert "2 taken in" in run("address", "take-in", "--file", str(tmp_path / "new.txt"))[2]
    assert "waits" in run("address", "new")[1]
    office.world.work()
    out = run("address", "new", "--verdict", "bad")[1]
    assert f"bo300@{HOST}" in out
    assert f"ann1@{HOST}" not in out
    _, out, err = run("address", "add-source", "signup-form", "--path", "$.mail")
    assert "/api/v1/new-recipients/new-" in out
    assert "not from the form itself" in err
    assert "signup-form" in run("address", "sources")[1]
    assert run("address", "remove-source", "signup-form", "--yes")[0] == 0
    assert run("address", "take-in")[0] == 2
