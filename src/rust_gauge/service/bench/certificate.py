"""The certificate of the bench: what the settings name, or one of its own, so that TLS is there from the first day."""

import ipaddress
import os
import ssl
from datetime import timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from rust_gauge.service.bench.trays import own_certificate
from rust_gauge.service.runtime.context import Context

_VALID, _RENEW = timedelta(days=800), timedelta(days=60)


def tls_context(context: Context) -> ssl.SSLContext:
    """Return what the listeners speak TLS with (TLS 1.2 and newer)."""
    settings = context.settings
    tls = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    tls.minimum_version = ssl.TLSVersion.TLSv1_2
    if settings.tls_cert_file is not None:
        tls.load_cert_chain(settings.tls_cert_file, settings.tls_key_file)
        return tls
    certificate = own_certificate(settings)
    key = certificate.with_name("key.pem")
    if not _is_usable(context, certificate, key):
        _make(context, certificate, key)
    tls.load_cert_chain(certificate, key)
    return tls


def _names(context: Context) -> list[x509.GeneralName]:
    names: list[x509.GeneralName] = []
    for name in dict.fromkeys((context.settings.bench_name, "localhost", "127.0.0.1", "::1")):
        try:
            names.append(x509.IPAddress(ipaddress.ip_address(name)))
        except ValueError:
            names.append(x509.DNSName(name))
    return names


def _is_usable(context: Context, certificate: Path, key: Path) -> bool:
    if not certificate.exists() or not key.exists():
        return False
    try:
        found = x509.load_pem_x509_certificate(certificate.read_bytes())
        names = found.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except ValueError:
        return False
    return list(names) == _names(context) and found.not_valid_after_utc - context.clock() > _RENEW


def _make(context: Context, certificate: Path, key: Path) -> None:
    """Make a key and a certificate that signs itself, for whoever trusts the file (RFC 5280)."""
    private, now = ec.generate_private_key(ec.SECP256R1()), context.clock()
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, context.settings.bench_name[:64])])
    made = (
        x509.CertificateBuilder()
        .subject_name(name).issuer_name(name).public_key(private.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(hours=1)).not_valid_after(now + _VALID)
        .add_extension(x509.SubjectAlternativeName(_names(context)), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(private, hashes.SHA256())
    )  # fmt: skip
    certificate.parent.mkdir(parents=True, exist_ok=True)
    secret = private.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    _write(key, secret, 0o600)
    _write(certificate, made.public_bytes(serialization.Encoding.PEM), 0o644)


def _write(path: Path, octets: bytes, mode: int) -> None:
    """Write a file in one step: another process never reads half of it."""
    draft = path.with_name(f"{path.name}.{os.getpid()}")
    with os.fdopen(os.open(draft, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, mode), "wb") as file:
        file.write(octets)
    draft.replace(path)
