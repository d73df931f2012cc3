"""`rustgauge domain`: sending domains."""

from itertools import islice

from rust_gauge.cli.nouns import TABLE, Noun, confirm_option, number_id
from rust_gauge.cli.output import both_forms, plural
from rust_gauge.cli.session import Session, checked
from rust_gauge.contract.audits import HistoryEntry
from rust_gauge.contract.domains import Domain, DomainChange

DEFAULT = "list"
EXAMPLES = (
    "domain list",
    "domain add boxoffice.halyardclinic.example --tenant halyard --selector s1",
    "domain history news.glasswort.example",
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("list", list_domains, "list domains with their newest audit", TABLE)
    made.add_argument("--search", default="", metavar="TEXT", help="only names that contain this")
    made = noun.add("show", show, "show one domain", ("text", "json"))
    made.add_argument("domain")
    made = noun.add("add", add, "add a domain")
    made.add_argument("domain")
    made.add_argument("--selector", action="append", default=[], help="a DKIM selector that signs its mail; repeatable")
    made = noun.add("update", update, "change how a domain is audited")
    made.add_argument("domain")
    made.add_argument("--selector", action="append", help="its DKIM selectors; repeatable, replaces the others")
    either = made.add_mutually_exclusive_group()
    either.add_argument("--parked", action="store_true", help="it never sends mail")
    either.add_argument("--sends", action="store_true", help="it sends mail")
    made.add_argument("--audit-every", type=int, metavar="HOURS", help="0: manual only")
    made = noun.add("remove", remove, "stop watching a domain; its history stays")
    made.add_argument("domain")
    confirm_option(made)
    made = noun.add("history", history, "what changed: records, findings, proofs", TABLE)
    made.add_argument("domain")
    made.add_argument("--limit", type=number_id, default=100, help="the newest so many (100)")


def list_domains(session: Session) -> int:
    """List the domains of a tenant, or of all tenants."""
    named = session.arguments.tenant
    tenants = [named] if named else [tenant.slug for tenant in session.client.who().tenants]
    found = [
        domain for tenant in tenants for domain in session.client.domains.list(tenant, search=session.arguments.search)
    ]
    columns = ("tenant", "domain", "audit", "audited (UTC)", "verified", "selectors")
    session.output.items(session.arguments.format, found, Domain, columns, _row,
                         empty="No domains yet. Add one: rustgauge domain add NAME")  # fmt: skip
    return 0


def _row(domain: Domain) -> tuple[object, ...]:
    audit = domain.last_audit
    state: object = "not audited" if domain.origin == "added" else "seen in mail only"
    if audit:
        level = "fault" if audit.faults else "risk" if audit.risks else "sound"
        state = (f"{plural(audit.faults, 'fault')}, {plural(audit.risks, 'risk')}", level)
    when = f"{audit.finished_at:%Y-%m-%d %H:%M}" if audit else ""
    verified = ("yes", "sound") if domain.verified else ("no", "dim")
    return (
        domain.tenant,
        both_forms(domain.name, domain.unicode_name),
        state,
        when,
        verified,
        " ".join(domain.selectors),
    )


def show(session: Session) -> int:
    """Show a domain's settings and streams."""
    arguments, output = session.arguments, session.output
    tenant = session.tenant(arguments.domain)
    domain = session.client.domains.get(tenant, arguments.domain)

    def text() -> None:
        kind = "sends mail" if domain.sends else "parked: never sends mail"
        output.line(f"{output.paint(both_forms(domain.name, domain.unicode_name), 'bold')}  ({tenant})  {kind}")
        output.line(f"selectors: {' '.join(domain.selectors) or 'none'}")
        output.line(f"verified: {'yes' if domain.verified else 'no; see rustgauge proof start ' + domain.name}")
        output.line(
            f"audited: every {domain.audit_every_hours} h" if domain.audit_every_hours else "audited: on request"
        )
        if domain.streams:
            rows = [
                (s.name, s.header_from or domain.name, s.envelope, s.dkim_domain, s.selector,
                 " ".join([s.relay, *s.relays]).strip(), " ".join(s.ips))
                for s in domain.streams
            ]  # fmt: skip
            output.line()
            output.table(("stream", "From", "envelope", "d=", "s=", "relays", "IPs"), rows)

    output.document(arguments.format, domain, text)
    return 0


def add(session: Session) -> int:
    """Add a domain to a tenant."""
    arguments = session.arguments
    domain = session.client.domains.add(session.tenant(), arguments.domain, selectors=arguments.selector)
    session.output.say(f"Added {domain.name} to {domain.tenant}. Next: rustgauge audit {domain.name}")
    return 0


def update(session: Session) -> int:
    """Change a domain's settings; what is not given stays."""
    arguments = session.arguments
    given: dict[str, object] = {}
    if arguments.selector is not None:
        given["selectors"] = arguments.selector
    if arguments.parked or arguments.sends:
        given["sends"] = arguments.sends
    if arguments.audit_every is not None:
        given["audit_every_hours"] = arguments.audit_every
    tenant = session.tenant(arguments.domain)
    session.client.domains.update(tenant, arguments.domain, checked(lambda: DomainChange.model_validate(given)))
    session.output.say(f"Saved {arguments.domain}.")
    return 0


def remove(session: Session) -> int:
    """Stop watching a domain."""
    name = session.arguments.domain
    tenant = session.tenant(name)
    if not session.confirm(f"Stop watching {name} for {tenant}?"):
        return 3
    session.client.domains.delete(tenant, name)
    session.output.say(f"Removed {name}. Its events and audits stay.")
    return 0


def history(session: Session) -> int:
    """List what changed at a domain, newest first."""
    arguments = session.arguments
    tenant = session.tenant(arguments.domain)
    found = islice(session.client.audits.history(tenant, arguments.domain), arguments.limit)
    columns = ("when (UTC)", "kind", "what")
    session.output.items(
        arguments.format, found, HistoryEntry, columns,
        lambda entry: (f"{entry.at:%Y-%m-%d %H:%M}", entry.kind.replace("_", " "), entry.title),
        empty="Nothing has changed yet.",
    )  # fmt: skip
    return 0
