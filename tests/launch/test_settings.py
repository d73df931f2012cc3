"""Settings from file and environment, and the parts of the launcher that need no processes."""

from pathlib import Path

import pytest
from pydantic import ValidationError

from rust_gauge.core.dns import split_server
from rust_gauge.launch import main as launcher
from rust_gauge.launch.mariadb import LaunchError
from rust_gauge.launch.run_lock import hold_run_lock
from rust_gauge.launch.supervisor import Supervisor
from rust_gauge.service.runtime.settings import Settings


def test_the_environment_overrules_the_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "settings.toml"
    path.write_text('port = 9000\nworkers = 3\ndns_servers = ["192.0.2.1:5300"]\n')
    monkeypatch.setenv("RUSTGAUGE_CONFIG", str(path))
    monkeypatch.setenv("RUSTGAUGE_PORT", "9001")
    settings = Settings()
    assert (settings.port, settings.workers, settings.dns_servers) == (9001, 3, ["192.0.2.1:5300"])


@pytest.mark.parametrize("text", ["prot = 1\n", "port = 99999\n", 'dns_servers = ["resolver.example"]\n'])
def test_a_setting_that_is_wrong_is_named_not_ignored(
    text: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "settings.toml"
    path.write_text(text)
    monkeypatch.setenv("RUSTGAUGE_CONFIG", str(path))
    with pytest.raises(ValidationError):
        Settings()
    assert launcher.main(["migrate"]) == 1
    assert f"rustgauged: setting {text.partition(' ')[0]}" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("text", "server"),
    [
        ("192.0.2.1", ("192.0.2.1", 53)),
        ("192.0.2.1:5353", ("192.0.2.1", 5353)),
        ("2001:db8::1", ("2001:db8::1", 53)),
        ("[2001:db8::1]", ("2001:db8::1", 53)),
        ("[2001:db8::1]:5353", ("2001:db8::1", 5353)),
    ],
)
def test_a_dns_server_is_an_address_and_a_port(text: str, server: tuple[str, int]) -> None:
    assert split_server(text) == server


@pytest.mark.parametrize("text", ["", "name.example", "192.0.2.1:x", "192.0.2.1:0", "192.0.2.1:99999"])
def test_what_is_no_dns_server_is_refused(text: str) -> None:
    with pytest.raises(ValueError):
        split_server(text)


def test_only_one_launcher_runs_on_a_folder(tmp_path: Path) -> None:
    path = tmp_path / "run.lock"
    with (
        hold_run_lock(path),
        pytest.raises(LaunchError, match="already runs"),
        hold_run_lock(path),
    ):
        pass
    with hold_run_lock(tmp_path / "run.lock"):
        pass


def test_the_supervisor_tells_which_part_ended_and_what_it_said(tmp_path: Path) -> None:
    supervisor = Supervisor(tmp_path)
    supervisor.start("part", ["no_such_module_here"], {})
    supervisor.parts[0].process.wait(20)
    with pytest.raises(LaunchError, match="No module named no_such_module_here"):
        supervisor.check()
    supervisor.stop()
    assert supervisor.parts == []
