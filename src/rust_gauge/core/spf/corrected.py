"""The record that was meant: one corrected record for what a name publishes, with every fault fixed that can be.

It is a proposal. Who offers it has to audit it first (`core.audit.spf_corrections`); this module only computes
the text.
"""

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from rust_gauge.core.spf.record import Directive, Modifier, Network, Qualifier, SpfRecord, is_spf1, parse_spf

_LENGTHS = re.compile(r"(?:/\d{1,3})?(?://\d{1,3})?\Z")  # at the end of a term (RFC 7208 §5.6)
_WHOLE = 2  # prefix lengths up to this make the whole Internet: two /1 networks are all of it


@dataclass(frozen=True, slots=True)
class Corrected:
    """A record, and the published terms that are not in it, other than repetitions."""

    text: str
    left_out: tuple[str, ...] = ()
    listed: tuple[str, ...] = ()  # terms whose addresses of today stand in their place


@dataclass(frozen=True, slots=True)
class _Slip:
    """A frequent typo: what it looks like, and what was meant."""

    pattern: re.Pattern[str]
    meant: str


_NAME = r"(?=[A-Za-z0-9_%-]{1,63}\.[A-Za-z0-9_%{}-])"
_SLIPS = (
    _Slip(re.compile(r"^\W{0,20}v?\W{0,5}=?\W{0,5}spf\s?1[;,:]?\s{1,20}", re.IGNORECASE), "v=spf1 "),
    _Slip(re.compile(r"\\(?:[nrt]|(?=\W))"), " "),
    _Slip(re.compile(r"[\"“”'‘’`]"), ""),
    _Slip(re.compile(r"(?<=\s)([+\-~?]?)ip(?:v4|v?4?)[:=](?=\d{1,3}\.)", re.IGNORECASE), r"\1ip4:"),
    _Slip(re.compile(r"(?<=\s)([+\-~?]?)ip(?:v6|v?6?)[:=](?=[0-9a-f]{0,4}:)", re.IGNORECASE), r"\1ip6:"),
    _Slip(
        re.compile(r"(?<=\s)([+\-~?]?)a[:=](?=\d{1,3}\.\d{1,3}\.\d{1,3}\.\d{1,3}(?:[\s/]|$))", re.IGNORECASE), r"\1ip4:"
    ),
    _Slip(re.compile(r"(?<=\s)([+\-~?]?)(include|exists|ptr|a|mx)=", re.IGNORECASE), r"\1\2:"),
    _Slip(re.compile(r"(?<=\s)(redirect|exp):", re.IGNORECASE), r"\1="),
    _Slip(re.compile(r"(?<=[:=])\s{1,20}(?=\S)"), ""),
    _Slip(re.compile(r"(?<=\s)([+\-~?]?(?:include|exists))\s{1,20}" + _NAME, re.IGNORECASE), r"\1:"),
    _Slip(re.compile(r"(?<=\s)([+\-~?])\s{1,20}(?=all\b)", re.IGNORECASE), r"\1"),
    _Slip(re.compile("[–—−](?=all)", re.IGNORECASE), "-"),
    _Slip(re.compile(r"(?<=\s)([+\-~?])[+\-~?]{1,10}(?=all\b)", re.IGNORECASE), r"\1"),
    _Slip(re.compile(r"[,;]{1,20}(?=\s|$)"), ""),
    _Slip(re.compile(r"(?<=\d),(?=\d{1,3}\.)"), " ip4:"),
    _Slip(re.compile(r"(?<=\s)(?=\d{1,3}\.\d{1,3}\.\d{1,3}\.\d{1,3}(?:/\d{1,3})?(?:\s|$))"), "ip4:"),
    _Slip(re.compile(r"(?<=\sall|[+\-~?]all)[.:]+$", re.IGNORECASE), ""),
)


def without_slips(text: str) -> str | None:
    """Return the record without the usual typos; None if it still does not begin as one."""
    for slip in _SLIPS:
        text = slip.pattern.sub(slip.meant, text)
    text = " ".join(text.split())
    return text if is_spf1(text) else None


def repaired(text: str) -> str | None:
    """Return the record that was probably meant, if the usual typos are all that is wrong with it."""
    candidate = without_slips(text)
    if candidate is None or candidate == text or parse_spf(candidate).problems:
        return None
    return candidate


def correct(
    texts: Sequence[str], broken: Collection[str] = (), addresses: Mapping[str, Sequence[Network]] | None = None
) -> Corrected | None:
    """Return one record for all that a name publishes, or None if nothing that it means can be read.

    `broken` are terms that make checks end in an error; `addresses` gives terms that are to be replaced by what they
    resolve to. Terms keep their order and qualifiers. A redirect beside other records becomes an include, which lets
    the same senders pass (RFC 7208 §6.1). The mildest `all` wins, at least softfail.
    """
    records: list[SpfRecord] = []
    unreadable: list[str] = []
    for text in texts:
        plain = without_slips(text)
        if plain is None:
            return None
        record, bad = _readable(plain)
        records.append(record)
        unreadable += bad
    terms: list[Directive | Modifier] = []
    for record in records:
        terms += _terms(record, alone=len(records) == 1)
    gone = {*broken}
    narrowed = [(t, _narrowed(t)) for t in terms]
    stays = [new.text not in gone and not _everybody(new) for _, new in narrowed]
    kept = [new for (_, new), stay in zip(narrowed, stays, strict=True) if stay]
    changed = [old.text for (old, new), stay in zip(narrowed, stays, strict=True) if not stay or new is not old]
    left_out = [*unreadable, *changed]
    ending = _ending(records, kept)
    listed = tuple(t.text for t in kept if addresses and t.text in addresses)
    words = _without_repetitions(_listed(kept, addresses or {}))
    return Corrected(" ".join(["v=spf1", *words, *ending]), tuple(dict.fromkeys(left_out)), listed)


def _readable(text: str) -> tuple[SpfRecord, list[str]]:
    """Return the record without the terms that cannot be read, and those terms."""
    record = parse_spf(text)
    if not record.problems:
        return record, []
    good: list[str] = []
    bad: list[str] = []
    seen: set[str] = set()
    for word in text.split()[1:]:
        name = word.partition("=")[0].lower()
        twice = name in ("redirect", "exp") and name in seen
        seen.add(name)
        (bad if twice or parse_spf(f"v=spf1 {word}").problems else good).append(word)
    return parse_spf(" ".join(["v=spf1", *good])), bad


def _terms(record: SpfRecord, *, alone: bool) -> list[Directive | Modifier]:
    """Return the terms without `all`, in order. A redirect stays only where it is what decides."""
    others = any(term.mechanism != "all" for term in record.directives)
    out: list[Directive | Modifier] = []
    for term in record.terms:
        if isinstance(term, Directive):
            if term.mechanism != "all":
                out.append(term)
        elif term.name != "redirect":
            out.append(term)
        elif record.all is None and not alone:
            out += parse_spf(f"v=spf1 include:{term.value.text}").directives
        elif record.all is None or not others:  # beside nothing but all, the redirect was meant
            out.append(term)
    return out


def _ending(records: Sequence[SpfRecord], kept: Sequence[Directive | Modifier]) -> list[str]:
    """Return `-all` only where every record has it; without `all` where a redirect decides."""
    if any(isinstance(term, Modifier) and term.name == "redirect" for term in kept):
        return []
    strict = all(record.all is not None and record.all.qualifier is Qualifier.FAIL for record in records)
    return ["-all" if strict else "~all"]


def _everybody(term: Directive | Modifier) -> bool:
    """Return whether a term lets a large part of the Internet pass."""
    if not isinstance(term, Directive) or term.qualifier is not Qualifier.PASS:
        return False
    network = term.network
    if network is not None:
        return network.prefixlen <= _WHOLE
    return term.mechanism in ("a", "mx") and min(term.prefix4, term.prefix6) <= _WHOLE


def _narrowed(term: Directive | Modifier) -> Directive | Modifier:
    """Return `a/0` as `a`, which lets its own hosts pass; other terms as they are."""
    if isinstance(term, Directive) and term.mechanism in ("a", "mx") and _everybody(term):
        return parse_spf(f"v=spf1 {_LENGTHS.sub('', term.text)}").directives[0]  # macros may have slashes, too
    return term


def _listed(
    terms: Iterable[Directive | Modifier], addresses: Mapping[str, Sequence[Network]]
) -> list[Directive | Modifier]:
    out: list[Directive | Modifier] = []
    for term in terms:
        networks = addresses.get(term.text)
        if networks is None or not isinstance(term, Directive):
            out.append(term)
            continue
        sign = "" if term.qualifier is Qualifier.PASS else str(term.qualifier)
        words = [f"{sign}ip{n.version}:{n.network_address if n.prefixlen == n.max_prefixlen else n}" for n in networks]
        out += parse_spf(" ".join(["v=spf1", *words])).directives
    return out


def _without_repetitions(terms: Sequence[Directive | Modifier]) -> list[str]:
    """Return the words without those that cannot decide anything: what the same qualifier gave before.

    A network inside a later one goes only where all terms between have its qualifier too, so that order is kept
    wherever it decides. Modifiers come last, each once.
    """
    directives = [term for term in terms if isinstance(term, Directive)]
    idle = repeated(directives)
    words = [term.text for n, term in enumerate(directives) if n not in idle]
    modifiers: dict[str, str] = {}
    for term in terms:
        if isinstance(term, Modifier):
            key = term.name if term.name in ("redirect", "exp") else term.text
            modifiers.setdefault(key, term.text)
    return [*words, *modifiers.values()]


def repeated(directives: Sequence[Directive]) -> dict[int, int]:
    """Return the terms that can be left out without any effect: their index, and that of the term that decides.

    Linear in the number of terms, apart from the networks: each is looked up by its prefixes.
    """
    idle: dict[int, int] = {}
    first: dict[tuple[Qualifier, str], int] = {}
    for n, term in enumerate(directives):
        key = (term.qualifier, str(term.network) if term.address is not None else term.text.lstrip("+-~?").lower())
        if key in first:
            idle[n] = first[key]
        first.setdefault(key, n)
    run = 0  # counts changes of the qualifier: terms of one run lie between no others
    runs: list[int] = []
    for n, term in enumerate(directives):
        run += n > 0 and term.qualifier is not directives[n - 1].qualifier
        runs.append(run)
    networks: dict[tuple[int, int, int], int] = {}  # (version, prefix length, number) -> first term
    for n, term in enumerate(directives):
        network = term.network
        if network is not None and n not in idle:
            networks.setdefault((network.version, network.prefixlen, int(network.network_address)), n)
    lengths = sorted({(version, length) for version, length, _ in networks})
    for n, term in enumerate(directives):
        network = term.network
        if network is None or n in idle:
            continue
        number, bits = int(network.network_address), network.max_prefixlen
        for version, length in lengths:
            if version != network.version or length >= network.prefixlen:
                continue
            outer = networks.get((version, length, number >> (bits - length) << (bits - length)))
            if outer is None or outer == n or directives[outer].qualifier is not term.qualifier:
                continue
            if outer < n or runs[outer] == runs[n]:
                idle[n] = outer
                break
    return idle
