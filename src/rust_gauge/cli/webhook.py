"""`rustgauge webhook`: signed calls to your own programs when something happens (Standard Webhooks)."""

from rust_gauge.cli.nouns import TABLE, Noun, confirm_option, number_id
from rust_gauge.cli.session import Session
from rust_gauge.contract.webhooks import Webhook, WebhookCall, WebhookChange

DEFAULT = "list"
EXAMPLES = (
    "webhook list --tenant marram",
    "webhook add https://desk.glasswort.example/rust-gauge --subject suppression.changed --tenant glasswort",
    "webhook calls 1 --tenant marram",
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_webhooks, "list webhooks", TABLE)
    made = noun.add("add", add, "add a webhook; prints its secret (shown only once)", ("text", "json"))
    made.add_argument("target", metavar="URL")
    made.add_argument("--name", default="", help="what you call it (the host)")
    made.add_argument("--subject", action="append", default=[], help="only this subject; repeatable")
    made = noun.add("update", update, "change a webhook; what is not given stays")
    made.add_argument("webhook", type=number_id)
    made.add_argument("--target", metavar="URL", help="the address to call")
    made.add_argument("--name", help="what you call it")
    made.add_argument("--subject", action="append", help="only this subject; repeatable, replaces the others")
    for verb, run, help in (
        ("pause", pause, "pause a webhook; its calls wait"),
        ("resume", resume, "resume a paused webhook"),
        ("test", test, "send a test call"),
        ("replay", replay, "retry the calls that were given up"),
    ):
        made = noun.add(verb, run, help)
        made.add_argument("webhook", type=number_id)
    made = noun.add("rotate", rotate, "give a webhook a new secret, which is printed", ("text", "json"))
    made.add_argument("webhook", type=number_id)
    made.add_argument("--overlap-hours", type=int, default=24, help="how long calls are signed with both (24)")
    made = noun.add("calls", calls, "list the calls of a webhook, newest first", TABLE)
    made.add_argument("webhook", type=number_id)
    made.add_argument("--state", choices=("waiting", "delivered", "dead"), help="only these")
    made = noun.add("remove", remove, "remove a webhook")
    made.add_argument("webhook", type=number_id)
    confirm_option(made)


def list_webhooks(session: Session) -> int:
    """List webhooks."""
    session.output.items(
        session.arguments.format, session.client.webhooks.list(session.tenant()), Webhook,
        ("webhook", "name", "URL", "subjects", "state", "waiting", "given up", "last response"),
        lambda w: (w.id, w.name, w.url, ", ".join(w.subjects) or "all", "paused" if w.paused else "active", w.waiting,
                   (w.dead, "fault") if w.dead else 0, w.last_response),
        right=(0, 5, 6), empty="No webhooks yet. Add one: rustgauge webhook add URL",
    )  # fmt: skip
    return 0


def add(session: Session) -> int:
    """Add a webhook."""
    arguments, output = session.arguments, session.output
    name = arguments.name or arguments.target.partition("//")[2].partition("/")[0][:60]
    made = session.client.webhooks.add(session.tenant(), name, arguments.target, arguments.subject)

    def text() -> None:
        output.line(f"webhook {made.id}: {made.url}")
        output.line(f"secret (shown only once): {made.secret}")

    output.document(arguments.format, made, text)
    return 0


def update(session: Session) -> int:
    """Change a webhook."""
    arguments = session.arguments
    given = {"url": arguments.target, "name": arguments.name, "subjects": arguments.subject}
    change = WebhookChange.model_validate({name: value for name, value in given.items() if value is not None})
    session.client.webhooks.update(session.tenant(), arguments.webhook, change)
    session.output.say("Saved.")
    return 0


def pause(session: Session) -> int:
    """Pause a webhook."""
    return _set_paused(session, paused=True)


def resume(session: Session) -> int:
    """Resume a webhook."""
    return _set_paused(session, paused=False)


def _set_paused(session: Session, *, paused: bool) -> int:
    id = session.arguments.webhook
    session.client.webhooks.update(session.tenant(), id, WebhookChange(paused=paused))
    session.output.say(f"{'Paused' if paused else 'Resumed'} webhook {id}.")
    return 0


def rotate(session: Session) -> int:
    """Give a webhook a new secret."""
    arguments, output = session.arguments, session.output
    made = session.client.webhooks.rotate_secret(
        session.tenant(), arguments.webhook, overlap_hours=arguments.overlap_hours
    )

    def text() -> None:
        output.line(f"secret (shown only once): {made.secret}")
        if made.previous_until:
            output.line(f"calls are also signed with the secret before until {made.previous_until:%Y-%m-%d %H:%M} UTC")

    output.document(arguments.format, made, text)
    return 0


def test(session: Session) -> int:
    """Send a test call. Exit status 3 when it was not accepted."""
    call = session.client.webhooks.test(session.tenant(), session.arguments.webhook)
    session.output.line(f"{call.state}: {call.response}")
    return 0 if call.state == "delivered" else 3


def replay(session: Session) -> int:
    """Retry calls that were given up."""
    count = session.client.webhooks.replay(session.tenant(), session.arguments.webhook, None)
    session.output.say(f"{count:,} calls will be retried.")
    return 0


def calls(session: Session) -> int:
    """List calls."""
    arguments = session.arguments
    colours = {"delivered": "sound", "dead": "fault"}
    session.output.items(
        arguments.format, session.client.webhooks.calls(session.tenant(), arguments.webhook, state=arguments.state),
        WebhookCall, ("call", "subject", "state", "attempts", "created (UTC)", "next attempt", "response"),
        lambda c: (c.id, c.subject, ("given up" if c.state == "dead" else c.state, colours.get(c.state, "risk")),
                   c.attempts, f"{c.created_at:%Y-%m-%d %H:%M:%S}",
                   f"{c.next_at:%Y-%m-%d %H:%M:%S}" if c.next_at else "", c.response),
        right=(3,), empty="No calls yet.",
    )  # fmt: skip
    return 0


def remove(session: Session) -> int:
    """Remove a webhook."""
    id = session.arguments.webhook
    if not session.confirm(f"Remove webhook {id}?"):
        return 3
    session.client.webhooks.delete(session.tenant(), id)
    session.output.say(f"Removed webhook {id}.")
    return 0
