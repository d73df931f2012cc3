"""`rustgauge feed`: sources of events: HTTP, bounce mail, mailboxes, MTA logs, queues; and their mappings."""

import json
import textwrap
from typing import Any

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, positive
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session, read_model, read_secret, read_text
from rust_gauge.contract.feeds import (
    Feed,
    FeedChange,
    FeedDefaults,
    FeedMapping,
    FeedSource,
    MappingDryRunResult,
    NewFeed,
    RejectedRow,
)

DEFAULT = "list"
EXAMPLES = (
    "feed list --tenant glasswort",
    "feed add shop --kind http --domain news.glasswort.example --tenant glasswort",
    "feed test-mapping sample.json --mapping mapping.json --tenant glasswort",
)
_KINDS = ("http", "mail", "mailbox", "log", "queue", "reports")
_MAPPING = "rustgauge feed show NAME --format json"


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_feeds, "list feeds and their status", TABLE)
    made = noun.add("show", show, "show a feed with its source, mapping and recent loads", DOCUMENT)
    made.add_argument("name")
    made = noun.add("add", add, "add a feed; prints its address, token and signing key (shown only once)", DOCUMENT)
    made.add_argument("name")
    made.add_argument("--kind", choices=_KINDS, required=True, help="http: POST; mail: SMTP; mailbox: IMAP, Maildir or "
                      "mbox; log: an MTA log; queue: AMQP 0-9-1; reports: of receivers")  # fmt: skip
    _feed_options(made)
    made = noun.add("update", update, "change the mapping, source or defaults of a feed")
    made.add_argument("name")
    _feed_options(made)
    for verb, run, help in (("pause", pause, "pause a feed"), ("resume", resume, "resume a paused feed")):
        made = noun.add(verb, run, help)
        made.add_argument("name")
    made = noun.add("rejected", rejected, "list rejected rows and why", TABLE)
    made.add_argument("name")
    made = noun.add("replay", replay, "retry rejected rows, for example after the mapping was corrected")
    made.add_argument("name")
    made = noun.add("discard-rejected", discard, "delete the rejected rows of a feed")
    made.add_argument("name")
    confirm_option(made)
    made = noun.add("test-mapping", test_mapping, "show what a mapping turns a sample into, field by field", DOCUMENT)
    made.add_argument("sample", help="a file with what the source sends; - for standard input")
    either = made.add_mutually_exclusive_group()
    either.add_argument("--mapping", metavar="FILE", help="the mapping to test")
    either.add_argument("--feed", help="test the mapping of this feed")
    made = noun.add("remove", remove, "remove a feed; its events stay")
    made.add_argument("name")
    confirm_option(made)


def _feed_options(parser: Any) -> None:
    parser.add_argument("--mapping", metavar="FILE", help="JSON; - for standard input")
    group = parser.add_argument_group("defaults, where the source does not say")
    for name, what in (("domain", "sending domain"), ("stream", "stream"), ("relay", "relay")):
        group.add_argument(f"--{name}", help=what)
    parser.add_argument("--tray", help="mail and mailbox: catch messages in this tray instead of reading them")
    group = parser.add_argument_group("source")
    group.add_argument("--address", action="append", help="mail: an address, or @domain; repeatable")
    group.add_argument("--path", help="log: the file; mailbox: a Maildir or mbox, at the service")
    group.add_argument("--host", help="mailbox (IMAP), queue (AMQP)")
    group.add_argument("--port", type=positive, help="port, if it is not the usual one")
    group.add_argument("--no-tls", action="store_true", default=None, help="connect without TLS")
    group.add_argument("--user", help="user name")
    group.add_argument("--password-file", help="file with the password; - for standard input")
    group.add_argument("--folder", help="IMAP folder (INBOX)")
    group.add_argument("--queue", help="name of the queue")


def _source(arguments: Any, base: FeedSource) -> FeedSource:
    given = {
        "addresses": arguments.address, "path": arguments.path, "host": arguments.host, "port": arguments.port,
        "user": arguments.user, "folder": arguments.folder, "queue": arguments.queue,
        "tls": None if arguments.no_tls is None else False,
    }  # fmt: skip
    return base.model_copy(update={name: value for name, value in given.items() if value is not None})


def _defaults(arguments: Any, base: FeedDefaults) -> FeedDefaults:
    given = {
        "domain": arguments.domain, "stream": arguments.stream, "relay": arguments.relay,
        "tray": arguments.tray,
    }  # fmt: skip
    return base.model_copy(update={name: value for name, value in given.items() if value is not None})


def _mapping(name: str | None) -> FeedMapping | None:
    return read_model(name, FeedMapping, _MAPPING) if name else None


def list_feeds(session: Session) -> int:
    """List feeds."""
    session.output.items(
        session.arguments.format, session.client.feeds.list(session.tenant()), Feed,
        ("feed", "kind", "status", "stored today", "rejected", "position"),
        lambda f: (f.name, f.kind, (f.summary, "fault") if f.error else f.summary, f"{f.stored_today:,}",
                   (f.rejected, "risk") if f.rejected else 0, f.position),
        right=(3, 4), empty="No feeds yet. Add one: rustgauge feed add NAME --kind http",
    )  # fmt: skip
    return 0


def show(session: Session) -> int:
    """Show a feed."""
    arguments, output = session.arguments, session.output
    feed = session.client.feeds.get(session.tenant(), arguments.name)

    def text() -> None:
        output.line(f"{output.paint(feed.name, 'bold')}  {feed.kind}  {feed.summary}")
        if feed.error:
            output.line(output.paint(feed.error, "fault"))
        output.line(f"{feed.stored_today:,} stored today, {feed.rejected:,} rejected rows, position: {feed.position}")
        output.line("source, mapping and defaults: --format json")

    output.document(arguments.format, feed, text)
    return 0


def add(session: Session) -> int:
    """Add a feed."""
    arguments, output = session.arguments, session.output
    new = NewFeed.model_construct(
        name=arguments.name, kind=arguments.kind, source=_source(arguments, FeedSource()),
        mapping=_mapping(arguments.mapping), defaults=_defaults(arguments, FeedDefaults()),
        password=read_secret(arguments.password_file) if arguments.password_file else "",
    )  # fmt: skip
    made = session.client.feeds.add(session.tenant(), new)

    def text() -> None:
        output.line(f"address:     /api/v1/intake/{made.key}")
        output.line(f"token:       {made.token}")
        output.line(f"signing key: {made.secret}")

    output.document(arguments.format, made, text)
    output.say(f"Added the feed {made.name}. Token and signing key are shown only once.")
    return 0


def update(session: Session) -> int:
    """Change a feed; what is not given stays."""
    arguments, tenant = session.arguments, session.tenant()
    client = session.client.feeds
    now = client.get(tenant, arguments.name)
    values: dict[str, Any] = {"source": _source(arguments, now.source), "defaults": _defaults(arguments, now.defaults)}
    if arguments.mapping:
        values["mapping"] = _mapping(arguments.mapping)
    if arguments.password_file:
        values["password"] = read_secret(arguments.password_file)
    client.update(tenant, arguments.name, FeedChange.model_validate(values))
    session.output.say(f"Saved {arguments.name}." + (" Retry its rejected rows: rustgauge feed replay "
                       + arguments.name if arguments.mapping and now.rejected else ""))  # fmt: skip
    return 0


def pause(session: Session) -> int:
    """Pause a feed."""
    return _set_paused(session, paused=True)


def resume(session: Session) -> int:
    """Resume a feed."""
    return _set_paused(session, paused=False)


def _set_paused(session: Session, *, paused: bool) -> int:
    name = session.arguments.name
    session.client.feeds.update(session.tenant(), name, FeedChange(paused=paused))
    session.output.say(f"{'Paused' if paused else 'Resumed'} {name}.")
    return 0


def rejected(session: Session) -> int:
    """List rejected rows, newest first."""
    session.output.items(
        session.arguments.format, session.client.feeds.rejected_rows(session.tenant(), session.arguments.name),
        RejectedRow, ("row", "arrived (UTC)", "problem", "content"),
        lambda r: (r.id, f"{r.arrived_at:%Y-%m-%d %H:%M:%S}", "; ".join(p.what for p in r.problems),
                   textwrap.shorten(r.item, 200) if session.arguments.format == "text" else r.item),
        right=(0,), empty="No rejected rows.",
    )  # fmt: skip
    return 0


def replay(session: Session) -> int:
    """Retry rejected rows. Exit status 3 when some are rejected again."""
    done = session.client.feeds.replay(session.tenant(), session.arguments.name, None)
    session.output.say(f"{done.tried:,} retried: {done.stored:,} stored, {done.duplicates:,} duplicates, "
                       f"{done.rejected:,} rejected again.")  # fmt: skip
    return 3 if done.rejected else 0


def discard(session: Session) -> int:
    """Delete rejected rows."""
    name = session.arguments.name
    if not session.confirm(f"Delete the rejected rows of {name}?"):
        return 3
    count = session.client.feeds.delete_rejected_rows(session.tenant(), name)
    session.output.say(f"Deleted {count:,} rejected rows.")
    return 0


def test_mapping(session: Session) -> int:
    """Test a mapping. Exit status 3 when a row of the sample gives no event."""
    arguments, output = session.arguments, session.output
    tenant, client = session.tenant(), session.client.feeds
    chosen = _mapping(arguments.mapping)
    if arguments.feed:
        chosen = client.get(tenant, arguments.feed).mapping
    result = client.test_mapping(tenant, read_text(arguments.sample), chosen)
    output.document(arguments.format, result, lambda: _show(output, result))
    return 3 if result.problem or any(row.problems for row in result.rows) else 0


def remove(session: Session) -> int:
    """Remove a feed."""
    name = session.arguments.name
    if not session.confirm(f"Remove the feed {name}? Sources that send to it get an error."):
        return 3
    session.client.feeds.delete(session.tenant(), name)
    session.output.say(f"Removed {name}. Its events stay.")
    return 0


def _show(output: Output, result: MappingDryRunResult) -> None:
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
