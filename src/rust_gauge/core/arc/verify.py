"""Verifying a chain of ARC sets (RFC 8617 §5.2), with the reason when it does not hold."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from rust_gauge.core.dkim.canonical import RELAXED, canonical_header
from rust_gauge.core.dkim.key import looks_like_key, parse_dkim_key
from rust_gauge.core.dkim.message import HeaderField, split_message
from rust_gauge.core.dkim.signature import DkimSignature, read_signature, without_signature
from rust_gauge.core.dkim.verify import DkimResult, _Hashes, _holds, _unusable, _verify
from rust_gauge.core.dns import DnsProgram, ask
from rust_gauge.core.taglist import parse_tag_list

MAX_INSTANCES = 50  # RFC 8617 §4.2.1
_FIELDS = ("ARC-Authentication-Results", "ARC-Message-Signature", "ARC-Seal")
_INSTANCE = re.compile(r"\s*i\s*=\s*([0-9]{1,3})\s*(?:;|$)")
_LONGEST = 20_000  # characters of a field
_SEAL_FORM = f"v=1; c={RELAXED}/{RELAXED}; h=from; bh=AAAA; "  # what a seal lacks of a DKIM-Signature


class ArcResult(StrEnum):
    """RFC 8617 §5.2, and `temperror` where a key got no answer."""

    NONE = "none"
    PASS = "pass"  # noqa: S105 - no password
    FAIL = "fail"
    TEMPERROR = "temperror"


@dataclass(frozen=True, slots=True)
class ArcInstance:
    """One set of the chain: who sealed it, the chain's state as it said then, and whether the seal verifies."""

    instance: int
    domain: str
    selector: str
    chain: str  # cv=
    seal: ArcResult
    detail: str
    results: str  # what it says that it verified


@dataclass(frozen=True, slots=True)
class ArcOutcome:
    """The state of the chain, why it is so, and its sets, the first one first."""

    result: ArcResult
    reason: str
    instances: tuple[ArcInstance, ...] = ()


def verify_arc(raw: bytes) -> DnsProgram[ArcOutcome]:
    """Verify the chain of a message. `none` when it has no ARC fields."""
    message = split_message(raw)
    fields = {name: message.all(name) for name in _FIELDS}
    if not any(fields.values()):
        return ArcOutcome(ArcResult.NONE, "the message has no ARC fields")
    # Step 1 and 3: whole sets, numbered without gaps.
    sets = {name: _numbered(found) for name, found in fields.items()}
    count = max(len(found) for found in fields.values())
    if count > MAX_INSTANCES:
        return ArcOutcome(ArcResult.FAIL, f"there are more than {MAX_INSTANCES} sets")
    for name in _FIELDS:
        if len(fields[name]) != count or sorted(sets[name]) != list(range(1, count + 1)):
            return ArcOutcome(ArcResult.FAIL, f"{name} does not have i=1 to i={count} once each")
    chain = [(sets[_FIELDS[0]][i], sets[_FIELDS[1]][i], sets[_FIELDS[2]][i]) for i in range(1, count + 1)]
    seals = [_read(_SEAL_FORM, seal) for _, _, seal in chain]
    said = [_tag(seal, "cv") for _, _, seal in chain]
    instances: list[ArcInstance] = []
    # Step 5: each seal.
    for number, (seal, cv) in enumerate(zip(seals, said, strict=True), 1):
        state, detail = yield from _seal(chain[:number], seal)
        results = " ".join(chain[number - 1][0].text.split())[:1000]
        instances.append(ArcInstance(number, seal.domain, seal.selector, cv, state, detail, results))
    # Step 2 and 3: what they say of the chain.
    if said[-1] == "fail":
        return ArcOutcome(ArcResult.FAIL, f"set {count} says that the chain was broken before it", tuple(instances))
    for number, cv in enumerate(said, 1):
        if cv != ("none" if number == 1 else "pass"):
            why = f"set {number} says cv={cv or 'nothing'}, which is not possible there"
            return ArcOutcome(ArcResult.FAIL, why, tuple(instances))
    # Step 4: the newest message signature.
    signature = _read("v=1; ", chain[-1][1])
    hashes = _Hashes(message)
    verdict = yield from _verify(hashes, 0, chain[-1][1], signature, None)
    if verdict.result is DkimResult.TEMPERROR or ArcResult.TEMPERROR in [each.seal for each in instances]:
        return ArcOutcome(ArcResult.TEMPERROR, "a key got no answer", tuple(instances))
    if verdict.result is not DkimResult.PASS:
        return ArcOutcome(ArcResult.FAIL, f"the message signature of set {count}: {verdict.detail}", tuple(instances))
    broken = next((each for each in instances if each.seal is not ArcResult.PASS), None)
    if broken is not None:
        return ArcOutcome(ArcResult.FAIL, f"the seal of set {broken.instance}: {broken.detail}", tuple(instances))
    return ArcOutcome(ArcResult.PASS, f"{count} {'set holds' if count == 1 else 'sets hold'}", tuple(instances))


def _numbered(fields: Sequence[HeaderField]) -> dict[int, HeaderField]:
    found: dict[int, HeaderField] = {}
    for each in fields:
        number = _tag(each, "i") if each.name.lower() != _FIELDS[0].lower() else _first_number(each.text)
        if number.isascii() and number.isdigit() and len(number) < 4:
            found.setdefault(int(number), each)
    return found


def _first_number(text: str) -> str:
    found = _INSTANCE.match(text)
    return found[1] if found else ""


def _tag(header: HeaderField, name: str) -> str:
    tag = parse_tag_list(header.text[:_LONGEST]).get(name)
    return tag.value.strip().lower() if tag else ""


def _read(front: str, header: HeaderField) -> DkimSignature:
    """Read a field as the DKIM-Signature that it is apart from i=, which is a number here, and from From in h=."""
    parts = [part for part in header.text[:_LONGEST].split(";") if part.partition("=")[0].strip() not in ("i", "cv")]
    found = read_signature(front + ";".join(parts))
    problems = tuple(each for each in found.problems if "does not contain From" not in each.what)
    return replace(found, problems=problems)


def _seal(
    chain: Sequence[tuple[HeaderField, HeaderField, HeaderField]], seal: DkimSignature
) -> DnsProgram[tuple[ArcResult, str]]:
    """Verify the newest seal of a chain (§5.1.1): over all its sets, in order, without the seal's own b=."""
    if seal.problems:
        return ArcResult.FAIL, f"it cannot be read: {seal.problems[0].what}"
    name = f"{seal.selector}._domainkey.{seal.domain}"
    answer = yield from ask(name, "TXT")
    if answer.failed:
        return ArcResult.TEMPERROR, f"no usable answer for {name}"
    keys = [parse_dkim_key(txt.text) for txt in answer.texts if looks_like_key(txt.text)]
    if not keys:
        return ArcResult.FAIL, f"{name} has no key"
    if wrong := _unusable(keys[0], seal):
        return ArcResult.FAIL, wrong[1]
    parts = [canonical_header(field.raw, RELAXED) for one in chain for field in one][:-1]
    parts.append(canonical_header(without_signature(chain[-1][2].raw), RELAXED))
    if not _holds(keys[0], seal.signature, b"\r\n".join(parts)):
        return ArcResult.FAIL, "the fields were changed after they were sealed"
    return ArcResult.PASS, f"sealed by {seal.domain}"
