"""Verifying the DKIM signatures of a message (RFC 6376 §6), and saying exactly why one does not hold.

Results are those of RFC 8601 §2.7.1. An RSA signature that fails still gives away the digest that was signed, which
tells a wrong key from a changed header, and lets us try which single change would explain it.
"""

import base64
import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from enum import StrEnum
from functools import cached_property
from itertools import islice

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
from cryptography.hazmat.primitives.asymmetric.utils import Prehashed
from cryptography.hazmat.primitives.hashes import SHA256

from rust_gauge.core.dkim.canonical import RELAXED, SIMPLE, canonical_body, canonical_header
from rust_gauge.core.dkim.key import DkimKey, looks_like_key, parse_dkim_key
from rust_gauge.core.dkim.message import HeaderField, MailMessage, split_message
from rust_gauge.core.dkim.signature import DkimSignature, read_signature, without_signature
from rust_gauge.core.dns import DnsAnswer, DnsProgram, ask

MIN_RSA_BITS = 1024  # RFC 8301 §3.2
MAX_SIGNATURES = 50  # our own bound; the rest is reported as not tried
_GLANCE = 1000  # octets that are read of a signature that is not tried
_MAX_FIELDS = 20_000  # headers are scanned for each h= tag, so their number bounds the work
_MAX_GUESSES = 80  # changes tried to explain a header that does not verify
_EFFORT = 40_000_000  # octets hashed for explanations of one message, over all its signatures
_MAX_LINES = 5000  # ends of lines tried to find where text was appended
_PADDING, _HASHED = PKCS1v15(), Prehashed(SHA256())
_SHA256_INFO = bytes.fromhex("3031300d060960864801650304020105000420")  # DigestInfo of SHA-256 (RFC 8017 §9.2)
_SUBJECT_TAG = re.compile(rb"^\s*(\[[^\]\r\n]{1,60}\]|\*{2,}[^*\r\n]{1,40}\*{2,}|(?:fwd?|re|ext(?:ernal)?):)\s*", re.I)


class DkimResult(StrEnum):
    """RFC 8601 §2.7.1; `none` is a message without signatures and stands for no verdict here."""

    PASS = "pass"  # noqa: S105 - no password
    FAIL = "fail"
    NEUTRAL = "neutral"
    TEMPERROR = "temperror"
    PERMERROR = "permerror"


@dataclass(frozen=True)
class DkimVerdict:
    """One signature. `reason` is a stable word, `detail` says it to a person, `clues` what probably happened.

    Octets are those of the canonical body: `body_hashed` of `body_octets` were hashed. What is only for showing is
    worked out when it is asked for: a message that passes costs little more than its hashes.
    """

    result: DkimResult
    reason: str
    detail: str
    index: int  # which DKIM-Signature field, from 0 at the top
    signature: DkimSignature
    key_name: str = ""
    key: DkimKey | None = None
    body_octets: int = 0
    body_hashed: int = 0
    body_digest: bytes = b""
    body_matches: bool | None = None
    header_matches: bool | None = None
    clues: tuple[str, ...] = ()
    message: MailMessage | None = field(default=None, repr=False, compare=False)
    chosen: tuple[HeaderField | None, ...] = field(default=(), repr=False)  # the field for each name of h=

    @property
    def body_hash_computed(self) -> str:
        """Base64, to stand beside bh=."""
        return base64.b64encode(self.body_digest).decode()

    @property
    def signed_fields(self) -> tuple[str, ...]:
        """`Name: value` of header field that was hashed, in order."""
        return tuple(f"{header.name}: {header.text[:200]}" for header in self.chosen if header is not None)

    @property
    def missing(self) -> tuple[str, ...]:
        """Names that were signed as absent: the message has no such field (any more)."""
        names = self.signature.headers if self.chosen else ()
        return tuple(name for name, header in zip(names, self.chosen, strict=False) if header is None)

    @cached_property
    def unsigned(self) -> tuple[str, ...]:
        """Fields that matter and that this signature does not cover (§5.4.1)."""
        if self.message is None or not self.chosen:
            return ()
        covered = {id(header) for header in self.chosen if header is not None}
        loose = (f for f in self.message.fields if f.name.lower() in _MATTERS and id(f) not in covered)
        return tuple(dict.fromkeys(f.name for f in loose))

    @cached_property
    def notes(self) -> tuple[str, ...]:
        """What is weak about it although it may hold."""
        if self.message is None or self.key is None:
            return ()
        return _notes(self.message, self.signature, self.key, self.body_octets)


@dataclass
class _Hashes:
    """The message's canonical bodies and their digests, each made once however many signatures there are."""

    message: MailMessage
    effort: int = _EFFORT
    bodies: dict[str, bytes] = field(default_factory=dict)
    digests: dict[tuple[str, int | None], bytes] = field(default_factory=dict)

    def may_try(self, octets: int) -> bool:
        """Return whether there is still room to hash so many octets for explanations."""
        self.effort -= octets
        return self.effort >= 0

    def body(self, how: str) -> bytes:
        if how not in self.bodies:
            self.bodies[how] = canonical_body(self.message.body, how)
        return self.bodies[how]

    def digest(self, how: str, length: int | None) -> bytes:
        if (how, length) not in self.digests:
            body = self.body(how)
            self.digests[how, length] = hashlib.sha256(body if length is None else memoryview(body)[:length]).digest()
        return self.digests[how, length]


def verify_message(raw: bytes, now: int | None = None) -> DnsProgram[tuple[DkimVerdict, ...]]:
    """Verify every signature of a message. `now` in Unix seconds is for x=; without it nothing expires.

    Empty when there is no DKIM-Signature field.
    """
    message = split_message(raw)
    hashes = _Hashes(message)
    verdicts = []
    for index, header in enumerate(message.all("DKIM-Signature")):
        within = index < MAX_SIGNATURES
        signature = read_signature(header.value[: None if within else _GLANCE].decode("utf-8", "replace"))
        if index >= MAX_SIGNATURES or len(message.fields) > _MAX_FIELDS:
            over = f"{MAX_SIGNATURES} signatures" if index >= MAX_SIGNATURES else f"{_MAX_FIELDS} header fields"
            verdict = DkimVerdict(
                DkimResult.NEUTRAL, "not-tried", f"the message has more than {over}", index, signature
            )
        else:
            verdict = yield from _verify(hashes, index, header, signature, now)
        verdicts.append(verdict)
    return tuple(verdicts)


def _moment(seconds: int) -> str:
    """Return Unix seconds as people read them."""
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d %H:%M UTC")


def _verify(
    hashes: _Hashes, index: int, header: HeaderField, signature: DkimSignature, now: int | None
) -> DnsProgram[DkimVerdict]:
    # Step 1 (§6.1.1): the field itself.
    if signature.problems:
        detail = "; ".join(f"column {p.column}: {p.what}" for p in signature.problems[:5])
        return DkimVerdict(DkimResult.PERMERROR, "signature-unreadable", detail, index, signature)
    if signature.expires_at is not None and now is not None and now > signature.expires_at:
        detail = f"it expired on {_moment(signature.expires_at)} (x={signature.expires_at})"
        return DkimVerdict(DkimResult.FAIL, "signature-expired", detail, index, signature)
    # Step 2 (§6.1.2): the key.
    name = f"{signature.selector}._domainkey.{signature.domain}"
    answer = yield from ask(name, "TXT")
    if answer.failed:
        detail = f"no usable answer for {name}: {answer.detail or answer.status}"
        return DkimVerdict(DkimResult.TEMPERROR, "key-unavailable", detail, index, signature, name)
    keys = [parse_dkim_key(txt.text) for txt in answer.texts if looks_like_key(txt.text)]
    if not keys:
        return DkimVerdict(DkimResult.PERMERROR, "no-key", _no_key(name, answer), index, signature, name)
    usable = [key for key in keys if not _unusable(key, signature)]
    if not usable:
        reason, detail = _unusable(keys[0], signature) or ("", "")
        return DkimVerdict(DkimResult.PERMERROR, reason, detail, index, signature, name, keys[0])
    # Step 3 (§6.1.3): the hashes.
    verdict = _compute(hashes, index, header, signature, name, usable[0])
    for key in usable[1:]:
        if verdict.result is not DkimResult.PASS:
            other = _compute(hashes, index, header, signature, name, key)
            verdict = other if other.result is DkimResult.PASS else verdict
    return verdict


def _no_key(name: str, answer: DnsAnswer) -> str:
    if answer.texts:
        return f"{name} has a TXT record, but it is not a DKIM key: {answer.texts[0].text[:60]}"
    return f"{name} {'does not exist' if answer.status == 'no_name' else 'has no TXT record'}"


def _unusable(key: DkimKey, signature: DkimSignature) -> tuple[str, str] | None:
    """Why a key may not verify this signature (§3.6.1, §6.1.2), or None."""
    algorithm = signature.algorithm.partition("-")[0]
    identity_host = signature.identity.rpartition("@")[2].lower()
    if key.problems:
        first = key.problems[0]
        return "key-unreadable", f"the key has a syntax error in column {first.column}: {first.what}"
    if key.revoked:
        return "key-revoked", "the key is revoked: its p= is empty"
    if key.key_type != algorithm:
        return "key-type", f"the key is {key.key_type}, the signature {algorithm}"
    if key.hashes and "sha256" not in key.hashes:
        return "key-hash", f"the key is only for h={':'.join(key.hashes)}, and the signature uses sha256"
    if key.services and not {"*", "email"} & set(key.services):
        return "key-service", f"the key is not for mail: s={':'.join(key.services)}"
    if "s" in key.flags and identity_host != signature.domain:
        return "key-strict", f"the key is strict (t=s), and i= is in {identity_host}, not in {signature.domain}"
    if key.key_type == "rsa" and (key.bits or 0) < MIN_RSA_BITS:
        return "key-short", f"the key has {key.bits} bits; fewer than {MIN_RSA_BITS} are not accepted (RFC 8301 §3.2)"
    return None


def _compute(
    hashes: _Hashes, index: int, header: HeaderField, signature: DkimSignature, name: str, key: DkimKey
) -> DkimVerdict:
    message = hashes.message
    body = hashes.body(signature.body_form)
    length = len(body) if signature.length is None else signature.length
    chosen = _choose(message, signature.headers)
    digest = hashes.digest(signature.body_form, signature.length)

    def verdict(
        result: DkimResult, reason: str, detail: str, *, body_ok: bool | None = None, header_ok: bool | None = None,
        clues: tuple[str, ...] = (),
    ) -> DkimVerdict:  # fmt: skip
        return DkimVerdict(
            result, reason, detail, index, signature, name, key, len(body), min(length, len(body)), digest,
            body_ok, header_ok, clues, message, tuple(chosen),
        )  # fmt: skip

    if length > len(body):
        detail = f"l={length} is more than the {len(body)} bytes of the body: its end is missing"
        return verdict(DkimResult.PERMERROR, "body-too-short", detail, body_ok=False)
    body_ok = digest == signature.body_hash
    data = _hash_input(chosen, header, signature.header_form)
    header_ok = _holds(key, signature.signature, data)
    if body_ok and header_ok:
        return verdict(DkimResult.PASS, "good", f"signed by {signature.domain}", body_ok=True, header_ok=True)
    if header_ok:  # what was signed is as it was, bh= among it: so the body is another
        clues = tuple(_body_clues(hashes, signature))
        detail = f"the body was changed after signing: the hash over {min(length, len(body))} bytes does not match bh="
        return verdict(DkimResult.FAIL, "body-changed", detail, body_ok=False, header_ok=True, clues=clues)
    made_by_key = _digest_signed(key, signature.signature)
    if made_by_key is None and isinstance(key.public_key, RSAPublicKey):
        detail = f"the signature was not made with the private key that belongs to {name}"
        return verdict(DkimResult.FAIL, "other-key", detail, body_ok=body_ok, header_ok=False)
    clues = tuple(_header_clues(hashes, chosen, header, signature, key))
    if not body_ok:
        clues += tuple(_body_clues(hashes, signature))
    what = "the signed header fields" + ("" if body_ok else " and the body")
    detail = f"{what} {'were' if not body_ok or clues else 'or the signature itself were'} changed after signing"
    return verdict(DkimResult.FAIL, "header-changed", detail, body_ok=body_ok, header_ok=False, clues=clues)


def _choose(message: MailMessage, names: tuple[str, ...]) -> list[HeaderField | None]:
    """Choose the field for header name of h=: from the bottom up, and nothing once there are no more (§5.4.2)."""
    left: dict[str, list[HeaderField]] = {}
    chosen: list[HeaderField | None] = []
    for name in names:
        fields = left.setdefault(name, list(message.by_name.get(name, ())))
        chosen.append(fields.pop() if fields else None)
    return chosen


def _hash_input(chosen: list[HeaderField | None], own: HeaderField, form: str) -> bytes:
    parts = [canonical_header(header.raw, form) for header in chosen if header is not None]
    parts.append(canonical_header(without_signature(own.raw), form))
    return b"\r\n".join(parts)


def _holds(key: DkimKey, signature: bytes, data: bytes) -> bool:
    digest = hashlib.sha256(data).digest()
    try:
        if isinstance(key.public_key, RSAPublicKey):
            key.public_key.verify(signature, digest, _PADDING, _HASHED)
        elif isinstance(key.public_key, Ed25519PublicKey):
            key.public_key.verify(signature, digest)  # RFC 8463 §3: PureEdDSA over the SHA-256 hash
        else:
            return False
    except (InvalidSignature, ValueError, UnsupportedAlgorithm):
        return False
    return True


def _digest_signed(key: DkimKey, signature: bytes) -> bytes | None:
    """Return the SHA-256 digest inside an RSA signature; None when this key did not make it."""
    if not isinstance(key.public_key, RSAPublicKey):
        return None
    try:
        info = key.public_key.recover_data_from_signature(signature, PKCS1v15(), None)
    except (InvalidSignature, ValueError, UnsupportedAlgorithm):
        return None
    return info[len(_SHA256_INFO) :] if info.startswith(_SHA256_INFO) and len(info) == len(_SHA256_INFO) + 32 else None


# What probably happened


def _body_clues(hashes: _Hashes, signature: DkimSignature) -> Iterator[str]:
    wanted = signature.body_hash
    for how in (SIMPLE, RELAXED):
        if how != signature.body_form and hashes.digest(how, signature.length) == wanted:
            yield f"the body would match with {how} canonicalisation"
    if wanted in (hashlib.sha256(b"").digest(), hashlib.sha256(b"\r\n").digest()):
        yield "it was signed over an empty body"
        return
    if len(wanted) != 32:
        yield f"bh= has {len(wanted)} bytes; a SHA-256 hash has 32"
        return
    body = hashes.body(signature.body_form)
    if not hashes.may_try(len(body)):
        return
    running, at = hashlib.sha256(), 0
    for _ in range(_MAX_LINES):
        end = body.find(b"\r\n", at)
        if end < 0 or end + 2 >= len(body):
            return
        running.update(body[at : end + 2])
        at = end + 2
        if running.digest() == wanted:
            added = " ".join(body[at : at + 80].decode("utf-8", "replace").split())
            yield f"the first {at} bytes are as signed; {len(body) - at} were appended, starting with: {added}"
            return


def _header_clues(
    hashes: _Hashes, chosen: list[HeaderField | None], own: HeaderField, signature: DkimSignature, key: DkimKey
) -> Iterator[str]:
    """Single changes that make the signature hold again; the first that does explains the failure."""
    message = hashes.message
    octets = sum(len(each.raw) for each in chosen if each is not None) + 200 * len(chosen)  # and what each costs
    for what, fields, form in islice(_guesses(message, chosen, signature), _MAX_GUESSES):
        if not hashes.may_try(octets):
            break
        if _holds(key, signature.signature, _hash_input(fields, own, form)):
            yield what
            return
    for name, was in signature.copied:
        now = next((f for f in message.all(name)), None)
        if now is not None and " ".join(was.split()) != now.text:
            yield f"{name} was {' '.join(was.split())[:120]!r} when it was signed (z=) and is {now.text[:120]!r} now"


def _guesses(
    message: MailMessage, chosen: list[HeaderField | None], signature: DkimSignature
) -> Iterator[tuple[str, list[HeaderField | None], str]]:
    form = signature.header_form
    other = RELAXED if form == SIMPLE else SIMPLE
    yield (
        f"the header would match with {other} canonicalisation: spaces or line folding changed in transit",
        chosen,
        other,
    )
    if signature.copied:
        before = {name.lower(): (name, value) for name, value in signature.copied}
        restored: list[HeaderField | None] = []
        changed = []
        for header in chosen:
            was = before.get(header.name.lower()) if header is not None else None
            if header is not None and was and " ".join(was[1].split()) != header.text:
                changed.append(f"{header.name} was {' '.join(was[1].split())[:120]!r} and is {header.text[:120]!r} now")
                header = HeaderField(was[0], f"{was[0]}:{was[1]}".encode())
            restored.append(header)
        if changed:
            yield "; ".join(changed), restored, form
    for at, header in enumerate(chosen):
        if header is None:
            continue
        if header.name.lower() == "subject":
            cut = _SUBJECT_TAG.sub(b" ", header.value)
            if cut != header.value:
                tag = header.value[: len(header.value) - len(cut) + 1].decode("utf-8", "replace").strip()
                yield f"{tag!r} was added before the Subject", _with(chosen, at, b"Subject:" + cut), form
        yield f"{header.name} was added after signing", [*chosen[:at], None, *chosen[at + 1 :]], form
        for again in message.all(header.name):
            if again is not header:
                yield f"another {header.name} field was signed than the last one", _with(chosen, at, again.raw), form


def _with(chosen: list[HeaderField | None], at: int, raw: bytes) -> list[HeaderField | None]:
    return [*chosen[:at], HeaderField(raw.partition(b":")[0].decode("ascii", "replace"), raw), *chosen[at + 1 :]]


_MATTERS = ("from", "subject", "to", "cc", "date", "reply-to", "message-id", "content-type", "mime-version",
            "list-unsubscribe", "list-unsubscribe-post")  # fmt: skip


def _notes(message: MailMessage, signature: DkimSignature, key: DkimKey, octets: int) -> tuple[str, ...]:
    notes = []
    if signature.length is not None:
        loose = octets - min(signature.length, octets)
        notes.append(f"l={signature.length}: {loose} bytes of the body are not covered, so text can be appended")
    if key.key_type == "rsa" and (key.bits or 0) < 2048:
        notes.append(f"the key has only {key.bits} bits")
    if "y" in key.flags:
        notes.append("the key is in test mode (t=y)")
    senders = len(message.by_name.get("from", ()))
    if signature.headers.count("from") == senders:
        notes.append("From is not oversigned: a second From field could be put in front without breaking the signature")
    if senders > 1:
        notes.append(f"the message has {senders} From fields; receivers may show another one")
    if message.bare_lf:
        notes.append("lines ended in a bare LF and were read as CRLF")
    return tuple(notes)
