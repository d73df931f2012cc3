"""`rustgauge alert`: who is notified of items, how soon, and what was sent."""

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun
from rust_gauge.cli.session import Session, read_model
from rust_gauge.contract.worklist import AlertSettings, Notification

DEFAULT = "settings"
EXAMPLES = (
    "alert settings --tenant glasswort",
    "alert settings --tenant glasswort --format json",
    "alert notifications --tenant glasswort",
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("settings", settings, "show alert settings and channels, or set them", DOCUMENT)
    made.add_argument("--set", metavar="FILE", help="set them from a JSON file, as --format json prints them")
    made = noun.add("test", test, "send a test to a channel", DOCUMENT)
    made.add_argument("channel")
    noun.add("notifications", notifications, "list the newest notifications", TABLE)


def settings(session: Session) -> int:
    """Show or set alert settings."""
    arguments, tenant, output = session.arguments, session.tenant(), session.output
    client = session.client.worklist
    if arguments.set:
        client.set_settings(tenant, read_model(arguments.set, AlertSettings, "rustgauge alert settings --format json"))
        output.say("Saved.")
    found = client.settings(tenant)

    def text() -> None:
        repeat = f"every {found.repeat_hours:g} h until acknowledged" if found.repeat_hours else "once"
        output.line(f"First notification: after {found.wait_minutes:g} min; repeated: {repeat}")
        output.line(f"Resolved automatically: after {found.resolve_hours:g} h without the problem")
        output.line(f"Confidence needed to report a crossed line: {found.confidence * 100:.0f} %")
        output.line(f"Stop automatically at a stop line: {'yes' if found.auto_pause else 'no'}")
        every = {"week": "every Monday", "month": "on the 1st of each month"}.get(found.report_every, "not scheduled")
        output.line(f"Report: {every}; recipients: {', '.join(found.report_to) or 'none'}")
        output.line()
        rows = [
            (c.name, c.kind, c.min_level, ", ".join(c.to) or c.url,
             f"{c.quiet_from} to {c.quiet_to}" if c.quiet_from else "")
            for c in found.channels
        ]  # fmt: skip
        if rows:
            output.table(("channel", "kind", "from level", "to", "quiet hours (UTC)"), rows)
        else:
            output.line("No alert channels yet. Items still appear on the worklist.")

    output.document(arguments.format, found, text)
    return 0


def test(session: Session) -> int:
    """Send a test to a channel now. Exit status 3 when it was not taken."""
    arguments, output = session.arguments, session.output
    found = session.client.worklist.test_channel(session.tenant(), arguments.channel)
    said = f": {found.response}" if found.response else ""
    output.document(
        arguments.format, found,
        lambda: output.line(f"{found.channel} {'took' if found.taken else 'did not take'} the test{said}"),
    )  # fmt: skip
    return 0 if found.taken else 3


def notifications(session: Session) -> int:
    """List notifications, newest first."""
    session.output.items(
        session.arguments.format, session.client.worklist.notifications(session.tenant()), Notification,
        ("created (UTC)", "channel", "state", "attempts", "what", "title", "response"),
        lambda n: (f"{n.made_at:%Y-%m-%d %H:%M}", n.channel, "given up" if n.state == "dead" else n.state, n.attempts,
                   n.what, n.title, n.response),
        right=(3,), empty="No notifications yet.",
    )  # fmt: skip
    return 0
