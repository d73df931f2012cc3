"""The tour: only on the demo, through commands that exist, and the fix of two SPF records."""

import io
import shlex
from pathlib import Path

import pytest

from rust_gauge.cli import tour
from rust_gauge.cli.main import HELP, SHORT, noun_of
from rust_gauge.cli.output import Output
from tests.conftest import Office


def test_every_stop_is_a_command_that_the_parser_takes() -> None:
    for stop in tour._stops():
        name, *words = shlex.split(stop.command)
        assert name in HELP
        if name in SHORT:
            name, verb = SHORT[name]
            words = [verb, *words]
        noun, module = noun_of(name)
        if not words or words[0] not in noun.verbs:
            words = [module.DEFAULT, *words]
        noun.parser.parse_args(
            [word for word in words if word not in ("--tenant", "glasswort", "halyard", "copperline")]
        )


def test_without_the_demo_it_says_how_to_start_it(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    from rust_gauge.cli.main import main

    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)
    out, err = io.StringIO(), io.StringIO()
    assert main(["--url", office.world.url, "tour"], Output(out, err)) == 2
    assert "rustgauged demo" in err.getvalue()


def test_two_spf_records_are_merged_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    zone = tmp_path / "zone"
    monkeypatch.setattr(tour, "_ZONE", zone)
    assert not tour._fix(), "no demo here"
    zone.write_text('@ IN TXT "v=spf1 include:spf.cobble.example ~all"\n@ IN TXT "v=spf1 ip4:192.0.2.40/29 ~all"\n')
    assert tour._fix()
    assert zone.read_text() == '@ IN TXT "v=spf1 ip4:192.0.2.40/29 include:spf.cobble.example ~all"\n'
    assert not tour._fix()
