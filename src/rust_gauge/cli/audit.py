"""`rustgauge audit`: audits of one or many domains; SPF, messages and aggregate reports checked by themselves.

With `--zone-file`, `--answers` or `--live` no service is needed.
"""

import json
import os
from collections.abc import Sequence
from pathlib import Path

from rust_gauge.cli import jobs_wait, local
from rust_gauge.cli.audit_view import show as show_audit
from rust_gauge.cli.audit_view import show_comparison
from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import read_octets
from rust_gauge.cli.message_view import show_message, show_report, show_spf_check, show_tls_report
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, number_id
from rust_gauge.cli.output import Output, plural
from rust_gauge.cli.session import Session, read_text
from rust_gauge.client import formats
from rust_gauge.contract.audits import Audit, AuditSettings, AuditSummary, BatchResult

DEFAULT = "run"
EXAMPLES = (
    "audit copperline.example",
    "audit run news.glasswort.example --format json",
    "audit check-spf 192.0.2.10 news@news.glasswort.example --tenant glasswort",
)
_MAX_MESSAGE = 40 * 1024 * 1024  # octets, as the service accepts them
_FORMATS = ("text", "json", "ndjson", "csv", "sarif", "junit")


_NO_ANSWER = ("dns-no-answer",)  # says that something could not be measured, which is no result


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("run", run, "audit a domain now, at the service or from zone files", _FORMATS)
    made.add_argument("domain", nargs="*", help="without a service: none means all that the zone files name")
    made.add_argument("--fail-on", choices=("fault", "risk", "note", "never"), default="fault",
                      help="exit with 3 from this level on (fault)")  # fmt: skip
    made.add_argument("--selector", action="append", default=[], help="without a service: a DKIM selector; repeatable")
    made.add_argument("--ip", action="append", default=[], help="without a service: a sending IP; repeatable")
    made.add_argument("--record-to", metavar="FILE", help="without a service: write all DNS answers to this file")
    local.options(made)
    made = noun.add("show", show, "show the newest audit of a domain, or an earlier one", _FORMATS)
    made.add_argument("domain")
    made.add_argument("--id", type=number_id, help="the number of the audit (the newest)")
    made = noun.add("list", list_audits, "list the audits of a domain, newest first", TABLE)
    made.add_argument("domain")
    made = noun.add("compare", compare, "compare two audits of a domain", DOCUMENT)
    made.add_argument("domain")
    made.add_argument("--before", type=number_id, help="the earlier audit (the one before --after)")
    made.add_argument("--after", type=number_id, help="the later audit (the newest)")
    made = noun.add("batch", batch, "audit many domains from a file, one name per line", TABLE)
    made.add_argument("file", help="a file, or - for standard input")
    made.add_argument("--selector", action="append", default=[], help="a DKIM selector to look for; repeatable")
    made.add_argument("--no-wait", action="store_true", help="only start the job")
    made = noun.add("batch-results", batch_results, "show the results of a batch", TABLE)
    made.add_argument("job", type=number_id)
    made = noun.add("check-spf", check_spf, "would a message from this IP pass SPF?", DOCUMENT)
    made.add_argument("ip", help="the sending IP")
    made.add_argument("mail_from", nargs="?", default="", help="the envelope sender; none for bounces")
    made.add_argument("--helo", default="", help="the HELO name")
    made.add_argument("--record", help="try this record instead of the published one")
    local.options(made)
    made = noun.add("check-message", check_message, "check SPF, DKIM and DMARC of a captured message", DOCUMENT)
    made.add_argument("file", help="a file, or - for standard input")
    made.add_argument("--ip", default="", help="the sending IP, for SPF")
    made.add_argument("--helo", default="", help="the HELO name")
    made.add_argument("--mail-from", default="", help="the envelope sender")
    local.options(made)
    made = noun.add("read-report", read_report, "read a DMARC aggregate report or a report on TLS", DOCUMENT)
    made.add_argument("file", help="XML, .xml.gz, .zip or a message; - for standard input")
    made = noun.add("settings", settings, "show the audit settings of a tenant, or set them", DOCUMENT)
    made.add_argument("--set", metavar="FILE", help="set them from a JSON file, as --format json prints them")


def run(session: Session) -> int:
    """Audit now. Exit status 3: there is a finding of the level of --fail-on or worse; 4: nothing could be judged."""
    arguments = session.arguments
    if local.is_local(arguments):
        audits, lines = _local(session)
        return _shown(session, audits, lines, one=len(arguments.domain) == 1)
    if len(arguments.domain) != 1:
        raise UsageError("name one domain; for many see rustgauge audit batch")
    if arguments.record_to:
        raise UsageError("--record-to needs --live, --zone-file or --answers")
    name = arguments.domain[0]
    return _shown(session, [session.client.audits.run(session.tenant(name), name)], {}, one=True)


def show(session: Session) -> int:
    """Show an audit that was made."""
    arguments = session.arguments
    arguments.fail_on = "fault"
    tenant, client = session.tenant(arguments.domain), session.client.audits
    found = client.get(tenant, arguments.domain, arguments.id) if arguments.id else client.newest(
        tenant, arguments.domain)  # fmt: skip
    return _shown(session, [found], {}, one=True)


def _shown(session: Session, audits: Sequence[Audit], lines: formats.Lines, *, one: bool) -> int:
    arguments, output = session.arguments, session.output
    form = arguments.format
    if form == "json":  # one document for one domain, a list for several
        output.json(audits[0] if one else list(audits))
    elif form == "ndjson":
        for audit in audits:
            output.ndjson(audit)
    else:
        _write(output, form, audits, lines, arguments.fail_on)
    return status_of(audits, arguments.fail_on)


def _local(session: Session) -> tuple[list[Audit], formats.Lines]:
    arguments = session.arguments
    source = local.source(arguments)
    for name in arguments.domain if source.zones else ():
        wanted = f".{_a_labels(name)}"
        if not any(wanted.endswith(f".{zone}") for zone in source.zones):
            raise UsageError(f"{name} is in none of the given zones: {', '.join(source.zones[:10])}")
    try:
        done = local.audit_locally(source, arguments.domain, arguments.selector, arguments.ip)
    finally:
        source.close()
    if arguments.record_to:
        answers: list[object] = []
        about: dict[str, object] = {}
        for judged in done:
            answers += judged.answers
            about[judged.audit.domain] = judged.selectors
        document = {"format": done[0].format, "about": about, "answers": answers}
        Path(arguments.record_to).write_text(json.dumps(document, indent=1, ensure_ascii=False) + "\n", "utf-8")
        session.output.say(f"{len(answers):,} answers were written to {arguments.record_to}")
    here = os.getcwd()
    texts: dict[str, list[str]] = {}
    lines = {}
    for key, (file, line) in source.lines.items():
        if file not in texts:
            texts[file] = Path(file).read_text("utf-8", "replace").splitlines()
        text = texts[file][line - 1] if line <= len(texts[file]) else ""
        lines[key] = (os.path.relpath(file, here), line, text)
    return [judged.audit for judged in done], lines


def _a_labels(name: str) -> str:
    """Return a name as zones hold it; as it is if it is not a domain name, which the audit itself reports."""
    import idna  # it is large, and only audits of given zones need it

    try:
        return idna.encode(name.rstrip("."), uts46=True).decode("ascii")
    except idna.IDNAError:
        return name.rstrip(".").lower()


def status_of(audits: Sequence[Audit], fail_on: str) -> int:
    """Return 3 for a finding of this level or worse, 4 if nothing could be judged about a domain, otherwise 0."""
    if fail_on == "never":
        return 0
    limit = formats.RANK[fail_on]
    if any(formats.RANK[f.level] <= limit for audit in audits for f in audit.findings if f.rule not in _NO_ANSWER):
        return 3
    return 0 if all(_judged(audit) for audit in audits) else 4


def _judged(audit: Audit) -> bool:
    """Return whether any question about the domain had an answer."""
    measured = any(check.state not in ("unmeasured", "absent") for check in audit.checks)
    return measured or any(finding.rule not in _NO_ANSWER for finding in audit.findings)


def _write(output: Output, form: str, audits: Sequence[Audit], lines: formats.Lines, fail_on: str) -> None:
    if form == "sarif":
        output.line(formats.sarif(audits, lines))
    elif form == "junit":
        output.line(formats.junit(audits, fail_on))
    elif form == "csv":
        output.rows("csv", formats.COLUMNS, formats.rows(audits))
    else:
        for index, audit in enumerate(audits):
            if index:
                output.line()
            show_audit(output, audit)


def list_audits(session: Session) -> int:
    """List the audits of a domain."""
    name = session.arguments.domain
    session.output.items(
        session.arguments.format, session.client.audits.list(session.tenant(name), name), AuditSummary,
        ("audit", "finished (UTC)", "faults", "risks", "notes", "SPF lookups"),
        lambda a: (a.id, f"{a.finished_at:%Y-%m-%d %H:%M}", a.faults, a.risks, a.notes, a.spf_lookups),
        right=(0, 2, 3, 4, 5), empty=f"Not audited yet: rustgauge audit {name}",
    )  # fmt: skip
    return 0


def compare(session: Session) -> int:
    """Compare two audits. Exit status 3 when a finding appeared."""
    arguments, output = session.arguments, session.output
    name = arguments.domain
    done = session.client.audits.compare(session.tenant(name), name, before=arguments.before, after=arguments.after)
    output.document(arguments.format, done, lambda: show_comparison(output, name, done))
    return 3 if done.appeared else 0


def batch(session: Session) -> int:
    """Audit many domains as a job. Exit status 3 when one has a fault."""
    arguments, tenant = session.arguments, session.tenant()
    text = read_text(arguments.file)
    names = [line.split("#")[0].split(",")[0].strip() for line in text.splitlines()]
    found = [name for name in names if name]
    if not found:
        raise UsageError(f"{arguments.file} names no domains; write one name per line")
    job = session.client.audits.start_batch(tenant, found, arguments.selector)
    if arguments.no_wait:
        session.output.say(f"Started job {job.id}. See: rustgauge audit batch-results {job.id}")
        return 0
    job = jobs_wait.wait(session, job, "Auditing", cancel=False)
    if job.state != "done":
        session.output.say(f"Job {job.id} is {job.state} after {job.done:,} of {job.total:,}. {job.error}")
    return _batch_results(session, tenant, job.id)


def batch_results(session: Session) -> int:
    """Show the results of a batch, as far as it is. Exit status 3 when a domain has a fault."""
    return _batch_results(session, session.tenant(), session.arguments.job)


def _batch_results(session: Session, tenant: str, id: int) -> int:
    found = list(session.client.audits.batch_results(tenant, id))
    session.output.items(
        session.arguments.format, found, BatchResult, ("domain", "audit", "first finding"), _result_row
    )
    if session.arguments.format == "text":
        whys: dict[str, int] = {}
        for reason in (reason for result in found for reason in result.not_checked):
            whys[reason] = whys.get(reason, 0) + 1
        for reason, count in sorted(whys.items(), key=lambda pair: -pair[1])[:10]:
            session.output.say(f"Not checked for {plural(count, 'domain')}: {reason}")
    return 3 if any(result.faults for result in found) else 0


def _result_row(result: BatchResult) -> tuple[object, ...]:
    level = "fault" if result.faults else "risk" if result.risks else "sound"
    counts = f"{plural(result.faults, 'fault')}, {plural(result.risks, 'risk')}"
    first = result.problem or (result.findings[0].title if result.findings else "")
    return result.name, ("not audited" if result.problem else counts, level), first


def check_spf(session: Session) -> int:
    """Evaluate SPF. Exit status 3 when MAIL FROM does not pass."""
    arguments = session.arguments
    named = {"mail_from": arguments.mail_from, "helo": arguments.helo, "record": arguments.record}
    if local.is_local(arguments):
        source = local.source(arguments)
        try:
            done = local.check_spf(source, arguments.ip, **named)
        finally:
            source.close()
    else:
        done = session.client.audits.check_spf(session.tenant(), arguments.ip, **named)
    session.output.document(arguments.format, done, lambda: show_spf_check(session.output, done))
    return 0 if done.mail_from.result == "pass" else 3


def check_message(session: Session) -> int:
    """Check a message. Exit status 3 when DMARC does not pass."""
    arguments = session.arguments
    raw = local.read_message(read_octets(arguments.file, _MAX_MESSAGE))
    named = {"ip": arguments.ip, "helo": arguments.helo, "mail_from": arguments.mail_from}
    if local.is_local(arguments):
        source = local.source(arguments)
        try:
            done = local.check_message(source, raw, **named)
        finally:
            source.close()
    else:
        done = session.client.audits.check_message(session.tenant(), raw, **named)
    session.output.document(arguments.format, done, lambda: show_message(session.output, done))
    return 0 if done.dmarc and done.dmarc[0].result == "pass" else 3


def read_report(session: Session) -> int:
    """Read a report of a receiver. Exit status 3 when some of the mail did not align, or some sessions failed."""
    arguments = session.arguments
    done = session.client.audits.read_feedback_report(session.tenant(), read_octets(arguments.file, _MAX_MESSAGE))
    if done.kind == "tls":
        session.output.document(arguments.format, done, lambda: show_tls_report(session.output, done))
        return 3 if done.failed else 0
    session.output.document(arguments.format, done, lambda: show_report(session.output, done))
    return 0 if done.aligned == done.messages else 3


def settings(session: Session) -> int:
    """Show or set which blocklists and checks audits use."""
    from rust_gauge.cli.session import read_model

    arguments, tenant, output = session.arguments, session.tenant(), session.output
    client = session.client.audits
    if arguments.set:
        wanted = read_model(arguments.set, AuditSettings, "rustgauge audit settings --format json")
        client.set_settings(tenant, wanted)
        output.say("Saved.")
    found = client.settings(tenant)

    def text() -> None:
        rows = [(each.label, each.zone, each.kind) for each in found.lists]
        output.table(("blocklist", "zone", "kind"), rows)

    output.document(arguments.format, found, text)
    return 0
