"""The command line: finds the noun, imports its module alone, and turns errors into one line and an exit status.

Exit status: 0 done; 1 the service refused, or cannot be reached; 2 the command line is wrong; 3 done, and something
needs attention (a fault was found, rows were rejected, an address is held); 4 an audit had no answers to judge; 130
stopped with Ctrl-C.
"""

import importlib
import os
import sys
from types import ModuleType
from typing import TYPE_CHECKING

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import Noun, common_options, nearest

if TYPE_CHECKING:
    from rust_gauge.cli.output import Output

# Each noun is a module of this package; those of one line in the overview belong together.
SECTIONS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("Every day", ("wall", "worklist", "search", "reading", "trail", "report")),
    ("Domains and records", ("domain", "audit", "plan", "watch", "proof", "dmarc", "relay", "stream")),
    ("Mail flow", ("event", "feed", "flow", "rule", "recipient")),
    (
        "Before a send",
        ("suppression", "clearance", "address", "warmup", "assay", "tray", "placement", "schedule", "seed", "outlet"),
    ),
    (
        "Settings and access",
        (
            "alert",
            "webhook",
            "job",
            "token",
            "member",
            "tenant",
            "account",
            "installation",
            "audit-log",
            "completion",
            "tour",
        ),
    ),
)
HELP = {
    "wall": "show the readings of all domains by mailbox provider",
    "worklist": "what to do next, worst level first, then by affected mail",
    "search": "find domains, addresses, messages, items and replies by name",
    "reading": "reputation readings: values, explanations, forecasts",
    "trail": "all events of a recipient or message",
    "report": "weekly or monthly report for a tenant",
    "domain": "sending domains",
    "audit": "check SPF, DKIM, DMARC and the rest of a domain",
    "plan": "the records that a domain should publish",
    "watch": "propagation of a record change over DNS servers",
    "proof": "prove that a domain or sender address is yours",
    "dmarc": "who sends as a domain, by reports of receivers",
    "relay": "relays that your mail leaves by",
    "stream": "kinds of mail: describe, pause, resume",
    "event": "import and search events",
    "feed": "sources of events",
    "flow": "deliveries, bounces, delays and complaints by provider",
    "rule": "your own rules for bounce causes",
    "recipient": "export or erase the data of one recipient",
    "suppression": "the suppression list and its policy",
    "clearance": "may these addresses be mailed?",
    "address": "check addresses before they are mailed",
    "warmup": "ceilings that grow for a new sender, and what was sent",
    "assay": "examine a message before it is sent",
    "tray": "catch test messages, wait for them and examine them",
    "placement": "where copies of a message land at mailbox providers",
    "schedule": "placement runs that start by themselves",
    "seed": "your own mailboxes at providers, for placement",
    "outlet": "ways by which copies go out, for placement",
    "alert": "alert channels and notifications",
    "webhook": "signed calls to your own programs",
    "job": "long-running work: progress, cancel, resume",
    "token": "API tokens",
    "member": "people of a tenant, their roles, and invitations",
    "tenant": "your tenants and their settings",
    "account": "your own account: sessions, password, second factor",
    "installation": "tenants, people and assignments, for owners",
    "audit-log": "who did what, and whether the log is complete",
    "completion": "shell completion for bash, zsh and fish",
    "tour": "walk through the demo, one command after the other",
}
SHORT = {
    "trail": ("event", "trail"),
    "wall": ("reading", "wall"),
    "search": ("search", "find"),
    "tour": ("tour", "run"),
}
_USAGE = "rustgauge NOUN [VERB] [ARGUMENTS]    help: rustgauge NOUN --help, rustgauge NOUN VERB --help"
_START = "First steps: rustgauge wall, rustgauge worklist, rustgauge audit DOMAIN; on the demo: rustgauge tour"


def module_of(noun: str) -> ModuleType:
    """Import the module of a noun."""
    return importlib.import_module(f"rust_gauge.cli.{noun.replace('-', '_')}")


def noun_of(name: str) -> tuple[Noun, ModuleType]:
    """Return a noun with its verbs, and its module."""
    module = module_of(name)
    noun = Noun(name, HELP[name], module.EXAMPLES)
    module.register(noun)
    noun.explain_arguments()
    return noun, module


def overview() -> str:
    """Return what `rustgauge` alone prints."""
    lines = ["Measure, explain and fix email deliverability.", f"usage: {_USAGE}"]
    for section, nouns in SECTIONS:
        lines.append(f"{section}:")
        lines += [f"  {noun:<12} {HELP[noun]}" for noun in nouns]
    return "\n".join([*lines, _START])


def main(argv: list[str] | None = None, output: "Output | None" = None) -> int:
    """Run one command; return its exit status."""
    words = list(sys.argv[1:] if argv is None else argv)
    if not words or words[0] in ("-h", "--help", "help"):
        print(overview(), file=output.out if output else sys.stdout)
        return 0
    if words[0] == "--version":
        from rust_gauge import __version__

        print(f"rustgauge {__version__}", file=output.out if output else sys.stdout)
        return 0
    from rust_gauge.cli.output import Output

    return _run(words, output or Output())


def _run(words: list[str], output: "Output") -> int:
    from rust_gauge.cli.session import Session

    try:
        common, rest = common_options().parse_known_args(words)
        if not rest:
            raise UsageError("name a command; rustgauge alone lists them")
        name, verb_words = _resolve(rest)
        noun, module = noun_of(name)
        arguments = noun.parser.parse_args(_with_verb(noun, module, verb_words))
        arguments.url, arguments.tenant = common.url, common.tenant
        with Session(arguments, output) as session:
            return int(arguments.run(session))
    except SystemExit as stopped:  # argparse printed help
        return int(stopped.code or 0)
    except UsageError as error:
        output.say(f"rustgauge: {error}")
        return 2
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())  # the reader closed the pipe
        return 0
    except KeyboardInterrupt:
        return 130
    except Exception as error:
        return _failed(error, output)


def _resolve(words: list[str]) -> tuple[str, list[str]]:
    """Return the noun and the words behind it. UsageError for an unknown one."""
    name, *rest = words
    if name in SHORT:
        noun, verb = SHORT[name]
        return noun, [verb, *rest]
    if name not in HELP:
        near = nearest(name, list(HELP))
        raise UsageError(
            f"{name!r} is not a command" + (f"; did you mean {near}?" if near else "; see rustgauge --help")
        )
    return name, rest


def _with_verb(noun: Noun, module: ModuleType, words: list[str]) -> list[str]:
    """Add the verb that is meant where none is given. UsageError for an unknown one."""
    if words and (words[0] in noun.verbs or words[0] in ("-h", "--help")):
        return words
    default: str = module.DEFAULT
    bare = words[0] if words and not words[0].startswith("-") else ""
    if bare and (not noun.takes_words(default) or bare.isalpha()):
        near = nearest(bare, list(noun.verbs))
        hint = f"; did you mean {near}?" if near else f"; verbs: {', '.join(noun.verbs)}"
        raise UsageError(f"{bare!r} is not a verb of {noun.name}{hint}")
    return [default, *words]


def _failed(error: Exception, output: "Output") -> int:
    """Say what the service or an input said, in one line; anything else is a defect and goes on."""
    from rust_gauge.cli.session import words_of

    said = words_of(error)
    if said is None:
        raise error
    status, lines = said
    output.say(f"rustgauge: {lines[0]}")
    for line in lines[1:]:
        output.say(f"  {line}")
    return status


def run() -> None:
    """Run as the entry point of the command."""
    sys.exit(main())
