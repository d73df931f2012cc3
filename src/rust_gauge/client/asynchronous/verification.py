"""`client.verification`: outside verifiers of addresses, and recipients that just came in."""

from collections.abc import AsyncIterator, Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import verification as calls
from rust_gauge.contract.checks import AddressCheck, AddressCheckRequest
from rust_gauge.contract.verification import (
    Accepted,
    Disagreement,
    NewRecipient,
    NewRecipients,
    NewRecipientSource,
    NewVerifier,
    RecipientSource,
    VerificationGauge,
    VerificationSettings,
    Verifier,
    VerifierChange,
    VerifierDryRun,
    VerifierDryRunResult,
)


class Verification(Part):
    """Outside verifiers are asked about what own checks leave open, within their budgets."""

    async def check(self, tenant: str, addresses: Sequence[str], *, probe: bool = False) -> Sequence[AddressCheck]:
        """Check addresses (at most 500) with own checks, then with verifiers, which may cost money."""
        request = AddressCheckRequest(addresses=[*addresses], probe=probe)
        return (await self._client.send(calls.verify_addresses(tenant, request))).items

    async def verifiers(self, tenant: str) -> Sequence[Verifier]:
        """Return verifiers in their order of preference, with what they cost and their records."""
        return (await self._client.send(calls.list_verifiers(tenant))).items

    async def verifier(self, tenant: str, name: str) -> Verifier:
        """Return one verifier."""
        return await self._client.send(calls.get_verifier(tenant, name))

    async def add_verifier(self, tenant: str, new: NewVerifier) -> Verifier:
        """Add a verifier. It is asked after those that are there."""
        return await self._client.send(calls.add_verifier(tenant, new))

    async def update_verifier(self, tenant: str, name: str, change: VerifierChange) -> Verifier:
        """Change a verifier, or its place. Settings that are left out stay unchanged."""
        return await self._client.send(calls.update_verifier(tenant, name, change))

    async def delete_verifier(self, tenant: str, name: str) -> None:
        """Delete a verifier with its verdicts."""
        await self._client.send(calls.delete_verifier(tenant, name))

    async def try_verifier(self, tenant: str, trial: VerifierDryRun) -> VerifierDryRunResult:
        """Ask a verifier about one address, or read a given answer. Nothing is stored."""
        return await self._client.send(calls.try_verifier(tenant, trial))

    async def settings(self, tenant: str) -> VerificationSettings:
        """Return what holds for all verifiers."""
        return await self._client.send(calls.get_settings(tenant))

    async def set_settings(self, tenant: str, settings: VerificationSettings) -> VerificationSettings:
        """Set what holds for all verifiers."""
        return await self._client.send(calls.set_settings(tenant, settings))

    async def gauge(self, tenant: str, *, days: int = 30) -> VerificationGauge:
        """Return how addresses were decided, and what that cost and saved."""
        return await self._client.send(calls.get_gauge(tenant, days))

    async def disagreements(self, tenant: str) -> Sequence[Disagreement]:
        """Return addresses about which verifiers contradict each other or the mail that went there."""
        return (await self._client.send(calls.list_disagreements(tenant))).items

    def new_recipients(self, tenant: str, *, verdict: str | None = None) -> AsyncIterator[NewRecipient]:
        """Yield recipients that came in with what was found, newest first."""
        return self._client.pages(lambda cursor: calls.list_new_recipients(tenant, cursor, verdict))

    async def add_recipients(self, tenant: str, addresses: Sequence[str], *, source: str = "api") -> Accepted:
        """Hand in recipients (at most 1,000) that just came in, to be checked in a moment."""
        new = NewRecipients(addresses=[*addresses], source=source)
        return await self._client.send(calls.add_new_recipients(tenant, new))

    async def sources(self, tenant: str) -> Sequence[RecipientSource]:
        """Return the addresses that forms post new recipients to."""
        return (await self._client.send(calls.list_sources(tenant))).items

    async def add_source(self, tenant: str, new: NewRecipientSource) -> RecipientSource:
        """Add an address that a form posts new recipients to."""
        return await self._client.send(calls.add_source(tenant, new))

    async def delete_source(self, tenant: str, name: str) -> None:
        """Delete a source: nothing comes in by its address any more."""
        await self._client.send(calls.delete_source(tenant, name))
