"""`rustgauge feed`: ways in for events. `rustgauge mapping`: a sample becoming events, field by field."""

import json
import sys
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.feeds import (
    Feed,
    FeedChange,
    FeedDefaults,
    FeedMapping,
    FeedSource,
    MappingTrialResult,
    NewFeed,
)


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add(
        "feed", feed, "ways in for events: open one, look how it goes, try refused rows again", commands.tables
    )
    made.add_argument("name", nargs="?", help="one of them; without it all")
    made.add_argument("--add", choices=("http", "mail", "mailbox", "log", "queue"), help="open it, of this kind")
    made.add_argument("--mapping", metavar="FILE", help="JSON that says where things are; - for standard input")
    made.add_argument("--domain", default="", help="sending domain where the source says none")
    made.add_argument("--stream", default="", help="stream where the source says none")
    made.add_argument("--relay", default="", help="relay where the source says none")
    made.add_argument("--address", action="append", default=[], help="mail: an address, or @domain; repeatable")
    made.add_argument("--path", help="log: the file; mailbox: a Maildir or an mbox, at the service")
    made.add_argument("--host", help="mailbox (IMAP) and queue (AMQP 0-9-1): where")
    made.add_argument("--port", type=positive)
    made.add_argument("--no-tls", action="store_true")
    made.add_argument("--user")
    made.add_argument("--password-file", help="holds the password; - for standard input")
    made.add_argument("--folder", default="INBOX")
    made.add_argument("--queue", help="its name")
    made.add_argument("--pause", action="store_true", help="take nothing for now")
    made.add_argument("--go-on", action="store_true", help="take again")
    made.add_argument("--refused", action="store_true", help="rows that were refused, and why")
    made.add_argument("--replay", action="store_true", help="try refused rows again")
    made.add_argument("--drop", action="store_true", help="close it; its events stay")
    made = commands.add("mapping", mapping, "a sample of a source becoming events, field by field", commands.brief)
    made.add_argument("sample", help="a file with what the source sends; - for standard input")
    made.add_argument("--mapping", metavar="FILE", help="the mapping to try")
    made.add_argument("--feed", help="try this feed's mapping")


def feed(session: Session) -> int:
    """List, open, change, close; look at what was refused. Exit status 3 when rows were refused again."""
    arguments, output = session.arguments, session.output
    client, tenant = session.client.feeds, session.tenant()
    name = arguments.name
    if name is None:
        rows = [_row(feed) for feed in client.list(tenant)]
        output.table(
            arguments.format, ("feed", "kind", "how it goes", "today", "refused", "position"), rows, right=(3, 4)
        )
        return 0
    if arguments.add:
        new = NewFeed.model_construct(
            name=name, kind=arguments.add, source=_source(arguments), mapping=_mapping(arguments.mapping),
            defaults=_defaults(arguments),
            password=_password(arguments.password_file),
        )  # fmt: skip
        made = client.add(tenant, new)
        output.line(f"feed {made.name} is open at /api/v1/intake/{made.key}")
        output.line(f"  token, shown this once:       {made.token}")
        output.line(f"  key that signs, shown this once: {made.secret}")
        return 0
    if arguments.drop:
        client.drop(tenant, name)
        output.line(f"feed {name} is closed; what came by it stays")
    elif arguments.pause or arguments.go_on:
        kept = client.change(tenant, name, FeedChange(paused=arguments.pause))
        output.line(f"feed {name} {'is paused' if kept.paused else 'goes on'}")
    elif arguments.mapping:
        client.change(tenant, name, FeedChange(mapping=_mapping(arguments.mapping)))
        output.line(f"feed {name} has a new mapping; try its refused rows again with --replay")
    elif arguments.replay:
        done = client.replay(tenant, name)
        stored = f"{done.stored} stored, {done.repeated} there already, {done.refused} refused again"
        output.line(f"{done.tried} tried: {stored}")
        return 3 if done.refused else 0
    elif arguments.refused:
        rows = [
            (row.id, f"{row.arrived_at:%Y-%m-%d %H:%M:%S}", "; ".join(p.what for p in row.problems), row.item)
            for row in client.refused(tenant, name)
        ]
        output.table(arguments.format, ("row", "arrived", "what is wrong", "what came"), rows)
    else:
        output.json(client.get(tenant, name))
    return 0


def _row(feed: Feed) -> tuple[object, ...]:
    said: object = (feed.said, "fault") if feed.trouble else feed.said
    refused: object = (feed.refused, "risk") if feed.refused else 0
    return feed.name, feed.kind, said, feed.stored_today, refused, feed.position


def _defaults(arguments: Any) -> FeedDefaults:
    return FeedDefaults.model_construct(domain=arguments.domain, stream=arguments.stream, relay=arguments.relay)


def _source(arguments: Any) -> FeedSource:
    given = {
        "addresses": arguments.address, "path": arguments.path or "", "host": arguments.host or "",
        "port": arguments.port, "user": arguments.user or "", "queue": arguments.queue or "",
        "folder": arguments.folder, "tls": not arguments.no_tls,
    }  # fmt: skip
    return FeedSource.model_construct(**given)


def _mapping(path: str | None) -> FeedMapping | None:
    if not path:
        return None
    try:
        text = sys.stdin.read() if path == "-" else Path(path).read_text("utf-8")
        return FeedMapping.model_validate_json(text)
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{path} cannot be read: {error}") from None
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"])) or "the mapping"
        raise UsageError(f"{path} is no mapping: {where}: {first['msg']}") from None


def _password(path: str | None) -> str:
    if not path:
        return ""
    try:
        return (sys.stdin.readline() if path == "-" else Path(path).read_text("utf-8")).strip()
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{path} cannot be read: {error}") from None


def mapping(session: Session) -> int:
    """Try a sample. Exit status 3 when a row of it gives no event."""
    arguments = session.arguments
    try:
        sample = sys.stdin.read() if arguments.sample == "-" else Path(arguments.sample).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{arguments.sample} cannot be read: {error}") from None
    tenant, client = session.tenant(), session.client.feeds
    chosen = _mapping(arguments.mapping)
    if chosen is None and arguments.feed:
        chosen = client.get(tenant, arguments.feed).mapping
    result = client.try_mapping(tenant, sample, chosen)
    if arguments.format == "json":
        session.output.json(result)
    else:
        _show(session.output, result)
    return 3 if result.problem or any(row.problems for row in result.rows) else 0


def _show(output: Output, result: MappingTrialResult) -> None:
    if result.problem:
        output.line(output.paint(result.problem, "fault"))
        output.line(f"  {result.remedy}")
    for number, row in enumerate(result.rows, 1):
        word, colour = (
            ("left out", "dim") if row.left_out else ("an event", "sound") if row.event else ("refused", "fault")
        )
        output.line(f"row {number}: " + output.paint(word, colour))
        for step in row.steps:
            found = json.dumps(step.found, ensure_ascii=False)
            value = json.dumps(step.value, ensure_ascii=False)
            said = found if found == value else f"{found} becomes {value}"
            output.line(f"    {step.field:14} {step.path or '(constant)':24} {said}")
        for problem in row.problems:
            output.line(
                output.paint(
                    f"    {problem.field}: {problem.what}" if problem.field else f"    {problem.what}", "fault"
                )
            )
        if row.event:
            found_out = {key: row.event[key] for key in ("cause", "permanence", "cause_rule") if row.event.get(key)}
            if found_out.get("cause", "none") != "none":
                output.line(output.paint(f"    {found_out}", "dim"))
