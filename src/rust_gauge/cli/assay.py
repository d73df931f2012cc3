"""`rustgauge assay FILE`: examines a message on this machine, or at the service; no service is needed.

Form and content need nothing but the message. With `--live`, `--zone-file` or `--answers` SPF, DKIM and DMARC are
evaluated, too.
"""

import argparse

from rust_gauge.cli import local
from rust_gauge.cli.assay_view import show_assay, show_comparison
from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import read_octets
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun
from rust_gauge.cli.output import plural
from rust_gauge.cli.session import Session
from rust_gauge.client.assay_formats import COLUMNS, RANK, junit, place_text, rows, sarif
from rust_gauge.contract.assays import Assay, AssayRuleView, RuleAdjustment, UnsupportedConstruct

DEFAULT = "run"
EXAMPLES = (
    "assay newsletter.eml",
    "assay newsletter.eml --live --ip 192.0.2.10 --mail-from bounce@news.glasswort.example",
    "assay newsletter.eml --fail-on risk --format sarif > newsletter.sarif",
    "assay support newsletter.eml --family word",
    "assay compare before.eml after.eml",
)
_MOST = 41 * 1024 * 1024  # octets; a little more than is examined, so that the examination says so
_MOST_MESSAGES = 6
FORMATS = ("text", "json", "ndjson", "csv", "sarif", "junit")


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("run", run, "examine a message: findings, and a mark of 100 less what they take off", FORMATS)
    made.add_argument("file", help="the message as it was or will be sent; - for standard input")
    made.add_argument("--fail-on", choices=("fault", "risk", "note", "never"), default="fault",
                      help="exit with 3 from this level on (fault)")  # fmt: skip
    made.add_argument("--least-mark", type=float, metavar="MARK", help="exit with 3 below this mark, too")
    made.add_argument("--blocklist", action="append", default=[], metavar="ZONE[=domain]",
                      help="ask this list about the address, or with =domain about domains; repeatable")  # fmt: skip
    made.add_argument("--at-service", action="store_true", help="let the service examine it, which asks DNS, too")
    made.add_argument("--ip", default="", help="the sending IP, for SPF")
    made.add_argument("--helo", default="", help="the HELO name")
    made.add_argument("--mail-from", default="", help="the envelope sender")
    local.options(made)
    made = noun.add("support", support, "what families of mail programs make of a message's HTML", TABLE)
    made.add_argument("file", help="the message as it was or will be sent; - for standard input")
    made.add_argument("--family", metavar="KEY", help="only what this family does not support; see the columns")
    noun.add("rules", rules, "the rules, as they ship and as they count for the tenant", TABLE)
    made = noun.add("adjust", adjust, "adjust a rule for the tenant, or a word", DOCUMENT)
    made.add_argument("rule", nargs="?", help="the rule, from `assay rules`")
    made.add_argument("--points", type=float, help="what it takes off the mark")
    made.add_argument("--level", choices=("fault", "risk", "note"), help="its level")
    made.add_argument("--off", action="store_true", help="the rule does not count")
    made.add_argument("--reset", action="store_true", help="the rule counts as it ships")
    made.add_argument("--add-word", action="append", default=[], help="a weak word or phrase; repeatable")
    made.add_argument("--remove-word", action="append", default=[], help="a word that does not count; repeatable")
    made.add_argument("--follow-links", choices=("on", "off"), help="ask with HEAD where links lead")
    made.add_argument(
        "--open-unsubscribe", choices=("on", "off"),
        help="open the address for one-click unsubscribing with GET, as filters do; one that acts on GET unsubscribes",
    )  # fmt: skip
    made = noun.add("model", model, "the tenant's text model, and how often it is right", DOCUMENT)
    made.add_argument("--learn", action="store_true", help="learn now; otherwise once a day")
    made = noun.add("compare", compare, "what differs between messages, and which difference did what", DOCUMENT)
    made.add_argument("file", nargs="+", help="two to six messages; each is compared with the first")
    local.options(made)


def run(session: Session) -> int:
    """Examine a message. Exit status 3 for a finding of the level of --fail-on or worse."""
    arguments = session.arguments
    raw = local.read_message(read_octets(arguments.file, _MOST))
    named = {"ip": arguments.ip, "helo": arguments.helo, "mail_from": arguments.mail_from}
    for given in arguments.blocklist:
        if given.partition("=")[2] not in ("", "domain"):
            raise UsageError(f"{given} is not a list. Expected ZONE or ZONE=domain")
    if arguments.at_service:
        if local.is_local(arguments):
            raise UsageError("Choose one of --at-service, --live, --zone-file and --answers")
        done = session.client.assays.examine(session.tenant(), raw, **named)
    else:
        done = _examined_here(arguments, raw, named)
    write_assay(session, done, arguments.file)
    return status_of(done, arguments.fail_on, arguments.least_mark)


def support(session: Session) -> int:
    """Show constructs that some family does not support. Exit status 3 when there are any."""
    arguments, output = session.arguments, session.output
    done = local.assay_message(None, local.read_message(read_octets(arguments.file, _MOST)))
    if done.support is None:
        output.say("The message has no HTML")
        return 0
    keys = [family.key for family in done.support.families]
    if arguments.family and arguments.family not in keys:
        raise UsageError(f"{arguments.family} is not a family. Families: {', '.join(keys)}")
    shown = [each for each in done.support.constructs if not arguments.family or arguments.family in each.support]
    output.items(
        arguments.format, shown, UnsupportedConstruct, ("construct", "seen", *keys, "where", "instead"),
        lambda each: (
            each.title, each.count, *(each.support.get(key, "yes") for key in keys),
            place_text(each.places[0]) if each.places else "", each.instead,
        ),
        right=(1,), empty="Every family supports what the HTML uses",
    )  # fmt: skip
    return 3 if shown else 0


def rules(session: Session) -> int:
    """List rules."""
    session.output.items(
        session.arguments.format, session.client.assays.rules(session.tenant()), AssayRuleView,
        ("rule", "group", "level", "points", "ships with", "title"),
        lambda r: (r.rule, r.group, (r.level, r.level), "off" if r.off else f"{r.points:g}",
                   "" if not _is_adjusted(r) else f"{r.shipped_level} {r.shipped_points:g}", r.title),
        right=(3,), empty="No rules.",
    )  # fmt: skip
    return 0


def _is_adjusted(rule: AssayRuleView) -> bool:
    return rule.off or (rule.level, rule.points) != (rule.shipped_level, rule.shipped_points)


def adjust(session: Session) -> int:
    """Adjust a rule, words, or whether links are asked; what is not given stays."""
    arguments = session.arguments
    tenant = session.tenant()
    now = session.client.assays.settings(tenant)
    changed = dict(now.rules)
    if arguments.rule and arguments.reset:
        changed.pop(arguments.rule, None)
    elif arguments.rule:
        before = changed.get(arguments.rule, RuleAdjustment())
        given = {"level": arguments.level, "points": arguments.points, "off": arguments.off or None}
        changed[arguments.rule] = before.model_copy(update={k: v for k, v in given.items() if v is not None})
    elif arguments.points is not None or arguments.level or arguments.off or arguments.reset:
        raise UsageError("Name the rule; `rustgauge assay rules` lists them")
    asked = {"follow_links": arguments.follow_links, "open_unsubscribe": arguments.open_unsubscribe}
    added = [*dict.fromkeys([*now.words_added, *arguments.add_word])]
    removed = [*dict.fromkeys([*now.words_removed, *arguments.remove_word])]
    settings = now.model_copy(
        update={
            "rules": changed,
            "words_added": [word for word in added if word not in arguments.remove_word],
            "words_removed": [word for word in removed if word not in arguments.add_word],
            **{name: value == "on" for name, value in asked.items() if value is not None},
        }
    )
    saved = session.client.assays.set_settings(tenant, settings)
    session.output.document(arguments.format, saved, lambda: session.output.say("Saved."))
    return 0


def model(session: Session) -> int:
    """Show the text model."""
    output = session.output
    found = session.client.assays.text_model(session.tenant(), learn=session.arguments.learn)

    def text() -> None:
        if not found.ready:
            output.line(f"Silent: {found.reason}.")
            return
        output.line(f"Classified {found.right} of {found.of} campaigns correctly that it was not shown "
                    f"({100 * found.right / found.of:.0f} %); {plural(found.messages, 'message')}")  # fmt: skip
        for word in found.words:
            output.line(f"{word.share:+8.3f}  {word.text!r}")

    output.document(session.arguments.format, found, text)
    return 0


def compare(session: Session) -> int:
    """Compare messages with the first one. Exit status 3 when a mark is lower than the first one's."""
    arguments, output = session.arguments, session.output
    if not 2 <= len(arguments.file) <= _MOST_MESSAGES:
        raise UsageError(f"Name two to {_MOST_MESSAGES} messages, not {len(arguments.file)}")
    source = local.source(arguments) if local.is_local(arguments) else None
    try:
        read = [(name, local.read_message(read_octets(name, _MOST))) for name in arguments.file]
        done = local.compare_messages(source, read)
    finally:
        if source is not None:
            source.close()
    if arguments.format == "json":
        output.json(done)
    else:
        for each in done:
            show_comparison(output, each)
    return 3 if any(each.mark_after < each.mark_before for each in done) else 0


def _examined_here(arguments: argparse.Namespace, raw: bytes, named: dict[str, str]) -> Assay:
    source = local.source(arguments) if local.is_local(arguments) else None
    try:
        return local.assay_message(source, raw, lists=arguments.blocklist, **named)
    finally:
        if source is not None:
            source.close()


def write_assay(session: Session, done: Assay, file: str) -> None:
    """Write an assay in the format that was asked for; `file` names the message there."""
    output, form = session.output, session.arguments.format
    if form == "sarif":
        output.line(sarif([(file, done)]))
    elif form == "junit":
        output.line(junit(done, file, session.arguments.fail_on))
    elif form == "csv":
        output.rows("csv", COLUMNS, rows(done))
    elif form == "ndjson":
        output.ndjson(done)
    elif form == "json":
        output.json(done)
    else:
        show_assay(output, done)


def status_of(done: Assay, fail_on: str, least: float | None) -> int:
    """Return the exit status: 3 for a finding of this level or worse, or a lower mark."""
    if least is not None and done.mark < least:
        return 3
    return 3 if any(RANK[finding.level] <= RANK.get(fail_on, -1) for finding in done.findings) else 0
