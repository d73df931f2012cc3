"""`rustgauge address`: check addresses before they are mailed, with own checks and with outside verifiers."""

import argparse
from itertools import islice

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import read_addresses
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, positive
from rust_gauge.cli.output import Output, percent
from rust_gauge.cli.session import Session, checked, read_json, read_model, read_secret, read_text
from rust_gauge.contract.checks import AddressCheck, AddressWords
from rust_gauge.contract.verification import (
    Disagreement,
    GaugeDay,
    NewRecipient,
    NewRecipientSource,
    NewVerifier,
    RecipientSource,
    VerificationSettings,
    Verifier,
    VerifierChange,
    VerifierDryRun,
)

DEFAULT = "check"
EXAMPLES = (
    "address check kim@tidpost.example sales@kestrelbox.example --tenant glasswort",
    "address verify kim@tidepost.example --tenant glasswort",
    "address verifiers --tenant glasswort",
    "address gauge --tenant glasswort",
)
_COLOURS = {"good": "clear", "bad": "held", "doubtful": "risk"}
_BATCH = 200  # addresses in one request to verify
_VERDICTS = ("good", "doubtful", "bad", "unknown")


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("check", check, "check addresses: syntax, domain, kind, your own history", TABLE)
    made.add_argument("address", nargs="+")
    made.add_argument("--probe", action="store_true", help="ask the mail host by SMTP, if the settings allow it")
    made = noun.add("settings", settings, "show the settings of address checks, or set them", DOCUMENT)
    made.add_argument("--set", metavar="FILE", help="set them from a JSON file, as --format json prints them")
    made = noun.add(
        "verify", verify, "check addresses, and ask verifiers about addresses without a verdict (costs money)", TABLE
    )
    made.add_argument("address", nargs="*")
    made.add_argument("--file", help="a file with one address per line; - for standard input")
    made.add_argument("--probe", action="store_true", help="ask the mail host by SMTP first, if the settings allow it")
    noun.add("verifiers", verifiers, "list verifiers in their order of preference, with their records", TABLE)
    _verifier(noun.add("show-verifier", show_verifier, "show a verifier", DOCUMENT))
    made = noun.add("add-verifier", add_verifier, "add a verifier from a JSON file", DOCUMENT)
    made.add_argument("file", help="JSON as show-verifier --format json prints it, with a name; - for standard input")
    made.add_argument("--secret-file", metavar="FILE", help="its key is in this file; - for standard input")
    made = noun.add("update-verifier", update_verifier, "change a verifier; what is not given stays", DOCUMENT)
    _verifier(made)
    made.add_argument("--price", type=float, metavar="AMOUNT", help="of one check")
    made.add_argument("--budget-day", metavar="AMOUNT", help="most to spend on a day, or none")
    made.add_argument("--budget-month", metavar="AMOUNT", help="most to spend in a month, or none")
    made.add_argument("--place", type=positive, metavar="NUMBER", help="place in the order of preference, from 1 on")
    made.add_argument("--on", action=argparse.BooleanOptionalAction, help="ask it, or leave it alone")
    made.add_argument("--secret-file", metavar="FILE", help="its new key is in this file; - for standard input")
    made = noun.add("try-verifier", try_verifier, "ask a verifier about one address, or read an answer", DOCUMENT)
    _verifier(made)
    made.add_argument("address", nargs="?")
    made.add_argument("--answer", metavar="FILE", help="read the answer in this file, and ask nobody")
    made = noun.add("remove-verifier", remove_verifier, "remove a verifier with its verdicts")
    _verifier(made)
    confirm_option(made)
    made = noun.add("verification", verification, "show what holds for all verifiers, or set it", DOCUMENT)
    made.add_argument("--set", metavar="FILE", help="set it from a JSON file, as --format json prints it")
    made = noun.add("gauge", gauge, "how addresses were decided, what that cost and saved", TABLE)
    made.add_argument("--last-days", type=positive, default=30, metavar="COUNT", help="up to today (30)")
    noun.add("disagreements", disagreements, "addresses about which verifiers or the mail contradict each other", TABLE)
    made = noun.add("new", new, "list recipients that came in, newest first", TABLE)
    made.add_argument("--verdict", choices=_VERDICTS)
    made.add_argument("--limit", type=positive, default=100, metavar="COUNT", help="at most so many (100)")
    made = noun.add("take-in", take_in, "hand in recipients that just came in")
    made.add_argument("address", nargs="*")
    made.add_argument("--file", help="a file with one address per line; - for standard input")
    made.add_argument("--source", default="file", help="where they come from, such as signup-form")
    noun.add("sources", sources, "list addresses that forms post new recipients to", TABLE)
    made = noun.add("add-source", add_source, "add an address that a form posts new recipients to", DOCUMENT)
    made.add_argument("name")
    made.add_argument("--path", default="$.email", help="JSONPath of the addresses in what is posted ($.email)")
    made = noun.add("remove-source", remove_source, "remove a source")
    made.add_argument("name")
    confirm_option(made)


def _verifier(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("verifier", metavar="NAME", help="name of the verifier")


def check(session: Session) -> int:
    """Check addresses. Exit status 3 when one is bad."""
    arguments = session.arguments
    found = session.client.addresses.check(session.tenant(), arguments.address, probe=arguments.probe)
    return _checks(session, list(found))


def _checks(session: Session, found: list[AddressCheck]) -> int:
    session.output.items(
        session.arguments.format, found, AddressCheck, ("address", "verdict", "suggestion", "why"),
        lambda c: (c.address, (c.verdict, _COLOURS.get(c.verdict, "dim")), c.suggestion,
                   "; ".join(f.detail for f in c.found)),
    )  # fmt: skip
    return 3 if any(c.verdict == "bad" for c in found) else 0


def settings(session: Session) -> int:
    """Show or set the settings."""
    arguments, tenant, output = session.arguments, session.tenant(), session.output
    client = session.client.addresses
    if arguments.set:
        client.set_words(tenant, read_model(arguments.set, AddressWords, "rustgauge address settings --format json"))
        output.say("Saved.")
    found = client.words(tenant)

    def text() -> None:
        output.line(f"Role addresses: {len(found.roles):,} added, {len(found.people):,} treated as people")
        output.line(f"Disposable domains: {len(found.throw_away):,}; hosts of parked domains: {len(found.parked):,}")
        probes = f"{found.probes_a_minute} a minute at each provider" if found.probe else "off"
        output.line(f"SMTP probes: {probes}")

    output.document(arguments.format, found, text)
    return 0


# Verifiers


def verify(session: Session) -> int:
    """Check addresses with verifiers. Exit status 3 when one is bad."""
    arguments, found = session.arguments, list[AddressCheck]()
    source = read_addresses(arguments.address, arguments.file)
    while batch := list(islice(source, _BATCH)):
        found += session.client.verification.check(session.tenant(), batch, probe=arguments.probe)
    if not found:
        raise UsageError("name addresses, or a file with --file; - is standard input")
    return _checks(session, found)


def verifiers(session: Session) -> int:
    """List verifiers."""
    tenant = session.tenant()
    currency = session.client.verification.settings(tenant).currency
    session.output.items(
        session.arguments.format, session.client.verification.verifiers(tenant), Verifier,
        ("verifier", "on", f"price {currency}", "spent today", "of", "spent this month", "of", "said good, was invalid",
         "said bad, was delivered", "problem"),
        lambda v: (v.name, "on" if v.enabled else "off", f"{v.price:g}", f"{v.spent_today:.2f}", _money(v.budget_day),
                   f"{v.spent_month:.2f}", _money(v.budget_month), *_record(v), v.problem),
        right=(2, 3, 4, 5, 6, 7, 8),
        empty="No verifiers yet. Own checks go on as before. Add one: rustgauge address add-verifier FILE",
    )  # fmt: skip
    return 0


def _money(amount: float | None) -> str:
    return "no limit" if amount is None else f"{amount:.2f}"


def _record(found: Verifier) -> tuple[str, str]:
    """Return the errors of a verifier, with what they are of."""
    lines = {line.verdict: line for line in found.record}
    good, bad = lines["good"], lines["bad"]
    delivered = bad.mailed - bad.invalid
    return (
        f"{good.invalid} of {good.mailed} ({percent(good.share)})" if good.mailed else "no mail yet",
        f"{delivered} of {bad.mailed} ({percent(delivered / bad.mailed)})" if bad.mailed else "no mail yet",
    )


def _show(output: Output, found: Verifier, currency: str) -> None:
    output.line(f"{found.name} ({'on' if found.enabled else 'off'}), number {found.place} in the order")
    output.line(f"asks        {found.request.method} {found.request.url}")
    output.line(f"price       {found.price:g} {currency} a check")
    output.line(f"today       {found.spent_today:.4f} of {_money(found.budget_day)}, {found.asked_today:,} asked, "
                f"{found.failed_today:,} without an answer")  # fmt: skip
    output.line(f"month       {found.spent_month:.4f} of {_money(found.budget_month)}")
    if found.problem:
        output.line(f"problem     {output.paint(found.problem, 'fault')}")
    output.line()
    output.table(
        ("verdict", "given", "mail followed", "was invalid", "share", "95 % interval"),
        [
            (line.verdict, f"{line.given:,}", f"{line.mailed:,}", f"{line.invalid:,}", percent(line.share),
             "" if line.low is None or line.high is None else f"{percent(line.low)} to {percent(line.high)}")
            for line in found.record
        ],
        right=(1, 2, 3, 4),
    )  # fmt: skip


def _write(session: Session, found: Verifier) -> int:
    currency = session.client.verification.settings(session.tenant()).currency
    session.output.document(session.arguments.format, found, lambda: _show(session.output, found, currency))
    return 0


def show_verifier(session: Session) -> int:
    """Show a verifier."""
    return _write(session, session.client.verification.verifier(session.tenant(), session.arguments.verifier))


def add_verifier(session: Session) -> int:
    """Add a verifier."""
    arguments = session.arguments
    document = read_json(arguments.file)
    if not isinstance(document, dict):
        raise UsageError(f"{arguments.file} is not a JSON object")
    document = {name: value for name, value in document.items() if name in NewVerifier.model_fields}
    if arguments.secret_file:
        document["secret"] = read_secret(arguments.secret_file)
    new = checked(lambda: NewVerifier.model_validate(document))
    return _write(session, session.client.verification.add_verifier(session.tenant(), new))


def update_verifier(session: Session) -> int:
    """Change a verifier."""
    arguments = session.arguments
    values: dict[str, object] = {"price": arguments.price, "place": arguments.place, "enabled": arguments.on}
    values = {name: value for name, value in values.items() if value is not None}
    for name in ("budget_day", "budget_month"):
        text = getattr(arguments, name)
        if text is not None:
            values[name] = None if text == "none" else _amount(name, text)
    if arguments.secret_file:
        values["secret"] = read_secret(arguments.secret_file)
    change = checked(lambda: VerifierChange.model_validate(values))
    return _write(session, session.client.verification.update_verifier(session.tenant(), arguments.verifier, change))


def _amount(name: str, text: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise UsageError(f"--{name.replace('_', '-')}: {text!r} is not an amount. Write a number, or none") from None


def try_verifier(session: Session) -> int:
    """Try a verifier. Exit status 3 when its answer cannot be read."""
    arguments, output = session.arguments, session.output
    answer = read_text(arguments.answer) if arguments.answer else ""
    if not answer and not arguments.address:
        raise UsageError("name an address to ask about, or a file with an answer (--answer)")
    trial = checked(lambda: VerifierDryRun(name=arguments.verifier, address=arguments.address or "", answer=answer))
    found = session.client.verification.try_verifier(session.tenant(), trial)

    def text() -> None:
        output.line(f"answer      {found.answer}")
        if found.problem:
            output.line(f"problem     {found.problem}{f' ({found.remedy})' if found.remedy else ''}")
        else:
            output.line(f"verdict     {found.verdict} ({found.word}) {found.detail}".rstrip())

    output.document(arguments.format, found, text)
    return 3 if found.problem else 0


def remove_verifier(session: Session) -> int:
    """Remove a verifier."""
    name = session.arguments.verifier
    if not session.confirm(f"Remove the verifier {name} with all its verdicts? They were paid for."):
        return 3
    session.client.verification.delete_verifier(session.tenant(), name)
    session.output.say(f"Removed {name}.")
    return 0


def verification(session: Session) -> int:
    """Show or set what holds for all verifiers."""
    arguments, tenant, output = session.arguments, session.tenant(), session.output
    client = session.client.verification
    if arguments.set:
        example = "rustgauge address verification --format json"
        client.set_settings(tenant, read_model(arguments.set, VerificationSettings, example))
        output.say("Saved.")
    found = client.settings(tenant)

    def text() -> None:
        output.line(f"currency                  {found.currency}")
        output.line(f"a verdict is used again   for {found.reuse_days} days")
        spent = "new recipients wait" if found.when_spent == "wait" else "own checks answer alone"
        output.line(f"budgets used up           {spent}")
        output.line(f"where one answers unknown {'ask the next' if found.ask_next_if_unknown else 'leave it'}")
        output.line(f"asked of two, to compare  {percent(found.cross_check)} of paid checks")

    output.document(arguments.format, found, text)
    return 0


def gauge(session: Session) -> int:
    """Show what was decided how, spent and saved."""
    arguments = session.arguments
    found = session.client.verification.gauge(session.tenant(), days=arguments.last_days)
    session.output.items(
        arguments.format, found.days, GaugeDay,
        ("day", "own checks", "paid before", "paid", "left open", f"spent {found.currency}", f"saved {found.currency}"),
        lambda d: (d.day, f"{d.own:,}", f"{d.reused:,}", f"{d.paid:,}", f"{d.unpaid:,}", f"{d.spent:.4f}",
                   f"{d.saved:.4f}"),
        right=(1, 2, 3, 4, 5, 6), empty="Nothing was verified in this period.",
    )  # fmt: skip
    if arguments.format == "text" and found.days:
        session.output.say(
            f"{found.first} to {found.last}: {found.own:,} decided by own checks, {found.reused:,} paid for before, "
            f"{found.paid:,} paid, {found.unpaid:,} left open; {found.spent:.4f} {found.currency} spent, "
            f"{found.saved:.4f} saved."
        )
    return 0


def disagreements(session: Session) -> int:
    """List disagreements."""
    session.output.items(
        session.arguments.format, session.client.verification.disagreements(session.tenant()), Disagreement,
        ("address", "what was said, and what became of mail"), lambda d: (d.address, d.text),
        empty="No verdict of the last 180 days is contradicted.",
    )  # fmt: skip
    return 0


# New recipients


def new(session: Session) -> int:
    """List recipients that came in."""
    arguments = session.arguments
    found = session.client.verification.new_recipients(session.tenant(), verdict=arguments.verdict)
    session.output.items(
        arguments.format, islice(found, arguments.limit), NewRecipient,
        ("came (UTC)", "address", "source", "verdict", "why"),
        lambda r: (f"{r.came_at:%Y-%m-%d %H:%M}", r.address, r.source,
                   (r.verdict or "waits", _COLOURS.get(r.verdict or "", "dim")),
                   "" if r.check is None else "; ".join(f.detail for f in r.check.found)),
        empty="Nobody came in yet. See: rustgauge address add-source --help",
    )  # fmt: skip
    return 0


def take_in(session: Session) -> int:
    """Hand in recipients."""
    arguments, accepted, known = session.arguments, 0, 0
    source = read_addresses(arguments.address, arguments.file)
    while batch := list(islice(source, 1000)):
        done = session.client.verification.add_recipients(session.tenant(), batch, source=arguments.source)
        accepted, known = accepted + done.accepted, known + done.known
    if not accepted and not known:
        raise UsageError("name addresses, or a file with --file; - is standard input")
    session.output.say(f"{accepted:,} taken in, {known:,} were waiting already. See: rustgauge address new")
    return 0


def sources(session: Session) -> int:
    """List sources."""
    url = session.arguments.url
    session.output.items(
        session.arguments.format, session.client.verification.sources(session.tenant()), RecipientSource,
        ("source", "post JSON to", "addresses at", "last (UTC)"),
        lambda s: (s.name, f"{url}/api/v1/new-recipients/{s.key}", s.path,
                   f"{s.last_at:%Y-%m-%d %H:%M}" if s.last_at else "never"),
        empty="No sources yet. Add one: rustgauge address add-source NAME",
    )  # fmt: skip
    return 0


def add_source(session: Session) -> int:
    """Add a source."""
    arguments, output = session.arguments, session.output
    made = checked(lambda: NewRecipientSource(name=arguments.name, path=arguments.path))
    found = session.client.verification.add_source(session.tenant(), made)
    output.say("Post from your server, not from the form itself: whoever knows this address can spend your budget.")
    output.document(arguments.format, found, lambda: output.line(f"{arguments.url}/api/v1/new-recipients/{found.key}"))
    return 0


def remove_source(session: Session) -> int:
    """Remove a source."""
    name = session.arguments.name
    if not session.confirm(f"Remove the source {name}? Nothing comes in by its address any more."):
        return 3
    session.client.verification.delete_source(session.tenant(), name)
    session.output.say(f"Removed {name}.")
    return 0
