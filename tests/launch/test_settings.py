"""Settings from file and environment, and the parts of the launcher that need no processes."""

from pathlib import Path
from typing import Any

import httpx
import pytest
import uvicorn
from pydantic import ValidationError

from rust_gauge.core.dns import split_server
from rust_gauge.launch import main as launcher
from rust_gauge.launch.mariadb import LaunchError
from rust_gauge.launch.process import server_options
from rust_gauge.launch.run_lock import hold_run_lock
from rust_gauge.launch.supervisor import Supervisor
from rust_gauge.service.http.middleware import masked
from rust_gauge.service.runtime.settings import Settings
from tests.conftest import running


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


@pytest.mark.parametrize(
    ("changes", "openly"),
    [
        ({}, False), ({"host": "localhost"}, False), ({"host": "::1"}, False), ({"host": "0.0.0.0"}, True),
        ({"host": "192.0.2.1"}, True), ({"host": "::"}, True), ({"host": "gauge.example"}, True),
        ({"host": "0.0.0.0", "allow_plain_http": True}, False),
        ({"host": "0.0.0.0", "tls_cert_file": Path("cert.pem")}, False),
        ({"host": "0.0.0.0", "public_url": "https://gauge.example"}, True),
    ],
)  # fmt: skip
def test_nobody_is_reached_over_a_network_in_clear_unasked(changes: dict[str, Any], openly: bool) -> None:
    settings = Settings(**changes)
    assert settings.listens_openly is openly
    if openly:
        with pytest.raises(LaunchError, match="without TLS"):
            launcher._require_tls(settings)
    else:
        launcher._require_tls(settings)


@pytest.mark.parametrize(
    ("proxies", "seen"), [([], "127.0.0.1"), (["192.0.2.0/24"], "127.0.0.1"), (["127.0.0.0/8"], "198.51.100.9")]
)
def test_only_named_proxies_say_where_a_request_came_from(proxies: list[str], seen: str) -> None:
    async def app(scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] == "http":
            await send({"type": "http.response.start", "status": 200, "headers": []})
            await send({"type": "http.response.body", "body": scope["client"][0].encode()})

    options = server_options(Settings(proxies=proxies, port=0))
    server = uvicorn.Server(uvicorn.Config(app, **options, lifespan="off"))
    thread = running(server)
    try:
        port = server.servers[0].sockets[0].getsockname()[1]
        answer = httpx.get(f"http://127.0.0.1:{port}/", headers={"X-Forwarded-For": "198.51.100.9"})
        assert answer.text == seen
    finally:
        server.should_exit = True
        thread.join(20)


def test_a_proxy_that_is_no_address_is_refused() -> None:
    with pytest.raises(ValidationError):
        Settings(proxies=["front.example"])


@pytest.mark.parametrize(
    ("path", "shown"),
    [
        ("/api/v1/intake/0123456789abcdef", "/api/v1/intake/..."), ("/confirm/secret", "/confirm/..."),
        ("/unsubscribe/secret", "/unsubscribe/..."), ("/api/v1/tenants/a/feeds", "/api/v1/tenants/a/feeds"),
        ("/api/v1/intake/key/more", "/api/v1/intake/.../more"), ("/api/v1/tls-reports/0123", "/api/v1/tls-reports/..."),
    ],
)  # fmt: skip
def test_secret_parts_of_addresses_are_not_logged(path: str, shown: str) -> None:
    assert masked(path) == shown
