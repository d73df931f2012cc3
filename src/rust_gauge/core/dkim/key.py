"""DKIM key records (RFC 6376 §3.6.1, Ed25519 by RFC 8463): what they hold, and every mistake with its column.

A key that a control panel has mangled (quotes, backslashes, a PEM header, a cut end) is recognised as such, because
"invalid" alone sends people hunting for an evening.
"""

import base64
import re
from dataclasses import dataclass

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
from cryptography.hazmat.primitives.serialization import load_der_public_key

from rust_gauge.core.taglist import Problem, TagList, parse_tag_list

_BASE64 = re.compile(r"[A-Za-z0-9+/]")
_BLANK = re.compile(r"[ \t\r\n]+")
_PEM = re.compile(r"-----(?:BEGIN|END)[A-Z ]*-----")


@dataclass(frozen=True, slots=True)
class DkimKey:
    """A key record as read.

    `bits` is the RSA modulus length or 256 for Ed25519, and None where the key cannot be used. `revoked` is an empty
    `p=`. `flags` are those of `t=` (`y` testing, `s` strict), `hashes` those of `h=` (empty: all).
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


def looks_like_key(text: str) -> bool:
    """Whether a TXT record at a selector is meant as a key: DKIM1 in front, or a `p=` tag at all."""
    return bool(re.match(r"\s*[\"']?v\s*=\s*DKIM1", text, re.IGNORECASE) or re.search(r"(?:^|[;\s\"'])p\s*=", text))


def parse_dkim_key(text: str) -> DkimKey:
    """Read a key record. Never raises: what is wrong is in `problems`."""
    tags = parse_tag_list(text)
    problems = list(tags.problems)
    version = tags.get("v")
    if version is not None:
        if version.value != "DKIM1":
            problems.append(Problem("the version is not DKIM1", version.value_column, max(1, len(version.value))))
        elif tags.tags[0] is not version:  # §3.6.1: if given, it must be the first tag
            problems.append(Problem("v=DKIM1 must be the first tag", version.column, len("v=DKIM1")))
    kind = tags.get("k")
    key_type = kind.value if kind else "rsa"
    if kind and key_type not in ("rsa", "ed25519"):
        problems.append(Problem(f"{key_type[:40]} is no key type", kind.value_column, max(1, len(key_type))))
    bits, revoked = None, False
    key = tags.get("p")
    if key is None:
        problems.append(Problem("the tag p=, which holds the key, is missing", 1, len(text) or 1))
    elif not key.value:
        revoked = True
    else:
        bits, found = _measure(key.value, key.value_column, key_type)
        problems += [problem for problem in found if problem.column not in {p.column for p in problems}]
    return DkimKey(
        text, tags, key_type, bits, revoked, _words(tags, "t"), _words(tags, "h"), _words(tags, "s"), tuple(problems)
    )


def _words(tags: TagList, name: str) -> tuple[str, ...]:
    """A colon-separated list, blanks around each word allowed."""
    tag = tags.get(name)
    return tuple(word.strip() for word in tag.value.split(":") if word.strip()) if tag else ()


def _measure(value: str, column: int, key_type: str) -> tuple[int | None, list[Problem]]:
    """The length of the key in `p=` in bits, or what keeps it from being one."""
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
            problems.append(Problem(f"{_named(run)} inside the key is no base64", column + run_start, len(run)))
            run_start = None
    if problems:
        return None, problems
    compact = _BLANK.sub("", stripped)
    try:
        raw = base64.b64decode(compact, validate=True)
    except ValueError:
        return None, [Problem("the key's base64 is incomplete: its end was cut off", column + len(stripped) - 1)]
    if key_type == "ed25519":
        if len(raw) == 32:
            return 256, []
        return None, [Problem(f"an Ed25519 key has 32 octets, this one {len(raw)}", column, len(stripped))]
    return _measure_rsa(raw, column, len(stripped))


def _measure_rsa(raw: bytes, column: int, length: int) -> tuple[int | None, list[Problem]]:
    declared = _der_length(raw)
    if declared is not None and declared > len(raw):
        what = f"the key was cut off: {len(raw)} of {declared} octets are there"
        return None, [Problem(what, column + length - 1)]
    if declared is not None and declared < len(raw):
        return None, [Problem(f"{len(raw) - declared} octets too many follow the key", column + length - 1)]
    try:
        key = load_der_public_key(raw)
    except (ValueError, UnsupportedAlgorithm):
        return None, [Problem("the base64 holds no public key", column, length)]
    if not isinstance(key, RSAPublicKey):
        return None, [Problem("the key is no RSA key, though k= says so", column, length)]
    return key.key_size, []


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
