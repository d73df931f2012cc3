"""The assay of a run's message: examined as its seeds get it, once, by the workers."""

from datetime import UTC

import orjson
import structlog

from rust_gauge.contract.assays import Assay
from rust_gauge.core.assay import Message, Sending, parse_html
from rust_gauge.core.errors import InputError
from rust_gauge.documents.assays import REREAD, assay_document
from rust_gauge.service.assays.assays import examined
from rust_gauge.service.placement.runs import find_run, plan_of, sample_copy
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import placement
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job
from rust_gauge.store.placement import RunRow

log = structlog.get_logger()
_PATIENCE = 20.0  # seconds for answers of others, while nobody waits


def run_assay(context: Context, job: Job) -> None:
    """Examine the message of the run that is the job's subject. One that cannot be examined has no mark."""
    run = context.store.transaction(lambda c: placement.get_run(c, job.tenant_id, job.subject))
    if run is None or run.started_at is None:
        return
    sending = Sending("", "", run.plan.get("mail_from", ""), signed_later=True)
    try:
        copy = _as_sent(run, context.store.transaction(lambda c: placement.message_of(c, run.id)))
        done = examined(
            context, run.tenant_id, copy, sending, run.started_at.replace(tzinfo=UTC), fresh=False, within=_PATIENCE
        )
    except (InputError, ServiceProblem) as error:
        log.info("run_not_examined", run=run.id, error=str(error))
        return
    document = orjson.dumps(assay_document(done).model_dump(mode="json", exclude=set(REREAD)))
    context.store.transaction(lambda c: placement.write_assay(c, run.id, done.assay.mark, document))


def assay_of(context: Context, tenant: TenantAccess, id: int) -> Assay:
    """Return the assay of a run's message. ServiceProblem `not-found` while there is none."""
    run = find_run(context, tenant, id)
    stored, raw = context.store.transaction(lambda c: (placement.assay_of(c, id), placement.message_of(c, id)))
    if stored is None:
        raise ServiceProblem(
            "not-found", f"The message of run {id} was not examined",
            remedy="Hand in the message first" if run.state == "awaiting" else
            "Ask again in a moment if the run has only just begun; a message that cannot be parsed has no assay",
        )  # fmt: skip
    message = Message(_as_sent(run, raw))
    page = None if message.html is None else parse_html(message.html)
    read = {"text": message.text, "html": message.html, "visible_text": None if page is None else page.visible_text}
    return Assay.model_validate({**orjson.loads(stored), **read})


def _as_sent(run: RunRow, raw: bytes) -> bytes:
    """Return the message of a run as a seed gets it. InputError."""
    return sample_copy(raw, plan_of(run), (run.started_at or run.created_at).replace(tzinfo=UTC))
