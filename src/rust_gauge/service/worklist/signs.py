"""Troubles that are seen without any reading: faults and changes in records, listings, lost proofs, silent feeds, old
keys, new refusals.
"""

import ipaddress
from collections import defaultdict
from collections.abc import Mapping
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.relays import RelayDescription
from rust_gauge.core.replies.causes import SENDER_CAUSES, Cause
from rust_gauge.core.worklist import Incident, Level
from rust_gauge.service.feeds import feeds
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store import domains as store_domains
from rust_gauge.store import relays as store_relays
from rust_gauge.store import worklist as store
from rust_gauge.store.accounts import TenantAccess

_SILENT_AFTER = timedelta(hours=26)  # a feed that brings something every day
_OLD_KEY = timedelta(days=365)  # a key that signs for longer should be changed
_NEW_FOR = timedelta(hours=24)  # how long a new reply or a changed record is news
_NEW_REPLY_FROM = 10  # replies; fewer are noise
_SHOWN_VALUE = 300  # characters of a record shown in evidence


def faults(
    connection: Connection, tenant: TenantAccess, names: Mapping[int, str], mail: Mapping[int, int]
) -> list[Incident]:
    """Faults of the newest audits, each with the record that fixes it. `names`, `mail`: of domains, by id.

    A listed address is one incident, of its relay where one has it, however many domains send from there. So is a
    DMARC policy, of the domain that publishes it, however many subdomains inherit it (RFC 7489 §6.6.3).
    """
    out: list[Incident] = []
    inherited: dict[tuple[str, str], list[Incident]] = defaultdict(list)
    listed: dict[str, list[Incident]] = defaultdict(list)
    relays = _networks(connection, tenant)
    for domain_id, audit in store_domains.newest_findings(connection, [tenant.id]).items():
        name = names.get(domain_id)
        if name is None:
            continue
        groups: dict[str, list[Mapping[str, Any]]] = defaultdict(list)
        for finding in audit.findings:
            if finding["level"] == "fault":
                groups[finding.get("topic", "") if finding["rule"] == "listed-ip" else finding["rule"]].append(finding)
        for address, those in groups.items():
            found = _fault(name, those, audit.finished_at.replace(tzinfo=UTC), mail.get(domain_id, 0))
            owner = _policy_owner(those[0], name)
            if owner:
                inherited[owner, found.topic].append(found)
                continue
            if found.topic != "listed-ip":
                out.append(found)
                continue
            relay = next((relay for relay, of in relays.items() if _is_in(address, of)), "")
            listed[relay or address].append(replace(found, subject="relay" if relay else "ip", name=relay or address))
    out += [_of_policy(owner, those) for (owner, _), those in inherited.items()]
    return out + [_of_all(name, those) for name, those in listed.items()]


def _policy_owner(finding: Mapping[str, Any], name: str) -> str:
    """Return the domain whose DMARC record a finding is about; empty if it is another record."""
    prefix, _, owner = finding["place"]["name"].partition(".")
    return owner if prefix == "_dmarc" and (owner == name or name.endswith(f".{owner}")) else ""


def _of_policy(owner: str, those: list[Incident]) -> Incident:
    """A fault of one DMARC record as the domains see it that it holds for."""
    own = next((incident for incident in those if incident.name == owner), those[0])
    domains = tuple(sorted({incident.name for incident in those}))
    others = [domain for domain in domains if domain != owner]
    evidence = (f"holds for {', '.join(others)}"[:500], *own.evidence) if others else own.evidence
    key = f"fault:{owner}:{own.topic}"
    return replace(_whole(own, those), key=key, name=owner, evidence=evidence[:8], domains=domains)


def _whole(one: Incident, those: list[Incident]) -> Incident:
    """Return one of several incidents with the mail of all, since the first and at the worst level of them."""
    level = min((incident.level for incident in those), key=lambda level: -level.urgency)
    mail, since = sum(incident.mail for incident in those), min(incident.since for incident in those)
    return replace(one, level=level, mail=mail, since=since)


def _fault(name: str, those: list[Mapping[str, Any]], at: datetime, mail: int) -> Incident:
    """Findings of one rule of a domain as one incident."""
    first = those[0]
    more = f", and {len(those) - 1} more like it" if len(those) > 1 else ""
    evidence = [str(line) for document_ in those for line in (document_["title"], *document_["evidence"])][1:]
    return Incident(
        f"fault:{name}:{first['rule']}", "fault", "domain", name, first["title"] + more, first["reason"],
        Level.FIX if mail else Level.INVESTIGATE, at, mail, first["remedy"], first.get("record") or "",
        tuple(line[:500] for line in evidence[:8]), "audit", first["rule"], (name,),
        places=tuple({document_["place"]["name"]: None for document_ in those}),
        scopes=tuple({document_.get("scope", "all"): None for document_ in those}),
    )  # fmt: skip


def _of_all(name: str, those: list[Incident]) -> Incident:
    """A listed address as all domains see it."""
    first = those[0]
    domains = tuple(dict.fromkeys(incident.domains[0] for incident in those))
    return replace(
        _whole(first, those), key=f"listing:{name}",
        evidence=tuple(dict.fromkeys((f"sends for {', '.join(domains)}"[:500], *first.evidence))), domains=domains,
    )  # fmt: skip


def _networks(connection: Connection, tenant: TenantAccess) -> dict[str, list[str]]:
    """Return by relay: the addresses and networks that its mail leaves from."""
    out = {}
    for name, described in store_relays.list_relays(connection, tenant.id):
        description = RelayDescription.model_validate(described or {})
        out[name] = [host.ip for host in description.hosts] + list(description.networks)
    return out


def _is_in(address: str, networks: list[str]) -> bool:
    try:
        return any(ipaddress.ip_address(address) in ipaddress.ip_network(network, strict=False) for network in networks)
    except ValueError:
        return False


def changed_records(
    connection: Connection, tenant: TenantAccess, mail: Mapping[str, int], fixed: Mapping[str, date], now: datetime
) -> list[Incident]:
    """Domains whose published records changed within a day: whoever did not do it has to know. `mail`: by domain;
    `fixed`: when a fault of a domain was last closed. The change that fixed it is no news.
    """
    groups: dict[str, list[Any]] = defaultdict(list)
    for row in store.record_changes(connection, tenant.id, now - _NEW_FOR):
        if row.name not in fixed or row.happened_at.date() > fixed[row.name]:
            groups[row.name].append(row)
    out = []
    for name, rows in groups.items():
        newest = rows[-1]
        more = f", and {len(rows) - 1} more changes" if len(rows) > 1 else ""
        evidence = [
            f"{row.title}: was {_values(row.document['before'])}, is now {_values(row.document['after'])}"
            for row in rows
        ]
        out.append(
            Incident(
                f"record:{name}",
                "record",
                "domain",
                name,
                f"{newest.title}{more}",
                "The audit found no fault in it. Record changes are reported so that none goes unnoticed.",
                Level.INVESTIGATE,
                rows[0].happened_at.replace(tzinfo=UTC),
                mail.get(name, 0),
                "If the change was intended, acknowledge this item; it is resolved after a day. If not, publish the "
                "previous record.",
                newest.document["before"][0] if len(newest.document["before"]) == 1 else "",
                tuple(evidence[:8]),
                "audit",
                "record",
                (name,),
            )
        )
    return out


def _values(values: list[str]) -> str:
    return " | ".join(values)[:_SHOWN_VALUE] or "nothing"


def lost_proofs(connection: Connection, tenant: TenantAccess, now: datetime) -> list[Incident]:
    return [
        Incident(
            f"proof:{row.kind}:{row.subject}", "proof", "domain", row.subject,
            f"{row.subject} is no longer verified", "The TXT record of the proof is gone from DNS.",
            Level.FIX, (row.lost_at or now.replace(tzinfo=None)).replace(tzinfo=UTC), 0,
            f"Publish the record again, then run: rustgauge proof recheck {row.subject}", "", (), "proof",
        )
        for row in store.lost_proofs(connection, tenant.id)
    ]  # fmt: skip


def silent_feeds(unit: UnitOfWork, tenant: TenantAccess) -> list[Incident]:
    """Feeds that brought something once and bring nothing now."""
    now, out = unit.now, []
    for feed in feeds.feeds_of(unit, tenant):
        silent = feed.last_arrival_at is not None and now - feed.last_arrival_at > _SILENT_AFTER
        if feed.paused or not (silent or feed.error) or feed.last_arrival_at is None:
            continue
        age = (now - feed.last_arrival_at).total_seconds() / 3600
        out.append(
            Incident(
                f"feed:{feed.name}", "feed", "feed", feed.name, f"The feed {feed.name} is silent",
                f"No events for {age:.0f} hours. {feed.error}".strip(), Level.FIX, feed.last_arrival_at, 0,
                "Check whether the source still sends (Mail flow, Feeds). Readings do not include its mail meanwhile.",
                "", (feed.summary,), "feed",
            )
        )  # fmt: skip
    return out


def old_keys(connection: Connection, tenant: TenantAccess, now: datetime) -> list[Incident]:
    return [
        Incident(
            f"key:{row.domain}:{row.selector}", "key", "domain", row.domain,
            f"The DKIM key {row.selector} of {row.domain} is old",
            f"First seen {row.first_seen_at:%Y-%m-%d}.", Level.INVESTIGATE,
            row.first_seen_at.replace(tzinfo=UTC), 0,
            f"Create a key with a new selector, publish it, sign with it, then revoke {row.selector}.",
            "", (), "audit", "key", (row.domain,),
        )
        for row in store.old_keys(connection, tenant.id, now - _OLD_KEY, now - timedelta(days=7))
    ]  # fmt: skip


def new_replies(connection: Connection, tenant: TenantAccess, now: datetime) -> list[Incident]:
    """Refusals that were never seen before and that speak of us, or that no rule knows."""
    out = []
    for row in store.new_reply_patterns(connection, tenant.id, now - _NEW_FOR, _NEW_REPLY_FROM):
        cause = Cause.from_number(row.cause)
        if cause in SENDER_CAUSES or cause is Cause.UNCLASSIFIED:
            out.append(
                Incident(
                    f"reply:{row.id}", "reply", "tenant", tenant.slug, f"New refusal: {row.example[:120]}",
                    f"Seen {row.n} times since {row.first_seen_at:%Y-%m-%d %H:%M} UTC "
                    f"({str(cause).replace('_', ' ')}).", Level.INVESTIGATE, row.first_seen_at.replace(tzinfo=UTC),
                    int(row.n), "Read what the reply asks for. If no rule covers it, add one.", "",
                    (row.example[:500],), topic=str(cause),
                )
            )  # fmt: skip
    return out
