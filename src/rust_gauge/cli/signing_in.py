"""Commands that a person has to do, because a token cannot: they sign in with a password for the while."""

import argparse
import getpass
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from rust_gauge.cli.session import Session, read_secret

if TYPE_CHECKING:
    from rust_gauge.client import Client


def person_options(parser: argparse.ArgumentParser) -> None:
    """Add the options that say who signs in."""
    group = parser.add_argument_group("who you are")
    group.add_argument("--email", required=True, help="your account; a token cannot do this")
    group.add_argument("--password-file", metavar="FILE", help="file with the password; - for stdin (asked for)")
    group.add_argument("--code", default="", help="code of your second factor (asked for if needed)")


@contextmanager
def signed_in(session: Session, password: str | None = None) -> Iterator["Client"]:
    """Yield a client with a session of its own, which is ended afterwards. `password`: if it was read already."""
    from rust_gauge.client.errors import ProblemResponse
    from rust_gauge.client.synchronous.client import Client

    arguments = session.arguments
    password = password_of(session) if password is None else password
    with Client(arguments.url) as client:
        try:
            client.sign_in(arguments.email, password, arguments.code)
        except ProblemResponse as error:
            if error.problem.type != "/problems/code-required" or not sys.stdin.isatty():
                raise
            client.sign_in(arguments.email, password, input("Code of your second factor: ").strip())
        try:
            yield client
        finally:
            client.sign_out()


def password_of(session: Session) -> str:
    """Return the password from its file, or typed."""
    arguments = session.arguments
    if arguments.password_file:
        return read_secret(arguments.password_file)
    return getpass.getpass(f"Password of {arguments.email}: ", stream=sys.stderr)
