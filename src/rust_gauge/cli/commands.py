"""What the modules of commands share while they add themselves to the parser."""

import argparse
import os
from collections.abc import Callable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rust_gauge.cli.session import Session

SUBJECTS = ("domain", "stream", "relay", "ip")


class Commands:
    """The commands of a parser. `tables` and `brief` are parents of those that can be shown in several formats."""

    def __init__(self, parser: argparse.ArgumentParser) -> None:
        self._parser = parser
        self._commands = parser.add_subparsers(metavar="COMMAND", required=True)
        self._common = argparse.ArgumentParser(add_help=False)
        url = os.environ.get("RUSTGAUGE_URL", "http://127.0.0.1:8850")
        self._common.add_argument("--url", default=url, help="the service")
        self._common.add_argument("--tenant", help="the tenant's short name")
        self.tables = argparse.ArgumentParser(add_help=False)
        self.tables.add_argument("--format", choices=("text", "json", "csv", "ndjson"), default="text")
        self.brief = argparse.ArgumentParser(add_help=False)
        self.brief.add_argument("--format", choices=("text", "json"), default="text")

    def add(
        self, name: str, run: "Callable[[Session], int]", help: str, *parents: argparse.ArgumentParser
    ) -> argparse.ArgumentParser:
        """Add a command that `run` carries out; returns its parser, for arguments of its own."""
        made = self._commands.add_parser(name, help=help, description=help, parents=[self._common, *parents])
        made.set_defaults(run=run, parser=self._parser)
        return made


def which_mail(made: argparse.ArgumentParser) -> None:
    """Add the options that say which part of the mail is meant."""
    for name, help in (("domain", "this domain"), ("stream", "this stream"), ("relay", "this relay"),
                       ("ip", "this sending address"), ("campaign", "this campaign"), ("tag", "this tag")):  # fmt: skip
        made.add_argument(f"--{name}", help=f"only {help}")
    made.add_argument("--days", type=positive, default=7, help="today and the days before (7)")


def positive(text: str) -> int:
    """Read a whole number from 1 to 100,000."""
    number = int(text) if text.isdigit() else 0
    if not 1 <= number <= 100_000:
        raise argparse.ArgumentTypeError(f"{text} is no number from 1 up")
    return number
