"""A captured message and what authenticates it: SPF, DKIM and DMARC together."""

from rust_gauge.core.message.authentication import Authentication, authenticate, header_from_domain

__all__ = ["Authentication", "authenticate", "header_from_domain"]
