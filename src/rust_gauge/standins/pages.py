"""An HTTPS server on loopback for pages that audits fetch, with an authority of its own, for the demo and the tests.

Serves `<directory>/<host>/<path>` as plain text. `make_certificates` writes `ca.pem`, to be trusted by whoever
fetches, and `server.pem`, good for the hosts that have a folder.
"""

import argparse
import ipaddress
import ssl
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID


def make_certificates(directory: Path) -> None:
    """Write `ca.pem` and `server.pem` for the hosts that have a folder in `directory`."""
    hosts = sorted(path.name for path in directory.iterdir() if path.is_dir())
    now = datetime.now(UTC)
    authority = ec.generate_private_key(ec.SECP256R1())
    issuer = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Rust Gauge stand-in authority")])

    def builder(subject: x509.Name, key: ec.EllipticCurvePrivateKey) -> x509.CertificateBuilder:
        return (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(issuer)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=1))
            .not_valid_after(now + timedelta(days=3650))
        )

    usage = x509.KeyUsage(True, False, False, False, False, True, True, False, False)
    root = (
        builder(issuer, authority)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(usage, critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(authority.public_key()), critical=False)
        .sign(authority, SHA256())
    )
    key = ec.generate_private_key(ec.SECP256R1())
    names = x509.SubjectAlternativeName([x509.DNSName(host) for host in hosts])
    leaf = (
        builder(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "stand-in")]), key)
        .add_extension(names, critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(authority.public_key()),
            critical=False,
        )
        .sign(authority, SHA256())
    )
    (directory / "ca.pem").write_bytes(root.public_bytes(Encoding.PEM))
    private = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    (directory / "server.pem").write_bytes(private + leaf.public_bytes(Encoding.PEM))


class _Pages(BaseHTTPRequestHandler):
    directory = Path()

    def do_GET(self) -> None:
        host = self.headers.get("Host", "").partition(":")[0]
        path = (self.directory / host / self.path.lstrip("/")).resolve()
        if not path.is_relative_to(self.directory.resolve()) or not path.is_file() or path.suffix == ".pem":
            self.send_error(404)
            return
        body = path.read_bytes()
        self.send_response(200)
        self.send_header("Content-Type", "text/plain")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *arguments: object) -> None:
        """Nothing: a stand-in's accesses interest nobody."""


def make_server(directory: Path, host: str, port: int) -> ThreadingHTTPServer:
    """A server for `directory`, on loopback only; with port 0 a free one is taken. Call `serve_forever`."""
    if not ipaddress.ip_address(host).is_loopback:
        raise ValueError("the stand-in serves on loopback only")
    if not (directory / "server.pem").exists():
        make_certificates(directory)
    handler = type("Pages", (_Pages,), {"directory": directory})
    server = ThreadingHTTPServer((host, port), handler)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(directory / "server.pem")
    server.socket = context.wrap_socket(server.socket, server_side=True)
    return server


def main() -> None:
    """`python -m rust_gauge.standins.pages --directory pages --port 8443`."""
    parser = argparse.ArgumentParser(description="Pages over HTTPS, on loopback, for the demo and for tests")
    parser.add_argument("--directory", type=Path, required=True)
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, required=True)
    arguments = parser.parse_args()
    make_server(arguments.directory, arguments.host, arguments.port).serve_forever()


if __name__ == "__main__":
    main()
