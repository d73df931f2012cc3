"""`rustgauge audit-log`: who did what, and whether the log is complete."""

import itertools
import json
from datetime import UTC, datetime, time, timedelta

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, period_chosen, period_options, positive
from rust_gauge.cli.session import Session
from rust_gauge.contract.people import AuditEntry

DEFAULT = "list"
EXAMPLES = (
    "audit-log list --tenant glasswort",
    "audit-log list --whole-installation --action sign_in_failed --days 7",
    "audit-log check",
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("list", list_entries, "list who did what, the newest first", TABLE)
    made.add_argument("--whole-installation", action="store_true", help="all tenants and what is of none (owners)")
    made.add_argument("--account", default="", help="only by this account")
    made.add_argument("--action", default="", help="only this action, such as set_suppression_policy")
    made.add_argument(
        "--text", default="", help="only entries with this in subject or state; an address finds its digest"
    )
    made.add_argument("--limit", type=positive, default=200, help="the number of entries (200)")
    period_options(made, 30)
    noun.add("check", check, "check that no entry was changed, removed or inserted (owners)", DOCUMENT)


def list_entries(session: Session) -> int:
    """List entries."""
    arguments = session.arguments
    first, last = period_chosen(arguments)
    chosen = {
        "account": arguments.account, "action": arguments.action, "text": arguments.text,
        "since": datetime.combine(first, time(), UTC), "until": datetime.combine(last, time(), UTC) + timedelta(days=1),
    }  # fmt: skip
    if arguments.whole_installation:
        found = session.client.installation.audit_log(**chosen)
    else:
        found = session.client.people.audit_log(session.tenant(), **chosen)
    session.output.items(
        arguments.format, list(itertools.islice(found, arguments.limit)), AuditEntry,
        ("entry", "time (UTC)", "tenant", "by", "from", "action", "what", "before", "after"),
        lambda e: (e.id, f"{e.at:%Y-%m-%d %H:%M:%S}", e.tenant, _who(e),
                   e.address, e.action, e.subject, _short(e.before), _short(e.after)),
        right=(0,), empty="No entries in this period.",
    )  # fmt: skip
    return 0


def _who(entry: AuditEntry) -> str:
    return f"{entry.account} (token {entry.token})" if entry.token else entry.account


def _short(state: object) -> str:
    text = "" if state is None else json.dumps(state, ensure_ascii=False)
    return text if len(text) <= 60 else text[:57] + "..."


def check(session: Session) -> int:
    """Check the chain."""
    found = session.client.installation.check_audit_log()
    state = f"{found.entries:,} entries, complete and unchanged" if found.intact else f"Not intact: {found.problem}"
    session.output.document(session.arguments.format, found, lambda: session.output.line(state))
    return 0 if found.intact else 3
