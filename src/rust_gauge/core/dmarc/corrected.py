"""The DMARC record that was meant: one record for what `_dmarc` holds, with every mistake corrected that can be.

It never asks for more than what is published asked for: where a value cannot be read, the milder meaning is taken.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from difflib import get_close_matches

from rust_gauge.core.dmarc.record import DMARC_TAGS, MISSPELT_TAGS, POLICIES, is_dmarc1, read_policy

_BREAKS = re.compile(r"\\[nrt]|[\r\n\t]")
_QUOTES = re.compile(r"[\"“”‘’`]|\\(?=\W|$)|'(?=\W|$)")
_TAG = re.compile(r"\s?([A-Za-z]{1,20})\s?=\s?(.*)\Z", re.DOTALL)
_ADDRESS = re.compile(r"(?<![^\s@<>,;:])[^\s@<>,;:]{1,64}@[^\s@<>,;:!?.]{1,63}(?:\.[^\s@<>,;:!?.]{1,63}){1,20}")
_LIMIT = re.compile(r"![0-9]{1,19}[kmgt]?\Z", re.IGNORECASE)
_MODES = {"strict": "s", "s": "s", "relaxed": "r", "r": "r"}


@dataclass(frozen=True, slots=True)
class CorrectedPolicy:
    """A record, and what of the published ones is not in it."""

    text: str
    left_out: tuple[str, ...] = ()


def correct_policy(texts: Sequence[str]) -> CorrectedPolicy | None:
    """Return one record for these texts, or None if it would say nothing that they say.

    Several records count as none (RFC 7489 §6.6.3), so that of several policies the mildest is taken, and all
    addresses for reports.
    """
    left_out: list[str] = []
    tags: list[dict[str, str]] = []
    for text in texts:
        found = _tags(text, left_out)
        if not found:
            return None
        tags.append(found)
    merged = {**tags[0]}
    for name in ("p", "sp", "np"):
        said = [each[name] for each in tags if name in each]
        if said:
            merged[name] = min(said, key=POLICIES.index)
    for name in ("rua", "ruf"):
        uris = dict.fromkeys(uri for each in tags if name in each for uri in each[name].split(","))
        if uris:
            merged[name] = ",".join(uris)
    merged.setdefault("p", "none")
    words = [f"{name}={merged[name]}" for name in ("p", *(name for name in merged if name != "p"))]
    text = "; ".join(["v=DMARC1", *words])
    return None if read_policy(text).problems else CorrectedPolicy(text, tuple(dict.fromkeys(left_out)))


def _tags(text: str, left_out: list[str]) -> dict[str, str]:
    """Return the tags that can be read, corrected, without the version."""
    plain = " ".join(_QUOTES.sub("", _BREAKS.sub(" ", text)).split())
    plain = re.sub(r"^\W{0,20}(?:v ?=? ?)?dmarc ?1?(?=\W|\Z)\W{0,20}", "", plain, flags=re.IGNORECASE)
    plain = re.sub(r"[,\s]{1,5}(?=[a-z]{1,5}\s?=)", ";", plain)  # tags that are separated by something else
    out: dict[str, str] = {}
    for piece in plain.split(";"):
        if not piece.strip() or re.fullmatch(r"\s*v\s*=\s*dmarc\s*1?\s*", piece, re.IGNORECASE):
            continue
        match = _TAG.match(piece)
        name = match.group(1).lower() if match else ""
        name = name if name in DMARC_TAGS else MISSPELT_TAGS.get(name, "")
        value = _value(name, match.group(2).strip()) if match and name else None
        if value is None or out.get(name, value) != value:
            left_out.append(piece.strip())
            continue
        out[name] = value
        _dropped_addresses(name, match.group(2) if match else "", value, left_out)
    return out


def _value(name: str, value: str) -> str | None:
    """Return a value as the tag takes it; None if it cannot be known what was meant, or if the default was."""
    word = re.sub(r"\s+", "", value).strip(".,:").lower()
    if name in ("p", "sp", "np"):
        near = get_close_matches(word, POLICIES, 1, 0.7)
        return near[0] if near else None
    if name in ("adkim", "aspf"):
        return _MODES.get(word)
    if name in ("pct", "ri"):
        number = word.removesuffix("%")
        high = 100 if name == "pct" else 2**32 - 1
        return str(int(number)) if re.fullmatch(r"[0-9]{1,10}", number) and int(number) <= high else None
    if name == "fo":
        found = [letter for letter in re.split(r"[:,/]", word) if letter in ("0", "1", "d", "s")]
        return ":".join(dict.fromkeys(found)) or None
    if name in ("rua", "ruf"):
        uris = [uri for part in value.split(",") if (uri := _uri(part))]
        return ",".join(dict.fromkeys(uris)) or None
    if name in ("t", "psd"):
        return word if word in (("y", "n") if name == "t" else ("y", "n", "u")) else None
    return word if name == "rf" and word == "afrf" else None


def _uri(text: str) -> str | None:
    """Return `mailto:` with an address and its size limit, if there is one address in the text."""
    limit = _LIMIT.search(text.strip())
    found = _ADDRESS.findall(re.sub(r"\s+(?=@)|(?<=@)\s+", "", text))
    if len(found) != 1 or ("://" in text and "mailto" not in text.lower()):
        return None
    uri = f"mailto:{found[0].rstrip('.')}{limit.group().lower() if limit else ''}"
    return None if read_policy(f"v=DMARC1; p=none; rua={uri}").problems else uri


def _dropped_addresses(name: str, published: str, value: str, left_out: list[str]) -> None:
    """Record the parts of a list of addresses from which no address could be read."""
    if name in ("rua", "ruf"):
        left_out += [part.strip() for part in published.split(",") if part.strip() and not _uri(part)]


def begins_wrong(text: str) -> bool:
    """Return whether a text has the tags of a DMARC record, but not the version in front."""
    return not is_dmarc1(text) and re.search(r"(?:^|;)\s*v\s*=\s*DMARC1\s*(?:;|\Z)", text) is not None
