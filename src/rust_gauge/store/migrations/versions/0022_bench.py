"""Trays and the messages that they caught."""

from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None

_OPTIONS = "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
_CHANGES = (
    f"""CREATE TABLE tray (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        name VARCHAR(40) NOT NULL,
        title VARCHAR(120) NOT NULL,
        address_key VARCHAR(60) NOT NULL UNIQUE,
        smtp_user VARCHAR(60) NOT NULL UNIQUE,
        password_digest BINARY(32) NOT NULL,
        rotated_at DATETIME(6) NOT NULL,
        keep_days INT UNSIGNED NOT NULL,
        keep_messages INT UNSIGNED NOT NULL,
        max_bytes INT UNSIGNED NOT NULL,
        sending_ip VARCHAR(45) NOT NULL,
        series_header VARCHAR(80) NOT NULL,
        receiver JSON NOT NULL,
        created_at DATETIME(6) NOT NULL,
        UNIQUE KEY tray_name (tenant_id, name),
        FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE caught_message (
        id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        tray_id INT UNSIGNED NOT NULL,
        arrived_at DATETIME(6) NOT NULL,
        via VARCHAR(10) NOT NULL,
        mail_from VARCHAR(320) NOT NULL,
        helo VARCHAR(255) NOT NULL,
        client_ip VARCHAR(45) NOT NULL,
        tls VARCHAR(20) NOT NULL,
        recipients JSON NOT NULL,
        subject VARCHAR(500) NOT NULL,
        header_from VARCHAR(320) NOT NULL,
        message_id VARCHAR(500) NOT NULL,
        series VARCHAR(200) NOT NULL,
        size INT UNSIGNED NOT NULL,
        state VARCHAR(10) NOT NULL,
        attempts TINYINT UNSIGNED NOT NULL,
        claimed_at DATETIME(6) NULL,
        mark DOUBLE NULL,
        worst VARCHAR(10) NULL,
        points JSON NULL,
        KEY caught_tray (tray_id, id, size),
        KEY caught_series (tray_id, series, id),
        KEY caught_state (state, id),
        FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
        FOREIGN KEY (tray_id) REFERENCES tray (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE caught_detail (
        message_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
        conversation MEDIUMBLOB NOT NULL,
        assay LONGBLOB NULL,
        FOREIGN KEY (message_id) REFERENCES caught_message (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE caught_recipient (
        tray_id INT UNSIGNED NOT NULL,
        recipient VARCHAR(320) NOT NULL,
        message_id BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (tray_id, recipient, message_id),
        FOREIGN KEY (message_id) REFERENCES caught_message (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE caught_piece (
        message_id BIGINT UNSIGNED NOT NULL,
        number SMALLINT UNSIGNED NOT NULL,
        octets MEDIUMBLOB NOT NULL,
        PRIMARY KEY (message_id, number),
        FOREIGN KEY (message_id) REFERENCES caught_message (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE tray_greylist (
        tray_id INT UNSIGNED NOT NULL,
        digest BINARY(16) NOT NULL,
        first_at DATETIME(6) NOT NULL,
        PRIMARY KEY (tray_id, digest),
        FOREIGN KEY (tray_id) REFERENCES tray (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
)


def upgrade() -> None:
    for change in _CHANGES:
        op.execute(change)
