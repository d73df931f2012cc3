"""`rustgauge suppression`: the suppression list, its changes, imports, policy, growth and unsubscriptions."""

import sys
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta
from itertools import islice
from pathlib import Path
from typing import IO, Any

from rust_gauge.cli import jobs_wait
from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import read_addresses
from rust_gauge.cli.nouns import (
    DOCUMENT,
    TABLE,
    Noun,
    confirm_option,
    days_chosen,
    number_id,
    pair,
    period_chosen,
    period_options,
    positive,
    reason_option,
)
from rust_gauge.cli.output import percent, plural
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, checked, read_model, write_bytes
from rust_gauge.contract.checks import MailLinks, UnsubscribeLine
from rust_gauge.contract.jobs import ImportRequest
from rust_gauge.contract.suppression import (
    GrowthPart,
    Lift,
    MatchingSettings,
    NewEntries,
    PolicyBacktestRequest,
    PolicyRule,
    SuppressionEntry,
    SuppressionPolicy,
)

DEFAULT = "list"
EXAMPLES = (
    "suppression list --tenant thornfield --reason complaint",
    "suppression add someone@tidepost.example --note 'asked by phone' --tenant thornfield",
    "suppression import old-list.csv --dry-run --tenant thornfield",
    "suppression export list.csv --tenant thornfield",
)
REASONS = ("invalid_address", "complaint", "unsubscribed", "repeated_bounces", "domain_invalid", "manual", "spam_trap",
           "role_address", "unresponsive")  # fmt: skip
_STATES = ("held", "proposed", "resting", "ended")
_COUNTED = {
    "new": "new", "standing": "already on the list", "duplicates": "duplicates in the file", "changed": "changed",
    "came_back": "held again", "stayed_clear": "removed earlier, left clear", "rejected": "rejected",
}  # fmt: skip


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("list", list_entries, "list entries, newest change first", TABLE)
    made.add_argument("text", nargs="?", default="", help="beginning of an address, or of a domain after @")
    _filter_options(made)
    made.add_argument("--limit", type=positive, default=100, help="this many entries (100)")
    made = noun.add("show", show, "show an address: what holds it, and its history", DOCUMENT)
    made.add_argument("address")
    made = noun.add("add", add, "add addresses, or @domains, to the list")
    made.add_argument("address", nargs="*")
    made.add_argument("--file", help="a file with one address per line; - for standard input")
    made.add_argument("--reason", choices=REASONS, default="manual", help="(manual)")
    _scope_options(made)
    made.add_argument("--for-days", type=positive, help="for this many days (no end)")
    made.add_argument("--note", default="", help="why, in your words")
    made = noun.add("remove", remove, "remove an address from the list")
    made.add_argument("address")
    made.add_argument("--despite-complaint", action="store_true", help="its owner complained, and wants mail again")
    reason_option(made, "recorded with the address")
    made = noun.add("decide", decide, "confirm or dismiss proposed entries")
    made.add_argument("entry", nargs="+", help="ids of proposals; `list --state proposed --format json` has them")
    either = made.add_mutually_exclusive_group(required=True)
    either.add_argument("--confirm", action="store_true", help="suppress these addresses")
    either.add_argument("--dismiss", action="store_true", help="never propose them again")
    made.add_argument("--reason", default="", metavar="TEXT", help="recorded with the entries")
    made = noun.add("export", export, "write the whole list to a file; `import` reads it again")
    made.add_argument("file", help="the file; - for standard output")
    made.add_argument("--format", choices=("csv", "ndjson"), default="csv", help="csv or ndjson (csv)")
    made = noun.add("import", import_list, "import a list: CSV, NDJSON, or one address per line")
    made.add_argument("file")
    made.add_argument("--dry-run", action="store_true", help="only report what would change")
    made.add_argument("--reason", choices=REASONS, default="manual", help="where no column names one (manual)")
    made.add_argument("--stream", help="hold them for mail of this stream only")
    made.add_argument("--column", action="append", type=pair, default=[], metavar="FIELD=COLUMN",
                      help="the column of address, reason, since, until or note; repeatable")  # fmt: skip
    made.add_argument("--file-format", choices=("csv", "ndjson", "plain"), help="format of the file (detected)")
    made.add_argument("--encoding", help="such as windows-1252 (detected)")
    made.add_argument("--existing", choices=("keep", "widen", "replace"), default="keep",
                      help="what to do with entries that exist (keep)")  # fmt: skip
    made.add_argument("--hold-removed-again", action="store_true", help="also hold addresses that were removed")
    made.add_argument("--note", default="", help="stored with each entry")
    made.add_argument("--rejected-to", metavar="FILE", help="write rejected rows to this file, with the reason")
    made = noun.add("changes", changes, "print changes as NDJSON, oldest first")
    made.add_argument("--after", type=int, default=0, help="the number of the last change that you have")
    made.add_argument("--follow", action="store_true", help="wait for more")
    made = noun.add("growth", growth, "how the list grew, and which bounces it avoided", TABLE)
    made.add_argument("--by", choices=("reason", "provider", "stream"), default="reason", help="group by this (reason)")
    period_options(made, 90)
    made = noun.add("policy", policy, "show the policy, or set it", ("text", "json"))
    either = made.add_mutually_exclusive_group()
    either.add_argument("--set", metavar="FILE", help="set it from a JSON file, as --format json prints it")
    either.add_argument("--reset", action="store_true", help="go back to the default policy")
    made = noun.add("backtest", backtest, "dry run: compare a policy with the current one on past events", TABLE)
    made.add_argument("file", help="the policy as JSON")
    period_options(made, 180)
    made = noun.add("matching", matching, "show how addresses are compared, or set it", DOCUMENT)
    made.add_argument("--set", metavar="FILE", help="set it from a JSON file, as --format json prints it")
    confirm_option(made)
    made = noun.add("unsubscribes", unsubscribes, "list unsubscriptions, and whether they took effect in time", TABLE)
    period_options(made, 30)
    made = noun.add("unsubscribe-link", unsubscribe_link, "print List-Unsubscribe headers for a message", TABLE)
    made.add_argument("address", nargs="+")
    made.add_argument("--domain", required=True, help="the sending domain")
    made.add_argument("--stream", default="", help="the stream; none: the link stops all mail")
    made = noun.add("resume-import", resume_import, "resume an import that was cancelled")
    made.add_argument("job", type=number_id)


def _filter_options(parser: Any) -> None:
    parser.add_argument("--address", help="only this address")
    parser.add_argument("--reason", action="append", choices=(*REASONS, "try_later"), help="repeatable")
    parser.add_argument("--state", action="append", choices=_STATES, help="repeatable (held)")
    parser.add_argument("--provider", help="only at this mailbox provider")
    parser.add_argument("--stream", help="only from mail of this stream")
    parser.add_argument("--ends-within", type=positive, metavar="DAYS", help="only what ends within this many days")
    parser.add_argument("--returned", action="store_true", help="only addresses that were held again")


def _scope_options(parser: Any) -> None:
    either = parser.add_mutually_exclusive_group()
    either.add_argument("--stream", help="only for mail of this stream")
    either.add_argument("--domain", help="only for mail of this sending domain")


def scope_of(arguments: Any) -> tuple[str, str]:
    """Return scope and name that the options choose."""
    if arguments.domain:
        return "domain", arguments.domain
    return ("stream", arguments.stream) if arguments.stream else ("tenant", "")


def scope_text(scope: str, name: str) -> str:
    """Return which mail an entry holds."""
    return "all mail" if scope == "tenant" else f"{scope} {name}"


def list_entries(session: Session) -> int:
    """List entries."""
    arguments = session.arguments
    query: dict[str, Any] = {
        "text": arguments.text or None, "address": arguments.address, "reason": arguments.reason,
        "state": arguments.state, "provider": arguments.provider, "stream": arguments.stream,
        "ends_within_days": arguments.ends_within, "came_back": arguments.returned or None,
    }  # fmt: skip
    session.output.items(
        arguments.format, islice(session.client.suppression.list(session.tenant(), **query), arguments.limit),
        SuppressionEntry, ("address", "reason", "scope", "state", "since (UTC)", "until", "times", "by", "note"),
        lambda e: (
            e.address or f"({e.address_key[:12]}…)", e.reason.replace("_", " "), scope_text(e.scope, e.scope_name),
            e.state, f"{e.since:%Y-%m-%d %H:%M}", f"{e.until:%Y-%m-%d}" if e.until else "", e.times, e.made_by,
            e.note or (e.evidence[0].diagnostic if e.evidence else ""),
        ),
        right=(6,), empty="No such entries.",
    )  # fmt: skip
    return 0


def show(session: Session) -> int:
    """Show an address. Exit status 3 when it is held."""
    arguments, output = session.arguments, session.output
    status = session.client.suppression.status(session.tenant(), arguments.address)

    def text() -> None:
        output.line(f"{status.address}: {output.paint(status.verdict, status.verdict)}"
                    + (f", {status.why}" if status.why else ""))  # fmt: skip
        rows = [
            (f"{c.at:%Y-%m-%d %H:%M}", c.change.replace("_", " "), c.reason.replace("_", " "),
             scope_text(c.scope, c.scope_name), f"{c.until:%Y-%m-%d}" if c.until else "", c.by, c.note)
            for c in status.history
        ]  # fmt: skip
        if rows:
            output.table(("when (UTC)", "what", "reason", "scope", "until", "by", "note"), rows)

    output.document(arguments.format, status, text)
    return 3 if status.verdict == "held" else 0


def add(session: Session) -> int:
    """Add addresses. Exit status 3 when some were rejected."""
    arguments = session.arguments
    texts = list(read_addresses(arguments.address, arguments.file))
    if not texts:
        raise UsageError("name addresses, or a file with --file")
    until = datetime.now(UTC) + timedelta(days=arguments.for_days) if arguments.for_days else None
    scope, name = scope_of(arguments)
    changed = standing = rejected = 0
    for start in range(0, len(texts), 10_000):
        values = {
            "addresses": texts[start : start + 10_000], "reason": arguments.reason, "scope": scope, "scope_name": name,
            "until": until, "note": arguments.note,
        }  # fmt: skip
        made = session.client.suppression.add(
            session.tenant(),
            checked(lambda values=values: NewEntries.model_validate(values)),  # type: ignore[misc]
        )
        changed, standing, rejected = changed + made.changed, standing + made.standing, rejected + len(made.rejected)
        for row in made.rejected:
            session.output.say(f"{row.text}: {row.why}")
    session.output.say(f"{changed:,} held, {standing:,} already on the list, {rejected:,} rejected.")
    return 3 if rejected else 0


def remove(session: Session) -> int:
    """Remove an address."""
    arguments = session.arguments
    request = checked(
        lambda: Lift(address=arguments.address, why=arguments.reason, despite_complaint=arguments.despite_complaint)
    )
    for entry in session.client.suppression.lift(session.tenant(), request).entries:
        scope = scope_text(entry.scope, entry.scope_name)
        session.output.say(f"Removed {arguments.address}: {entry.reason.replace('_', ' ')}, {scope}.")
    return 0


def decide(session: Session) -> int:
    """Confirm or dismiss proposals."""
    arguments = session.arguments
    done = session.client.suppression.decide(
        session.tenant(), arguments.entry, confirm=arguments.confirm, why=arguments.reason
    )
    session.output.say(f"{'Confirmed' if arguments.confirm else 'Dismissed'} {len(done):,}.")
    return 0


def changes(session: Session) -> int:
    """Print changes, one per line. With --follow it waits for more until it is stopped."""
    arguments = session.arguments
    after, tenant = arguments.after, session.tenant()
    while True:
        page = session.client.suppression.changes(tenant, after=after, wait=20 if arguments.follow else 0)
        for item in page.items:
            session.output.ndjson(item)
        session.output.out.flush()
        after = page.last
        if not page.more and not arguments.follow:
            return 0


def export(session: Session) -> int:
    """Write the list to a file, or to standard output."""
    arguments = session.arguments
    target: IO[bytes]
    with ExitStack() as stack:
        try:
            to_file = arguments.file != "-"
            target = stack.enter_context(Path(arguments.file).open("wb")) if to_file else sys.stdout.buffer
        except OSError as error:
            raise UsageError(f"{arguments.file} cannot be written: {error.strerror}") from None
        progress, size = Progress("Exporting", 0, session.output.err), 0
        for piece in session.client.suppression.export(session.tenant(), form=arguments.format):
            target.write(piece)
            size += len(piece)
            progress.advance(0, f"{size:,} octets")
        progress.close()
    return 0


def import_list(session: Session) -> int:
    """Import a list as a job. Exit status 3 when rows were rejected."""
    arguments, tenant = session.arguments, session.tenant()
    values = {
        "name": Path(arguments.file).name, "reason": arguments.reason, "standing": arguments.existing,
        "lifted": "hold_again" if arguments.hold_removed_again else "stay_clear", "note": arguments.note,
        "layout": {
            "form": arguments.file_format or "", "encoding": arguments.encoding or "",
            "columns": dict(arguments.column),
        },
        "scope": "stream" if arguments.stream else "tenant", "scope_name": arguments.stream or "",
    }  # fmt: skip
    request = checked(lambda: ImportRequest.model_validate(values))
    job = jobs_wait.send_file(session, session.client.jobs.start_import(tenant, request), arguments.file)
    return _imported(session, job.id, dry=arguments.dry_run)


def resume_import(session: Session) -> int:
    """Resume an import."""
    session.arguments.rejected_to = None
    return _imported(session, session.arguments.job, dry=False)


def _imported(session: Session, id: int, *, dry: bool) -> int:
    job = jobs_wait.run(session, session.client.jobs.get(session.tenant(), id), "Importing", dry=dry)
    counts = job.result.get("counts", {})
    said = ", ".join(f"{counts[name]:,} {text}" for name, text in _COUNTED.items() if counts.get(name))
    layout = job.result.get("layout", {})
    what = "Dry run" if job.result.get("dry") else "Import"
    session.output.say(f"{what} (job {job.id}): {said or 'no rows'}.")
    found = ", ".join(f"{name} from {column}" for name, column in layout.get("columns", {}).items())
    session.output.say(
        f"Read as {layout.get('form', '?')}, {layout.get('encoding', '?')}{', ' + found if found else ''}."
    )
    if counts.get("rejected") and session.arguments.rejected_to:
        write_bytes(session.arguments.rejected_to, session.client.jobs.part(session.tenant(), job.id, "rejected"))
        session.output.say(f"{session.arguments.rejected_to}: the rejected rows.")
    return 3 if counts.get("rejected") else 0


def growth(session: Session) -> int:
    """Show how the list grew."""
    arguments = session.arguments
    first, last = period_chosen(arguments)
    found = session.client.suppression.growth(session.tenant(), first=first, last=last)
    parts = {"reason": found.reasons, "provider": found.providers, "stream": found.streams}[arguments.by]
    session.output.items(
        arguments.format, parts, GrowthPart, (arguments.by, "on the list", "added", "removed", "messages withheld"),
        lambda p: (p.label.replace("_", " "), p.active, p.added, p.removed, p.withheld), right=(1, 2, 3, 4),
    )  # fmt: skip
    saved = found.saved
    if arguments.format == "text" and saved.withheld:
        session.output.say(
            f"{saved.withheld:,} messages withheld from {found.first} to {found.last}. Bounce rate "
            f"{percent(saved.bounce_rate)}; {percent(saved.bounce_rate_without)} if they had been sent."
        )
    return 0


def policy(session: Session) -> int:
    """Show or set the policy."""
    arguments, tenant, output = session.arguments, session.tenant(), session.output
    suppression = session.client.suppression
    if arguments.set:
        suppression.set_policy(tenant, _policy_of(arguments.set))
        output.say("Saved.")
    if arguments.reset:
        suppression.reset_policy(tenant)
        output.say("Reset to the default policy.")
    view = suppression.policy(tenant)
    if arguments.format == "json":
        output.json(view.policy)
        return 0
    rows = [
        (rule.name, _when(rule), rule.act, rule.reason.replace("_", " ") if rule.act in ("hold", "propose") else "",
         _how_long(rule))
        for rule in view.policy.rules
    ]  # fmt: skip
    output.table(("rule", "when", "action", "reason", "for"), rows)
    return 0


def _policy_of(name: str) -> SuppressionPolicy:
    return read_model(name, SuppressionPolicy, "rustgauge suppression policy --format json")


def _when(rule: PolicyRule) -> str:
    parts = [", ".join(rule.kinds) or "any event", ", ".join(rule.causes), rule.permanence]
    if rule.times > 1:
        parts.append(f"{rule.times} messages over {rule.over_days:g} days")
    return "; ".join(filter(None, parts)).replace("_", " ")


def _how_long(rule: PolicyRule) -> str:
    if rule.act == "nothing":
        return ""
    waits = ", ".join(f"{hours:g} h" if hours < 48 else f"{hours / 24:g} days" for hours in rule.wait_hours)
    if rule.act == "wait":
        return waits
    return "no end" if rule.for_days is None else f"{rule.for_days:g} days; each return {rule.longer:g} times as long"


def backtest(session: Session) -> int:
    """Try a policy on past events, as a job."""
    arguments, tenant = session.arguments, session.tenant()
    days, last = days_chosen(arguments)
    request = PolicyBacktestRequest(policy=_policy_of(arguments.file), days=days, last=last)
    job = jobs_wait.run(session, session.client.jobs.start_policy_backtest(tenant, request), "Backtesting")
    lines = [("this policy", job.result["ours"]), ("current policy", job.result["holding"])]
    lines += [(line["label"] or line["name"], line) for line in job.result["providers"] + job.result["reasons"]]
    columns = ("what", "held", "wrongly held", "bounces spared", "bounces", "complaints spared", "complaints",
               "deliveries lost", "deliveries")  # fmt: skip
    rows = [
        (name.replace("_", " "), n["held"], n["wrongly"], n["bounces_spared"], n["bounces"], n["complaints_spared"],
         n["complaints"], n["deliveries_lost"], n["deliveries"])
        for name, n in lines
    ]  # fmt: skip
    session.output.rows(arguments.format, columns, rows, right=range(1, 9))
    return 0


def matching(session: Session) -> int:
    """Show or set how addresses are compared."""
    arguments, tenant, output = session.arguments, session.tenant(), session.output
    client = session.client.suppression
    if arguments.set:
        wanted = read_model(arguments.set, MatchingSettings, "rustgauge suppression matching --format json")
        warning = ""
        if wanted.digests_only:
            warning = (
                " Addresses will be replaced by digests; this cannot be undone. Recipients of stored events stay "
                "readable until the events are deleted."
            )
        if not session.confirm(f"Change how addresses are compared?{warning}"):
            return 3
        client.set_matching(tenant, wanted)
        output.say("Saved. The list is being rebuilt.")
    view = client.matching(tenant)
    if arguments.format == "json":
        output.json(view.settings)
        return 0
    output.line(f"Case of local parts: {'ignored' if view.settings.fold_case else 'significant'}")
    output.line(f"Addresses: {'stored as keyed digests only' if view.settings.digests_only else 'stored'}")
    for same in view.settings.same:
        dots = "ignored" if same.without_dots else "significant"
        output.line(f"{same.provider}: tag after {same.tag_after or 'none'}, dots {dots}")
    if view.changing:
        output.say("The list is being rebuilt to new settings.")
    return 0


def unsubscribes(session: Session) -> int:
    """List unsubscriptions. Exit status 3 when one was late, or somebody was mailed after it."""
    arguments = session.arguments
    days, last = days_chosen(arguments)
    found = session.client.addresses.unsubscribes(session.tenant(), days=days, last=last)
    session.output.items(
        arguments.format, found.lines, UnsubscribeLine,
        ("address", "from", "how", "when (UTC)", "took effect after", "mailed after (UTC)"),
        lambda u: (u.address, u.stream or "all mail", u.way, f"{u.asked_at:%Y-%m-%d %H:%M}",
                   f"{u.seconds:,.0f} s" if u.way != "event" else "",
                   f"{u.mailed_after:%Y-%m-%d %H:%M}" if u.mailed_after else ""),
        empty="No unsubscriptions in this period.",
    )  # fmt: skip
    if arguments.format == "text":
        session.output.say(
            f"{plural(found.asked, 'unsubscription')} in {plural(found.days, 'day')}, {found.late} late, "
            f"{found.mailed_after} mailed after."
        )
    return 3 if found.late or found.mailed_after else 0


def unsubscribe_link(session: Session) -> int:
    """Print headers for each recipient."""
    arguments, output = session.arguments, session.output
    made = session.client.addresses.unsubscribe_links(
        session.tenant(), arguments.address, domain=arguments.domain, stream=arguments.stream
    )
    if arguments.format == "text":
        for links in made:
            output.line(f"List-Unsubscribe: {links.list_unsubscribe}")
            output.line(f"List-Unsubscribe-Post: {links.list_unsubscribe_post}")
    else:
        output.items(arguments.format, made, MailLinks, (), lambda _: ())
    return 0
