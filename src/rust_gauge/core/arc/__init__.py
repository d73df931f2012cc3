"""ARC (RFC 8617): what hosts on the way say that they verified, and whether their chain holds."""

from rust_gauge.core.arc.verify import ArcInstance, ArcOutcome, ArcResult, verify_arc

__all__ = ["ArcInstance", "ArcOutcome", "ArcResult", "verify_arc"]
