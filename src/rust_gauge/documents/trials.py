"""A trial of SPF as the contract has it."""

from rust_gauge.contract import audits as c
from rust_gauge.core.spf import SpfCheck, SpfOutcome


def trial_document(check: SpfCheck) -> c.SpfCheck:
    return c.SpfCheck(
        helo=_spf_result("helo", check.helo) if check.helo else None,
        mail_from=_spf_result("mail_from", check.mail_from),
        postmaster=check.postmaster,
    )


def _spf_result(identity: str, outcome: SpfOutcome) -> c.SpfResult:
    return c.SpfResult.model_validate(
        {
            "identity": identity,
            "domain": outcome.domain,
            "result": str(outcome.result),
            "reason": outcome.reason,
            "term": outcome.term,
            "decided_by": outcome.decided_by,
            "explanation": outcome.explanation,
            "lookups": outcome.lookups,
            "voids": outcome.voids,
            "steps": [
                {
                    "depth": step.depth,
                    "domain": step.domain,
                    "term": step.term,
                    "column": step.column,
                    "outcome": step.outcome,
                    "asked": list(step.asked),
                    "answer": list(step.answer),
                    "note": step.note,
                }
                for step in outcome.steps
            ],
        }
    )
