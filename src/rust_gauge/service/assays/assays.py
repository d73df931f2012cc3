"""The examination of a message for a tenant, with what the tenant's settings and its other data say about it."""

from datetime import datetime

from rust_gauge.contract.assays import Assay
from rust_gauge.core.assay import Examined, Sending, examine
from rust_gauge.core.errors import InputError
from rust_gauge.core.names import parse_ip
from rust_gauge.documents.assays import assay_document
from rust_gauge.service.domains import audits
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store.accounts import TenantAccess


def assay_message(context: Context, tenant: TenantAccess, raw: bytes, ip: str, helo: str, mail_from: str) -> Assay:
    """Examine a message; nothing of it is stored.

    ServiceProblem `invalid-request` when it cannot be examined, or `ip` is not an address.
    """
    try:
        sending = Sending(str(parse_ip(ip)) if ip else "", helo, mail_from)
        return assay_document(examined(context, tenant.id, raw, sending, context.clock()))
    except InputError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None


def examined(
    context: Context, tenant_id: int | None, raw: bytes, sending: Sending, now: datetime, *, fresh: bool = True
) -> Examined:
    """Examine a message as a tenant does; without one, by the rules as they ship. InputError when that cannot be."""
    lists = () if tenant_id is None else audits.lists_of(context, tenant_id)
    return context.resolver.run(examine(raw, sending=sending, now=now, lists=lists), fresh=fresh)
