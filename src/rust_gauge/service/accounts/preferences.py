"""A person's own preferences. A token has those of the person who made it."""

from rust_gauge.contract.preferences import Preferences
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import preferences as store
from rust_gauge.store.accounts import Principal


def get_preferences(context: Context, principal: Principal) -> Preferences:
    """Return what the person has set; else what is usual."""
    found = context.store.transaction(lambda c: store.get_preferences(c, principal.account_id))
    return Preferences.model_validate(found or {})


def set_preferences(context: Context, principal: Principal, wanted: Preferences) -> Preferences:
    """Replace the preferences. ServiceProblem `invalid-request` when two views have the same name."""
    names = [view.name for view in wanted.views]
    for number, name in enumerate(names):
        if name in names[:number]:
            raise ServiceProblem(
                "invalid-request", f"views.{number}: there is already a view named {name!r}",
                remedy="Give it another name",
            )  # fmt: skip
    document = wanted.model_dump(mode="json")
    context.store.transaction(lambda c: store.set_preferences(c, principal.account_id, document))
    return wanted
