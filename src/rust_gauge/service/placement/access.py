"""What seeds and outlets have in common: hosts that are checked before they are called, and what went wrong there."""

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.placement import AccessProblem
from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.names import parse_address
from rust_gauge.gateways.destination import Destination, find_destination
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store.seeds import OutletRow, SeedRow


def destination_of(context: Context, row: SeedRow | OutletRow) -> Destination:
    """Return where a seed or an outlet is. DestinationError for a host that may not be called."""
    trusted = frozenset(context.settings.placement_hosts)
    return find_destination(row.host, row.port, context.resolver.answer_all, trusted, context.resolver.reach)


def check_access(context: Context, host: str, port: int, security: str, password: str) -> None:
    """ServiceProblem `invalid-request` for a way to sign in that would show the password to others."""
    if security != "none" or {host, f"{host}:{port}"} & set(context.settings.placement_hosts):
        return
    what = "Without TLS, others could read the password" if password else "Without TLS, others could read the messages"
    raise _invalid("security", what, "Use TLS, or have the host named in placement_hosts of the service settings")


def checked_address(field: str, text: str) -> str:
    """Return a mailbox address as it is stored. ServiceProblem `invalid-request` for what is none."""
    try:
        return str(parse_address(text))
    except RustGaugeError as error:
        raise _invalid(field, str(error), error.remedy) from None


def problem_of(row: SeedRow | OutletRow) -> AccessProblem | None:
    """Return what went wrong the last time."""
    if not row.problem:
        return None
    return AccessProblem(kind=row.problem, what=row.problem_text, remedy=row.problem_remedy)


def _invalid(field: str, what: str, remedy: str) -> ServiceProblem:
    return ServiceProblem(
        "invalid-request", what, remedy=remedy, errors=[ProblemError(field=field, what=what, remedy=remedy)]
    )
