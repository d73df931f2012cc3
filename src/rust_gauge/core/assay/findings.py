"""What an assay finds, and its mark: exactly 100 minus the points that its findings take.

Checks report *sightings*: a rule and where it was seen. The rule file adds the rest: level, points, and what to say.
Points are reckoned in tenths. When the findings weigh more than 100 together, each gives up its share of the rest.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from rust_gauge.core.assay.rules import AssayRule, RuleSet
from rust_gauge.core.audit import Level

MOST_PLACES = 50  # of one finding; the rest is counted


class Where(StrEnum):
    """What a place is in: the message as a whole, a field of its header, a part, or how it was sent."""

    MESSAGE = "message"
    HEADER = "header"
    PART = "part"
    SENDING = "sending"


@dataclass(frozen=True, slots=True)
class Place:
    """Where something was seen. `line` and `column` count from 1 within the field or the decoded part; 0: all of it."""

    where: Where = Where.MESSAGE
    name: str = ""  # a field's name, or a part's number
    line: int = 0
    column: int = 0
    text: str = ""  # what stands there, at most 200 characters


@dataclass(frozen=True, slots=True)
class Sighting:
    """A rule that applies, at a place, and values that its texts name."""

    rule: str
    place: Place = Place()
    values: Mapping[str, object] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class AssayFinding:
    """A rule that applies to a message. `count` is how often; `places` has the first of them."""

    rule: str
    group: str
    level: Level
    title: str
    effect: str
    remedy: str
    reference: str
    points: float  # what it takes off the mark
    count: int
    places: tuple[Place, ...]


@dataclass(frozen=True, slots=True)
class Assay:
    """The findings, the worst first, and the mark. `rules_dated` is the day of the rule file."""

    mark: float
    findings: tuple[AssayFinding, ...]
    rules_dated: str
    not_checked: tuple[str, ...] = ()  # what could not be looked at, and why

    @property
    def worst(self) -> Level | None:
        """Return the worst level found; None when nothing was."""
        return min((finding.level for finding in self.findings), key=lambda level: level.rank, default=None)


def weigh(sightings: Iterable[Sighting], rules: RuleSet, not_checked: Iterable[str] = ()) -> Assay:
    """Make findings of sightings: one for each rule. Rules that are off or unknown to the rule set are left out."""
    seen: dict[str, list[Sighting]] = {}
    for sighting in sightings:
        seen.setdefault(sighting.rule, []).append(sighting)
    applied = [(rule, seen[rule.key]) for rule in rules.rules if rule.key in seen and not rule.off]
    tenths = _shared([_tenths(rule, len(found)) for rule, found in applied])
    findings = [_finding(rule, found, points) for (rule, found), points in zip(applied, tenths, strict=True)]
    findings.sort(key=lambda finding: (finding.level.rank, -finding.points, finding.rule))
    return Assay((1000 - sum(tenths)) / 10, tuple(findings), rules.dated, tuple(not_checked))


def _tenths(rule: AssayRule, count: int) -> int:
    """Return what a rule weighs when it is seen so often."""
    points = min(rule.most, rule.points * count) if rule.most else rule.points
    return round(points * 10)


def _shared(tenths: list[int]) -> list[int]:
    """Return what each takes off 1000, in proportion where they weigh more than that; the largest rests go first."""
    total = sum(tenths)
    if total <= 1000:
        return tenths
    exact = [each * 1000 / total for each in tenths]
    out = [int(each) for each in exact]
    by_rest = sorted(range(len(out)), key=lambda at: (out[at] - exact[at], at))
    for at in by_rest[: 1000 - sum(out)]:
        out[at] += 1
    return out


def _finding(rule: AssayRule, found: list[Sighting], tenths: int) -> AssayFinding:
    values = found[0].values
    return AssayFinding(
        rule.key, rule.group, rule.level, rule.title.format_map(values), rule.effect.format_map(values),
        rule.remedy.format_map(values), rule.reference, tenths / 10, len(found),
        tuple(sighting.place for sighting in found[:MOST_PLACES]),
    )  # fmt: skip
