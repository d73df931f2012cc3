"""The rule file: what each rule of an assay is called, how bad it is, what it takes off, and what to do about it.

`rules.toml` ships with the product and has a date. A tenant's adjustments change levels and points, or switch a rule
off; they never change what is checked.
"""

import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

from rust_gauge.core.audit import Level
from rust_gauge.core.errors import InputError

MOST_POINTS = 50.0  # of one rule


@dataclass(frozen=True, slots=True)
class AssayRule:
    """One rule. `points` is for each time it is seen when `most` is set, else for all of them together."""

    key: str
    group: str
    level: Level
    points: float
    title: str
    effect: str
    remedy: str
    reference: str = ""
    most: float = 0.0
    off: bool = False


@dataclass(frozen=True, slots=True)
class RuleSet:
    """Rules in the order of the file, and the file's date."""

    dated: str
    rules: tuple[AssayRule, ...]

    def extended(self, more: Iterable[AssayRule]) -> "RuleSet":
        """Return the rules with others behind them."""
        return RuleSet(self.dated, (*self.rules, *more))

    def adjusted(self, changes: Mapping[str, Mapping[str, object]]) -> "RuleSet":
        """Return the rules with a tenant's adjustments: `level`, `points` or `off` by rule. InputError."""
        known = {rule.key for rule in self.rules}
        for key in changes:
            if key not in known:
                raise InputError(f"{key} is not a rule", remedy="See the list of rules")
        return RuleSet(self.dated, tuple(_changed(rule, changes.get(rule.key, {})) for rule in self.rules))


def _changed(rule: AssayRule, change: Mapping[str, object]) -> AssayRule:
    if not change:
        return rule
    level, points = str(change.get("level", rule.level)), change.get("points", rule.points)
    if level not in list(Level):
        raise InputError(f"{level} is not a level", remedy=f"One of {', '.join(Level)}", field=rule.key)
    if not isinstance(points, int | float) or not 0 <= points <= MOST_POINTS:
        raise InputError(f"{points} is not a number of points", remedy=f"0 to {MOST_POINTS:g}", field=rule.key)
    off = bool(change.get("off", rule.off))
    return replace(rule, level=Level(level), points=float(points), most=max(rule.most, points) if rule.most else 0.0,
                   off=off)  # fmt: skip


@cache
def built_in() -> RuleSet:
    """Return the rules that ship with the product."""
    document = tomllib.loads(Path(__file__).with_name("rules.toml").read_text("utf-8"))
    rules = tuple(
        AssayRule(**{**fields, "key": key, "level": Level(fields["level"])}) for key, fields in document["rule"].items()
    )
    return RuleSet(str(document["dated"]), rules)
