"""The DKIM-Signature field as a value (RFC 6376 §3.5), with every mistake; algorithms by RFC 8301 and RFC 8463."""

import base64
import re
from dataclasses import dataclass
from functools import lru_cache

import idna

from rust_gauge.core.dkim.canonical import RELAXED, SIMPLE
from rust_gauge.core.taglist import Problem, Tag, TagList, parse_tag_list

ALGORITHMS = ("rsa-sha256", "ed25519-sha256")
_REQUIRED = ("v", "a", "b", "bh", "d", "h", "s")
MAX_SIGNATURE = 65_536  # characters of a field; the copied header fields in z= are what makes it long
_NUMBER = re.compile(r"[0-9]{1,76}\Z")
_NAME = re.compile(r"(?=.{1,253}\Z)[^.\s;]{1,63}(\.[^.\s;]{1,63})*\Z")


@dataclass(frozen=True, slots=True)
class DkimSignature:
    """A signature as read. `problems` is empty exactly when it can be tried. Times are Unix seconds."""

    tags: TagList
    algorithm: str
    signature: bytes
    body_hash: bytes
    header_form: str
    body_form: str
    domain: str  # d=, in A-labels and lower case
    selector: str
    identity: str  # i=, or @d
    headers: tuple[str, ...]  # h=, in lower case, in order
    length: int | None  # l=
    signed_at: int | None  # t=
    expires_at: int | None  # x=
    copied: tuple[tuple[str, str], ...]  # z=: (name, value)
    problems: tuple[Problem, ...]


def read_signature(text: str) -> DkimSignature:
    """Read the value of a DKIM-Signature field. Never raises."""
    tag_list = parse_tag_list(text[:MAX_SIGNATURE])
    tags = {tag.name: tag for tag in tag_list.tags}
    problems = list(tag_list.problems)
    if len(text) > MAX_SIGNATURE:
        problems.append(Problem(f"the field is longer than {MAX_SIGNATURE:,} characters", MAX_SIGNATURE + 1))
    problems += [Problem(f"the tag {name}= is missing", 1) for name in _REQUIRED if name not in tags]

    def wrong(tag: Tag, what: str) -> None:
        problems.append(Problem(what, tag.value_column, max(1, len(tag.value))))

    def value(name: str) -> str:
        tag = tags.get(name)
        return tag.value if tag else ""

    if (version := tags.get("v")) and version.value != "1":
        wrong(version, f"v= is 1, not {version.value[:20] or 'empty'}")
    algorithm = value("a").lower()
    if (tag := tags.get("a")) and algorithm not in ALGORITHMS:
        why = "rsa-sha1 must no longer be used (RFC 8301 §3.1)" if algorithm == "rsa-sha1" else "no such algorithm"
        wrong(tag, f"a={tag.value[:40]}: {why}")
    header_form, _, body_form = value("c").lower().partition("/")
    header_form, body_form = header_form or SIMPLE, body_form or SIMPLE
    if (tag := tags.get("c")) and not {header_form, body_form} <= {SIMPLE, RELAXED}:
        wrong(tag, f"c={tag.value[:40]} is not a canonicalization")
    headers = tuple([name.strip() for name in value("h").lower().split(":")])
    if (tag := tags.get("h")) and "from" not in headers:
        wrong(tag, "h= does not contain From, which must be signed (§5.4)")
    domain, selector = _a_labels(value("d")), _a_labels(value("s"))
    for name, text_ in (("d", domain), ("s", selector)):
        if (tag := tags.get(name)) and not _is_name(text_[:300]):
            wrong(tag, f"{name}={tag.value[:60] or 'empty'} is not a name")
    identity = value("i") or f"@{domain}"
    if tag := tags.get("i"):
        host = _a_labels(identity.rpartition("@")[2])
        if "@" not in identity:
            wrong(tag, "i= has no @")
        elif host != domain and not host.endswith(f".{domain}"):
            wrong(tag, f"i= is in {host[:60]}, which is neither {domain[:60]} nor a subdomain of it (§3.5)")

    def number(name: str) -> int | None:
        tag = tags.get(name)
        if tag and not _NUMBER.match(tag.value):
            wrong(tag, f"{name}= is not a number")
            return None
        return int(tag.value) if tag else None

    length, signed_at, expires_at = number("l"), number("t"), number("x")
    if (tag := tags.get("x")) and signed_at is not None and expires_at is not None and expires_at <= signed_at:
        wrong(tag, "x= is not later than t= (§3.5)")
    if (tag := tags.get("q")) and "dns/txt" not in [text.strip().lower() for text in tag.value.split(":")]:
        wrong(tag, f"q={tag.value[:40]} is not a key query method")
    decoded = {}
    for name in ("b", "bh"):
        tag = tags.get(name)
        raw = _base64(tag.value) if tag else b""
        if tag and not raw:
            wrong(tag, f"{name}= is not base64")
        decoded[name] = raw or b""
    return DkimSignature(
        tag_list, algorithm, decoded["b"], decoded["bh"], header_form, body_form, domain, selector, identity, headers,
        length, signed_at, expires_at, _copied(tag.value) if (tag := tags.get("z")) else (), tuple(problems),
    )  # fmt: skip


def without_signature(raw: bytes) -> bytes:
    """Return the DKIM-Signature field with the value of b= taken out, as it was when it was signed (§3.7)."""
    name, colon, value = raw.partition(b":")
    parts = value.split(b";")
    for index, part in enumerate(parts):
        tag, equals, _ = part.partition(b"=")
        if equals and tag.strip() == b"b":
            parts[index] = tag + equals
            break
    return name + colon + b";".join(parts)


@lru_cache(maxsize=2048)  # a sender signs under the same names in every message
def _is_name(text: str) -> bool:
    return _NAME.match(text) is not None


def _a_labels(name: str) -> str:
    if name.isascii():
        return name.lower()
    try:
        return idna.encode(name, uts46=True).decode("ascii")  # RFC 8616
    except idna.IDNAError:
        return name


def _base64(text: str) -> bytes | None:
    try:
        return base64.b64decode("".join(text.split()), validate=True)
    except ValueError:
        return None


def _copied(text: str) -> tuple[tuple[str, str], ...]:
    """z=: field copies in DKIM quoted-printable (§2.11), separated by bars."""
    out = []
    for piece in text.split("|"):
        name, colon, value = piece.partition(":")
        if colon:
            plain = re.sub(r"\s+", "", value)
            octets = re.sub(rb"=([0-9A-F]{2})", lambda hit: bytes([int(hit[1], 16)]), plain.encode("utf-8"))
            out.append((name.strip(), octets.decode("utf-8", "replace")))
    return tuple(out)
