"""`client.reports`: reports of receivers, who sends as a domain by what they tell, and policies tried on them."""

import builtins
from collections.abc import AsyncIterator
from datetime import date

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import reports as calls
from rust_gauge.contract.receiver_reports import (
    PathAdvance,
    PathSettings,
    PathStageName,
    PolicyPath,
    Receiver,
    Rehearsal,
    RehearsalPolicy,
    RejectedReport,
    ReportDetails,
    ReportedDomain,
    ReportKind,
    ReportReplay,
    ReportRetention,
    ReportSummary,
    Source,
    SourceClaim,
    SourceDecision,
    SourceDetails,
    SourceOverview,
    StoredReport,
    StreamAlignment,
    TlsOverview,
)


class Reports(Part):
    """Reports of receivers."""

    async def add(self, tenant: str, octets: bytes) -> StoredReport:
        """Store a report: XML or JSON, gzip, zip, or the message that carried it. Safe to repeat; what is not read as
        a report is set aside, and the answer says why.
        """
        return await self._client.send(calls.add_report(tenant, octets))

    def list(
        self, tenant: str, *, domain: str = "", kind: ReportKind | None = None, receiver: str = "",
        ours: bool | None = None,
    ) -> AsyncIterator[ReportSummary]:  # fmt: skip
        """Yield stored reports, newest first."""
        wanted = {"domain": domain or None, "kind": kind, "receiver": receiver or None, "ours": ours}
        return self._client.pages(lambda cursor: calls.list_reports(tenant, cursor, wanted))

    async def get(self, tenant: str, id: int) -> ReportDetails:
        """Return a report with its rows."""
        return await self._client.send(calls.get_report(tenant, id))

    def original(self, tenant: str, id: int) -> AsyncIterator[bytes]:
        """Yield a report as it came. NotFoundError where it is not kept any more."""
        return self._client.download(f"/api/v1{calls.original_path(tenant, id)}", {})

    async def delete(self, tenant: str, id: int) -> None:
        """Delete a report, its rows, and what they count in sums."""
        await self._client.send(calls.delete_report(tenant, id))

    def rejected(self, tenant: str) -> AsyncIterator[RejectedReport]:
        """Yield reports that were set aside, newest first."""
        return self._client.pages(lambda cursor: calls.list_rejected(tenant, cursor))

    async def replay(self, tenant: str, id: int | None = None) -> ReportReplay:
        """Read rejected reports again, the newest 200 or one."""
        return await self._client.send(calls.replay(tenant, id))

    async def delete_rejected(self, tenant: str, id: int) -> None:
        """Delete a rejected report."""
        await self._client.send(calls.delete_rejected(tenant, id))

    async def receivers(self, tenant: str, *, days: int = 30) -> "builtins.list[Receiver]":
        """Return receivers that report, and those that stopped."""
        return (await self._client.send(calls.list_receivers(tenant, days))).items

    async def domains(
        self, tenant: str, *, days: int = 30, last: date | None = None
    ) -> "builtins.list[ReportedDomain]":
        """Return domains that receivers reported about, with their mail by whose it is."""
        return (await self._client.send(calls.list_domains(tenant, days, last))).items

    async def tls(self, tenant: str, domain: str, *, days: int = 30, last: date | None = None) -> TlsOverview:
        """Return how mail to a domain was encrypted, by TLS reports, and what mode enforce would have done."""
        return await self._client.send(calls.get_tls(tenant, domain, days, last))

    async def retention(self, tenant: str) -> ReportRetention:
        """Return how long reports are kept."""
        return await self._client.send(calls.get_retention(tenant))

    async def set_retention(self, tenant: str, settings: ReportRetention) -> ReportRetention:
        """Set how long reports are kept."""
        return await self._client.send(calls.set_retention(tenant, settings))

    async def overview(self, tenant: str, domain: str, *, days: int = 30, last: date | None = None) -> SourceOverview:
        """Return who sends as a domain: sources, days, unknown subdomains."""
        return await self._client.send(calls.overview(tenant, domain, days, last))

    async def streams(self, tenant: str, domain: str, *, days: int = 30, last: date | None = None) -> StreamAlignment:
        """Return which streams of a domain are not aligned, at which receivers, since when, and what changed then."""
        return await self._client.send(calls.streams(tenant, domain, days, last))

    async def source(
        self, tenant: str, domain: str, source: str, *, days: int = 90, last: date | None = None
    ) -> SourceDetails:
        """Return one source with its addresses, days and identities."""
        return await self._client.send(calls.get_source(tenant, domain, source, days, last))

    async def claim(self, tenant: str, domain: str, source: str, body: SourceClaim) -> Source:
        """Decide that a source is ours; it becomes a relay, and part of the record plan, where these are named."""
        return await self._client.send(calls.claim(tenant, domain, source, body))

    async def decide(self, tenant: str, domain: str, source: str, body: SourceDecision) -> Source:
        """Decide that a source forwards our mail or is not ours; None takes the decision back."""
        return await self._client.send(calls.decide(tenant, domain, source, body))

    async def rehearse(self, tenant: str, domain: str, policy: RehearsalPolicy) -> Rehearsal:
        """Try a DMARC policy on past reports: whose mail it would have hit, where, and what to fix first."""
        return await self._client.send(calls.rehearse(tenant, domain, policy))

    async def path(self, tenant: str, domain: str) -> PolicyPath:
        """Return how far a domain is on its way to `p=reject`, and what the next stage waits for."""
        return await self._client.send(calls.get_path(tenant, domain))

    async def set_path(self, tenant: str, domain: str, settings: PathSettings) -> PolicyPath:
        """Begin a domain's way to `p=reject`, or change what its next stage waits for."""
        return await self._client.send(calls.set_path(tenant, domain, settings))

    async def stop_path(self, tenant: str, domain: str) -> None:
        """Stop watching a domain's way. Its record stays as it is."""
        await self._client.send(calls.stop_path(tenant, domain))

    async def choose_stage(self, tenant: str, domain: str, stage: PathStageName) -> PolicyPath:
        """Put a stage into the domain's record plan; the path follows what is published."""
        return await self._client.send(calls.choose_stage(tenant, domain, PathAdvance(stage=stage)))
