"""One table for all work of the workers, with claims; and locks as leases.

Tasks, batches of audits and applications of rules become jobs. Those under way wait again, and go on where they were.
"""

from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

_OPTIONS = "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
_MOVED = (
    "tenant_id, kind, subject, listed, name, state, request, position, result, done, total, stop_requested, attempts, "
    "claim, error, created_by, created_at, run_after, finished_at"
)


def upgrade() -> None:
    op.execute(
        "CREATE TABLE lease (name VARCHAR(120) NOT NULL PRIMARY KEY, fence BIGINT UNSIGNED NOT NULL, "
        f"holder VARCHAR(120) NOT NULL, until DATETIME(6) NOT NULL) {_OPTIONS}"
    )
    op.execute("DELETE FROM job WHERE kind IN ('task', 'batch', 'rules')")
    op.execute(
        "ALTER TABLE job DROP COLUMN parameters, CHANGE cancel_asked stop_requested BOOL NOT NULL, "
        "ADD COLUMN listed BOOL NOT NULL DEFAULT 0, ADD COLUMN name VARCHAR(200) NOT NULL DEFAULT '', "
        "ADD COLUMN request JSON NOT NULL DEFAULT '{}', ADD COLUMN position JSON NOT NULL DEFAULT '{}', "
        "ADD COLUMN result JSON NOT NULL DEFAULT '{}', ADD COLUMN claim INTEGER UNSIGNED NOT NULL DEFAULT 0, "
        "ADD COLUMN created_by VARCHAR(254) NOT NULL DEFAULT '', ADD COLUMN old_task BIGINT UNSIGNED, "
        "ADD COLUMN old_batch BIGINT UNSIGNED"
    )
    op.execute("UPDATE job SET state = 'waiting' WHERE state = 'queued'")
    state = (
        "CASE WHEN state IN ('queued', 'running') THEN 'waiting' WHEN state = 'cancelled' THEN 'stopped' ELSE state END"
    )
    op.execute(
        f"INSERT INTO job ({_MOVED}, old_task) SELECT tenant_id, "
        f"CASE kind WHEN 'readings' THEN 'recompute' ELSE kind END, 0, 1, name, {state}, request, position, result, "
        "done, total, cancel_asked, 0, 0, error, made_by, created_at, created_at, finished_at, id FROM task"
    )
    op.execute(
        f"INSERT INTO job ({_MOVED}, old_batch) SELECT tenant_id, 'batch', 0, 1, CONCAT(total, ' domains'), {state}, "
        "JSON_REMOVE(request, '$.names'), '{}', '{}', done, total, cancel_asked, 0, 0, error, '', created_at, "
        "created_at, finished_at, id FROM audit_batch"
    )
    op.execute(
        f"INSERT INTO job ({_MOVED}) SELECT tenant_id, 'rules', 0, 1, 'rules applied to the past', {state}, "
        "JSON_OBJECT('rules_version', rules_version), '{}', JSON_OBJECT('judged', judged, 'changed', changed, "
        "'entries_made', entries_made, 'entries_lifted', entries_lifted), days_done, days, cancel_asked, 0, 0, error, "
        "'', asked_at, asked_at, finished_at FROM rule_application"
    )
    op.execute(
        "CREATE TABLE job_piece (job_id BIGINT UNSIGNED NOT NULL, part VARCHAR(12) NOT NULL, "
        "number INTEGER UNSIGNED NOT NULL, size INTEGER UNSIGNED NOT NULL, octets MEDIUMBLOB NOT NULL, "
        "PRIMARY KEY (job_id, part, number), FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE) " + _OPTIONS
    )
    op.execute(
        "INSERT INTO job_piece SELECT job.id, part, number, size, octets FROM task_piece JOIN job ON old_task = task_id"
    )
    # COMPRESS writes the length before the zlib stream.
    op.execute(
        "INSERT INTO job_piece SELECT job.id, 'file', 0, LENGTH(JSON_EXTRACT(b.request, '$.names')), "
        "SUBSTRING(COMPRESS(JSON_EXTRACT(b.request, '$.names')), 5) FROM audit_batch b JOIN job ON old_batch = b.id"
    )
    op.execute(
        "CREATE TABLE batch_result (job_id BIGINT UNSIGNED NOT NULL, number INTEGER UNSIGNED NOT NULL, "
        "name VARCHAR(253) NOT NULL, problem VARCHAR(500) NOT NULL, faults SMALLINT UNSIGNED NOT NULL, "
        "risks SMALLINT UNSIGNED NOT NULL, notes SMALLINT UNSIGNED NOT NULL, findings JSON NOT NULL, "
        "PRIMARY KEY (job_id, number), FOREIGN KEY (job_id) REFERENCES job (id) ON DELETE CASCADE) " + _OPTIONS
    )
    op.execute(
        "INSERT INTO batch_result SELECT job.id, number, r.name, problem, faults, risks, notes, findings "
        "FROM audit_batch_result r JOIN job ON old_batch = r.batch_id"
    )
    for table in ("task_piece", "task", "audit_batch_result", "audit_batch", "rule_application"):
        op.execute(f"DROP TABLE {table}")
    op.execute(
        "ALTER TABLE job DROP COLUMN old_task, DROP COLUMN old_batch, ALTER COLUMN listed DROP DEFAULT, "
        "ALTER COLUMN name DROP DEFAULT, ALTER COLUMN request DROP DEFAULT, ALTER COLUMN position DROP DEFAULT, "
        "ALTER COLUMN result DROP DEFAULT, ALTER COLUMN claim DROP DEFAULT, ALTER COLUMN created_by DROP DEFAULT, "
        "ADD KEY job_listed (tenant_id, listed, kind, id)"
    )
