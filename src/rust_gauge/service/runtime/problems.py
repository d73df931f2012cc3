"""Problems as RFC 9457 has them: each kind once, with its status and what it means. `/problems/<kind>` explains it.

ServiceProblem   raised by use cases and routes; becomes the response
"""

import difflib
from collections.abc import Iterable
from dataclasses import dataclass

from rust_gauge.contract.common import ProblemError
from rust_gauge.core.errors import RustGaugeError


@dataclass(frozen=True, slots=True)
class ProblemKind:
    """A stable type, its status and title, and a paragraph for whoever opens its address."""

    slug: str
    status: int
    title: str
    meaning: str


KINDS = {
    kind.slug: kind
    for kind in (
        ProblemKind("not-signed-in", 401, "Not signed in", "Sign in, or send a token as Authorization: Bearer."),
        ProblemKind(
            "wrong-password",
            401,
            "Address and password do not match",
            "For security the service does not say which of the two is wrong.",
        ),
        ProblemKind(
            "code-required", 401, "Code of the second factor required", "Send the same again with the code of the app."
        ),
        ProblemKind("weak-password", 422, "Password not accepted", "10 to 256 characters that are not easy to guess."),
        ProblemKind("too-many-attempts", 429, "Too many attempts", "Try again after the time in `Retry-After`."),
        ProblemKind(
            "cross-site",
            403,
            "Request from another site",
            "Session cookies are accepted from the console's own pages only.",
        ),
        ProblemKind("role-too-low", 403, "Your role does not allow this", "`detail` names the role that is required."),
        ProblemKind(
            "second-factor-required",
            403,
            "Second factor required",
            "The tenant requires a second factor. Set one up for your account and sign in with it.",
        ),
        ProblemKind(
            "scope-missing", 403, "The token does not allow this", "`detail` names the scope that is required."
        ),
        ProblemKind("wrong-network", 403, "The token is not valid from here", "It is limited to other networks."),
        ProblemKind("person-only", 403, "Not for tokens", "Sign in with a password to do this."),
        ProblemKind("not-assigned", 403, "Not assigned to this tenant", "The owner of the installation assigns it."),
        ProblemKind("last-one", 409, "Nobody else is left", "Nothing was changed; `detail` says why."),
        ProblemKind("not-found", 404, "Not found", "It does not exist, or you do not have access to it."),
        ProblemKind(
            "no-message", 404, "No matching message arrived", "The wait is over; the tray lists what was caught."
        ),
        ProblemKind("method-not-allowed", 405, "Method not allowed", "See /docs for the methods of this path."),
        ProblemKind("already-there", 409, "Already exists", "Nothing was changed."),
        ProblemKind("not-a-domain", 422, "Not a domain name", "Expected a name such as news.glasswort.example."),
        ProblemKind(
            "not-an-address", 422, "Not a mailbox address", "Expected an address such as kim@tidepost.example."
        ),
        ProblemKind("invalid-request", 422, "Invalid request", "`errors` lists each field with its problem."),
        ProblemKind(
            "changed-meanwhile", 409, "Changed since you loaded it", "Nothing was changed. Reload, then confirm."
        ),
        ProblemKind("wrong-state", 409, "Not possible in this state", "Nothing was changed; `detail` says why."),
        ProblemKind("needs-confirmation", 409, "Confirmation required", "Nothing was changed; `detail` says why."),
        ProblemKind("update-failed", 502, "Update refused by the name server", "Nothing was changed in the zone."),
        ProblemKind("dns-unanswered", 503, "DNS gave no answer", "Nothing was changed. Try again in a moment."),
        ProblemKind("mail-not-sent", 502, "Message not sent", "No code was sent; try another relay."),
        ProblemKind("wrong-code", 422, "Wrong code", "Codes are valid for 24 hours and five attempts."),
        ProblemKind("wrong-passkey", 422, "Passkey not accepted", "Retry, or sign in with your password."),
        ProblemKind("no-account", 403, "No account", "Nobody here is linked to this account of the issuer."),
        ProblemKind("issuer-failed", 502, "Not signed in by the issuer", "`detail` says what went wrong there."),
        ProblemKind(
            "too-many-requests", 429, "Too many requests", "Slow down; `RateLimit` says how many are left and when."
        ),
        ProblemKind(
            "not-a-report", 422, "Not an aggregate report", "Expected XML, gzip or zip, or the message that carries it."
        ),
        ProblemKind("not-packed", 400, "Wrong content encoding", "The body does not match its Content-Encoding."),
        ProblemKind("busy", 503, "Busy", "Nothing was stored. Try again in a moment."),
        ProblemKind("feed-paused", 503, "Paused", "Nothing was stored. Retry later."),
        ProblemKind("bad-cursor", 400, "Invalid cursor", "Use `next` of the previous page, unchanged."),
        ProblemKind("not-utf-8", 400, "Not UTF-8", "Nothing was stored. Convert the file to UTF-8."),
        ProblemKind("not-json", 400, "Not JSON", "Nothing was stored. The body is not valid JSON."),
        ProblemKind(
            "unsupported-type", 415, "Unsupported content type", "Send application/x-ndjson or application/json."
        ),
        ProblemKind("too-large", 413, "Too large", "Send it in several smaller requests."),
        ProblemKind("nothing-stored", 422, "No rows stored", "Every row was rejected; `errors` says why."),
        ProblemKind("database-unavailable", 503, "Database unavailable", "Nothing was stored. Try again in a moment."),
        ProblemKind("internal", 500, "Internal error", "The service log has the details under the id in `instance`."),
    )
}


class ServiceProblem(RustGaugeError):
    """A request that cannot be fulfilled."""

    def __init__(
        self,
        slug: str,
        detail: str = "",
        *,
        remedy: str = "",
        errors: list[ProblemError] | None = None,
        errors_total: int | None = None,
        retry_after: float | None = None,
    ) -> None:
        super().__init__(detail or KINDS[slug].title, remedy=remedy)
        self.kind = KINDS[slug]
        self.detail = detail
        self.retry_after = retry_after  # seconds
        self.errors = errors or []
        self.errors_total = errors_total if errors_total is not None else len(self.errors)


def unknown_name(tenant: str, kind: str, name: str, known: Iterable[str], remedy: str = "") -> ServiceProblem:
    """Return the `not-found` problem for a name of a tenant, with the nearest known one.

    `kind` is what the name is of: domain, stream, relay, mailbox provider, feed.
    """
    there = sorted({one for one in known if one})
    near = difflib.get_close_matches(name, there, n=1, cutoff=0.6)
    if near:
        remedy = f"Did you mean {near[0]}?"
    elif there and len(there) <= 12 and not remedy:
        remedy = f"Known: {', '.join(there)}"
    shown = name[:80] if name and not any(c.isspace() for c in name) else repr(name[:80])
    return ServiceProblem("not-found", f"{tenant} has no {kind} {shown}", remedy=remedy)
