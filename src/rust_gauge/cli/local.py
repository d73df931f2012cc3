"""Answers without a service: `--zone-file`, `--answers` and `--live` of the commands that offer them."""

import argparse
from pathlib import Path

from rust_gauge.cli.errors import UsageError
from rust_gauge.offline import (
    LocalAudit,
    Source,
    SourceError,
    assay_message,
    audit_locally,
    check_message,
    check_spf,
    compare_messages,
    from_recording,
    from_resolvers,
    from_zone_files,
    read_message,
)

__all__ = [
    "LocalAudit",
    "SourceError",
    "assay_message",
    "audit_locally",
    "check_message",
    "check_spf",
    "compare_messages",
    "is_local",
    "options",
    "read_message",
    "source",
]  # fmt: skip


def options(parser: argparse.ArgumentParser) -> None:
    """The options that choose where answers come from."""
    group = parser.add_argument_group("without a service")
    group.add_argument("--zone-file", action="append", default=[], metavar="FILE",
                       help="answers from this zone file, or all *.zone files of a directory; repeatable")  # fmt: skip
    group.add_argument("--origin", help="the zone of a file that does not say it itself")
    group.add_argument("--answers", metavar="FILE", help="answers from a recording")
    group.add_argument("--live", action="store_true", help="ask DNS from this machine")
    group.add_argument("--resolver", action="append", default=[], metavar="ADDRESS[:PORT]",
                       help="with --live: ask this resolver; repeatable")  # fmt: skip
    group.add_argument("--tcp", action="store_true", help="with --live: ask over TCP")
    group.add_argument("--timeout", type=float, default=3.0, help="with --live: seconds for one answer (3)")


def is_local(arguments: argparse.Namespace) -> bool:
    return bool(arguments.zone_file or arguments.answers or arguments.live or arguments.resolver)


def source(arguments: argparse.Namespace) -> Source:
    """UsageError when two places are named at once; SourceError when a file cannot be used."""
    ways = [bool(arguments.zone_file), bool(arguments.answers), bool(arguments.live or arguments.resolver)]
    if sum(ways) > 1:
        raise UsageError("Choose one of --zone-file, --answers and --live")
    if arguments.zone_file:
        return from_zone_files([Path(name) for name in arguments.zone_file], arguments.origin)
    if arguments.answers:
        return from_recording(Path(arguments.answers))
    return from_resolvers(arguments.resolver, timeout=arguments.timeout, tcp=arguments.tcp)
