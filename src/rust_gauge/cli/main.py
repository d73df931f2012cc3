"""The parser, and what ties it to the commands.

Exit status: 0 done; 1 the service said no or cannot be reached; 2 the words were wrong; 3 done, and something needs
attention (a fault was found, rows were refused, an address is held); 130 stopped with Ctrl-C.
"""

import argparse
import os
import sys

from rust_gauge import __version__
from rust_gauge.cli import (
    audit,
    batches,
    completion,
    domains,
    events,
    feeds,
    flow,
    lists,
    local,
    plans,
    proofs,
    publishing,
    readings,
    recipients,
    rules,
    shifts,
    suppression,
    trials,
    watches,
    webhooks,
    worklist,
)
from rust_gauge.cli.commands import Commands
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.client import Client, ClientError, ProblemResponse

_EPILOG = """\
The service and the token come from RUSTGAUGE_URL and RUSTGAUGE_TOKEN (or --url), the tenant from --tenant or
RUSTGAUGE_TENANT; with a domain named, the tenant that has it is found. NO_COLOR turns colours off.

exit status: 0 done, 1 refused or unreachable, 2 wrong words, 3 done and something needs attention (a fault was
found, rows were refused, an address is held), 130 stopped with Ctrl-C
"""

# In the order in which the help shows them.
_MODULES = (
    readings,
    domains,
    audit,
    batches,
    trials,
    plans,
    watches,
    publishing,
    proofs,
    webhooks,
    events,
    feeds,
    flow,
    shifts,
    recipients,
    rules,
    worklist,
    suppression,
    lists,
    completion,
)


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="rustgauge",
        description="Deliverability measured, explained and mended.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"rustgauge {__version__}")
    commands = Commands(parser)
    for module in _MODULES:
        module.register(commands)
    return parser


def main(argv: list[str] | None = None, output: Output | None = None) -> int:
    """Run one command; gives its exit status."""
    arguments = _parser().parse_args(argv)
    output = output or Output()
    try:
        with Client(arguments.url, token=os.environ.get("RUSTGAUGE_TOKEN", "")) as client:
            return int(arguments.run(Session(client, arguments, output)))
    except UsageError as error:
        output.say(f"rustgauge: {error}")
        return 2
    except local.SourceError as error:
        output.say(f"rustgauge: {error}")
        if error.remedy:
            output.say(f"  {error.remedy}")
        return 2
    except ProblemResponse as error:
        output.say(f"rustgauge: {error}")
        for problem_error in error.problem.errors[:10]:
            output.say(
                f"  {problem_error.field}: {problem_error.what}" if problem_error.field else f"  {problem_error.what}"
            )
        if error.problem.remedy:
            output.say(f"  {error.problem.remedy}")
        elif error.problem.status == 401:
            output.say("  Set RUSTGAUGE_TOKEN to a token that is still good")
        return 1
    except ClientError as error:
        output.say(f"rustgauge: {error}. Is it running, and is --url right?")
        return 1
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())  # whoever read us has had enough
        return 0
    except KeyboardInterrupt:
        return 130


def run() -> None:
    """The entry point of the command."""
    sys.exit(main())
