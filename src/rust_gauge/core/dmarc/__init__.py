"""DMARC (RFC 7489): the policy record (`record`). Discovery by tree walk, and alignment, belong beside it."""

from rust_gauge.core.dmarc.record import DmarcRecord, is_dmarc1, read_policy

__all__ = ["DmarcRecord", "is_dmarc1", "read_policy"]
