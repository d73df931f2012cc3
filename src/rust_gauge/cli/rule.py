"""`rustgauge rule`: your own rules for bounce causes, in TOML of the same form as the built-in ones."""

import json
import time
import tomllib
from collections.abc import Sequence
from typing import Any

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import TABLE, Noun, days_chosen, period_options
from rust_gauge.cli.output import plural
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, read_text
from rust_gauge.contract.rules import CauseRules, OwnRule, RejudgedPattern, RulesBacktestRequest, RulesChange

DEFAULT = "list"
EXAMPLES = (
    "rule list --tenant glasswort",
    "rule export --tenant glasswort",
    "rule backtest rules.toml --days 90 --tenant glasswort",
)
_POLL = 0.5  # seconds
_COLUMNS = ("rule", "cause", "permanence", "says", "words", "pattern", "codes", "provider")


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("list", list_rules, "list your own rules, in the order in which they are tried", TABLE)
    made.add_argument("--built-in", action="store_true", help="list the built-in rules, which are tried after your own")
    made = noun.add("export", export, "print your rules as TOML; `import` reads it again")
    made.add_argument("--built-in", action="store_true", help="print the built-in rules")
    made = noun.add(
        "import", import_rules, "replace your rules with those of a TOML file, and apply them to past events"
    )
    made.add_argument("file")
    made.add_argument("--new-events-only", action="store_true", help="do not apply them to past events")
    made.add_argument("--no-wait", action="store_true", help="do not wait until past events are reclassified")
    made = noun.add("backtest", backtest, "show what the rules of a TOML file would change in past events", TABLE)
    made.add_argument("file")
    period_options(made, 90)
    made = noun.add("apply", apply, "reclassify past events with the current rules")
    made.add_argument("--no-wait", action="store_true", help="only start it")
    noun.add("cancel", cancel, "cancel the reclassification of past events")
    noun.add("status", status, "show the progress of reclassifying past events")


def list_rules(session: Session) -> int:
    """List own rules, or the built-in ones."""
    if session.arguments.built_in:
        return _listed(session, session.client.cause_rules.built_in(session.tenant()))
    found = session.client.cause_rules.get(session.tenant())
    _listed(session, found.rules)
    if session.arguments.format == "text":
        _say_application(session, found)
    return 0


def _listed(session: Session, rules: Sequence[OwnRule]) -> int:
    session.output.items(
        session.arguments.format, rules, OwnRule, _COLUMNS,
        lambda r: (r.name, r.cause.replace("_", " "), r.permanence, " | ".join(r.says), ", ".join(r.words), r.pattern,
                   f"{r.code} {r.enhanced}".strip(), r.provider),
        empty="No rules of your own; the built-in rules decide (rustgauge rule list --built-in).",
    )  # fmt: skip
    return 0


def export(session: Session) -> int:
    """Print rules as TOML."""
    client, tenant = session.client.cause_rules, session.tenant()
    session.output.line(_toml(client.built_in(tenant) if session.arguments.built_in else client.get(tenant).rules))
    return 0


def import_rules(session: Session) -> int:
    """Replace the rules."""
    arguments, client, tenant = session.arguments, session.client.cause_rules, session.tenant()
    now = client.get(tenant)
    change = RulesChange.model_construct(
        version=now.version, rules=_read(arguments.file), apply=not arguments.new_events_only
    )
    made = client.set(tenant, change)
    session.output.say(f"Saved {plural(len(made.rules), 'rule')}, version {made.version}.")
    return 0 if arguments.new_events_only or arguments.no_wait else _wait(session, tenant)


def backtest(session: Session) -> int:
    """Backtest rules. Exit status 3 when there is a problem with them."""
    arguments, output = session.arguments, session.output
    days, last = days_chosen(arguments)
    request = RulesBacktestRequest.model_construct(rules=_read(arguments.file), days=days, last=last)
    found = session.client.cause_rules.backtest(session.tenant(), request)
    if arguments.format == "json":
        output.json(found)
    else:
        output.items(
            arguments.format, found.rows, RejudgedPattern, ("count", "now", "would be", "rule", "at", "pattern"),
            lambda r: (r.count, f"{r.cause.replace('_', ' ')} ({r.permanence})",
                       f"{r.new_cause.replace('_', ' ')} ({r.new_permanence})", r.new_rule, ", ".join(r.providers),
                       r.pattern),
            right=(0,), empty="Nothing would change.",
        )  # fmt: skip
    if arguments.format == "text":
        output.say(
            f"{found.changed:,} of {found.judged:,} bounces and delays from {found.first_day} to {found.last_day} "
            f"would change; {found.frees:,} bounces would no longer count against their address, {found.holds:,} would."
        )
        idle = [name for name, n in found.decided.items() if not n]
        if idle:
            output.say(f"Rules that match nothing: {', '.join(idle)}.")
    for problem in found.problems:
        output.say(problem)
    return 3 if found.problems else 0


def apply(session: Session) -> int:
    """Reclassify past events."""
    tenant = session.tenant()
    session.client.cause_rules.apply(tenant)
    return 0 if session.arguments.no_wait else _wait(session, tenant)


def cancel(session: Session) -> int:
    """Cancel the reclassification."""
    tenant = session.tenant()
    session.client.cause_rules.cancel(tenant)
    return _wait(session, tenant)


def status(session: Session) -> int:
    """Show how far the reclassification is."""
    return _say_application(session, session.client.cause_rules.get(session.tenant()))


def _wait(session: Session, tenant: str) -> int:
    """Wait until past events are reclassified. Ctrl-C leaves the job running."""
    client = session.client.cause_rules
    progress = Progress("Reclassifying", 0, session.output.err)
    try:
        while True:
            now = client.get(tenant).application
            if now is None or now.state not in ("waiting", "running"):
                break
            progress.total = now.days
            progress.advance(now.days_done - progress.done, f"{now.judged:,} events, {now.changed:,} changed")
            time.sleep(_POLL)
    except KeyboardInterrupt:
        progress.close()
        session.output.say("The job continues. See: rustgauge rule status; cancel it: rustgauge rule cancel")
        return 130
    progress.close()
    return _say_application(session, client.get(tenant))


def _say_application(session: Session, rules: CauseRules) -> int:
    now = rules.application
    if now is None:
        return 0
    counts = f"{now.judged:,} bounces and delays, {now.changed:,} changed"
    followed = f"{now.entries_made:,} suppression entries added, {now.entries_lifted:,} removed"
    session.output.say({
        "waiting": "Past events will be reclassified.",
        "running": f"Reclassifying past events: {now.days_done} of {now.days} days; {counts}.",
        "done": f"Past events are reclassified: {counts}; {followed}.",
        "cancelled": f"Cancelled after {now.days_done} of {now.days} days: {counts}; {followed}. "
        "Continue: rustgauge rule apply",
        "failed": f"Reclassifying failed: {now.error}. Try again: rustgauge rule apply",
    }[now.state])  # fmt: skip
    return 1 if now.state == "failed" else 0


def _read(name: str) -> list[OwnRule]:
    """Return the rules of a file. The service says what is wrong with one."""
    try:
        document = tomllib.loads(read_text(name))
    except tomllib.TOMLDecodeError as error:
        raise UsageError(f"{name} is not TOML: {error}") from None
    found = document.get("rule", [])
    if not isinstance(found, list) or not all(isinstance(rule, dict) for rule in found):
        raise UsageError(f"{name} contains no rules; write each one under [[rule]]")
    return [
        OwnRule.model_construct(**{"fits_not" if key == "not" else key: rule[key] for key in rule}) for rule in found
    ]


def _toml(rules: Sequence[OwnRule]) -> str:
    parts = []
    for rule in rules:
        values: dict[str, Any] = {
            "not" if key == "fits_not" else key: value for key, value in rule.model_dump().items()
        }
        # What JSON writes for a text or a list of texts is TOML, too.
        lines = [f"{key} = {json.dumps(value, ensure_ascii=False)}" for key, value in values.items() if value]
        parts.append("\n".join(["[[rule]]", *lines]))
    return "\n\n".join(parts)
