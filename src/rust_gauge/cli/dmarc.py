"""`rustgauge dmarc`: reports of receivers, who sends as a domain by what they tell, and policies tried on them."""

import argparse
import gzip
import itertools
import os
import tarfile
import zipfile
from collections.abc import Iterator, Sequence
from datetime import date
from pathlib import Path

from rust_gauge.cli import jobs_wait
from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import read_octets
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, days_chosen, number_id, period_options
from rust_gauge.cli.output import plural
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, checked, write_bytes
from rust_gauge.contract.jobs import ReportFilesRequest
from rust_gauge.contract.receiver_reports import (
    PathSettings,
    PolicyPath,
    Receiver,
    Rehearsal,
    RehearsalPolicy,
    RejectedReport,
    ReportDetails,
    ReportedDomain,
    ReportRetention,
    ReportSummary,
    Source,
    SourceClaim,
    SourceDecision,
    SourceDetails,
    SourceMail,
    SourceOverview,
    StoredReport,
    StreamAlignment,
    StreamMail,
    TlsOverview,
)

DEFAULT = "sources"
EXAMPLES = (
    "dmarc marram.example",
    "dmarc source marram.example fenlandnet.example",
    "dmarc rehearse marram.example --p reject",
    "dmarc add reports/ --tenant marram",
)
_MOST_PLAIN = 1024**3  # octets of a report before it is compressed
_LARGE = 8 * 1024 * 1024  # octets; larger files are stored by a job
_PLAIN = 1024 * 1024  # octets; larger ones are compressed on their way
WORDS = {"ours": "ours", "forwarded": "forwarded", "unknown": "unknown", "not_ours": "not ours"}
_COLOURS = {"ours": "sound", "forwarded": "dim", "unknown": "tarnished", "not_ours": "corroded"}
_MARKS: dict[str, SourceDecision] = {
    "not-ours": SourceDecision(verdict="not_ours"),
    "forwarded": SourceDecision(verdict="forwarded"),
    "undecided": SourceDecision(verdict=None),
}


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("sources", sources, "who sends as a domain: ours, forwarded, unknown, not ours", DOCUMENT)
    made.add_argument("domain")
    period_options(made, 30)
    made = noun.add("streams", streams, "which streams are not aligned, where, since when; exit with 3 if one fails",
                    DOCUMENT)  # fmt: skip
    made.add_argument("domain")
    period_options(made, 30)
    made = noun.add("domains", domains, "all domains that receivers report about", TABLE)
    period_options(made, 30)
    made = noun.add("source", source, "one source: addresses, identities, evidence", DOCUMENT)
    _source(made)
    period_options(made, 90)
    made = noun.add("claim", claim, "decide that a source is ours", DOCUMENT)
    _source(made)
    made.add_argument("--relay", default="", help="add its addresses to this relay, new or known")
    made.add_argument("--stream", default="", help="the relay carries this stream of the domain")
    made.add_argument("--note", default="", help="why")
    made = noun.add("mark", mark, "decide that a source is not ours or forwards mail, or take that back", DOCUMENT)
    _source(made)
    made.add_argument("mark", choices=tuple(_MARKS), metavar="MARK", help=", ".join(_MARKS))
    made.add_argument("--note", default="", help="why")
    made = noun.add(
        "rehearse", rehearse, "try a stricter policy on past reports; exit with 3 if our mail is hit", DOCUMENT
    )
    made.add_argument("domain")
    made.add_argument("--p", choices=("none", "quarantine", "reject"), default="reject", help="policy (reject)")
    made.add_argument("--sp", choices=("none", "quarantine", "reject"), default="", help="of subdomains (as --p)")
    made.add_argument("--np", choices=("none", "quarantine", "reject"), default="",
                      help="of subdomains that do not exist (as --sp)")  # fmt: skip
    made.add_argument("--pct", type=int, default=100, metavar="PERCENT", help="of the mail that fails (100)")
    made.add_argument("--testing", action="store_true", help="t=y: one step milder")
    made.add_argument("--aspf", choices=("r", "s"), default="r", help="SPF alignment: relaxed or strict (r)")
    made.add_argument("--adkim", choices=("r", "s"), default="r", help="DKIM alignment: relaxed or strict (r)")
    period_options(made, 30)
    made = noun.add("path", path, "the way to p=reject: stage, conditions, records; exit with 3 if it broke", DOCUMENT)
    made.add_argument("domain")
    made.add_argument("--start", action="store_true", help="watch it from now on")
    made.add_argument("--stop", action="store_true", help="watch it no longer")
    made.add_argument("--stage", choices=("watch", "trial", "quarantine", "reject"),
                      help="put this stage into the record plan: watch, trial, quarantine, reject")  # fmt: skip
    made.add_argument("--aligned-share", type=float, metavar="PERCENT", help="of our mail, for the next stage (98)")
    made.add_argument("--quiet-days", type=int, metavar="COUNT", help="days over which it is measured (14)")
    made.add_argument("--unknown-a-day", type=int, metavar="COUNT",
                      help="messages a day of one unknown source that are let pass (10)")  # fmt: skip
    made.add_argument("--stage-days", type=int, metavar="COUNT", help="shortest time at a stage (14)")
    made = noun.add(
        "tls", tls, "TLS reports: sessions, failures, policies seen; exit with 3 if sessions failed", DOCUMENT
    )
    made.add_argument("domain")
    period_options(made, 30)
    made = noun.add("add", add, "store reports from files and folders; safe to repeat", TABLE)
    made.add_argument(
        "files", nargs="+", metavar="FILE", help="reports, messages that carry them, zip or tar archives, or folders"
    )
    made = noun.add("list", list_reports, "list stored reports, newest first", TABLE)
    made.add_argument("--domain", default="", help="about this domain")
    made.add_argument("--receiver", default="", help="from this receiver")
    made.add_argument("--kind", choices=("aggregate", "failure", "tls"), help="aggregate, failure, tls (all)")
    made.add_argument("--limit", type=int, default=50, metavar="COUNT", help="how many at most (50)")
    _id(noun.add("show", show_report, "one report with its rows", DOCUMENT))
    made = noun.add("original", original, "write a report as it came to a file")
    _id(made)
    made.add_argument("file", help="the file to write")
    made = noun.add("delete", delete, "delete a report with its rows")
    _id(made)
    confirm_option(made)
    noun.add("rejected", rejected, "list reports that could not be read, with the reason", TABLE)
    made = noun.add("replay", replay, "read rejected reports again", DOCUMENT)
    made.add_argument("rejected_id", metavar="REPORT", type=number_id, nargs="?", help="only this one")
    noun.add("receivers", receivers, "who reported in 30 days, how often, and who stopped", TABLE)
    made = noun.add("retention", retention, "show or set how long reports are kept", DOCUMENT)
    made.add_argument("--row-days", type=int, help="reports with their rows")
    made.add_argument("--original-days", type=int, help="reports as they came")


def _source(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("domain")
    parser.add_argument("source", metavar="SOURCE", help="name of the source, from `dmarc sources`")


def _id(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("report_id", metavar="REPORT", type=number_id, help="number of the report, from `dmarc list`")


def sources(session: Session) -> int:
    """Show who sends as a domain. Exit status 3 when an unknown source sends, or mail of ours does not align."""
    arguments = session.arguments
    days, last = days_chosen(arguments)
    found = session.client.reports.overview(session.tenant(arguments.domain), arguments.domain, days=days, last=last)
    session.output.document(arguments.format, found, lambda: _show_overview(session, found))
    bad = any(s.verdict == "unknown" or (s.verdict == "ours" and s.mail.neither) for s in found.sources)
    return 3 if bad else 0


def domains(session: Session) -> int:
    """List domains that receivers report about."""
    days, last = days_chosen(session.arguments)
    session.output.items(
        session.arguments.format, session.client.reports.domains(session.tenant(), days=days, last=last),
        ReportedDomain,
        ("domain", "ours", "aligned", "forwarded", "unknown", "not ours", "unknown sources", "path", "newest day"),
        lambda d: (d.domain, f"{d.ours.messages:,}", _share(d.ours), f"{d.forwarded.messages:,}",
                   f"{d.unknown.messages:,}", f"{d.not_ours.messages:,}", d.unknown_sources, d.path_stage or "-",
                   d.newest_day),
        right=(1, 2, 3, 4, 5, 6), empty="No reports in this period. Store some: rustgauge dmarc add FILE",
    )  # fmt: skip
    return 0


def _show_overview(session: Session, found: SourceOverview) -> None:
    output = session.output
    output.line(f"{found.domain}: {plural(found.reports, 'report')} of {plural(found.receivers, 'receiver')}, "
                f"{found.first} to {found.last}")  # fmt: skip
    if not found.reports:
        output.line("No reports yet. Publish `rua` with the address of a feed of kind reports, or store files:")
        output.line("  rustgauge dmarc add FILE")
        return
    output.line()
    output.table(
        ("whose", "sources", "messages", "aligned", "not aligned", "quarantined", "rejected"),
        ((_verdict(v.verdict), v.sources, f"{v.mail.messages:,}", _share(v.mail), f"{v.mail.neither:,}",
          f"{v.mail.quarantined:,}", f"{v.mail.rejected:,}") for v in found.by_verdict),
        right=(1, 2, 3, 4, 5, 6),
    )  # fmt: skip
    output.line()
    output.table(_SOURCE_COLUMNS, (_source_row(each) for each in found.sources), right=(2, 3, 4, 5))
    if any(each.unexplained for each in found.by_receiver):
        output.line("\nMore mail of ours than our events know:")
        output.table(
            ("receiver", "reported", "delivered by our events"),
            ((r.label, f"{r.reported:,}", f"{r.sent:,}") for r in found.by_receiver if r.unexplained),
            right=(1, 2),
        )
    if found.not_judged:
        output.line(f"\n{_addresses(found.not_judged)} not judged yet; they count as unknown.")
    if found.unknown_names:
        output.line("\nFrom domains below it that nobody added:")
        output.table(
            ("name", "messages", "passed", "last day"),
            ((n.name, f"{n.messages:,}", f"{n.passed:,}", n.last_day) for n in found.unknown_names[:20]),
            right=(1, 2),
        )


_SOURCE_COLUMNS = ("source", "whose", "certainty", "messages", "aligned", "addresses", "last day", "why")


def _source_row(each: Source) -> Sequence[object]:
    why = f"decided by {each.decided_by}" if each.decided_by else each.evidence[0].text if each.evidence else ""
    certainty = "-" if each.verdict == "unknown" else f"{100 * each.certainty:.0f} %"
    return (each.name, _verdict(each.verdict), certainty, f"{each.mail.messages:,}",
            _share(each.mail), each.addresses, each.last_day, why)  # fmt: skip


def _verdict(verdict: str) -> tuple[str, str]:
    return WORDS[verdict], _COLOURS[verdict]


def _share(mail: SourceMail) -> str:
    return f"{100 * (mail.messages - mail.neither) / mail.messages:.1f} %" if mail.messages else "-"


def _addresses(number: int) -> str:
    return f"{number:,} address{'es' if number != 1 else ''}"


def streams(session: Session) -> int:
    """Show which streams are not aligned. Exit status 3 when one fails now, at a receiver or everywhere."""
    arguments = session.arguments
    days, last = days_chosen(arguments)
    found = session.client.reports.streams(session.tenant(arguments.domain), arguments.domain, days=days, last=last)
    session.output.document(arguments.format, found, lambda: _show_streams(session, found))
    failing = any(
        each.failing_since or any(at.failing_since for at in each.not_aligned_at) for each in found.streams
    )  # fmt: skip
    return 3 if failing else 0


def _show_streams(session: Session, found: StreamAlignment) -> None:
    output = session.output
    output.line(f"{found.domain}, {found.first} to {found.last}: our own mail by stream, as receivers reported it\n")
    if not found.streams:
        output.line("No report mentions our own mail in this period.")
        return
    output.table(
        ("stream", "messages", "aligned", "not aligned", "failing since", "over"),
        ((_stream(each), f"{each.mail.messages:,}", _share(each.mail), f"{each.mail.neither:,}",
          _since(each.failing_since, found.first), ", ".join(each.sources[:4])) for each in found.streams),
        right=(1, 2, 3),
    )  # fmt: skip
    for each in found.streams:
        if each.not_aligned_at:
            output.line(f"\n{_stream(each)} is not aligned at:")
            output.table(
                ("receiver", "not aligned", "of", "failing since"),
                ((at.label, f"{at.not_aligned:,}", f"{at.messages:,}", _since(at.failing_since, found.first))
                 for at in each.not_aligned_at[:10]),
                right=(1, 2),
            )  # fmt: skip
        if each.changes:
            output.line("What changed then:")
            for change in each.changes:
                output.line(f"  {change.at:%Y-%m-%d %H:%M} {change.title}")
        broken = [key for key in each.keys if key.messages - key.passed >= 0.2 * key.messages]
        for key in broken:
            planned = "" if key.planned else "; not in the record plan"
            output.line(f"Key {key.domain}/{key.selector}: {key.passed:,} of {key.messages:,} signatures passed, "
                        f"{key.first_day} to {key.last_day}{planned}")  # fmt: skip
    if found.not_reported:
        output.line(f"\nNot in any report: {', '.join(found.not_reported)}")


def _since(day: date | None, first: date) -> str:
    """Return since when something fails; what does on the first day of the period may have failed before."""
    return "-" if day is None else f"{day} or earlier" if day <= first else str(day)


def _stream(each: StreamMail) -> str:
    return " or ".join(each.streams) or "(no stream of the plan)"


def source(session: Session) -> int:
    """Show one source."""
    arguments, output = session.arguments, session.output
    days, last = days_chosen(arguments)
    tenant = session.tenant(arguments.domain)
    found = session.client.reports.source(tenant, arguments.domain, arguments.source, days=days, last=last)
    output.document(arguments.format, found, lambda: _show_source(session, found))
    return 0


def _show_source(session: Session, found: SourceDetails) -> None:
    output = session.output
    _show_decided(session, found)
    if found.failing_since:
        since = _since(found.failing_since, found.by_day[0].day)
        output.line(f"More than a fifth of its mail does not align on each day since {since}.")
        for each in found.changes:
            output.line(f"  {each.at:%Y-%m-%d %H:%M} {each.title}")
    output.line("\nEvidence:")
    output.table(
        ("for", "weight", "what"),
        ((_verdict(e.verdict), f"{e.weight:.2f}", e.text) for e in found.evidence),
        right=(1,),
    )
    output.line("\nIdentities:")
    output.table(
        ("From", "envelope", "SPF", "DKIM", "messages", "receivers", "last day"),
        ((i.header_from, i.envelope_from, f"{i.spf_domain} {i.spf_result}".strip(),
          ", ".join(f"{s.domain}/{s.selector or '?'} {s.result}" for s in i.signatures) or "no signature",
          f"{i.messages:,}", ", ".join(i.receivers[:3]), i.last_day) for i in found.identities[:20]),
        right=(4,),
    )  # fmt: skip
    if found.failures:
        output.line(f"\n{plural(found.failures, 'failure report')} (rustgauge dmarc show REPORT):")
        output.table(
            ("report", "at (UTC)", "receiver", "failed", "From", "subject"),
            ((f.id, f"{f.at:%Y-%m-%d %H:%M}", f.receiver, f.failure, f.header_from, f.subject)
             for f in found.newest_failures),
            right=(0,),
        )  # fmt: skip
    output.line("\nAddresses:")
    output.table(
        ("address", "host", "messages", "aligned", "first day", "last day"),
        ((a.ip, a.host, f"{a.mail.messages:,}", _share(a.mail), a.first_day, a.last_day)
         for a in found.by_address[:20]),
        right=(2, 3),
    )  # fmt: skip


def _show_decided(session: Session, found: Source) -> None:
    certain = "" if found.verdict == "unknown" else f", {100 * found.certainty:.0f} % certain"
    decided = f", decided by {found.decided_by}" if found.decided_by else certain
    session.output.line(
        f"{found.name} sends as {found.domain}: {WORDS[found.verdict]}{decided}; {found.mail.messages:,} messages, "
        f"{_share(found.mail)} aligned, {found.first_day} to {found.last_day}"
    )


def claim(session: Session) -> int:
    """Decide that a source is ours."""
    a, output = session.arguments, session.output
    body = checked(lambda: SourceClaim(relay=a.relay, stream=a.stream, note=a.note))
    found = session.client.reports.claim(session.tenant(a.domain), a.domain, a.source, body)
    output.document(a.format, found, lambda: _show_decided(session, found))
    if a.relay:
        output.say(f"The relay {a.relay} has its addresses. Its records: rustgauge plan show {a.domain}")
    return 0


def mark(session: Session) -> int:
    """Decide whose a source is."""
    a = session.arguments
    body = _MARKS[a.mark].model_copy(update={"note": a.note})
    found = session.client.reports.decide(session.tenant(a.domain), a.domain, a.source, body)
    session.output.document(a.format, found, lambda: _show_decided(session, found))
    return 0


def rehearse(session: Session) -> int:
    """Try a policy on past reports. Exit status 3 when mail of ours would be quarantined or rejected."""
    a, output = session.arguments, session.output
    days, last = days_chosen(a)
    policy = checked(
        lambda: RehearsalPolicy(
            p=a.p, sp=a.sp, np=a.np, pct=a.pct, testing=a.testing, aspf=a.aspf, adkim=a.adkim, days=days, last=last
        )
    )
    found = session.client.reports.rehearse(session.tenant(a.domain), a.domain, policy)
    output.document(a.format, found, lambda: _show_rehearsal(session, found))
    ours = next(group for group in found.groups if group.verdict == "ours")
    return 3 if ours.quarantined + ours.rejected else 0


def _show_rehearsal(session: Session, found: Rehearsal) -> None:
    output = session.output
    output.line(f"{found.domain}, {found.first} to {found.last}: {found.summary}")
    if not found.days_with_reports:
        return
    output.line(f"Quiet for {plural(found.quiet_days, 'day')}; reports of {plural(found.days_with_reports, 'day')}.")
    output.line(f"Record: {found.record}\n" if found.record else f"Record: {_NO_RECORD}\n")
    if found.missing_names:
        output.line(f"Subdomains in From that do not exist: {', '.join(found.missing_names[:10])}")
    if found.names_not_measured:
        names = plural(found.names_not_measured, "subdomain")
        output.line(f"DNS gave no answer for {names}; they count as existing.")
    output.table(
        ("whose", "messages", "aligned", "quarantined", "rejected"),
        ((_verdict(g.verdict), f"{g.messages:,}", f"{g.aligned:,}", f"{g.quarantined:,.0f}", f"{g.rejected:,.0f}")
         for g in found.groups),
        right=(1, 2, 3, 4),
    )  # fmt: skip
    if found.to_fix:
        output.line("\nTo fix first:")
        output.table(
            ("source", "whose", "hit", "of", "last day", "what to do"),
            ((s.source, _verdict(s.verdict), f"{s.quarantined + s.rejected:,.0f}", f"{s.messages:,}", s.last_hit,
              s.remedy) for s in found.to_fix[:20]),
            right=(2, 3),
        )  # fmt: skip
    output.line("\nBy receiver:")
    output.table(
        ("receiver", "messages", "aligned", "quarantined", "rejected", "of ours"),
        ((r.label, f"{r.messages:,}", f"{r.aligned:,}", f"{r.quarantined:,.0f}", f"{r.rejected:,.0f}",
          f"{r.ours_hit:,.0f}") for r in found.receivers[:20]),
        right=(1, 2, 3, 4, 5),
    )  # fmt: skip


def tls(session: Session) -> int:
    """Show sessions by result, receiver and MX. Exit status 3 when some failed."""
    a = session.arguments
    days, last = days_chosen(a)
    found = session.client.reports.tls(session.tenant(a.domain), a.domain, days=days, last=last)
    session.output.document(a.format, found, lambda: _show_tls(session, found))
    return 3 if found.failed else 0


def _show_tls(session: Session, found: TlsOverview) -> None:
    output = session.output
    output.line(f"{found.domain}, {found.first} to {found.last}: {found.successful:,} sessions succeeded, "
                f"{found.failed:,} failed. {found.rehearsal.summary}.")  # fmt: skip
    if found.failures:
        output.line()
        output.table(
            ("result", "sessions", "MX", "receivers", "last day", "what to do"),
            ((f.result, f"{f.sessions:,}", ", ".join(f.mx), ", ".join(f.receivers), f.last_day,
              f"{f.meaning}. {f.remedy}") for f in found.failures),
            right=(1,),
        )  # fmt: skip
    if found.policies:
        output.line("\nPolicies as senders saw them:")
        output.table(
            ("kind", "policy", "receivers", "last day", "published now"),
            ((p.kind, "; ".join(p.text), ", ".join(p.receivers), p.last_day,
              "-" if p.is_current is None else "yes" if p.is_current else "no") for p in found.policies),
        )  # fmt: skip


def path(session: Session) -> int:
    """Show or steer a domain's way to p=reject. Exit status 3 when it broke at its stage."""
    a, output = session.arguments, session.output
    tenant, client = session.tenant(a.domain), session.client.reports
    if a.stop:
        client.stop_path(tenant, a.domain)
        output.say(f"{a.domain} is not watched any longer; its record stays as it is.")
        return 0
    given = {
        "aligned_share": a.aligned_share / 100 if a.aligned_share is not None else None, "quiet_days": a.quiet_days,
        "unknown_a_day": a.unknown_a_day, "stage_days": a.stage_days,
    }  # fmt: skip
    changes = {name: value for name, value in given.items() if value is not None}
    found = client.path(tenant, a.domain)
    if a.start or changes:
        settings = checked(lambda: PathSettings(**{**found.settings.model_dump(), **changes}))
        found = client.set_path(tenant, a.domain, settings)
    if a.stage:
        found = client.choose_stage(tenant, a.domain, a.stage)
        output.say(f"In the record plan now. See and publish it: rustgauge plan show {a.domain}")
    output.document(a.format, found, lambda: _show_path(session, found))
    return 3 if found.broken else 0


_NO_RECORD = "not known, as DNS gave no answer for the record that it would replace"


def _show_path(session: Session, found: PolicyPath) -> None:
    output = session.output
    if found.governed_by:
        output.line(f"{found.summary}. Its path: rustgauge dmarc path {found.governed_by}")
        return
    if not found.stages:
        output.line(f"{found.summary}.")
        return
    output.line(found.summary + ("" if found.running else " (not watched; begin with --start)"))
    if found.broken:
        output.line(f"  {found.broken}")
        output.line(f"  Go back to: {found.return_record}")
    output.line()
    output.table(
        ("stage", "state", "record"),
        ((s.stage, f"since {found.stage_since}" if s.state == "current" and found.stage_since else s.state, s.record)
         for s in found.stages),
    )  # fmt: skip
    if found.conditions:
        output.line(f"\nFor {found.next_stage}:")
        output.table(
            ("condition", "met", "measured", "wanted"),
            ((_CONDITIONS[c.kind], ("yes", "sound") if c.met else ("no", "tarnished"), c.measured, c.wanted)
             for c in found.conditions),
        )  # fmt: skip


_CONDITIONS = {
    "reports": "days with reports", "aligned": "our mail that aligns", "unknown": "unknown sources",
    "days": "time at this stage",
}  # fmt: skip


def add(session: Session) -> int:
    """Store reports. Exit status 3 when some were not read."""
    arguments, output = session.arguments, session.output
    names = list(_files(arguments.files))
    tenant = session.tenant()
    counts: dict[str, int] = {}
    progress = Progress("Storing reports", len(names))

    def stored() -> Iterator[tuple[str, StoredReport]]:
        for name in names:
            if _is_large(name):
                yield from ((name, each) for each in _by_job(session, tenant, name, counts))
            else:
                done = session.client.reports.add(tenant, _packed(read_octets(name, _MOST_PLAIN)))
                counts[done.state] = counts.get(done.state, 0) + 1
                yield name, done
            progress.advance(1, Path(name).name[:40])

    rows = (
        (name, r.state, r.kind or "", r.domain, r.receiver, r.records,
         r.problem or "; ".join(r.oddities) or (f"{r.left_out} records left out" if r.left_out else ""))
        for name, r in stored()
        if len(names) <= 50 or r.state == "rejected" or arguments.format != "text"
    )  # fmt: skip
    try:
        output.rows(
            arguments.format,
            ("file", "state", "kind", "domain", "receiver", "records", "remark"),
            list(rows),
            right=(5,),
        )
    finally:
        progress.close()
    said = ", ".join(f"{n:,} {_STATES[state]}" for state, n in counts.items())
    output.say(f"{plural(len(names), 'file')}: {said}.")
    return 3 if counts.get("rejected") else 0


def _is_large(name: str) -> bool:
    """Return whether a file is stored by a job: an archive of several reports, or a large one."""
    path = Path(name)
    try:
        if path.stat().st_size > _LARGE or tarfile.is_tarfile(path):
            return True
        if zipfile.is_zipfile(path):
            with zipfile.ZipFile(path) as archive:
                return len(archive.infolist()) > 1
    except Exception:  # whatever is wrong with it is said where it is read
        return False
    return False


def _by_job(session: Session, tenant: str, name: str, counts: dict[str, int]) -> Iterator[StoredReport]:
    """Store the reports of a file by a job, with progress; return those that were set aside."""
    request = ReportFilesRequest(name=Path(name).name[:200])
    job = jobs_wait.send_file(session, session.client.jobs.start_report_files(tenant, request), name)
    job = jobs_wait.run(session, job, f"Storing {Path(name).name[:40]}")
    for state, number in job.result["counts"].items():
        counts[state] = counts.get(state, 0) + number
    for each in job.result["problems"]:
        problem = f"{each['file']}: {each['problem']}" if each["file"] else each["problem"]
        yield StoredReport(state="rejected", problem=problem, why=each["why"], remedy=each["remedy"])


_STATES = {
    "stored": "stored", "duplicate": "known already", "not_ours": "about domains that are not yours here",
    "rejected": "set aside (see: rustgauge dmarc rejected)",
}  # fmt: skip


def _files(named: Sequence[str]) -> Iterator[str]:
    for name in named:
        if name != "-" and Path(name).is_dir():
            for folder, inner, files in os.walk(name):
                inner.sort()
                yield from (str(Path(folder, file)) for file in sorted(files) if not file.startswith("."))
        elif name == "-" or Path(name).exists():
            yield name
        else:
            raise UsageError(f"{name} does not exist")


def _packed(octets: bytes) -> bytes:
    """Return a large report compressed; as it is if it is small or compressed already."""
    if len(octets) <= _PLAIN or octets.startswith((b"\x1f\x8b", b"PK")):
        return octets
    return gzip.compress(octets, 6)


def list_reports(session: Session) -> int:
    """List stored reports."""
    a = session.arguments
    found = session.client.reports.list(session.tenant(), domain=a.domain, kind=a.kind, receiver=a.receiver)
    session.output.items(
        a.format, itertools.islice(found, a.limit), ReportSummary,
        ("report", "kind", "from", "about", "begin (UTC)", "end (UTC)", "messages", "passed", "its mail", "remark"),
        lambda r: (r.id, r.kind, r.label, r.domain, f"{r.begins_at:%Y-%m-%d %H:%M}", f"{r.ends_at:%Y-%m-%d %H:%M}",
                   f"{r.messages:,}", f"{r.passed:,}", _AUTHENTIC[r.authentic],
                   "not a domain of yours" if not r.ours else "; ".join(r.oddities)),
        right=(0, 6, 7), empty="No reports yet. Store some: rustgauge dmarc add FILE",
    )  # fmt: skip
    return 0


_AUTHENTIC = {
    "signed": "authentic", "other": "signed by another domain", "unsigned": "not signed", "failed": "signature fails",
    "no_answer": "not checked", "not_mail": "-",
}  # fmt: skip


def show_report(session: Session) -> int:
    """Show a report with its rows."""
    arguments, output = session.arguments, session.output
    found = session.client.reports.get(session.tenant(), arguments.report_id)
    output.document(arguments.format, found, lambda: _show_report(session, found))
    return 0


def _show_report(session: Session, r: ReportDetails) -> None:
    output = session.output
    output.line(f"Report {r.id} ({r.kind}) from {r.label} ({r.receiver}) about {r.domain}")
    output.line(f"{r.begins_at:%Y-%m-%d %H:%M} to {r.ends_at:%Y-%m-%d %H:%M} UTC, arrived {r.arrived_at:%Y-%m-%d}; "
                f"{r.messages:,} messages, {r.passed:,} passed; its mail: {_AUTHENTIC[r.authentic]}")  # fmt: skip
    for text in r.oddities:
        output.line(f"  {text}")
    if r.left_out:
        output.line(f"  {plural(r.left_out, 'record')} could not be read")
    if r.overlaps:
        output.line(f"  overlaps with reports {', '.join(map(str, r.overlaps))} of the same receiver")
    if r.policy is not None:
        tags = "; ".join(f"{name}={value}" for name, value in r.policy.model_dump().items() if value)
        output.line(f"  policy as it found it: {tags or '(not told)'}")
    if r.failure is not None:
        for name, value in r.failure.model_dump().items():
            if value not in ("", False):
                output.line(f"  {name.replace('_', ' ')}: {value}")
    for each in r.tls:
        output.line(f"  {each.kind} {each.domain}: {each.successful:,} sessions succeeded, {each.failed:,} failed")
    if r.rows:
        output.line()
        output.table(
            ("source", "messages", "From", "SPF", "DKIM", "aligned by", "done", "reasons"),
            ((w.source_ip, f"{w.count:,}", w.header_from, f"{w.spf_domain} {w.spf_result}".strip(),
              ", ".join(f"{s.domain}/{s.selector or '?'} {s.result}" for s in w.signatures) or "no signature",
              _aligned(w.spf_aligned, w.dkim_aligned), w.disposition,
              ", ".join(reason.kind for reason in w.reasons)) for w in r.rows),
            right=(1,),
        )  # fmt: skip
    if r.more_rows:
        output.line(f"{r.more_rows:,} more rows")


def _aligned(spf: bool, dkim: bool) -> str:
    return "both" if spf and dkim else "SPF" if spf else "DKIM" if dkim else "neither"


def original(session: Session) -> int:
    """Write a report as it came."""
    arguments = session.arguments
    write_bytes(arguments.file, session.client.reports.original(session.tenant(), arguments.report_id))
    session.output.say(f"Written to {arguments.file}.")
    return 0


def delete(session: Session) -> int:
    """Delete a report."""
    arguments = session.arguments
    if session.confirm(f"Delete report {arguments.report_id} with its rows?"):
        session.client.reports.delete(session.tenant(), arguments.report_id)
        session.output.say("Deleted.")
    return 0


def rejected(session: Session) -> int:
    """List rejected reports. Exit status 3 when there are any."""
    found = list(session.client.reports.rejected(session.tenant()))
    session.output.items(
        session.arguments.format, found, RejectedReport,
        ("report", "arrived (UTC)", "by", "size", "problem", "what to do"),
        lambda r: (r.id, f"{r.arrived_at:%Y-%m-%d %H:%M}", r.arrived_by, f"{r.size:,}",
                   f"{r.problem}: {r.why}" if r.why else r.problem, r.remedy),
        right=(0, 3), empty="No rejected reports.",
    )  # fmt: skip
    return 3 if found else 0


def replay(session: Session) -> int:
    """Read rejected reports again."""
    arguments, output = session.arguments, session.output
    done = session.client.reports.replay(session.tenant(), arguments.rejected_id)
    output.document(
        arguments.format, done,
        lambda: output.line(f"{done.tried} tried: {done.stored} stored, {done.duplicates} known already, "
                            f"{done.rejected} rejected again"),
    )  # fmt: skip
    return 3 if done.rejected else 0


def _every(days: float | None) -> str:
    return "-" if not days else "day" if days == 1 else f"{days:g} days"


def receivers(session: Session) -> int:
    """List receivers. Exit status 3 when one stopped reporting."""
    found = session.client.reports.receivers(session.tenant())
    session.output.items(
        session.arguments.format, found, Receiver,
        ("receiver", "name", "kinds", "reports", "messages", "newest (UTC)", "usually every", "state"),
        lambda r: (r.receiver, r.label, ", ".join(r.kinds), r.reports, f"{r.messages:,}",
                   f"{r.newest_end:%Y-%m-%d %H:%M}", _every(r.usual_days),
                   (f"silent since {r.silent_since:%Y-%m-%d}", "corroded") if r.silent_since else "reports"),
        right=(3, 4), empty="No receiver has reported yet.",
    )  # fmt: skip
    return 3 if any(r.silent_since for r in found) else 0


def retention(session: Session) -> int:
    """Show or set how long reports are kept."""
    arguments, output = session.arguments, session.output
    tenant, client = session.tenant(), session.client.reports
    found = client.retention(tenant)
    given = {"row_days": arguments.row_days, "original_days": arguments.original_days}
    changes = {name: value for name, value in given.items() if value is not None}
    if changes:
        found = client.set_retention(tenant, checked(lambda: ReportRetention(**{**found.model_dump(), **changes})))
    output.document(
        arguments.format, found,
        lambda: output.line(f"Reports with their rows: {found.row_days} days; originals: {found.original_days} days"),
    )  # fmt: skip
    return 0
