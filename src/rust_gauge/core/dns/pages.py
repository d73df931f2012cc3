"""A page to be fetched over HTTPS, asked for by the same programs that ask DNS: the MTA-STS policy needs one."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class PageQuestion:
    """An https: address. Redirects are not followed (RFC 8461 §3.3); at most `limit` octets are read. `accept` is a
    media type.

    `head`: ask with HEAD, which has no body and changes nothing (RFC 9110 §9.2.1); then http: is allowed as well.
    """

    url: str
    limit: int = 64 * 1024
    head: bool = False
    accept: str = "text/plain"

    def __str__(self) -> str:
        return self.url


@dataclass(frozen=True, slots=True)
class PageAnswer:
    """Response. `status` is `found` for a 200, `no_data` for another code, `not_held` off line, or a failure."""

    question: PageQuestion
    status: str
    code: int = 0  # HTTP status
    content_type: str = ""
    text: str = ""
    detail: str = ""
    seconds: float = 0.0
    location: str = ""  # where it redirects to, for HEAD

    @property
    def failed(self) -> bool:
        """Nothing came that could be read."""
        return self.status not in ("found", "no_data")
