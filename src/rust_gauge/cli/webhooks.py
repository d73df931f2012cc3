"""`rustgauge webhook`: addresses that are told what happens."""

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.session import Session
from rust_gauge.contract.webhooks import Webhook, WebhookCall, WebhookChange


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("webhook", webhook, "addresses that are told what happens, signed", commands.tables)
    made.add_argument("id", nargs="?", type=positive, help="one of them; without more its calls")
    made.add_argument("--add", metavar="URL", help="call this address from now on")
    made.add_argument("--name", default="", help="with --add: what you call it")
    made.add_argument("--subject", action="append", default=[], help="with --add: only this subject; repeatable")
    made.add_argument("--test", action="store_true", help="call it now, and tell what came back")
    made.add_argument("--pause", action="store_true", help="call it no more for now")
    made.add_argument("--go-on", action="store_true", help="call it again, and send what waited")
    made.add_argument("--replay", action="store_true", help="try the calls that were given up anew")
    made.add_argument("--drop", action="store_true", help="forget it")


def webhook(session: Session) -> int:
    """Exit status 3 when a test call was not taken."""
    arguments, output = session.arguments, session.output
    client, tenant = session.client.webhooks, session.tenant()
    if arguments.add:
        made = client.add(tenant, arguments.name or arguments.add.partition("//")[2].partition("/")[0][:60],
                          arguments.add, arguments.subject)  # fmt: skip
        output.line(f"webhook {made.id} calls {made.url}")
        output.line(f"  secret, shown this once: {made.secret}")
        return 0
    if arguments.id is None:
        kept_rows = [_webhook_row(webhook) for webhook in client.list(tenant)]
        heads = ("webhook", "name", "address", "is told", "", "waiting", "given up", "last answer")
        output.table(arguments.format, heads, kept_rows, right=(5, 6))
        return 0
    if arguments.drop:
        client.drop(tenant, arguments.id)
        output.line(f"webhook {arguments.id} is forgotten")
    elif arguments.pause or arguments.go_on:
        kept = client.change(tenant, arguments.id, WebhookChange(paused=arguments.pause))
        output.line(f"webhook {kept.id} {'is paused' if kept.paused else 'goes on'}")
    elif arguments.test:
        call = client.test(tenant, arguments.id)
        output.line(f"{call.state}: {call.said}")
        return 0 if call.state == "delivered" else 3
    elif arguments.replay:
        output.line(f"{client.replay(tenant, arguments.id)} calls are tried anew")
    else:
        call_rows = [_row(call) for call in client.calls(tenant, arguments.id)]
        call_heads = ("call", "subject", "state", "tries", "made", "next try", "answer")
        output.table(arguments.format, call_heads, call_rows, right=(3,))
    return 0


def _webhook_row(hook: Webhook) -> tuple[object, ...]:
    dead: object = (hook.dead, "fault") if hook.dead else 0
    return (hook.id, hook.name, hook.url, ", ".join(hook.subjects) or "everything", "paused" if hook.paused else "",
            hook.waiting, dead, hook.last_said[:40])  # fmt: skip


def _row(call: WebhookCall) -> tuple[object, ...]:
    colour = {"delivered": "sound", "dead": "fault"}.get(call.state, "risk")
    next_at = f"{call.next_at:%Y-%m-%d %H:%M:%S}" if call.next_at else ""
    return (call.id, call.subject, (call.state, colour), call.attempts, f"{call.created_at:%Y-%m-%d %H:%M:%S}",
            next_at, call.said)  # fmt: skip
