"""DMARC (RFC 7489 and its successor DMARCbis): the policy record (`record`), which one governs a domain (`discovery`),
the record that was meant (`corrected`), whether a message aligns (`alignment`), where reports may go (`destinations`),
and what they tell (`feedback`)."""

from rust_gauge.core.dmarc.alignment import Aligned, DmarcOutcome, Identifier, evaluate
from rust_gauge.core.dmarc.corrected import CorrectedPolicy, correct_policy
from rust_gauge.core.dmarc.destinations import Destination, accepts_mail, check_destination
from rust_gauge.core.dmarc.discovery import (
    Discoveries,
    Discovery,
    EffectivePolicy,
    PolicyAt,
    below_policy,
    discover,
    discover_by_list,
    discover_by_walk,
    domain_exists,
    effective_policy,
    organisational_domain,
    walk_targets,
)
from rust_gauge.core.dmarc.record import DmarcRecord, is_dmarc1, read_policy

__all__ = [
    "Aligned",
    "CorrectedPolicy",
    "Destination",
    "Discoveries",
    "Discovery",
    "DmarcOutcome",
    "DmarcRecord",
    "EffectivePolicy",
    "Identifier",
    "PolicyAt",
    "accepts_mail",
    "below_policy",
    "check_destination",
    "correct_policy",
    "discover",
    "discover_by_list",
    "discover_by_walk",
    "domain_exists",
    "effective_policy",
    "evaluate",
    "is_dmarc1",
    "organisational_domain",
    "read_policy",
    "walk_targets",
]
