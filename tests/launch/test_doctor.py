"""`rustgauged doctor`: each thing that can be wrong is found, named, and comes with a way to fix it."""

import json
import socket
import ssl
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from pydantic import SecretStr
from sqlalchemy import text

from rust_gauge.client import Client
from rust_gauge.contract.feeds import NewFeed
from rust_gauge.gateways.mail_out import send
from rust_gauge.launch import doctor
from rust_gauge.launch import main as launcher
from rust_gauge.launch.doctor import Found, examine
from rust_gauge.launch.mariadb import free_port
from rust_gauge.launch.run_lock import hold_run_lock
from rust_gauge.service.runtime.settings import Settings, SignInIssuer
from rust_gauge.standins.issuer import IssuerStandIn
from rust_gauge.standins.mail_host import MailHost
from tests.conftest import Office, World


@pytest.fixture
def good(world: World, tmp_path: Path) -> Settings:
    """Settings with which little is wrong."""
    var = tmp_path / "var"
    var.mkdir()
    return world.context.settings.model_copy(
        update={"var_dir": var, "port": free_port(), "public_url": "http://localhost:8850", "secret_key": None}
    )


def levels(settings: Settings, area: str) -> list[Found]:
    return [found for found in examine(settings) if found.area == area and found.level != "ok"]


def what(settings: Settings, area: str) -> str:
    found = levels(settings, area)
    assert all(each.remedy for each in found), found
    return "; ".join(each.what for each in found)


@pytest.mark.parametrize(
    ("change", "area", "expected"),
    [
        ({"host": "0.0.0.0"}, "configuration", "without TLS"),
        ({"public_url": ""}, "configuration", "public_url is not set"),
        ({"public_url": "http://gauge.example.test"}, "configuration", "is not https"),
        ({"public_url": "https://gauge.example.test"}, "configuration", "neither tls_cert_file nor proxies"),
        ({"feed_folders": [Path("/nowhere/here")]}, "configuration", "/nowhere/here cannot be read"),
        ({"dns_servers": ["127.0.0.1:9"], "dns_timeout": 0.2}, "resolver", "127.0.0.1 port 9 does not answer"),
        ({"mail_relays": {"office": "127.0.0.1:1"}}, "outgoing mail", "office (127.0.0.1:1) cannot be reached"),
        ({"mail_from": "x@localhost", "mail_relays": {"a": "127.0.0.1:1"}}, "outgoing mail", "mail_from is x@localhost"),
        ({"secret_key": SecretStr("short")}, "keys", "secret_key has 5 characters"),
        ({"database_url": SecretStr("mysql+pymysql://u:p@127.0.0.1:1/x")}, "database", "unavailable"),
        ({"database_url": None}, "database", "the private MariaDB does not run"),
        ({"tls_cert_file": Path("/nowhere.pem")}, "certificate", "tls_key_file is not set"),
        ({"tls_cert_file": Path("/nowhere.pem"), "tls_key_file": Path("/n.key")}, "certificate", "cannot be used"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_found(good: Settings, change: dict[str, Any], area: str, expected: str) -> None:
    assert expected not in what(good, area)
    assert expected in what(good.model_copy(update=change), area)


def test_no_relay_is_a_warning(good: Settings) -> None:
    (found,) = levels(good, "outgoing mail")
    assert (found.level, found.what.partition(":")[0]) == ("warning", "no relay")


def test_a_check_that_fails_itself_spoils_no_other(good: Settings, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(_: Settings) -> Any:
        raise ZeroDivisionError("x")
        yield

    monkeypatch.setattr(doctor, "CHECKS", (("first", broken), *doctor.CHECKS))
    found = list(examine(good))
    assert (found[0].level, found[0].what) == ("problem", "This check failed: ZeroDivisionError: x")
    assert {each.area for each in found} >= {"first", "disk", "database", "resolver"}


def test_files_that_others_can_read_are_named(good: Settings, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    for name in ("secret.key", "mariadb/access"):
        path = good.var_dir / name
        path.parent.mkdir(exist_ok=True)
        path.touch(mode=0o600)
    assert "can be read by others" not in what(good, "permissions")
    (good.var_dir / "secret.key").chmod(0o644)
    assert "secret.key can be read by others" in what(good, "permissions")
    config = tmp_path / "rust-gauge.toml"
    config.touch()
    config.chmod(0o644)
    monkeypatch.setenv("RUSTGAUGE_CONFIG", str(config))
    assert "can be read by every user" in what(good, "configuration")


def test_ports_are_free_or_our_own(good: Settings) -> None:
    assert what(good, "ports") == ""
    with socket.create_server(("127.0.0.1", good.port)):
        assert "cannot be used: Address already in use" in what(good, "ports")
        with hold_run_lock(good.var_dir / "run.lock"):
            assert what(good, "ports") == ""
    with hold_run_lock(good.var_dir / "run.lock"):
        assert "is free although Rust Gauge runs" in what(good, "ports")


def test_settings_of_the_database_are_looked_at(good: Settings, world: World) -> None:
    admin = world.database
    try:
        _global(world, "max_allowed_packet", "16777216")
        assert "max_allowed_packet is 16,777,216" in what(good, "database")
    finally:
        _global(world, "max_allowed_packet", "67108864")
    assert admin.runs()


def _global(world: World, name: str, value: str) -> None:
    """Set a global variable as the server's root, by its socket."""
    import pymysql

    password = next(
        line.split("'")[5]
        for line in (world.database.directory / "init.sql").read_text().splitlines()
        if "'root'" in line
    )
    connection = pymysql.connect(unix_socket=str(world.database._socket()), user="root", password=password)
    with connection.cursor() as cursor:
        cursor.execute(f"SET GLOBAL {name} = {value}")
    connection.close()


def test_credentials_of_another_key_are_counted(good: Settings, office: Office, client: Client) -> None:
    right = good.model_copy(update={"secret_key": office.world.context.settings.secret_key})
    client.feeds.add(office.slug, NewFeed(name="box", kind="http", password="hunter2hunter2"))
    assert "cannot be decrypted" not in what(right, "keys")
    wrong = good.model_copy(update={"secret_key": SecretStr("x" * 32)})
    assert "stored credentials cannot be decrypted" in what(wrong, "keys")


def test_a_database_of_another_version_is_said(good: Settings, world: World) -> None:
    store = world.context.store
    there = store.transaction(lambda c: c.scalar(text("SELECT version_num FROM alembic_version")))

    def put(version: str) -> None:
        store.transaction(lambda c: c.execute(text("UPDATE alembic_version SET version_num = :v"), {"v": version}))

    try:
        put("0001")
        assert "this version needs" in what(good, "database")
        put("9999")
        assert "is newer than this version" in what(good, "database")
    finally:
        put(str(there))


def _certificate(folder: Path, name: str, days: float) -> dict[str, Path]:
    key, now = ec.generate_private_key(ec.SECP256R1()), datetime.now(UTC)
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    made = (
        x509.CertificateBuilder().subject_name(subject).issuer_name(subject).public_key(key.public_key())
        .serial_number(1).not_valid_before(now - timedelta(days=90)).not_valid_after(now + timedelta(days=days))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False).sign(key, hashes.SHA256())
    )  # fmt: skip
    cert, private = folder / "cert.pem", folder / "key.pem"
    cert.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    form = serialization.PrivateFormat.PKCS8
    private.write_bytes(key.private_bytes(serialization.Encoding.PEM, form, serialization.NoEncryption()))
    return {"tls_cert_file": cert, "tls_key_file": private}


@pytest.mark.parametrize(
    ("name", "days", "expected"),
    [
        ("gauge.example.test", 60, ""),
        ("*.example.test", 60, ""),
        ("other.example.test", 60, "it is not for gauge.example.test"),
        ("gauge.example.test", 13.5, "expires in 13 days"),
        ("gauge.example.test", -1, "expired"),
    ],
)
def test_certificates(good: Settings, tmp_path: Path, name: str, days: float, expected: str) -> None:
    files = _certificate(tmp_path, name, days)
    settings = good.model_copy(update={**files, "public_url": "https://gauge.example.test"})
    assert what(settings, "certificate").startswith(expected)
    assert bool(what(settings, "certificate")) == bool(expected)


def test_outgoing_mail_and_issuers_are_tried(
    good: Settings, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    relay = MailHost(0, keep=tmp_path / "mail")
    issuer = IssuerStandIn(0, {"isla@skerry.example": "Isla"}, "id", "secret")
    for server in (relay, issuer):
        threading.Thread(target=server.serve_forever, daemon=True).start()
    settings = good.model_copy(
        update={
            "mail_relays": {"office": f"127.0.0.1:{relay.server_address[1]}"}, "mail_from": "gauge@skerry.example",
            "sign_in_issuers": {
                "office": SignInIssuer(issuer=issuer.address, client_id="id"),
                "away": SignInIssuer(issuer="http://127.0.0.1:1", client_id="id"),
            },
        }
    )  # fmt: skip
    try:
        found = list(examine(settings, mail_to="isla@skerry.example"))
    finally:
        for server in (relay, issuer):
            server.shutdown()
            server.server_close()
    shown = {each.what: each.level for each in found if each.area in ("outgoing mail", "sign-in")}
    assert shown["office takes mail of gauge@skerry.example, with TLS"] == "ok"
    assert shown["a test message to isla@skerry.example was accepted by the relay"] == "ok"
    assert shown[f"office ({issuer.address}) answers"] == "ok"
    assert any(text.startswith("away: http://127.0.0.1:1") for text, level in shown.items() if level == "problem")


def test_the_command_says_it_as_text_and_as_data(
    good: Settings, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(launcher, "Settings", lambda: good)
    assert launcher.main(["doctor"]) == 0
    text = capsys.readouterr().out
    assert "0 problems" in text
    monkeypatch.setattr(launcher, "Settings", lambda: good.model_copy(update={"host": "0.0.0.0"}))
    assert launcher.main(["doctor", "--format", "json"]) == 1
    found = json.loads(capsys.readouterr().out)
    assert {"area", "level", "what", "remedy"} == set(found[0])
    assert any(each["level"] == "problem" and "without TLS" in each["what"] for each in found)


def test_a_relay_that_offers_tls_gets_the_message_over_tls(tmp_path: Path) -> None:
    from email.message import EmailMessage

    from aiosmtpd.controller import Controller

    files = _certificate(tmp_path, "relay.example", 10)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(files["tls_cert_file"], files["tls_key_file"])
    seen: list[bool] = []

    class Handler:
        async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
            seen.append(session.ssl is not None)
            return "250 ok"

    controller = Controller(Handler(), hostname="127.0.0.1", port=free_port(), tls_context=context)
    controller.start()
    message = EmailMessage()
    message["From"], message["To"] = "a@b.example", "c@d.example"
    message.set_content("x")
    try:
        send("127.0.0.1", controller.port, message, "a@b.example", "c@d.example", "b.example")
    finally:
        controller.stop()
    assert seen == [True]
