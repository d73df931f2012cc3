"""Calls of `client.verification`."""

from urllib.parse import quote

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.checks import AddressCheck, AddressCheckRequest
from rust_gauge.contract.common import Page
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


def verify_addresses(tenant: str, request: AddressCheckRequest) -> Call[Page[AddressCheck]]:
    return make_call("POST", tenant_path(tenant, "address-verifications"), Page[AddressCheck], request)


def _verifier(tenant: str, name: str) -> str:
    return tenant_path(tenant, f"verifiers/{quote(name, safe='')}")


def list_verifiers(tenant: str) -> Call[Page[Verifier]]:
    return make_call("GET", tenant_path(tenant, "verifiers"), Page[Verifier])


def get_verifier(tenant: str, name: str) -> Call[Verifier]:
    return make_call("GET", _verifier(tenant, name), Verifier)


def add_verifier(tenant: str, new: NewVerifier) -> Call[Verifier]:
    return make_call("POST", tenant_path(tenant, "verifiers"), Verifier, new)


def update_verifier(tenant: str, name: str, change: VerifierChange) -> Call[Verifier]:
    return make_call("PATCH", _verifier(tenant, name), Verifier, change)


def delete_verifier(tenant: str, name: str) -> Call[None]:
    return make_call("DELETE", _verifier(tenant, name), type(None))


def try_verifier(tenant: str, trial: VerifierDryRun) -> Call[VerifierDryRunResult]:
    return make_call("POST", tenant_path(tenant, "verifiers/try"), VerifierDryRunResult, trial)


def get_settings(tenant: str) -> Call[VerificationSettings]:
    return make_call("GET", tenant_path(tenant, "verification-settings"), VerificationSettings)


def set_settings(tenant: str, settings: VerificationSettings) -> Call[VerificationSettings]:
    path = tenant_path(tenant, "verification-settings")
    return repeatable(make_call("PUT", path, VerificationSettings, settings))


def get_gauge(tenant: str, days: int) -> Call[VerificationGauge]:
    return make_call("GET", tenant_path(tenant, "verification-gauge"), VerificationGauge, days=days)


def list_disagreements(tenant: str) -> Call[Page[Disagreement]]:
    return make_call("GET", tenant_path(tenant, "verification-disagreements"), Page[Disagreement])


def list_new_recipients(tenant: str, cursor: str | None, verdict: str | None) -> Call[Page[NewRecipient]]:
    path = tenant_path(tenant, "new-recipients")
    return make_call("GET", path, Page[NewRecipient], cursor=cursor, verdict=verdict)


def add_new_recipients(tenant: str, new: NewRecipients) -> Call[Accepted]:
    return make_call("POST", tenant_path(tenant, "new-recipients"), Accepted, new)


def list_sources(tenant: str) -> Call[Page[RecipientSource]]:
    return make_call("GET", tenant_path(tenant, "recipient-sources"), Page[RecipientSource])


def add_source(tenant: str, new: NewRecipientSource) -> Call[RecipientSource]:
    return make_call("POST", tenant_path(tenant, "recipient-sources"), RecipientSource, new)


def delete_source(tenant: str, name: str) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"recipient-sources/{quote(name, safe='')}"), type(None))
