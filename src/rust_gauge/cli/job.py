"""`rustgauge job`: long-running work: imports, list checks, backtests, batches of audits, recomputed readings."""

from rust_gauge.cli import jobs_wait
from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, number_id
from rust_gauge.cli.session import Session, write_bytes
from rust_gauge.contract.jobs import Job

DEFAULT = "list"
EXAMPLES = ("job list --tenant glasswort", "job list --kind import --format json --tenant thornfield")
_KINDS = ("import", "list_check", "policy_backtest", "recompute", "batch", "rules", "list_cut", "report_files")


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("list", list_jobs, "list jobs of the last 30 days, newest first", TABLE)
    made.add_argument("--kind", choices=_KINDS, help="only jobs of this kind")
    made = noun.add("show", show, "show a job and its result", DOCUMENT)
    made.add_argument("job", type=number_id)
    made.add_argument("--wait", action="store_true", help="wait until it ends")
    made = noun.add("run", run, "start a job, or resume one that was cancelled or failed")
    made.add_argument("job", type=number_id)
    made = noun.add("cancel", cancel, "cancel a job after its current piece; what is done stays")
    made.add_argument("job", type=number_id)
    made = noun.add("download", download, "write a part of a result to a file")
    made.add_argument("job", type=number_id)
    made.add_argument("part", choices=("rejected", "clear", "held", "doubtful"), help="the part of the result")
    made.add_argument("file")


def list_jobs(session: Session) -> int:
    """List jobs."""
    session.output.items(
        session.arguments.format, session.client.jobs.list(session.tenant(), kind=session.arguments.kind), Job,
        ("job", "kind", "name", "state", "done", "total", "created (UTC)", "by"),
        lambda j: (j.id, j.kind.replace("_", " "), j.name, (j.state, "fault" if j.state == "failed" else "dim"), j.done,
                   j.total, f"{j.created_at:%Y-%m-%d %H:%M}", j.created_by),
        right=(0, 4, 5), empty="No jobs in the last 30 days.",
    )  # fmt: skip
    return 0


def show(session: Session) -> int:
    """Show a job. Exit status 3 when it failed."""
    arguments, output = session.arguments, session.output
    job = session.client.jobs.get(session.tenant(), arguments.job)
    if arguments.wait:
        job = jobs_wait.wait(session, job, job.name or job.kind, cancel=False)

    def text() -> None:
        output.line(f"job {job.id}: {job.kind.replace('_', ' ')} {job.name}  {output.paint(job.state, 'bold')}")
        output.line(f"{job.done:,} of {job.total:,}; created {job.created_at:%Y-%m-%d %H:%M} UTC by {job.created_by}")
        if job.error:
            output.line(output.paint(job.error, "fault"))
        for name, count in job.result.get("counts", {}).items():
            output.line(f"  {name.replace('_', ' ')}: {count:,}")
        for part, octets in job.parts.items():
            output.line(f"  rustgauge job download {job.id} {part} FILE  ({octets:,} octets)")

    output.document(arguments.format, job, text)
    return 3 if job.state == "failed" else 0


def run(session: Session) -> int:
    """Start or resume a job, and wait."""
    job = session.client.jobs.get(session.tenant(), session.arguments.job)
    done = jobs_wait.run(session, job, job.name or job.kind)
    session.output.say(f"Job {done.id} is done.")
    return 0


def cancel(session: Session) -> int:
    """Cancel a job."""
    job = session.client.jobs.cancel(session.tenant(), session.arguments.job)
    session.output.say(f"Job {job.id} is {job.state}; {job.done:,} of {job.total:,} done.")
    return 0


def download(session: Session) -> int:
    """Write a part of a result to a file."""
    arguments, tenant = session.arguments, session.tenant()
    job = session.client.jobs.get(tenant, arguments.job)
    if arguments.part not in job.parts:
        raise UsageError(f"job {job.id} has no {arguments.part} rows; it has: {', '.join(job.parts) or 'none'}")
    write_bytes(arguments.file, session.client.jobs.part(tenant, job.id, arguments.part))
    session.output.say(f"{arguments.file}: the {arguments.part} rows.")
    return 0
