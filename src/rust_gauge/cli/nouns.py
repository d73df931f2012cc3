"""What the modules of commands share: a noun with its verbs, and options that many of them take.

A module of commands describes one noun: `HELP` (one line), `EXAMPLES` (commands that work on the demo data), `DEFAULT`
(the verb that is meant when none is given) and `register`, which adds the verbs.
"""

import argparse
import difflib
import os
from collections.abc import Callable, Sequence
from datetime import UTC, date, datetime, timedelta
from typing import TYPE_CHECKING, Any, NoReturn

from rust_gauge.cli.errors import UsageError

if TYPE_CHECKING:
    from rust_gauge.cli.session import Session

SUBJECTS = ("domain", "stream", "relay", "ip")
TABLE = ("text", "json", "ndjson", "csv")  # formats of lists
DOCUMENT = ("text", "json")  # formats of single documents
_DEFAULT_URL = "http://127.0.0.1:8850"


class Parser(argparse.ArgumentParser):
    """A parser whose errors are one clear line, with the nearest known word."""

    def __init__(self, *args: Any, **named: Any) -> None:
        named.setdefault("formatter_class", argparse.RawDescriptionHelpFormatter)
        super().__init__(*args, **{**named, "allow_abbrev": False})

    def error(self, message: str) -> NoReturn:
        """Raise UsageError with what is wrong and where the help is."""
        raise UsageError(f"{message}. See: {self.prog} --help")

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        if action.choices is not None and value not in action.choices:
            near = nearest(str(value), [str(choice) for choice in action.choices])
            hint = f"; did you mean {near}?" if near else f"; choose from {', '.join(map(str, action.choices))}"
            raise argparse.ArgumentError(action, f"unknown value {str(value)!r}{hint}")


def nearest(word: str, known: Sequence[str]) -> str:
    """Return the known word that is most like this one; empty when none is close."""
    found = difflib.get_close_matches(word.lower(), known, n=1, cutoff=0.6)
    return found[0] if found else ""


def sentence(help: str) -> str:
    """Return a line of help as a sentence."""
    return help[0].upper() + help[1:] + ("" if help.endswith("?") else ".")


def common_options() -> argparse.ArgumentParser:
    """Return the options of every command; they may stand anywhere."""
    parser = Parser(add_help=False)
    parser.add_argument("--url", default=os.environ.get("RUSTGAUGE_URL", _DEFAULT_URL))
    parser.add_argument("--tenant", default=os.environ.get("RUSTGAUGE_TENANT") or None)
    return parser


COMMON_HELP = """\
common options:
  --url URL            the service (RUSTGAUGE_URL)
  --tenant NAME        the tenant's short name (RUSTGAUGE_TENANT); found from the domain if one is given"""


# Arguments whose name says what they are, and where to find a value.
_MEANINGS = {
    "item": "number of the item, from `worklist list`",
    "annotation": "number of the annotation, from `reading annotations`",
    "domain": "the domain",
    "name": "its name",
    "address": "an address",
    "job": "number of the job, from `job list`",
    "watch": "number of the watch, from `watch list`",
    "publication": "number of the publication, from `plan publications`",
    "zone": "the zone, such as glasswort.example",
    "selector": "the selector, such as g2",
    "shift": "number of the shift, from `flow shifts`",
    "entry": "number of the entry, from `suppression list --state proposed`",
    "webhook": "number of the webhook, from `webhook list`",
    "token": "number of the token, from `token list`",
    "code": "the code from the message",
    "text": "the text",
    "url": "the address to call, with https",
    "file": "the file; - for standard input",
}


class Noun:
    """One noun of the command line while its verbs are added."""

    def __init__(self, name: str, help: str, examples: Sequence[str]) -> None:
        shown = "".join(f"  rustgauge {example}\n" for example in examples)
        self.name = name
        self.parser = Parser(
            prog=f"rustgauge {name}",
            description=sentence(help),
            epilog=f"{COMMON_HELP}\n\nexamples:\n{shown}",
        )
        self._verbs = self.parser.add_subparsers(metavar="VERB", required=True, title="verbs", parser_class=Parser)
        self.verbs: dict[str, argparse.ArgumentParser] = {}

    def add(
        self, verb: str, run: "Callable[[Session], int]", help: str, formats: Sequence[str] = ()
    ) -> argparse.ArgumentParser:
        """Add a verb that `run` carries out; return its parser, for arguments of its own."""
        made = self._verbs.add_parser(verb, help=help, description=sentence(help), epilog=COMMON_HELP)
        if formats:
            made.add_argument("--format", choices=formats, default="text", help=f"{', '.join(formats)} (text)")
        made.set_defaults(run=run, format="text")
        self.verbs[verb] = made
        return made

    def explain_arguments(self) -> None:
        """Give arguments without help what `_MEANINGS` says of their name."""
        for parser in self.verbs.values():
            for action in parser._actions:
                if not action.option_strings and not action.help:
                    name = str(action.metavar or action.dest).lower()
                    action.help = _MEANINGS.get(name)

    def takes_words(self, verb: str) -> bool:
        """Return whether a verb takes arguments that are not options."""
        return any(not action.option_strings for action in self.verbs[verb]._actions)


# Options that several verbs take


def mail_options(parser: argparse.ArgumentParser) -> None:
    """Add the options that choose a part of the mail."""
    group = parser.add_argument_group("which mail")
    for name, what in (("domain", "sending domain"), ("stream", "stream"), ("relay", "relay"), ("ip", "sending IP"),
                       ("campaign", "campaign"), ("tag", "tag")):  # fmt: skip
        group.add_argument(f"--{name}", help=f"only this {what}")


def mail_chosen(arguments: argparse.Namespace) -> dict[str, str | None]:
    """Return what `mail_options` chose, as parameters of the API."""
    return {name: getattr(arguments, name) for name in ("domain", "stream", "relay", "ip", "campaign", "tag")}


def period_options(parser: argparse.ArgumentParser, days: int) -> None:
    """Add --days, or --since with --until. Days are whole, in UTC; both ends are included."""
    group = parser.add_argument_group("period")
    either = group.add_mutually_exclusive_group()
    either.add_argument("--days", type=positive, default=days, help=f"the number of days up to the last one ({days})")
    either.add_argument("--since", type=day, metavar="DAY", help="from this day on, such as 2026-11-01")
    group.add_argument("--until", type=day, metavar="DAY", help="up to this day (today)")


def period_chosen(arguments: argparse.Namespace) -> tuple[date, date]:
    """Return the first and the last day. UsageError when the period ends before it begins."""
    last = arguments.until or datetime.now(UTC).date()
    first = arguments.since or last - timedelta(days=arguments.days - 1)
    if first > last:
        raise UsageError(f"The period begins on {first}, after it ends on {last}")
    return first, last


def days_chosen(arguments: argparse.Namespace) -> tuple[int, date | None]:
    """Return the number of days and the last day, None for today. UsageError when the period ends before it begins."""
    first, last = period_chosen(arguments)
    return (last - first).days + 1, arguments.until


def confirm_option(parser: argparse.ArgumentParser) -> None:
    """Add --yes, for what cannot be undone."""
    parser.add_argument("--yes", action="store_true", help="do not ask for confirmation")


def reason_option(parser: argparse.ArgumentParser, what: str) -> None:
    """Add --reason, which is recorded with what is done."""
    parser.add_argument("--reason", required=True, metavar="TEXT", help=what)


def positive(text: str) -> int:
    """Read a whole number from 1 to 100,000."""
    number = int(text) if text.isdigit() else 0
    if not 1 <= number <= 100_000:
        raise argparse.ArgumentTypeError(f"{text!r} is not a whole number from 1 to 100,000")
    return number


def number_id(text: str) -> int:
    """Read the number of an item, job, watch or the like."""
    if not text.isdigit() or not 1 <= int(text) < 2**63:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number; the list command shows them")
    return int(text)


def number_ids(text: str) -> tuple[int, ...]:
    """Read one number or several, parted by commas."""
    return tuple(number_id(part.strip()) for part in text.split(","))


def day(text: str) -> date:
    """Read a day as ISO 8601 writes it."""
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a day; write it as 2026-11-20") from None


def pair(text: str) -> tuple[str, str]:
    """Read NAME=VALUE."""
    name, equals, value = text.partition("=")
    if not equals or not name:
        raise argparse.ArgumentTypeError(f"{text!r} is not NAME=VALUE")
    return name, value
