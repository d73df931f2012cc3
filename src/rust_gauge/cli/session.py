"""What every command starts from: the service, the tenant, and where results go."""

import argparse
import os
from dataclasses import dataclass
from datetime import date

from rust_gauge.cli.output import Output
from rust_gauge.client import Client, NotFoundError


class UsageError(Exception):
    """The words were wrong: exit status 2."""


@dataclass
class Session:
    """One run of the command."""

    client: Client
    arguments: argparse.Namespace
    output: Output

    def tenant(self, domain: str | None = None) -> str:
        """The tenant meant: named, the only one there is, or the one that has `domain`."""
        named = self.arguments.tenant or os.environ.get("RUSTGAUGE_TENANT")
        if named:
            return str(named)
        tenants = [tenant.slug for tenant in self.client.who().tenants]
        if len(tenants) == 1:
            return tenants[0]
        if not tenants:
            raise UsageError("This token may see no tenant")
        if domain:
            having = [tenant for tenant in tenants if self._has(tenant, domain)]
            if len(having) == 1:
                return having[0]
            if not having:
                raise UsageError(f"No tenant has {domain}. Add it: rustgauge add {domain} --tenant ...")
        raise UsageError(f"Which tenant? Name one with --tenant: {', '.join(tenants)}")

    def _has(self, tenant: str, domain: str) -> bool:
        try:
            self.client.domains.get(tenant, domain)
        except NotFoundError:
            return False
        return True


def parse_day(text: str) -> date:
    """A day as people write it. UsageError for anything else."""
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise UsageError(f"{text} is no day, such as 2026-11-20") from None
