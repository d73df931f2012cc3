"""An OpenID Connect issuer: its configuration, its keys, and codes exchanged for ID tokens.

OpenID Connect Discovery 1.0 §4, RFC 6749 §4.1.3, RFC 7517. What it says is checked by whoever asked. Issuers come from
the settings of the service, so their addresses may be private.
"""

import base64
import ssl
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, urlsplit

import httpx

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.gateways.deadline import http_client

_STEP, _TOTAL = 5.0, 10.0  # seconds: somebody waits in front of the sign-in page
_MOST = 512 * 1024  # octets of an answer
_NEEDED = ("issuer", "authorization_endpoint", "token_endpoint", "jwks_uri")


class IssuerFailed(RustGaugeError):
    """An issuer that cannot be asked, or that answers something else."""


@dataclass(frozen=True, slots=True)
class IssuerClient:
    """Calls to one issuer. `ca_file`: authorities that are trusted besides those of the system."""

    issuer: str
    ca_file: str = ""

    def configuration(self) -> dict[str, Any]:
        """Return the issuer's metadata. IssuerFailed when it is incomplete, or that of another issuer."""
        found = self._json("GET", f"{self.issuer.rstrip('/')}/.well-known/openid-configuration")
        missing = [name for name in _NEEDED if not isinstance(found.get(name), str)]
        if missing:
            raise IssuerFailed(f"The configuration of {self.issuer} lacks {', '.join(missing)}")
        if found["issuer"] != self.issuer:
            raise IssuerFailed(
                f"{self.issuer} calls itself {found['issuer'][:200]}", remedy="Set `issuer` to exactly that address"
            )
        return found

    def keys(self, address: str) -> dict[str, Any]:
        """Return the key set (RFC 7517 §5)."""
        found = self._json("GET", address)
        if not isinstance(found.get("keys"), list):
            raise IssuerFailed(f"{address} is not a key set")
        return found

    def exchange(
        self, address: str, form: Mapping[str, str], client_id: str, secret: str, methods: list[str]
    ) -> dict[str, Any]:
        """Return the response to a code. The secret goes into the header unless the issuer takes the body only."""
        fields, headers = {**form, "client_id": client_id}, {}
        if secret and "client_secret_basic" not in methods and "client_secret_post" in methods:
            fields["client_secret"] = secret
        elif secret:  # RFC 6749 §2.3.1: both parts are encoded before they are joined
            pair = f"{quote(client_id, safe='')}:{quote(secret, safe='')}"
            headers["Authorization"] = "Basic " + base64.b64encode(pair.encode()).decode()
        return self._json("POST", address, fields, headers)

    def _json(
        self, method: str, address: str, form: dict[str, str] | None = None, headers: dict[str, str] | None = None
    ) -> dict[str, Any]:
        parts = urlsplit(address)
        if parts.scheme != "https" and not (parts.scheme == "http" and self.issuer.startswith("http://")):
            raise IssuerFailed(f"{address[:200]} is not https")
        try:
            context = ssl.create_default_context()
            if self.ca_file:
                context.load_verify_locations(self.ca_file)
            with (
                http_client(context, _STEP, _TOTAL) as client,
                client.stream(method, address, data=form, headers=headers) as response,
            ):
                body = b""
                for piece in response.iter_bytes():
                    body += piece
                    if len(body) > _MOST:
                        raise IssuerFailed(f"{address} sent more than {_MOST:,} octets")
            if response.status_code != 200:
                why = body[:200].decode("utf-8", "replace")
                raise IssuerFailed(f"{address} answered {response.status_code}", why=why)
            found = httpx.Response(200, content=body).json()
        except (httpx.HTTPError, OSError, ValueError) as error:
            raise IssuerFailed(f"{address} cannot be used: {error or type(error).__name__}") from None
        if not isinstance(found, dict):
            raise IssuerFailed(f"{address} did not answer with a JSON object")
        return found
