"""Whether a domain can take mail back: bounces and replies need an MX (RFC 5321 §5, null MX by RFC 7505)."""

from dns.rdtypes.ANY.MX import MX

from rust_gauge.core.audit.examination import Examination
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.dns import DnsProgram, ask


def examine_mx(domain: str) -> DnsProgram[Examination]:
    """Ask for the MX records of `domain` and examine them."""
    out = Examination()
    answer = yield from ask(domain, "MX")
    if answer.failed:
        out.unanswered("mx", answer)
        return out
    mxs = sorted((r for r in answer.records if isinstance(r, MX)), key=lambda mx: (mx.preference, mx.exchange))
    out.show("mx", answer, [f"{mx.preference} {mx.exchange.to_text(omit_final_dot=True)}" for mx in mxs])
    if not mxs:
        out.findings.append(
            Finding(
                rule="mx-missing",
                level=Level.NOTE,
                title=f"No MX record on {domain}",
                place=Place(domain, "MX"),
                reason="Replies and bounces to this name may be lost, and some receivers refuse senders whose "
                "domain takes no mail.",
                remedy="Publish an MX that takes mail for postmaster and bounces at least.",
                reference="RFC 5321 §5.1",
            )
        )
    return out
