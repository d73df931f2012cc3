"""DKIM key records (RFC 6376 §3.6.1, Ed25519 by RFC 8463): what they hold, and every mistake with its column.

A key that a control panel has mangled (quotes, backslashes, a PEM header, a cut end) is recognised as such, because
"invalid" alone sends people hunting for an evening.
"""

import base64
import hashlib
import re
from dataclasses import dataclass, field
from functools import lru_cache

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, load_der_public_key

from rust_gauge.core.taglist import Problem, TagList, parse_tag_list

_BASE64 = re.compile(r"[A-Za-z0-9+/]")
_BLANK = re.compile(r"[ \t\r\n]+")
_PEM = re.compile(r"-----(?:BEGIN|END)[A-Z ]*-----")


PublicKey = RSAPublicKey | Ed25519PublicKey
_WRAPPED = re.compile(r"\s*([\"'“”])")
_ESCAPED = re.compile(r"\\(?=\s*;)")
_ED25519_SPKI = bytes.fromhex("302a300506032b6570032100")  # SubjectPublicKeyInfo in front of the 32 octets (RFC 8410)


@dataclass(frozen=True, slots=True)
class DkimKey:
    """A key record as read.

    `bits` is the RSA modulus length or 256 for Ed25519, and None where not even a repaired `p=` holds a key. `revoked`
    is an empty `p=`. `flags` are those of `t=` (`y` testing, `s` strict), `hashes` those of `h=` (empty: all).
    `repaired` is the value to publish in place of one whose mistakes could be taken out. A key is usable when there are
    no `problems` and it is not revoked.
    """

    text: str
    tags: TagList
    key_type: str
    bits: int | None
    revoked: bool
    flags: tuple[str, ...]
    hashes: tuple[str, ...]
    services: tuple[str, ...]
    problems: tuple[Problem, ...]
    repaired: str | None = None
    public_key: PublicKey | None = field(default=None, compare=False)

    @property
    def usable(self) -> bool:
        """Return whether signatures can be verified with this key."""
        return not self.problems and not self.revoked and self.public_key is not None

    @property
    def fingerprint(self) -> str:
        """The same for the same key wherever and however it is published; empty without a key."""
        if self.public_key is None:
            return ""
        octets = self.public_key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
        return hashlib.sha256(octets).hexdigest()[:32]


def looks_like_key(text: str) -> bool:
    """Return whether a TXT record at a selector is meant as a key: DKIM1 in front, or a `p=` tag at all."""
    if text.startswith("v=DKIM1"):
        return True
    return bool(re.match(r"\s*[\"']?v\s*=\s*DKIM1", text, re.IGNORECASE) or re.search(r"(?:^|[;\s\"'])p\s*=", text))


def parse_dkim_key(text: str) -> DkimKey:
    """Read a key record. Never raises: what is wrong is in `problems`."""
    return _parse(text) if len(text) <= 10_000 else _parse.__wrapped__(text)


@lru_cache(maxsize=1024)  # the same few keys verify message after message
def _parse(text: str) -> DkimKey:
    clean, problems = _without_wrapping(text)
    tags = parse_tag_list(clean)
    problems += tags.problems
    version = tags.get("v")
    if version is not None:
        if version.value != "DKIM1":
            problems.append(Problem("the version is not DKIM1", version.value_column, max(1, len(version.value))))
        elif tags.tags[0] is not version:  # §3.6.1: if given, it must be the first tag
            problems.append(Problem("v=DKIM1 must be the first tag", version.column, len("v=DKIM1")))
    kind = tags.get("k")
    key_type = kind.value if kind else "rsa"
    if kind and key_type not in ("rsa", "ed25519"):
        problems.append(Problem(f"{key_type[:40]} is not a key type", kind.value_column, max(1, len(key_type))))
    measured, revoked = _Measured(), False
    key = tags.get("p")
    if key is None:
        problems.append(Problem("the tag p= with the key is missing", 1, len(text) or 1))
    elif not key.value:
        revoked = True
    else:
        measured = _measure(key.value, key.value_column, key_type)
        problems += [problem for problem in measured.problems if problem.column not in {p.column for p in problems}]
    repaired = None
    if problems and measured.value:
        others = "; ".join(f"{tag.name}={tag.value}" for tag in tags.tags if tag.name not in ("v", "p", "k"))
        kept = f"{others}; " if others and not any(char in others for char in "\"\\'“”") else ""
        repaired = f"v=DKIM1; k={measured.kind}; {kept}p={measured.value}"
    problems.sort(key=lambda problem: problem.column)
    words = (_words(tags, "t"), _words(tags, "h"), _words(tags, "s"))
    return DkimKey(text, tags, key_type, measured.bits, revoked, *words, tuple(problems), repaired, measured.key)


def _without_wrapping(text: str) -> tuple[str, list[Problem]]:
    """Remove what control panels put around a record; each such character is reported and becomes a blank."""
    chars = list(text)
    problems = []
    head = _WRAPPED.match(text)
    spots = [head.start(1)] if head else []
    tail = len(text.rstrip(" ;")) - 1
    if tail > 0 and text[tail] in "\"'“”":
        spots.append(tail)
    for at in spots:
        problems.append(Problem("the record is in quotes", at + 1))
        chars[at] = " "
    for escape in _ESCAPED.finditer(text):
        problems.append(Problem("a backslash is before the semicolon", escape.start() + 1))
        chars[escape.start()] = " "
    return "".join(chars), problems


def _words(tags: TagList, name: str) -> tuple[str, ...]:
    """Split a colon-separated list, blanks around each word allowed."""
    tag = tags.get(name)
    return tuple(word.strip() for word in tag.value.split(":") if word.strip()) if tag else ()


@dataclass
class _Measured:
    """What p= holds: `value` is the base64 of a key that could be read, if need be after taking out what is none."""

    bits: int | None = None
    problems: list[Problem] = field(default_factory=list)
    value: str = ""
    kind: str = "rsa"
    key: PublicKey | None = None


def _measure(value: str, column: int, key_type: str) -> _Measured:
    """Read the key in `p=`, and what keeps it from being one."""
    problems = [
        Problem(f"the PEM line {pem.group()} was pasted into the key", column + pem.start(), len(pem.group()))
        for pem in _PEM.finditer(value)
    ]
    body = _PEM.sub(lambda pem: " " * len(pem.group()), value)
    stripped = body.rstrip(" \t\r\n")
    padding = len(stripped) - len(stripped.rstrip("="))
    run_start: int | None = None
    for index, char in enumerate(stripped[: len(stripped) - padding] + "A"):  # the A closes a last run
        good = _BASE64.match(char) or _BLANK.match(char)
        if not good and run_start is None:
            run_start = index
        elif good and run_start is not None:
            run = stripped[run_start:index]
            problems.append(Problem(f"{_named(run)} inside the key is not base64", column + run_start, len(run)))
            run_start = None
    compact = "".join(_BASE64.findall(stripped[: len(stripped) - padding])) + "=" * padding
    end = column + len(stripped) - 1
    try:
        raw = base64.b64decode(compact, validate=True)
    except ValueError:
        cut = Problem("the base64 of the key is truncated", end)
        return _Measured(None, problems or [cut])
    loaded = (
        _load_ed25519(raw, column, len(stripped)) if key_type == "ed25519" else _load_rsa(raw, column, len(stripped))
    )
    if loaded.key is not None and not loaded.value:
        loaded.value = compact
    if problems:  # these characters are the finding; what follows them cannot be judged reliably
        loaded.problems = problems
    return loaded


def _load_ed25519(raw: bytes, column: int, length: int) -> _Measured:
    """32 octets, nothing around them (RFC 8463 §4)."""
    bare = raw[len(_ED25519_SPKI) :] if raw.startswith(_ED25519_SPKI) and len(raw) == 44 else raw
    if len(bare) != 32:
        return _Measured(None, [Problem(f"an Ed25519 key has 32 bytes, this one {len(raw)}", column, length)])
    found = _Measured(256, [], base64.b64encode(bare).decode(), "ed25519", Ed25519PublicKey.from_public_bytes(bare))
    if bare is not raw:
        what = "the key is wrapped like an RSA key; an Ed25519 key is published as its 32 bytes only"
        found.problems = [Problem(what, column, length)]
    return found


def _load_rsa(raw: bytes, column: int, length: int) -> _Measured:
    end = column + length - 1
    declared = _der_length(raw)
    if declared is not None and declared > len(raw):
        return _Measured(None, [Problem(f"the key is truncated: {len(raw)} of {declared} bytes", end)])
    extra = len(raw) - declared if declared is not None else 0
    try:
        key = load_der_public_key(raw[: len(raw) - extra])
    except (ValueError, UnsupportedAlgorithm):
        if len(raw) == 32:
            what = "the base64 is not an RSA public key; its 32 bytes may be an Ed25519 key without k=ed25519"
            return _Measured(None, [Problem(what, column, length)], base64.b64encode(raw).decode(), "ed25519")
        return _Measured(None, [Problem("the base64 is not a public key", column, length)])
    if not isinstance(key, RSAPublicKey):
        return _Measured(None, [Problem("not an RSA key, although k= says so", column, length)])
    found = _Measured(key.key_size, [], "", "rsa", key)
    if extra:
        found.problems = [Problem(f"{extra} extra bytes follow the key", end)]
        found.value = base64.b64encode(raw[:-extra]).decode()
    return found


def _der_length(raw: bytes) -> int | None:
    """Octets that the outer DER SEQUENCE says it has, header included (X.690 §8.1)."""
    if len(raw) < 4 or raw[0] != 0x30:
        return None
    if raw[1] < 0x80:
        return 2 + raw[1]
    count = raw[1] & 0x7F
    if not 1 <= count <= 3 or len(raw) < 2 + count:
        return None
    return 2 + count + int.from_bytes(raw[2 : 2 + count], "big")


_NAMES = {'"': "a quote", "\\": "a backslash", "'": "an apostrophe", "“": "a smart quote", "”": "a smart quote"}


def _named(run: str) -> str:
    names = dict.fromkeys(_NAMES.get(char, repr(char)) for char in run[:8])
    return " and ".join(names)
