"""`check_host()` (RFC 7208 §4): may this address send as this domain? With a trace of every term.

`check_host` evaluates one identity. `check_mail` chooses the identities of a connection: HELO, and MAIL FROM with
its postmaster form when the reverse path is empty (§2.3, §2.4). Both ask for DNS by yielding questions and never
look at a clock: the time budget (§4.6.4) is taken from how long each answer says that it took.
"""

import ipaddress
import re
from dataclasses import dataclass, field, replace
from enum import StrEnum

from dns.rdtypes.ANY.MX import MX
from dns.rdtypes.ANY.PTR import PTR
from dns.rdtypes.IN.A import A
from dns.rdtypes.IN.AAAA import AAAA

from rust_gauge.core.dns import DnsAnswer, DnsProgram, DnsQuestion, ask
from rust_gauge.core.names import a_labels
from rust_gauge.core.spf.lookups import LOOKUP_LIMIT, VOID_LIMIT
from rust_gauge.core.spf.macros import MacroExpand, MacroString, expand, parse_macro_string, target_name
from rust_gauge.core.spf.record import Directive, Modifier, Qualifier, SpfRecord, is_spf1, parse_spf

IpAddress = ipaddress.IPv4Address | ipaddress.IPv6Address
MX_LIMIT = 10  # §4.6.4: MX records whose addresses may be asked for
PTR_LIMIT = 10  # §4.6.4: names of an address that are looked at; the rest is ignored
TIME_BUDGET = 20.0  # seconds (§4.6.4: at least 20)
_QUESTION_BOUND = 250  # our own: ten MX terms with ten hosts each are 110 already
_LABEL = re.compile(r"[^.]{1,63}\Z")
_LITERAL = re.compile(r"\[.*\]\Z")


class SpfResult(StrEnum):
    """The seven results (§2.6)."""

    NONE = "none"
    NEUTRAL = "neutral"
    PASS = "pass"  # noqa: S105 - no password
    FAIL = "fail"
    SOFTFAIL = "softfail"
    TEMPERROR = "temperror"
    PERMERROR = "permerror"


_BY_QUALIFIER = {
    Qualifier.PASS: SpfResult.PASS,
    Qualifier.FAIL: SpfResult.FAIL,
    Qualifier.SOFTFAIL: SpfResult.SOFTFAIL,
    Qualifier.NEUTRAL: SpfResult.NEUTRAL,
}


@dataclass(frozen=True, slots=True)
class SpfStep:
    """One term as it was evaluated. `asked` are its questions with how each ended, `answer` what they gave.

    `outcome` is `match`, `no match`, `ignored`, `follow` (into an include or redirect), or the error that ended it.
    """

    depth: int  # 0 for the record of the identity itself, one more in each include or redirect
    domain: str  # whose record the term stands in
    term: str
    column: int
    outcome: str
    asked: tuple[str, ...] = ()
    answer: tuple[str, ...] = ()
    note: str = ""


@dataclass(frozen=True, slots=True)
class SpfOutcome:
    """What came out. `term` is what decided, in the record of `decided_by`; `reason` says it in words."""

    result: SpfResult
    reason: str
    domain: str
    term: str = ""
    decided_by: str = ""
    explanation: str = ""  # the text of exp= for a fail (§6.2)
    lookups: int = 0  # terms that asked DNS, of LOOKUP_LIMIT
    voids: int = 0  # void look-ups, of VOID_LIMIT
    seconds: float = 0.0  # spent waiting for answers
    steps: tuple[SpfStep, ...] = ()


@dataclass(frozen=True, slots=True)
class SpfCheck:
    """The identities of one connection. `helo` is None where its name cannot be checked apart (§2.3)."""

    helo: SpfOutcome | None
    mail_from: SpfOutcome
    mail_from_domain: str  # what DMARC aligns: the domain of MAIL FROM, or of HELO when it is empty
    postmaster: bool  # MAIL FROM was empty, and postmaster@ the HELO name was checked in its place (§2.4)


def check_host(
    ip: IpAddress | str,
    domain: str,
    sender: str,
    helo: str = "",
    *,
    receiver: str = "unknown",
    timestamp: int = 0,
    record: str | None = None,
    time_budget: float = TIME_BUDGET,
) -> DnsProgram[SpfOutcome]:
    """Evaluate SPF for `ip` and `domain` with the sender `<local-part>@<domain>` (§4.1).

    `record` is tried in place of what `domain` publishes: for a record before it is published. `receiver` and
    `timestamp` (Unix seconds) are for the macros `%{r}` and `%{t}`. ValueError if `ip` is not an IP address.
    """
    run = _Run(_client(ip), sender, helo, receiver, timestamp, time_budget)
    return (yield from run.whole(domain, record))


def check_mail(
    ip: IpAddress | str,
    helo: str,
    mail_from: str,
    *,
    receiver: str = "unknown",
    timestamp: int = 0,
    record: str | None = None,
    time_budget: float = TIME_BUDGET,
) -> DnsProgram[SpfCheck]:
    """Evaluate both identities of a connection. `mail_from` is empty or `<>` for notices.

    `record` is tried in place of what the MAIL FROM domain publishes.
    """
    path = mail_from.strip()
    path = path[1:-1] if path.startswith("<") and path.endswith(">") else path
    helo = helo.strip()
    domain = path.rpartition("@")[2] if path else helo
    more = {"receiver": receiver, "timestamp": timestamp, "time_budget": time_budget}
    greeting = None
    if path and _proper(helo):
        kwargs = {**more, "record": record if helo.lower() == domain.lower() else None}
        greeting = yield from check_host(ip, helo, f"postmaster@{helo}", helo, **kwargs)  # type: ignore[arg-type]
    sender = path or f"postmaster@{helo}"
    outcome = yield from check_host(ip, domain, sender, helo, record=record, **more)  # type: ignore[arg-type]
    return SpfCheck(greeting, outcome, domain.lower().removesuffix("."), not path)


class _Stop(Exception):
    """The evaluation ends with an error, from however deep inside (§2.6.6, §2.6.7)."""

    def __init__(self, result: SpfResult, reason: str) -> None:
        super().__init__(reason)
        self.result = result
        self.reason = reason


@dataclass(frozen=True, slots=True)
class _Verdict:
    result: SpfResult
    reason: str
    term: str = ""
    decided_by: str = ""
    record: SpfRecord | None = None


@dataclass
class _Run:
    """One evaluation: the connection, and what it has used up so far."""

    ip: IpAddress
    sender: str
    helo: str
    receiver: str
    timestamp: int
    time_budget: float
    lookups: int = 0
    voids: int = 0
    seconds: float = 0.0
    questions: int = 0
    steps: list[SpfStep] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.version = self.ip.version
        self.bits = self.ip.max_prefixlen
        self.number = int(self.ip)
        local, at, domain = self.sender.rpartition("@")
        if not at:  # §4.3: without a local part it is postmaster
            local, domain = "", self.sender
        self.local = local or "postmaster"
        domain = a_labels(domain)  # RFC 8616 §4: what macros expand to is in A-labels
        self.helo = a_labels(self.helo)
        self.sender_domain = domain
        self.sender = f"{self.local}@{domain}"

    # The identity

    def whole(self, domain: str, record: str | None) -> DnsProgram[SpfOutcome]:
        name = a_labels(domain.strip()).removesuffix(".")
        explanation = ""
        try:
            verdict = yield from self.check(name, 0, record)
            if verdict.result is SpfResult.FAIL:
                explanation = yield from self.explain(verdict)
        except _Stop as stop:
            last = self.steps[-1] if self.steps else None
            verdict = _Verdict(stop.result, stop.reason, last.term if last else "", last.domain if last else "")
        return SpfOutcome(
            verdict.result,
            verdict.reason,
            name.lower(),
            verdict.term,
            verdict.decided_by,
            explanation,
            self.lookups,
            self.voids,
            round(self.seconds, 6),
            tuple(self.steps),
        )

    def check(self, domain: str, depth: int, given: str | None = None) -> DnsProgram[_Verdict]:
        """§4.3 to §4.7 for one domain: choose its record and evaluate it."""
        # Step 1 (§4.3): what is not a domain name has no policy.
        domain = a_labels(domain)
        if not domain.isascii():
            return _Verdict(SpfResult.NONE, f"{domain} cannot be converted to A-labels")
        if not _proper(domain):
            return _Verdict(SpfResult.NONE, f"{domain or 'an empty name'} is not a full domain name")
        # Step 2 (§4.4, §4.5): the record.
        if given is None:
            answer = yield from self.ask(domain, "TXT")
            if answer.failed:
                raise _Stop(SpfResult.TEMPERROR, f"no usable TXT answer for {domain}: {answer.detail or answer.status}")
            texts = [text for txt in answer.texts if is_spf1(text := txt.text)]
        else:
            texts = [given] if is_spf1(given) else []
        if not texts:
            return _Verdict(SpfResult.NONE, f"{domain} has no SPF record", decided_by=domain)
        if len(texts) > 1:
            raise _Stop(SpfResult.PERMERROR, f"{domain} publishes {len(texts)} SPF records")
        # Step 3 (§4.6): one mistake anywhere spoils the record before anything in it is evaluated.
        record = parse_spf(texts[0])
        if record.problems:
            first = record.problems[0]
            self.step(depth, domain, "", first.column, "permerror", note=first.what)
            raise _Stop(SpfResult.PERMERROR, f"the record of {domain}, column {first.column}: {first.what}")
        # Step 4 (§4.6.2): the mechanisms from left to right; the first match decides.
        for term in record.directives:
            if (yield from self.matches(term, domain, depth)):
                result = _BY_QUALIFIER[term.qualifier]
                return _Verdict(result, f"{term.text} of {domain} matches", term.text, domain, record)
        # Step 5 (§6.1): redirect, unless there is an all (which would have matched).
        if record.redirect is not None:
            return (yield from self.redirect(record.redirect, domain, depth))
        return _Verdict(SpfResult.NEUTRAL, f"no term of the record of {domain} matches (§4.7)", "", domain, record)

    def redirect(self, modifier: Modifier, domain: str, depth: int) -> DnsProgram[_Verdict]:
        self.count(modifier.text, domain, modifier.column, depth)
        if self.never_matches(modifier.value):
            return _Verdict(SpfResult.NEUTRAL, f"{modifier.text} of {domain} matches nothing (RFC 8616 §4)", "", domain)
        target = yield from self.name_of(modifier.value, domain)
        self.step(depth, domain, modifier.text, modifier.column, "follow", note=target)
        verdict = yield from self.check(target, depth + 1)
        if verdict.result is SpfResult.NONE:  # §6.1
            raise _Stop(SpfResult.PERMERROR, f"{modifier.text} of {domain} has no SPF record")
        return verdict

    # The mechanisms (§5)

    def matches(self, term: Directive, domain: str, depth: int) -> DnsProgram[bool]:
        mechanism = term.mechanism
        if mechanism == "all":
            self.step(depth, domain, term.text, term.column, "match")
            return True
        if term.address is not None:
            matched = self.inside(term)
            self.step(depth, domain, term.text, term.column, "match" if matched else "no match")
            return matched
        self.count(term.text, domain, term.column, depth)
        if self.never_matches(term.domain):
            note = "the local part is not ASCII, so its macros match nothing (RFC 8616 §4)"
            self.step(depth, domain, term.text, term.column, "no match", note=note)
            return False
        target = domain if term.domain is None else (yield from self.name_of(term.domain, domain))
        if mechanism == "include":
            return (yield from self.include(term, target, domain, depth))
        if not _askable(target):  # §4.8 leaves it open; a name that cannot exist matches nothing
            note = f"{target!r} is not a valid DNS name"
            self.step(depth, domain, term.text, term.column, "no match", note=note)
            return False
        if mechanism == "exists":
            return (yield from self.exists(term, target, domain, depth))
        if mechanism == "a":
            return (yield from self.a(term, target, domain, depth))
        if mechanism == "mx":
            return (yield from self.mx(term, target, domain, depth))
        return (yield from self.ptr(term, target, domain, depth))

    def include(self, term: Directive, target: str, domain: str, depth: int) -> DnsProgram[bool]:
        at = len(self.steps)
        self.step(depth, domain, term.text, term.column, "follow", note=target)
        verdict = yield from self.check(target, depth + 1)
        if verdict.result is SpfResult.NONE:  # §5.2, the table
            raise self.error(at, SpfResult.PERMERROR, f"{term.text} of {domain} has no SPF record")
        matched = verdict.result is SpfResult.PASS
        note = f"{target}: {verdict.result}"
        self.steps[at] = replace(self.steps[at], outcome="match" if matched else "no match", note=note)
        return matched

    def exists(self, term: Directive, target: str, domain: str, depth: int) -> DnsProgram[bool]:
        answer = yield from self.ask(target, "A")  # §5.7: A, whatever the client's own family
        return self.told(term, domain, depth, [answer], bool(answer.records), answer.void)

    def a(self, term: Directive, target: str, domain: str, depth: int) -> DnsProgram[bool]:
        answer = yield from self.ask(target, "A" if self.version == 4 else "AAAA")
        return self.told(term, domain, depth, [answer], self.among(answer, term), answer.void)

    def mx(self, term: Directive, target: str, domain: str, depth: int) -> DnsProgram[bool]:
        at = len(self.steps)
        answer = yield from self.ask(target, "MX")
        mxs = sorted((r for r in answer.records if isinstance(r, MX)), key=lambda mx: mx.preference)
        if answer.failed or not mxs:
            return self.told(term, domain, depth, [answer], False, answer.void)
        self.step(depth, domain, term.text, term.column, "no match")
        if len(mxs) > MX_LIMIT:
            what = f"{target} has {len(mxs)} MX records; the limit is {MX_LIMIT}"
            raise self.error(at, SpfResult.PERMERROR, what)
        hosts = [mx.exchange.to_text(omit_final_dot=True).lower() for mx in mxs]
        hosts = [host for host in hosts if _askable(host)]  # a null MX (RFC 7505) is the root
        answers = yield from self.ask_all(hosts, "A" if self.version == 4 else "AAAA")
        del self.steps[at]
        for index, answer in enumerate(answers):
            if answer.failed or self.among(answer, term):
                shown = [answer, *answers[: index + 1]]
                return self.told(term, domain, depth, shown, not answer.failed, False)
        return self.told(term, domain, depth, [answer, *answers], False, False)

    def ptr(self, term: Directive, target: str, domain: str, depth: int) -> DnsProgram[bool]:
        answer, names = yield from self.validated_names()
        wanted = target.lower()
        matched = any(name == wanted or name.endswith("." + wanted) for name in names)
        if answer.void:
            self.void(term.text, domain)
        note = f"forward-confirmed names: {', '.join(names) or 'none'}"
        outcome = "match" if matched else "no match"  # §5.5: a failed PTR question is no match, not an error
        self.step(depth, domain, term.text, term.column, outcome, *_shown([answer]), note=note)
        return matched

    def validated_names(self) -> DnsProgram[tuple[DnsAnswer, list[str]]]:
        """Names of the client's address that lead back to it (§5.5); failures are passed over."""
        answer = yield from self.ask(self.ip.reverse_pointer, "PTR")
        names = [r.target.to_text(omit_final_dot=True).lower() for r in answer.records if isinstance(r, PTR)]
        names = [name for name in names if _askable(name)][:PTR_LIMIT]
        answers = yield from self.ask_all(names, "A" if self.version == 4 else "AAAA")
        good = [name for name, answer in zip(names, answers, strict=True) if self.number in _numbers(answer)]
        return answer, good

    # Explanations and macros (§6.2, §7)

    def explain(self, verdict: _Verdict) -> DnsProgram[str]:
        """Expand the text of exp=; empty whenever anything is wrong with it, which changes nothing else (§6.2)."""
        modifier = verdict.record.explanation if verdict.record is not None else None
        if modifier is None or self.never_matches(modifier.value):
            return ""
        try:
            target = yield from self.name_of(modifier.value, verdict.decided_by)
            if not _askable(target):
                return ""
            answer = yield from self.ask(target, "TXT")
            if len(answer.texts) != 1:
                return ""
            text = answer.texts[0].text
            string, problems = parse_macro_string(text, 1, explanation=True)
            if problems or not text.isascii():
                return ""
            return (yield from self.expanded(string, verdict.decided_by))
        except _Stop:
            return ""

    def never_matches(self, spec: MacroString | None) -> bool:
        """Return whether a name depends on a local part that is not ASCII: it matches nothing (RFC 8616 §4)."""
        if spec is None or self.local.isascii():
            return False
        return any(isinstance(piece, MacroExpand) and piece.letter in "sSlL" for piece in spec.pieces)

    def name_of(self, spec: MacroString, domain: str) -> DnsProgram[str]:
        if not spec.has_macros:
            return target_name(spec.literal)
        return target_name((yield from self.expanded(spec, domain)))

    def expanded(self, string: MacroString, domain: str) -> DnsProgram[str]:
        values = {
            "s": self.sender,
            "l": self.local,
            "o": self.sender_domain,
            "d": domain,
            "i": _dotted(self.ip),
            "v": "in-addr" if self.version == 4 else "ip6",
            "h": self.helo or "unknown",
            "c": str(self.ip),
            "r": self.receiver,
            "t": str(self.timestamp),
        }
        if any(isinstance(piece, MacroExpand) and piece.letter in "pP" for piece in string.pieces):
            values["p"] = yield from self.validated_name(domain)
        return expand(string, values)

    def validated_name(self, domain: str) -> DnsProgram[str]:
        """`%{p}` (§7.3): the domain itself if the address has that name, else one below it, else any, else unknown."""
        _, names = yield from self.validated_names()
        own = domain.lower()
        below = next((name for name in names if name.endswith("." + own)), None)
        return own if own in names else below or (names[0] if names else "unknown")

    # Questions, and the limits on them (§4.6.4)

    def ask(self, name: str, rdtype: str) -> DnsProgram[DnsAnswer]:
        answers = yield from self.ask_all([name], rdtype)
        return answers[0]

    def ask_all(self, names: list[str], rdtype: str) -> DnsProgram[list[DnsAnswer]]:
        """Several questions side by side, which takes as long as the slowest of them."""
        if not names:
            return []
        self.questions += len(names)
        if self.questions > _QUESTION_BOUND:
            raise _Stop(SpfResult.PERMERROR, f"more than {_QUESTION_BOUND} queries would be needed")
        if len(names) == 1:
            answers = [(yield from ask(names[0].lower(), rdtype))]
        else:
            answers = list((yield tuple(DnsQuestion(name.lower(), rdtype) for name in names)))
        self.seconds += max(answer.seconds for answer in answers)
        if self.seconds > self.time_budget:
            raise _Stop(SpfResult.TEMPERROR, f"the answers took longer than {self.time_budget:g} s together")
        return answers

    def count(self, term: str, domain: str, column: int, depth: int) -> None:
        self.lookups += 1
        if self.lookups > LOOKUP_LIMIT:
            what = f"{term} of {domain} would be lookup {self.lookups}; the limit is {LOOKUP_LIMIT}"
            self.step(depth, domain, term, column, "permerror", note=what)
            raise _Stop(SpfResult.PERMERROR, what)

    def void(self, term: str, domain: str) -> None:
        self.voids += 1
        if self.voids > VOID_LIMIT:
            raise _Stop(
                SpfResult.PERMERROR, f"{term} of {domain} is void lookup {self.voids}; the limit is {VOID_LIMIT}"
            )

    def told(
        self, term: Directive, domain: str, depth: int, answers: list[DnsAnswer], matched: bool, void: bool
    ) -> bool:
        """Keep the step of a term that asked; a failed answer is a temperror (§5, "DNS errors")."""
        failed = next((answer for answer in answers if answer.failed), None)
        outcome = "temperror" if failed else "match" if matched else "no match"
        self.step(depth, domain, term.text, term.column, outcome, *_shown(answers), note="void" if void else "")
        if failed:
            why = failed.detail or failed.status
            raise _Stop(SpfResult.TEMPERROR, f"{term.text} of {domain}: no usable answer for {failed.question}: {why}")
        if void:
            self.void(term.text, domain)
        return matched

    def inside(self, term: Directive) -> bool:
        """Return whether the client is in the network of an ip4 or ip6 term."""
        if term.address is None or (term.mechanism == "ip4") != (self.version == 4):
            return False
        shift = self.bits - (term.prefix4 if self.version == 4 else term.prefix6)
        return (self.number ^ term.address) >> shift == 0

    def among(self, answer: DnsAnswer, term: Directive) -> bool:
        shift = self.bits - (term.prefix4 if self.version == 4 else term.prefix6)
        return any((number ^ self.number) >> shift == 0 for number in _numbers(answer))

    def step(
        self,
        depth: int,
        domain: str,
        term: str,
        column: int,
        outcome: str,
        asked: tuple[str, ...] = (),
        answer: tuple[str, ...] = (),
        *,
        note: str = "",
    ) -> None:
        self.steps.append(SpfStep(depth, domain, term, column, outcome, asked, answer, note))

    def error(self, at: int, result: SpfResult, reason: str) -> _Stop:
        """Return the error that ends the evaluation, told at the step where it arose."""
        self.steps[at] = replace(self.steps[at], outcome=str(result), note=reason)
        self.steps.append(self.steps.pop(at))
        return _Stop(result, reason)


def _client(ip: IpAddress | str) -> IpAddress:
    """Return an address; IPv4 mapped into IPv6 is IPv4 (§5)."""
    address = ipaddress.ip_address(ip.strip()) if isinstance(ip, str) else ip
    if isinstance(address, ipaddress.IPv6Address) and address.ipv4_mapped is not None:
        return address.ipv4_mapped
    return address


def _proper(domain: str) -> bool:
    """Check a full domain name as §4.3 wants it: several labels of 1 to 63 characters, and no address literal."""
    name = domain.removesuffix(".")
    return _askable(name) and "." in name and not _LITERAL.match(name) and not _is_address(name)


def _is_address(name: str) -> bool:
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True


def _askable(name: str) -> bool:
    return 0 < len(name) <= 253 and all(_LABEL.match(label) for label in name.split("."))


def _dotted(ip: IpAddress) -> str:
    """`%{i}`: the address in dots, an IPv6 address nibble by nibble (§7.3)."""
    return str(ip) if ip.version == 4 else ".".join(ip.exploded.replace(":", ""))


def _numbers(answer: DnsAnswer) -> list[int]:
    return [int(ipaddress.ip_address(rdata.address)) for rdata in answer.records if isinstance(rdata, (A, AAAA))]


def _shown(answers: list[DnsAnswer]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    asked = tuple(f"{answer.question}: {answer.status}" for answer in answers)
    return asked, tuple(rdata.to_text() for answer in answers for rdata in answer.records[:20])
