"""How often something changed in a tenant, as pages and examinations see it."""

from rust_gauge.store import changes
from tests.conftest import Office


def noted(office: Office, what: changes.What) -> int:
    """Return the number of changes of a kind so far."""
    store = office.world.context.store
    return store.transaction(lambda c: changes.numbers(c, [office.tenant.id])).get((office.tenant.id, what), 0)
