"""A small OpenID Connect issuer: a page with a button for each person, and tokens for whoever is chosen.

`python -m rust_gauge.standins.issuer --port 8878 --person "isla@skerry.example=Isla Marsh"`

No passwords: it stands in for an issuer that people trust, in the demo and in tests. It checks what a client has to get
right: its address to return to, the code (once), the verifier of PKCE (RFC 7636), its secret.
"""

import argparse
import base64
import hashlib
import html
import json
import secrets
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, unquote, urlencode, urlsplit

from joserfc import jwt
from joserfc.jwk import KeySet, RSAKey

_MOST = 64 * 1024  # octets of a request


class IssuerStandIn(ThreadingHTTPServer):
    """The issuer. `people` are names by address; `returns` are addresses that clients may send people back to."""

    daemon_threads = True

    def __init__(
        self, port: int, people: dict[str, str], client_id: str, client_secret: str, returns: tuple[str, ...] = ()
    ) -> None:
        self.people, self.client_id, self.client_secret, self.returns = people, client_id, client_secret, returns
        self.claims: dict[str, Any] = {}  # put into every token, over what belongs there: for tests
        self._lock = threading.Lock()
        self._codes: dict[str, dict[str, str]] = {}
        super().__init__(("127.0.0.1", port), _Handler)
        self.renew_key()

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.server_port}"

    def renew_key(self) -> None:
        """Sign with another key from now on, as issuers do from time to time."""
        self.key = RSAKey.generate_key(2048, {"kid": secrets.token_hex(4), "use": "sig", "alg": "RS256"})

    def approve(self, query: dict[str, str]) -> str:
        """Return where the browser goes once a person was chosen."""
        code = secrets.token_urlsafe(16)
        with self._lock:
            self._codes[code] = query
        return f"{query['redirect_uri']}?{urlencode({'code': code, 'state': query.get('state', '')})}"

    def token(self, form: dict[str, str]) -> dict[str, Any] | None:
        """Return the response to a code; None when something about it is wrong."""
        with self._lock:
            query = self._codes.pop(form.get("code", ""), None)
        if query is None or form.get("redirect_uri") != query["redirect_uri"]:
            return None
        digest = hashlib.sha256(form.get("code_verifier", "").encode()).digest()
        if base64.urlsafe_b64encode(digest).rstrip(b"=").decode() != query.get("code_challenge"):
            return None
        now, email = int(time.time()), query["person"]
        claims = {
            "iss": self.address, "aud": self.client_id, "sub": hashlib.sha256(email.encode()).hexdigest()[:16],
            "iat": now, "exp": now + 300, "nonce": query.get("nonce", ""), "email": email, "email_verified": True,
            "name": self.people[email], **self.claims,
        }  # fmt: skip
        signed = jwt.encode({"alg": "RS256", "kid": self.key.kid or ""}, claims, self.key)
        return {"access_token": secrets.token_urlsafe(16), "token_type": "Bearer", "id_token": signed}


class _Handler(BaseHTTPRequestHandler):
    server: IssuerStandIn

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        query = {name: values[0] for name, values in parse_qs(parts.query).items()}
        if parts.path == "/.well-known/openid-configuration":
            base = self.server.address
            self._json(200, {
                "issuer": base, "authorization_endpoint": f"{base}/authorize", "token_endpoint": f"{base}/token",
                "jwks_uri": f"{base}/keys", "response_types_supported": ["code"], "subject_types_supported": ["public"],
                "id_token_signing_alg_values_supported": ["RS256"], "code_challenge_methods_supported": ["S256"],
                "token_endpoint_auth_methods_supported": ["client_secret_basic"],
            })  # fmt: skip
        elif parts.path == "/keys":
            self._json(200, KeySet([self.server.key]).as_dict(private=False))
        elif parts.path in ("/authorize", "/approve"):
            self._sign_in(parts.path, query)
        else:
            self._json(404, {"error": "not_found"})

    def _sign_in(self, path: str, query: dict[str, str]) -> None:
        back, returns = query.get("redirect_uri", ""), self.server.returns
        if query.get("client_id") != self.server.client_id or (returns and not back.startswith(returns)):
            self._json(400, {"error": "invalid_request"})
        elif path == "/approve" and query.get("person") in self.server.people:
            self.send_response(302)
            self.send_header("Location", self.server.approve(query))
            self.end_headers()
        else:
            links = "".join(
                f'<p><a href="/approve?{html.escape(urlencode({**query, "person": email}))}">{html.escape(name)}</a> '
                f"{html.escape(email)}</p>"
                for email, name in self.server.people.items()
            )
            page = (
                '<!doctype html><meta charset="utf-8"><title>Skerry ID</title>'
                "<body style='font:16px/1.5 sans-serif;max-width:32rem;margin:4rem auto;padding:0 1rem'>"
                f"<h1>Skerry ID</h1><p>An example issuer. Sign in as</p>{links}"
            )
            self._send(200, "text/html; charset=utf-8", page.encode())

    def do_POST(self) -> None:
        length = int(self.headers.get("Content-Length") or 0)
        if urlsplit(self.path).path != "/token" or not 0 < length <= _MOST:
            self._json(404, {"error": "not_found"})
            return
        form = {name: values[0] for name, values in parse_qs(self.rfile.read(length).decode("utf-8")).items()}
        if not self._is_client():
            self._json(401, {"error": "invalid_client"})
            return
        answer = self.server.token(form)
        self._json(200 if answer else 400, answer or {"error": "invalid_grant"})

    def _is_client(self) -> bool:
        try:
            pair = base64.b64decode(self.headers.get("Authorization", "").removeprefix("Basic ")).decode()
        except ValueError:
            return False
        id, _, secret = pair.partition(":")
        return (unquote(id), unquote(secret)) == (self.server.client_id, self.server.client_secret)

    def _json(self, status: int, document: Any) -> None:
        self._send(status, "application/json", json.dumps(document).encode())

    def _send(self, status: int, kind: str, body: bytes) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:
        """Say nothing about each request."""


def main() -> None:
    """Run until a signal ends it."""
    parser = argparse.ArgumentParser(description="A small OpenID Connect issuer")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--person", action="append", default=[], help="address=name")
    parser.add_argument("--client", default="rust-gauge=example", help="id=secret")
    arguments = parser.parse_args()
    people = dict(person.split("=", 1) for person in arguments.person)
    id, _, secret = arguments.client.partition("=")
    IssuerStandIn(arguments.port, people, id, secret).serve_forever()


if __name__ == "__main__":
    main()
