"""The checklist of a new tenant: a first domain, relay, events, colleague and alert channel."""

from sqlalchemy import Connection

from rust_gauge.contract.checklist import Checklist, ChecklistStep
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.worklist import channel_tests
from rust_gauge.service.worklist.items import settings_of
from rust_gauge.store import checklist as store
from rust_gauge.store.accounts import TenantAccess


def get_checklist(context: Context, tenant: TenantAccess) -> Checklist:
    """Return the steps of setting up a tenant, with what is done."""

    def read(connection: Connection) -> Checklist:
        there = store.set_up(connection, tenant.id)
        channels = settings_of(connection, tenant.id).channels
        tested = channel_tests.tested(connection, tenant.id)
        reached = [channel.name for channel in channels if channel.name in tested and tested[channel.name].taken]
        query, option = f"?tenant={tenant.slug}", f"--tenant {tenant.slug}"
        steps = [
            ChecklistStep(
                step="domain", title="Audit a first domain", done=there.audited > 0,
                text="SPF, DKIM, DMARC and what they depend on are checked now and from then on."
                if not there.audited else "Its findings are on the page of the domain.",
                path=f"/domains{query}", command=f"rustgauge domain add DOMAIN {option}",
            ),
            ChecklistStep(
                step="relay", title="Describe a relay", done=there.relays > 0,
                text="Its addresses and records are part of what domains should publish.",
                path=f"/domains{query}", command=f"rustgauge relay set NAME {option}",
            ),
            ChecklistStep(
                step="events", title="Receive events", done=there.loads > 0,
                text="Deliveries, bounces and complaints: from a feed, a log, a file, or your own program.",
                path=f"/flow{query}&view=feeds", command=f"rustgauge event import FILE {option}",
            ),
            ChecklistStep(
                step="colleague", title="Invite a colleague", done=there.people > 1,
                text="Items can be assigned, and somebody else can sign in while you are away.",
                path=f"/settings/members{query}", command=f"rustgauge member invite EMAIL {option}",
            ),
            ChecklistStep(
                step="channel", title="Test an alert channel", done=bool(reached),
                text=f"{reached[0]} took a test." if reached
                else "Send a test." if channels else "Add one by mail or chat, and send a test.",
                path=f"/settings/alerts{query}", command=f"rustgauge alert test CHANNEL {option}",
            ),
        ]  # fmt: skip
        return Checklist(steps=steps, done=all(step.done for step in steps))

    return context.store.transaction(read)
