"""An audit as the contract has it."""

from collections.abc import Mapping
from datetime import UTC, datetime

from rust_gauge.contract import audits as c
from rust_gauge.core.audit import DomainAudit, Finding, Level, StreamOutcome
from rust_gauge.core.audit.examination import Examination
from rust_gauge.core.dmarc import Discoveries, Discovery, DmarcOutcome, below_policy, effective_policy
from rust_gauge.core.names import in_unicode
from rust_gauge.core.spf import LOOKUP_LIMIT, Authorised, LookupNode, LookupTree
from rust_gauge.core.transport import ListAnswer

MAX_NETWORKS = 2000  # shown of one record


def audit_document(
    result: DomainAudit,
    *,
    id: int = 0,
    finished_at: datetime,
    cause: str = "asked",
    key_first_seen: Mapping[str, int] | None = None,
    mail: Mapping[str, int] | None = None,
) -> c.Audit:
    """The whole audit. `mail` gives messages of the last seven days by a finding's scope."""
    whole = result.whole
    return c.Audit.model_validate(
        {
            "id": id,
            "domain": result.domain,
            "unicode_name": in_unicode(result.domain),
            "finished_at": finished_at,
            "faults": result.count(Level.FAULT),
            "risks": result.count(Level.RISK),
            "notes": result.count(Level.NOTE),
            "spf_lookups": result.spf_lookups,
            "cause": cause,
            "records": [
                c.PublishedRecord(
                    purpose=record.purpose,
                    name=record.name,
                    rdtype=record.rdtype,
                    status=record.status,
                    values=list(record.values),
                    ttl=record.ttl,
                    aliases=list(record.aliases),
                    source=record.source,
                    strings=list(record.strings),
                )
                for record in result.records
            ],
            "findings": [finding_document(finding, mail) for finding in result.findings],
            "questions": [c.Question(question=question, status=status) for question, status in result.questions],
            "checks": [
                {"key": check.key, "title": check.title, "state": str(check.state), "summary": check.summary}
                for check in result.checks
            ],
            "spf": _spf_picture(whole.spf_tree, whole.authorised),
            "dmarc": _dmarc_picture(whole.discoveries),
            "keys": _keys(whole, key_first_seen or {}),
            "hosts": [
                {"ip": host.ip, "names": host.names, "confirmed": host.confirmed, "helo": host.helo}
                for host in whole.hosts
            ],
            "streams": [_stream(stream) for stream in whole.streams],
            "lists": [_list(answer) for answer in whole.lists],
            "bulk": [
                {"key": p.key, "text": p.text, "state": p.state, "detail": p.detail, "since": p.since}
                for p in whole.bulk
            ],
        }
    )


def finding_document(finding: Finding, mail: Mapping[str, int] | None = None) -> c.Finding:
    place = finding.place
    return c.Finding(
        id=finding.id,
        rule=finding.rule,
        level=str(finding.level),
        title=finding.title,
        place=c.FindingPlace(
            name=place.name, rdtype=place.rdtype, record=place.record, column=place.column, length=place.length
        ),
        evidence=list(finding.evidence),
        reason=finding.reason,
        remedy=finding.remedy,
        record=finding.record,
        reference=finding.reference,
        check=finding.check,
        topic=finding.topic,
        scope=finding.scope,
        mail=(mail or {}).get(finding.scope),
    )


def _spf_picture(tree: LookupTree | None, networks: Authorised | None) -> c.SpfPicture | None:
    if tree is None or networks is None:
        return None
    shown = networks.networks[:MAX_NETWORKS]
    return c.SpfPicture(
        lookups=tree.cost,
        limit=LOOKUP_LIMIT,
        voids=len(tree.voids),
        truncated=tree.truncated,
        own_networks=[str(network) for _, network in tree.networks[:MAX_NETWORKS]],
        nodes=[_node(node) for node in tree.nodes],
        networks=[c.AuthorisedNetwork(network=n.network, via=list(n.via), kind=n.kind, wide=n.wide) for n in shown],
        overlaps=[
            c.NetworkOverlap(
                inner=o.inner.network, outer=o.outer.network, inner_via=list(o.inner.via), outer_via=list(o.outer.via)
            )
            for o in networks.overlaps[:200]
        ],
        ipv4_addresses=networks.ipv4_addresses,
        ipv6_addresses=networks.ipv6_addresses,
        open_ended=networks.open_ended,
    )


def _node(node: LookupNode) -> c.LookupNode:
    return c.LookupNode(
        term=node.term,
        name=node.name,
        problem=node.problem,
        detail=node.detail,
        cost=node.cost,
        networks=[str(network) for network in node.networks[:200]],
        children=[_node(child) for child in node.children],
    )


def _dmarc_picture(found: Discoveries | None) -> c.DmarcPicture | None:
    if found is None:
        return None
    exists = found.exists is not False
    return c.DmarcPicture(
        by_list=_policy(found.by_list, exists),
        by_walk=_policy(found.by_walk, exists),
        differences=list(found.differences) if found.by_list.record or found.by_walk.record else [],
        exists=found.exists,
    )


def _policy(found: Discovery, exists: bool) -> c.PolicyFound:
    policy = effective_policy(found, exists=exists)
    return c.PolicyFound.model_validate(
        {
            "way": found.way,
            "organisation": found.organisation,
            "owner": policy.owner,
            "policy": policy.policy,
            "tag": policy.tag,
            "percent": policy.percent,
            "testing": policy.testing,
            "for_subdomains": below_policy(found, exists=True),
            "for_absent": below_policy(found, exists=False),
            "looked_at": [f"_dmarc.{at.domain}: {at.answer.status}" for at in found.looked],
        }
    )


def _keys(whole: Examination, first_seen: Mapping[str, int]) -> list[c.KeySeen]:
    return [
        c.KeySeen(
            selector=key.selector,
            source=key.source,
            key_type=key.key_type,
            bits=key.bits,
            fingerprint=key.fingerprint,
            revoked=key.revoked,
            usable=key.usable,
            testing=key.testing,
            first_seen=datetime.fromtimestamp(first_seen[key.fingerprint], UTC)
            if key.fingerprint in first_seen
            else None,
        )
        for key in whole.keys
    ]


def _stream(stream: StreamOutcome) -> c.StreamResult:
    return c.StreamResult(
        name=stream.name,
        relay=stream.relay,
        header_from=stream.header_from,
        envelope=stream.envelope,
        dkim_domain=stream.dkim_domain,
        selector=stream.selector,
        spf=[c.SpfOfAddress(ip=ip, result=result, reason=reason) for ip, result, reason in stream.spf],
        by_list=dmarc_document(stream.by_list),
        by_walk=dmarc_document(stream.by_walk),
    )


def dmarc_document(outcome: DmarcOutcome) -> c.DmarcResult:
    return c.DmarcResult.model_validate(
        {
            "way": outcome.way,
            "header_from": outcome.header_from,
            "organisation": outcome.organisation,
            "result": outcome.result,
            "disposition": outcome.disposition,
            "share": outcome.share,
            "policy": outcome.policy.policy,
            "owner": outcome.policy.owner,
            "reason": outcome.reason,
            "aligned": [
                {
                    "kind": a.identifier.kind,
                    "domain": a.identifier.domain,
                    "passed": a.identifier.passed,
                    "detail": a.identifier.detail,
                    "organisation": a.organisation,
                    "relaxed": a.relaxed,
                    "strict": a.strict,
                    "mode": a.mode,
                    "counts": a.counts,
                }
                for a in outcome.aligned
            ],
        }
    )


def _list(answer: ListAnswer) -> dict[str, object]:
    return {
        "zone": answer.list.zone,
        "label": answer.list.name,
        "subject": answer.subject,
        "state": str(answer.state),
        "codes": [f"{code} {meaning}".strip() for code, meaning in answer.codes],
        "text": answer.text,
        "detail": answer.detail,
    }
