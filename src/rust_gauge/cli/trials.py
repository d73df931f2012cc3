"""`rustgauge trial` (would this pass SPF?), `message` (what authenticates it) and `feedback` (what others saw)."""

import sys
from pathlib import Path

from rust_gauge.cli import local
from rust_gauge.cli.commands import Commands
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.audits import MessageCheck, SignatureResult, SpfResult, SpfTrial

_MAX_MESSAGE = 40 * 1024 * 1024  # octets, as the service accepts them
_COLOURS = {"pass": "sound", "fail": "fault", "permerror": "fault", "softfail": "risk", "temperror": "risk"}


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("trial", trial, "would a message from this address pass SPF?", commands.brief)
    made.add_argument("ip", help="the address that sends")
    made.add_argument("mail_from", nargs="?", default="", help="the envelope sender; empty for notices")
    made.add_argument("--helo", default="", help="the name that it greets with")
    made.add_argument("--record", help="try this record in place of what is published")
    local.options(made)
    made = commands.add("message", message, "SPF, DKIM and DMARC of a captured message, and why", commands.brief)
    made.add_argument("file", help="a file, or - for standard input")
    made.add_argument("--ip", default="", help="the address that it came from, for SPF")
    made.add_argument("--helo", default="", help="the name that it greeted with")
    made.add_argument("--mail-from", default="", help="its envelope sender")
    local.options(made)
    made = commands.add("feedback", feedback, "what a DMARC aggregate report says, by source", commands.brief)
    made.add_argument("file", help="XML, .xml.gz, .zip or a message; - for standard input")


def trial(session: Session) -> int:
    """Exit status 3 when MAIL FROM does not pass."""
    arguments = session.arguments
    named = {"mail_from": arguments.mail_from, "helo": arguments.helo, "record": arguments.record}
    if local.is_local(arguments):
        source = local.source(arguments)
        try:
            done = local.try_spf(source, arguments.ip, **named)
        finally:
            source.close()
    else:
        done = session.client.audits.try_spf(session.tenant(), arguments.ip, **named)
    if arguments.format == "json":
        session.output.json(done)
    else:
        show_trial(session.output, done)
    return 0 if done.mail_from.result == "pass" else 3


def show_trial(output: Output, done: SpfTrial) -> None:
    for spf_result in (done.helo, done.mail_from):
        if spf_result is not None:
            _show_spf(output, spf_result, postmaster=done.postmaster)


def _show_spf(output: Output, result: SpfResult, *, postmaster: bool) -> None:
    mail_from = "MAIL FROM (empty: by the HELO name)" if postmaster else "MAIL FROM"
    identity = "HELO" if result.identity == "helo" else mail_from
    output.line(f"{identity} {result.domain}: {output.paint(result.result, _COLOURS.get(result.result, 'dim'))}")
    output.line(f"    {result.reason}")
    for step in result.steps:
        lead = "    " + "  " * step.depth
        output.line(f"{lead}{step.term or step.domain}  {output.paint(step.outcome, 'dim')}"
                    + (f"  {step.note}" if step.note else ""))  # fmt: skip
        for asked in step.asked:
            output.line(output.paint(f"{lead}  {asked}  {' '.join(step.answer)}", "dim"))
    output.line(output.paint(f"    {result.lookups} of 10 look-ups, {result.voids} of 2 void", "dim"))
    if result.explanation:
        output.line(f"    told to the sender: {result.explanation}")


def message(session: Session) -> int:
    """Exit status 3 when DMARC does not pass."""
    arguments = session.arguments
    raw = local.read_message(_read(arguments.file))
    named = {"ip": arguments.ip, "helo": arguments.helo, "mail_from": arguments.mail_from}
    if local.is_local(arguments):
        source = local.source(arguments)
        try:
            done = local.check_message(source, raw, **named)
        finally:
            source.close()
    else:
        done = session.client.audits.check_message(session.tenant(), raw, **named)
    if arguments.format == "json":
        session.output.json(done)
    else:
        show_message(session.output, done)
    return 0 if done.dmarc and done.dmarc[0].result == "pass" else 3


def feedback(session: Session) -> int:
    """Exit status 3 when some of the mail did not align."""
    arguments, output = session.arguments, session.output
    done = session.client.audits.read_feedback_report(session.tenant(), _read(arguments.file))
    if arguments.format == "json":
        output.json(done)
    else:
        share = f"{done.aligned} of {done.messages} messages aligned"
        colour = "sound" if done.aligned == done.messages else "risk"
        output.line(f"{done.reporter} about {output.paint(done.domain, 'bold')}, "
                    f"{done.begin:%Y-%m-%d %H:%M} to {done.end:%Y-%m-%d %H:%M} UTC")  # fmt: skip
        output.line(output.paint(share, colour))
        for source in done.sources:
            output.line(
                f"{source.source_ip}: {source.aligned} of {source.messages} aligned; {', '.join(source.dispositions)}"
            )
            output.line(output.paint(f"    From {', '.join(source.header_from) or '?'}", "dim"))
            for what, words in (("DKIM", source.signatures), ("SPF", source.spf)):
                output.line(output.paint(f"    {what} {'; '.join(words) or 'none'}", "dim"))
        for new in done.new_selectors:
            output.line(f"new selector {new.selector} of {new.domain}: audits look at its key from now on")
        if done.left_out:
            output.line(output.paint(f"{done.left_out} rows of the report made no sense and were left out", "risk"))
    return 0 if done.aligned == done.messages else 3


def _read(name: str) -> bytes:
    try:
        raw = sys.stdin.buffer.read(_MAX_MESSAGE + 1) if name == "-" else Path(name).read_bytes()
    except OSError as error:
        raise UsageError(f"{name} cannot be read: {error.strerror}") from None
    if len(raw) > _MAX_MESSAGE:
        raise UsageError(f"{name} is larger than {_MAX_MESSAGE // 1024 // 1024} MB")
    return raw


def show_message(output: Output, done: MessageCheck) -> None:
    output.line(f"From {output.paint(done.header_from or '(no usable domain)', 'bold')}")
    for problem in done.problems:
        output.line(output.paint(f"    {problem}", "risk"))
    for result in done.dmarc:
        way = "public suffix list (RFC 7489)" if result.way == "suffix-list" else "tree walk (DMARCbis)"
        colour = "sound" if result.result == "pass" else "fault" if result.result == "fail" else "dim"
        output.line(f"DMARC by the {way}: {output.paint(result.result, colour)}, {result.disposition}")
        output.line(f"    {result.reason}")
    if not done.signatures:
        output.line("DKIM: the message is not signed")
    for signature in done.signatures:
        _show_signature(output, signature)
    if done.spf:
        show_trial(output, done.spf)
    else:
        output.line("SPF: not tried; give the address that it came from with --ip")


def _show_signature(output: Output, signature: SignatureResult) -> None:
    colour = _COLOURS.get(signature.result, "dim")
    output.line(f"DKIM d={signature.domain} s={signature.selector} {signature.algorithm}: "
                f"{output.paint(signature.result, colour)}")  # fmt: skip
    output.line(f"    {signature.detail}")
    for clue in signature.clues:
        output.line(output.paint(f"    {clue}", "bold"))
    if signature.body_hash_computed:
        output.line(output.paint(
            f"    body {signature.canonicalisation.partition('/')[2]}: octets 1 to {signature.body_hashed} of "
            f"{signature.body_octets} hashed, bh={signature.body_hash_computed}"
            + ("" if signature.body_matches else f" (signed: {signature.body_hash_given})"), "dim"))  # fmt: skip
    if signature.signed_fields:
        names = ", ".join(field.partition(":")[0] for field in signature.signed_fields)
        output.line(output.paint(f"    signed: {names}", "dim"))
    if signature.unsigned:
        output.line(output.paint(f"    not signed: {', '.join(signature.unsigned)}", "dim"))
    for note in signature.notes:
        output.line(output.paint(f"    {note}", "dim"))
