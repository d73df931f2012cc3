"""`rustgauged doctor`: what would keep an installation from working, or from being safe, and how to fix it.

Each check looks for itself, and one that fails in a way nobody foresaw is a finding of its own. Nothing is changed;
a test message is sent only when an address for it is given.
"""

import ctypes
import fcntl
import ipaddress
import os
import smtplib
import socket
import ssl
import stat
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage
from pathlib import Path
from typing import Literal
from urllib.parse import urlsplit

import dns.exception
import dns.message
import dns.query
import dns.rcode
import pymysql
from cryptography import x509
from cryptography.exceptions import InvalidSignature
from sqlalchemy import Connection, text

from rust_gauge.core.dns import split_server
from rust_gauge.gateways.deadline import Smtp
from rust_gauge.gateways.issuer import IssuerClient, IssuerFailed
from rust_gauge.gateways.mail_out import MailNotSent
from rust_gauge.gateways.resolver import system_servers
from rust_gauge.launch.mariadb import PrivateMariaDb
from rust_gauge.service.runtime.installation import STOP_DISK, WATCH_DISK, disk_use
from rust_gauge.service.runtime.mail import send_mail
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt, service_keys
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import credentials
from rust_gauge.store.engine import Store, StoreError
from rust_gauge.store.migrate import newest_revision, revision_of

Level = Literal["ok", "warning", "problem"]
_LEAST_FREE = 2 * 2**30  # octets
_LEAST_VERSION = (10, 11)
_CERTIFICATE_LEFT = timedelta(days=14)
_CLOCK_OFF = 2.0  # seconds between two machines
_TIME_ERROR = 5  # adjtimex(2): the clock is not synchronised
_STEP = 5.0  # seconds for each outside call


@dataclass(frozen=True, slots=True)
class Found:
    """What a check found. `remedy` is empty when all is well."""

    area: str
    level: Level
    what: str
    remedy: str = ""


Check = Callable[[Settings], Iterator[Found]]


def examine(settings: Settings, *, mail_to: str = "") -> Iterator[Found]:
    """Yield the findings of all checks, in the order of `CHECKS`."""
    for area, check in CHECKS:
        yield from _safely(area, lambda check=check: check(settings))  # type: ignore[misc]
    if mail_to:
        yield from _safely("outgoing mail", lambda: _test_message(settings, mail_to))


def _safely(area: str, check: Callable[[], Iterator[Found]]) -> Iterator[Found]:
    try:
        yield from check()
    except Exception as error:  # the other checks are worth having all the same
        yield Found(area, "problem", f"This check failed: {type(error).__name__}: {error}"[:300], "Report it")


# Configuration and files


def _configuration(settings: Settings) -> Iterator[Found]:
    area, path = "configuration", Path(os.environ.get("RUSTGAUGE_CONFIG", "rust-gauge.toml"))
    yield Found(area, "ok", f"settings from {path.resolve()}" if path.exists() else "settings from the environment")
    if path.exists() and stat.S_IMODE(path.stat().st_mode) & 0o004:
        yield Found(area, "problem", f"{path} can be read by every user of this machine", f"chmod 640 {path}")
    url = urlsplit(settings.public_url)
    if settings.listens_openly:
        yield Found(
            area, "problem", f"host is {settings.host} without TLS: `rustgauged run` refuses to start",
            "Set tls_cert_file and tls_key_file, or host = \"127.0.0.1\" behind a proxy",
        )  # fmt: skip
    if not settings.public_url:
        yield Found(
            area, "warning", "public_url is not set: links in messages lead to this machine only, no passkeys",
            'public_url = "https://gauge.example.test"',
        )  # fmt: skip
    elif url.scheme != "https" and url.hostname not in ("localhost", "127.0.0.1"):
        yield Found(area, "problem", f"public_url {settings.public_url} is not https", "Serve it over TLS")
    elif url.scheme == "https" and not settings.tls_cert_file and not settings.proxies:
        yield Found(
            area, "warning", "public_url is https, but neither tls_cert_file nor proxies is set: every client seems to "
            "have the proxy's address", 'proxies = ["127.0.0.1"]',
        )  # fmt: skip
    for folder in settings.feed_folders:
        if not os.access(folder, os.R_OK | os.X_OK):
            yield Found(area, "problem", f"feed folder {folder} cannot be read", "Correct its path or permissions")


def _permissions(settings: Settings) -> Iterator[Found]:
    area, var = "permissions", settings.var_dir
    if os.geteuid() == 0:
        yield Found(area, "warning", "running as root", "Run it as a user of its own (docs/operations.md)")
    if not var.exists():
        parent = next(each for each in var.resolve().parents if each.exists())
        if not os.access(parent, os.W_OK):
            yield Found(area, "problem", f"{var} cannot be created in {parent}", "Create it for this user")
        return
    if not os.access(var, os.W_OK | os.X_OK):
        yield Found(area, "problem", f"{var} cannot be written", f"chown it to uid {os.geteuid()}")
    loose = [
        path for path, allowed in (
            (var / "secret.key", 0o600), (var / "log", 0o700), (var / "mariadb" / "access", 0o600),
            (var / "mariadb" / "data", 0o700), (var / "mariadb" / "init.sql", 0o600),
        ) if path.exists() and stat.S_IMODE(path.stat().st_mode) & ~allowed & 0o077
    ]  # fmt: skip
    for path in loose:
        yield Found(area, "problem", f"{path} can be read by others", f"chmod go-rwx {path}")
    if not loose:
        yield Found(area, "ok", f"{var.resolve()} is for its user only where it has to be")


def _ports(settings: Settings) -> Iterator[Found]:
    wanted = [("port", settings.host, settings.port), ("smtp_port", settings.smtp_host, settings.smtp_port),
              ("policy_port", settings.policy_host, settings.policy_port)]  # fmt: skip
    for name, host, port in wanted:
        if not port:
            continue
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        with socket.socket(family) as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind((host, port))
            except PermissionError:
                yield Found(
                    "ports", "problem", f"{name} {port} needs a privilege",
                    "Choose a port above 1023, or AmbientCapabilities=CAP_NET_BIND_SERVICE in the systemd unit",
                )  # fmt: skip
            except OSError as error:
                if _runs(settings):
                    yield Found("ports", "ok", f"{name} {port} is in use, and Rust Gauge runs")
                else:
                    yield Found(
                        "ports", "problem", f"{name} {port} on {host} cannot be used: {error.strerror}",
                        f"Stop what listens there, or choose another {name}",
                    )  # fmt: skip
            else:
                level: Level = "warning" if _runs(settings) else "ok"
                what = "is free" if level == "ok" else "is free although Rust Gauge runs"
                yield Found("ports", level, f"{name} {port} {what}", "" if level == "ok" else "Read var/log")


def _runs(settings: Settings) -> bool:
    """Return whether `rustgauged run` holds the lock of this folder."""
    try:
        with (settings.var_dir / "run.lock").open("r") as file:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    return False


def _disk(settings: Settings) -> Iterator[Found]:
    disk = disk_use(settings)
    said = f"{disk.path}: {disk.used:.0%} in use, {disk.free / 2**30:.1f} GiB free"
    remedy = "Free space or enlarge the disk: intake stops at 95 %"
    if disk.used >= STOP_DISK:
        yield Found("disk", "problem", f"{said}; no events are taken in", remedy)
    elif disk.used >= WATCH_DISK or disk.free < _LEAST_FREE:
        yield Found("disk", "warning", said, remedy)
    else:
        yield Found("disk", "ok", said)


def _clock(settings: Settings) -> Iterator[Found]:
    libc = ctypes.CDLL(None, use_errno=True)
    state = libc.adjtimex(ctypes.create_string_buffer(512)) if hasattr(libc, "adjtimex") else -1
    now = datetime.now(UTC)
    if state == _TIME_ERROR:
        yield Found(
            "clock", "warning", f"{now:%Y-%m-%d %H:%M:%S} UTC, not synchronised", "apt-get install systemd-timesyncd"
        )
    else:
        known = "synchronised" if state >= 0 else "whether it is synchronised is not known here"
        yield Found("clock", "ok", f"{now:%Y-%m-%d %H:%M:%S} UTC, {known}")


# The database and keys


def _database_url(settings: Settings) -> str | None:
    """Return the URL of the database, or None for a private one that does not run."""
    if settings.database_url is not None:
        return settings.database_url.get_secret_value()
    private = PrivateMariaDb((settings.var_dir / "mariadb").resolve())
    return private.url if private.runs() else None


def _database(settings: Settings) -> Iterator[Found]:
    url = _database_url(settings)
    if url is None:
        yield Found("database", "warning", "the private MariaDB does not run", "Start Rust Gauge, then check again")
        return
    store = Store(url, pool_size=1)
    try:
        yield from store.transaction(lambda connection: list(_database_settings(connection)))
        there, wanted = revision_of(store), newest_revision()
        if there == wanted:
            yield Found("database", "ok", f"schema {there}")
        elif there > wanted:
            yield Found(
                "database", "problem", f"schema {there} is newer than this version ({wanted})",
                "Install the version that wrote it, or restore a backup from before the upgrade",
            )  # fmt: skip
        else:
            yield Found(
                "database", "warning", f"schema {there or 'missing'}, this version needs {wanted}", "rustgauged migrate"
            )
    except StoreError as error:
        yield Found("database", "problem", str(error), "Check database_url and that MariaDB runs")
    except pymysql.MySQLError as error:
        yield Found("database", "problem", f"cannot be used: {error.args[-1]}", "Check database_url")
    finally:
        store.close()


def _database_settings(connection: Connection) -> Iterator[Found]:
    rows = connection.execute(text("SHOW GLOBAL VARIABLES"))
    variables = {str(name): str(value) for name, value in rows}
    version = str(connection.scalar(text("SELECT VERSION()")))
    numbers = tuple(int(part) for part in version.split("-")[0].split(".")[:2] if part.isdigit())
    if "mariadb" not in version.lower() or numbers < _LEAST_VERSION:
        yield Found("database", "problem", f"version {version}", "MariaDB 10.11 or newer is needed")
    else:
        yield Found("database", "ok", f"MariaDB {version.split('-')[0]}")
    for name, least, unit in (
        ("max_allowed_packet", 64 * 2**20, "64M"), ("innodb_log_file_size", 256 * 2**20, "1G"),
        ("innodb_buffer_pool_size", 256 * 2**20, "1G"), ("max_connections", 100, "300"),
    ):  # fmt: skip
        value = int(variables.get(name, 0))
        if value < least:
            yield Found("database", "warning", f"{name} is {value:,}", f"{name} = {unit} in the server's settings")
    if variables.get("local_infile", "").upper() not in ("ON", "1"):
        yield Found("database", "problem", "local_infile is off: events cannot be loaded", "local_infile = ON")
    if variables.get("innodb_flush_log_at_trx_commit") != "1":
        yield Found(
            "database", "warning", "innodb_flush_log_at_trx_commit is not 1: a power cut may lose acknowledged events",
            "innodb_flush_log_at_trx_commit = 1",
        )  # fmt: skip
    theirs = connection.scalar(text("SELECT UTC_TIMESTAMP(6)"))
    off = abs((datetime.now(UTC).replace(tzinfo=None) - theirs).total_seconds()) if theirs else 0.0
    if off > _CLOCK_OFF:
        yield Found(
            "clock", "problem", f"the database's clock differs by {off:.1f} s", "Synchronise both machines' clocks"
        )


def _keys(settings: Settings) -> Iterator[Found]:
    file = settings.var_dir / "secret.key"
    if settings.secret_key is None and not file.exists():
        yield Found("keys", "ok", "no secret_key yet: one is made in var/secret.key at the first start")
        return
    keys = service_keys(settings)
    if len(keys[0]) < 20:
        yield Found(
            "keys", "warning", f"secret_key has {len(keys[0])} characters",
            "python3 -c 'import secrets; print(secrets.token_urlsafe(32))', then rustgauged rotate-keys",
        )  # fmt: skip
    url = _database_url(settings)
    if url is None:
        yield Found("keys", "ok", f"{len(keys)} known; stored credentials are checked once the database runs")
        return
    store = Store(url, pool_size=1)
    try:
        if revision_of(store) != newest_revision():
            return
        sealed = store.transaction(credentials.all_sealed)
    finally:
        store.close()
    lost = 0
    for token in sealed:
        try:
            decrypt(settings, token)
        except ServiceProblem:
            lost += 1
    if lost:
        yield Found(
            "keys", "problem", f"{lost} of {len(sealed)} stored credentials cannot be decrypted",
            "Set secret_key to the key that they were stored with, or name that one in previous_secret_keys",
        )  # fmt: skip
    else:
        yield Found("keys", "ok", f"all {len(sealed)} stored credentials can be decrypted")


def _certificate(settings: Settings) -> Iterator[Found]:
    if settings.tls_cert_file is None:
        return
    if settings.tls_key_file is None:
        yield Found("certificate", "problem", "tls_key_file is not set", "Set it to the private key of tls_cert_file")
        return
    try:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(settings.tls_cert_file, settings.tls_key_file)
        leaf = x509.load_pem_x509_certificate(settings.tls_cert_file.read_bytes())
    except (OSError, ssl.SSLError, ValueError, InvalidSignature) as error:
        yield Found(
            "certificate", "problem", f"{settings.tls_cert_file} cannot be used: {error}",
            "Check that both files are PEM, belong together, and can be read by this user",
        )  # fmt: skip
        return
    left = leaf.not_valid_after_utc - datetime.now(UTC)
    host = urlsplit(settings.public_url).hostname or ""
    if host and not _is_for(leaf, host):
        yield Found("certificate", "problem", f"it is not for {host}", "Request one for the name of public_url")
    if left <= timedelta(0):
        yield Found("certificate", "problem", f"expired {leaf.not_valid_after_utc:%Y-%m-%d}", "Renew it")
    elif left < _CERTIFICATE_LEFT:
        yield Found("certificate", "warning", f"expires in {left.days} days", "Renew it, then restart the service")
    else:
        yield Found("certificate", "ok", f"valid until {leaf.not_valid_after_utc:%Y-%m-%d}")


def _is_for(certificate: x509.Certificate, host: str) -> bool:
    """Return whether a certificate names a host, or a wildcard one label above it (RFC 6125 §6.4.3)."""
    try:
        names = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return False
    try:
        address = ipaddress.ip_address(host)
        return address in names.get_values_for_type(x509.IPAddress)
    except ValueError:
        known = {name.lower() for name in names.get_values_for_type(x509.DNSName)}
        return host.lower() in known or f"*.{host.lower().partition('.')[2]}" in known


# Outside


def _resolver(settings: Settings) -> Iterator[Found]:
    servers = [split_server(text) for text in settings.dns_servers] or list(system_servers())
    named = [(text.partition("=")[2], "watch") for text in settings.watch_resolvers]
    for host, port in [*servers, *(split_server(server) for server, _ in named)]:
        where = f"{host} port {port}"
        question = dns.message.make_query(".", "NS", use_edns=True)
        try:
            answer, _ = dns.query.udp_with_fallback(question, host, timeout=settings.dns_timeout, port=port)
        except (dns.exception.DNSException, OSError) as error:
            yield Found(
                "resolver", "problem", f"{where} does not answer: {str(error) or type(error).__name__}",
                "Check dns_servers, and that UDP and TCP port 53 are open from here",
            )  # fmt: skip
            continue
        if answer.rcode() == dns.rcode.NOERROR and answer.answer:
            yield Found("resolver", "ok", f"{where} answers")
        else:
            yield Found(
                "resolver", "warning", f"{where} answers {dns.rcode.to_text(answer.rcode())} for the root zone",
                "Use a resolver of the public DNS, unless it knows all names that matter here",
            )  # fmt: skip
    if not servers:
        yield Found("resolver", "problem", "no resolver is known", "Set dns_servers")


def _mail(settings: Settings) -> Iterator[Found]:
    if not settings.mail_relays:
        yield Found(
            "outgoing mail", "warning", "no relay: invitations show their link instead, and alerts are not mailed",
            'mail_relays = {office = "192.0.2.25:25"}',
        )  # fmt: skip
    if settings.mail_relays and settings.mail_from.endswith("@localhost"):
        yield Found("outgoing mail", "problem", f"mail_from is {settings.mail_from}", "Set an address of yours")
    for name, target in settings.mail_relays.items():
        host, port = split_server(target)
        try:
            with Smtp(host, port, settings.mail_from.rpartition("@")[2], _STEP, 2 * _STEP) as session:
                session.ehlo()
                tls = session.has_extn("starttls")
                code, said = session.mail(settings.mail_from)
        except (OSError, smtplib.SMTPException) as error:
            yield Found(
                "outgoing mail", "problem", f"{name} ({target}) cannot be reached: {error or type(error).__name__}",
                "Check address, port and firewall",
            )  # fmt: skip
            continue
        if code >= 400:
            reply = f"{code} {said.decode('utf-8', 'replace')}"[:200]
            yield Found(
                "outgoing mail", "problem", f"{name} refuses {settings.mail_from}: {reply}",
                "Allow this machine and sender at the relay, or set mail_from",
            )  # fmt: skip
        else:
            how = "with" if tls else "without"
            yield Found("outgoing mail", "ok", f"{name} takes mail of {settings.mail_from}, {how} TLS")


def _test_message(settings: Settings, to: str) -> Iterator[Found]:
    message = EmailMessage()
    message["From"], message["To"], message["Subject"] = settings.mail_from, to, "Test message of Rust Gauge"
    message.set_content("This message was sent by `rustgauged doctor --mail-to`.\n")
    try:
        send_mail(settings, message, to)
    except (MailNotSent, ServiceProblem) as error:
        yield Found("outgoing mail", "problem", str(error), error.remedy)
    else:
        yield Found("outgoing mail", "ok", f"a test message to {to} was accepted by the relay")


def _issuers(settings: Settings) -> Iterator[Found]:
    for name, issuer in settings.sign_in_issuers.items():
        try:
            client = IssuerClient(issuer.issuer, str(settings.tls_ca_file or ""))
            client.keys(client.configuration()["jwks_uri"])
        except IssuerFailed as error:
            yield Found("sign-in", "problem", f"{name}: {error}", error.remedy or "Check its address")
        else:
            yield Found("sign-in", "ok", f"{name} ({issuer.issuer}) answers")


CHECKS: tuple[tuple[str, Check], ...] = (
    ("configuration", _configuration),
    ("permissions", _permissions),
    ("ports", _ports),
    ("disk", _disk),
    ("clock", _clock),
    ("database", _database),
    ("keys", _keys),
    ("certificate", _certificate),
    ("resolver", _resolver),
    ("outgoing mail", _mail),
    ("sign-in", _issuers),
)
