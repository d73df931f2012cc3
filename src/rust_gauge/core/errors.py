"""Exceptions of the core, for bad input only. What a standard names as a result (`permerror`) is a value.

RustGaugeError
 └─ InputError          something handed in cannot be used as it is
     ├─ DomainNameError   a text is not a domain name
     ├─ AddressError      a text is not a mailbox address
     ├─ IpAddressError    a text is not an IP address
     ├─ ReportError       no report of a receiver (core.reports)
     └─ EventError        a row is no event; names the field
"""


class RustGaugeError(Exception):
    """The root. Each says what is wrong, why, and what to do."""

    def __init__(self, what: str, *, why: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.why = why
        self.remedy = remedy

    def __str__(self) -> str:
        return ": ".join(part for part in (self.what, self.why) if part)


class InputError(RustGaugeError):
    """Input that cannot be used; `field` names where it was found, when that is known."""

    def __init__(self, what: str, *, why: str = "", remedy: str = "", field: str = "") -> None:
        super().__init__(what, why=why, remedy=remedy)
        self.field = field


class DomainNameError(InputError):
    """A text is not a domain name (RFC 1035 §2.3, RFC 5890)."""


class AddressError(InputError):
    """A text is not a mailbox address (RFC 5321 §4.1.2, RFC 6531)."""


class IpAddressError(InputError):
    """A text is not an IP address (RFC 791, RFC 4291)."""


class EventError(InputError):
    """A row is no event."""
