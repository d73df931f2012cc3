"""What a failed session of a TLS report means, and what to do about it (RFC 8460 §4.3)."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class TlsResult:
    """A result type. `blocks`: a policy in mode enforce keeps the mail back (RFC 8461 §5); `ours`: we can fix it."""

    name: str
    meaning: str
    remedy: str
    blocks: bool
    ours: bool = True


_RESULTS = (
    TlsResult(
        "starttls-not-supported", "The mail server did not offer STARTTLS", "Turn TLS on at this host, or take it out "
        "of the MX records", True,
    ),
    TlsResult(
        "certificate-host-mismatch", "The certificate does not name the host of the MX record",
        "Get a certificate for the name in the MX record", True,
    ),
    TlsResult(
        "certificate-expired", "The certificate has expired", "Renew it, and have its renewal watched", True,
    ),
    TlsResult(
        "certificate-not-trusted", "No authority that the sender trusts signed the certificate, or its chain is "
        "incomplete", "Serve the whole chain of a public authority", True,
    ),
    TlsResult(
        "validation-failure", "The certificate could not be validated for another reason",
        "Look at the reason that the sender gives, and test the host from outside", True,
    ),
    TlsResult(
        "tlsa-invalid", "A TLSA record does not fit the certificate (DANE)",
        "Publish the TLSA record of the new certificate before it is used", True,
    ),
    TlsResult(
        "dnssec-invalid", "The sender's resolver could not validate the MX or TLSA records",
        "Check the DNSSEC chain of the domain, from the parent's DS record down", True,
    ),
    TlsResult(
        "dane-required", "The sender asks for DANE, and there are no usable TLSA records",
        "Publish TLSA records under DNSSEC, or leave it: it is the sender's own requirement", True, ours=False,
    ),
    TlsResult(
        "sts-policy-fetch-error", "The MTA-STS policy could not be fetched",
        "Check that https://mta-sts.<domain>/.well-known/mta-sts.txt answers with 200 from outside", False,
    ),
    TlsResult(
        "sts-policy-invalid", "The MTA-STS policy has a mistake", "Run an audit: it names the line", False,
    ),
    TlsResult(
        "sts-webpki-invalid", "The certificate of the policy's host is not valid",
        "Renew the certificate of mta-sts.<domain>", False,
    ),
    TlsResult(
        "not-told", "The report counts failures without details", "Nothing more is known of them", False, ours=False,
    ),
)  # fmt: skip
RESULTS = {each.name: each for each in _RESULTS}


def result_of(name: str) -> TlsResult:
    """Return what is known of a result type; of one that the RFC does not have, that it is unknown."""
    return RESULTS.get(name) or TlsResult(
        name, "The sender names a result that RFC 8460 does not have", "Ask the sender what it means", False, ours=False
    )
