"""The tenant's text model: learned once a day from caught messages whose campaigns went well or badly later on."""

from collections.abc import Mapping
from dataclasses import asdict
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.assays import TextModelView, WordShare
from rust_gauge.core.assay import Message, parse_html
from rust_gauge.core.assay.examine import text_of
from rust_gauge.core.assay.learned import Learned, Outcome, Sample, TextModel, learn, told_apart
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.poison import unexpected
from rust_gauge.store import audits as store_audits
from rust_gauge.store import caught, jobs, learning, placement, trays
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

_SETTING = "text_model"
_LOOK_BACK = timedelta(days=180)
_MOST_MESSAGES = 1500
_SHOWN = 20  # n-grams of a model
_ASKED = "text models asked for"  # in the memory of the process


def ask_for_due(context: Context) -> None:
    """Once a day for each tenant with a tray."""
    now = context.clock()
    if context.memory.get(_ASKED) == now.date():
        return

    def write(connection: Connection) -> None:
        for tenant_id in {row.tenant_id for row in trays.list_trays(connection)}:
            jobs.enqueue(connection, "text_model", tenant_id, 0, now)

    context.store.transaction(write)
    context.memory[_ASKED] = now.date()


def run_learning(context: Context, job: Job) -> None:
    """The job."""
    learn_now(context, job.tenant_id)


def learn_now(context: Context, tenant_id: int) -> Learned:
    """Learn from what there is, and store the model, or why there is none."""
    now = context.clock()
    since = (now - _LOOK_BACK).date()
    rows = context.store.transaction(lambda c: learning.outcomes(c, tenant_id, since))
    placed = context.store.transaction(lambda c: placement.placed_by_series(c, tenant_id, now - _LOOK_BACK))
    apart = told_apart(
        Outcome(row.campaign, row.delivered, row.complained, row.refused, *placed.get(row.campaign, (0, 0)))
        for row in rows
    )
    found = context.store.transaction(lambda c: learning.texts_of(c, tenant_id, list(apart), _MOST_MESSAGES))
    samples = []
    for row in found:
        raw = context.store.transaction(lambda c, id=row.id: caught.source_of(c, id))  # type: ignore[misc]
        samples.append(Sample(_text_of(raw), row.series, apart[row.series]))
    learned = learn(samples)
    document = {
        "at": now.isoformat(), "reason": learned.reason, "low": learned.low, "high": learned.high,
        "messages": learned.messages, "model": None if learned.model is None else asdict(learned.model),
    }  # fmt: skip
    context.store.transaction(lambda c: store_audits.put_setting(c, tenant_id, _SETTING, document, now))
    return learned


def _text_of(raw: bytes) -> str:
    try:
        message = Message(raw)
        return text_of(message, None if message.html is None else parse_html(message.html))
    except Exception as error:  # one message that cannot be read is one sample less
        unexpected("message", error)
        return ""


def model_of(context: Context, tenant_id: int) -> TextModel | None:
    """Return a tenant's model; None while it is silent."""
    kept = _kept(context, tenant_id)
    return TextModel(**kept["model"]) if kept and kept.get("model") else None


def _kept(context: Context, tenant_id: int) -> Mapping[str, Any] | None:
    return context.store.transaction(lambda c: store_audits.get_setting(c, tenant_id, _SETTING))


def get_model(context: Context, tenant: TenantAccess) -> TextModelView:
    """Return what the tenant's model is, how often it is right, and what it goes by."""
    kept = _kept(context, tenant.id)
    if kept is None:
        return TextModelView(ready=False, reason="it has not learned yet; it does so once a day", low=0, high=0,
                             messages=0, right=0, of=0, learned_at=None, words=[])  # fmt: skip
    model = kept.get("model") or {}
    weights = sorted(model.get("weights", {}).items(), key=lambda item: -abs(item[1]))
    return TextModelView(
        ready=bool(model), reason=kept["reason"], low=kept["low"], high=kept["high"], messages=kept["messages"],
        right=model.get("right", 0), of=model.get("of", 0), learned_at=datetime.fromisoformat(kept["at"]),
        words=[WordShare(text=text, share=round(weight, 3)) for text, weight in weights[:_SHOWN]],
    )  # fmt: skip


def start_learning(context: Context, tenant: TenantAccess) -> TextModelView:
    """Learn now."""
    learn_now(context, tenant.id)
    return get_model(context, tenant)
