"""Tables and columns under the names that the API and the documentation use.

Stored documents are rewritten word by word: their keys and values are unique enough for that.
"""

from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

_TABLES = (
    "RENAME TABLE told TO notification, mark TO annotation, refused_row TO rejected_row, "
    "reply_wording TO reply_pattern, flow_wording_day TO flow_pattern_day",
    "ALTER TABLE notification CHANGE way channel JSON NOT NULL, CHANGE said response VARCHAR(500) NOT NULL, "
    "RENAME INDEX told_tenant TO notification_tenant",
    "ALTER TABLE annotation RENAME INDEX mark_tenant TO annotation_tenant",
    "ALTER TABLE rejected_row RENAME INDEX refused_row_feed TO rejected_row_feed",
    "ALTER TABLE reply_pattern RENAME COLUMN wording_key TO pattern_key, RENAME COLUMN wording TO reply_pattern, "
    "RENAME INDEX reply_wording_key TO reply_pattern_key",
    "ALTER TABLE flow_pattern_day RENAME COLUMN wording_id TO pattern_id",
    "ALTER TABLE event RENAME COLUMN wording_id TO pattern_id",
    "ALTER TABLE event_load RENAME COLUMN refused TO rejected",
    "ALTER TABLE feed RENAME COLUMN trouble TO error",
    "ALTER TABLE proof RENAME COLUMN way TO method, RENAME COLUMN proven_at TO verified_at",
    "ALTER TABLE suppression_entry RENAME COLUMN reach TO scope, RENAME COLUMN reach_id TO scope_id",
    "ALTER TABLE suppression_change RENAME COLUMN reach TO scope, RENAME COLUMN reach_id TO scope_id",
    "ALTER TABLE webhook_call RENAME COLUMN said TO response",
    "ALTER TABLE webhook RENAME COLUMN last_said TO last_response",
    "ALTER TABLE job RENAME COLUMN stop_requested TO cancel_requested",
    "ALTER TABLE suppression_state RENAME COLUMN brakes TO pauses",
    "ALTER TABLE work_item RENAME COLUMN told_at TO notified_at, RENAME COLUMN closed_at TO resolved_at, "
    "RENAME COLUMN trouble TO incident, MODIFY state VARCHAR(12) NOT NULL, MODIFY level VARCHAR(12) NOT NULL",
)
_VALUES = (
    ("work_item", "state", {"minded": "acknowledged", "put_off": "snoozed", "closed": "resolved"}),
    ("work_item", "level", {"mend": "fix", "look": "investigate", "know": "info"}),
    (
        "work_step",
        "what",
        {"mind": "acknowledge", "put_off": "snooze", "remeasured": "rechecked", "closed": "resolved"},
    ),
    ("notification", "what", {"closed": "resolved"}),
    ("proof", "state", {"proven": "verified"}),
    ("job", "state", {"stopped": "cancelled"}),
    ("watch", "state", {"stopped": "cancelled"}),
    ("job", "kind", {"policy_trial": "policy_backtest", "told": "notification"}),
)
_WORDS = {
    "remeasure": "recheck",
    "bad_addresses": "invalid_addresses",
    "bad_address": "invalid_address",
    "keeps_bouncing": "repeated_bounces",
    "no_sign_of_life": "unresponsive",
    "by_hand": "manual",
    "domain_gone": "domain_invalid",
    "reach": "scope",
    "reach_name": "scope_name",
    "ways": "channels",
    "least": "min_level",
    "well_hours": "resolve_hours",
    "sure": "confidence",
    "brake": "auto_pause",
    "mend": "fix",
    "look": "investigate",
    "know": "info",
    "proof.proven": "proof.verified",
    "worklist.closed": "worklist.resolved",
    "brake.on": "stream.paused",
    "brake.off": "stream.resumed",
}
_DOCUMENTS = (
    ("tenant_setting", "document"),
    ("work_item", "incident"),
    ("notification", "channel"),
    ("webhook", "subjects"),
)


def upgrade() -> None:
    for statement in _TABLES:
        op.execute(statement)
    for table, column, words in _VALUES:
        for old, new in words.items():
            op.execute(f"UPDATE {table} SET {column} = '{new}' WHERE {column} = '{old}'")
    op.execute(
        "UPDATE work_item SET item_key = REPLACE(item_key, '\\:bad_addresses', '\\:invalid_addresses') "
        "WHERE item_key LIKE 'pull:%'"
    )
    for table, column in _DOCUMENTS:
        document = column
        for old, new in _WORDS.items():
            document = f"REPLACE({document}, '\"{old}\"', '\"{new}\"')"
        op.execute(f"UPDATE {table} SET {column} = {document}")
