"""Readings add evidence in log-odds: jumps beside a series, and what each domain's reading was before, to be shown
beside what it becomes. Weights are in other units now, so those that a tenant set are converted.
"""

import json

from alembic import op
from sqlalchemy import text

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None

# Points that a factor took at most, and the log-odds that it takes at its watch line now.
_WEIGHTS = {
    "complaints": (60, 0.45), "invalid_addresses": (45, 0.45), "refusals": (65, 0.45), "listings": (60, 0.45),
    "authentication": (60, 0.35), "delays": (15, 0.9), "held": (20, 0.2), "unsubscribes": (8, 0.1),
    "engagement": (40, 0.45), "volume": (15, 0.2), "record_faults": (20, 0.45), "placement": (45, 0.7),
}  # fmt: skip
_ALL_PROVIDERS = 1


def upgrade() -> None:
    op.execute("ALTER TABLE reading_series ADD COLUMN jumps VARBINARY(4000) NOT NULL DEFAULT '' AFTER trend")
    connection = op.get_bind()
    rows = connection.execute(
        text(
            "SELECT s.tenant_id, d.name, s.tenths FROM reading_series AS s JOIN sending_domain AS d "
            "ON d.id = s.subject_id WHERE s.kind = 1 AND s.provider_id = :all ORDER BY s.tenant_id, d.name"
        ),
        {"all": _ALL_PROVIDERS},
    ).all()
    before: dict[int, dict[str, float | None]] = {}
    for tenant_id, name, tenths in rows:
        before.setdefault(tenant_id, {})[name] = None if tenths < 0 else tenths / 10
    for tenant_id, values in before.items():
        document = {"why": "arithmetic", "before": values}
        connection.execute(
            text(
                "INSERT INTO tenant_setting (tenant_id, name, document, changed_at) "
                "VALUES (:tenant, 'reading_change', :document, UTC_TIMESTAMP(6))"
            ),
            {"tenant": tenant_id, "document": json.dumps(document)},
        )
    settings = connection.execute(
        text("SELECT tenant_id, document FROM tenant_setting WHERE name = 'reputation'")
    ).all()
    for tenant_id, found in settings:
        document = json.loads(found)
        document["factors"] = _converted(document["factors"])
        connection.execute(
            text("UPDATE tenant_setting SET document = :document WHERE tenant_id = :tenant AND name = 'reputation'"),
            {"tenant": tenant_id, "document": json.dumps(document)},
        )


def _converted(factors: dict[str, dict[str, float]]) -> dict[str, dict[str, float]]:
    out = {}
    for name, settings in factors.items():
        kept = dict(settings)
        if "weight" in kept and name in _WEIGHTS:
            old, new = _WEIGHTS[name]
            kept["weight"] = round(min(10.0, kept["weight"] * new / old), 3)
        if name == "engagement":  # it measured a fall, and compares with the median sender now
            for line in ("watch", "stop"):
                kept.pop(line, None)
        if name == "delays":  # it measured one part of the deferrals, and measures all of them now
            for line in ("watch", "stop"):
                kept.pop(line, None)
        if kept:
            out[name] = kept
    return out
