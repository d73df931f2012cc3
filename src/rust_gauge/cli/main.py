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
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.client import Client, ClientError, ProblemResponse

_EPILOG = """\
The service and the token come from RUSTGAUGE_URL and RUSTGAUGE_TOKEN (or --url), the tenant from --tenant or
RUSTGAUGE_TENANT; with a domain named, the tenant that has it is found. NO_COLOR turns colours off.

exit status: 0 done, 1 refused or unreachable, 2 wrong words, 3 done and something needs attention (a fault was
found, rows were refused, an address is held), 130 stopped with Ctrl-C
"""


_SUBJECTS = ("domain", "stream", "relay", "ip")


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="rustgauge",
        description="Deliverability measured, explained and mended.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"rustgauge {__version__}")
    common = argparse.ArgumentParser(add_help=False)
    common.add_argument("--url", default=os.environ.get("RUSTGAUGE_URL", "http://127.0.0.1:8850"), help="the service")
    common.add_argument("--tenant", help="the tenant's short name")
    tables = argparse.ArgumentParser(add_help=False)
    tables.add_argument("--format", choices=("text", "json", "csv", "ndjson"), default="text")
    brief = argparse.ArgumentParser(add_help=False)
    brief.add_argument("--format", choices=("text", "json"), default="text")
    commands = parser.add_subparsers(metavar="COMMAND", required=True)

    def command(name: str, run: object, help: str, *parents: argparse.ArgumentParser) -> argparse.ArgumentParser:
        made = commands.add_parser(name, help=help, description=help, parents=[common, *parents])
        made.set_defaults(run=run, parser=parser)
        return made

    made = command("wall", readings.wall, "all domains by mailbox provider", tables)
    made.add_argument("--days", type=_days, default=7, help="over how many days mail is counted (7)")
    made.add_argument("--subject", choices=_SUBJECTS, default="domain", help="what the rows are (domain)")
    made.add_argument("--last", metavar="DAY", help="as it was on this day (today)")
    command("domains", domains.list_domains, "list domains", tables)
    made = command("add", domains.add, "watch a domain")
    made.add_argument("domain")
    made.add_argument("--selector", action="append", default=[], help="a DKIM selector that signs its mail; repeatable")
    made = command("forget", domains.forget, "stop watching a domain")
    made.add_argument("domain")
    made = command("audit", audit.audit, "audit a domain's records now: at the service, or here from zone files")
    made.add_argument("domain", nargs="*", help="with --zone-file or --answers: without it all that they speak of")
    made.add_argument("--format", choices=("text", "json", "csv", "ndjson", "sarif", "junit"), default="text")
    made.add_argument("--last", action="store_true", help="show the newest audit instead of making one")
    made.add_argument("--fail-on", choices=("fault", "risk", "note", "never"), default="fault",
                      help="exit with 3 from this level on (fault)")  # fmt: skip
    made.add_argument("--selector", action="append", default=[], help="without a service: a DKIM selector; repeatable")
    made.add_argument("--ip", action="append", default=[], help="without a service: a sending address; repeatable")
    made.add_argument("--record-to", metavar="FILE", help="without a service: write all answers there")
    local.options(made)
    made = command("compare", audit.compare, "two audits of a domain beside each other", brief)
    made.add_argument("domain")
    made.add_argument("--before", type=_days, help="the number of the earlier one (the one before the newest)")
    made.add_argument("--after", type=_days, help="the number of the later one (the newest)")
    made = command("history", audit.history, "what changed at a domain: records, findings", tables)
    made.add_argument("domain")
    made.add_argument("--limit", type=_days, default=100, help="the newest so many (100)")
    made = command("batch", batches.batch, "audit many domains from a file, one name a line", tables)
    made.add_argument("file", nargs="?", help="a file, or - for standard input; without it the batches there are")
    made.add_argument("--selector", action="append", default=[], help="a DKIM selector to look for; repeatable")
    made.add_argument("--id", type=_days, help="look at this batch")
    made.add_argument("--stop", action="store_true", help="with --id: stop it")
    made.add_argument("--resume", action="store_true", help="with --id: go on where it stopped")
    made.add_argument("--no-wait", action="store_true", help="only start it")
    made = command("trial", trials.trial, "would a message from this address pass SPF?", brief)
    made.add_argument("ip", help="the address that sends")
    made.add_argument("mail_from", nargs="?", default="", help="the envelope sender; empty for notices")
    made.add_argument("--helo", default="", help="the name that it greets with")
    made.add_argument("--record", help="try this record in place of what is published")
    local.options(made)
    made = command("message", trials.message, "SPF, DKIM and DMARC of a captured message, and why", brief)
    made.add_argument("file", help="a file, or - for standard input")
    made.add_argument("--ip", default="", help="the address that it came from, for SPF")
    made.add_argument("--helo", default="", help="the name that it greeted with")
    made.add_argument("--mail-from", default="", help="its envelope sender")
    local.options(made)
    made = command("feedback", trials.feedback, "what a DMARC aggregate report says, by source", brief)
    made.add_argument("file", help="XML, .xml.gz, .zip or a message; - for standard input")
    made = command("plan", plans.plan, "all records that a domain ought to publish, and what became of them")
    made.add_argument("domain")
    made.add_argument("--format", choices=("text", "json", "csv", "zone"), default="text")
    made.add_argument("--no-check", action="store_true", help="only what to publish; look at nothing")
    made.add_argument("--host-form", choices=("host", "host_or_blank", "host_full", "host_with_dot"), default="host",
                      help="how hosts are written: in the zone (@ for itself), whole, with the last dot")  # fmt: skip
    made.add_argument("--stage", choices=("watch", "quarantine", "reject"), help="how strict the DMARC policy is")
    made.add_argument("--reports-to", metavar="ADDRESS", help="where aggregate reports go")
    made.add_argument("--spf", action="append", default=[], metavar="RELAY=WAY",
                      help="list, move, drop or include a relay in the SPF record; repeatable")  # fmt: skip
    made.add_argument("--spf-ending", choices=("~all", "-all"), help="how the SPF record ends")
    made.add_argument("--keep", action="append", default=[], metavar="TERM", help="keep this SPF term; repeatable")
    made.add_argument("--ttl", type=_days, help="seconds that resolvers may hold the records")
    made.add_argument("--mta-sts", choices=("off", "testing", "enforce"), help="plan an MTA-STS policy")
    made.add_argument("--mta-sts-host", metavar="HOST", help="the host that serves it")
    made.add_argument("--tls-reports-to", metavar="ADDRESS", help="where TLS reports go")
    made.add_argument("--key", metavar="SELECTOR", help="make a DKIM key; prints the private half, this once")
    made.add_argument("--key-kind", choices=("rsa2048", "ed25519"), default="rsa2048")
    made = command("watch", watches.watch, "how a change of records spreads over name servers and resolvers", brief)
    made.add_argument("domain")
    made.add_argument("--record", action="append", default=[], metavar="KEY",
                      help="only this record of the plan (as the JSON of plan names it); repeatable")  # fmt: skip
    made.add_argument("--wait", action="store_true", help="until everybody has it or the watch gives up")
    made.add_argument("--hours", type=_days, default=48, help="give up after so long (48)")
    made.add_argument("--list", action="store_true", help="the newest watches of the domain")
    made.add_argument("--id", type=_days, help="look at this watch")
    made.add_argument("--stop", action="store_true", help="stop it")
    made = command(
        "publish", publishing.publish, "publish a plan by dynamic update: shows the change, asks, applies it"
    )
    made.add_argument("domain")
    made.add_argument("--record", action="append", default=[], metavar="KEY", help="only this record; repeatable")
    made.add_argument("--yes", action="store_true", help="apply it without asking")
    made.add_argument("--list", action="store_true", help="changes that were made")
    made.add_argument("--roll-back", type=_days, metavar="NUMBER", help="take this change back")
    made = command("update-server", publishing.update_server, "where a zone is changed, and with which TSIG key")
    made.add_argument("zone", nargs="?", help="without it the servers that are kept")
    made.add_argument("--address", help="address or address:port of the primary server")
    made.add_argument("--key-name", help="the key's name")
    made.add_argument("--algorithm", choices=("hmac-sha256", "hmac-sha384", "hmac-sha512"), default="hmac-sha256")
    made.add_argument("--secret-file", help="holds the secret in base64; - for standard input")
    made.add_argument("--forget", action="store_true", help="forget the server and its key")
    made = command("prove", proofs.prove, "that a domain or a sender address is yours", brief)
    made.add_argument("subject", nargs="?", help="a domain or an address; without it all proofs")
    made.add_argument(
        "--by", choices=("record", "postmaster", "abuse", "mail"), help="how (record, or mail for addresses)"
    )
    made.add_argument("--relay", default="", help="carries the message")
    made.add_argument("--code", help="the code of the message")
    made = command("webhook", webhooks.webhook, "addresses that are told what happens, signed", tables)
    made.add_argument("id", nargs="?", type=_days, help="one of them; without more its calls")
    made.add_argument("--add", metavar="URL", help="call this address from now on")
    made.add_argument("--name", default="", help="with --add: what you call it")
    made.add_argument("--subject", action="append", default=[], help="with --add: only this subject; repeatable")
    made.add_argument("--test", action="store_true", help="call it now, and tell what came back")
    made.add_argument("--pause", action="store_true", help="call it no more for now")
    made.add_argument("--go-on", action="store_true", help="call it again, and send what waited")
    made.add_argument("--replay", action="store_true", help="try the calls that were given up anew")
    made.add_argument("--drop", action="store_true", help="forget it")
    command("senders", proofs.senders, "what mail is sent as: proven or not, aligned or not", tables)
    command("relays", plans.list_relays, "relays, what they want published, who uses them", tables)
    made = command("relay", plans.relay, "describe a relay, or show what is said of it")
    made.add_argument("name")
    made.add_argument("--own", action="store_true", help="an MTA of ours")
    made.add_argument("--host", action="append", default=[], metavar="IP[=HELO]", help="a sending address; repeatable")
    made.add_argument("--include", metavar="NAME", help="what goes behind include: in SPF")
    made.add_argument("--network", action="append", default=[], help="addresses to list in SPF; repeatable")
    made.add_argument("--dkim", action="append", default=[], metavar="SELECTOR=TARGET", help="a key by CNAME")
    made.add_argument("--dkim-txt", action="append", default=[], metavar="SELECTOR[=RECORD]", help="a key by TXT")
    made.add_argument("--return-path", metavar="LABEL=[TYPE:]TARGET", help="host for returned mail (mx: or cname:)")
    made.add_argument("--tracking", metavar="LABEL=TARGET", help="host for counted links")
    made.add_argument("--inbound", action="append", default=[], metavar="PRIORITY:HOST", help="takes in mail")
    made.add_argument("--file", help="the whole description as JSON, with limits and lines")
    made.add_argument("--forget", action="store_true", help="forget what was said of it")
    made = command("stream", plans.stream, "say how one kind of mail of a domain is sent")
    made.add_argument("domain")
    made.add_argument("name", help="such as newsletter")
    made.add_argument("--relay", action="append", default=[], help="carries it; repeatable")
    made.add_argument("--envelope", default="", help="domain of MAIL FROM")
    made.add_argument("--dkim-domain", default="", help="d= of its signatures")
    made.add_argument("--selector", default="", help="s= of its signatures")
    made.add_argument("--helo", default="", help="the name that it greets with")
    made.add_argument("--ip", action="append", default=[], help="an address that it comes from; repeatable")
    made.add_argument("--forget", action="store_true", help="take the stream out")
    made = command("load", events.load, "load events from a file: JSON lines, CSV, a log, mail that came back", brief)
    made.add_argument(
        "file", help="a file, or - for standard input (JSON lines); with --feed also .csv, .log, .eml, .mbox"
    )
    made.add_argument("--feed", help="by this feed: with its mapping and its defaults")
    made = command("feed", feeds.feed, "ways in for events: open one, look how it goes, try refused rows again", tables)
    made.add_argument("name", nargs="?", help="one of them; without it all")
    made.add_argument("--add", choices=("http", "mail", "mailbox", "log", "queue"), help="open it, of this kind")
    made.add_argument("--mapping", metavar="FILE", help="JSON that says where things are; - for standard input")
    made.add_argument("--domain", default="", help="sending domain where the source says none")
    made.add_argument("--stream", default="", help="stream where the source says none")
    made.add_argument("--relay", default="", help="relay where the source says none")
    made.add_argument("--address", action="append", default=[], help="mail: an address, or @domain; repeatable")
    made.add_argument("--path", help="log: the file; mailbox: a Maildir or an mbox, at the service")
    made.add_argument("--host", help="mailbox (IMAP) and queue (AMQP 0-9-1): where")
    made.add_argument("--port", type=_days)
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
    made = command("mapping", feeds.mapping, "a sample of a source becoming events, field by field", brief)
    made.add_argument("sample", help="a file with what the source sends; - for standard input")
    made.add_argument("--mapping", metavar="FILE", help="the mapping to try")
    made.add_argument("--feed", help="try this feed's mapping")
    made = command("trail", events.trail, "all events of a recipient or a message", tables)
    made.add_argument("--recipient", help="an address")
    made.add_argument("--message", help="a message id")
    made.add_argument("--kind", action="append", help="only this kind; repeatable")
    made.add_argument("--cause", action="append", help="only this cause; repeatable")
    made.add_argument("--provider", help="only at this mailbox provider")
    for what in ("domain", "stream", "relay"):
        made.add_argument(f"--{what}", help=f"only mail of this {what}")
    made.add_argument("--ip", help="only from this sending address")
    made.add_argument("--reply", help="only where this text stands in the reply")
    made.add_argument("--limit", type=_days, default=200, help="the newest so many (200)")
    made = command("flow", flow.flow, "mail flow per mailbox provider", tables)
    _which_mail(made)
    made.add_argument("--by-day", action="store_true", help="day by day")
    made.add_argument("--versus", metavar="WHAT=NAME", help="beside other mail, such as campaign=spring-b")
    made = command("causes", flow.causes, "why mail bounced or waited, per provider, with replies", tables)
    _which_mail(made)
    made = command("replies", flow.wordings, "replies grouped by their fixed part, the most frequent first", tables)
    made.add_argument("--cause", help="only these; unclassified for those that no rule knows")
    made.add_argument("--days", type=_days, default=7, help="today and the days before (7)")
    made.add_argument("--limit", type=_days, default=50, help="so many (50)")
    made = command("shifts", shifts.shifts, "rates that rose suddenly at a provider or relay, and why", tables)
    made.add_argument("id", nargs="?", type=_days, help="the number of one, to see what is behind it")
    made.add_argument("--days", type=_days, default=7, help="today and the days before (7)")
    made = command("keeping", shifts.keeping, "how long events are kept, and how alert the search for shifts is")
    made.add_argument("--events-days", type=_days, help="drop events after so many days; counters stay")
    made.add_argument("--false-alarms", type=float, help="shifts a year that may be reported although they are none")
    made = command("person", recipients.person, "all that is kept of one recipient, and its erasure", tables)
    made.add_argument("address", nargs="?", help="without it: the erasures there were")
    made.add_argument("--erase", action="store_true", help="take the recipient out of everything, for good")
    made.add_argument("--reason", default="", help="why; kept with the erasure")
    made.add_argument("--may-be-mailed-again", action="store_true", help="drop the suppression entries, too")
    made = command("rules", rules.rules, "rules of your own that find the cause of a refusal")
    made.add_argument("--format", choices=("text", "json", "csv", "ndjson", "toml"), default="text")
    made.add_argument("--shipped", action="store_true", help="those that come with the service, asked after your own")
    made.add_argument("--rehearse", metavar="FILE", help="what the rules of this TOML file would make of the past")
    made.add_argument("--days", type=_days, default=90, help="with --rehearse: how far back (90)")
    made.add_argument("--keep", metavar="FILE", help="have the rules of this file in place of those there are")
    made.add_argument("--not-to-the-past", action="store_true", help="with --keep: only what comes in from now on")
    made.add_argument("--apply", action="store_true", help="judge the past by the rules as they are")
    made.add_argument("--stop", action="store_true", help="stop judging the past")
    made.add_argument("--no-wait", action="store_true", help="do not wait until the past is judged")
    made = command("providers", flow.providers, "mailbox providers, and what you call them", tables)
    made.add_argument("provider", nargs="?", help="one of them, to give it a name")
    made.add_argument("--call", help="its name")
    of_subject = argparse.ArgumentParser(add_help=False)
    of_subject.add_argument("name", help="a domain, or the name of a stream, relay or sending address")
    of_subject.add_argument("--subject", choices=_SUBJECTS, default="domain", help="what the name is of (domain)")
    there = argparse.ArgumentParser(add_help=False)
    there.add_argument("--provider", help="at this mailbox provider only")
    made = command("reading", readings.reading, "readings, day by day", tables, of_subject, there)
    made.add_argument("--days", type=_days, default=14, help="today and the days before (14)")
    made = command("moved", readings.moved, "what moved a reading between two days", tables, of_subject, there)
    made.add_argument("--first", metavar="DAY", help="the first day (seven days before the last)")
    made.add_argument("--last", metavar="DAY", help="the last day (today)")
    made = command(
        "ahead", readings.ahead, "what a reading will be, and would be with a change", tables, of_subject, there
    )
    made.add_argument("--days", type=_days, default=21, help="how far ahead (21)")
    made.add_argument("--volume", type=float, default=1.0, help="how much of the mail goes out: 0.5 is half")
    made.add_argument("--remains", action="append", default=[], metavar="FACTOR=SHARE",
                      help="how much of a factor's events remains: authentication=0; repeatable")  # fmt: skip
    made = command("worklist", worklist.worklist, "what to do next, by mail at risk", tables)
    made.add_argument("--state", action="append", choices=("waiting", "open", "minded", "put_off", "closed"))
    made.add_argument("--assigned-to", help="only what somebody looks after")
    made.add_argument("--on", metavar="DAY", help="what lived on this day, whatever became of it")
    made.add_argument("--look", action="store_true", help="look for trouble of the tenant now")
    made = command("work", worklist.work, "an item of the worklist: show it, or do something with it", brief)
    made.add_argument("item", type=int)
    made.add_argument("--mind", action="store_true", help="say that you look after it")
    made.add_argument("--assign", metavar="WHO", help="give it to somebody; an empty text to nobody")
    made.add_argument("--comment", metavar="TEXT")
    made.add_argument("--put-off", type=float, metavar="DAYS", help="with --why")
    made.add_argument("--why", metavar="TEXT")
    made.add_argument("--remeasure", action="store_true", help="look again now; closes it when it is mended")
    command("lines", worklist.lines, "bounce and complaint rates against their lines", tables)
    made = command("alerts", worklist.alerts, "who is told of trouble, and what was told", tables)
    made.add_argument("--keep", metavar="FILE", help="set it from a JSON file")
    made.add_argument("--told", action="store_true", help="the newest messages, and what became of them")
    made = command("report", worklist.report, "how each domain stood in a period, what was mended, what is next", brief)
    made.add_argument("--days", type=_days, default=7, help="of this many days, beside as many before (7)")
    made.add_argument("--file", metavar="FILE", help="keep it as a page (HTML, its picture inside)")
    made.add_argument("--send", action="store_true", help="mail it to the people of `alerts`")
    made = command("brakes", worklist.brakes, "streams that clearance holds as a whole", tables)
    made.add_argument("--hold", metavar="STREAM")
    made.add_argument("--release", metavar="STREAM")
    made.add_argument("--relay", help="only over this relay")
    made.add_argument("--why", metavar="TEXT")
    command("room", readings.room, "how many more complaints or bounces until a line", tables, of_subject)
    made = command("notes", readings.notes, "what happened on the time axis, with notes of people", tables)
    made.add_argument("--days", type=_days, default=30, help="how far back (30)")
    made.add_argument("--domain", help="only what is about this domain")
    made.add_argument("--add", metavar="TEXT", help="keep a note")
    made.add_argument("--day", help="with --add: its day (today)")
    made.add_argument("--drop", type=int, metavar="NOTE", help="take a note away")
    made = command("reading-settings", readings.settings, "the parameters of readings", tables)
    made.add_argument("--keep", metavar="FILE", help="set them from a JSON file; the past is computed anew")
    made.add_argument("--shipped", action="store_true", help="back to those that are shipped")
    made = command("clearance", suppression.clearance, "may these addresses be mailed?", tables)
    made.add_argument("address", nargs="*")
    made.add_argument("--file", help="a file with an address a line, or - for standard input")
    made.add_argument("--stream", help="for mail of this stream")
    made.add_argument("--domain", help="for mail of this sending domain")
    made.add_argument("--relay", help="for mail over this relay")
    made.add_argument("--only-held", action="store_true", help="leave out the clear ones")
    made.add_argument("--split", metavar="CSV", help="cut this CSV file in two: clear, and held with the reason")
    made.add_argument("--column", help="with --split: the column that holds the addresses")
    made.add_argument("--clear-to", metavar="FILE", help="with --split: where the clear rows go")
    made.add_argument("--held-to", metavar="FILE", help="with --split: where the held rows go")
    made.add_argument("--count-as-withheld", action="store_true", help="those held will not be sent: count them so")
    made.add_argument("--campaign", help="with --count-as-withheld: the campaign")
    made = command("suppression", suppression.suppression, "the suppression list, what changed last first", tables)
    made.add_argument("text", nargs="?", default="", help="beginning of an address, or of a domain behind @")
    made.add_argument("--address", help="only this address")
    made.add_argument("--reason", action="append", help="only for this reason; repeatable")
    made.add_argument("--state", action="append", choices=("held", "proposed", "resting", "ended"))
    made.add_argument("--provider", help="only at this mailbox provider")
    made.add_argument("--stream", help="only from mail of this stream")
    made.add_argument("--ends-within", type=_days, metavar="DAYS", help="only what ends within so many days")
    made.add_argument("--came-back", action="store_true", help="only what came back")
    made.add_argument("--limit", type=_days, default=100, help="so many entries (100)")
    made = command("suppression-export", suppression.export, "the whole suppression list as a file")
    made.add_argument("out", help="the file; - for standard output")
    made.add_argument("--form", choices=("csv", "ndjson"), default="csv")
    made = command("hold", suppression.hold, "put addresses, or @domains, on the suppression list")
    made.add_argument("address", nargs="*")
    made.add_argument("--file", help="a file with an address a line, or - for standard input")
    made.add_argument("--reason", default="by_hand", help="by_hand unless you know better")
    made.add_argument("--stream", help="only for mail of this stream")
    made.add_argument("--domain", help="only for mail of this sending domain")
    made.add_argument("--days", type=_days, help="for so many days; without it for good")
    made.add_argument("--note", help="why, in your words")
    made = command("lift", suppression.lift, "take an address off the suppression list")
    made.add_argument("address")
    made.add_argument("--why", required=True, help="why; kept with the address")
    made.add_argument("--despite-complaint", action="store_true", help="its owner complained, and wants mail again")
    made = command("address", suppression.address, "one address: what holds it, and all that happened to it", tables)
    made.add_argument("address")
    made = command("import", lists.import_list, "put a list on the suppression list: CSV, NDJSON or an address a line")
    made.add_argument("file", nargs="?")
    made.add_argument("--dry", action="store_true", help="only tell what would happen")
    made.add_argument("--reason", default="by_hand", help="where no column says it (by_hand)")
    made.add_argument("--stream", help="hold them for mail of this stream only")
    made.add_argument("--column", action="append", default=[], metavar="FIELD=COLUMN",
                      help="address, reason, since, until or note, and its column; repeatable")  # fmt: skip
    made.add_argument("--form", choices=("csv", "ndjson", "plain"), help="how it is written; found if left out")
    made.add_argument("--encoding", help="such as windows-1252; found if left out")
    made.add_argument("--standing", choices=("keep", "widen", "replace"), default="keep",
                      help="where an entry stands: leave it, widen it, or have it as the file says")  # fmt: skip
    made.add_argument("--hold-lifted-again", action="store_true", help="hold what somebody lifted, too")
    made.add_argument("--note", help="kept with each entry")
    made.add_argument("--refused-to", metavar="FILE", help="where rows go that cannot be used, with the reason")
    made.add_argument("--resume", type=_days, metavar="JOB", help="go on with an import that was stopped")
    made = command("list-check", lists.list_check, "a list before a campaign: what would be held, and why", tables)
    made.add_argument("file")
    made.add_argument("--stream", help="for mail of this stream")
    made.add_argument("--column", action="append", default=[], metavar="FIELD=COLUMN", help="such as address=E-Mail")
    made.add_argument("--only-list", action="store_true", help="ask the suppression list alone, check no address")
    for part in ("clear", "held", "doubtful"):
        made.add_argument(f"--{part}-to", metavar="FILE", help=f"where the {part} rows go")
    made = command("check", lists.check, "look at addresses: form, domain, kind, our own history", tables)
    made.add_argument("address", nargs="+")
    made.add_argument("--probe", action="store_true", help="ask the mail host, if the settings allow it")
    made = command("growth", lists.growth, "how the suppression list grew in ninety days, and what it spared", tables)
    made.add_argument("--by", choices=("reason", "provider", "stream"), default="reason")
    made = command("policy", lists.policy, "what events make of an address's status", tables)
    made.add_argument(
        "--rehearse", metavar="FILE", help="try this policy (JSON) on the past, beside the one that holds"
    )
    made.add_argument("--days", type=_days, default=180, help="with --rehearse: how far back (180)")
    made.add_argument("--keep", metavar="FILE", help="have this policy from now on")
    made.add_argument("--shipped", action="store_true", help="go back to the shipped policy")
    made = command(
        "unsubscribes", lists.unsubscribes, "who wanted no more, and whether it was honoured in time", tables
    )
    made.add_argument("--days", type=_days, default=30, help="today and the days before (30)")
    made = command("unsubscribe-link", lists.unsubscribe_link, "List-Unsubscribe headers for a message")
    made.add_argument("address", nargs="+")
    made.add_argument("--domain", required=True, help="the sending domain")
    made.add_argument("--stream", help="the stream; without it the link stops all mail")
    made = command("gates", lists.gates, "ways in for MTAs that ask about recipients", tables)
    made.add_argument("--open", metavar="NAME", help="open one for this MTA")
    made.add_argument("--stream", help="with --open: the stream of its mail")
    made.add_argument("--relay", help="with --open: the relay that it is")
    made.add_argument("--close", metavar="NAME", help="close it")
    made = command("changes", suppression.changes, "changes of the suppression list as NDJSON")
    made.add_argument("--after", type=int, default=0, help="the number of the last change that you know")
    made.add_argument("--follow", action="store_true", help="go on as they come")
    made = command("completion", completion.completion, "completion script for your shell")
    made.add_argument("shell", choices=("bash", "zsh"))
    return parser


def _which_mail(made: argparse.ArgumentParser) -> None:
    for name, help in (("domain", "this domain"), ("stream", "this stream"), ("relay", "this relay"),
                       ("ip", "this sending address"), ("campaign", "this campaign"), ("tag", "this tag")):  # fmt: skip
        made.add_argument(f"--{name}", help=f"only {help}")
    made.add_argument("--days", type=_days, default=7, help="today and the days before (7)")


def _days(text: str) -> int:
    number = int(text) if text.isdigit() else 0
    if not 1 <= number <= 100_000:
        raise argparse.ArgumentTypeError(f"{text} is no number from 1 up")
    return number


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
        for each in error.problem.errors[:10]:
            output.say(f"  {each.field}: {each.what}" if each.field else f"  {each.what}")
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
