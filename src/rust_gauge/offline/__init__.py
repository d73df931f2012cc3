"""Audits without a service: from zone files, from a recording of answers, or over resolvers of its own.

For people who keep DNS in a repository and want their pipeline to say what is wrong, and for a look from a machine
where no service runs. Everything comes back as documents of the contract.
"""

from rust_gauge.offline.audits import (
    LocalAudit,
    assay_message,
    audit_locally,
    check_message,
    check_spf,
    compare_messages,
    read_message,
)
from rust_gauge.offline.sources import Source, SourceError, from_recording, from_resolvers, from_zone_files

__all__ = [
    "LocalAudit",
    "Source",
    "SourceError",
    "assay_message",
    "audit_locally",
    "check_message",
    "check_spf",
    "compare_messages",
    "from_recording",
    "from_resolvers",
    "from_zone_files",
    "read_message",
]
