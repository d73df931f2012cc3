"""The tables, as SQLAlchemy sees them, a module for each capability. Migrations make them; a test compares the two.

Times are DATETIME(6) in UTC. Kinds, causes and permanences are kept as the numbers that their enums give them.
`event` is partitioned by time (see `partitions`), so its identity includes the event time.
"""

from rust_gauge.store.tables.accounts import account, membership, session, sign_in_failure, tenant, token
from rust_gauge.store.tables.base import metadata
from rust_gauge.store.tables.clearance import gate
from rust_gauge.store.tables.domains import (
    audit,
    dkim_key_seen,
    domain_history,
    proof,
    relay,
    sending_domain,
    stream,
    tenant_setting,
)
from rust_gauge.store.tables.feeds import feed, feed_told, rejected_row
from rust_gauge.store.tables.jobs import batch_result, job, job_piece, lease
from rust_gauge.store.tables.mailflow import (
    SUM_DOMAIN,
    SUM_PROVIDER,
    SUM_RELAY,
    SUM_STREAM,
    erasure,
    event,
    flow_day,
    flow_hour,
    flow_label_day,
    flow_pattern_day,
    flow_sum_day,
    flow_time_day,
    intake_lock,
    label,
    load,
    reply_pattern,
    shift,
    trouble,
)
from rust_gauge.store.tables.plans import publication, watch
from rust_gauge.store.tables.providers import (
    ALL_PROVIDERS,
    NO_MAIL_PROVIDER,
    OTHER_PROVIDERS,
    UNRESOLVED_PROVIDER,
    domain_fact,
    mailbox_provider,
    provider_label,
    recipient_domain,
)
from rust_gauge.store.tables.readings import annotation, held_mailed_day, provider_day, provider_usual, reading_series
from rust_gauge.store.tables.suppression import (
    suppression_change,
    suppression_day,
    suppression_entry,
    suppression_state,
)
from rust_gauge.store.tables.webhooks import webhook, webhook_call
from rust_gauge.store.tables.worklist import notification, work_item, work_step

__all__ = [
    "ALL_PROVIDERS",
    "NO_MAIL_PROVIDER",
    "OTHER_PROVIDERS",
    "SUM_DOMAIN",
    "SUM_PROVIDER",
    "SUM_RELAY",
    "SUM_STREAM",
    "UNRESOLVED_PROVIDER",
    "account",
    "annotation",
    "audit",
    "batch_result",
    "dkim_key_seen",
    "domain_fact",
    "domain_history",
    "erasure",
    "event",
    "feed",
    "feed_told",
    "flow_day",
    "flow_hour",
    "flow_label_day",
    "flow_pattern_day",
    "flow_sum_day",
    "flow_time_day",
    "gate",
    "held_mailed_day",
    "intake_lock",
    "job",
    "job_piece",
    "label",
    "lease",
    "load",
    "mailbox_provider",
    "membership",
    "metadata",
    "notification",
    "proof",
    "provider_day",
    "provider_label",
    "provider_usual",
    "publication",
    "reading_series",
    "recipient_domain",
    "rejected_row",
    "relay",
    "reply_pattern",
    "sending_domain",
    "session",
    "shift",
    "sign_in_failure",
    "stream",
    "suppression_change",
    "suppression_day",
    "suppression_entry",
    "suppression_state",
    "tenant",
    "tenant_setting",
    "token",
    "trouble",
    "watch",
    "webhook",
    "webhook_call",
    "work_item",
    "work_step",
]
