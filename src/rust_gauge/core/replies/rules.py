"""Ordered rules that find the cause of a refusal, as people write them in `rules.toml`. The first that fits decides.

A rule states what a reply speaks about (`vocabulary`), so it holds for many wordings and languages; its other
conditions see the pattern of a reply (`reply_pattern`): addresses as @, hosts as ~, numbers as #, codes unchanged.
Codes come last, because providers misuse them. Each pattern is classified once and remembered.
"""

import re
import tomllib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cache
from importlib import resources
from typing import Any, Protocol

import regex

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.patterns import check_pattern
from rust_gauge.core.replies.causes import Cause, Classified, Permanence
from rust_gauge.core.replies.reply import SmtpReply, parse_reply
from rust_gauge.core.replies.reply_pattern import reply_pattern_of, wording_of
from rust_gauge.core.replies.vocabulary import Statement, clauses_of, read_statement, speaks_about

_REMEMBERED = 50_000  # judged reply patterns
_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,35}\Z")
# What a pattern of its own may cost: processor time at one reply pattern, and on average once it has used some.
_PATIENCE = 0.05  # seconds for one pattern and text; a pattern that backtracks is rejected
_ALLOWANCE, _EACH = 0.1, 50e-6
_CODE = re.compile(r"[245](?:\d\d|xx)\Z")
_ENHANCED = re.compile(r"(?:[245]|x)\.\d{1,3}\.(?:\d{1,3}|\*)\Z")
_FOR_GOOD = re.compile(
    r"permanent|(?:does|do|did) not exist|no such|fatal|undeliverable|endgültig|définiti", re.IGNORECASE
)
_BY_CAUSE = {
    **dict.fromkeys(
        (Cause.NO_SUCH_MAILBOX, Cause.MAILBOX_DISABLED, Cause.NO_SUCH_DOMAIN, Cause.RELAY_DENIED, Cause.TOO_LARGE,
         Cause.LOOP, Cause.EXPIRED), Permanence.PERMANENT),
    **dict.fromkeys(
        (Cause.MAILBOX_FULL, Cause.RATE_LIMITED, Cause.GREYLISTED, Cause.HOST_UNREACHABLE, Cause.PROVIDER_TROUBLE),
        Permanence.TRANSIENT),
}  # fmt: skip
_FIELDS = {
    "name",
    "cause",
    "says",
    "words",
    "pattern",
    "unless",
    "code",
    "enhanced",
    "provider",
    "permanence",
    "fits",
    "not",
}
MAX_RULES = 500  # each is tried on every new reply


class RuleError(RustGaugeError):
    """A rule that cannot be used."""


@dataclass(frozen=True, slots=True)
class CauseRule:
    """One rule. Empty conditions are left out; a rule needs at least one. RuleError when it cannot be used."""

    name: str
    cause: Cause
    words: tuple[str, ...] = ()
    pattern: str = ""
    unless: str = ""
    code: str = ""
    enhanced: str = ""
    provider: str = ""
    permanence: Permanence | None = None
    fits: tuple[str, ...] = ()
    fits_not: tuple[str, ...] = ()
    says: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if not _NAME.match(self.name):
            raise RuleError(f"{self.name[:60]!r} is not a rule name", remedy="Use a-z, 0-9 and hyphens, up to 36")
        if self.cause is Cause.NONE:
            raise RuleError(f"{self.name}: a rule must have a cause")
        for text in (self.pattern, self.unless):
            if len(text) > 4000:
                raise RuleError(f"{self.name}: a pattern is longer than 4000 characters")
            try:
                check_pattern(text)
                re.compile(text, re.IGNORECASE)
            except (re.error, ValueError, OverflowError, RecursionError) as error:
                raise RuleError(f"{self.name}: {text[:80]!r} is not a regular expression", why=str(error)) from None
        for part in self.code.split():
            if not _CODE.match(part):
                raise RuleError(f"{self.name}: {part!r} is not a reply code", remedy="Write 550 or 5xx")
        for part in self.enhanced.split():
            if not _ENHANCED.match(part):
                raise RuleError(
                    f"{self.name}: {part!r} is not an enhanced status code", remedy="Write 5.1.1, x.1.1 or 5.7.*"
                )
        if any(not word.strip() or word != word.lower() or len(word) > 100 for word in self.words):
            raise RuleError(f"{self.name}: words must be lower case and not empty")
        for text in self.says:
            try:
                read_statement(text)
            except ValueError as error:
                raise RuleError(f"{self.name}: {error}") from None
        if not (self.says or self.words or self.pattern or self.code or self.enhanced):
            raise RuleError(f"{self.name}: it has no condition", remedy="Give says, words, pattern, code or enhanced")


class _Pattern(Protocol):
    def search(self, text: str, /) -> object: ...


class _Bounded:
    """A pattern that anybody may write. One that takes too long fits nothing from then on.

    `meter` gives seconds of the processor's time that went to whoever asks.
    """

    def __init__(self, pattern: str, meter: Callable[[], float]) -> None:
        self.gave_up = False
        self._pattern: Any = regex.compile(pattern, regex.IGNORECASE)
        self._meter = meter
        self._used, self._calls = 0.0, 0

    def search(self, text: str, /) -> object:
        if self.gave_up:
            return None
        began = self._meter()
        try:
            return self._search(text, began)
        finally:
            self._calls += 1
            self._used += self._meter() - began
            self.gave_up = self.gave_up or self._used > _ALLOWANCE + _EACH * self._calls

    def _search(self, text: str, began: float) -> object:
        for _ in range(5):
            try:
                return self._pattern.search(text, timeout=2 * _PATIENCE)
            except TimeoutError:
                # The time-out goes by the clock; when others had the processor it is no fault of the pattern.
                if self._meter() - began > _PATIENCE:
                    break
        self.gave_up = True
        return None


def _compile(pattern: str, meter: Callable[[], float] | None) -> "_Pattern | None":
    if not pattern:
        return None
    return _Bounded(pattern, meter) if meter else re.compile(pattern, re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class _Compiled:
    name: str
    cause: Cause
    says: tuple[Statement, ...]
    search: _Pattern | None
    unless: _Pattern | None
    codes: frozenset[int] | None
    enhanced: tuple[tuple[int | None, int, int | None], ...]
    provider: str
    permanence: Permanence | None

    def fits(self, text: str, reply: SmtpReply, provider: str, clauses: Sequence[int]) -> bool:
        if self.provider and self.provider != provider:
            return False
        if self.codes is not None and reply.code not in self.codes:
            return False
        if self.enhanced:
            status = reply.enhanced
            if status is None or not any(
                (klass is None or klass == status.klass)
                and subject == status.subject
                and (detail is None or detail == status.detail)
                for klass, subject, detail in self.enhanced
            ):
                return False
        if self.says and not any(statement.fits(clauses) for statement in self.says):
            return False
        if self.search is not None and self.search.search(text) is None:
            return False
        return self.unless is None or self.unless.search(text) is None


def _codes(text: str) -> frozenset[int] | None:
    if not text:
        return None
    out: set[int] = set()
    for part in text.split():
        out.update(range(int(part[0]) * 100, int(part[0]) * 100 + 100) if part.endswith("xx") else [int(part)])
    return frozenset(out)


def _enhanced(text: str) -> tuple[tuple[int | None, int, int | None], ...]:
    parts = [part.split(".") for part in text.split()]
    return tuple((None if k == "x" else int(k), int(s), None if d == "*" else int(d)) for k, s, d in parts)


@dataclass(frozen=True, slots=True)
class RuleSet:
    """Rules in their order. `prefix` stands before their names in what is kept with an event.

    `meter` for patterns of people who are not to hold us up: a slow one fits nothing, and `slow_rules` names it.
    """

    rules: tuple[CauseRule, ...]
    prefix: str = "rule:"
    meter: Callable[[], float] | None = None
    _compiled: list[_Compiled] = field(default_factory=list, init=False, compare=False, repr=False)
    _by_word: dict[str, list[int]] = field(default_factory=dict, init=False, compare=False, repr=False)
    _always: list[int] = field(default_factory=list, init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        names = [rule.name for rule in self.rules]
        if len(names) > MAX_RULES:
            raise RuleError(f"{len(names)} rules; the limit is {MAX_RULES}")
        doubled = {name for name in names if names.count(name) > 1}
        if doubled:
            raise RuleError(f"Two rules are named {sorted(doubled)[0]}")
        for number, rule in enumerate(self.rules):
            try:
                search, unless = _compile(rule.pattern, self.meter), _compile(rule.unless, self.meter)
            except (regex.error, RecursionError, OverflowError, MemoryError) as error:
                raise RuleError(f"{rule.name}: its pattern cannot be used", why=str(error)[:200]) from None
            self._compiled.append(
                _Compiled(rule.name, rule.cause, tuple(map(read_statement, rule.says)), search, unless,
                          _codes(rule.code), _enhanced(rule.enhanced), rule.provider, rule.permanence)
            )  # fmt: skip
            for word in rule.words:
                self._by_word.setdefault(word, []).append(number)
            if not rule.words:
                self._always.append(number)

    @property
    def slow_rules(self) -> list[str]:
        """Rules whose patterns took too long on some text."""
        return [
            rule.name
            for rule in self._compiled
            if any(isinstance(pattern, _Bounded) and pattern.gave_up for pattern in (rule.search, rule.unless))
        ]

    @property
    def asks_for_provider(self) -> bool:
        """Return whether any rule looks at the provider, which then has to be known first."""
        return any(rule.provider for rule in self._compiled)

    def find(self, reply: SmtpReply, provider: str = "") -> tuple[Cause, Permanence | None, str] | None:
        """Find the cause, the permanence that the rule states, and the rule's name; None when no rule fits."""
        text = reply.text
        lower = text.lower()
        clauses = clauses_of(text) if any(rule.says for rule in self._compiled) else ()
        numbers = [number for word, numbers in self._by_word.items() if word in lower for number in numbers]
        if numbers:
            numbers = sorted({*numbers, *self._always})
        for number in numbers or self._always:
            rule = self._compiled[number]
            if rule.fits(text, reply, provider, clauses):
                return rule.cause, rule.permanence, self.prefix + rule.name
        return None


def permanence_of(reply: SmtpReply, cause: Cause = Cause.UNCLASSIFIED) -> Permanence:
    """Return whether a retry may help: by the code (RFC 5321 §4.2.1: 4yz yes, 5yz no), or by the enhanced one.

    Without a code the words decide, and without such words the cause, where it says so by itself.
    """
    first = reply.code // 100 if reply.code else reply.enhanced.klass if reply.enhanced else None
    if first in (4, 5):
        return Permanence.TRANSIENT if first == 4 else Permanence.PERMANENT
    if speaks_about(["later"], reply.text):
        return Permanence.TRANSIENT
    if _FOR_GOOD.search(reply.text):
        return Permanence.PERMANENT
    return _BY_CAUSE.get(cause, Permanence.NONE)


def read_rules(text: str) -> tuple[CauseRule, ...]:
    """Rules of a TOML text. RuleError names the rule that cannot be used, and why."""
    try:
        document = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise RuleError("The rules are not valid TOML", why=str(error)[:200]) from None
    rules = document.get("rule", [])
    if not isinstance(rules, list) or not all(isinstance(rule, dict) for rule in rules) or set(document) - {"rule"}:
        raise RuleError("The rules are not a list", remedy="Write each rule under [[rule]]")
    return tuple(_rule(rule) for rule in rules)


def _rule(values: dict[str, object]) -> CauseRule:
    name = str(values.get("name", ""))
    unknown = sorted(values.keys() - _FIELDS)
    if unknown:
        raise RuleError(f"{name or 'A rule'}: {unknown[0][:40]} is not a field of a rule")
    try:
        cause = Cause(str(values.get("cause", "")))
        stated = Permanence(str(values["permanence"])) if "permanence" in values else None
    except ValueError as error:
        raise RuleError(f"{name or 'A rule'}: {error}") from None
    lists: dict[str, tuple[str, ...]] = {}
    for key in ("says", "words", "fits", "not"):
        texts = values.get(key, [])
        if not isinstance(texts, list) or not all(isinstance(text, str) for text in texts):
            raise RuleError(f"{name}: {key} is not a list of texts")
        lists[key] = tuple(texts)
    texts = {key: values.get(key, "") for key in ("pattern", "unless", "code", "enhanced", "provider")}
    for key, one in texts.items():
        if not isinstance(one, str):
            raise RuleError(f"{name}: {key} is not a text")
    return CauseRule(
        name, cause, lists["words"], permanence=stated, fits=lists["fits"], fits_not=lists["not"],
        says=lists["says"], **texts,  # type: ignore[arg-type]
    )  # fmt: skip


@cache
def built_in_rules() -> RuleSet:
    """Return the rules that come with Rust Gauge."""
    return RuleSet(read_rules(resources.files("rust_gauge.core.replies").joinpath("rules.toml").read_text("utf-8")))


class Classifier:
    """Finds causes by rules of its own and then by the built-in ones.

    What is looked at is the reply pattern of a reply, so replies that differ in what is filled in are judged once.
    """

    def __init__(self, *own: RuleSet) -> None:
        self._sets = (*own, built_in_rules())
        self._by_provider = any(rules.asks_for_provider for rules in self._sets)
        self._known: dict[tuple[str, int | None, str | None, str], Classified] = {}

    def classify(
        self, text: str, code: int | None = None, enhanced: str | None = None, provider: str = ""
    ) -> Classified:
        """Cause, permanence and rule of a refusal; `code` and `enhanced` where the source gave them apart."""
        key = (wording_of(text), code, enhanced, provider if self._by_provider else "")
        found = self._known.get(key)
        if found is None:
            if len(self._known) >= _REMEMBERED:
                self._known.clear()
            found = self._known[key] = self._find(parse_reply(reply_pattern_of(text, code, enhanced)), provider)
        return found

    def _find(self, reply: SmtpReply, provider: str) -> Classified:
        for rules in self._sets:
            found = rules.find(reply, provider)
            if found is not None:
                cause, stated, name = found
                return Classified(cause, stated or permanence_of(reply, cause), name)
        return Classified(Cause.UNCLASSIFIED, permanence_of(reply), "none")


@cache
def built_in_classifier() -> Classifier:
    """By the built-in rules alone."""
    return Classifier()


def own_rules(rules: Sequence[CauseRule], meter: Callable[[], float]) -> RuleSet:
    """Return a tenant's own rules as they are asked before the built-in ones. RuleError when they cannot be used.

    `meter` returns the processor time of the caller in seconds: patterns may only use so much of it.
    """
    return RuleSet(tuple(rules), prefix="own:", meter=meter)


def classify(text: str, code: int | None = None, enhanced: str | None = None, provider: str = "") -> Classified:
    """Cause, permanence and rule of a refusal by the built-in rules."""
    return built_in_classifier().classify(text, code, enhanced, provider)


def failures(rules: Sequence[CauseRule], ruleset: RuleSet) -> list[str]:
    """Run the tests in the rules themselves: return replies that are decided by another rule than they should be."""
    out = []
    for rule in rules:
        for text in rule.fits:
            found = ruleset.find(parse_reply(wording_of(text)), rule.provider)
            if found is None or found[2] != ruleset.prefix + rule.name:
                out.append(f"{rule.name}: {text!r} is matched by {found[2] if found else 'no rule'}")
        for text in rule.fits_not:
            found = ruleset.find(parse_reply(wording_of(text)), rule.provider)
            if found is not None and found[2] == ruleset.prefix + rule.name:
                out.append(f"{rule.name}: {text!r} should not be matched by it")
    return out
