"""Which mailbox provider runs a domain's mailboxes: the registered domain of its best MX (RFC 5321 §5.1)."""

from dns.rdtypes.ANY.MX import MX

from rust_gauge.core.dns import DnsProgram, ask
from rust_gauge.core.names import registered_domain

UNRESOLVED = "(unresolved)"  # no usable answer yet
NO_MAIL = "(takes no mail)"  # no such domain, or a null MX (RFC 7505)


def find_provider(domain: str) -> DnsProgram[str]:
    """Find the provider of `domain` by its registered domain, or `UNRESOLVED`, or `NO_MAIL`."""
    answer = yield from ask(domain, "MX")
    if answer.failed:
        return UNRESOLVED
    mxs = [record for record in answer.records if isinstance(record, MX)]
    if mxs:
        # Among equal preferences any host is as good as another; the first by name keeps the answer steady.
        best = min(mxs, key=lambda mx: (mx.preference, str(mx.exchange).lower()))
        host = best.exchange.to_text(omit_final_dot=True).lower()
        return registered_domain(host) if host not in ("", ".", "@") else NO_MAIL
    for rdtype in ("A", "AAAA"):  # the implicit MX: the domain's own address
        address = yield from ask(domain, rdtype)
        if address.records:
            return registered_domain(domain)
        if address.failed:
            return UNRESOLVED
    return NO_MAIL
