"""`rustgauge import`, `list-check`, `policy`, `check`, `growth`, `unsubscribes`, `unsubscribe-link`, `gates`."""

import json
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.output import percent
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.checks import NewGate
from rust_gauge.contract.jobs import FileLayout, ImportRequest, Job, ListCheckRequest
from rust_gauge.contract.suppression import PolicyRule, RehearsalRequest, SuppressionPolicy

_PIECE = 1024 * 1024  # octets in one request: small enough to repeat after a broken connection
_SAID = {
    "new": "new", "standing": "stood already", "repeated": "twice in the file", "changed": "changed",
    "came_back": "held again", "stayed_clear": "lifted before, stay clear", "refused": "cannot be used",
}  # fmt: skip


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("import", import_list, "put a list on the suppression list: CSV, NDJSON or an address a line")
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
    made.add_argument("--resume", type=positive, metavar="JOB", help="go on with an import that was stopped")
    made = commands.add(
        "list-check", list_check, "a list before a campaign: what would be held, and why", commands.tables
    )
    made.add_argument("file")
    made.add_argument("--stream", help="for mail of this stream")
    made.add_argument("--column", action="append", default=[], metavar="FIELD=COLUMN", help="such as address=E-Mail")
    made.add_argument("--only-list", action="store_true", help="ask the suppression list alone, check no address")
    for part in ("clear", "held", "doubtful"):
        made.add_argument(f"--{part}-to", metavar="FILE", help=f"where the {part} rows go")
    made = commands.add("check", check, "look at addresses: form, domain, kind, our own history", commands.tables)
    made.add_argument("address", nargs="+")
    made.add_argument("--probe", action="store_true", help="ask the mail host, if the settings allow it")
    made = commands.add(
        "growth", growth, "how the suppression list grew in ninety days, and what it spared", commands.tables
    )
    made.add_argument("--by", choices=("reason", "provider", "stream"), default="reason")
    made = commands.add("policy", policy, "what events make of an address's status", commands.tables)
    made.add_argument(
        "--rehearse", metavar="FILE", help="try this policy (JSON) on the past, beside the one that holds"
    )
    made.add_argument("--days", type=positive, default=180, help="with --rehearse: how far back (180)")
    made.add_argument("--keep", metavar="FILE", help="have this policy from now on")
    made.add_argument("--shipped", action="store_true", help="go back to the shipped policy")
    made = commands.add(
        "unsubscribes", unsubscribes, "who wanted no more, and whether it was honoured in time", commands.tables
    )
    made.add_argument("--days", type=positive, default=30, help="today and the days before (30)")
    made = commands.add("unsubscribe-link", unsubscribe_link, "List-Unsubscribe headers for a message")
    made.add_argument("address", nargs="+")
    made.add_argument("--domain", required=True, help="the sending domain")
    made.add_argument("--stream", help="the stream; without it the link stops all mail")
    made = commands.add("gates", gates, "ways in for MTAs that ask about recipients", commands.tables)
    made.add_argument("--open", metavar="NAME", help="open one for this MTA")
    made.add_argument("--stream", help="with --open: the stream of its mail")
    made.add_argument("--relay", help="with --open: the relay that it is")
    made.add_argument("--close", metavar="NAME", help="close it")


def import_list(session: Session) -> int:
    """Exit status 3 when rows were refused. Ctrl-C stops it; `--resume` goes on."""
    arguments, tenant = session.arguments, session.tenant()
    jobs = session.client.jobs
    if arguments.resume:
        job = jobs.get(tenant, arguments.resume)
    else:
        if not arguments.file:
            raise UsageError("Name a file, or a job to go on with --resume")
        columns = dict(_pair(text) for text in arguments.column)
        request = ImportRequest(
            name=Path(arguments.file).name, reason=arguments.reason, standing=arguments.standing,
            lifted="hold_again" if arguments.hold_lifted_again else "stay_clear", note=arguments.note or "",
            layout=FileLayout(form=arguments.form or "", encoding=arguments.encoding or "", columns=columns),
            reach="stream" if arguments.stream else "tenant", reach_name=arguments.stream or "",
        )  # fmt: skip
        job = _sent(session, jobs.start_import(tenant, request), arguments.file)
    job = _run(session, job, "Importing", dry=arguments.dry)
    counts = job.result.get("counts", {})
    said = ", ".join(f"{counts[name]:,} {text}" for name, text in _SAID.items() if counts.get(name))
    layout = job.result.get("layout", {})
    session.output.say(f"{'It would be' if job.result.get('dry') else 'Import'} {job.id}: {said or 'nothing'}.")
    found = ", ".join(f"{name} from {column}" for name, column in layout.get("columns", {}).items())
    session.output.say(
        f"Read as {layout.get('form', '?')}, {layout.get('encoding', '?')}{', ' + found if found else ''}."
    )
    if counts.get("refused") and arguments.refused_to:
        _save(session, job, "refused", arguments.refused_to)
    return 3 if counts.get("refused") else 0


def _pair(text: str) -> tuple[Any, str]:
    name, equals, column = text.partition("=")
    if not equals:
        raise UsageError(f"{text} is no FIELD=COLUMN, such as address=E-Mail")
    return name, column


def _sent(session: Session, job: Job, file: str) -> Job:
    """Hand in a file by pieces."""
    path = Path(file)
    try:
        progress = Progress("Sending", path.stat().st_size)
        with path.open("rb") as stream:
            for number, piece in enumerate(_pieces(stream)):
                session.client.jobs.send(session.tenant(), job.id, number, piece)
                progress.advance(len(piece))
        progress.close()
    except OSError as error:
        raise UsageError(f"{file} cannot be read: {error.strerror}") from None
    return job


def _pieces(stream: Any) -> Iterator[bytes]:
    while piece := stream.read(_PIECE):
        yield piece


def _run(session: Session, job: Job, what: str, *, dry: bool = False) -> Job:
    """Begin and wait. Ctrl-C stops the job after the piece under way."""
    jobs, tenant = session.client.jobs, session.tenant()
    if job.state in ("collecting", "stopped", "failed", "done"):
        job = jobs.run(tenant, job.id, dry=dry)
    progress = Progress(what, 0)
    try:
        while job.state in ("waiting", "running"):
            time.sleep(0.3)
            job = jobs.get(tenant, job.id)
            progress.total = job.total
            progress.advance(job.done - progress.done)
    except KeyboardInterrupt:
        jobs.stop(tenant, job.id)
        progress.close()
        raise UsageError(f"Stopped. What is done stays; go on with --resume {job.id}") from None
    progress.close()
    if job.state != "done":
        raise UsageError(f"Job {job.id} is {job.state}: {job.error or f'go on with --resume {job.id}'}")
    return job


def _save(session: Session, job: Job, part: str, path: str) -> None:
    try:
        with Path(path).open("wb") as file:
            for piece in session.client.jobs.part(session.tenant(), job.id, part):
                file.write(piece)
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror}") from None
    session.output.say(f"{path}: the {part} rows.")


def list_check(session: Session) -> int:
    """Exit status 3 when rows would be held."""
    arguments, tenant = session.arguments, session.tenant()
    request = ListCheckRequest(
        name=Path(arguments.file).name, stream=arguments.stream, check_addresses=not arguments.only_list,
        layout=FileLayout(columns=dict(_pair(text) for text in arguments.column)),
    )  # fmt: skip
    job = _run(
        session, _sent(session, session.client.jobs.start_list_check(tenant, request), arguments.file), "Checking"
    )
    found = job.result
    counts = found.get("counts", {})
    rows = [
        (name, n.get("rows", 0), n.get("held", 0), n.get("doubtful", 0), n.get("would_bounce", 0),
         percent(n.get("would_bounce", 0) / n["rows"]) if n.get("rows") else "")
        for name, n in sorted(found.get("by_provider", {}).items(), key=lambda pair: -pair[1].get("rows", 0))
    ]  # fmt: skip
    columns = ("provider", "rows", "held", "doubtful", "would bounce", "rate")
    session.output.table(arguments.format, columns, rows, right=(1, 2, 3, 4, 5))
    if arguments.format == "text":
        total = counts.get("rows", 0)
        session.output.say(
            f"Of {total:,} rows {counts.get('held', 0):,} would be held, {counts.get('doubtful', 0):,} are doubtful, "
            f"{counts.get('clear', 0):,} are clear."
        )
        why = {**found.get("why", {}), **found.get("doubts", {})}
        for word, n in sorted(why.items(), key=lambda pair: -pair[1]):
            session.output.say(f"  {word.replace('_', ' ')}: {n:,}")
    for part, path in (("clear", arguments.clear_to), ("held", arguments.held_to), ("doubtful", arguments.doubtful_to)):
        if path and counts.get(part):
            _save(session, job, part, path)
    return 3 if counts.get("held") else 0


def check(session: Session) -> int:
    """Exit status 3 when an address is bad."""
    arguments = session.arguments
    found = session.client.addresses.check(session.tenant(), arguments.address, probe=arguments.probe)
    rows = [
        (check.address, (check.verdict, {"good": "clear", "bad": "held"}.get(check.verdict, check.verdict)),
         (f"meant {check.suggestion}? " if check.suggestion else "") + "; ".join(f.says for f in check.found))
        for check in found
    ]  # fmt: skip
    session.output.table(arguments.format, ("address", "verdict", "because"), rows)
    return 3 if any(check.verdict == "bad" for check in found) else 0


def growth(session: Session) -> int:
    arguments = session.arguments
    found = session.client.suppression.growth(session.tenant())
    parts = {"reason": found.reasons, "provider": found.providers, "stream": found.streams}[arguments.by]
    rows = [(p.label.replace("_", " "), p.standing, p.came, p.left, p.withheld) for p in parts]
    columns = (arguments.by, "stand", "came", "left", "withheld")
    session.output.table(arguments.format, columns, rows, right=(1, 2, 3, 4))
    saved = found.saved
    if arguments.format == "text" and saved.withheld:
        session.output.say(
            f"{saved.withheld:,} messages withheld. Bounces {percent(saved.bounce_rate)}, "
            f"{percent(saved.bounce_rate_without)} had they been sent."
        )
    return 0


def policy(session: Session) -> int:
    arguments, tenant = session.arguments, session.tenant()
    suppression = session.client.suppression
    if arguments.rehearse:
        wanted = _policy_of(arguments.rehearse)
        job = session.client.jobs.start_policy_trial(tenant, RehearsalRequest(policy=wanted, days=arguments.days))
        job = _run(session, job, "Trying")
        lines = [("as tried", job.result["ours"]), ("as it holds", job.result["holding"])]
        lines += [(line["label"] or line["name"], line) for line in job.result["providers"] + job.result["reasons"]]
        rows = [
            (name.replace("_", " "), n["held"], n["wrongly"], f"{n['bounces_spared']} of {n['bounces']}",
             f"{n['complaints_spared']} of {n['complaints']}", n["deliveries_lost"])
            for name, n in lines
        ]  # fmt: skip
        columns = ("what", "held", "wrongly", "bounces spared", "complaints spared", "deliveries lost")
        session.output.table(arguments.format, columns, rows, right=(1, 2, 3, 4, 5))
        return 0
    if arguments.keep:
        suppression.put_policy(tenant, _policy_of(arguments.keep))
    if arguments.shipped:
        suppression.drop_policy(tenant)
    view = suppression.policy(tenant)
    if arguments.format == "json":
        session.output.json(view.policy)
        return 0
    listed: list[tuple[str, ...]] = [
        (
            rule.name, _when(rule), rule.act, rule.reason if rule.act in ("hold", "propose") else "",
            _how_long(rule),
        )
        for rule in view.policy.rules
    ]  # fmt: skip
    session.output.table(arguments.format, ("rule", "when", "act", "reason", "for"), listed)
    return 0


def _policy_of(file: str) -> SuppressionPolicy:
    try:
        return SuppressionPolicy.model_validate(json.loads(Path(file).read_text("utf-8")))
    except OSError as error:
        raise UsageError(f"{file} cannot be read: {error.strerror}") from None
    except (ValueError, ValidationError) as error:
        raise UsageError(f"{file} is no policy: {error}. `rustgauge policy --format json` shows one") from None


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
    return "no end" if rule.for_days is None else f"{rule.for_days:g} days, then {rule.longer:g} times as long"


def unsubscribes(session: Session) -> int:
    """Exit status 3 when one came into force late, or somebody was mailed after."""
    arguments = session.arguments
    found = session.client.addresses.unsubscribes(session.tenant(), days=arguments.days)
    rows = [
        (line.address, line.stream or "all mail", line.way, f"{line.asked_at:%Y-%m-%d %H:%M}",
         f"{line.seconds:,.0f} s" if line.way != "event" else "",
         f"{line.mailed_after:%Y-%m-%d %H:%M}" if line.mailed_after else "")
        for line in found.lines
    ]  # fmt: skip
    columns = ("address", "from", "how", "asked (UTC)", "took", "mailed after")
    session.output.table(arguments.format, columns, rows)
    if arguments.format == "text":
        session.output.say(
            f"{found.asked:,} in {found.days} days, {found.late} late, {found.mailed_after} mailed after."
        )
    return 3 if found.late or found.mailed_after else 0


def unsubscribe_link(session: Session) -> int:
    arguments = session.arguments
    made = session.client.addresses.unsubscribe_links(
        session.tenant(), arguments.address, domain=arguments.domain, stream=arguments.stream or ""
    )
    for mail_links in made:
        session.output.say(f"List-Unsubscribe: {mail_links.list_unsubscribe}")
        session.output.say(f"List-Unsubscribe-Post: {mail_links.list_unsubscribe_post}")
    return 0


def gates(session: Session) -> int:
    arguments, tenant = session.arguments, session.tenant()
    if arguments.open:
        new = NewGate(name=arguments.open, stream=arguments.stream or "", relay=arguments.relay or "")
        made = session.client.addresses.add_gate(tenant, new)
        session.output.say("Put this into smtpd_recipient_restrictions; the key is shown this once:")
        session.output.say(made.line)
        return 0
    if arguments.close:
        found = next((gate for gate in session.client.addresses.gates(tenant) if gate.name == arguments.close), None)
        if found is None:
            raise UsageError(f"There is no gate {arguments.close}")
        session.client.addresses.drop_gate(tenant, found.id)
        return 0
    rows = [
        (gate.name, gate.stream or "any", gate.relay,
         f"{gate.last_used_at:%Y-%m-%d %H:%M}" if gate.last_used_at else "never")
        for gate in session.client.addresses.gates(tenant)
    ]  # fmt: skip
    session.output.table(arguments.format, ("name", "stream", "relay", "last asked (UTC)"), rows)
    return 0
