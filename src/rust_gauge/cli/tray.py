"""`rustgauge tray`: catch test messages, wait for them, read and examine them."""

import argparse
import sys
from typing import Any

from rust_gauge.cli.assay import FORMATS, status_of, write_assay
from rust_gauge.cli.assay_view import show_comparison
from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import read_octets
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, number_id
from rust_gauge.cli.output import Output, plural
from rust_gauge.cli.session import Session
from rust_gauge.client import NoMessageError
from rust_gauge.contract.bench import (
    CaughtMessage,
    NewTray,
    ParsedMessage,
    ReceiverRule,
    Series,
    SeriesSummary,
    Tray,
    TrayChange,
)

DEFAULT = "list"
EXAMPLES = (
    "tray list --tenant marram",
    "tray messages booking-staging --tenant marram",
    "tray wait booking-staging --recipient kim@tidepost.example --tenant marram",
    "tray assay booking-staging 1 --fail-on risk --tenant marram",
    "tray connection booking-staging --tenant marram",
)
_MOST = 41 * 1024 * 1024  # octets of a message
_ACTIONS = ("refuse", "full", "greylist", "delay", "slow")


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_trays, "list trays", TABLE)
    made = noun.add("add", add, "add a tray; prints its SMTP password (shown only once)", DOCUMENT)
    made.add_argument("tray", metavar="TRAY", help="its name: a-z, 0-9 and hyphens")
    _settings(made)
    made = noun.add("show", show, "show a tray", DOCUMENT)
    _tray(made)
    made = noun.add("update", update, "change a tray; what is not given stays", DOCUMENT)
    _tray(made)
    _settings(made)
    made = noun.add("rotate", rotate, "give a tray a new SMTP password, which is printed", DOCUMENT)
    _tray(made)
    made = noun.add("connection", connection, "settings to send to a tray, ready to copy", DOCUMENT)
    _tray(made)
    made.add_argument("--for", dest="library", metavar="NAME", help="only for this library, or environment or plain")
    made.add_argument("--certificate", action="store_true", help="only the certificate to trust (PEM)")
    made = noun.add("messages", messages, "list the messages of a tray, newest first", TABLE)
    _tray(made)
    _filter(made)
    made = noun.add("wait", wait, "wait for a message and show it; exit with 3 when none comes", DOCUMENT)
    _tray(made)
    _filter(made)
    made.add_argument("--header", metavar="NAME[:VALUE]", help="it has this field, with this part of a value")
    made.add_argument("--after", type=number_id, metavar="MESSAGE", help="caught after this one")
    made.add_argument("--timeout", type=float, default=30.0, metavar="SECONDS", help="how long to wait (30)")
    made = noun.add("read", read, "show a message: header, text, links, attachments, codes", DOCUMENT)
    _message(made)
    made = noun.add("source", source, "write the octets of a message, exactly as they came")
    _message(made)
    made = noun.add("conversation", conversation, "show the SMTP conversation in which a message came", DOCUMENT)
    _message(made)
    made = noun.add("assay", assay, "the findings and the mark of a message", FORMATS)
    _message(made)
    made.add_argument("--again", action="store_true", help="examine it again, with DNS as it is now")
    made.add_argument("--fail-on", choices=("fault", "risk", "note", "never"), default="fault",
                      help="exit with 3 from this level on (fault)")  # fmt: skip
    made.add_argument("--least-mark", type=float, metavar="MARK", help="exit with 3 below this mark, too")
    made = noun.add("compare", compare, "what differs between messages, and which difference did what", DOCUMENT)
    _tray(made)
    made.add_argument("message", type=number_id, nargs="+", help="two to six; each is compared with the first")
    made = noun.add("templates", templates, "list the templates whose messages are in a tray", TABLE)
    _tray(made)
    made = noun.add("history", history, "marks of a template over time, and their spread by path", DOCUMENT)
    _tray(made)
    made.add_argument("template", help="as `tray templates` names it")
    made = noun.add("put", put, "put a message from a file into a tray", DOCUMENT)
    _tray(made)
    made.add_argument("file", help="the message as it was or will be sent; - for standard input")
    made.add_argument("--mail-from", default="", help="the envelope sender")
    made.add_argument("--recipient", action="append", default=[], help="an envelope recipient; repeatable (To, Cc)")
    made = noun.add("delete", delete, "delete a message")
    _message(made)
    made = noun.add("empty", empty, "delete all messages of a tray")
    _tray(made)
    confirm_option(made)
    made = noun.add("remove", remove, "remove a tray and its messages")
    _tray(made)
    confirm_option(made)


def _tray(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("tray", metavar="TRAY", help="name of the tray, from `tray list`")


def _message(parser: argparse.ArgumentParser) -> None:
    _tray(parser)
    parser.add_argument("message", type=number_id, help="number of the message, from `tray messages`")


def _settings(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--title", help="what people call it")
    parser.add_argument("--keep-days", type=int, metavar="DAYS", help="delete messages after so many days (14)")
    parser.add_argument("--keep-messages", type=int, metavar="COUNT", help="and the oldest beyond this number (2000)")
    parser.add_argument("--max-bytes", type=int, metavar="OCTETS", help="largest message that is caught (10 MB)")
    parser.add_argument("--sending-ip", metavar="IP", help="IP that real mail will be sent from, for SPF")
    parser.add_argument("--series-header", metavar="NAME", help="header field that names the template")
    how = (
        "how to answer recipients: PATTERN=ACTION[:SECONDS][:REPLY], such as 'full@*=full' or "
        "'gone*=refuse:550 5.1.1 No such mailbox'; repeatable, replaces the others; '' for none"
    )
    parser.add_argument("--receiver", action="append", metavar="RULE", help=how)


def _filter(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--recipient", help="this envelope recipient")
    parser.add_argument("--subject", help="part of the subject")
    parser.add_argument("--header-from", metavar="TEXT", help="part of the From address")


def receiver_rule(text: str) -> ReceiverRule:
    """Read a rule of a difficult receiver. UsageError."""
    pattern, equals, rest = text.partition("=")
    action, _, given = rest.partition(":")
    if not equals or not pattern or action not in _ACTIONS:
        raise UsageError(f"{text!r} is not a rule. Write PATTERN=ACTION, with one of {', '.join(_ACTIONS)}")
    values: dict[str, Any] = {"recipients": pattern, "action": action}
    for part in filter(None, given.split(":", 1)):
        if part.replace(".", "", 1).isdigit() and not (len(part) == 3 and part[0] in "45"):
            values["seconds"] = float(part)
        else:
            values["reply"] = part
    return ReceiverRule.model_validate(values)


def _given(arguments: argparse.Namespace) -> dict[str, Any]:
    names = ("title", "keep_days", "keep_messages", "max_bytes", "sending_ip", "series_header")
    found: dict[str, Any] = {name: getattr(arguments, name) for name in names if getattr(arguments, name) is not None}
    if arguments.receiver is not None:
        found["receiver"] = [receiver_rule(each) for each in arguments.receiver if each]
    return found


def list_trays(session: Session) -> int:
    """List trays."""
    session.output.items(
        session.arguments.format, session.client.trays.list(session.tenant()), Tray,
        ("tray", "title", "messages", "MB", "keeps", "receiver", "address"),
        lambda t: (t.name, t.title, t.messages, f"{t.octets / 2**20:.1f}",
                   f"{plural(t.keep_days, 'day')}, {t.keep_messages:,}",
                   plural(len(t.receiver), "rule") if t.receiver else "", t.address),
        right=(2, 3), empty="No trays yet. Add one: rustgauge tray add NAME",
    )  # fmt: skip
    return 0


def _show(output: Output, tray: Tray) -> None:
    output.line(f"{tray.name}{f' · {tray.title}' if tray.title else ''}")
    output.line(f"address     {tray.address or 'none: the installation has no bench domain'}")
    output.line(f"SMTP user   {tray.smtp_user}")
    output.line(f"messages    {tray.messages:,}, {tray.octets / 2**20:.1f} MB")
    output.line(
        f"keeps       {plural(tray.keep_days, 'day')}, {plural(tray.keep_messages, 'message')}, "
        f"each at most {tray.max_bytes:,} octets"
    )
    if tray.sending_ip:
        output.line(f"sending IP  {tray.sending_ip}")
    if tray.series_header:
        output.line(f"template    {tray.series_header}")
    for rule in tray.receiver:
        seconds = f" {rule.seconds:g} s" if rule.seconds else ""
        output.line(f"receiver    {rule.recipients}: {rule.action}{seconds} {rule.reply}".rstrip())


def add(session: Session) -> int:
    """Add a tray."""
    arguments, output = session.arguments, session.output
    made = session.client.trays.add(session.tenant(), NewTray(name=arguments.tray, **_given(arguments)))

    def text() -> None:
        _show(output, made)
        output.line(f"password    {made.password} (shown only once)")
        output.say(f"How to send to it: rustgauge tray connection {made.name}")

    output.document(arguments.format, made, text)
    return 0


def show(session: Session) -> int:
    """Show a tray."""
    tray = session.client.trays.get(session.tenant(), session.arguments.tray)
    session.output.document(session.arguments.format, tray, lambda: _show(session.output, tray))
    return 0


def update(session: Session) -> int:
    """Change a tray."""
    change = TrayChange.model_validate(_given(session.arguments))
    tray = session.client.trays.update(session.tenant(), session.arguments.tray, change)
    session.output.document(session.arguments.format, tray, lambda: _show(session.output, tray))
    return 0


def rotate(session: Session) -> int:
    """Give a tray a new password."""
    made = session.client.trays.rotate_password(session.tenant(), session.arguments.tray)
    session.output.document(
        session.arguments.format, made, lambda: session.output.line(f"password (shown only once): {made.password}")
    )
    return 0


def connection(session: Session) -> int:
    """Show how to send to a tray."""
    arguments, output = session.arguments, session.output
    found = session.client.trays.connection(session.tenant(), arguments.tray)
    if not found.host:
        raise UsageError(
            "This installation has no SMTP listener for the bench. Set bench_port in the service's settings."
        )
    if arguments.certificate:
        output.line(found.certificate.rstrip())
        return 0
    keys = [each.key for each in found.snippets]
    if arguments.library and arguments.library not in keys:
        raise UsageError(f"There are no settings for {arguments.library}. Choose from {', '.join(keys)}")

    def text() -> None:
        for each in found.snippets:
            if arguments.library in (None, each.key):
                if not arguments.library:
                    output.line(f"# {each.title}")
                output.line(each.text)
        if found.certificate and not arguments.library:
            output.say(f"The certificate is the bench's own: rustgauge tray connection {arguments.tray} --certificate")

    output.document(arguments.format, found, text)
    return 0


def messages(session: Session) -> int:
    """List messages."""
    arguments = session.arguments
    found = session.client.trays.messages(
        session.tenant(), arguments.tray, recipient=arguments.recipient, subject=arguments.subject,
        header_from=arguments.header_from,
    )  # fmt: skip
    session.output.items(
        arguments.format, found, CaughtMessage,
        ("message", "arrived (UTC)", "mark", "worst", "subject", "from", "to", "via", "kB"),
        lambda m: (m.id, f"{m.arrived_at:%Y-%m-%d %H:%M:%S}", "" if m.mark is None else f"{m.mark:.1f}",
                   (m.worst, m.worst) if m.worst else m.state if m.mark is None else "none", m.subject, m.header_from,
                   ", ".join(m.recipients), m.via, f"{m.size / 1000:.1f}"),
        right=(0, 2, 8), empty="No messages. How to send to it: rustgauge tray connection " + arguments.tray,
    )  # fmt: skip
    return 0


def wait(session: Session) -> int:
    """Wait for a message."""
    arguments, output = session.arguments, session.output
    try:
        found = session.client.trays.wait(
            session.tenant(), arguments.tray, timeout=arguments.timeout, recipient=arguments.recipient,
            subject=arguments.subject, header_from=arguments.header_from, header=arguments.header,
            after=arguments.after,
        )  # fmt: skip
    except NoMessageError as error:
        output.say(str(error))
        return 3
    output.document(arguments.format, found, lambda: _show_message(output, found))
    return 0


def read(session: Session) -> int:
    """Show a message."""
    found = session.client.trays.message(session.tenant(), session.arguments.tray, session.arguments.message)
    session.output.document(session.arguments.format, found, lambda: _show_message(session.output, found))
    return 0


def _show_message(output: Output, message: ParsedMessage) -> None:
    mark = "not examined yet" if message.mark is None else f"mark {message.mark:g}"
    output.line(f"message {message.id} · {message.arrived_at:%Y-%m-%d %H:%M:%S} UTC · {message.size:,} octets · {mark}")
    output.line(f"envelope    {message.mail_from or '<>'} to {', '.join(message.recipients)}")
    for field in message.fields:
        if field.name.lower() in ("from", "to", "cc", "subject", "date", "message-id", "reply-to"):
            output.line(f"{field.name:<12}{field.value}")
    for code in message.codes[:3]:
        output.line(f"code        {code.code}  ({code.context})")
    for link in message.links[:20]:
        output.line(f"{link.kind:<12}{link.url}{f'  ({link.text})' if link.text and link.text != link.url else ''}")
    for each in message.attachments:
        output.line(f"attachment  {each.number} {each.file_name} {each.type} {each.size:,} octets")
    output.line("")
    shown = message.text if message.text is not None else message.visible_text or ""
    output.line(shown.replace("\r\n", "\n").rstrip())


def source(session: Session) -> int:
    """Write the octets of a message."""
    for piece in session.client.trays.source(session.tenant(), session.arguments.tray, session.arguments.message):
        sys.stdout.buffer.write(piece)
    sys.stdout.buffer.flush()
    return 0


def conversation(session: Session) -> int:
    """Show an SMTP conversation."""
    arguments, output = session.arguments, session.output
    told = session.client.trays.conversation(session.tenant(), arguments.tray, arguments.message)

    def text() -> None:
        if not told.steps:
            output.line("This message did not come by SMTP.")
            return
        tls = f"{told.tls} {told.cipher}" if told.tls else "no TLS"
        output.line(f"{told.client_ip} as {told.helo}, {tls}, {'signed in' if told.authenticated else 'not signed in'}")
        for step in told.steps:
            output.line(f"{step.at:8.3f} s  {'→' if step.side == 'client' else '←'} {step.text}")

    output.document(arguments.format, told, text)
    return 0


def assay(session: Session) -> int:
    """Show the assay of a message. Exit status 3 for a finding of the level of --fail-on or worse."""
    arguments = session.arguments
    done = session.client.trays.assay(session.tenant(), arguments.tray, arguments.message, again=arguments.again)
    write_assay(session, done, f"{arguments.tray}/{arguments.message}.eml")
    return status_of(done, arguments.fail_on, arguments.least_mark)


def compare(session: Session) -> int:
    """Compare messages with the first one. Exit status 3 when a mark is lower than the first one's."""
    arguments, output = session.arguments, session.output
    done = session.client.trays.compare(session.tenant(), arguments.tray, arguments.message)

    def text() -> None:
        for each in done.comparisons:
            show_comparison(output, each)

    output.document(arguments.format, done, text)
    return 3 if any(each.mark_after < each.mark_before for each in done.comparisons) else 0


def templates(session: Session) -> int:
    """List templates."""
    session.output.items(
        session.arguments.format, session.client.trays.series(session.tenant(), session.arguments.tray), SeriesSummary,
        ("template", "messages", "newest (UTC)", "mark"),
        lambda s: (s.series, s.count, f"{s.newest_at:%Y-%m-%d %H:%M}", "" if s.mark is None else f"{s.mark:.1f}"),
        right=(1, 3), empty="No messages yet.",
    )  # fmt: skip
    return 0


def history(session: Session) -> int:
    """Show a template's marks over time."""
    arguments, output = session.arguments, session.output
    found = session.client.trays.history(session.tenant(), arguments.tray, arguments.template)
    output.document(arguments.format, found, lambda: _show_series(output, found))
    return 0


def _show_series(output: Output, found: Series) -> None:
    output.line(f"{found.series} · {found.domain} · {plural(len(found.points), 'message')}, {found.examined} examined")
    if found.mean is not None:
        output.line(f"marks {found.least:g} to {found.most:g}, mean {found.mean:g}")
    if found.share_of_path is not None:
        output.line(f"{100 * found.share_of_path:.0f} % of the variance goes with the path")
    rows = [(f"{p.arrived_at:%Y-%m-%d %H:%M:%S}", p.id, "" if p.mark is None else f"{p.mark:.1f}", p.client_ip,
             "" if p.reading is None else f"{p.reading:.1f}") for p in found.points]  # fmt: skip
    output.table(("arrived (UTC)", "message", "mark", "from IP", "reading"), rows, right=(1, 2, 4))
    if found.paths:
        output.table(
            ("path", "messages", "mean", "least", "most"),
            [(f"{p.client_ip} {p.helo}", p.count, p.mean, p.least, p.most) for p in found.paths], right=(1, 2, 3, 4),
        )  # fmt: skip
    for run in found.placement:
        share = "not known" if run.inbox is None else f"{run.inbox.count} of {run.inbox.total} in the inbox"
        output.line(f"placement run {run.run}, {run.at:%Y-%m-%d %H:%M} UTC through {run.outlet}: {share}")
    for rule in found.rules:
        output.line(
            f"{rule.rule}: {min(rule.points):g} to {max(rule.points):g} points, in {plural(rule.seen, 'message')}"
        )


def put(session: Session) -> int:
    """Put a message into a tray."""
    arguments, output = session.arguments, session.output
    made = session.client.trays.put(
        session.tenant(), arguments.tray, read_octets(arguments.file, _MOST), mail_from=arguments.mail_from,
        recipients=arguments.recipient,
    )  # fmt: skip
    output.document(arguments.format, made, lambda: output.line(f"message {made.id}: {made.subject}"))
    return 0


def delete(session: Session) -> int:
    """Delete a message."""
    session.client.trays.delete_message(session.tenant(), session.arguments.tray, session.arguments.message)
    session.output.say(f"Deleted message {session.arguments.message}.")
    return 0


def empty(session: Session) -> int:
    """Delete all messages of a tray."""
    name = session.arguments.tray
    if not session.confirm(f"Delete all messages of {name}?"):
        return 3
    count = session.client.trays.empty(session.tenant(), name)
    session.output.say(f"Deleted {plural(count, 'message')}.")
    return 0


def remove(session: Session) -> int:
    """Remove a tray."""
    name = session.arguments.tray
    if not session.confirm(f"Remove the tray {name} and its messages?"):
        return 3
    session.client.trays.delete(session.tenant(), name)
    session.output.say(f"Removed the tray {name}.")
    return 0
