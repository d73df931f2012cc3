"""Return whether a published text means what was planned, and if not, what it says differently: SPF, DKIM, DMARC and others.

Standards leave room: tags in another order, blanks, letters in either case. What means the same is not called wrong.
"""

import re
from collections.abc import Iterator
from difflib import SequenceMatcher

from rust_gauge.core.dkim import parse_dkim_key
from rust_gauge.core.dmarc import is_dmarc1, read_policy
from rust_gauge.core.recordplan.record import PlannedRecord, Purpose
from rust_gauge.core.recordplan.slips import Cause
from rust_gauge.core.spf import is_spf1, parse_spf
from rust_gauge.core.taglist import Tag, parse_tag_list

_PLACEHOLDER = re.compile(
    r"<[^>\s]{2,40}>|\[[^\]\s]{2,40}\]|\{\{?[A-Za-z_ -]{2,40}\}?\}|\$\{?[A-Z_]{3,}|your[-_ .]?(?:domain|key|selector|value)"
    r"|x{5,}|\.\.\.|…", re.IGNORECASE)  # fmt: skip
_PRIVATE = re.compile(r"PRIVATE KEY|(?:^|[=\s;\"])MII(?:EpA|Eow|EpQ|CXA|CXQ|CWw|JKA|JKQ|Evg|Evw|EvQ)|^MC4CAQ")
_SEVERITY = ("none", "quarantine", "reject")


def is_meant_as(record: PlannedRecord, text: str) -> bool:
    """Return whether a text at the planned name is a try at this record, and not another one that rightly stands there too."""
    low = text.lower()
    if record.purpose is Purpose.SPF or (record.purpose is Purpose.HELO and record.rdtype == "TXT"):
        return bool(re.search(r"spf\s?[12]|\binclude:|\bip[46]:|(?:^|\s)[-~?+]all\b", low)) and "dmarc" not in low
    if record.purpose is Purpose.PROOF:
        return low.strip(" \"'").startswith(record.value.partition("=")[0].lower())
    return True  # nothing else has any business at a name made for one record


def means_the_same(record: PlannedRecord, text: str) -> bool:
    """Return whether a receiver takes both texts in the same way."""
    if text == record.value:
        return True
    if record.purpose is Purpose.DKIM:
        return _same_key(record.value, text)
    if record.value.startswith("v=spf1"):
        return _same_spf(record.value, text)
    if record.purpose in (Purpose.DMARC, Purpose.MTA_STS, Purpose.TLS_RPT):
        return _same_tags(record.value, text)
    return False


def _same_key(planned: str, text: str) -> bool:
    one, other = parse_dkim_key(planned), parse_dkim_key(text)
    return (
        one.usable and other.usable and one.fingerprint == other.fingerprint
        and (set(one.flags), set(one.hashes), set(one.services)) == (set(other.flags), set(other.hashes), set(other.services))
    )  # fmt: skip


def _same_tags(planned: str, text: str) -> bool:
    one, other = parse_tag_list(planned), parse_tag_list(text)
    if other.problems or not other.tags or other.tags[0].name != "v":
        return False
    if is_dmarc1(planned) and (not is_dmarc1(text) or read_policy(text).problems):
        return False
    return {t.name: _loose(t) for t in one.tags} == {t.name: _loose(t) for t in other.tags}


def _loose(tag: Tag) -> str:
    value = "".join(tag.value.split())
    return value if tag.name in ("v", "id") else value.lower()


def _same_spf(planned: str, text: str) -> bool:
    """Compare terms, each mechanism before `all` in any order: all of them only pass."""
    if not is_spf1(text):
        return False
    other = parse_spf(text)
    if other.problems:
        return False
    one, two = _spf_terms(planned), _spf_terms(text)
    return set(one) == set(two) and len(set(two)) == len(two) and one[-1] == two[-1]


def _spf_terms(text: str) -> list[str]:
    terms = []
    for word in text.lower().split()[1:]:
        term = word.removeprefix("+")
        term = re.sub(r"^(ip4:[\d.]+)/32$|^(ip6:[0-9a-f:]+)/128$", lambda hit: hit[1] or hit[2], term)
        terms.append(term.removesuffix("."))
    return terms


def explain(record: PlannedRecord, text: str, published: str) -> Iterator[Cause]:
    """Yield what `text` (the published one, cleaned of slips) says differently from what was planned."""
    planned = record.value
    hit = _PLACEHOLDER.search(published)
    if hit and not _PLACEHOLDER.search(planned):
        yield Cause("placeholder", f"it contains a placeholder: {hit.group()}", hit.start() + 1, len(hit.group()))
    if not text.strip():
        yield Cause("empty", "the record is empty")
        return
    if record.purpose is Purpose.DKIM and _PRIVATE.search(published) and not _PRIVATE.search(planned):
        yield Cause(
            "private-key",
            "this is the private key: anybody can sign as you now. Remove it and create a new key pair",
        )
        return
    key = parse_dkim_key(text) if record.purpose is Purpose.DKIM else None
    bare = "".join(text.split()).rstrip(";")
    if key is not None and (key.revoked or (bare and planned.endswith(f"p={bare}"))):
        yield from _key_differences(planned, text, published)
        return
    shape = list(_shape(planned, text, published))
    if shape:
        yield from shape
        return
    if record.purpose is Purpose.DKIM:
        yield from _key_differences(planned, text, published)
    elif planned.startswith("v=spf1"):
        yield from _spf_differences(planned, text, published)
    elif record.purpose is Purpose.DMARC:
        yield from _dmarc_differences(planned, text, published)
    elif record.purpose in (Purpose.MTA_STS, Purpose.TLS_RPT):
        yield from _tag_differences(planned, text, published)
    elif record.purpose is Purpose.PROOF:
        yield Cause("other-token", "this is another token, maybe an older one or that of another domain")


def _shape(planned: str, text: str, published: str) -> Iterator[Cause]:
    """Cut, doubled, glued, or in the wrong case: told from the text alone."""
    tight, wanted = "".join(text.split()), "".join(planned.split())
    if len(tight) >= 8 and wanted.startswith(tight):
        octets = len(published.encode("utf-8"))
        at = f"at {octets}" if octets in (254, 255, 256) else f"after {len(text)} of {len(planned)} characters"
        limit = ": a string has at most 255 bytes; split it into several" if octets in (254, 255, 256) else ""
        yield Cause("cut-at-255" if limit else "cut", f"the end is missing; it was cut {at}{limit}", len(published), 1)
    elif len(tight) >= 8 and wanted.endswith(tight):
        yield Cause(
            "front-missing",
            f"the first {len(planned) - len(text)} characters are missing: {planned[: len(planned) - len(text)][:40]}",
            1,
            1,
        )
    elif tight == wanted * 2 or tight == wanted + ";" + wanted:
        yield Cause("pasted-twice", "it was pasted twice", len(published) // 2 + 1, len(published) // 2)
    elif len(wanted) >= 8 and tight.startswith(wanted):
        begin = published.find(planned) + len(planned) if planned in published else len(planned)
        more = text[len(planned) :].strip()[:60]
        yield Cause("text-behind", f"extra text after the value: {more}", begin + 1, max(1, len(published) - begin))
    elif len(wanted) >= 8 and tight.endswith(wanted):
        yield Cause("text-in-front", f"extra text before the value: {text[: len(text) - len(planned)].strip()[:60]}",
                    1, max(1, len(text) - len(planned)))  # fmt: skip
    elif tight == wanted:
        yield Cause("blanks-inside", "spaces were added or are missing")
    elif tight.lower() == wanted.lower():
        yield Cause("case-changed", "upper and lower case were changed; case matters here")


def _at(published: str, value: str) -> tuple[int, int]:
    at = published.find(value) if value else -1
    return (at + 1, len(value)) if at >= 0 else (0, 0)


def _key_differences(planned: str, text: str, published: str) -> Iterator[Cause]:
    one, other = parse_dkim_key(planned), parse_dkim_key(text)
    mine, theirs = one.tags.get("p"), other.tags.get("p")
    low = text.lower()
    if is_spf1(text) or is_dmarc1(text):
        yield Cause("other-record", f"this is {'an SPF' if is_spf1(text) else 'a DMARC'} record, at the wrong host")
        return
    if theirs is None:
        bare = "".join(text.split())
        if mine and bare.rstrip(";") == "".join(mine.value.split()):
            yield Cause("tags-missing", "only the key was pasted: v=DKIM1; k=rsa; p= is missing before it", 1, 1)
        elif mine and "".join(mine.value.split()) in bare:
            yield Cause("tag-broken", "the key is there, but the tag p= before it is damaged", 1, 8)
        else:
            yield Cause("no-key", "p= is missing, so it has no key", 1, len(published))
        return
    if not theirs.value:
        yield Cause("revoked", "p= is empty: that revokes the key", *_at(published, "p="))
        return
    version = other.tags.get("v")
    if (
        version is None
        and "dkim" not in low[:12]
        and one.tags.get("v") is not None
        and mine
        and theirs.value == mine.value
    ):
        yield Cause("version-missing", "v=DKIM1 is missing at the start", 1, 1)
    elif version is not None and version.value != "DKIM1":
        yield Cause(
            "version-wrong",
            f"the version is {version.value[:20]}, it must be exactly DKIM1",
            version.column,
            8,
        )
    elif version is not None and other.tags.tags[0] is not version:
        yield Cause("version-not-first", "v=DKIM1 must be the first tag", *_at(published, "v="))
    if one.key_type != other.key_type:
        yield Cause("key-type", f"k= is {other.key_type[:20]}, and the key is {one.key_type}", *_at(published, "k="))
    for tag, what in (("t", "flags"), ("h", "hashes"), ("s", "services")):
        theirs_tag, mine_tag = other.tags.get(tag), one.tags.get(tag)
        if (theirs_tag.value if theirs_tag else "") != (mine_tag.value if mine_tag else ""):
            said = (
                f"{tag}={theirs_tag.value[:20]} is published"
                if theirs_tag
                else f"{tag}={mine_tag.value[:20] if mine_tag else ''} is missing"
            )
            more = ": the key is in test mode" if tag == "t" and theirs_tag and "y" in theirs_tag.value else ""
            yield Cause("other-flags", f"{said} ({what} of the key){more}", *_at(published, f"{tag}="))
    a, b = "".join(mine.value.split()) if mine else "", "".join(theirs.value.split())
    if a == b:
        return
    at = published.find(theirs.value)
    if len(b) >= 16 and a.startswith(b):
        octets = len(published.encode("utf-8"))
        yield Cause("cut-at-255" if 250 <= octets <= 256 else "cut",
                    f"the end of the key is missing: {len(b)} of {len(a)} characters are present", len(published), 1)  # fmt: skip
    elif b.startswith(a):
        yield Cause(
            "text-behind",
            f"extra text after the key: {b[len(a) : len(a) + 40]}",
            at + 1 + len(a),
            len(b) - len(a),
        )
    elif len(b) >= 16 and a.endswith(b):
        yield Cause("front-missing", f"the first {len(a) - len(b)} characters of the key are missing", at + 1, 1)
    elif b.endswith(a):
        yield Cause(
            "text-in-front",
            f"extra text before the key: {b[: len(b) - len(a)][:40]}",
            at + 1,
            len(b) - len(a),
        )
    elif a.lower() == b.lower():
        yield Cause(
            "case-changed", "upper and lower case of the key were changed; case matters", at + 1, len(theirs.value)
        )
    else:
        yield from _typed_wrong_or_other(a, b, at, other.public_key is not None, other.bits)


def _typed_wrong_or_other(a: str, b: str, at: int, usable: bool, bits: int | None) -> Iterator[Cause]:
    matcher = SequenceMatcher(None, a, b, autojunk=False)
    alike = sum(block.size for block in matcher.get_matching_blocks()) / max(len(a), len(b), 1)
    if alike > 0.8:
        first = next((op for op in matcher.get_opcodes() if op[0] != "equal"), None)
        if first is not None:
            tag, i, j, m, n = first
            said = {"delete": f"{a[i:j][:20]!r} is missing", "insert": f"{b[m:n][:20]!r} is extra",
                    "replace": f"{b[m:n][:20]!r} stands where {a[i:j][:20]!r} belongs"}[tag]  # fmt: skip
            odd = (
                f"; {b[m:n][:1]!r} is not a base64 character"
                if tag != "delete" and re.search(r"[^A-Za-z0-9+/=]", b[m:n])
                else ""
            )
            yield Cause(
                "key-damaged", f"the key is damaged at character {i + 1} of it: {said}{odd}", at + 1 + m, max(1, n - m)
            )
    elif usable:
        size = f" ({bits} bits)" if bits else ""
        yield Cause(
            "other-key",
            f"this is another key{size}: an older one, or that of another selector or domain",
            at + 1,
            len(b),
        )
    else:
        yield Cause("key-unusable", "not a usable key", at + 1, len(b))


def _spf_differences(planned: str, text: str, published: str) -> Iterator[Cause]:
    if not is_spf1(text):
        start = re.match(r"\S*", text)
        yield Cause("version-wrong", f"it must start with v=spf1 and a space; it starts with {start.group()[:30] if start else ''}", 1,
                    max(1, len(start.group()) if start else 1))  # fmt: skip
    record = parse_spf(text)
    for problem in record.problems[:5]:
        yield Cause("syntax", problem.what, problem.column, problem.length)
    wanted, found = _spf_terms(planned), _spf_terms(text)
    ends = [term for term in found if re.fullmatch(r"[-~?+]?all", term)]
    end = wanted[-1]
    for term in wanted:
        if term not in found and not term.endswith("all"):
            near = next((t for t in found if t not in wanted and SequenceMatcher(None, term, t).ratio() > 0.85), "")
            if near:
                yield Cause("term-mistyped", f"{near} instead of {term}", *_at(published.lower(), near))
            else:
                yield Cause("term-missing", f"{term} is missing: its senders fail SPF")
    mistyped = {t for t in found if any(SequenceMatcher(None, w, t).ratio() > 0.85 for w in wanted if w not in found)}
    for term in dict.fromkeys(found):
        if term not in wanted and term not in ends and term not in mistyped:
            yield Cause("term-extra", f"{term} is published but belongs to no relay here: an older sender, or one to add",
                        *_at(published.lower(), term))  # fmt: skip
        if found.count(term) > 1:
            yield Cause("term-twice", f"{term} appears more than once", *_at(published.lower(), term))
    if not ends:
        yield Cause("all-missing", f"{end} is missing at the end: other hosts get neutral", len(published), 1)
    elif ends[0] != end:
        meaning = {"all": "authorises everybody", "?all": "says nothing about other hosts", "~all": "is the weaker ending",
                   "-all": "is the stricter ending"}.get(ends[0], "")  # fmt: skip
        yield Cause("other-ending", f"{ends[0]} instead of {end}; it {meaning}", *_at(published.lower(), ends[0]))
    if ends and found and not found[-1].endswith("all") and not found[-1].startswith(("exp=", "redirect=")):
        yield Cause("terms-behind-all", "terms after all are ignored", *_at(published.lower(), found[-1]))


def _dmarc_differences(planned: str, text: str, published: str) -> Iterator[Cause]:
    if is_spf1(text) or "k=rsa" in text:
        yield Cause("other-record", f"this is {'an SPF record' if is_spf1(text) else 'a DKIM key'}, at the wrong host")
        return
    tags = parse_tag_list(text)
    first = tags.tags[0] if tags.tags else None
    if tags.get("v") is None:
        yield Cause("version-missing", "v=DMARC1 is missing at the start", 1, 1)
    elif first is not None and first.name != "v":
        yield Cause("version-not-first", "v=DMARC1 must be the first tag", *_at(published, "v="))
    elif not is_dmarc1(text):
        yield Cause(
            "version-wrong",
            f"the version is {first.value[:20] if first else ''}, it must be exactly DMARC1",
            1,
            8,
        )
    one, other = read_policy(planned), read_policy(text)
    policy = tags.get("p")
    if policy is None:
        yield Cause("policy-missing", "the policy p= is missing")
    elif other.policy is None or policy.value.lower() not in _SEVERITY:
        yield Cause(
            "policy-unknown",
            f"p={policy.value[:20]} is not a policy: none, quarantine or reject",
            *_at(published, "p="),
        )
    elif one.policy and other.policy != one.policy:
        word = "weaker" if _SEVERITY.index(other.policy) < _SEVERITY.index(one.policy) else "stricter"
        yield Cause(
            "other-policy",
            f"p={other.policy} is {word} than the planned p={one.policy}",
            *_at(published, f"p={other.policy}"),
        )
    elif len(tags.tags) > 1 and tags.tags[1] is not policy and first is not None and first.name == "v":
        yield Cause("policy-not-second", "p= must follow v=DMARC1 directly (RFC 7489 §6.3)", policy.column, 2)
    for address in one.rua:
        if address not in other.rua:
            bare = address.removeprefix("mailto:")
            if bare.lower() in text.lower():
                yield Cause(
                    "mailto-missing", f"mailto: is missing before {bare}", *_at(published.lower(), bare.lower())
                )
            else:
                yield Cause("reports-missing", f"reports do not go to {bare}", *_at(published, "rua="))
    yield from _tag_differences(planned, text, published, skip=("v", "p", "rua"))


def _tag_differences(planned: str, text: str, published: str, skip: tuple[str, ...] = ()) -> Iterator[Cause]:
    one, other = parse_tag_list(planned), parse_tag_list(text)
    for problem in other.problems[:3]:
        yield Cause("syntax", problem.what, problem.column, problem.length)
    for tag in one.tags:
        found = other.get(tag.name)
        if tag.name in skip:
            continue
        if found is None:
            yield Cause("tag-missing", f"{tag.name}={tag.value[:60]} is missing")
        elif _loose(found) != _loose(tag):
            yield Cause(
                "tag-differs",
                f"{tag.name}= is {found.value[:60]}, expected {tag.value[:60]}",
                *_at(published, found.value),
            )
    for tag in other.tags:
        if one.get(tag.name) is None and tag.name not in skip:
            yield Cause(
                "tag-extra",
                f"{tag.name}={tag.value[:60]} is published and not planned",
                *_at(published, f"{tag.name}="),
            )
