"""`rustgauge domains`, `add`, `forget`."""

from rust_gauge.cli.commands import Commands
from rust_gauge.cli.output import plural
from rust_gauge.cli.session import Session


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    commands.add("domains", list_domains, "list domains", commands.tables)
    made = commands.add("add", add, "watch a domain")
    made.add_argument("domain")
    made.add_argument("--selector", action="append", default=[], help="a DKIM selector that signs its mail; repeatable")
    made = commands.add("forget", forget, "stop watching a domain")
    made.add_argument("domain")


def list_domains(session: Session) -> int:
    """All of a tenant's domains, or of all tenants."""
    named = session.arguments.tenant
    tenants = [named] if named else [tenant.slug for tenant in session.client.who().tenants]
    rows = []
    for tenant in tenants:
        for domain in session.client.domains.list(tenant):
            audit = domain.last_audit
            state: object = "not audited" if domain.origin == "added" else "only seen in mail"
            if audit:
                level = "fault" if audit.faults else "risk" if audit.risks else "sound"
                state = (f"{plural(audit.faults, 'fault')}, {plural(audit.risks, 'risk')}", level)
            when = f"{audit.finished_at:%Y-%m-%d %H:%M}" if audit else ""
            proven = ("yes", "sound") if domain.proven else ("no", "dim")
            rows.append((tenant, domain.name, state, when, proven, " ".join(domain.selectors)))
    session.output.table(
        session.arguments.format, ("tenant", "domain", "audit", "audited", "proven", "selectors"), rows
    )
    if not rows and session.arguments.format == "text":
        session.output.say("No domains yet. Add one: rustgauge add news.glasswort.example --tenant glasswort")
    return 0


def add(session: Session) -> int:
    arguments = session.arguments
    domain = session.client.domains.add(session.tenant(), arguments.domain, selectors=arguments.selector)
    session.output.line(f"{domain.name} is watched for {domain.tenant}. Next: rustgauge audit {domain.name}")
    return 0


def forget(session: Session) -> int:
    name = session.arguments.domain
    tenant = session.tenant(name)
    session.client.domains.forget(tenant, name)
    session.output.line(f"{name} is not watched any more. What is known of it stays.")
    return 0
