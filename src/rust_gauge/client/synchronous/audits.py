"""`client.audits`: audits of domains."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Iterator, Sequence

from rust_gauge.client.calls import audits as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.audits import (
    Audit,
    AuditComparison,
    AuditSettings,
    AuditSummary,
    BatchRequest,
    BatchResult,
    HistoryEntry,
    MessageCheck,
    ReceiverReport,
    SpfCheck,
    SpfCheckRequest,
)
from rust_gauge.contract.jobs import Job


class Audits(Part):
    """Audits of domains."""

    def run(self, tenant: str, domain: str) -> Audit:
        """Audit `domain` now. NotFoundError if the tenant does not have it: add it with `client.domains.add`."""
        return self._client.send(calls.run_audit(tenant, domain))

    def newest(self, tenant: str, domain: str) -> Audit:
        """Return the latest audit of a domain. NotFoundError before the first one."""
        return self._client.send(calls.get_newest_audit(tenant, domain))

    def get(self, tenant: str, domain: str, id: int) -> Audit:
        """Return one audit. NotFoundError."""
        return self._client.send(calls.get_audit(tenant, domain, id))

    def list(self, tenant: str, domain: str) -> Iterator[AuditSummary]:
        """Yield a domain's audits, newest first."""
        return self._client.pages(lambda cursor: calls.list_audits(tenant, domain, cursor))

    def compare(
        self, tenant: str, domain: str, *, before: int | None = None, after: int | None = None
    ) -> AuditComparison:
        """Compare two audits; without numbers the latest two. NotFoundError when there are fewer than two."""
        return self._client.send(calls.compare_audits(tenant, domain, before, after))

    def history(self, tenant: str, domain: str) -> Iterator[HistoryEntry]:
        """Yield what changed between audits, newest first."""
        return self._client.pages(lambda cursor: calls.list_history(tenant, domain, cursor))

    def check_spf(
        self, tenant: str, ip: str, *, mail_from: str = "", helo: str = "", record: str | None = None
    ) -> SpfCheck:
        """Check whether a message from `ip` would pass SPF. `record` replaces what the envelope domain publishes."""
        request = SpfCheckRequest.model_construct(ip=ip, mail_from=mail_from, helo=helo, record=record)
        return self._client.send(calls.check_spf(tenant, request))

    def check_message(
        self, tenant: str, raw: bytes, *, ip: str = "", helo: str = "", mail_from: str = ""
    ) -> MessageCheck:
        """Verify SPF, DKIM and DMARC of a captured message. Without `ip`, SPF is left out."""
        return self._client.send(calls.check_message(tenant, raw, ip, helo, mail_from))

    def read_feedback_report(self, tenant: str, octets: bytes) -> ReceiverReport:
        """Read an aggregate report. Audits check its selectors from now on."""
        return self._client.send(calls.read_feedback_report(tenant, octets))

    def start_batch(self, tenant: str, names: Sequence[str], selectors: Sequence[str] = ()) -> Job:
        """Audit many domains as a job."""
        request = BatchRequest.model_construct(names=[*names], selectors=[*selectors])
        return self._client.send(calls.start_batch(tenant, request))

    def batch_results(self, tenant: str, id: int) -> Iterator[BatchResult]:
        """Yield the results of a batch in the order of the names."""
        return self._client.pages(lambda cursor: calls.list_batch_results(tenant, id, cursor))

    def settings(self, tenant: str) -> AuditSettings:
        """Return the tenant's audit settings."""
        return self._client.send(calls.get_audit_settings(tenant))

    def set_settings(self, tenant: str, settings: AuditSettings) -> AuditSettings:
        """Replace the audit settings."""
        return self._client.send(calls.set_audit_settings(tenant, settings))
