"""The examination of a message for a tenant. Nothing of the message is stored."""

from rust_gauge.contract.assays import Assay
from rust_gauge.core.assay import Sending, examine
from rust_gauge.core.errors import InputError
from rust_gauge.core.names import parse_ip
from rust_gauge.documents.assays import assay_document
from rust_gauge.service.domains import audits
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store.accounts import TenantAccess


def assay_message(context: Context, tenant: TenantAccess, raw: bytes, ip: str, helo: str, mail_from: str) -> Assay:
    """Examine a message. ServiceProblem `invalid-request` when it cannot be examined, or `ip` is not an address."""
    try:
        sending = Sending(str(parse_ip(ip)) if ip else "", helo, mail_from)
        program = examine(raw, sending=sending, now=context.clock(), lists=audits.lists_of(context, tenant))
        return assay_document(context.resolver.run(program, fresh=True))
    except InputError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
