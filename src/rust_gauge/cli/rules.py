"""`rustgauge rules`: a tenant's own rules for causes, from a TOML file of the form that the shipped rules have."""

import json
import time
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.output import plural
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.rules import CauseRules, OwnRule, RulesChange, RuleTrialRequest

_POLL = 0.5  # seconds between looks at the job
_FILE_NAMES = {"not": "fits_not"}  # what is called otherwise in files, as it is a word of Python
_COLUMNS = ("rule", "cause", "permanence", "words", "pattern", "codes", "provider")


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("rules", rules, "rules of your own that find the cause of a refusal")
    made.add_argument("--format", choices=("text", "json", "csv", "ndjson", "toml"), default="text")
    made.add_argument("--shipped", action="store_true", help="those that come with the service, asked after your own")
    made.add_argument("--rehearse", metavar="FILE", help="what the rules of this TOML file would make of the past")
    made.add_argument("--days", type=positive, default=90, help="with --rehearse: how far back (90)")
    made.add_argument("--keep", metavar="FILE", help="have the rules of this file in place of those there are")
    made.add_argument("--not-to-the-past", action="store_true", help="with --keep: only what comes in from now on")
    made.add_argument("--apply", action="store_true", help="judge the past by the rules as they are")
    made.add_argument("--stop", action="store_true", help="stop judging the past")
    made.add_argument("--no-wait", action="store_true", help="do not wait until the past is judged")


def rules(session: Session) -> int:
    """List, try, keep, apply. Exit status 3 when a trial finds a mistake in the rules."""
    arguments, output = session.arguments, session.output
    client, tenant = session.client.cause_rules, session.tenant()
    if arguments.rehearse:
        return _rehearse(session, tenant)
    if arguments.keep:
        kept = client.get(tenant)
        change = RulesChange.model_construct(
            version=kept.version, rules=_read(arguments.keep), apply=not arguments.not_to_the_past
        )
        kept = client.put(tenant, change)
        output.line(f"{plural(len(kept.rules), 'rule')} kept, version {kept.version}.")
        return 0 if arguments.not_to_the_past else _wait(session, tenant)
    if arguments.apply:
        client.apply(tenant)
        return _wait(session, tenant)
    if arguments.stop:
        client.stop(tenant)
        return _wait(session, tenant)
    shown = client.shipped(tenant) if arguments.shipped else client.get(tenant).rules
    if arguments.format == "toml":
        output.line(_toml(shown))
        return 0
    rows = [
        (r.name, r.cause.replace("_", " "), r.permanence, ", ".join(r.words), r.pattern,
         f"{r.code} {r.enhanced}".strip(), r.provider)
        for r in shown
    ]  # fmt: skip
    if arguments.format == "text" and not rows:
        output.line("No rules of your own; those that are shipped decide (--shipped).")
    else:
        output.table(arguments.format, _COLUMNS, rows)
    if arguments.format == "text" and not arguments.shipped:
        _say_application(session, client.get(tenant))
    return 0


def _rehearse(session: Session, tenant: str) -> int:
    arguments, output = session.arguments, session.output
    request = RuleTrialRequest.model_construct(rules=_read(arguments.rehearse), days=arguments.days)
    found = session.client.cause_rules.rehearse(tenant, request)
    if arguments.format == "json":
        output.json(found)
    else:
        rows = [
            (row.count, f"{row.cause.replace('_', ' ')} ({row.permanence})",
             f"{row.new_cause.replace('_', ' ')} ({row.new_permanence})", row.new_rule, ", ".join(row.providers),
             row.wording if arguments.format != "text" else row.wording[:80])
            for row in found.rows
        ]  # fmt: skip
        output.table(
            "text" if arguments.format == "toml" else arguments.format,
            ("times", "judged", "would be", "by", "at", "wording"), rows, right=(0,),
        )  # fmt: skip
        if arguments.format in ("text", "toml"):
            output.line(
                f"{found.changed:,} of {found.judged:,} bounces and delays since {found.first_day} would be judged "
                f"otherwise; {found.frees:,} bounces would no longer speak against their address, {found.holds:,} now."
            )
            idle = [name for name, n in found.decided.items() if not n]
            if idle:
                output.line(f"Nothing in the past is decided by {', '.join(idle)}.")
    for problem in found.problems:
        output.say(problem)
    return 3 if found.problems else 0


def _wait(session: Session, tenant: str) -> int:
    """Until the past is judged. Ctrl-C leaves the job running."""
    arguments, client = session.arguments, session.client.cause_rules
    progress = Progress("Judging the past", 0, session.output.err)
    try:
        while not arguments.no_wait:
            now = client.get(tenant).application
            if now is None or now.state not in ("waiting", "running"):
                break
            progress.total = now.days
            progress.advance(now.days_done - progress.done, f"{now.judged:,} looked at, {now.changed:,} changed")
            time.sleep(_POLL)
    except KeyboardInterrupt:
        progress.close()
        session.output.say("It goes on without you; rustgauge rules tells how far it is, --stop stops it.")
        return 130
    progress.close()
    return _say_application(session, client.get(tenant))


def _say_application(session: Session, kept: CauseRules) -> int:
    now = kept.application
    if now is None:
        return 0
    judged = f"{now.judged:,} bounces and delays looked at, {now.changed:,} changed"
    followed = f"{now.entries_made:,} suppression entries made, {now.entries_lifted:,} lifted"
    said = {
        "waiting": "The past waits to be judged.",
        "running": f"The past is being judged: {now.days_done} of {now.days} days; {judged}.",
        "done": f"The past is judged by these rules: {judged}; {followed}.",
        "stopped": f"Stopped after {now.days_done} of {now.days} days: {judged}; {followed}. --apply goes on.",
        "failed": f"Judging the past failed: {now.error}. --apply tries again.",
    }[now.state]
    session.output.line(said)
    return 1 if now.state == "failed" else 0


def _read(name: str) -> list[OwnRule]:
    """Rules of a file. The service says what is wrong with one."""
    try:
        document = tomllib.loads(Path(name).read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{name} cannot be read: {error}") from None
    except tomllib.TOMLDecodeError as error:
        raise UsageError(f"{name} is no TOML: {error}") from None
    found = document.get("rule", [])
    if not isinstance(found, list) or not all(isinstance(rule, dict) for rule in found):
        raise UsageError(f"{name} holds no rules; write each under [[rule]]")
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
