"""An authenticator in software: makes passkeys and signs with them, as a security key does (WebAuthn Level 3 §6)."""

import base64
import hashlib
import json
import secrets
from dataclasses import dataclass, field
from typing import Any

import cbor2
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256

_PRESENT, _VERIFIED, _CREDENTIAL = 0x01, 0x04, 0x40


@dataclass
class Authenticator:
    """One key for one console. `verifies`: it checks a PIN or a finger each time."""

    origin: str
    verifies: bool = True
    count: int = 0
    id: bytes = field(default_factory=lambda: secrets.token_bytes(32))
    key: ec.EllipticCurvePrivateKey = field(default_factory=lambda: ec.generate_private_key(ec.SECP256R1()))

    def make(self, options: dict[str, Any]) -> dict[str, Any]:
        """Return the credential that a browser would send after `navigator.credentials.create`."""
        public = self.key.public_key().public_numbers()
        key = {1: 2, 3: -7, -1: 1, -2: public.x.to_bytes(32, "big"), -3: public.y.to_bytes(32, "big")}
        data = self._data(options["rp"]["id"], _CREDENTIAL)
        data += bytes(16) + len(self.id).to_bytes(2, "big") + self.id + cbor2.dumps(key)
        response = {
            "clientDataJSON": _text(self._client("webauthn.create", options)),
            "attestationObject": _text(cbor2.dumps({"fmt": "none", "attStmt": {}, "authData": data})),
        }
        return self._credential(response)

    def sign(self, options: dict[str, Any]) -> dict[str, Any]:
        """Return the credential that a browser would send after `navigator.credentials.get`."""
        self.count += 1
        data, client = self._data(options["rpId"], 0), self._client("webauthn.get", options)
        signature = self.key.sign(data + hashlib.sha256(client).digest(), ec.ECDSA(SHA256()))
        response = {
            "clientDataJSON": _text(client), "authenticatorData": _text(data), "signature": _text(signature),
        }  # fmt: skip
        return self._credential(response)

    def _data(self, host: str, more: int) -> bytes:
        flags = _PRESENT | (_VERIFIED if self.verifies else 0) | more
        return hashlib.sha256(host.encode()).digest() + bytes([flags]) + self.count.to_bytes(4, "big")

    def _client(self, kind: str, options: dict[str, Any]) -> bytes:
        return json.dumps({"type": kind, "challenge": options["challenge"], "origin": self.origin}).encode()

    def _credential(self, response: dict[str, str]) -> dict[str, Any]:
        id = _text(self.id)
        return {"id": id, "rawId": id, "type": "public-key", "response": response, "clientExtensionResults": {}}


def _text(octets: bytes) -> str:
    return base64.urlsafe_b64encode(octets).rstrip(b"=").decode()
