"""The demo's sending limits: a relay near its limit for the day, and a region that takes proven senders only."""

from datetime import UTC, timedelta

from rust_gauge.contract.relays import RelayDescription, RelayLimit
from rust_gauge.service.domains import relays
from rust_gauge.service.intake.intake import take_in
from rust_gauge.service.intake.rows import rows_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.sending.limits import count
from rust_gauge.store import sending_limits
from rust_gauge.store.accounts import TenantAccess

_NEAR = 0.93  # of the limit is used when the demo begins
_HOPED = 40  # messages, where none went out
_REGION = "west"
_SURVEYS = 14  # messages from an address that nobody proved in the new region
_TOO_MANY = 9  # replies of a provider that counts by the hour


def load_limits(context: Context, tenant: TenantAccess) -> None:
    """Describe the limits of the tram museum's relay, and load refusals of the theatre's new region; once."""
    if tenant.slug == "copperline":
        _near_the_limit(context, tenant)
    if tenant.slug == "glasswort":
        _not_proven(context, tenant)


def _near_the_limit(context: Context, tenant: TenantAccess) -> None:
    there = context.store.transaction(lambda c: relays.described(c, tenant.id, "cobble"))
    relay_id = context.store.transaction(lambda c: sending_limits.relay_ids(c, tenant.id)).get("cobble")
    if relay_id is None or any(limit.region == _REGION for limit in there.limits):
        return
    limit = RelayLimit(region=_REGION, per_second=10, per_hour=200, per_day=1, hold_back=True)
    now = context.clock()
    counted = context.store.transaction(lambda c: count(c, tenant.id, relay_id, [limit], now))
    used = sum(n for hour, n in counted.of(limit).items() if hour > now - timedelta(days=1))
    limit.per_day = round(max(_HOPED, used) / _NEAR)
    _describe(context, tenant, "cobble", there.model_copy(update={"limits": [limit]}))


def _not_proven(context: Context, tenant: TenantAccess) -> None:
    there = context.store.transaction(lambda c: relays.described(c, tenant.id, "driftline"))
    if any(limit.streams for limit in there.limits):
        return
    limits = [
        limit.model_copy(update={"streams": ["surveys"]}) if limit.restricted else limit for limit in there.limits
    ]
    _describe(context, tenant, "driftline", there.model_copy(update={"limits": limits}))
    since = (context.clock().astimezone(UTC) - timedelta(hours=3)).replace(minute=0, second=0, microsecond=0)
    rows = []
    for number in range(_SURVEYS):
        rows.append(
            {
                "kind": "bounced", "time": (since + timedelta(seconds=40 * number)).isoformat(), "reply_code": 554,
                "domain": "news.glasswort.example", "stream": "surveys", "relay": "driftline",
                "recipient": f"guest{number}@tidepost.example", "message_id": f"survey-{number}",
                "remote_host": "api.driftline.example",
                "diagnostic": "554 5.7.1 Message rejected: address is not verified in region south: "
                "surveys@news.glasswort.example",
            }
        )  # fmt: skip
    for number in range(_TOO_MANY):
        rows.append(
            {
                "kind": "delayed", "time": (since + timedelta(minutes=3 * number)).isoformat(), "reply_code": 421,
                "domain": "news.glasswort.example", "stream": "newsletter", "relay": "driftline",
                "recipient": f"friend{number}@fenlandnet.example", "message_id": f"hurried-{number}",
                "remote_host": "mx1.fenlandnet.example",
                "diagnostic": "421 4.7.0 Too many messages from your network: limit 60 messages per hour",
            }
        )  # fmt: skip
    take_in(context, tenant, rows_of(rows))


def _describe(context: Context, tenant: TenantAccess, name: str, description: RelayDescription) -> None:
    relays.set_relay(context, tenant, name, description)
