"""`rustgauge tenant`: the tenants that you have access to, and their settings."""

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun
from rust_gauge.cli.session import Session
from rust_gauge.contract.checklist import ChecklistStep
from rust_gauge.contract.people import TenantSettings
from rust_gauge.contract.session import TenantRef

DEFAULT = "list"
EXAMPLES = ("tenant list", "tenant checklist --tenant glasswort", "tenant settings --tenant glasswort")


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_tenants, "list your tenants, with your role in each", TABLE)
    noun.add("checklist", checklist, "what is set up, and what is next", TABLE)
    made = noun.add("settings", settings, "show or change the name and whether a second factor is required", DOCUMENT)
    made.add_argument("--name", help="new name")
    made.add_argument("--second-factor", choices=("required", "optional"), help="for members of the tenant")


def list_tenants(session: Session) -> int:
    """List tenants."""
    session.output.items(
        session.arguments.format, session.client.who().tenants, TenantRef, ("tenant", "name", "your role"),
        lambda t: (t.slug, t.name, t.role), empty="No tenants. Ask an admin for a membership.",
    )  # fmt: skip
    return 0


def checklist(session: Session) -> int:
    """Show what is set up. Exit status 3 while something is missing."""
    found = session.client.worklist.checklist(session.tenant())
    session.output.items(
        session.arguments.format, found.steps, ChecklistStep, ("", "step", "about", "command"),
        lambda step: (("done", "sound") if step.done else "", step.title, step.text, "" if step.done else step.command),
    )  # fmt: skip
    return 0 if found.done else 3


def settings(session: Session) -> int:
    """Show or change settings."""
    arguments, tenant, client = session.arguments, session.tenant(), session.client.people
    found = client.settings(tenant)
    if arguments.name or arguments.second_factor:
        required = arguments.second_factor == "required" if arguments.second_factor else found.second_factor
        found = client.set_settings(tenant, TenantSettings(name=arguments.name or found.name, second_factor=required))
        session.output.say("Saved.")

    def text() -> None:
        session.output.line(f"Name: {found.name}")
        session.output.line(f"Second factor: {'required' if found.second_factor else 'optional'}")

    session.output.document(arguments.format, found, text)
    return 0
