"""A message that was checked, as the contract has it."""

from rust_gauge.contract import audits as c
from rust_gauge.core.dkim import DkimVerdict
from rust_gauge.core.message import Authentication
from rust_gauge.documents.audits import dmarc_document
from rust_gauge.documents.trials import trial_document


def message_document(done: Authentication) -> c.MessageCheck:
    return c.MessageCheck(
        header_from=done.header_from,
        signatures=[signature_document(verdict) for verdict in done.signatures],
        spf=trial_document(done.spf) if done.spf else None,
        dmarc=[dmarc_document(outcome) for outcome in done.dmarc],
        problems=list(done.problems),
        one_click=done.one_click,
    )


def signature_document(verdict: DkimVerdict) -> c.SignatureResult:
    signature = verdict.signature
    given = signature.tags.get("bh")
    return c.SignatureResult.model_validate(
        {
            "result": str(verdict.result),
            "reason": verdict.reason,
            "detail": verdict.detail,
            "domain": signature.domain,
            "selector": signature.selector,
            "algorithm": signature.algorithm,
            "canonicalisation": f"{signature.header_form}/{signature.body_form}",
            "identity": signature.identity,
            "key_name": verdict.key_name,
            "key_bits": verdict.key.bits if verdict.key else None,
            "body_octets": verdict.body_octets,
            "body_hashed": verdict.body_hashed,
            "body_hash_given": "".join(given.value.split()) if given else "",
            "body_hash_computed": verdict.body_hash_computed,
            "body_matches": verdict.body_matches,
            "header_matches": verdict.header_matches,
            "signed_fields": list(verdict.signed_fields),
            "missing": list(verdict.missing),
            "unsigned": list(verdict.unsigned),
            "clues": list(verdict.clues),
            "notes": list(verdict.notes),
        }
    )
