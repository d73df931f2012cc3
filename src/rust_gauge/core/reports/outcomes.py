"""How mail fared at DMARC, as one small number by which rows of reports are summed."""

from enum import IntFlag

from rust_gauge.core.reports.aggregate import ReportRow


class Outcome(IntFlag):
    """What rows with the same number have in common. Without QUARANTINED and REJECTED nothing was done to the mail."""

    SPF = 1  # passed and aligned, as the receiver evaluated it
    DKIM = 2
    QUARANTINED = 4
    REJECTED = 8
    OVERRIDDEN = 16  # the receiver gave a reason not to apply the policy
    SUBDOMAIN = 32  # its From is below the domain of the policy, so that `sp` or `np` applies
    STRICT_SPF = 64  # SPF passed for exactly the From domain
    STRICT_DKIM = 128

    @property
    def aligned(self) -> bool:
        """Return whether the mail passed DMARC as it was evaluated."""
        return bool(self & (Outcome.SPF | Outcome.DKIM))

    def aligned_under(self, *, strict_spf: bool, strict_dkim: bool) -> bool:
        """Return whether the mail would pass with other modes of alignment (RFC 7489 §3.1).

        Mail that receivers evaluated in strict mode is known in relaxed mode only where it passed.
        """
        spf = self & (Outcome.STRICT_SPF if strict_spf else Outcome.SPF | Outcome.STRICT_SPF)
        dkim = self & (Outcome.STRICT_DKIM if strict_dkim else Outcome.DKIM | Outcome.STRICT_DKIM)
        return bool(spf or dkim)


def outcome_of(row: ReportRow, policy_domain: str) -> Outcome:
    """Return how the mail of a row fared."""
    out = Outcome(0)
    if row.spf:
        out |= Outcome.SPF
    if row.dkim:
        out |= Outcome.DKIM
    if row.disposition == "quarantine":
        out |= Outcome.QUARANTINED
    if row.disposition == "reject":
        out |= Outcome.REJECTED
    if row.reasons:
        out |= Outcome.OVERRIDDEN
    if row.header_from != policy_domain:
        out |= Outcome.SUBDOMAIN
    if row.spf_result == "pass" and row.spf_domain == row.header_from:
        out |= Outcome.STRICT_SPF
    if any(each.result == "pass" and each.domain == row.header_from for each in row.signatures):
        out |= Outcome.STRICT_DKIM
    return out
